//! All keys, those of what it lies over first in sight.

use super::{After, Layer, Overlay};
use crate::action::{ACTIONS, Action, Scope};
use crate::app::App;

/// The help.
#[derive(Debug, Default)]
pub struct Help {
    /// The first line that is shown.
    pub top: usize,
    /// What it lies over, which is there again when it is closed.
    pub over: Option<Box<Overlay>>,
    /// What opened that.
    over_opened_by: Option<&'static Action>,
}

/// A line of the help.
#[derive(Debug, Clone, Copy)]
pub enum HelpLine {
    /// Nothing, before a heading.
    Free,
    /// A heading.
    Group(&'static str),
    /// An action.
    Action(&'static Action),
}

impl Help {
    /// All lines.
    pub fn lines() -> Vec<HelpLine> {
        let mut lines = Vec::new();
        let mut group = "";
        for action in ACTIONS {
            if action.group != group {
                if !group.is_empty() {
                    lines.push(HelpLine::Free);
                }
                group = action.group;
                lines.push(HelpLine::Group(group));
            }
            lines.push(HelpLine::Action(action));
        }
        lines
    }
}

/// The heading below which the actions of a place stand.
fn line_of(scope: Scope) -> usize {
    let lines = Help::lines();
    let first = lines.iter().position(|line| matches!(line, HelpLine::Action(action) if action.scope == scope));
    first.map_or(0, |first| first.saturating_sub(1))
}

impl App {
    /// Shows all keys.
    pub fn show_help(&mut self) {
        let over = self.overlay.take();
        let mut help = Help { top: 0, over: over.map(Box::new), over_opened_by: self.opened_by };
        if let Some(over) = &mut help.over {
            let layer = over.layer();
            let scope = layer.scope().unwrap_or(if layer.takes_text() { Scope::Input } else { Scope::Overlay });
            help.top = line_of(scope);
        }
        self.overlay = Some(Overlay::Help(help));
    }
}

impl Layer for Help {
    fn move_by(&mut self, by: isize) {
        self.top = self.top.saturating_add_signed(by).min(Help::lines().len().saturating_sub(1));
    }

    fn wheel(&self) -> isize {
        3
    }

    fn close(&mut self, app: &mut App) -> After {
        app.overlay = self.over.take().map(|over| *over);
        app.opened_by = self.over_opened_by;
        After::Close
    }
}
