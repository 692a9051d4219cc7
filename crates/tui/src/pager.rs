//! The thread that reads pages of archives and makes them ready for the screen, so that the
//! interface never waits for the disk.

use std::ops::Range;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};

use jaunty_core::archive::{ArchiveError, Window};
use jaunty_core::arrange::Arrangement;
use jaunty_core::export::extended;
use jaunty_core::run::kept::KeptRows;
use jaunty_language::text::clean;
use jaunty_seam::rows::cell::{CellKind, ColumnReader, type_name};
use jaunty_seam::rows::origin::Origin;

use crate::row::{Field, LONGEST, Line, lay_out};

/// The widest that a cell is made ready for; more is never shown in a table.
pub const WIDEST: usize = 200;

/// A wish for rows.
#[derive(Debug, Clone)]
pub enum Wish {
    /// A page for the screen.
    Page {
        /// The number of the pane that wants it.
        pane: u8,
        /// Where from.
        rows: Arc<KeptRows>,
        /// The order of the rows, unless it is their own.
        arrangement: Option<Arc<Arrangement>>,
        /// The number of that order.
        stamp: u64,
        /// The first row, from 0.
        from: u64,
        /// How many.
        count: usize,
    },
    /// One whole value, for the clipboard.
    Cell {
        /// Where from.
        rows: Arc<KeptRows>,
        /// The row, from 0, as the archive counts.
        row: u64,
        /// The column, from 0.
        column: usize,
    },
    /// A whole row, or one of its values, to be looked at.
    Row {
        /// Where from.
        rows: Arc<KeptRows>,
        /// The row, from 0, as the archive counts.
        row: u64,
        /// The column that is wanted alone.
        alone: Option<usize>,
        /// The byte from which on that is read.
        from: u64,
        /// The columns of the screen that there are for it.
        width: u16,
    },
}

impl Wish {
    /// Whether nobody waits for an earlier wish any more where this one follows.
    fn replaces(&self, earlier: &Wish) -> bool {
        match (self, earlier) {
            (Wish::Page { pane, .. }, Wish::Page { pane: before, .. }) => pane == before,
            (Wish::Row { .. }, Wish::Row { .. }) => true,
            _ => false,
        }
    }
}

/// What came of a wish.
#[derive(Debug)]
pub enum Answer {
    /// A page.
    Page(Page),
    /// One whole value, as it came.
    Cell(String),
    /// A row, or a value of it.
    Row(RowAnswer),
    /// It could not be read.
    Failed(PathBuf, String),
}

/// Rows, ready to be painted.
#[derive(Debug, Clone, Default)]
pub struct Page {
    /// The pane that wanted it.
    pub pane: u8,
    /// The archive they are from.
    pub path: PathBuf,
    /// The number of the order that they are in.
    pub stamp: u64,
    /// The number of the first row, from 0.
    pub from: u64,
    /// All rows at that time.
    pub of: u64,
    /// The columns.
    pub columns: Vec<Head>,
    /// The rows.
    pub rows: Vec<Vec<Shown>>,
}

/// A column's head.
#[derive(Debug, Clone)]
pub struct Head {
    /// Its name, cleaned.
    pub name: String,
    /// Its type, cleaned.
    pub type_name: String,
    /// Whether its values stand to the right.
    pub right: bool,
    /// The widest of its name, type and values on this page, in cells.
    pub width: usize,
}

/// A value, cleaned.
#[derive(Debug, Clone)]
pub struct Shown {
    /// What it is.
    pub kind: CellKind,
    /// Its text, at most [`WIDEST`] cells.
    pub text: String,
    /// Its width in cells.
    pub width: usize,
    /// Whether there is more of it.
    pub cut: bool,
}

/// A row, or a value of it, that was looked at.
#[derive(Debug)]
pub struct RowAnswer {
    /// The archive.
    pub path: PathBuf,
    /// The row, from 0, as the archive counts.
    pub row: u64,
    /// The column that was wanted alone.
    pub alone: Option<usize>,
    /// The byte from which on that was read.
    pub from: u64,
    /// All values.
    pub fields: Vec<Field>,
    /// Those that were wanted, laid out.
    pub lines: Vec<Line>,
}

