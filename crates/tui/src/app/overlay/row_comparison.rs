//! Two results beside each other by a key: the rows that differ, and what is made of them.

use std::sync::Arc;

use jaunty_core::arrange::ArrangeError;
use jaunty_core::compare::Difference;
use jaunty_core::compare::draft::{cut_by, drafts};
use jaunty_core::compare::rows::{Columns, CompareError, Comparison, Differing, Shown, compare};
use jaunty_core::logbook::Outcome;
use jaunty_core::run::Run;
use jaunty_core::run::kept::KeptRows;
use jaunty_core::slip::{Ground, Slip, statements};
use jaunty_core::words;
use jaunty_language::dialect::Dialect;
use jaunty_language::text::clean;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::rows::origin::Origin;

use super::prompt::Asked;
use super::{After, Layer, Overlay, Prompt, SlipView};
use crate::action::Scope;
use crate::app::App;
use crate::app::rows::Opened;
use crate::layout::Side;
use crate::work::{Done, Kind, wait_for_rest};

/// More changes than this are made by a script.
const MOST: usize = 10_000;

/// Rows whose values are read at a time.
const AT_ONCE: usize = 256;

/// What is done with what differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    /// It is drafted: a slip of the left result.
    Draft,
    /// Its statements are copied.
    Copy,
    /// Its statements are put into the buffer.
    Put,
}

/// One of the results that are compared.
#[derive(Debug, Clone)]
pub struct ComparedSide {
    /// Where it comes from, in words.
    pub title: String,
    /// A slip without drafts and without ground: what of this result would be changed.
    head: Slip,
    run: Arc<Run>,
    kept: Arc<KeptRows>,
    /// Whether only some of its rows are shown.
    narrowed: bool,
    dialect: &'static Dialect,
    known: Option<(Arc<Catalog>, &'static Dialect)>,
}

impl ComparedSide {
    /// Why rows that are missing here may be there all the same: what would be drafted of it could take them away.
    pub fn partial(&self) -> Option<String> {
        let outcome = self.run.outcome();
        match () {
            () if outcome != Outcome::Done => Some(format!("its rows are not all there: {}", outcome.word())),
            () if self.cut_by().is_some() => {
                Some(format!("its statement takes only some of the rows ({})", self.cut_by().unwrap_or_default()))
            }
            () if self.narrowed => Some("it is narrowed to some of its rows (o shows all of them)".to_owned()),
            () => None,
        }
    }

    /// The word by which its statement takes only some of the rows.
    fn cut_by(&self) -> Option<&'static str> {
        cut_by(&self.head.statement, self.kept.rows().unwrap_or(u64::MAX), self.dialect)
    }

    /// The table that the rows are of, found by the first of these columns that is one of a table.
    fn ground(&self, columns: &[String]) -> Result<Ground, String> {
        let archive = self.kept.archive().map_err(|error| error.to_string())?;
        let schema = archive.schema();
        let names: Vec<String> = schema.fields().iter().map(|field| field.name().clone()).collect();
        let origins: Vec<Option<Origin>> = schema.fields().iter().map(|field| Origin::of(field)).collect();
        let (catalog, dialect) = self.known.as_ref().ok_or_else(|| {
            format!("the catalog of {} is not known here: connect to it first", clean::clean(&self.head.connection))
        })?;
        let of = |at| Ground::find((&self.head.statement, &names, &origins), at, catalog, dialect);
        let first = columns.first().and_then(|column| names.iter().position(|name| name == column)).unwrap_or(0);
        let any = |error| (0..names.len()).find_map(|at| of(at).ok()).ok_or(error);
        of(first).or_else(any).map_err(|why| why.to_string())
    }
}

