//! Statements of document databases: collections, verbs, stages, paths, operators.
//!
//! [`Reading`] says in which brackets the cursor stands and behind which names; [`Place`] what that means.

use super::about::{About, column_line, table_about};
use super::{Completion, Found, Kind, Surroundings, escaped, finish};
use jaunty_language::dialect::documents::operators::{self, Entry};
use jaunty_language::dialect::documents::read::Value;
use jaunty_language::dialect::documents::statement::{self, VERBS};
use jaunty_language::edit::snippet::Snippet;
use jaunty_seam::catalog::Object;

/// What could be written at byte `cursor` of a statement.
pub(super) fn complete(text: &str, cursor: usize, around: Surroundings<'_>) -> Completion {
    let Some(reading) = Reading::of(text.get(..cursor).unwrap_or(text)) else { return Completion::default() };
    let rest = text.get(cursor..).unwrap_or_default();
    let ends = |c: char| if reading.quote.is_some() { Some(c) == reading.quote || c == '\n' } else { !is_of_word(c) };
    let behind = cursor + rest.find(ends).unwrap_or(rest.len());
    let colon = text.get(behind..).is_some_and(|rest| rest.trim_start_matches([' ', '"', '\'']).starts_with(':'));
    let collection = reading
        .collection()
        .and_then(|name| around.catalog.objects().iter().find(|object| object.kind.has_rows() && object.name == name));
    let mut writer = Writer {
        found: Found { typed: reading.typed.clone(), all: Vec::new(), seen: Default::default() },
        quoted: reading.quote.is_some(),
        colon,
        around,
        collection,
    };
    let place = reading.place();
    let eager = !matches!(place, Place::Start | Place::Verb | Place::Words(_) | Place::Nothing | Place::Value(_));
    writer.propose(&place);
    let mut completion = finish(reading.from..behind, writer.found);
    completion.eager = eager;
    completion
}

/// What is known of the word at byte `cursor`.
pub(super) fn about(text: &str, cursor: usize, around: Surroundings<'_>) -> Option<About> {
    let (head, rest) = text.split_at_checked(cursor)?;
    let end = cursor + rest.find(|c| !is_of_word(c)).unwrap_or(rest.len());
    let start = head.rfind(|c| !is_of_word(c)).map_or(0, |at| at + head.get(at..).map_or(1, first_length));
    let word = text.get(start..end).filter(|word| !word.is_empty())?;
    let reading = Reading::of(text.get(..end)?)?;
    let catalog = around.catalog;
    let named = |name: &str| catalog.objects().iter().find(|object| object.kind.has_rows() && object.name == name);
    let of_entry = |entry: &Entry, name: &str, colon: &str| {
        let value = Snippet::plain(entry.value);
        let title = if value.is_empty() { name.to_owned() } else { format!("{name}{colon} {value}") };
        Some(About { title, lines: vec![entry.text.to_owned()], table: None })
    };
    let find = |entries: &'static [Entry], name: &str| entries.iter().find(|entry| entry.name == name);
    // What the server gets for the short form.
    let sent = || {
        let command = statement::command(text).ok().filter(|_| !text.trim_start().starts_with('{'))?;
        Some(format!("sent as {}", statement::written(&Value::Object(command))))
    };
    match reading.place() {
        Place::Start | Place::Collection => {
            let mut found = table_about(named(word)?, catalog, around.dialect);
            found.lines.extend(sent());
            return Some(found);
        }
        Place::Verb => {
            let verb = VERBS.iter().find(|verb| verb.name == word)?;
            let lines = [verb.text.to_owned()].into_iter().chain(sent()).collect();
            return Some(About { title: verb.signature.to_owned(), lines, table: None });
        }
        Place::Stage { dollar } => {
            let stage = find(operators::STAGES, word.trim_start_matches('$'))?;
            let mut found = of_entry(stage, word, if dollar { ":" } else { "" })?;
            found.lines.extend(sent());
            return Some(found);
        }
        Place::Entries(entries) if find(entries, word).is_some() => return of_entry(find(entries, word)?, word, ":"),
        // A text that is no path.
        Place::Value(_) => return None,
        _ => {}
    }
    let operators = [operators::COMPARISONS, operators::CHANGES, operators::LOGICAL, operators::EXPRESSIONS];
    if let Some(entry) = operators.into_iter().find_map(|entries| find(entries, word)) {
        return of_entry(entry, word, ":");
    }
    let collection = reading.collection().and_then(named)?;
    let path = word.trim_start_matches('$');
    let column = collection.columns.iter().find(|column| column.name == path)?;
    Some(About {
        title: column_line(column, collection, catalog),
        lines: vec![format!("column of {}", collection.name)],
        table: Some(collection.to_name()),
    })
}

