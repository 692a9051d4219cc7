//! A result pane: which rows it shows, where in them it is, and what it has to ask for.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jaunty_core::chart::Spec;
use jaunty_core::logbook::Outcome;
use jaunty_core::run::Run;
use jaunty_core::run::kept::KeptRows;
use jaunty_language::outline::StatementId;
use ratatui::layout::{Position, Rect};

use jaunty_core::arrange::Arrangement;

use super::App;
use crate::pager::{Answer, Page, Pager, Shown, Wish};
use jaunty_core::words;

mod arranged;
mod beside;
mod columns;
mod moving;
mod parts;
mod selection;
mod sparks;
mod strip;

pub use arranged::Arranged;
pub use columns::Placed;
pub(in crate::app) use selection::Opened;
pub use selection::{Marked, Marks};
pub use sparks::Sparked;
pub use strip::Slot;

pub(super) use beside::Linked;

/// Lines above the rows: the title, the names, the types. Sparklines come below these.
pub const HEAD: u16 = 3;

/// Where in a result a person is.
#[derive(Debug, Clone, Default)]
pub struct View {
    /// The row in hand, from 0.
    pub row: u64,
    /// The first row on the screen.
    pub top: u64,
    /// The place of the column in hand among those that are shown.
    pub column: usize,
    /// The place of the first column on the screen.
    pub left: usize,
    /// How many of the first columns stay in sight.
    pub kept: usize,
    /// The widest value seen of each column, so that columns do not jump from page to page.
    pub widths: Vec<usize>,
    /// Widths that a person chose.
    pub chosen_widths: HashMap<usize, u16>,
    /// The columns that are shown, in order.
    pub columns: Vec<usize>,
    /// The names of all columns.
    names: Arc<[String]>,
    /// The order of the rows, and which of them.
    pub arranged: Arranged,
    /// Whether the last row is wanted as soon as it has come.
    to_end: bool,
    /// From where on cells are marked.
    pub marked: Option<Marked>,
}

impl View {
    /// The column in hand, as the result counts.
    pub fn column_in_hand(&self) -> usize {
        self.columns.get(self.column).copied().unwrap_or(0)
    }

    /// The row of the archive that is shown at a place.
    pub fn row_of(&self, at: u64) -> u64 {
        self.arranged.arrangement.as_ref().map_or(at, |arrangement| arrangement.row(at).unwrap_or(0))
    }

    /// Shows the columns as another run of the same statement did, if it has the same ones.
    fn lay_out_as(&mut self, before: &View) {
        if self.names == before.names {
            self.columns.clone_from(&before.columns);
            self.chosen_widths.clone_from(&before.chosen_widths);
            self.kept = before.kept;
        }
    }

    pub(super) fn arrangement(&self) -> Option<Arc<Arrangement>> {
        self.arranged.arrangement.clone()
    }
}

/// A row, by its number and by the values that tell it apart, with their columns.
pub(super) type InHand = (u64, Vec<(usize, String)>);

/// What the pane shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shows {
    /// There is no run.
    Nothing,
    /// Rows.
    Rows,
    /// A run without rows: its note says all.
    Note,
    /// The error of a run.
    Error,
}

/// A result pane.
#[derive(Debug, Default)]
pub struct Rows {
    /// Its number, so that pages come to the pane that wants them.
    pane: u8,
    /// The run that it shows wherever the cursor is.
    held: Option<Arc<Run>>,
    run: Option<Arc<Run>>,
    kept: Option<Arc<KeptRows>>,
    views: HashMap<PathBuf, View>,
    /// The archive of each statement's results that was shown last.
    latest: HashMap<(StatementId, usize), PathBuf>,
    /// What a chart showed of the results of a statement last.
    charts: HashMap<(StatementId, usize), Spec>,
    /// The result that is shown of a run that has several, by the archive of its first.
    picked: HashMap<PathBuf, usize>,
    /// The columns that were opened, by the archive that the rows are of; the last is shown.
    opened: HashMap<PathBuf, Vec<parts::OpenedRows>>,
    page: Option<Page>,
    failed: Option<String>,
    /// What the marked cells add up to, and which they are.
    sums: Option<String>,
    added: Option<(u64, std::ops::Range<u64>, std::ops::Range<usize>)>,
    asked: Option<(PathBuf, u64, u64, usize)>,
    sparklines: sparks::Sparklines,
    /// Whether the next result of the same statement is shown from where this one is.
    pub(super) stays: bool,
    /// The row that is in hand then.
    pub(super) in_hand: Option<InHand>,
    /// The row that is looked for in what was read again.
    followed: Option<InHand>,
    area: Rect,
}

