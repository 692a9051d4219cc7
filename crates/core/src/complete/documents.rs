//! Statements of document databases: collections, verbs, stages, paths, operators.
//!
//! [`reading`] says what may stand at the cursor, by what stands before it.

pub(crate) mod reading;

use super::about::{About, column_line, table_about};
use super::{Completion, Found, Kind, Surroundings, escaped, finish};
use jaunty_language::dialect::documents::operators::{self, Entry};
use jaunty_language::dialect::documents::read::Value;
use jaunty_language::dialect::documents::statement::{self, VERBS};
use jaunty_language::edit::snippet::Snippet;
use jaunty_seam::catalog::Object;
use reading::{Place, Reading, is_of_word};

/// What is told of a value that a sample has.
const IN_SAMPLE: &str = "in the sample";

/// What could be written at byte `cursor` of a statement.
pub(super) fn complete(text: &str, cursor: usize, around: Surroundings<'_>) -> Completion {
    let Some(reading) = Reading::of(text.get(..cursor).unwrap_or(text)) else { return Completion::default() };
    let rest = text.get(cursor..).unwrap_or_default();
    // A text that is closed goes on to its end; one that is not would take the rest of the line with it.
    let closes = reading.quote.and_then(|quote| {
        rest.find([quote, '\n', ',', ':', '{', '}', '[', ']']).filter(|at| rest[*at..].starts_with(quote))
    });
    let behind = cursor + closes.or_else(|| rest.find(|c: char| !is_of_word(c))).unwrap_or(rest.len());
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
    writer.propose(&place);
    let eager = match place {
        Place::Start | Place::Verb | Place::Words(_) | Place::Nothing => false,
        // Where the few values of a path are known.
        Place::Value(_) => writer.found.all.iter().any(|proposal| proposal.detail == IN_SAMPLE),
        _ => true,
    };
    if let (Some(quote), None) = (reading.quote, closes) {
        writer.found.all.iter_mut().for_each(|proposal| proposal.insert.push(quote));
    }
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
        Some(About { title, lines: vec![entry.text.to_owned()], ..About::default() })
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
            return Some(About { title: verb.signature.to_owned(), lines, ..About::default() });
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
        elsewhere: None,
    })
}

fn first_length(text: &str) -> usize {
    text.chars().next().map_or(1, char::len_utf8)
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
                self.found.put(Kind::Keyword, "explain", "the plan of the statement after it", "explain ", 20);
            }
            Place::Collection => self.collections(true),
            Place::Verb => {
                for (verb, weight) in VERBS.iter().zip((0..40).rev().chain(std::iter::repeat(0))) {
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
                for (stage, weight) in operators::STAGES.iter().zip((0..60).rev().chain(std::iter::repeat(0))) {
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
                for ((path, detail), weight) in paths.into_iter().zip((0..60).rev().chain(std::iter::repeat(0))) {
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

    /// The paths of the collection with their types; none if it is not known.
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
        for (entry, nearer) in entries.iter().zip((0..30).rev().chain(std::iter::repeat(0))) {
            let insert = match self.quoted || self.colon {
                true => escaped(entry.name),
                false => format!("{}: {}", escaped(entry.name), entry.value),
            };
            self.found.put(Kind::Keyword, entry.name, entry.text, insert, weight + nearer);
        }
    }

    /// Values, by the types that a path has.
    fn values(&mut self, path: Option<&str>) {
        let column = path.and_then(|path| self.collection?.columns.iter().find(|column| column.name == path));
        for value in column.map_or(&[][..], |column| &column.values) {
            // The marks of a text are there already where one has been begun.
            let inner = value.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).unwrap_or(value);
            let insert = if self.quoted { inner } else { value };
            self.found.put(Kind::Value, inner, IN_SAMPLE, escaped(insert), 90);
        }
        if path == Some("hint") && column.is_none() {
            for index in self.collection.map_or(&[][..], |of| &of.indexes) {
                let insert = if self.quoted { index.name.clone() } else { format!("\"{}\"", index.name) };
                self.found.put(Kind::Word, &index.name, "index", escaped(&insert), 80);
            }
        }
        if self.quoted {
            return;
        }
        let types = column.map(|column| column.db_type.as_str());
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