fn first_length(text: &str) -> usize {
    text.chars().next().map_or(1, char::len_utf8)
}

fn is_of_word(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '$' | '.' | '-')
}

/// Brackets that are open at the cursor.
#[derive(Debug, Default)]
struct Frame {
    list: bool,
    /// The name that the brackets stand behind.
    holder: String,
    /// The name of the field whose value is being written.
    key: Option<String>,
    /// The first field: its name, and its value where that is a text.
    first: Option<(String, String)>,
}

/// What stands before the cursor.
#[derive(Debug, Default)]
struct Reading {
    /// The words outside brackets, since the last `|`.
    words: Vec<String>,
    /// The collection of the short form.
    first: Option<String>,
    /// The verb of the short form.
    verb: Option<String>,
    /// How many `|` there were.
    stages: usize,
    /// How many documents stand before, since the last `|` or word.
    documents: usize,
    /// Brackets, from outside in.
    frames: Vec<Frame>,
    /// What was typed of the word at the cursor.
    typed: String,
    /// Where that begins.
    from: usize,
    /// The quote that it stands in.
    quote: Option<char>,
}

/// What may stand at the cursor.
#[derive(Debug, PartialEq, Eq)]
enum Place {
    Nothing,
    /// A collection, or `explain`.
    Start,
    /// The name of a collection as a value.
    Collection,
    Verb,
    Words(&'static [&'static str]),
    Index,
    Stage {
        dollar: bool,
    },
    /// A path as a word of its own.
    Path,
    /// Fields of a filter; whether it is the whole filter, or what a path is compared with.
    Filter {
        whole: bool,
    },
    /// Operators of a change.
    Change,
    /// Paths as names of fields.
    Fields,
    /// Names of fields from a table.
    Entries(&'static [Entry]),
    /// `"$path"`.
    Reference,
    /// A value of this path.
    Value(Option<String>),
}

impl Reading {
    /// `None` where the cursor stands in a comment.
    fn of(head: &str) -> Option<Reading> {
        let mut reading = Reading { from: head.len(), ..Reading::default() };
        let mut last = String::new();
        let mut at = 0;
        while let Some(c) = head.get(at..).and_then(|rest| rest.chars().next()) {
            let rest = head.get(at..).unwrap_or_default();
            if rest.starts_with("//") || rest.starts_with("/*") {
                let end = if rest.starts_with("//") { rest.find('\n') } else { rest.find("*/").map(|end| end + 1) };
                at += end? + 1;
                continue;
            }
            if matches!(c, '"' | '\'') {
                let (text, length, closed) = quoted(rest);
                if !closed {
                    (reading.typed, reading.from, reading.quote) = (text, at + 1, Some(c));
                    return Some(reading);
                }
                reading.takes(&text);
                (last, at) = (text, at + length);
                continue;
            }
            if is_of_word(c) {
                let length = rest.find(|c| !is_of_word(c)).unwrap_or(rest.len());
                let word = rest.get(..length).unwrap_or_default();
                if length == rest.len() {
                    (reading.typed, reading.from) = (word.to_owned(), at);
                    return Some(reading);
                }
                reading.takes(word);
                (last, at) = (word.to_owned(), at + length);
                continue;
            }
            reading.sign(c, &mut last);
            at += c.len_utf8();
        }
        Some(reading)
    }

