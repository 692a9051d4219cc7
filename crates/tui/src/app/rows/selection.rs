//! Cells that are marked, and where they go: the clipboard, the buffer, a file.

use std::ops::Range;
use std::path::{Path, PathBuf};

use jaunty_core::archive::ArchiveError;
use jaunty_core::arrange::pick::Part;
use jaunty_core::arrange::{Progress, facts};
use jaunty_core::buffers;
use jaunty_core::catalog::templates;
use jaunty_core::export::file::{save, write};
use jaunty_core::export::target::{Target, name_of};
use jaunty_core::export::{Format, Options};
use jaunty_core::logbook::Outcome;
use jaunty_core::run::Run;

use super::{Rows, View};

use crate::app::overlay::prompt::Asked;
use crate::app::{Answered, App, Item, List, Overlay, Pick, Prompt, Question};
use crate::work::{Done, Kind, wait_for_rest};
use jaunty_core::words;
use jaunty_seam::profile::path;

/// More text than this is for a file, not for a clipboard or a buffer.
const MOST: usize = 16 << 20;
/// Of more cells than this it is not told what they add up to.
const ADDED: u64 = 2_000_000;

/// From where on cells are marked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Marked {
    /// The row, as it is shown.
    pub row: u64,
    /// The place of the column among those that are shown.
    pub column: usize,
    /// What is marked between there and the cell in hand.
    pub marks: Marks,
}

/// What is marked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Marks {
    /// The cells between.
    Cells,
    /// Whole rows.
    Rows,
    /// Whole columns.
    Columns,
    /// Everything.
    All,
}

impl View {
    /// The rows that are marked, and the places of the columns.
    pub fn marked(&self, total: u64) -> Option<(Range<u64>, Range<usize>)> {
        let marked = self.marked?;
        let rows = marked.row.min(self.row)..marked.row.max(self.row) + 1;
        let columns = marked.column.min(self.column)..marked.column.max(self.column) + 1;
        Some(match marked.marks {
            Marks::Cells => (rows, columns),
            Marks::Rows => (rows, 0..self.columns.len()),
            Marks::Columns => (0..total, columns),
            Marks::All => (0..total, 0..self.columns.len()),
        })
    }
}

impl Rows {
    /// What the marked cells add up to, in words.
    pub fn sums(&self) -> Option<&str> {
        self.sums.as_deref().filter(|_| self.view().marked.is_some())
    }

    /// The rows from one on, as they are shown, to be opened by a thread that may wait for the disk.
    pub(in crate::app) fn rows_from(
        &self,
        row: u64,
        columns: &[usize],
    ) -> Option<impl FnOnce() -> Opened + Send + use<>> {
        let (kept, columns) = (self.kept().cloned()?, columns.to_vec());
        let arrangement = self.view().arrangement();
        Some(move || {
            let archive = kept.archive()?;
            let of = arrangement.as_ref().map_or_else(|| archive.rows(), |arrangement| arrangement.len());
            Ok(Part { archive, arrangement, rows: row.min(of)..of, columns: Some(columns) })
        })
    }
}

/// A part whose archive has been opened.
pub(in crate::app) type Opened = Result<Part, ArchiveError>;

/// Which part of the result is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Meant {
    /// What is marked, or else the row in hand.
    Row,
    /// What is marked, or else all.
    All,
}

impl App {
    /// Begins to mark cells; then marks rows, columns, and nothing.
    pub fn mark(&mut self) {
        let Some(view) = self.rows.view_mut() else { return };
        let here = |marks| Some(Marked { row: view.row, column: view.column, marks });
        view.marked = match view.marked.map(|marked| (marked, marked.marks)) {
            None => here(Marks::Cells),
            Some((marked, Marks::Cells)) => Some(Marked { marks: Marks::Rows, ..marked }),
            Some((marked, Marks::Rows)) => Some(Marked { marks: Marks::Columns, ..marked }),
            Some((_, Marks::Columns | Marks::All)) => None,
        };
        let text = match view.marked.map(|marked| marked.marks) {
            Some(Marks::Cells) => "marking cells from here; m marks whole rows",
            Some(Marks::Rows) => "marking whole rows; m marks whole columns",
            Some(Marks::Columns | Marks::All) => "marking whole columns; m clears the marks",
            None => "marks cleared",
        };
        self.tell(text);
        self.add_up();
    }

    /// Marks everything.
    pub fn mark_all(&mut self) {
        if let Some(view) = self.rows.view_mut() {
            view.marked = Some(Marked { row: view.row, column: view.column, marks: Marks::All });
        }
        self.add_up();
    }