impl Rows {
    /// Shows what it holds, or else the run of the statement at the cursor, and asks for its rows.
    pub(super) fn follow(&mut self, of_cursor: Option<&Arc<Run>>, area: Rect, pager: &Pager) {
        let run = self.held.as_ref().or(of_cursor).cloned();
        let above = run.as_ref().map_or(area, |run| crate::view::rows::above_trouble(run, area));
        self.show(run);
        self.ask_for_what_is_missing(pager, above);
    }

    /// Shows the result of a run.
    fn show(&mut self, run: Option<Arc<Run>>) {
        let all = run.as_ref().map_or_else(Vec::new, |run| run.all_rows());
        let picked = all.first().and_then(|first| self.picked.get(first.path())).and_then(|at| all.get(*at));
        let kept = picked.or(all.last()).map(|own| self.opened_of(own));
        let path = |kept: &Option<Arc<KeptRows>>| kept.as_ref().map(|kept| kept.path().to_owned());
        if path(&kept) != path(&self.kept) {
            self.page = None;
            self.asked = None;
            self.failed = None;
            (self.sums, self.added) = (None, None);
            self.kept = kept;
        }
        self.run = run;
    }

    /// Forgets what it shows, unless it holds it.
    pub(super) fn forget(&mut self) {
        if self.held.is_none() {
            *self = Rows::numbered(self.pane);
        }
    }

    fn numbered(pane: u8) -> Rows {
        Rows { pane, ..Rows::default() }
    }

    /// Whether it shows its result wherever the cursor is.
    pub fn holds(&self) -> bool {
        self.held.is_some()
    }

    /// The run whose result is shown.
    pub fn run(&self) -> Option<&Arc<Run>> {
        self.run.as_ref()
    }

    /// The page that is there.
    pub fn page(&self) -> Option<&Page> {
        self.page.as_ref()
    }

    /// Why rows could not be read.
    pub fn failure(&self) -> Option<&str> {
        self.failed.as_deref()
    }

    /// What there is to show.
    pub fn shows(&self) -> Shows {
        match (&self.run, &self.kept) {
            (None, _) => Shows::Nothing,
            (Some(run), Some(_)) if run.outcome() != Outcome::Failed || run.rows() > 0 => Shows::Rows,
            (Some(run), _) if run.end().is_some_and(|end| end.error.is_some()) => Shows::Error,
            (Some(_), _) => Shows::Note,
        }
    }

    /// Where in the result it is.
    pub fn view(&self) -> View {
        self.kept.as_ref().and_then(|kept| self.views.get(kept.path())).cloned().unwrap_or_default()
    }

    fn view_mut(&mut self) -> Option<&mut View> {
        let path = self.kept.as_ref()?.path().to_owned();
        Some(self.views.entry(path).or_default())
    }

    /// Rows that can be shown now.
    pub fn total(&self) -> u64 {
        let arranged = self.kept.as_ref().and_then(|kept| self.views.get(kept.path()));
        if let Some(arrangement) = arranged.and_then(|view| view.arranged.arrangement.as_ref()) {
            return arrangement.len();
        }
        self.all()
    }

    /// All rows that there are, shown or not.
    pub fn all(&self) -> u64 {
        let known = self.page.as_ref().filter(|page| page.stamp == 0).map_or(0, |page| page.of);
        if self.results().1 > 1 || self.is_opened() {
            return self.kept.as_ref().and_then(|kept| kept.rows()).unwrap_or(known);
        }
        self.run.as_ref().map_or(known, |run| run.rows().max(known))
    }

    /// Which of the run's results with rows is shown, from 0, and how many there are.
    pub fn results(&self) -> (usize, usize) {
        let all = self.run.as_ref().map_or_else(Vec::new, |run| run.all_rows());
        let shown = self.base().and_then(|base| all.iter().position(|rows| rows.path() == base));
        (shown.unwrap_or(0), all.len())
    }