    /// A word or a text that is behind the cursor.
    fn takes(&mut self, word: &str) {
        match self.frames.last_mut() {
            Some(frame) => {
                if let (Some(key), Some((first, value))) = (&frame.key, &mut frame.first)
                    && key == first
                    && value.is_empty()
                {
                    word.clone_into(value);
                }
            }
            None => {
                if self.stages == 0 {
                    let before = self.first.is_none() && matches!(word, "explain" | "measured") && self.words.len() < 2;
                    match (&self.first, &self.verb) {
                        _ if before => return,
                        (None, _) => self.first = Some(word.to_owned()),
                        (Some(_), None) => self.verb = Some(word.to_owned()),
                        _ => {}
                    }
                }
                self.words.push(word.to_owned());
                self.documents = 0;
            }
        }
    }

    fn sign(&mut self, c: char, last: &mut String) {
        match c {
            '{' | '[' => {
                let holder = match self.frames.last() {
                    Some(frame) if frame.list => frame.holder.clone(),
                    Some(frame) => frame.key.clone().unwrap_or_default(),
                    None => String::new(),
                };
                self.frames.push(Frame { list: c == '[', holder, ..Frame::default() });
            }
            '}' | ']' => {
                let closed = self.frames.pop().is_some();
                self.documents += usize::from(closed && self.frames.is_empty());
            }
            ':' => {
                if let Some(frame) = self.frames.last_mut() {
                    frame.key = Some(std::mem::take(last));
                    if let (None, Some(key)) = (&frame.first, &frame.key) {
                        frame.first = Some((key.clone(), String::new()));
                    }
                }
            }
            ',' => {
                if let Some(frame) = self.frames.last_mut().filter(|frame| !frame.list) {
                    frame.key = None;
                }
            }
            '|' if self.frames.is_empty() => {
                self.stages += 1;
                self.words.clear();
                self.documents = 0;
            }
            _ => {}
        }
    }

    /// The collection that the statement is about.
    fn collection(&self) -> Option<&str> {
        match (&self.first, self.frames.first()) {
            (Some(name), _) => Some(name),
            // That of a command which is explained lies further in.
            (None, Some(_)) => self
                .frames
                .iter()
                .filter_map(|frame| frame.first.as_ref())
                .find_map(|(_, value)| (!value.is_empty()).then_some(value.as_str())),
            _ => None,
        }
    }

    fn place(&self) -> Place {
        if self.frames.is_empty() { self.outside() } else { self.inside() }
    }

    fn outside(&self) -> Place {
        let words: Vec<&str> = self.words.iter().map(String::as_str).collect();
        if self.stages > 0 {
            return match words.as_slice() {
                [] => Place::Stage { dollar: false },
                ["unwind" | "$unwind" | "sortByCount" | "$sortByCount"] => Place::Reference,
                ["unset" | "$unset"] => Place::Path,
                ["out" | "$out" | "merge" | "$merge"] => Place::Collection,
                _ => Place::Nothing,
            };
        }
        match (self.first.is_some(), self.verb.as_deref(), words.get(2..).unwrap_or_default(), self.documents) {
            (false, ..) => Place::Start,
            (true, None, _, 0) => Place::Verb,
            (true, Some("distinct"), [], 0) => Place::Path,
            (true, Some("update" | "delete"), [], 0) => Place::Words(&["all"]),
            (true, Some("update" | "replace"), [] | ["all"], 2) => Place::Words(&["upsert"]),
            (true, Some("drop"), [], 0) => Place::Words(&["index"]),
            (true, Some("drop"), ["index"], 0) => Place::Index,
            _ => Place::Nothing,
        }
    }