    /// Marks cells from a row and the place of a column on, unless something is marked.
    pub(in crate::app) fn begin_mark(&mut self, (row, column): (u64, usize)) {
        if let Some(view) = self.rows.view_mut() {
            view.marked.get_or_insert(Marked { row, column, marks: Marks::Cells });
        }
    }

    /// Stretches the marked cells.
    pub fn stretch(&mut self, rows: i64, columns: isize) {
        let view = self.rows.view();
        self.begin_mark((view.row, view.column));
        if rows != 0 {
            self.move_row(rows);
        }
        if columns != 0 {
            self.move_column(columns);
        }
    }

    /// Drops the mark; false if there was none.
    pub(in crate::app) fn unmark(&mut self) -> bool {
        self.rows.view_mut().is_some_and(|view| view.marked.take().is_some())
    }

    /// Finds out what the marked cells add up to.
    pub(in crate::app) fn add_up(&mut self) {
        let view = self.rows.view();
        let marked = view.marked(self.rows.total()).map(|(rows, columns)| (view.arranged.stamp, rows, columns));
        if self.rows.added == marked {
            return;
        }
        self.rows.added.clone_from(&marked);
        self.stop_works(|work| work.kind == Kind::Sums);
        self.rows.sums = None;
        let Some((_, rows, columns)) = marked else { return };
        let cells = (rows.end - rows.start) * columns.len() as u64;
        if !(2..=ADDED).contains(&cells) {
            self.rows.sums = (cells > 1).then(|| words::count(cells, "cell"));
            return;
        }
        let Some(part) = self.part(Meant::All) else { return };
        self.begin_work(Kind::Sums, "adding up".into(), move |progress| {
            Done::Sums(part().ok().and_then(|part| facts::sums(&part, progress).ok()))
        });
    }

    pub(in crate::app) fn take_sums(&mut self, sums: Option<facts::Sums>) {
        self.rows.sums = sums.map(|sums| {
            let mut text = words::count(sums.cells, "cell");
            if sums.nulls > 0 {
                text.push_str(&format!(" · {} ∅", words::number(sums.nulls)));
            }
            if let Some(numbers) = sums.numbers {
                text.push_str(&format!(" · sum {} · mean {}", numbers.sum, numbers.mean()));
            }
            text
        });
    }

    /// The part of the result that is meant, to be opened by a thread that may wait for the disk.
    fn part(&self, meant: Meant) -> Option<impl FnOnce() -> Opened + Send + use<>> {
        let view = self.rows.view();
        let kept = self.rows.kept().cloned()?;
        let all = || (0..u64::MAX, 0..view.columns.len());
        let (rows, places) = match (view.marked(self.rows.total()), meant) {
            (Some(marked), _) => marked,
            (None, Meant::Row) => (view.row..view.row + 1, 0..view.columns.len()),
            (None, Meant::All) => all(),
        };
        let columns: Vec<usize> = view.columns.get(places).unwrap_or_default().to_vec();
        // Columns that were not seen yet are not left out.
        let columns = (!columns.is_empty()).then_some(columns);
        let arrangement = view.arrangement();
        Some(move || {
            let archive = kept.archive()?;
            let of = arrangement.as_ref().map_or_else(|| archive.rows(), |arrangement| arrangement.len());
            Ok(Part { archive, arrangement, rows: rows.start.min(of)..rows.end.min(of), columns })
        })
    }

    /// The rows that a chart is drawn of: what is marked, or all that are shown.
    pub(in crate::app) fn part_for_chart(&self) -> Option<impl FnOnce() -> Opened + Send + use<>> {
        self.part(Meant::All)
    }

    fn copy_cell(&mut self) {
        let view = self.rows.view();
        if let Some(rows) = self.rows.kept().cloned() {
            let (row, column) = (view.row_of(view.row), view.column_in_hand());
            self.pager.ask(crate::pager::Wish::Cell { rows, row, column });
        }
    }

    /// Copies what is marked as it is shown, or else the whole value of the cell in hand.
    pub fn copy_cells(&mut self) {
        if self.rows.view().marked.is_none() {
            return self.copy_cell();
        }
        self.copy_as(Format::Tsv, false);
    }

    /// Lists the formats in which the marked cells, or the row in hand, can be copied.
    pub fn list_copies(&mut self) {
        self.list_formats("formats to copy in", Pick::CopyAs);
    }

    /// Lists the formats in which the marked cells, or the row in hand, can be put into the buffer.
    pub fn list_puts(&mut self) {
        self.list_formats("formats to put into the buffer", Pick::PutAs);
    }

