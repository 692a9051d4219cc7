//! Places inside long statements from which splitting goes on, so that one change in a statement as
//! large as a file does not cost the whole of it.

use crate::split::{Progress, Statement, Token};

/// One change of a text, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Change {
    /// Where.
    pub at: usize,
    /// How many bytes went.
    pub removed: usize,
    /// How many came.
    pub inserted: usize,
}

impl Change {
    /// Where a place behind the change is after it.
    pub fn shift(&self, offset: usize) -> usize {
        offset + self.inserted - self.removed
    }

    pub(crate) fn shifted(&self, s: &Statement) -> Statement {
        Statement {
            start: self.shift(s.start),
            body_end: self.shift(s.body_end),
            end: self.shift(s.end),
            title: s.title.map(|(start, end)| (self.shift(start), self.shift(end))),
            ..*s
        }
    }
}

/// The state of the splitter behind a token of a long statement.
#[derive(Debug, Clone)]
pub(crate) struct Mark {
    /// The byte behind the token.
    pub at: usize,
    pub(super) progress: Progress,
}

impl Mark {
    /// The mark as it is after a change before it.
    pub fn shifted(&self, change: &Change) -> Mark {
        let previous = self.progress.previous;
        let previous = Token { start: change.shift(previous.start), end: change.shift(previous.end), ..previous };
        Mark { at: change.shift(self.at), progress: Progress { previous, ..self.progress.clone() } }
    }
}

/// Marks that are made on the way, and those of the text before a change, which are met again.
#[derive(Debug, Default)]
pub(crate) struct Trail<'a> {
    /// The fewest bytes between two.
    pub spacing: usize,
    /// What was made or met, in order.
    pub made: Vec<Mark>,
    /// What was marked behind the change, in the text before it.
    pub old: &'a [Mark],
    /// The statements of the text before the change.
    pub statements: &'a [Statement],
    /// The change.
    pub change: Change,
    /// Where the last mark is, or the beginning of the statement.
    pub last: usize,
}

impl Trail<'_> {
    /// Takes note of the state behind a token. Where it is what it was there before the change, all
    /// that follows is too: the statement's end and kind are known, and returned.
    pub(super) fn pass(&mut self, progress: &Progress, at: usize) -> Option<Statement> {
        while let Some((first, rest)) = self.old.split_first() {
            // A token that the change is in is another one.
            if first.progress.previous.start < self.change.at + self.change.removed {
                self.old = rest;
                continue;
            }
            let there = self.change.shift(first.at);
            if there < at {
                self.old = rest;
                continue;
            }
            let met = there == at && *progress == first.shifted(&self.change).progress;
            if !met {
                break;
            }
            let index = self.statements.partition_point(|s| s.end < first.at);
            let whole = self.statements.get(index)?;
            let within = self.old.partition_point(|mark| mark.at <= whole.end);
            let (met, rest) = self.old.split_at(within);
            self.made.extend(met.iter().map(|mark| mark.shifted(&self.change)));
            self.old = rest;
            // It may have begun before the change, and elsewhere.
            let (body_end, end) = (self.change.shift(whole.body_end), self.change.shift(whole.end));
            return Some(Statement { body_end, end, ..*whole });
        }
        if at - self.last >= self.spacing {
            self.last = at;
            self.made.push(Mark { at, progress: progress.clone() });
        }
        None
    }
}