    fn inside(&self) -> Place {
        // Names from outside in, each that brackets stand behind.
        let mut holders: Vec<&str> = Vec::new();
        for frame in self.frames.iter().skip(1).filter(|frame| !frame.list) {
            holders.push(&frame.holder);
        }
        let innermost = self.frames.last();
        let is_value = innermost.is_none_or(|frame| frame.list || frame.key.is_some());
        let value = innermost.and_then(|frame| if frame.list { Some(&frame.holder) } else { frame.key.as_ref() });
        let value = value.map(String::as_str).filter(|_| is_value);
        let base = match (self.stages, self.first.is_some(), self.verb.as_deref()) {
            (0, false, _) => return self.in_command(&holders, value),
            (0, true, None | Some("find" | "count" | "distinct" | "delete")) => "match",
            (0, true, Some("update" | "replace")) if self.documents == 0 => "match",
            (0, true, Some("update")) => "update",
            (0, true, Some("aggregate")) => {
                return match holders.as_slice() {
                    // The brackets of a stage have no name.
                    ["", rest @ ..] => in_pipeline(rest, value),
                    _ => Place::Nothing,
                };
            }
            (0, true, Some("index")) if self.documents == 0 => "fields",
            (0, true, Some("index")) => "index",
            (0, true, Some("create")) => "create",
            (0, true, Some("insert" | "replace")) => "fields",
            (0, ..) => "option",
            _ => self.words.first().map_or("", |word| word.trim_start_matches('$')),
        };
        within(base, &holders, value)
    }

    /// In a command as a document.
    fn in_command(&self, holders: &[&str], value: Option<&str>) -> Place {
        let named = |frame: &Frame| frame.first.as_ref().map(|(name, _)| name.clone());
        let mut first = self.frames.first().and_then(named);
        let mut holders = holders;
        if let (Some("explain"), ["explain", rest @ ..]) = (first.as_deref(), holders) {
            (first, holders) = (self.frames.get(1).and_then(named), rest);
        }
        let first = first.as_deref();
        let fields = || operators::fields_of(first.unwrap_or_default());
        match (holders, value, first) {
            ([], None, None) => Place::Entries(operators::COMMANDS),
            ([], None, Some(_)) => Place::Entries(fields()),
            ([], Some(name), Some(first)) if name == first => Place::Collection,
            ([], Some("key"), _) => Place::Path,
            ([], Some(name), _) => Place::Value(Some(name.to_owned())),
            (["filter" | "query", rest @ ..], ..) => within("match", rest, value),
            (["projection" | "sort" | "hint", rest @ ..], ..) => within("project", rest, value),
            (["pipeline", rest @ ..], ..) => in_pipeline(rest, value),
            (["updates" | "deletes", "q", rest @ ..], ..) => within("match", rest, value),
            (["updates", "u", rest @ ..], ..) => within("update", rest, value),
            (["updates"], None, _) => Place::Entries(operators::UPDATES),
            (["deletes"], None, _) => Place::Entries(operators::DELETES),
            (["documents", rest @ ..], ..) => within("fields", rest, value),
            (["indexes"], None, _) => Place::Entries(operators::INDEX),
            (["indexes", "key"], None, _) => Place::Fields,
            _ => Place::Nothing,
        }
    }
}

/// In a stage of a list of them.
fn in_pipeline(holders: &[&str], value: Option<&str>) -> Place {
    match (holders, value) {
        ([], None) => Place::Stage { dollar: true },
        ([], Some("$unwind" | "$sortByCount")) => Place::Reference,
        ([], Some("$unset")) => Place::Path,
        ([], Some("$out" | "$merge" | "$unionWith")) => Place::Collection,
        ([], _) => Place::Nothing,
        ([stage, rest @ ..], _) => within(stage.trim_start_matches('$'), rest, value),
    }
}

