//! What a database holds: its collections, their indexes, and the shape that a sample of their documents has.

use std::collections::BTreeMap;

use jaunty_documents::bson::{encoded, field};
use jaunty_documents::decimal;
use jaunty_documents::json::{self, Form};
use jaunty_documents::raw::{Element, RawDocument};
use jaunty_documents::{Bson, Document};
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
            definition: format!("{name} index {} {}", written(&keys), written(&rest)),
            name: own,
        });
    }
    Ok(told)
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
    met: usize,
    examples: Vec<String>,
}

/// The paths of documents, in the order in which they are met, each as a column: its types, how often it is there, and
/// some of its values.
fn shape(sample: &[Document]) -> Vec<Column> {
    let mut paths: BTreeMap<String, Path> = BTreeMap::new();
    for document in sample {
        let bytes = encoded(document);
        if let Ok(raw) = RawDocument::new(&bytes) {
            walk(&raw, "", 0, &mut paths);
        }
    }
    let mut all: Vec<(String, Path)> = paths.into_iter().collect();
    all.sort_by_key(|(_, path)| path.place);
    let column = |(name, path): (String, Path)| {
        let mut types: Vec<_> = path.types.into_iter().collect();
        types.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        let names: Vec<_> = types.iter().map(|(name, _)| *name).collect();
        let often =
            if path.met < sample.len() { format!("in {} of {}", path.met, sample.len()) } else { String::new() };
        let examples = path.examples.join(", ");
        let comment = [often, examples].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(" · ");
        Column {
            key: name == "_id",
            nullable: path.met < sample.len() || names.contains(&"null"),
            db_type: names.join(" | "),
            comment,
            name,
            ..Column::default()
        }
    };
    all.into_iter().map(column).collect()
}

fn walk(document: &RawDocument<'_>, before: &str, depth: usize, paths: &mut BTreeMap<String, Path>) {
    for (name, element) in document.iter().flatten() {
        let own = if before.is_empty() { name.to_owned() } else { format!("{before}.{name}") };
        if paths.len() >= PATHS && !paths.contains_key(&own) {
            continue;
        }
        let place = paths.len();
        let path = paths.entry(own.clone()).or_insert_with(|| Path { place, ..Path::default() });
        path.met += 1;
        *path.types.entry(Rows::type_name(&element)).or_default() += 1;
        let is_value =
            !matches!(element, Element::Document(_) | Element::Array(_) | Element::Null | Element::Binary(..));
        if is_value && path.examples.len() < 3 {
            let mut text = String::new();
            match element {
                Element::ObjectId(id) => text.push_str(&json::hex(&id)),
                Element::DateTime(millis) => text.push_str(&json::moment(millis)),
                Element::Decimal(bytes) => text.push_str(&decimal::text(bytes)),
                ref other => json::value(other, Form::Relaxed, &mut text),
            }
            let text: String = text.chars().take(24).collect();
            if !path.examples.contains(&text) {
                path.examples.push(text);
            }
        }
        if depth < DEEP {
            match element {
                Element::Document(inside) => walk(&inside, &own, depth + 1, paths),
                // What lies in lists has the path without a number.
                Element::Array(list) => {
                    for (_, inside) in list.iter().flatten().take(20) {
                        if let Element::Document(inside) = inside {
                            walk(&inside, &own, depth + 1, paths);
                        }
                    }
                }
                _ => {}
            }
        }
    }
}

/// How a collection is made, and its indexes.
pub fn definition(of: &Object) -> String {
    let own: Vec<_> =
        of.indexes.iter().filter(|index| index.name != "_id_").map(|index| index.definition.clone()).collect();
    let made = format!("{} create {}", of.name, of.clauses);
    [made.trim().to_owned()].into_iter().chain(own).collect::<Vec<_>>().join("\n\n")
}

impl DocumentSession {
    /// The names of all databases.
    fn databases(&mut self) -> Result<Vec<String>, EngineError> {
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
                "n int | string false 4, \"x\"",
                "tags array true in 1 of 2",
                "tags.a bool true in 1 of 2 · true",
            ]
        );
    }
}
