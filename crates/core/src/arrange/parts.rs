//! A column of objects or lists, opened into a column for each of their parts.
//!
//! What comes of it is an archive of its own beside the one that it was made from: sorted, searched, drawn and exported as
//! any other. The archive that was opened stays as it is.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::fmt;
use std::path::Path;
use std::sync::Arc;

use arrow_array::{RecordBatch, RecordBatchOptions};
use arrow_schema::{Field, Schema};
use jaunty_seam::rows::OF_DOCUMENTS;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value};
use jaunty_seam::rows::cell::{CellKind, ColumnReader, type_name};
use jaunty_seam::rows::nested::Nested;
use serde::Deserializer as _;
use serde::de::{MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;

use super::{ArrangeError, Progress};
use crate::archive::{Archive, Writer};

/// The most parts that become columns.
const MOST: usize = 200;

/// So many are counted: where names are data there are as many as there are rows.
const COUNTED: usize = 100_000;

/// What came of opening a column.
#[derive(Debug)]
pub struct Opened {
    /// The rows with a column for each part in the place of the one that was opened.
    pub archive: Arc<Archive>,
    /// The place of the first part.
    pub at: usize,
    /// How many parts became columns.
    pub parts: usize,
    /// How many others there are, which did not.
    pub left_out: usize,
}

/// Why a column could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// None of its values has parts.
    #[error("no value of {0} is an object or a list")]
    NoParts(String),
    /// The rows could not be read or written.
    #[error(transparent)]
    Rows(#[from] ArrangeError),
}

impl From<crate::archive::ArchiveError> for OpenError {
    fn from(error: crate::archive::ArchiveError) -> OpenError {
        OpenError::Rows(error.into())
    }
}

impl From<arrow_schema::ArrowError> for OpenError {
    fn from(error: arrow_schema::ArrowError) -> OpenError {
        OpenError::Rows(crate::archive::ArchiveError::from(error).into())
    }
}

/// Whether a text may be an object or a list.
fn may_have_parts(text: &str) -> bool {
    text.trim_start().starts_with(['{', '['])
}

/// The parts of an object under their names, in their order, or those of a list under their numbers; nothing for other
/// JSON.
pub fn parts_in_order(text: &str) -> Option<Vec<(Cow<'_, str>, &RawValue)>> {
    struct Parts;
    impl<'de> Visitor<'de> for Parts {
        type Value = Vec<(Cow<'de, str>, &'de RawValue)>;

        fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
            formatter.write_str("an object or a list")
        }

        fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
            let mut parts = Vec::new();
            while let Some((name, value)) = map.next_entry::<String, &RawValue>()? {
                parts.push((Cow::Owned(name), value));
            }
            Ok(parts)
        }

        fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Self::Value, A::Error> {
            let mut parts = Vec::new();
            while let Some(value) = list.next_element::<&RawValue>()? {
                parts.push((Cow::Owned(parts.len().to_string()), value));
            }
            Ok(parts)
        }
    }
    if !may_have_parts(text) {
        return None;
    }
    serde_json::Deserializer::from_str(text).deserialize_any(Parts).ok()
}

/// Puts a value as text where its parts can be seen: a list as JSON has it.
fn put(reader: &ColumnReader<'_>, (row, lists): (usize, Option<Nested>), text: &mut String) -> CellKind {
    text.clear();
    let kind = reader.put(row, text);
    if let Some(json) = lists.filter(|_| kind != CellKind::Null).and_then(|lists| lists.json(text)) {
        *text = json;
    }
    kind
}

/// The type of lists that a column's values are, if they are not written as JSON.
fn lists_of(field: &Field) -> Option<Nested> {
    Nested::of(&type_name(field)).filter(|nested| matches!(nested, Nested::Array(_)))
}

/// The parts of a value, unless it stands for one of a type of its own.
fn parts_of(text: &str) -> Option<Vec<(Cow<'_, str>, &RawValue)>> {
    if typed(text).is_some() { None } else { parts_in_order(text) }
}

/// The type and the text of a value of Extended JSON that stands for one with a type of its own.
fn typed(text: &str) -> Option<(&'static str, String)> {
    if !text.starts_with("{\"$") && !text.starts_with("{ \"$") {
        return None;
    }
    let object: serde_json::Map<String, serde_json::Value> = serde_json::from_str(text).ok()?;
    let (name, value) = object.iter().next().filter(|_| object.len() == 1)?;
    let string = || value.as_str().map(str::to_owned);
    match name.as_str() {
        "$oid" => Some(("objectId", string()?)),
        "$date" => Some(("date", string()?)),
        "$numberDecimal" => Some(("decimal", string()?)),
        "$numberLong" => Some(("long", string()?)),
        "$binary" => Some(("binData", text.to_owned())),
        "$regularExpression" => Some(("regex", text.to_owned())),
        "$timestamp" => Some(("timestamp", text.to_owned())),
        "$minKey" => Some(("minKey", text.to_owned())),
        "$maxKey" => Some(("maxKey", text.to_owned())),
        _ => None,
    }
}