/// The comparison.
#[derive(Debug)]
pub struct RowComparison {
    /// Left and right.
    pub sides: [ComparedSide; 2],
    /// What came of it; none until it is there.
    pub found: Option<Result<Arc<Comparison>, String>>,
    /// Only rows that differ in this way.
    pub only: Option<Difference>,
    /// The rows that are shown, of those that differ.
    pub rows: Vec<Differing>,
    /// How many rows differ in each way.
    pub counts: [u64; 3],
    /// The row in hand.
    pub chosen: usize,
    /// The first row on the screen.
    pub top: usize,
    /// The first column that is shown of the row in hand.
    pub column: usize,
    /// The values of some rows from one on.
    pub page: Option<(usize, Vec<Shown>)>,
    /// Which rows are being read.
    asked: Option<usize>,
    /// What was asked for as a key; as the table says where it is empty.
    key: Vec<String>,
}

/// What a thread found out.
#[derive(Debug)]
pub enum Compared {
    /// The rows that differ.
    Rows(Result<Comparison, String>),
    /// The values of some of them.
    Page(usize, Result<Vec<Shown>, String>),
    /// A slip of what differs, and what it is for.
    Drafts(Use, Result<(Slip, &'static Dialect), String>),
}

impl RowComparison {
    /// The values of a row that is shown, if they are there.
    pub fn shown(&self, at: usize) -> Option<&Shown> {
        let (from, rows) = self.page.as_ref()?;
        rows.get(at.checked_sub(*from)?)
    }

    /// What was compared, if it is there.
    pub fn comparison(&self) -> Option<&Arc<Comparison>> {
        self.found.as_ref()?.as_ref().ok()
    }

    fn narrow(&mut self) {
        let Some(found) = self.comparison().cloned() else { return };
        let fits = |row: &&Differing| self.only.is_none_or(|only| row.what() == only);
        self.rows = found.rows.iter().filter(fits).copied().collect();
        (self.chosen, self.top, self.page, self.asked) = (0, 0, None, None);
    }

    /// Shows all rows that differ, or those of one way after the other.
    pub(crate) fn turn_filter(&mut self) {
        let next = match self.only {
            None => Some(Difference::ALL[0]),
            Some(only) => Difference::ALL
                .iter()
                .position(|what| *what == only)
                .and_then(|at| Difference::ALL.get(at + 1))
                .copied(),
        };
        // One that nothing is of is passed over.
        self.only = next;
        if next.is_some_and(|what| self.counts[what as usize] == 0) {
            return self.turn_filter();
        }
        self.narrow();
    }

    /// Exchanges left and right.
    pub(crate) fn exchange(&mut self, app: &mut App) {
        self.sides.swap(0, 1);
        (self.found, self.rows, self.page) = (None, Vec::new(), None);
        if !app.compare_sides(&self.sides, &self.key) {
            self.found = Some(Err("one of the two results is not open any more".to_owned()));
        }
    }

    /// Scrolls the columns of the row in hand.
    pub(crate) fn column_by(&mut self, by: isize) {
        let last = self.comparison().map_or(0, |found| found.columns.pairs.len().saturating_sub(1));
        self.column = self.column.saturating_add_signed(by).min(last);
    }

    /// Asks for the columns that tell rows apart.
    pub(crate) fn other_key(&mut self, app: &mut App) -> After {
        let now = self.comparison().map_or_else(|| self.key.join(", "), |found| found.columns.key().join(", "));
        app.comparing = Some(self.sides.clone());
        let title = "compare by · the columns that tell rows apart, with commas between them".to_owned();
        app.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::CompareKey, now)));
        After::Close
    }

    /// Does something with the statements that make the left like the right.
    pub(crate) fn make(&mut self, what: Use, app: &mut App) {
        let Some(found) = self.comparison().cloned() else { return };
        for (side, word) in self.sides.iter().zip(["left", "right"]) {
            if let Some(why) = side.partial() {
                return app.tell_wrong(format!("no statements are made of the {word} result: {why}"));
            }
        }
        if found.rows.len() > MOST {
            let rows = words::count(found.rows.len() as u64, "row");
            return app.tell_wrong(format!(
                "{rows} differ, and {} are the most here; jaunty compare rows --statements writes all of them",
                words::number(MOST as u64)
            ));
        }
        let side = self.sides[0].clone();
        app.begin_work(Kind::Differ, "drafting what differs".into(), move |progress| {
            let made = || -> Result<(Slip, &'static Dialect), String> {
                let keys: Vec<String> = found.columns.key().into_iter().map(str::to_owned).collect();
                let ground = side.ground(&keys)?;
                let drafts = drafts(&found, &ground, progress).map_err(|why| why.to_string())?;
                let dialect = side.known.as_ref().map(|known| known.1).ok_or("its language is not known")?;
                Ok((Slip { ground, drafts, ..side.head.clone() }, dialect))
            };
            Done::Compared(Compared::Drafts(what, made()))
        });
    }
}