    /// The rows that are shown.
    pub fn kept(&self) -> Option<&Arc<KeptRows>> {
        self.kept.as_ref()
    }

    /// How many rows fit on the screen.
    pub fn height(&self) -> usize {
        usize::from(self.area.height.saturating_sub(self.head(self.area))).max(1)
    }

    /// Whether a page is about to come.
    pub(super) fn is_waiting(&self) -> bool {
        self.asked.is_some()
    }

    /// Asks for the rows that should be on the screen and are not there.
    fn ask_for_what_is_missing(&mut self, pager: &Pager, area: Rect) {
        self.area = area;
        let Some(kept) = self.kept.clone().filter(|_| !area.is_empty() && self.failed.is_none()) else { return };
        let (pane, height, total) = (self.pane, self.height(), self.total());
        let running = self.run.as_ref().filter(|run| run.outcome() == Outcome::Running).cloned();
        let Some(view) = self.view_mut() else { return };
        if view.to_end {
            view.row = u64::MAX;
            view.to_end = running.is_some();
        }
        view.row = view.row.min(total.saturating_sub(1));
        // Whoever comes near the end reads on.
        if let Some(run) = running.filter(|_| view.row + 2 * height as u64 >= total && view.row > 0) {
            run.fetch_more();
        }
        view.top = view.top.clamp((view.row + 1).saturating_sub(height as u64), view.row);
        let (from, to) = (view.top, total.min(view.top + height as u64));
        let (stamp, arrangement) = (view.arranged.stamp, view.arrangement());
        let covered = self.page.as_ref().is_some_and(|page| {
            let whole = page.from <= from && page.from + page.rows.len() as u64 >= to;
            whole && page.stamp == stamp && page.path == kept.path()
        });
        let wish = (kept.path().to_owned(), stamp, from, height);
        if !covered && self.asked.as_ref() != Some(&wish) {
            pager.ask(Wish::Page { pane, rows: kept, arrangement, stamp, from, count: height });
            self.asked = Some(wish);
        }
        self.keep_column_in_sight();
    }

    /// Goes to the row with these values on a page that was read again: the nearest to the one in hand, which has its
    /// number. Where a person has moved meanwhile, or it is not near, nothing is done.
    fn go_with_row(&mut self, page: &Page) {
        let Some(row) = self.view_mut().map(|view| view.row) else { return };
        let is_there = |at: u64| (page.from..page.from + page.rows.len() as u64).contains(&at);
        let Some((of, cells)) = self.followed.take_if(|(of, _)| is_there(*of)) else { return };
        let is_it = |shown: &&Vec<Shown>| {
            let is = |(at, text): &(usize, String)| shown.get(*at).is_some_and(|cell| cell.text == *text);
            cells.iter().all(is)
        };
        let fitting = (page.from..).zip(&page.rows).filter(|(_, shown)| is_it(shown)).map(|(at, _)| at);
        let nearest = fitting.min_by_key(|at| at.abs_diff(of));
        let height = self.height() as u64;
        if let (Some(view), Some(at)) = (self.view_mut().filter(|_| row == of && !cells.is_empty()), nearest) {
            view.row = at;
            view.top = view.top.clamp((at + 1).saturating_sub(height), at);
        }
    }

    fn take_page(&mut self, page: Page) {
        if page.pane != self.pane || self.kept.as_ref().is_none_or(|kept| kept.path() != page.path) {
            return;
        }
        self.asked = self.asked.take().filter(|(_, stamp, from, _)| (*stamp, *from) != (page.stamp, page.from));
        if let Some(view) = self.view_mut() {
            if page.stamp != view.arranged.stamp {
                return;
            }
            view.columns.extend(view.widths.len()..page.columns.len());
            let is_new = view.names.len() < page.columns.len();
            view.names = page.columns.iter().map(|head| head.name.clone()).collect();
            view.widths.resize(page.columns.len(), 0);
            for (width, head) in view.widths.iter_mut().zip(&page.columns) {
                *width = (*width).max(head.width);
            }
            view.column = view.column.min(view.columns.len().saturating_sub(1));
            if is_new {
                self.lay_out_as_before(&page.path);
            }
        }
        self.go_with_row(&page);
        self.page = Some(page);
    }

