//! `jaunty keys`.

use jaunty_tui::action::{ACTIONS, markdown};

use crate::failure::Failure;

/// Lists all keys.
pub fn list(as_markdown: bool) -> Result<(), Failure> {
    if as_markdown {
        return super::print(&markdown());
    }
    let line = |action: &jaunty_tui::action::Action| {
        // One without a key is found in the list of actions by its title.
        let keys = if action.keys.is_empty() { format!("({})", action.title) } else { action.keys.join(", ") };
        format!("{keys:<28}  {}\n", action.help)
    };
    super::print(&ACTIONS.iter().map(line).collect::<String>())
}