/// The thread, as others see it.
#[derive(Debug)]
pub struct Pager {
    wishes: Sender<Wish>,
}

impl Pager {
    /// Starts the thread; answers go to `tell`.
    pub fn start(tell: impl Fn(Answer) + Send + 'static) -> std::io::Result<Pager> {
        let (wishes, inbox) = channel();
        std::thread::Builder::new().name("pages".into()).spawn(move || work(&inbox, tell))?;
        Ok(Pager { wishes })
    }

    /// Asks for rows. Of several pages asked for by one pane in a hurry, only the last is read.
    pub fn ask(&self, wish: Wish) {
        let _ = self.wishes.send(wish);
    }
}

fn work(inbox: &Receiver<Wish>, tell: impl Fn(Answer)) {
    while let Ok(mut wish) = inbox.recv() {
        while let Ok(newer) = inbox.try_recv() {
            if !newer.replaces(&wish) {
                tell(answer(&wish));
            }
            wish = newer;
        }
        tell(answer(&wish));
    }
}

fn answer(wish: &Wish) -> Answer {
    let (rows, answered) = match wish {
        Wish::Page { pane, rows, arrangement, stamp, from, count } => {
            let page = page(rows, arrangement.as_deref(), *from, *count);
            (rows, page.map(|page| Answer::Page(Page { pane: *pane, stamp: *stamp, ..page })))
        }
        Wish::Row { rows, row, alone, from, width } => {
            (rows, row_of(rows, *row, *alone, *from, *width).map(Answer::Row))
        }
        Wish::Cell { rows, row, column } => (rows, cell(rows, *row, *column).map(Answer::Cell)),
    };
    answered.unwrap_or_else(|error| Answer::Failed(rows.path().to_owned(), error.to_string()))
}

/// So many bytes of a long value are read for a table: far more than there is room for.
const GLIMPSE: u64 = 64 << 10;

/// Reads a page and makes it ready.
pub fn page(rows: &KeptRows, arrangement: Option<&Arrangement>, from: u64, count: usize) -> Result<Page, ArchiveError> {
    let archive = rows.archive()?;
    let (of, schema, batches) = match arrangement {
        Some(arrangement) => {
            let batch = archive.gather_glimpse(arrangement.rows(from, count), GLIMPSE)?;
            (arrangement.len(), batch.schema(), vec![batch])
        }
        None => {
            let page = archive.glimpse(from, count, GLIMPSE)?;
            (page.of, page.schema, page.batches)
        }
    };
    let mut columns: Vec<Head> = Vec::new();
    for field in schema.fields() {
        let (name, type_name) = (clean::clean(field.name()).into_owned(), clean::clean(&type_name(field)).into_owned());
        let width = clean::width(&name).max(clean::width(&type_name));
        columns.push(Head { name, type_name, right: field.data_type().is_numeric(), width: width.min(WIDEST) });
    }
    let mut shown = Vec::with_capacity(count);
    for batch in &batches {
        let readers = ColumnReader::all(batch);
        for row in 0..batch.num_rows() {
            let mut cells = Vec::with_capacity(readers.len());
            for (reader, head) in readers.iter().zip(&mut columns) {
                let cell = reader.get(row);
                let fitted = clean::fit(&cell.text, WIDEST);
                // A cut value needs a cell for the mark that says so.
                head.width = head.width.max(fitted.width + usize::from(fitted.cut));
                cells.push(Shown { kind: cell.kind, text: fitted.text, width: fitted.width, cut: fitted.cut });
            }
            shown.push(cells);
        }
    }
    Ok(Page { pane: 0, path: rows.path().to_owned(), stamp: 0, from, of, columns, rows: shown })
}

/// Reads a row, and lays it out, or one of its values, on so many columns of the screen. A long value that is looked
/// at alone is read from byte `from` on.
/// In the place of a column: the whole row as one document of JSON.
pub const AS_JSON: usize = usize::MAX;
/// The same, with the type of every number.
pub const AS_CANONICAL_JSON: usize = usize::MAX - 1;

/// Whether all of a row is meant, as JSON.
pub fn is_json(column: usize) -> bool {
    matches!(column, AS_JSON | AS_CANONICAL_JSON)
}

