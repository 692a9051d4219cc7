//! `jaunty keys`.

use jaunty_tui::action::{ACTIONS, markdown};

use crate::failure::Failure;

/// Lists all keys.
pub fn list(as_markdown: bool) -> Result<(), Failure> {
    if as_markdown {
        return super::print(&markdown());
    }
    let line = |action: &jaunty_tui::action::Action| format!("{:<28}  {}\n", action.keys.join(", "), action.help);
    super::print(&ACTIONS.iter().map(line).collect::<String>())
}