/// A value of a part, as it is put into a column.
enum Cell {
    Null,
    Int(i64),
    Real(f64),
    Text(String),
    Typed(&'static str, String),
}

impl Cell {
    fn of(text: &str) -> Cell {
        match text.as_bytes().first() {
            None | Some(b'n') => Cell::Null,
            Some(b'"') => serde_json::from_str(text).map_or(Cell::Null, Cell::Text),
            Some(b't' | b'f') => Cell::Typed("bool", text.to_owned()),
            Some(b'{') => typed(text)
                .map_or_else(|| Cell::Typed("object", text.to_owned()), |(kind, text)| Cell::Typed(kind, text)),
            Some(b'[') => Cell::Typed("array", text.to_owned()),
            _ if !text.contains(['.', 'e', 'E']) && text.parse::<i64>().is_ok() => Cell::Int(text.parse().unwrap_or(0)),
            // What no number of 64 bits holds keeps its digits.
            _ => match text.parse::<f64>() {
                Ok(value) if text.len() < 17 || format!("{value:?}") == text => Cell::Real(value),
                _ => Cell::Typed("decimal", text.to_owned()),
            },
        }
    }

    fn value(&self) -> Value<'_> {
        match self {
            Cell::Null => Value::Null,
            Cell::Int(value) => Value::Int(*value),
            Cell::Real(value) => Value::Real(*value),
            Cell::Text(text) => Value::Text(text),
            Cell::Typed(kind, text) => Value::Typed(kind, text),
        }
    }
}

/// Opens a column of an archive; the rows go into a new archive at `into`.
pub fn open(archive: &Archive, column: usize, into: &Path, progress: &Progress) -> Result<Opened, OpenError> {
    let rows = archive.rows();
    progress.expect(rows * 2);
    let schema = archive.schema();
    let field = schema
        .fields()
        .get(column)
        .cloned()
        .unwrap_or_else(|| Arc::new(Field::new("", arrow_schema::DataType::Null, true)));
    // First which parts there are, so that their columns stand where the one was.
    let (mut names, mut plain): (Vec<String>, bool) = (Vec::new(), false);
    let mut seen: HashSet<String> = HashSet::new();
    let mut text = String::new();
    for batch in archive.scan(Some(&[column]), 0..rows) {
        let (_, batch) = batch?;
        let reader = ColumnReader::of(batch.column(0), batch.schema_ref().field(0));
        let lists = lists_of(batch.schema_ref().field(0));
        for row in 0..batch.num_rows() {
            if put(&reader, (row, lists), &mut text) == CellKind::Null {
                continue;
            }
            let Some(parts) = parts_of(&text) else {
                plain = true;
                continue;
            };
            for (name, _) in parts {
                if !seen.contains(&*name) && seen.len() < COUNTED {
                    if names.len() < MOST {
                        names.push(name.clone().into_owned());
                    }
                    seen.insert(name.into_owned());
                }
            }
        }
        progress.advance(batch.num_rows()).map_err(OpenError::Rows)?;
    }
    if names.is_empty() {
        return Err(OpenError::NoParts(field.name().clone()));
    }
    let left_out = seen.len() - names.len();
    drop(seen);
    let of_documents = field.metadata().contains_key(OF_DOCUMENTS);
    let named = |name: String| Announced { name, of_documents, ..Announced::default() };
    // Values that have no parts stay under the name of the column.
    let mut announced: Vec<Announced> = plain.then(|| named(field.name().clone())).into_iter().collect();
    announced.extend(names.iter().map(|name| named(format!("{}.{name}", field.name()))));
    let count = announced.len();
    let mut assembler = Assembler::new(announced);
    let places: HashMap<&str, usize> =
        names.iter().enumerate().map(|(at, name)| (name.as_str(), at + usize::from(plain))).collect();
    let mut writer: Option<Writer> = None;
    for batch in archive.scan(None, 0..rows) {
        let (_, batch) = batch?;
        let opened = spliced(&batch, column, (&places, plain), &mut assembler)?;
        if writer.is_none() {
            writer = Some(Writer::create(into, &opened.schema())?);
        }
        if let Some(writer) = &mut writer {
            writer.write(&opened)?;
        }
        progress.advance(batch.num_rows()).map_err(OpenError::Rows)?;
    }
    let Some(writer) = writer else { return Err(OpenError::NoParts(field.name().clone())) };
    let archive = Arc::clone(writer.archive());
    writer.finish()?;
    Ok(Opened { archive, at: column, parts: count, left_out })
}

