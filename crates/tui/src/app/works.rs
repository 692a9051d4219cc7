//! What is being done beside everything else, and what comes of it.

use jaunty_core::arrange::Progress;

use super::App;
use crate::action::Scope;
use crate::work::{Done, Kind, Work};

impl App {
    /// Begins work beside everything else.
    pub(super) fn begin_work(
        &mut self,
        kind: Kind,
        what: String,
        act: impl FnOnce(&Progress) -> Done + Send + 'static,
    ) {
        if kind != Kind::Write {
            self.stop_work(kind);
        }
        self.works_begun += 1;
        match Work::begin(self.works_begun, (kind, what), &self.post, act) {
            Ok(work) => self.works.push(work),
            Err(error) => self.tell_wrong(format!("a thread could not be started: {error}")),
        }
    }

    /// Ends work whose outcome is not wanted any more.
    pub(super) fn stop_work(&mut self, kind: Kind) {
        self.works.retain(|work| {
            if work.kind == kind {
                work.stop();
            }
            work.kind != kind
        });
    }

    /// Whether work of a kind is being done.
    pub(super) fn works(&self, kind: Kind) -> bool {
        self.works.iter().any(|work| work.kind == kind)
    }

    /// The work that is told of: the latest that takes a while.
    pub fn work(&self) -> Option<&Work> {
        self.works.iter().rev().find(|work| !matches!(work.kind, Kind::Sums | Kind::Logbook))
    }

    pub(super) fn worked(&mut self, number: u64, done: Done) {
        let Some(at) = self.works.iter().position(|work| work.number == number) else { return };
        self.works.remove(at);
        match done {
            Done::Arranged(path, wanted, found) => self.take_arrangement(&path, &wanted, found),
            Done::Saved(Ok(text)) => self.tell(text),
            Done::Copied(Ok((text, said))) => {
                self.clipboard = Some(text);
                self.tell(said);
            }
            Done::Written(Ok(text)) => {
                self.buffer.document.insert(&text);
                self.panes.focus = Scope::Buffer;
            }
            Done::Saved(Err(error)) | Done::Copied(Err(error)) | Done::Written(Err(error)) => self.tell_wrong(error),
            Done::Logbook(read) => self.take_logbook(read),
            Done::Facts(found) => self.take_facts(found),
            Done::Sums(sums) => self.take_sums(sums),
        }
    }
}