/// In a document that is a `base`: the names that brackets in it stand behind, and that of the value at the cursor.
fn within(base: &str, holders: &[&str], value: Option<&str>) -> Place {
    let inner = holders.last().copied();
    let operator = inner.is_some_and(|name| name.starts_with('$'));
    match base {
        "match" | "filter" | "query" => match (inner, value) {
            (Some("$expr"), Some(_)) => Place::Reference,
            (_, Some(name)) => {
                let path = if name.starts_with('$') { inner } else { Some(name) };
                Place::Value(path.filter(|path| !path.starts_with('$')).map(str::to_owned))
            }
            (None | Some("$and" | "$or" | "$nor"), None) => Place::Filter { whole: true },
            (Some("$geometry" | "$near" | "$nearSphere" | "$geoWithin"), None) => Place::Entries(operators::GEO),
            (Some("$expr"), None) => Place::Entries(operators::EXPRESSIONS),
            (Some("$elemMatch"), None) => Place::Fields,
            _ => Place::Filter { whole: false },
        },
        "update" => match (inner, value) {
            (None, None) => Place::Change,
            (Some(_), None) if operator && holders.len() == 1 => Place::Fields,
            (_, Some(name)) => Place::Value(Some(name.to_owned())),
            _ => Place::Nothing,
        },
        "group" => match (inner, value) {
            (None, None) => Place::Entries(operators::GROUP),
            (Some("_id"), None) => Place::Entries(operators::EXPRESSIONS),
            (Some(_), None) if operator => Place::Entries(operators::EXPRESSIONS),
            (Some(_), None) => Place::Entries(operators::ACCUMULATORS),
            _ => Place::Reference,
        },
        "project" | "set" | "addFields" | "replaceWith" | "replaceRoot" => match (inner, value) {
            (None, None) => Place::Fields,
            (_, None) => Place::Entries(operators::EXPRESSIONS),
            _ => Place::Reference,
        },
        "lookup" | "unionWith" | "facet" if holders.len() > 1 || (holders.len() == 1 && value.is_none()) => {
            in_pipeline(holders.get(1..).unwrap_or_default(), value)
        }
        "lookup" => match (inner, value) {
            (None, None) => Place::Entries(operators::LOOKUP),
            (None, Some("from")) => Place::Collection,
            (None, Some("localField")) => Place::Path,
            _ => Place::Nothing,
        },
        "sort" | "fields" | "unset" if value.is_none() => Place::Fields,
        "index" if value.is_none() && inner.is_none() => Place::Entries(operators::INDEX),
        "create" if value.is_none() && inner.is_none() => Place::Entries(operators::fields_of("create")),
        "option" if value.is_none() && inner.is_none() => Place::Entries(operators::OPTIONS),
        "fields" => Place::Value(value.map(str::to_owned)),
        _ => Place::Nothing,
    }
}

/// The text behind an opening quote, how many bytes it takes with its quotes, and whether it is closed.
fn quoted(rest: &str) -> (String, usize, bool) {
    let mut chars = rest.char_indices();
    let quote = chars.next().map_or('"', |(_, c)| c);
    let mut text = String::new();
    let mut escaped = false;
    for (at, c) in chars {
        match c {
            _ if escaped => {
                escaped = false;
                text.push(c);
            }
            '\\' => escaped = true,
            c if c == quote => return (text, at + c.len_utf8(), true),
            // No text goes on in the line below: it was forgotten to close it.
            '\n' => return (text, at, true),
            c => text.push(c),
        }
    }
    (text, rest.len(), false)
}

struct Writer<'a> {
    found: Found,
    quoted: bool,
    /// A colon follows already.
    colon: bool,
    around: Surroundings<'a>,
    collection: Option<&'a Object>,
}