/// A batch with the parts of a column in its place.
fn spliced(
    batch: &RecordBatch,
    column: usize,
    (places, plain): (&HashMap<&str, usize>, bool),
    assembler: &mut Assembler,
) -> Result<RecordBatch, OpenError> {
    let schema = batch.schema();
    let Some(values) = batch.columns().get(column) else { return Ok(batch.clone()) };
    let (reader, lists) = (ColumnReader::of(values, schema.field(column)), lists_of(schema.field(column)));
    let count = places.len() + usize::from(plain);
    let mut text = String::new();
    let mut cells: Vec<Cell> = Vec::new();
    let mut whole = Vec::new();
    for row in 0..batch.num_rows() {
        cells.clear();
        cells.resize_with(count, || Cell::Null);
        let kind = put(&reader, (row, lists), &mut text);
        match parts_of(&text) {
            _ if kind == CellKind::Null => {}
            Some(parts) => {
                // Of a name that is there twice the last counts, as for most readers of JSON.
                for (name, value) in parts {
                    if let Some(at) = places.get(&*name) {
                        cells[*at] = Cell::of(value.get());
                    }
                }
            }
            None if plain => {
                cells[0] = match kind {
                    CellKind::Number | CellKind::Boolean => Cell::of(&text),
                    _ => Cell::Text(text.clone()),
                };
            }
            None => {}
        }
        if assembler.push_row(|column| cells.get(column).map_or(Value::Null, Cell::value))? {
            whole.push(assembler.take()?);
        }
    }
    whole.push(assembler.take()?);
    let parts = joined(&whole)?;
    let mut fields: Vec<_> = schema.fields().iter().take(column).cloned().collect();
    fields.extend(parts.schema().fields().iter().cloned());
    fields.extend(schema.fields().iter().skip(column + 1).cloned());
    let mut columns: Vec<_> = batch.columns().iter().take(column).cloned().collect();
    columns.extend(parts.columns().iter().cloned());
    columns.extend(batch.columns().iter().skip(column + 1).cloned());
    let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
    let schema = Arc::new(Schema::new_with_metadata(fields, schema.metadata().clone()));
    Ok(RecordBatch::try_new_with_options(schema, columns, &options)?)
}

/// Batches as one: the later ones may be wider.
fn joined(batches: &[RecordBatch]) -> Result<RecordBatch, OpenError> {
    let Some(last) = batches.last() else { return Ok(RecordBatch::new_empty(Arc::new(Schema::empty()))) };
    let schema = last.schema();
    let wide = batches.iter().map(|batch| jaunty_seam::rows::widen::widen_batch(batch, &schema));
    Ok(arrow_select::concat::concat_batches(&schema, &wide.collect::<Result<Vec<_>, _>>()?)?)
}

#[cfg(test)]
mod tests {
    use arrow_array::{ArrayRef, Int64Array, StringArray};
    use jaunty_seam::rows::cell::column_text;

    use super::*;