    fn list_formats(&mut self, title: &'static str, pick: fn(Format) -> Pick) {
        if self.rows.kept().is_none() {
            return self.tell("no rows here");
        }
        let family = self.options().dialect.family;
        let texts = Format::ALL.iter().filter(|(format, ..)| format.is_text() && format.is_for(family));
        let items = texts.map(|(format, word, ..)| Item {
            label: (*word).to_owned(),
            key: String::new(),
            help: format.help(family).to_owned(),
            pick: pick(*format),
        });
        self.overlay = Some(Overlay::List(List::new(title, items.collect())));
    }

    pub(in crate::app) fn copy_as(&mut self, format: Format, header: bool) {
        let Some(part) = self.part_for(format) else { return };
        let options = Options { header, ..self.options() };
        self.begin_work(Kind::Write, "copying".into(), move |progress| {
            let copied = part().map_err(|error| error.to_string()).and_then(|part| {
                let rows = words::count(part.len(), "row");
                Ok((
                    text_of(&part, format, &options, progress)?,
                    format!("copied {rows} as {}", if format == Format::List { "a list" } else { format.word() }),
                ))
            });
            Done::Copied(copied)
        });
    }

    pub(in crate::app) fn put_as(&mut self, format: Format) {
        let Some(part) = self.part_for(format) else { return };
        let options = self.options();
        self.begin_work(Kind::Write, "copying".into(), move |progress| {
            let part = part().map_err(|error| error.to_string());
            Done::Written(part.and_then(|part| Ok((text_of(&part, format, &options, progress)?, format))))
        });
    }

    /// What is marked, or else the row in hand; with the key, where rows are found by it.
    fn part_for(&self, format: Format) -> Option<impl FnOnce() -> Opened + Send + use<>> {
        let (part, by_key) = (self.part(Meant::Row)?, matches!(format, Format::Update | Format::Delete));
        let key = if by_key { self.places_of_key() } else { Vec::new() };
        Some(move || {
            let mut part = part()?;
            if let Some(columns) = &mut part.columns {
                columns.retain(|column| !key.contains(column));
                columns.splice(0..0, key);
            }
            Ok(part)
        })
    }

    /// Which columns of the result are the key of the table that the column in hand comes from.
    fn places_of_key(&self) -> Vec<usize> {
        let (Some(origins), Some(table)) = (self.origins(), self.table_of_column()) else { return Vec::new() };
        let object = self.connection.catalog.as_ref().and_then(|catalog| catalog.relation(&table));
        let key = object.map(|object| object.primary_key()).unwrap_or_default();
        let place = |name: &&str| {
            origins.iter().position(|origin| origin.as_ref().is_some_and(|(of, column)| *of == table && column == name))
        };
        key.iter().filter_map(place).collect()
    }

    /// How formats are written here: statements in the buffer's dialect, about the table that the column in hand
    /// comes from.
    fn options(&self) -> Options {
        let dialect = self.buffer.document.outline().dialect();
        // Where the statement does not name it, the server may have told it with the rows.
        let mut options = Options { dialect, ..Options::default() };
        let Some(name) = self.table_of_column() else { return options };
        let Some(catalog) = self.connection.catalog.clone() else { return options };
        let catalog = catalog.as_ref();
        let object = catalog.relation(&name);
        if let (Some(object), Some(origins), Some(page)) = (object, self.origins(), self.rows.page()) {
            options.key = object.primary_key().into_iter().map(str::to_owned).collect();
            let settable = |column: &str| object.columns.iter().any(|c| c.name == *column && c.generated.is_none());
            let named = page.columns.iter().zip(origins).filter_map(|(head, origin)| {
                let (_, column) = origin.filter(|(table, _)| *table == name)?;
                (settable(&column) || options.key.contains(&column)).then(|| (head.name.clone(), column))
            });
            options.columns = Some(named.collect());
        }
        options.from = Some(match object {
            Some(object) if !templates::reaches(object, catalog) => vec![name.schema, name.name],
            _ => vec![name.name],
        });
        options
    }

    pub(in crate::app) fn folder_for_rows(&self) -> PathBuf {
        buffers::folder_for_rows(&self.folders, &self.buffer.path)
    }

    /// Asks where the result, or what is marked, is to be written.
    pub fn ask_for_export(&mut self) {
        self.ask_for_export_to(None);
    }

