//! Loading a file into a table: what it is, where its columns go and which rows do not fit, seen before anything is loaded.

mod loading;
mod pasted;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::time::Instant;

use jaunty_core::files::parts::Held;
use jaunty_core::import::preview::{Into, Preview};
use jaunty_core::import::{Choices, Dates, Format, Numbers, Parts};
use jaunty_language::dialect::Family;
use jaunty_seam::engine::Stop;
use jaunty_seam::engine::load::Meeting;
use jaunty_seam::profile::{Guard, Profile, path};

use self::pasted::PASTED;
use super::{After, Layer};
use crate::action::Scope;
use crate::app::App;
use crate::line::{Edit, Line, LineEdit, LinePlace};
use crate::work::Kind;

/// Something that a person says of a load.
#[derive(Debug)]
pub struct ImportField {
    /// Its name.
    pub name: &'static str,
    /// What was filled in.
    pub line: Line,
    /// What it may be, where it is one of several.
    pub words: &'static [&'static str],
    /// What counts where nothing is filled in.
    pub usual: String,
    /// A line about it.
    pub help: &'static str,
}

/// A name, its words, what counts where nothing is filled in, and a line about it.
type Declared = (&'static str, &'static [&'static str], &'static str, &'static str);

const FIELDS: &[Declared] = &[
    ("file", &[], "", "the file; a paste of several lines is taken as rows"),
    ("into", &[], "", "the table, with its schema where that is needed; one that is not there is made"),
    ("format", &["", "csv", "jsonl", "json", "parquet", "arrow", "xlsx"], "detected", "what the file is"),
    ("sheet", &[], "the first with rows", "the sheet of a workbook"),
    (
        "separator",
        &["", "comma", "semicolon", "tab", "pipe"],
        "detected",
        "the separator of fields; or any one character",
    ),
    ("skip", &[], "0", "lines above the rows, such as a title, to pass over"),
    ("header", &["", "yes", "no"], "detected", "whether the first row has the names"),
    ("encoding", &[], "detected", "such as utf-8, utf-16le, windows-1252"),
    ("null", &[], "empty without quotes", "a text that means NULL, too"),
    ("dates", &["", "ymd", "dmy", "mdy"], "detected", "the order of day, month and year in dates"),
    (
        "decimal",
        &["", "comma", "point"],
        "detected",
        "the sign before the fraction: comma (1.234,5) or point (1,234.5)",
    ),
    ("key", &[], "none", "the key of a table that is made; several with commas between them"),
    (
        "conflict",
        &["", "skip", "replace"],
        "stop",
        "what to do with a row whose key already exists: stop, skip, replace",
    ),
    (
        "refused",
        &[],
        "the first stops the load",
        "a file for rows that do not fit, with the reason; the others are loaded",
    ),
    ("parts", &[], "all or none", "commit after so many rows"),
];

/// What is said of fields where rows become keys, by their names.
const OF_KEYS: &[(&str, &str)] = &[
    ("into", "the keys, a * in the place of each row's own: port:*, set fare:* ex 600, rpush waiting"),
    ("key", "the columns that go in the places of the *, in their order, with commas between them"),
];

/// A load that goes on.
#[derive(Debug)]
pub struct Loading {
    /// Since when.
    pub since: Instant,
    /// How many rows were sent.
    pub rows: Arc<AtomicU64>,
    /// How many bytes of the file were read, and of how many.
    pub read: Arc<AtomicU64>,
    /// The size of the file.
    pub size: Option<u64>,
    stop: Stop,
}

/// A load, before it is one and while it goes on.
#[derive(Debug)]
pub struct ImportView {
    /// The connection that it goes to.
    pub profile: Profile,
    /// Whether its rows become keys, and not rows of a table.
    pub of_keys: bool,
    /// What is said of it.
    pub fields: Vec<ImportField>,
    /// Each column of the file, with the name of the table's column that it goes into: empty for none.
    pub columns: Vec<(String, Line)>,
    /// Which of these a person has written.
    touched: Vec<bool>,
    /// The field in hand; behind the fields the columns.
    pub chosen: usize,
    /// What would be loaded.
    pub preview: Option<Result<Box<Preview>, String>>,
    /// Whether that is being found out.
    pub reading: bool,
    /// Whether a yes is wanted before it is loaded.
    pub asks: bool,
    /// What goes on.
    pub loading: Option<Loading>,
    /// It is loaded as soon as the file has been looked at.
    pub goes_on: bool,
    /// How it ended.
    pub ended: Option<Result<String, String>>,
    /// What the preview is of.
    made_of: String,
    pasted: Option<Arc<Held>>,
}

/// What is loaded, as a thread takes it along.
struct Wanted {
    path: PathBuf,
    choices: Choices,
    into: Into,
    meeting: Meeting,
    refused: Option<PathBuf>,
    parts: Parts,
}

impl ImportView {
    fn new(profile: Profile, family: Family, file: &str, table: &str) -> ImportView {
        let of_keys = family == Family::Commands;
        let field = |(name, words, usual, help): &Declared| {
            let help = OF_KEYS.iter().find(|(of, _)| of_keys && of == name).map_or(*help, |(_, help)| help);
            let text = match *name {
                "file" => file,
                "into" => table,
                _ => "",
            };
            ImportField { name, line: Line::offered(text.to_owned()), words, usual: (*usual).to_owned(), help }
        };
        ImportView {
            profile,
            of_keys,
            fields: FIELDS.iter().map(field).collect(),
            columns: Vec::new(),
            touched: Vec::new(),
            chosen: 0,
            preview: None,
            reading: false,
            asks: false,
            loading: None,
            goes_on: false,
            ended: None,
            made_of: String::new(),
            pasted: None,
        }
    }

    fn text(&self, name: &str) -> &str {
        self.fields.iter().find(|field| field.name == name).map_or("", |field| field.line.text().trim())
    }

    /// How many lines there are to go to.
    pub fn count(&self) -> usize {
        self.fields.len() + self.columns.len()
    }

    /// A line about the one in hand.
    pub fn help(&self) -> &'static str {
        match self.fields.get(self.chosen) {
            Some(field) => field.help,
            None if self.of_keys => {
                "the field that it becomes; nothing leaves it out. What is of the key has its place there"
            }
            None => {
                "the column of the table that it goes into; nothing leaves it out. A new table takes \"code: char(5)\""
            }
        }
    }

    fn wanted(&self, folder: &Path) -> Result<Wanted, String> {
        let file = match &self.pasted {
            Some(pasted) if self.text("file") == PASTED => pasted.path().to_owned(),
            _ if self.text("file").is_empty() => return Err("name a file, or paste rows here".into()),
            _ => path::written(Path::new(self.text("file")), folder),
        };
        let given = |name: &str| Some(self.text(name)).filter(|text| !text.is_empty());
        let separator = match given("separator") {
            None => None,
            Some("tab") => Some(b'\t'),
            Some("comma") => Some(b','),
            Some("semicolon") => Some(b';'),
            Some("pipe") => Some(b'|'),
            Some(one) if one.len() == 1 => one.bytes().next(),
            Some(_) => return Err("separator: one character, or comma, semicolon, tab, pipe".into()),
        };
        let encoding = match given("encoding") {
            None => None,
            Some(name) => Some(
                Choices::encoding_of(name)
                    .ok_or_else(|| format!("encoding: \"{name}\" is not known; utf-8, windows-1252 and others are"))?,
            ),
        };
        let parts = match given("parts").map(|text| text.replace([' ', ','], "").parse::<u64>()) {
            None => Parts::One,
            Some(Ok(rows)) if rows > 0 => Parts::Of(rows),
            Some(_) => return Err("parts: a number of rows".into()),
        };
        let skip = match given("skip").map(str::parse::<u64>) {
            None => 0,
            Some(Ok(lines)) => lines,
            Some(Err(_)) => return Err("skip: a number of lines".into()),
        };
        let list =
            |text: &str| text.split(',').map(|name| name.trim().to_owned()).filter(|name| !name.is_empty()).collect();
        let touched = self.columns.iter().zip(&self.touched).filter(|(_, touched)| **touched);
        let touched: Vec<(&str, &str, Option<&str>)> =
            touched.map(|((file, line), _)| (file.as_str(), named(line.text()).0, named(line.text()).1)).collect();
        let owned = |(file, text): (&str, &str)| (file.to_owned(), text.to_owned());
        Ok(Wanted {
            path: file,
            choices: Choices {
                format: given("format").and_then(Format::of_word),
                separator,
                quote: None,
                encoding,
                header: given("header").map(|word| word == "yes"),
                null: given("null").map(str::to_owned),
                dates: given("dates").and_then(Dates::of_word),
                numbers: given("decimal").and_then(Numbers::of_word),
                sheet: given("sheet").map(str::to_owned),
                skip,
            },
            into: Into {
                table: self.text("into").to_owned(),
                pairs: touched.iter().map(|(file, to, _)| owned((*file, *to))).collect(),
                types: touched.iter().filter_map(|(file, _, of)| Some(owned((*file, (*of)?)))).collect(),
                key: list(self.text("key")),
            },
            meeting: match self.text("conflict") {
                "skip" => Meeting::Skip,
                "replace" => Meeting::Replace,
                _ => Meeting::Refuse,
            },
            refused: given("refused").map(|text| path::written(Path::new(text), folder)),
            parts,
        })
    }

    /// What the preview depends on.
    fn snapshot(&self) -> String {
        let fields = self.fields.iter().map(|field| field.line.text());
        let columns = self.columns.iter().zip(&self.touched).filter(|(_, touched)| **touched);
        fields.chain(columns.map(|((_, line), _)| line.text())).collect::<Vec<_>>().join("\u{1f}")
    }

    fn line_mut(&mut self) -> Option<&mut Line> {
        let fields = self.fields.len();
        match self.fields.get_mut(self.chosen) {
            Some(field) => Some(&mut field.line),
            None => self.columns.get_mut(self.chosen.checked_sub(fields)?).map(|(_, line)| line),
        }
    }

    /// Takes the next of a field's words. False if it has none.
    fn turn(&mut self, by: isize) -> bool {
        let Some(field) = self.fields.get_mut(self.chosen).filter(|field| !field.words.is_empty()) else {
            return false;
        };
        let at = field.words.iter().position(|word| *word == field.line.text()).unwrap_or(0);
        let next = (at as isize + by).rem_euclid(field.words.len() as isize) as usize;
        field.line = Line::from(field.words[next]);
        true
    }

    /// Loads it; where the connection asks first, the second time.
    pub(crate) fn load(&mut self, app: &mut App) {
        if self.loading.is_some() {
            return;
        }
        // A key that was pressed twice would load the same rows twice.
        const ONCE: &str = " · these rows are loaded; change something here to load again";
        if let Some(Ok(said)) = &mut self.ended {
            if !said.ends_with(ONCE) {
                said.push_str(ONCE);
            }
            return;
        }
        match &self.preview {
            // Whoever was too early need not press it again.
            None => return self.goes_on = true,
            _ if self.reading => return self.goes_on = true,
            Some(Ok(preview)) => {
                if let Err(error) = &preview.matching {
                    return self.fail(error.to_string());
                }
            }
            // Why it cannot be read stands there.
            Some(Err(_)) => return,
        }
        if self.profile.guard == Guard::Ask && !self.asks {
            self.asks = true;
            return;
        }
        self.asks = false;
        match self.wanted(&app.folder_for_rows()) {
            Ok(wanted) => self.loading = app.begin_load(&self.profile, wanted, self.pasted.clone()),
            Err(error) => self.fail(error),
        }
    }

    fn fail(&mut self, error: String) {
        self.ended = Some(Err(error));
    }
}

/// The name of a column, and the type that it is to have, written as `code: char(5)`.
fn named(text: &str) -> (&str, Option<&str>) {
    match text.split_once(": ") {
        Some((name, of)) if !of.trim().is_empty() => (name.trim(), Some(of.trim())),
        _ => (text.trim(), None),
    }
}

impl Layer for ImportView {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::ImportView)
    }

    fn takes_text(&self) -> bool {
        self.loading.is_none()
    }

    fn line(&mut self) -> Option<&mut Line> {
        self.line_mut()
    }

    fn line_changed(&mut self) {
        let column = self.chosen.checked_sub(self.fields.len());
        if let Some(touched) = column.and_then(|at| self.touched.get_mut(at)) {
            *touched = true;
        }
        (self.ended, self.asks, self.goes_on) = (None, false, false);
    }

    fn edit(&mut self, edit: LineEdit) {
        let turned = match edit {
            LineEdit::Go(LinePlace::Left) => self.turn(-1),
            LineEdit::Go(LinePlace::Right) => self.turn(1),
            _ => false,
        };
        if turned || self.line_mut().is_some_and(|line| line.edit(edit) == Edit::Changed) {
            self.line_changed();
        }
    }

    /// Several lines are rows; one is text for the line.
    fn paste(&mut self, text: &str) {
        match text.trim_end().lines().count() {
            0 | 1 => self.type_text(text.trim()),
            _ => self.take_rows(text),
        }
    }

    fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.count().saturating_sub(1));
    }

    fn accept(&mut self, _: &mut App) -> After {
        self.move_by(1);
        After::Stay
    }

    fn close(&mut self, app: &mut App) -> After {
        match &self.loading {
            Some(loading) => {
                loading.stop.wish();
                After::Stay
            }
            None => {
                app.stop_works(|work| matches!(work.kind, Kind::Import | Kind::Clipboard));
                After::Close
            }
        }
    }
}
