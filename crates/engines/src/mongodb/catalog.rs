//! What a database holds: its collections, their indexes, and the shape that a sample of their documents has.

use std::collections::BTreeMap;

use jaunty_documents::bson::{encoded, field};
use jaunty_documents::decimal;
use jaunty_documents::json::{self, Form};
use jaunty_documents::raw::{Element, RawDocument};
use jaunty_documents::{Bson, Document};
use jaunty_language::dialect::DOCUMENTS;
use jaunty_seam::catalog::{Catalog, Column, Index, Object, ObjectKind};
use jaunty_seam::error::{EngineError, ErrorKind};

use super::rows::Rows;
use super::session::{DocumentSession, pair};

/// How many paths a shape has at most.
const PATHS: usize = 2000;
/// How deep paths go.
const DEEP: usize = 8;

/// Reads a part: the collections first, and then one collection after the other.
pub fn read(session: &mut DocumentSession, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
    if part == 0 {
        catalog.path = vec![String::new()];
        let all = session.first_of(vec![
            pair("listCollections", Bson::Int32(1)),
            pair("cursor", Bson::Document(vec![pair("batchSize", Bson::Int32(10_000))])),
        ])?;
        for one in all {
            let text = |name: &str| field(&one, name).and_then(Bson::as_str).unwrap_or_default().to_owned();
            let (name, of) = (text("name"), text("type"));
            if name.starts_with("system.") {
                continue;
            }
            let kind = if of == "view" { ObjectKind::View } else { ObjectKind::Table };
            let options = field(&one, "options").and_then(Bson::as_document).cloned().unwrap_or_default();
            let object = catalog.object("", &name, kind);
            object.signature = match of.as_str() {
                "view" => "view".into(),
                "timeseries" => "time series".into(),
                _ if field(&options, "capped") == Some(&Bson::Bool(true)) => "capped".into(),
                _ => "collection".into(),
            };
            if !options.is_empty() {
                object.clauses = written(&options);
            }
        }
        catalog.databases = session.databases()?;
        return Ok(!catalog.objects().is_empty());
    }
    let Some((name, kind)) = catalog.objects().get(part - 1).map(|object| (object.name.clone(), object.kind)) else {
        return Ok(false);
    };
    let last = part >= catalog.objects().len();
    // One that has gone meanwhile, or that nobody may read, does not keep the others from being read.
    let told = describe(session, &name, kind);
    match told {
        Ok(told) => {
            if let Some(object) = catalog.relation_mut("", &name) {
                (object.columns, object.indexes) = (told.columns, told.indexes);
                (object.rows, object.bytes, object.comment) = (told.rows, told.bytes, told.comment);
                object.definition = definition(object);
            }
        }
        Err(error) if matches!(error.kind, ErrorKind::Lost | ErrorKind::Stopped) => return Err(error),
        Err(error) => tracing::debug!(%error, name, "a collection could not be described"),
    }
    Ok(!last)
}

struct Told {
    columns: Vec<Column>,
    indexes: Vec<Index>,
    rows: Option<u64>,
    bytes: Option<u64>,
    comment: String,
}