/// A row as JSON.
fn json_of(rows: &KeptRows, row: u64, column: usize) -> Result<String, ArchiveError> {
    let page = rows.archive()?.page(row, 1)?;
    let Some(batch) = page.batches.first() else { return Ok(String::new()) };
    // Memory can always be written to: an error is one of ours, and better seen than hidden.
    Ok(extended::document(batch, 0, column == AS_CANONICAL_JSON).unwrap_or_else(|error| error.to_string()))
}

fn row_of(rows: &KeptRows, row: u64, alone: Option<usize>, from: u64, width: u16) -> Result<RowAnswer, ArchiveError> {
    if let Some(column) = alone.filter(|column| is_json(*column)) {
        let whole = json_of(rows, row, column)?;
        let (text, part) = part_of(&whole, 1, from);
        let type_name = if column == AS_JSON { "JSON" } else { "JSON with all types" }.to_owned();
        let bytes = whole.len() as u64;
        let fields = vec![Field { name: "row".into(), type_name, origin: None, kind: CellKind::Text, bytes, part }];
        let lines = lay_out(&fields, &[text.to_owned()], Some(0), width);
        return Ok(RowAnswer { path: rows.path().to_owned(), row, alone, from, fields, lines });
    }
    let window = Window { from: (alone.unwrap_or(0), from), most: LONGEST };
    let (mut fields, mut texts) = (Vec::new(), Vec::new());
    if let Some((batch, cuts)) = rows.archive()?.row_through(row, window)? {
        for (column, (values, field)) in batch.columns().iter().zip(batch.schema_ref().fields()).enumerate() {
            let cell = ColumnReader::of(values, field).get(0);
            let each = if cell.kind == CellKind::Binary { 2 } else { 1 };
            let cut = cuts.iter().find(|cut| cut.column == column);
            let first = if alone == Some(column) { from } else { 0 };
            let (text, part, bytes) = match cut {
                Some(cut) => {
                    let part = cut.from..cut.from + cut_bytes(&cell.text, each);
                    (cell.text.into_owned(), part, cut.length)
                }
                None => {
                    let (text, part) = part_of(&cell.text, each, first);
                    (text.to_owned(), part, cut_bytes(&cell.text, each))
                }
            };
            fields.push(Field {
                name: clean::clean(field.name()).into_owned(),
                type_name: clean::clean(&type_name(field)).into_owned(),
                origin: Origin::of(field),
                kind: cell.kind,
                bytes,
                part,
            });
            texts.push(text);
        }
    }
    let lines = lay_out(&fields, &texts, alone, width);
    Ok(RowAnswer { path: rows.path().to_owned(), row, alone, from, fields, lines })
}

/// How many bytes of a value a text of it stands for, each written as so many characters.
fn cut_bytes(text: &str, each: usize) -> u64 {
    let digits = if each == 2 { text.trim_start_matches("\\x") } else { text };
    (digits.len() / each) as u64
}

/// The part of a value that begins at a byte, as far as it is shown at a time: its text, and the bytes that it
/// stands for.
fn part_of(text: &str, each: usize, from: u64) -> (&str, Range<u64>) {
    let text = if each == 2 { text.trim_start_matches("\\x") } else { text };
    let end = from.saturating_add(LONGEST);
    let place = |at: u64| {
        let at = usize::try_from(at).unwrap_or(usize::MAX).saturating_mul(each).min(text.len());
        text.floor_char_boundary(at)
    };
    let (from, end) = (place(from), place(end));
    (text.get(from..end).unwrap_or_default(), (from / each) as u64..(end / each) as u64)
}

