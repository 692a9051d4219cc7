//! Many rows at once: documents, a thousand to a command. Of the documentation of the server: "insert", "update".

use std::collections::hash_map::RandomState;
use std::hash::{BuildHasher, Hasher};
use std::time::{SystemTime, UNIX_EPOCH};

use arrow_schema::Fields;
use jaunty_documents::bson::field;
use jaunty_documents::{Bson, Document};
use jaunty_language::dialect::documents::read::{self, Value};
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting, NextRows};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::assemble::Value as Mixed;
use jaunty_seam::rows::cell::{CellKind, ColumnReader, type_name};
use jaunty_seam::rows::widen::{mixed_value, typed_as};
use jaunty_seam::rows::{OF_DOCUMENTS, WHOLE_AS, moment};

use super::session::{DocumentSession, pair};
use super::value;

/// So many documents are in a command.
const DOCUMENTS: usize = 1000;
/// And about so many bytes: a server takes 48 MB.
const BYTES: usize = 8 << 20;

/// The code of a value that a unique index has already.
const DUPLICATE: i64 = 11000;

/// Loads rows as documents; returns how many were taken.
///
/// Where all of them are to be new, either all of this call are there afterwards or none: what was added before an error
/// is removed again.
pub fn rows(session: &mut DocumentSession, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
    let command = super::session::command(load.table)?;
    let collection = command.first().and_then(|(_, name)| match name {
        Value::Text(name) => Some(name.clone()),
        _ => None,
    });
    let collection = collection.ok_or_else(|| refused("this is not the name of a collection".to_owned()))?;
    let mut loading =
        Loading { session, collection, meeting: load.meeting, ids: Ids::new(), made: Vec::new(), taken: 0 };
    let outcome = loading.all(load, next);
    match outcome {
        Ok(()) => Ok(loading.taken),
        Err(error) if error.kind != ErrorKind::Lost && loading.undo() => Err(error),
        Err(error) => Err(error.remedy("Documents of the last block may be there: look before you load it again.")),
    }
}

fn refused(what: String) -> EngineError {
    EngineError::new(ErrorKind::Refused, what)
}

struct Loading<'a> {
    session: &'a mut DocumentSession,
    collection: String,
    meeting: Meeting,
    ids: Ids,
    /// The keys of what was added, where it would have to be removed again.
    made: Vec<Bson>,
    taken: u64,
}