impl Layer for RowComparison {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::RowComparison)
    }

    fn move_by(&mut self, by: isize) {
        let last = self.rows.len().saturating_sub(1);
        self.chosen = self.chosen.saturating_add_signed(by).min(last);
        self.column = 0;
    }

    fn close(&mut self, app: &mut App) -> After {
        app.stop_works(|work| matches!(work.kind, Kind::Differ | Kind::DifferingRows));
        After::Close
    }

    /// Goes to the row in both results.
    fn accept(&mut self, app: &mut App) -> After {
        let Some(row) = self.rows.get(self.chosen) else { return After::Stay };
        let mut missing = Vec::new();
        for (side, number) in self.sides.iter().zip([row.left, row.right]) {
            let Some(number) = number.map(u64::from) else { continue };
            let panes = [Some(&mut app.rows), app.other.as_mut()];
            let of = |rows: &&mut crate::app::Rows| rows.kept().is_some_and(|kept| kept.path() == side.kept.path());
            match panes.into_iter().flatten().find(of) {
                Some(rows) => rows.go_to_row_of_archive(number),
                None => missing.push(side.title.clone()),
            }
        }
        // Each is where its row is; together they would move apart again.
        app.linked = None;
        if !missing.is_empty() {
            app.tell(format!("{} is not open any more", missing.join(", ")));
        }
        app.panes.focus = Scope::Result;
        After::Close
    }
}

impl App {
    /// Compares the two results that stand beside each other, by the key of their table.
    pub fn compare_rows(&mut self) {
        let (Some(other), Some(place)) = (&self.other, self.panes.other) else {
            let key = self.key_of("place-beside").unwrap_or_default();
            return self.tell(format!("open two results side by side first ({key}), then compare them"));
        };
        let [Some(here), Some(there)] = [self.compared_side(&self.rows), self.compared_side(other)] else {
            return self.tell("one of the two has no rows");
        };
        let sides = if place == Side::First { [there, here] } else { [here, there] };
        self.open_comparison(sides, &[]);
    }

    /// Compares by the columns that a person named.
    pub(in crate::app) fn compare_by(&mut self, text: &str) {
        let Some(sides) = self.comparing.clone() else { return };
        let key: Vec<String> =
            text.split(',').map(|name| name.trim().to_owned()).filter(|name| !name.is_empty()).collect();
        self.open_comparison(sides, &key);
    }

    fn open_comparison(&mut self, sides: [ComparedSide; 2], key: &[String]) {
        if !self.compare_sides(&sides, key) {
            return;
        }
        let view = RowComparison {
            sides,
            found: None,
            only: None,
            rows: Vec::new(),
            counts: [0; 3],
            chosen: 0,
            top: 0,
            column: 0,
            page: None,
            asked: None,
            key: key.to_vec(),
        };
        self.overlay = Some(Overlay::RowComparison(Box::new(view)));
    }