    /// Shows the columns of an archive as those of the run before it.
    fn lay_out_as_before(&mut self, path: &Path) {
        let Some(id) = self.run.as_ref().map(|run| run.id) else { return };
        let before = self.latest.insert((id, self.results().0), path.to_owned());
        let before = before.filter(|before| before != path).and_then(|before| self.views.get(&before)).cloned();
        if let (Some(before), Some(view)) = (before, self.views.get_mut(path)) {
            view.lay_out_as(&before);
            // Rows that were changed and read again are still the ones in hand.
            if std::mem::take(&mut self.stays) {
                (view.row, view.top, view.column, view.left) = (before.row, before.top, before.column, before.left);
                self.followed = self.in_hand.take();
            }
        }
    }

    fn fail(&mut self, path: &Path, error: String) {
        if self.kept.as_ref().is_some_and(|kept| kept.path() == path) {
            self.asked = None;
            self.failed = Some(error);
        }
    }

    /// What a chart showed of the result last.
    pub(super) fn chart(&self) -> Option<Spec> {
        let id = self.run.as_ref()?.id;
        self.charts.get(&(id, self.results().0)).cloned()
    }

    /// Notes what a chart shows of the result.
    pub(super) fn keep_chart(&mut self, spec: Spec) {
        if let Some(run) = &self.run {
            self.charts.insert((run.id, self.results().0), spec);
        }
    }

    /// Takes a column of the rows in hand, if it is shown.
    pub(super) fn take_column(&mut self, column: usize) {
        if let Some(view) = self.view_mut()
            && let Some(place) = view.columns.iter().position(|shown| *shown == column)
        {
            view.column = place;
        }
    }

    /// Moves the screen over the rows, and the row in hand with it.
    pub(super) fn scroll(&mut self, by: i64) {
        let (total, height) = (self.total(), self.height() as u64);
        if let Some(view) = self.view_mut() {
            view.top = view.top.saturating_add_signed(by).min(total.saturating_sub(height));
            view.row = view.row.clamp(view.top, view.top + height - 1);
        }
    }

    fn go_to(&mut self, row: u64) {
        let last = self.total().saturating_sub(1);
        if let Some(view) = self.view_mut() {
            view.to_end = false;
            view.row = row.min(last);
        }
    }

    /// Goes to a row by its number in the archive, if it is among those that are shown.
    pub(in crate::app) fn go_to_row_of_archive(&mut self, number: u64) {
        let arrangement = self.view().arrangement();
        let at = match &arrangement {
            None => Some(number),
            Some(arrangement) => (0..arrangement.len()).find(|at| arrangement.row(*at) == Some(number)),
        };
        at.into_iter().for_each(|at| self.go_to(at));
    }

    /// Moves the screen and the row in hand by so many rows.
    fn advance(&mut self, rows: i64) {
        let (height, total) = (self.height() as u64, self.total());
        if let Some(view) = self.view_mut() {
            view.to_end = false;
            view.top = view.top.saturating_add_signed(rows).min(total.saturating_sub(height));
            view.row = view.row.saturating_add_signed(rows).min(total.saturating_sub(1));
        }
    }

    pub(super) fn click(&mut self, at: Position, area: Rect) {
        let column = self.columns(area).iter().find(|placed| placed.holds(at.x)).map(|placed| placed.position);
        let (total, first) = (self.total(), area.y + self.head(area));
        if let Some(view) = self.view_mut() {
            if at.y >= first {
                view.row = (view.top + u64::from(at.y - first)).min(total.saturating_sub(1));
            }
            view.column = column.unwrap_or(view.column);
        }
    }
}

impl App {
    pub(super) fn answered(&mut self, answer: Answer) {
        match answer {
            Answer::Page(page) if page.pane == self.rows.pane => self.rows.take_page(page),
            Answer::Page(page) => {
                if let Some(other) = &mut self.other {
                    other.take_page(page);
                }
            }
            Answer::Failed(path, error) => {
                for rows in [Some(&mut self.rows), self.other.as_mut()].into_iter().flatten() {
                    rows.fail(&path, error.clone());
                }
            }
            Answer::Cell(text) => {
                self.tell(format!("copied {}", words::count(text.chars().count() as u64, "character")));
                self.clipboard = Some(text);
            }
            Answer::Row(answer) => self.take_row(answer),
        }
    }
}
