//! The logbook over the screen: what ran, found by typing, opened again without asking a server.

use std::sync::Arc;

use jaunty_core::logbook::{Entry, Query, Searchable};
use jaunty_core::run::Run;
use jaunty_language::text::clean;

use super::{Answered, App, Overlay, Question};
use crate::action::Scope;
use crate::line::Line;
use crate::work::{Done, Kind};
use jaunty_core::words;

/// So many runs are shown, the latest first.
const MOST: usize = 10_000;

/// The logbook.
#[derive(Debug)]
pub struct LogbookView {
    /// The runs, the latest first; none while they are being read.
    pub entries: Option<Vec<Entry>>,
    /// For each what is searched.
    searched: Vec<Searchable>,
    /// Those that fit what was typed.
    pub found: Vec<usize>,
    /// What was typed.
    pub query: Line,
    /// The chosen one among those that fit.
    pub chosen: usize,
}

impl LogbookView {
    fn new() -> LogbookView {
        LogbookView { entries: None, searched: Vec::new(), found: Vec::new(), query: Line::default(), chosen: 0 }
    }

    fn take(&mut self, read: Vec<(Entry, Searchable)>) {
        let (entries, searched) = read.into_iter().unzip();
        (self.entries, self.searched) = (Some(entries), searched);
        self.search();
    }

    fn search(&mut self) {
        let query = Query::read(self.query.text(), chrono::Local::now().date_naive());
        let found = self.searched.iter().enumerate().filter(|(_, run)| query.fits(run));
        self.found = found.map(|(at, _)| at).collect();
        self.chosen = self.chosen.min(self.found.len().saturating_sub(1));
    }

    /// Finds what fits something else that was typed.
    pub(super) fn search_anew(&mut self) {
        self.chosen = 0;
        self.search();
    }

    /// The chosen run.
    pub fn entry(&self) -> Option<&Entry> {
        self.entries.as_ref()?.get(*self.found.get(self.chosen)?)
    }

    /// Whether there are runs before those that are shown.
    pub fn is_cut(&self) -> bool {
        self.entries.as_ref().is_some_and(|entries| entries.len() >= MOST)
    }

    /// How long the chosen run's statement took each time, the latest last.
    pub fn durations(&self) -> Vec<i64> {
        let (Some(entry), Some(all)) = (self.entry(), &self.entries) else { return Vec::new() };
        let same = all.iter().filter(|e| e.statement == entry.statement && e.connection == entry.connection);
        let mut durations: Vec<i64> = same.map(|e| e.ended.duration_ms).collect();
        durations.reverse();
        durations
    }

    pub(super) fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.found.len().saturating_sub(1));
    }
}

impl App {
    /// Opens the logbook.
    pub fn open_logbook(&mut self) {
        self.overlay = Some(Overlay::LogbookView(Box::new(LogbookView::new())));
        self.read_logbook();
    }

    fn read_logbook(&mut self) {
        let keeping = self.keeping.clone();
        self.begin_work(Kind::Logbook, "reading the logbook".into(), move |_| {
            let read = match keeping.logbook() {
                Some(logbook) => logbook.find(&Query::default(), MOST).map_err(|error| error.to_string()),
                None => Err(keeping.trouble().unwrap_or("no logbook").to_owned()),
            };
            // What is searched is made ready here: there may be thousands.
            let with_searched = |entry: Entry| {
                let searched = Searchable::of(&entry);
                (entry, searched)
            };
            Done::Logbook(read.map(|entries| entries.into_iter().map(with_searched).collect()))
        });
    }

    pub(super) fn take_logbook(&mut self, read: Result<Vec<(Entry, Searchable)>, String>) {
        match (read, &mut self.overlay) {
            (Ok(entries), Some(Overlay::LogbookView(past))) => past.take(entries),
            (Err(error), _) => {
                self.overlay = None;
                self.tell_wrong(error);
            }
            _ => {}
        }
    }

    /// A key while the logbook is open.
    pub(super) fn key_to_past(&mut self, name: &str) -> bool {
        let Some(Overlay::LogbookView(past)) = &mut self.overlay else { return false };
        match name {
            "esc" => self.overlay = None,
            "up" | "ctrl-p" => past.move_by(-1),
            "down" | "ctrl-n" => past.move_by(1),
            "pageup" | "ctrl-u" => past.move_by(-15),
            "pagedown" | "ctrl-d" => past.move_by(15),
            "home" => past.chosen = 0,
            "end" => past.move_by(isize::MAX),
            "enter" => self.open_past(),
            "tab" => self.put_past(false),
            "ctrl-g" => self.put_past(true),
            "ctrl-k" => self.keep_past(),
            "ctrl-x" => self.ask_to_forget(false),
            "ctrl-w" => self.ask_to_forget(true),
            _ => return false,
        }
        true
    }