    pub(in crate::app) fn ask_for_export_to(&mut self, file: Option<&str>) {
        let Some(run) = self.rows.run().filter(|_| self.rows.kept().is_some()) else {
            return self.tell("no rows here");
        };
        let name = name_of(run.title.as_deref().unwrap_or_else(|| run.statement.lines().next().unwrap_or_default()));
        let what = match self.rows.view().marked {
            Some(_) => "the marked cells".to_owned(),
            None if run.outcome() == Outcome::Running => {
                format!("all rows, {} so far,", words::number(self.rows.total()))
            }
            None => words::count(self.rows.total(), "row"),
        };
        let endings: Vec<_> = Format::ALL.iter().filter_map(|(_, _, endings, _)| endings.first()).copied().collect();
        let folder = self.folder_for_rows();
        // Where that is not where the statement stands it is said.
        let place = match self.buffer.path.parent() == Some(&folder) {
            true => String::new(),
            false => format!(" in {}", folder.display()),
        };
        let title = format!("export {what} to a file{place}; its ending sets the format: {}", endings.join(" "));
        let file = file.map_or_else(|| format!("{name}.csv"), str::to_owned);
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::Export, file)));
    }

    pub(in crate::app) fn export(&mut self, text: &str, over: bool) {
        let dialect = self.buffer.document.outline().dialect();
        let target = match Target::read(text, dialect) {
            Ok(Target { file: Some(file), format, options }) => {
                (path::written(&file, &self.folder_for_rows()), format, options)
            }
            other => {
                let message = other.err().map_or("name a file, such as sailings.csv".to_owned(), |error| error.message);
                self.tell_wrong(message);
                return self.ask_for_export_to(Some(text));
            }
        };
        self.save_to(target, (!over).then(|| text.to_owned()));
    }

    /// Writes the rows of a run where its out-lines send them.
    pub(in crate::app) fn send_out(&mut self, run: &Run) {
        let targets = run.take_out();
        let Some((first, _)) = targets.first() else { return };
        if run.outcome() != Outcome::Done || run.all_rows().is_empty() {
            let why = match run.outcome() {
                Outcome::Done => "the statement returned no rows".to_owned(),
                other => format!("the run was {}", other.word()),
            };
            return self.tell_wrong(format!("{} is unchanged: {why}", first.display()));
        }
        for (path, Target { format, options, .. }, kept) in run.files_of(targets) {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            self.begin_work(Kind::Write, format!("writing {name}"), move |progress| {
                let archive = kept.archive().map_err(|error| error.to_string());
                let saved =
                    archive.and_then(|archive| saved_to(&Part::whole(archive), (&path, format, &options), progress));
                Done::Saved(saved)
            });
        }
    }

    /// What was asked for would replace a file.
    pub(in crate::app) fn ask_to_replace_file(&mut self, path: &Path, text: String, answered: Answered) {
        let answers = &[('r', "replace it", answered)];
        let question = Question::new(format!("{} already exists.", path.display()), answers);
        self.overlay = Some(Overlay::Question(Question { export: text, ..question }));
    }

    /// Writes to a file. With the text that asked for it, a file that is there already stays.
    fn save_to(&mut self, (path, format, mut options): (PathBuf, Format, Options), careful: Option<String>) {
        let (Some(part), Some(run)) = (self.part(Meant::All), self.rows.run().cloned()) else { return };
        options.texts = run.texts();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        self.begin_work(Kind::Write, format!("exporting {name}"), move |progress| {
            if let Some(text) = careful.filter(|_| path.exists()) {
                return Done::IsThere(path, text, Answered::Export);
            }
            // Rows that are still to come are part of it.
            wait_for_rest(&run, progress);
            let saved = part().map_err(|error| error.to_string());
            let saved = saved.and_then(|part| saved_to(&part, (&path, format, &options), progress));
            let short = match run.outcome() {
                Outcome::Done => String::new(),
                other => format!(" (the run was {})", other.word()),
            };
            Done::Saved(saved.map(|text| format!("{text}{short}")))
        });
    }
}

/// Writes a part of a result to a file; returns what to say about it.
fn saved_to(
    part: &Part,
    (path, format, options): (&Path, Format, &Options),
    progress: &Progress,
) -> Result<String, String> {
    let rows = save(part, path, format, options, progress).map_err(|error| error.to_string())?;
    let size = std::fs::metadata(path).map_or(0, |data| data.len());
    Ok(format!("{} in {}, {}", words::count(rows, "row"), path.display(), words::bytes(size)))
}

/// A part of a result as text, if it is not too much.
fn text_of(part: &Part, format: Format, options: &Options, progress: &Progress) -> Result<String, String> {
    let mut out = Bounded(Vec::new());
    write(part, format, options, &mut out, progress).map_err(|error| error.to_string())?;
    String::from_utf8(out.0).map_err(|error| error.to_string())
}

/// Takes so much and no more.
struct Bounded(Vec<u8>);

impl std::io::Write for Bounded {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        if self.0.len() + bytes.len() > MOST {
            let message = format!("this is more than {}; export it to a file", words::bytes(MOST as u64));
            return Err(std::io::Error::other(message));
        }
        self.0.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
