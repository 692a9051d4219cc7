//! `jaunty keys`.

use jaunty_language::text::clean::clean;
use jaunty_tui::action::{ACTIONS, markdown, synonyms};

use crate::failure::Failure;

/// Lists all keys, or the actions that have all of these words in their keys, their title or their help.
pub fn list(as_markdown: bool, sought: &[String]) -> Result<(), Failure> {
    if as_markdown {
        return super::print(&markdown());
    }
    let line = |action: &jaunty_tui::action::Action| {
        // One without a key is found in the list of actions by its title.
        let keys = if action.keys.is_empty() { format!("({})", action.title) } else { action.keys.join(", ") };
        format!("{keys:<28}  {}\n", action.help)
    };
    let has = |action: &&jaunty_tui::action::Action| {
        let all = format!("{} {} {} {}", action.keys.join(" "), action.title, action.help, synonyms(action.name))
            .to_lowercase();
        sought.iter().all(|word| all.contains(&word.to_lowercase()))
    };
    let found: String = ACTIONS.iter().filter(has).map(line).collect();
    match found.is_empty() {
        true => Err(Failure::Usage(format!("no key or action is called {}", clean(&sought.join(" "))))),
        false => super::print(&found),
    }
}