    fn compared_side(&self, rows: &crate::app::Rows) -> Option<ComparedSide> {
        let (run, kept) = (rows.run()?.clone(), rows.kept()?.clone());
        let head = Slip {
            connection: run.connection.clone(),
            database: run.database.clone(),
            statement: run.statement.clone(),
            archive: kept.path().to_owned(),
            ..Slip::default()
        };
        let all = [&self.connection].into_iter().chain(&self.background);
        let mut of_run = all.filter(|connection| connection.name() == run.connection);
        let catalog = of_run.find_map(|connection| connection.catalog.clone());
        let dialect = self.dialect_of(&head);
        let known = catalog.map(|catalog| (catalog, dialect));
        let title = match run.title.clone() {
            Some(title) => format!("{title} on {}", run.connection),
            None => format!("{} on {}", run.statement.split_whitespace().collect::<Vec<_>>().join(" "), run.connection),
        };
        let narrowed = rows.view().arrangement().is_some_and(|arrangement| arrangement.len() < arrangement.of());
        Some(ComparedSide { title: clean::clean(&title).into_owned(), head, run, kept, narrowed, dialect, known })
    }

    /// Begins to compare. False, with the reason told, where that cannot be.
    fn compare_sides(&mut self, sides: &[ComparedSide; 2], key: &[String]) -> bool {
        let (sides, key) = (sides.clone(), key.to_vec());
        let part = |side: &ComparedSide| {
            let panes = [Some(&self.rows), self.other.as_ref()].into_iter().flatten();
            let mut panes = panes.filter(|rows| rows.kept().is_some_and(|kept| kept.path() == side.kept.path()));
            panes.next().and_then(|rows| rows.rows_from(0, &rows.view().columns))
        };
        let [Some(left), Some(right)] = [part(&sides[0]), part(&sides[1])] else {
            self.tell_wrong("one of the two results is not open any more");
            return false;
        };
        self.begin_work(Kind::Differ, "comparing rows".into(), move |progress| {
            sides.iter().for_each(|side| wait_for_rest(&side.run, progress));
            let compared = || -> Result<Comparison, String> {
                let parts: [Opened; 2] = [left(), right()];
                let [left, right] = parts.map(|part| part.map_err(|error| error.to_string()));
                let (left, right) = (left?, right?);
                let names = |archive: &jaunty_core::archive::Archive| -> Vec<String> {
                    archive.schema().fields().iter().map(|field| field.name().clone()).collect()
                };
                let names = [names(&left.archive), names(&right.archive)];
                let key = if key.is_empty() { usual_key(&sides, &names) } else { key };
                let columns = Columns::matched(&names[0], &names[1], &key).map_err(|why| why.to_string())?;
                compare(&left, &right, columns, progress).map_err(|why| match why {
                    CompareError::Reading(ArrangeError::Stopped) => "stopped".to_owned(),
                    why => why.to_string(),
                })
            };
            Done::Compared(Compared::Rows(compared()))
        });
        true
    }

    pub(in crate::app) fn take_compared(&mut self, compared: Compared) {
        match compared {
            Compared::Drafts(what, made) => return self.use_drafts(what, made),
            Compared::Rows(found) => {
                let Some(view) = self.overlaid::<RowComparison>() else { return };
                if let Ok(found) = &found {
                    view.counts = Difference::ALL.map(|what| found.counted(what));
                }
                view.found = Some(found.map(Arc::new));
                view.narrow();
            }
            Compared::Page(from, rows) => {
                let Some(view) = self.overlaid::<RowComparison>() else { return };
                if view.asked == Some(from) {
                    match rows {
                        Ok(rows) => view.page = Some((from, rows)),
                        Err(error) => view.found = Some(Err(error)),
                    }
                }
            }
        }
        self.follow_comparison();
    }