impl Writer<'_> {
    fn propose(&mut self, place: &Place) {
        match place {
            Place::Nothing => {}
            Place::Start => {
                self.collections(false);
                self.found.put(Kind::Keyword, "explain", "the plan of the statement behind it", "explain ", 20);
            }
            Place::Collection => self.collections(true),
            Place::Verb => {
                for (verb, weight) in VERBS.iter().zip((0..40).rev()) {
                    self.found.put(Kind::Keyword, verb.name, verb.signature, verb.name, 40 + weight);
                }
            }
            Place::Words(words) => {
                for word in *words {
                    self.found.put(Kind::Keyword, word, "", *word, 50);
                }
            }
            Place::Index => {
                for index in self.collection.map_or(&[][..], |of| &of.indexes) {
                    self.found.put(Kind::Word, &index.name, "index", escaped(&statement::name(&index.name)), 50);
                }
            }
            Place::Stage { dollar } => {
                let signed = *dollar || self.found.typed.starts_with('$');
                for (stage, weight) in operators::STAGES.iter().zip((0..60).rev()) {
                    let label = if signed { format!("${}", stage.name) } else { stage.name.to_owned() };
                    let value = stage.value;
                    let colon = if *dollar { ":" } else { "" };
                    let insert = format!("{}{colon} {value}", escaped(&label));
                    let insert = if self.colon || self.quoted { escaped(&label) } else { insert };
                    self.found.put(Kind::Keyword, &label, stage.text, insert, 20 + weight);
                }
                if !dollar {
                    let insert = "option { ${1:allowDiskUse}: ${2:true} }";
                    self.found.put(Kind::Keyword, "option", "fields of the command itself", insert, 10);
                }
            }
            Place::Path => {
                let (in_quotes, has_to) = (self.quoted, |path: &str| statement::name(path));
                self.paths(|path| if in_quotes { path.to_owned() } else { has_to(path) }, 60);
            }
            Place::Fields => self.keys(60),
            Place::Filter { whole: true } => {
                self.keys(60);
                self.entries(operators::LOGICAL, 20);
            }
            Place::Filter { whole: false } => {
                self.entries(operators::COMPARISONS, 40);
            }
            Place::Change => self.entries(operators::CHANGES, 40),
            Place::Entries(entries) => self.entries(entries, 40),
            Place::Reference => {
                let in_quotes = self.quoted;
                let paths: Vec<(String, String)> = self.known_paths();
                for ((path, detail), weight) in paths.into_iter().zip((0..60).rev()) {
                    let label = format!("${path}");
                    let insert = if in_quotes { label.clone() } else { format!("\"{label}\"") };
                    self.found.put(Kind::Column, &label, detail, escaped(&insert), 20 + weight / 2);
                }
            }
            Place::Value(path) => self.values(path.as_deref()),
        }
    }

    fn collections(&mut self, as_value: bool) {
        for object in self.around.catalog.objects().iter().filter(|object| object.kind.has_rows()) {
            let written = match (self.quoted, as_value) {
                (true, _) => object.name.clone(),
                (false, true) => format!("\"{}\"", object.name),
                (false, false) => statement::name(&object.name),
            };
            let rows = object.rows.map_or(String::new(), |rows| format!("{rows} documents"));
            self.found.put(Kind::Object(object.kind), &object.name, rows, escaped(&written), 60);
        }
    }

    /// The paths of the collection, or those of all if it is not known, with their types.
    fn known_paths(&self) -> Vec<(String, String)> {
        let of = |object: &Object| {
            object.columns.iter().map(|column| (column.name.clone(), column.db_type.clone())).collect::<Vec<_>>()
        };
        self.collection.map(of).unwrap_or_default()
    }

    fn paths(&mut self, written: impl Fn(&str) -> String, weight: i32) {
        for (path, detail) in self.known_paths() {
            let insert = escaped(&written(&path));
            self.found.put(Kind::Column, &path, detail, insert, weight);
        }
    }

    /// Paths as names of fields.
    fn keys(&mut self, weight: i32) {
        let (in_quotes, colon) = (self.quoted, self.colon);
        self.paths(
            |path| match (in_quotes, colon) {
                (true, _) => path.to_owned(),
                (false, true) => statement::key(path),
                (false, false) => format!("{}: ", statement::key(path)),
            },
            weight,
        );
    }

    fn entries(&mut self, entries: &[Entry], weight: i32) {
        for (entry, nearer) in entries.iter().zip((0..30).rev()) {
            let insert = match self.quoted || self.colon {
                true => escaped(entry.name),
                false => format!("{}: {}", escaped(entry.name), entry.value),
            };
            self.found.put(Kind::Keyword, entry.name, entry.text, insert, weight + nearer);
        }
    }

    /// Values, by the types that a path has.
    fn values(&mut self, path: Option<&str>) {
        if self.quoted {
            return;
        }
        let types = path.and_then(|path| {
            let column = self.collection?.columns.iter().find(|column| column.name == path)?;
            Some(column.db_type.as_str())
        });
        for (of, label, insert) in operators::VALUES {
            let weight = match types {
                Some(types) if types.split(" | ").any(|one| one == *of) => 60,
                _ if matches!(*of, "bool" | "null") => 20,
                _ => 5,
            };
            self.found.put(Kind::Value, label, *of, *insert, weight);
        }
    }
}