    fn archive(folder: &Path, texts: Vec<Option<&str>>) -> Arc<Archive> {
        let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(0..texts.len() as i64));
        let texts: ArrayRef = Arc::new(StringArray::from(texts));
        let batch = RecordBatch::try_from_iter([("id", numbers), ("a", texts.clone()), ("z", texts)]).unwrap();
        let mut writer = Writer::create(&folder.join("own.arrow"), &batch.schema()).unwrap();
        writer.write(&batch).unwrap();
        let archive = Arc::clone(writer.archive());
        writer.finish().unwrap();
        archive
    }

    fn opened(texts: Vec<Option<&str>>) -> Result<(Vec<String>, Vec<Vec<String>>), String> {
        let folder = tempfile::tempdir().unwrap();
        let own = archive(folder.path(), texts);
        let opened = open(&own, 1, &folder.path().join("parts.arrow"), &Progress::default());
        let opened = opened.map_err(|error| error.to_string())?;
        assert_eq!((opened.archive.rows(), opened.at), (own.rows(), 1));
        let mut columns = Vec::new();
        for batch in opened.archive.scan(None, 0..own.rows()) {
            columns = batch.unwrap().1.columns().iter().map(column_text).collect();
        }
        let names = opened.archive.schema().fields().iter().map(|field| field.name().clone()).collect();
        assert_eq!(
            columns.pop(),
            Some(column_text(&own.scan(Some(&[2]), 0..9).next().unwrap().unwrap().1.column(0).clone()))
        );
        Ok((names, columns))
    }

    #[test]
    fn parts_stand_where_the_column_was() {
        let texts = vec![
            Some(r#"{"code": "SMQ", "n": 1, "deep": {"a": [1]}}"#),
            None,
            Some(r#"{"n": 2.5, "late": true, "code": null, "at": {"$date": "2031-03-05T00:00:00Z"}}"#),
        ];
        let (names, columns) = opened(texts).unwrap();
        assert_eq!(names, ["id", "a.code", "a.n", "a.deep", "a.late", "a.at", "z"]);
        assert_eq!(columns[1], ["SMQ", "∅", "∅"]);
        assert_eq!(columns[2], ["1", "∅", "2.5"]);
        assert_eq!(columns[3], [r#"{"a": [1]}"#, "∅", "∅"]);
        assert_eq!((&columns[4][2], &columns[5][2]), (&"true".to_owned(), &"2031-03-05T00:00:00Z".to_owned()));
    }

    #[test]
    fn lists_have_numbers_and_other_values_stay() {
        let (names, columns) = opened(vec![Some(r#"["x", 7]"#), Some("plain"), Some("[]")]).unwrap();
        assert_eq!(names, ["id", "a", "a.0", "a.1", "z"]);
        assert_eq!(
            (columns[1].join(" "), columns[2].join(" "), columns[3].join(" ")),
            ("∅ plain ∅".into(), "x ∅ ∅".into(), "7 ∅ ∅".into())
        );
    }

    #[test]
    fn arrays_of_a_server_are_opened_as_lists() {
        let folder = tempfile::tempdir().unwrap();
        let values: ArrayRef = Arc::new(StringArray::from(vec![Some(r#"{7,"b, c",NULL}"#), None, Some("{}")]));
        let of = HashMap::from([(jaunty_seam::rows::DB_TYPE.to_owned(), "text[]".to_owned())]);
        let field = Field::new("tags", arrow_schema::DataType::Utf8, true).with_metadata(of);
        let batch = RecordBatch::try_new(Arc::new(Schema::new(vec![field])), vec![values]).unwrap();
        let mut writer = Writer::create(&folder.path().join("own.arrow"), &batch.schema()).unwrap();
        writer.write(&batch).unwrap();
        let own = Arc::clone(writer.archive());
        writer.finish().unwrap();
        let opened = open(&own, 0, &folder.path().join("parts.arrow"), &Progress::default()).unwrap();
        let (_, batch) = opened.archive.scan(None, 0..1).next().unwrap().unwrap();
        let row: Vec<_> = batch.columns().iter().map(|column| column_text(column)[0].clone()).collect();
        assert_eq!((opened.parts, row), (3, ["7", "b, c", "∅"].map(str::to_owned).to_vec()));
    }

    #[test]
    fn numbers_of_every_kind_stay_numbers() {
        for (text, is_real) in
            [("1.5", true), ("0.30000000000000004", true), ("1e300", true), ("0.123456789012345678901", false)]
        {
            assert_eq!(matches!(Cell::of(text), Cell::Real(_)), is_real, "{text}");
        }
        assert!(matches!(Cell::of("12345678901234567890"), Cell::Typed("decimal", _)));
        assert!(matches!(Cell::of("{\"$numberLong\": \"7\"}"), Cell::Typed("long", _)));
    }

    #[test]
    fn what_has_no_parts_is_not_opened() {
        for texts in [vec![Some("plain"), None], vec![Some("{broken"), Some("{}")], vec![None]] {
            assert_eq!(opened(texts), Err("no value of a is an object or a list".to_owned()));
        }
    }

    #[test]
    fn many_parts_are_counted() {
        let folder = tempfile::tempdir().unwrap();
        let all: Vec<String> = (0..250).map(|n| format!("\"k{n}\": {n}")).collect();
        let own = archive(folder.path(), vec![Some(&format!("{{{}}}", all.join(", ")))]);
        let opened = open(&own, 1, &folder.path().join("parts.arrow"), &Progress::default()).unwrap();
        assert_eq!((opened.parts, opened.left_out), (200, 50));
    }
}