fn cell(rows: &KeptRows, row: u64, column: usize) -> Result<String, ArchiveError> {
    if is_json(column) {
        return json_of(rows, row, column);
    }
    let page = rows.archive()?.page(row, 1)?;
    let batch = page.batches.first();
    let values = batch.and_then(|batch| Some((batch.columns().get(column)?, batch.schema_ref().fields().get(column)?)));
    Ok(values.map_or_else(String::new, |(values, field)| {
        let cell = ColumnReader::of(values, field).get(0);
        if cell.kind == CellKind::Null { String::new() } else { cell.text.into_owned() }
    }))
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc::channel;

    use jaunty_core::archive::Writer;
    use jaunty_seam::rows::assemble::{Announced, Assembler, Value};

    use super::*;

    /// A thousand rows of a number, a text of so many cells, and nothing.
    fn kept(folder: &std::path::Path, wide: usize) -> Arc<KeptRows> {
        let column = |name: &str, db_type: &str| Announced {
            name: name.into(),
            db_type: db_type.into(),
            ..Announced::default()
        };
        let mut assembler = Assembler::new(vec![column("n\x1b[1m", "INT"), column("text", ""), column("none", "")]);
        let text = "名".repeat(wide / 2);
        for n in 0..1000 {
            let value = |column| match column {
                0 => Value::Int(n),
                1 => Value::Text(&text),
                _ => Value::Null,
            };
            assembler.push_row(value).unwrap();
        }
        let batch = assembler.take().unwrap();
        let mut writer = Writer::create(&folder.join("a.arrow"), &batch.schema()).unwrap();
        writer.write(&batch).unwrap();
        let path = writer.archive().path().to_owned();
        writer.finish().unwrap();
        Arc::new(KeptRows::closed(path))
    }

    #[test]
    fn a_page_is_ready_for_the_screen() {
        let folder = tempfile::tempdir().unwrap();
        let page = page(&kept(folder.path(), 30), None, 990, 40).unwrap();
        assert_eq!((page.from, page.of, page.rows.len()), (990, 1000, 10));
        let heads: Vec<_> =
            page.columns.iter().map(|c| (c.name.as_str(), c.type_name.as_str(), c.right, c.width)).collect();
        assert_eq!(heads, [("n␛[1m", "int", true, 5), ("text", "text", false, 30), ("none", "", false, 4)]);
        let cells: Vec<_> = page.rows[0].iter().map(|c| (c.kind, c.width, c.cut)).collect();
        assert_eq!(cells, [(CellKind::Number, 3, false), (CellKind::Text, 30, false), (CellKind::Null, 1, false)]);
    }

    #[test]
    fn a_value_that_is_too_wide_is_cut_and_says_so() {
        let folder = tempfile::tempdir().unwrap();
        let page = page(&kept(folder.path(), 4000), None, 0, 1).unwrap();
        let cell = &page.rows[0][1];
        assert!(cell.cut && cell.width <= WIDEST);
        assert_eq!(page.columns[1].width, cell.width + 1, "with room for the mark");
    }

    #[test]
    fn of_pages_asked_for_in_a_hurry_the_last_one_comes() {
        let folder = tempfile::tempdir().unwrap();
        let rows = kept(folder.path(), 10);
        let (post, answers) = channel();
        let pager = Pager::start(move |answer| drop(post.send(answer))).unwrap();
        for from in 0..200 {
            let pane = (from == 0).into();
            pager.ask(Wish::Page { pane, rows: Arc::clone(&rows), arrangement: None, stamp: 0, from, count: 5 });
        }
        pager.ask(Wish::Cell { rows: Arc::clone(&rows), row: 7, column: 0 });
        let (mut last, mut of_other) = (None, None);
        loop {
            match answers.recv_timeout(std::time::Duration::from_secs(60)).unwrap() {
                Answer::Page(page) if page.pane == 1 => of_other = Some(page.from),
                Answer::Page(page) => last = Some(page.from),
                Answer::Cell(text) => break assert_eq!(text, "7"),
                Answer::Row(..) => panic!("nobody asked"),
                Answer::Failed(path, error) => panic!("{}: {error}", path.display()),
            }
        }
        assert_eq!((last, of_other), (Some(199), Some(0)), "each pane has its own");
    }

    #[test]
    fn an_archive_that_is_gone_is_told() {
        let gone = Arc::new(KeptRows::closed("/nowhere/a.arrow".into()));
        let (post, answers) = channel();
        let pager = Pager::start(move |answer| drop(post.send(answer))).unwrap();
        pager.ask(Wish::Page { pane: 0, rows: gone, arrangement: None, stamp: 0, from: 0, count: 5 });
        let Ok(Answer::Failed(_, error)) = answers.recv_timeout(std::time::Duration::from_secs(60)) else {
            panic!("it came")
        };
        assert!(error.contains("/nowhere/a.arrow cannot be read"), "{error}");
    }
}
