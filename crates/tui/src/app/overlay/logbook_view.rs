//! The logbook over the screen: what ran, found by typing, opened again without asking a server.

use std::sync::Arc;

use jaunty_core::logbook::{Entry, Query, Searchable};
use jaunty_core::run::Run;
use jaunty_language::text::clean;

use super::{After, Answered, Layer, Overlay, Question};
use crate::action::Scope;
use crate::app::App;
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

    /// Puts the chosen run's statement into the buffer.
    pub(crate) fn put(&mut self, app: &mut App) -> After {
        let Some(entry) = self.entry() else { return After::Stay };
        app.follow_cursor_again();
        app.panes.focus = Scope::Buffer;
        app.put_statement(&entry.statement);
        After::Close
    }

    /// Puts the chosen run's statement into the buffer, and runs it.
    pub(crate) fn run(&mut self, app: &mut App) -> After {
        let Some(entry) = self.entry() else { return After::Stay };
        if entry.connection != app.connection.name() {
            let there = clean::clean(&entry.connection);
            let key = |name| app.key_of(name).unwrap_or_default();
            let (list, put) = (key("connections"), key("put-entry"));
            app.tell_wrong(format!(
                "this ran on {there}; switch to it first ({list}), or press {put} to put it into the buffer"
            ));
            return After::Stay;
        }
        app.follow_cursor_again();
        app.panes.focus = Scope::Buffer;
        app.put_and_run(&entry.statement);
        After::Close
    }

    /// Keeps the rows of the chosen run however old they get, or no longer.
    pub(crate) fn keep(&mut self, app: &mut App) {
        let Some(entry) = self.entry() else { return };
        let (keeping, number, pinned) = (app.keeping.clone(), entry.number, !entry.pinned);
        app.begin_work(Kind::Note, "updating the logbook".into(), move |_| {
            let noted = keeping.logbook().map_or(Ok(()), |logbook| logbook.pin(number, pinned));
            Done::Pinned(number, noted.map(|()| pinned).map_err(|error| error.to_string()))
        });
    }

    /// Asks whether to forget the chosen run.
    pub(crate) fn forget(&mut self, app: &mut App) {
        self.ask_to_forget(self.entry().cloned().into_iter().collect(), app);
    }

    /// Asks whether to forget all runs that fit what was typed.
    pub(crate) fn forget_found(&mut self, app: &mut App) {
        let all = self.entries.as_deref().unwrap_or_default();
        self.ask_to_forget(self.found.iter().filter_map(|at| all.get(*at)).cloned().collect(), app);
    }

    fn ask_to_forget(&self, entries: Vec<Entry>, app: &mut App) {
        if entries.is_empty() {
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
        app.overlay = Some(Overlay::Question(Question { about, forget: entries, ..question }));
    }
}

impl Layer for LogbookView {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::LogbookView)
    }

    fn takes_text(&self) -> bool {
        true
    }

    fn line(&mut self) -> Option<&mut Line> {
        Some(&mut self.query)
    }

    fn line_changed(&mut self) {
        self.chosen = 0;
        self.search();
    }

    fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.found.len().saturating_sub(1));
    }

    fn page(&self) -> isize {
        15
    }

    /// Holds the rows of the chosen run in the result pane.
    fn accept(&mut self, app: &mut App) -> After {
        let Some(entry) = self.entry().cloned() else { return After::Stay };
        app.keep_in_sight(Arc::new(Run::remembered(entry)));
        app.panes.focus = Scope::Result;
        let back = app.key_of("back").unwrap_or_default();
        app.tell(format!("kept rows, not run again; {back} returns to the result at the cursor"));
        After::Close
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

    pub(in crate::app) fn take_logbook(&mut self, read: Result<Vec<(Entry, Searchable)>, String>) {
        match (read, self.overlaid::<LogbookView>()) {
            (Ok(entries), Some(logbook)) => logbook.take(entries),
            (Err(error), _) => {
                self.overlay = None;
                self.tell_wrong(error);
            }
            _ => {}
        }
    }

    pub(in crate::app) fn take_pin(&mut self, number: i64, pinned: Result<bool, String>) {
        match (pinned, self.overlaid::<LogbookView>()) {
            (Err(error), _) => self.tell_wrong(error),
            (Ok(pinned), Some(logbook)) => {
                let mut all = logbook.entries.iter_mut().flatten();
                if let Some(entry) = all.find(|entry| entry.number == number) {
                    entry.pinned = pinned;
                }
            }
            _ => {}
        }
    }

    pub(in crate::app) fn forget_runs(&mut self, entries: Vec<Entry>) {
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
