//! What is being done beside everything else, and what comes of it.

use jaunty_core::arrange::Progress;
use jaunty_core::export::Format;
use jaunty_language::outline::Outline;
use jaunty_language::text::clean;

use super::{App, Buffer};
use crate::action::Scope;
use crate::work::{Done, Kind, Work};

impl App {
    /// Begins work beside everything else; returns its number.
    pub(super) fn begin_work(
        &mut self,
        kind: Kind,
        what: String,
        act: impl FnOnce(&Progress) -> Done + Send + 'static,
    ) -> u64 {
        const SEVERAL: &[Kind] =
            &[Kind::Write, Kind::Load, Kind::Copy, Kind::Arrange, Kind::Sparklines, Kind::Recall, Kind::Note];
        if !SEVERAL.contains(&kind) {
            self.stop_works(|work| work.kind == kind);
        }
        self.works_begun += 1;
        match Work::begin(self.works_begun, (kind, what), &self.post, act) {
            Ok(work) => self.works.push(work),
            Err(error) => self.tell_wrong(format!("a thread could not be started: {error}")),
        }
        self.works_begun
    }

    /// Has the statements of a large buffer in hand found beside the screen, where they are not known.
    pub(super) fn find_statements(&mut self) {
        if !self.buffer.document.awaits_outline() || self.buffer.outlining {
            return;
        }
        self.buffer.outlining = true;
        let document = &mut self.buffer.document;
        document.forget_meanwhile();
        let (rope, dialect) = (document.rope().clone(), document.outline().dialect());
        let (path, what) = (self.buffer.path.clone(), format!("finding the statements of {}", self.buffer.name()));
        self.begin_work(Kind::Outline, what, move |progress| {
            progress.expect(rope.len_bytes() as u64);
            let mut before = 0;
            let outline = Outline::found(&rope, dialect, |at| {
                let more = at - before;
                before = at;
                progress.advance(more).is_ok()
            });
            Done::Outlined(path, outline.map(Box::new))
        });
    }

    /// Ends work whose outcome is not wanted any more.
    pub(super) fn stop_works(&mut self, meant: impl Fn(&Work) -> bool) {
        self.works.retain(|work| {
            if meant(work) {
                work.stop();
            }
            !meant(work)
        });
    }

    /// Whether the work with this number is being done.
    pub(super) fn works_at(&self, number: u64) -> bool {
        self.works.iter().any(|work| work.number == number)
    }

    /// The work that is told of: the latest that takes a while.
    pub fn work(&self) -> Option<&Work> {
        self.works.iter().rev().find(|work| work.is_told())
    }

    pub(super) fn worked(&mut self, number: u64, done: Done) {
        let Some(at) = self.works.iter().position(|work| work.number == number) else { return };
        self.works.remove(at);
        match done {
            Done::Arranged(found) => self.take_arrangement(number, found),
            Done::Equal(path, column, Ok(test)) => self.narrow_to(&path, column, test),
            Done::Script(found) => self.take_script(found),
            Done::IsThere(path, text, answered) => self.ask_to_replace_file(&path, text, answered),
            Done::Saved(Ok(text)) => self.tell(text),
            Done::Copied(Ok((text, said))) => {
                self.clipboard = Some(text);
                self.tell(said);
            }
            Done::Outlined(path, Some(outline)) => {
                let buffers = [&mut self.buffer].into_iter().chain(&mut self.background_buffers);
                for buffer in buffers.filter(|buffer| buffer.path == path) {
                    // One in another language is found again.
                    buffer.document.take_outline(*outline.clone());
                    buffer.outlining = false;
                }
                self.follow();
            }
            Done::Outlined(path, None) => {
                let buffers = [&mut self.buffer].into_iter().chain(&mut self.background_buffers);
                buffers.filter(|buffer| buffer.path == path).for_each(|buffer| buffer.outlining = false);
            }
            Done::Prepared(path, revision, connection, prepared) => {
                // They were meant for what was in hand then, and for that server.
                if (&path, revision) != (&self.buffer.path, self.buffer.document.revision()) {
                    self.tell_wrong("the buffer changed; nothing was run");
                } else if connection != self.connection.number {
                    self.tell_wrong("the connection changed; nothing was run");
                } else {
                    self.run_prepared(prepared);
                }
            }
            Done::Problems(path, revision, meant, found) => {
                let same = (&path, revision) == (&self.buffer.path, self.buffer.document.revision());
                match found.filter(|_| same) {
                    Some(found) => self.take_problems(meant, &found),
                    None if same => self.tell("stopped"),
                    None => self.tell("the buffer changed meanwhile; look for its problems again"),
                }
            }
            Done::Opened(Ok(buffer), at) => {
                // It may have been opened another way meanwhile.
                let open = |other: &Buffer| other.path == buffer.path;
                if open(&self.buffer) || self.background_buffers.iter().any(open) {
                    return self.take_up_buffer_at(&buffer.path.clone(), at);
                }
                self.take_up(*buffer, at);
            }
            Done::Written(Ok((text, format))) => {
                // Statements stand by themselves; anything else is a part of one.
                if matches!(format, Format::Insert | Format::Update | Format::Delete) {
                    self.begin_statement_at_end();
                }
                self.buffer.document.insert(&text);
                self.panes.focus = Scope::Buffer;
            }
            Done::Statement(Ok(text)) => {
                self.put_statement(&text);
                self.panes.focus = Scope::Buffer;
            }
            Done::Equal(.., Err(error))
            | Done::Found(Err(error))
            | Done::Saved(Err(error))
            | Done::Copied(Err(error))
            | Done::Opened(Err(error), _)
            | Done::Statement(Err(error))
            | Done::Written(Err(error)) => self.tell_wrong(error),
            Done::Files(files) => self.take_files(&files),
            Done::Found(Ok(hits)) => self.list_hits(hits),
            Done::Recalled(buffer, recalled, here) => self.take_recalled(buffer, recalled, here),
            Done::Pinned(number, pinned) => self.take_pin(number, pinned),
            Done::Logbook(read) => self.take_logbook(read),
            Done::ColumnStats(found) => self.take_facts(found),
            Done::Charted(gathered) => self.take_chart(*gathered),
            Done::Sparked(sparked) => self.take_sparklines(sparked),
            Done::Planned(plan) => self.take_plan(*plan),
            Done::Sums(sums) => self.take_sums(sums),
            Done::Drafting(drafting) => {
                match drafting {
                    Ok(drafting) => self.take_drafting(*drafting),
                    Err(error) => self.tell_wrong(clean::clean(&error).into_owned()),
                }
                self.take_typed_ahead();
            }
            Done::Opposite(slip) => {
                self.take_opposite(slip.map(|slip| *slip));
                self.take_typed_ahead();
            }
            Done::Parts { base, of, of_parts, found } => self.take_parts(base, &of, of_parts, found),
            Done::Compared(compared) => self.take_compared(compared),
            Done::Structures(found) => self.take_structures(found),
            Done::InTheWay(statement, lines) => self.take_in_the_way(&statement, lines),
            Done::Kept(kept) => self.take_kept(*kept),
            Done::Previewed(found) => self.take_preview(found),
            Done::Clipboard(held) => self.take_clipboard(held),
            Done::Loaded(loaded) => self.take_loaded(loaded),
            Done::Differs(path, from, found) => self.take_difference(&path, from, found),
        }
    }
}