fn describe(session: &mut DocumentSession, name: &str, kind: ObjectKind) -> Result<Told, EngineError> {
    let size = session.sample;
    let sample = session.first_of(vec![
        pair("aggregate", Bson::text(name)),
        pair(
            "pipeline",
            Bson::Array(vec![Bson::Document(vec![pair(
                "$sample",
                Bson::Document(vec![pair("size", Bson::Int64(size))]),
            )])]),
        ),
        pair("cursor", Bson::Document(vec![pair("batchSize", Bson::Int64(size))])),
    ])?;
    let mut told = Told {
        columns: shape(&sample),
        indexes: Vec::new(),
        rows: None,
        bytes: None,
        comment: format!("shape of a sample of {} documents", sample.len()),
    };
    if kind == ObjectKind::View {
        return Ok(told);
    }
    let stats = session.ask(vec![pair("collStats", Bson::text(name))]).unwrap_or_default();
    let number = |name: &str| field(&stats, name).and_then(Bson::as_i64).and_then(|number| u64::try_from(number).ok());
    (told.rows, told.bytes) = (number("count"), number("storageSize"));
    let uses = uses(session, name)?;
    for index in session.first_of(vec![pair("listIndexes", Bson::text(name))])? {
        let keys = field(&index, "key").and_then(Bson::as_document).cloned().unwrap_or_default();
        let over = keys.iter().map(|(path, kind)| match kind.as_i64() {
            Some(1) => path.clone(),
            Some(-1) => format!("{path} desc"),
            _ => format!("{path} {}", kind.as_str().unwrap_or_default()),
        });
        let own = field(&index, "name").and_then(Bson::as_str).unwrap_or_default().to_owned();
        let rest: Document =
            index.iter().filter(|(key, _)| !matches!(key.as_str(), "v" | "key" | "ns")).cloned().collect();
        told.indexes.push(Index {
            over: over.collect(),
            unique: own == "_id_" || field(&index, "unique") == Some(&Bson::Bool(true)),
            definition: format!("{} index {} {}", DOCUMENTS.name_as_written(name), written(&keys), written(&rest)),
            note: notes(&rest, uses.get(&own)),
            name: own,
        });
    }
    Ok(told)
}

/// How often each index was used since the server began to count; nothing where it does not tell.
fn uses(session: &mut DocumentSession, name: &str) -> Result<BTreeMap<String, i64>, EngineError> {
    let asked = session.first_of(vec![
        pair("aggregate", Bson::text(name)),
        pair("pipeline", Bson::Array(vec![Bson::Document(vec![pair("$indexStats", Bson::Document(Vec::new()))])])),
        pair("cursor", Bson::Document(Vec::new())),
    ]);
    let told = match asked {
        Ok(told) => told,
        // Not everybody may, and not every server can.
        Err(error) if error.kind == ErrorKind::Refused => Vec::new(),
        Err(error) => return Err(error),
    };
    let one = |one: &Document| {
        let own = field(one, "name").and_then(Bson::as_str)?.to_owned();
        let count = field(one, "accesses").and_then(Bson::as_document).and_then(|told| field(told, "ops")?.as_i64())?;
        Some((own, count))
    };
    Ok(told.iter().filter_map(one).collect())
}

/// What an index is beside its keys, in words.
fn notes(options: &Document, uses: Option<&i64>) -> String {
    let mut all = Vec::new();
    let flag = |name: &str| field(options, name) == Some(&Bson::Bool(true));
    all.extend(["sparse", "hidden"].into_iter().filter(|name| flag(name)).map(str::to_owned));
    if let Some(seconds) = field(options, "expireAfterSeconds").and_then(Bson::as_i64) {
        all.push(format!("documents expire after {seconds} s"));
    }
    if let Some(only) = field(options, "partialFilterExpression").and_then(Bson::as_document) {
        all.push(format!("only {}", written(only)));
    }
    match uses {
        Some(0) => all.push("not used yet".to_owned()),
        Some(1) => all.push("used once".to_owned()),
        Some(count) => all.push(format!("used {count} times")),
        None => {}
    }
    all.join(" · ")
}

/// A document as relaxed JSON.
fn written(document: &Document) -> String {
    let bytes = encoded(document);
    let mut text = String::new();
    if let Ok(raw) = RawDocument::new(&bytes) {
        json::document(&raw, Form::Relaxed, &mut text);
    }
    text
}

/// What is known of a path.
#[derive(Default)]
struct Path {
    place: usize,
    types: BTreeMap<&'static str, usize>,
    /// In how many documents it is.
    met: usize,
    /// The last of them.
    last: usize,
    examples: Vec<String>,
    /// The different texts, as the language writes them, and one more than are told.
    texts: BTreeMap<String, usize>,
    /// The least and the greatest of numbers or points in time, as a number and as text.
    range: Option<[(f64, String); 2]>,
}

