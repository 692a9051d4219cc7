//! All that the server said while a statement ran.

use std::sync::Arc;

use jaunty_core::run::Run;
use jaunty_core::words;
use jaunty_language::text::clean::clean;

use super::{After, Layer};
use crate::action::Scope;
use crate::app::{App, Overlay};

/// The messages of a run, also of one that still runs.
#[derive(Debug)]
pub struct MessagesView {
    run: Arc<Run>,
    /// How many of them are in the lines.
    seen: usize,
    /// Their lines: whether it is of an error, and the text.
    pub lines: Vec<(bool, String)>,
    /// The first line that is shown.
    pub top: usize,
}

impl MessagesView {
    fn of(run: &Arc<Run>) -> MessagesView {
        let mut view = MessagesView { run: Arc::clone(run), seen: 0, lines: Vec::new(), top: 0 };
        view.renew();
        view
    }

    /// What stands above them.
    pub fn title(&self) -> String {
        let of = self.run.title.as_deref().or_else(|| self.run.statement.lines().next()).unwrap_or_default();
        let (all, left_out) = self.run.said(|said| (said.count(), said.left_out()));
        let kept =
            if left_out > 0 { format!(", the first {} kept", words::number(all - left_out)) } else { String::new() };
        format!("{}{kept} · {}", words::count(all, "message"), clean(of))
    }

    /// Takes in those that have come.
    pub(in crate::app) fn renew(&mut self) {
        let new = self.run.messages_from(self.seen);
        self.seen += new.len();
        for message in new {
            let wrong = ["error", "fatal", "panic"].contains(&message.severity.to_lowercase().as_str());
            let code = message.code.as_deref().map(|code| format!(" [{code}]")).unwrap_or_default();
            let line = message.line.map(|line| format!("line {line}: ")).unwrap_or_default();
            let text = format!("{}: {line}{}{code}", message.severity, message.text);
            self.lines.extend(text.lines().map(|line| (wrong, clean(line).into_owned())));
        }
    }

    /// Copies all of them.
    pub fn copy(&mut self, app: &mut App) -> After {
        let lines: Vec<&str> = self.lines.iter().map(|(_, line)| line.as_str()).collect();
        app.clipboard = Some(lines.join("\n"));
        app.tell(format!("copied {}", words::count(self.lines.len() as u64, "line")));
        After::Close
    }
}

impl Layer for MessagesView {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::MessagesView)
    }

    fn move_by(&mut self, by: isize) {
        self.top = self.top.saturating_add_signed(by).min(self.lines.len().saturating_sub(1));
    }

    fn wheel(&self) -> isize {
        3
    }
}

impl App {
    /// Shows all that the server said while the statement of the result in hand ran.
    pub fn show_messages(&mut self) {
        match self.rows.run().filter(|run| run.said(|said| said.count()) > 0) {
            Some(run) => self.overlay = Some(Overlay::Messages(Box::new(MessagesView::of(run)))),
            None => self.tell("the server said nothing here"),
        }
    }
}