impl Loading<'_> {
    fn all(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<(), EngineError> {
        while let Some(batch) = next()? {
            let (schema, columns) = (batch.schema(), ColumnReader::all(&batch));
            let mut waiting: Vec<Document> = Vec::new();
            let mut bytes = 0;
            for row in 0..batch.num_rows() {
                let (document, size) = self.document((load.columns, &columns, schema.fields()), row)?;
                waiting.push(document);
                bytes += size;
                if waiting.len() == DOCUMENTS || bytes > BYTES || row + 1 == batch.num_rows() {
                    if load.stop.is_wished() {
                        return Err(EngineError::stopped());
                    }
                    self.send(std::mem::take(&mut waiting))?;
                    bytes = 0;
                }
            }
        }
        Ok(())
    }

    /// A row as a document, and about how many bytes it has. What is NULL is left out; `place.code` is a field within one.
    fn document(
        &mut self,
        (columns, readers, fields): (&[Column], &[ColumnReader<'_>], &Fields),
        row: usize,
    ) -> Result<(Document, usize), EngineError> {
        let (mut document, mut size) = (Document::new(), 64);
        for ((column, reader), field) in columns.iter().zip(readers).zip(fields) {
            let cell = reader.get(row);
            if cell.kind == CellKind::Null {
                continue;
            }
            size += cell.text.len() + column.name.len() + 8;
            let value = match (field.metadata().contains_key(OF_DOCUMENTS), reader) {
                // A field of documents stays what it was there.
                (true, ColumnReader::Mixed(values)) => match mixed_value(values, row) {
                    Mixed::Typed(kind, text) => value_of(kind, CellKind::Text, text),
                    Mixed::Int(_) => {
                        let of = field.metadata().get(WHOLE_AS).map_or("int", String::as_str);
                        value_of(of, cell.kind, &cell.text)
                    }
                    Mixed::Real(value) => Ok(Bson::Double(value)),
                    _ => value_of("string", cell.kind, &cell.text),
                },
                (true, ColumnReader::Real(values)) => Ok(Bson::Double(values.value(row))),
                (true, _) => value_of(typed_as(field).unwrap_or(&type_name(field)), cell.kind, &cell.text),
                (false, _) => value_of(&column.db_type, cell.kind, &cell.text),
            };
            let value = value.map_err(|what| refused(format!("{}: {what}", column.name)))?;
            put(&mut document, &column.name, value);
        }
        if field(&document, "_id").is_none() {
            document.insert(0, pair("_id", Bson::ObjectId(self.ids.next())));
        }
        Ok((document, size))
    }

    fn send(&mut self, documents: Vec<Document>) -> Result<(), EngineError> {
        let id = |document: &Document| field(document, "_id").cloned().unwrap_or(Bson::Null);
        let count = documents.len();
        let ids: Vec<Bson> = documents.iter().map(id).collect();
        let documents = documents.into_iter();
        let command = match self.meeting {
            Meeting::Refuse | Meeting::Skip => vec![
                pair("insert", Bson::text(&*self.collection)),
                pair("documents", Bson::Array(documents.map(Bson::Document).collect())),
                pair("ordered", Bson::Bool(self.meeting == Meeting::Refuse)),
            ],
            Meeting::Replace => {
                let update = |document: Document| {
                    let q = Bson::Document(vec![pair("_id", id(&document))]);
                    Bson::Document(vec![
                        pair("q", q),
                        pair("u", Bson::Document(document)),
                        pair("upsert", Bson::Bool(true)),
                    ])
                };
                vec![
                    pair("update", Bson::text(&*self.collection)),
                    pair("updates", Bson::Array(documents.map(update).collect())),
                ]
            }
        };
        let written = self.session.write(command)?;
        let failed = written.errors.into_iter().find(|(_, error)| {
            self.meeting != Meeting::Skip
                || !error.code.as_deref().is_some_and(|code| code.starts_with(&DUPLICATE.to_string()))
        });
        if self.meeting == Meeting::Refuse {
            // In their order: those before the first error are there.
            let added = failed.as_ref().map_or(count, |(at, _)| *at);
            self.made.extend(ids.into_iter().take(added));
        }
        match failed {
            Some((_, error)) => Err(error),
            None => {
                self.taken += written.count;
                Ok(())
            }
        }
    }

    /// Removes what was added. False if that could not be.
    fn undo(&mut self) -> bool {
        let mut done = true;
        self.session.heed_nobody();
        let all = std::mem::take(&mut self.made);
        for some in all.chunks(DOCUMENTS) {
            let q = vec![pair("_id", Bson::Document(vec![pair("$in", Bson::Array(some.to_vec()))]))];
            let delete = Bson::Document(vec![pair("q", Bson::Document(q)), pair("limit", Bson::Int32(0))]);
            let command =
                vec![pair("delete", Bson::text(&*self.collection)), pair("deletes", Bson::Array(vec![delete]))];
            if let Err(error) = self.session.write(command) {
                tracing::warn!(%error, "documents of a load that failed are still there");
                done = false;
            }
        }
        done
    }
}

/// Puts a value at a path.
fn put(document: &mut Document, path: &str, value: Bson) {
    let inside = path.split_once('.').filter(|(name, rest)| !name.is_empty() && !rest.is_empty());
    let Some((name, rest)) = inside else { return document.push(pair(path, value)) };
    match document.iter_mut().find(|(own, _)| own == name) {
        Some((_, Bson::Document(own))) => put(own, rest, value),
        // A field of that name is there, and no document: both stay.
        Some(_) => document.push(pair(path, value)),
        None => {
            let mut own = Document::new();
            put(&mut own, rest, value);
            document.push(pair(name, Bson::Document(own)));
        }
    }
}

/// A value of a type, by the names that the server has for them.
fn value_of(of: &str, kind: CellKind, text: &str) -> Result<Bson, String> {
    let not = |what: &str| format!("\"{}\" is not {what}", text.chars().take(40).collect::<String>());
    let written = |name: &str| {
        let stands = Value::Object(vec![(name.to_owned(), Value::Text(text.trim().to_owned()))]);
        value::bson(&stands, &[])
    };
    Ok(match of {
        "int" | "long" => match text.trim().parse::<i64>() {
            Ok(number) if of == "int" => i32::try_from(number).map_or(Bson::Int64(number), Bson::Int32),
            Ok(number) => Bson::Int64(number),
            Err(_) => return Err(not("a whole number of 64 bits")),
        },
        "double" => {
            let number: f64 = text.trim().parse().map_err(|_| not("a number"))?;
            // What has more digits than a double keeps them.
            let digits =
                text.trim().trim_start_matches(['-', '+', '0', '.']).bytes().filter(u8::is_ascii_digit).count();
            if digits <= 15 { Bson::Double(number) } else { written("$numberDecimal").unwrap_or(Bson::Double(number)) }
        }
        "bool" => match text.trim().to_ascii_lowercase().as_str() {
            "true" | "t" | "yes" | "1" => Bson::Bool(true),
            "false" | "f" | "no" | "0" => Bson::Bool(false),
            _ => return Err(not("true or false")),
        },
        "objectId" | "objectid" => written("$oid").map_err(|_| not("an ObjectId"))?,
        "decimal" => written("$numberDecimal").map_err(|_| not("a decimal"))?,
        "date" => match moment::instant(text.trim(), None) {
            Some(micros) => Bson::DateTime(micros.div_euclid(1000)),
            None => return Err(not("a timestamp")),
        },
        _ if kind == CellKind::Binary => {
            let digits = text.trim_start_matches("\\x");
            Bson::Binary(0, jaunty_language::dialect::bytes_of(digits))
        }
        "string" => Bson::text(text),
        // Objects, lists, and what else is written as Extended JSON.
        _ => match read::value(text) {
            Ok(read) => value::bson(&read, &[])?,
            Err(_) => Bson::text(text),
        },
    })
}

/// Numbers of objects, in the order in which they are given: seconds, a number of this load, and a count.
struct Ids {
    begins: [u8; 9],
    count: u32,
}

impl Ids {
    fn new() -> Ids {
        let mut begins = [0; 9];
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |time| time.as_secs() as u32);
        begins[..4].copy_from_slice(&now.to_be_bytes());
        begins[4..].copy_from_slice(&RandomState::new().build_hasher().finish().to_be_bytes()[..5]);
        Ids { begins, count: 0 }
    }

    fn next(&mut self) -> [u8; 12] {
        let mut id = [0; 12];
        id[..9].copy_from_slice(&self.begins);
        id[9..].copy_from_slice(&self.count.to_be_bytes()[1..]);
        self.count += 1;
        if self.count == 1 << 24 {
            *self = Ids::new();
        }
        id
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_object_has_a_number_of_its_own() {
        let mut ids = Ids::new();
        let first = ids.next();
        assert!(ids.next() > first, "they come in their order");
        assert_ne!(Ids::new().next(), first, "and another load has others");
        ids.count = (1 << 24) - 1;
        let last = ids.next();
        assert_ne!(ids.next(), last);
    }

    #[test]
    fn a_number_keeps_its_digits() {
        let of = |text: &str| value_of("double", CellKind::Text, text);
        assert_eq!(of("12.50"), Ok(Bson::Double(12.5)));
        assert_eq!(of("1e-300"), Ok(Bson::Double(1e-300)));
        assert!(matches!(of("12345678901234567.125"), Ok(Bson::Decimal(_))));
        assert_eq!(of("much"), Err("\"much\" is not a number".into()));
        assert_eq!(value_of("int", CellKind::Text, "9000000000"), Ok(Bson::Int64(9_000_000_000)));
        assert_eq!(value_of("date", CellKind::Text, "2031-03-05"), Ok(Bson::DateTime(1_930_435_200_000)));
        assert_eq!(value_of("object", CellKind::Text, "{\"$oid\": 1"), Ok(Bson::text("{\"$oid\": 1")));
    }

    #[test]
    fn names_with_dots_are_fields_within_fields() {
        let mut document = Document::new();
        for (path, value) in [("code", 1), ("place.x", 2), ("place.y.z", 3), ("code.a", 4), (".b", 5), ("c.", 6)] {
            put(&mut document, path, Bson::Int32(value));
        }
        let names: Vec<&str> = document.iter().map(|(name, _)| name.as_str()).collect();
        assert_eq!(names, ["code", "place", "code.a", ".b", "c."]);
        let Some(Bson::Document(place)) = field(&document, "place") else { panic!("no document") };
        assert_eq!(place.len(), 2);
    }
}