impl Path {
    fn takes(&mut self, at: f64, text: &str) {
        let one = (at, text.to_owned());
        match &mut self.range {
            None => self.range = Some([one.clone(), one]),
            Some([least, greatest]) => {
                if at < least.0 {
                    *least = one;
                } else if at > greatest.0 {
                    *greatest = one;
                }
            }
        }
    }

    /// The range in words, where it says more than the examples.
    fn range_in_words(&self) -> String {
        match &self.range {
            Some([least, greatest]) if self.examples.len() >= EXAMPLES && least.0 < greatest.0 => {
                format!("from {} to {}", least.1, greatest.1)
            }
            _ => String::new(),
        }
    }
}

/// Fewer different texts than this are all told.
const FEW: usize = 25;

/// How many examples of a path's values are told.
const EXAMPLES: usize = 3;

/// The paths of documents, in the order in which they are met, each as a column: its types, how often it is there, and
/// some of its values.
fn shape(sample: &[Document]) -> Vec<Column> {
    let mut paths: BTreeMap<String, Path> = BTreeMap::new();
    for (number, document) in sample.iter().enumerate() {
        let bytes = encoded(document);
        if let Ok(raw) = RawDocument::new(&bytes) {
            walk(&raw, "", (number + 1, 0), &mut paths);
        }
    }
    let mut all: Vec<(String, Path)> = paths.into_iter().collect();
    all.sort_by_key(|(_, path)| path.place);
    let column = |(name, path): (String, Path)| {
        let range = path.range_in_words();
        let mut types: Vec<_> = path.types.into_iter().collect();
        types.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        let names: Vec<_> = types.iter().map(|(name, _)| *name).collect();
        let often =
            if path.met < sample.len() { format!("in {} of {}", path.met, sample.len()) } else { String::new() };
        let examples = path.examples.join(", ");
        let comment =
            [often, examples, range].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(" · ");
        Column {
            key: name == "_id",
            // A field may always be missing; how often it is there stands beside it.
            nullable: name != "_id",
            db_type: names.join(" | "),
            comment,
            // What comes again and again is one of a few.
            values: match path.texts.len() {
                0 | FEW.. => Vec::new(),
                few if path.texts.values().sum::<usize>() < 2 * few => Vec::new(),
                _ => path.texts.into_keys().collect(),
            },
            name,
            ..Column::default()
        }
    };
    all.into_iter().map(column).collect()
}

/// What a value is as an example, and where it lies where it has a place in an order.
fn example(element: &Element<'_>) -> Option<(String, Option<f64>)> {
    let mut text = String::new();
    let at = match element {
        Element::Document(_) | Element::Array(_) | Element::Null | Element::Binary(..) => return None,
        Element::ObjectId(id) => {
            text.push_str(&json::hex(id));
            None
        }
        Element::DateTime(millis) => {
            text.push_str(&json::moment(*millis));
            Some(*millis as f64)
        }
        Element::Decimal(bytes) => {
            text.push_str(&decimal::text(*bytes));
            text.parse().ok().filter(|value: &f64| value.is_finite())
        }
        other => {
            json::value(other, Form::Relaxed, &mut text);
            match other {
                Element::Int32(value) => Some(f64::from(*value)),
                Element::Int64(value) => Some(*value as f64),
                Element::Double(value) if value.is_finite() => Some(*value),
                _ => None,
            }
        }
    };
    Some((text.chars().take(24).collect(), at))
}