    fn use_drafts(&mut self, what: Use, made: Result<(Slip, &'static Dialect), String>) {
        let (slip, dialect) = match made {
            Ok((slip, _)) if slip.is_empty() => return self.tell("nothing differs that a statement could change"),
            Ok(made) => made,
            Err(why) => return self.tell_wrong(clean::clean(&why).into_owned()),
        };
        let many_drafts = slip.drafts.len() as u64;
        let many = words::count(many_drafts, "change");
        match what {
            Use::Copy => {
                self.clipboard = Some(statements::alone(&slip, dialect));
                self.tell(format!("the statements of {many} copied"));
            }
            // They are meant for the left one, and the buffer runs on the connection in hand.
            Use::Put if self.connection.name() != slip.connection => {
                let (name, here) = (clean::clean(&slip.connection), self.connection.name());
                self.tell_wrong(format!(
                    "the statements are for {name}, and the buffer runs on {here}: switch to it (f3), or swap the two"
                ));
            }
            Use::Put => {
                self.overlay = None;
                self.begin_statement_at_end();
                self.buffer.document.insert(&statements::alone(&slip, dialect));
                self.panes.focus = Scope::Buffer;
                self.tell(format!("the statements of {many} are in the buffer; nothing was run"));
            }
            Use::Draft => {
                let head = Slip { drafts: Vec::new(), ..slip.clone() };
                let mut stay = 0;
                let drafted = self.draft(&head, |all| {
                    // What a person drafted before stays as it is.
                    for new in slip.drafts {
                        let is_there = match new.row {
                            Some(row) => all.of_row(row).is_some(),
                            None => all.drafts.iter().any(|known| known.row.is_none() && known.new == new.new),
                        };
                        match is_there {
                            true => stay += 1,
                            false => all.drafts.push(new),
                        }
                    }
                    Ok(())
                });
                if drafted {
                    self.overlay = Some(Overlay::Slip(Box::new(SlipView::of(&head, 0))));
                    let many = words::count(many_drafts - stay, "change");
                    let stay = match stay {
                        0 => String::new(),
                        rows => format!(" · {} drafted before, which stay", words::count(rows, "row")),
                    };
                    self.tell(format!("{many} drafted; nothing was sent{stay}"));
                }
            }
        }
    }

    /// Keeps the row in hand in sight, and has the values read of what is.
    pub(in crate::app) fn follow_comparison(&mut self) {
        let screen = self.screen();
        let Some(view) = self.overlaid::<RowComparison>() else { return };
        let height = crate::view::row_comparison::lines(screen, view);
        view.top = view.top.clamp((view.chosen + 1).saturating_sub(height.max(1)), view.chosen);
        let (top, end) = (view.top, (view.top + height).min(view.rows.len()));
        let covered = |from: usize, len: usize| from <= top && end <= from + len;
        if end == 0 || view.page.as_ref().is_some_and(|(from, rows)| covered(*from, rows.len())) {
            return;
        }
        let from = top.saturating_sub(AT_ONCE / 4);
        if view.asked.is_some_and(|asked| covered(asked, AT_ONCE)) {
            return;
        }
        view.asked = Some(from);
        let Some(found) = view.comparison().cloned() else { return };
        let rows: Vec<Differing> = view.rows.iter().skip(from).take(AT_ONCE).copied().collect();
        self.begin_work(Kind::DifferingRows, "reading rows".into(), move |_| {
            Done::Compared(Compared::Page(from, found.shown(&rows).map_err(|error| error.to_string())))
        });
    }
}

/// The key of the table of either side, as far as both have its columns.
fn usual_key(sides: &[ComparedSide; 2], names: &[Vec<String>; 2]) -> Vec<String> {
    let of = |side: &ComparedSide| {
        let ground = side.ground(&[]).ok()?;
        let key: Vec<String> = ground.key.iter().map(|at| ground.fields[*at].column.name.clone()).collect();
        let has =
            |names: &Vec<String>, name: &String| names.iter().any(|own| own.to_lowercase() == name.to_lowercase());
        let both = !key.is_empty() && key.iter().all(|name| names.iter().all(|names| has(names, name)));
        both.then_some(key)
    };
    of(&sides[0]).or_else(|| of(&sides[1])).unwrap_or_default()
}
