//! In which brackets the cursor stands and after which names ([`Reading`]), and what that means ([`Place`]).

use std::ops::Range;

use jaunty_language::dialect::documents::operators::{self, Entry};

/// Whether a word without quotes may have this character.
pub(super) fn is_of_word(c: char) -> bool {
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
pub(crate) struct Reading {
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
    pub(super) typed: String,
    /// Where that begins.
    pub(super) from: usize,
    /// The quote that it stands in.
    pub(super) quote: Option<char>,
}

/// What may stand at the cursor.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Place {
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
    pub(super) fn of(head: &str) -> Option<Reading> {
        Reading::walk(head, |_, _, _| {})
    }

    /// The same; on the way it tells each word and each text, where it is, and what stands before it.
    pub(crate) fn walk(head: &str, mut each: impl FnMut(&Reading, &str, Range<usize>)) -> Option<Reading> {
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
                each(&reading, &text, at..at + length);
                reading.takes(&text);
                (last, at) = (text, at + length);
                continue;
            }
            if is_of_word(c) {
                let length = rest.find(|c| !is_of_word(c)).unwrap_or(rest.len());
                let word = rest.get(..length).unwrap_or_default();
                each(&reading, word, at..at + length);
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

    /// The stage that is being written in the short form, or the verb.
    pub(crate) fn part(&self) -> Option<&str> {
        if self.stages == 0 {
            self.verb.as_deref()
        } else {
            self.words.first().map(|word| word.trim_start_matches('$'))
        }
    }

    /// How many `|` there were.
    pub(crate) fn stages(&self) -> usize {
        self.stages
    }

    /// Whether it is the short form, and not a command as a document.
    pub(crate) fn is_short(&self) -> bool {
        self.first.is_some()
    }

    /// Whether the documents that are read or changed have the paths of their collection here: in the short form, and in
    /// the filter of a command.
    pub(crate) fn is_of_collection(&self) -> bool {
        let of_filter = |frame: &Frame| matches!(frame.holder.as_str(), "filter" | "query");
        self.is_short() || self.frames.get(1).is_some_and(of_filter)
    }

    /// The name of the command, and of the field of it that is being written.
    pub(crate) fn command(&self) -> Option<&str> {
        let named = self.frames.iter().filter_map(|frame| frame.first.as_ref()).map(|(name, _)| name.as_str());
        named.filter(|_| !self.is_short()).find(|name| *name != "explain")
    }

    /// The collection that the statement is about.
    pub(super) fn collection(&self) -> Option<&str> {
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

    pub(crate) fn place(&self) -> Place {
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
            (Some(_), None) if matches!(holders.first(), Some(&"$push" | &"$addToSet")) => {
                Place::Entries(operators::PUSHED)
            }
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
        // What is told of each group, or of each window.
        "bucket" | "bucketAuto" if matches!(holders, ["output", _]) && value.is_none() => {
            Place::Entries(operators::ACCUMULATORS)
        }
        "setWindowFields" if matches!(holders, ["output", _]) && value.is_none() => Place::Entries(operators::WINDOWS),
        "sort" | "fields" | "unset" if value.is_none() => Place::Fields,
        "index" if value.is_none() && inner.is_none() => Place::Entries(operators::INDEX),
        "create" if value.is_none() && inner.is_none() => Place::Entries(operators::fields_of("create")),
        "option" if value == Some("hint") && inner.is_none() => Place::Value(Some("hint".to_owned())),
        "option" if value.is_none() && inner.is_none() => Place::Entries(operators::OPTIONS),
        "fields" => Place::Value(value.map(str::to_owned)),
        stage => in_parts(stage, inner, value),
    }
}

/// In the named parts of a stage.
fn in_parts(stage: &str, inner: Option<&str>, value: Option<&str>) -> Place {
    match (inner, value) {
        (None, None) => match operators::parts_of(stage) {
            [] => Place::Nothing,
            parts => Place::Entries(parts),
        },
        (None, Some("from" | "into" | "coll")) => Place::Collection,
        (None, Some("path" | "groupBy" | "startWith" | "partitionBy" | "newRoot")) => Place::Reference,
        (None, Some("key" | "field" | "on" | "connectFromField")) => Place::Path,
        (Some("sortBy"), None) => Place::Fields,
        (Some("query"), None) => Place::Filter { whole: true },
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