fn walk(document: &RawDocument<'_>, before: &str, (number, depth): (usize, usize), paths: &mut BTreeMap<String, Path>) {
    for (name, element) in document.iter().flatten() {
        let own = if before.is_empty() { name.to_owned() } else { format!("{before}.{name}") };
        if paths.len() >= PATHS && !paths.contains_key(&own) {
            continue;
        }
        let place = paths.len();
        let path = paths.entry(own.clone()).or_insert_with(|| Path { place, ..Path::default() });
        // In a list a path may be there several times.
        if path.last != number {
            (path.last, path.met) = (number, path.met + 1);
        }
        *path.types.entry(Rows::type_name(&element)).or_default() += 1;
        let mut take = |value: &Element<'_>| {
            let Some((text, at)) = example(value) else { return };
            if let Some(at) = at {
                path.takes(at, &text);
            }
            if let Element::Text(own) = value
                && own.len() <= 40
            {
                let mut written = String::new();
                json::value(value, Form::Relaxed, &mut written);
                if path.texts.len() < FEW || path.texts.contains_key(&written) {
                    *path.texts.entry(written).or_default() += 1;
                }
            }
            if path.examples.len() < EXAMPLES && !path.examples.contains(&text) {
                path.examples.push(text);
            }
        };
        take(&element);
        if let Element::Array(list) = element {
            list.iter().flatten().take(IN_LISTS).for_each(|(_, value)| take(&value));
        }
        if depth < DEEP {
            match element {
                Element::Document(inside) => walk(&inside, &own, (number, depth + 1), paths),
                // What lies in lists has the path without a number.
                Element::Array(list) => {
                    for (_, inside) in list.iter().flatten().take(IN_LISTS) {
                        if let Element::Document(inside) = inside {
                            walk(&inside, &own, (number, depth + 1), paths);
                        }
                    }
                }
                _ => {}
            }
        }
    }
}

/// How many elements of a list are looked at.
const IN_LISTS: usize = 20;

/// How a collection is made, and its indexes.
pub fn definition(of: &Object) -> String {
    let own: Vec<_> =
        of.indexes.iter().filter(|index| index.name != "_id_").map(|index| index.definition.clone()).collect();
    let made = format!("{} create {}", DOCUMENTS.name_as_written(&of.name), of.clauses);
    [made.trim().to_owned()].into_iter().chain(own).collect::<Vec<_>>().join("\n\n")
}

impl DocumentSession {
    /// The names of all databases.
    pub(super) fn databases(&mut self) -> Result<Vec<String>, EngineError> {
        let answer =
            self.ask_of("admin", vec![pair("listDatabases", Bson::Int32(1)), pair("nameOnly", Bson::Bool(true))]);
        let answer = match answer {
            Ok(answer) => answer,
            // Not everybody may.
            Err(error) if error.kind == ErrorKind::Refused => Vec::new(),
            Err(error) => return Err(error),
        };
        Ok(match field(&answer, "databases") {
            Some(Bson::Array(all)) => all
                .iter()
                .filter_map(Bson::as_document)
                .filter_map(|one| field(one, "name").and_then(Bson::as_str).map(str::to_owned))
                .collect(),
            _ => Vec::new(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shape_is_told_from_a_sample() {
        let document = |fields: &[(&str, Bson)]| {
            fields.iter().map(|(name, value)| pair(name, value.clone())).collect::<Document>()
        };
        let port = document(&[("code", Bson::text("SMQ"))]);
        let sample = [
            document(&[("_id", Bson::Int32(1)), ("port", Bson::Document(port)), ("n", Bson::Int32(4))]),
            document(&[
                ("_id", Bson::Int32(2)),
                ("n", Bson::text("x")),
                ("tags", Bson::Array(vec![Bson::Document(document(&[("a", Bson::Bool(true))]))])),
            ]),
        ];
        let told: Vec<_> =
            shape(&sample).iter().map(|c| format!("{} {} {} {}", c.name, c.db_type, c.nullable, c.comment)).collect();
        assert_eq!(
            told,
            [
                "_id int false 1, 2",
                "port object true in 1 of 2",
                "port.code string true in 1 of 2 · \"SMQ\"",
                "n int | string true 4, \"x\"",
                "tags array true in 1 of 2",
                "tags.a bool true in 1 of 2 · true",
            ]
        );
    }
}