    fn past_entry(&self) -> Option<Entry> {
        match &self.overlay {
            Some(Overlay::LogbookView(past)) => past.entry().cloned(),
            _ => None,
        }
    }

    /// Holds the rows of the chosen run in the result pane.
    fn open_past(&mut self) {
        let Some(entry) = self.past_entry() else { return };
        self.overlay = None;
        self.keep_in_sight(Arc::new(Run::remembered(entry)));
        self.panes.focus = Scope::Result;
        self.tell("kept rows, not run again; esc returns to the result at the cursor");
    }

    /// Puts the chosen run's statement into the buffer, and runs it.
    fn put_past(&mut self, run: bool) {
        let Some(entry) = self.past_entry() else { return };
        if run && entry.connection != self.connection.name() {
            let there = clean::clean(&entry.connection).into_owned();
            return self.tell_wrong(format!(
                "this ran on {there}; switch to it first (f3), or press tab to put it into the buffer"
            ));
        }
        self.overlay = None;
        self.follow_cursor_again();
        self.panes.focus = Scope::Buffer;
        match run {
            true => self.put_and_run(&entry.statement),
            false => self.put_statement(&entry.statement),
        }
    }

    /// Keeps the rows of the chosen run however old they get, or no longer.
    fn keep_past(&mut self) {
        let Some(entry) = self.past_entry() else { return };
        let (keeping, number, pinned) = (self.keeping.clone(), entry.number, !entry.pinned);
        self.begin_work(Kind::Note, "updating the logbook".into(), move |_| {
            let noted = keeping.logbook().map_or(Ok(()), |logbook| logbook.pin(number, pinned));
            Done::Pinned(number, noted.map(|()| pinned).map_err(|error| error.to_string()))
        });
    }

    pub(super) fn take_pin(&mut self, number: i64, pinned: Result<bool, String>) {
        match (pinned, &mut self.overlay) {
            (Err(error), _) => self.tell_wrong(error),
            (Ok(pinned), Some(Overlay::LogbookView(past))) => {
                let mut all = past.entries.iter_mut().flatten();
                if let Some(entry) = all.find(|entry| entry.number == number) {
                    entry.pinned = pinned;
                }
            }
            _ => {}
        }
    }

    fn ask_to_forget(&mut self, all: bool) {
        let Some(Overlay::LogbookView(past)) = self.overlay.take() else { return };
        let entries: Vec<Entry> = match (&past.entries, all) {
            (Some(entries), true) => past.found.iter().filter_map(|at| entries.get(*at)).cloned().collect(),
            _ => past.entry().cloned().into_iter().collect(),
        };
        if entries.is_empty() {
            self.overlay = Some(Overlay::LogbookView(past));
            return;
        }
        let bytes: u64 = entries.iter().map(|entry| entry.ended.bytes).sum();
        let what = words::count(entries.len() as u64, "run");
        let text = format!("Forget {what}, and remove {} of rows?", words::bytes(bytes));
        let question = Question::new(text, &[('f', "forget", Answered::Forget)]);
        let about = entries.iter().take(3).map(|entry| {
            let first = entry.statement.lines().next().unwrap_or_default();
            format!("  {}  {}", entry.moment(), clean::clean(first))
        });
        let about = about.collect();
        self.overlay = Some(Overlay::Question(Question { about, forget: entries, ..question }));
    }

    pub(super) fn forget_runs(&mut self, entries: Vec<Entry>) {
        let keeping = self.keeping.clone();
        self.begin_work(Kind::Write, "forgetting".into(), move |progress| {
            progress.expect(entries.len() as u64);
            for entry in &entries {
                let removed = keeping.logbook().map(|logbook| logbook.remove(entry));
                if let Some(Err(error)) = removed {
                    return Done::Saved(Err(error.to_string()));
                }
                if progress.advance(1).is_err() {
                    break;
                }
            }
            let (done, _) = progress.so_far();
            Done::Saved(Ok(format!("{} forgotten", words::count(done, "run"))))
        });
    }

    /// Goes to the statement of the result on the screen. One that does not stand in the buffer is put there.
    pub fn go_to_statement(&mut self) {
        let Some(run) = self.rows.run().cloned() else { return };
        match self.place_of(&run) {
            Some(start) => {
                self.rows.hold(None);
                self.go(jaunty_language::edit::document::Motion::To(start), false);
                self.panes.focus = Scope::Buffer;
            }
            None => {
                self.rows.hold(None);
                self.panes.focus = Scope::Buffer;
                self.put_statement(&run.statement);
                self.tell("put at the end of the buffer");
            }
        }
    }
}
