//! Changes of documents: fields put in their place or taken out, documents added and removed.
//!
//! A document is found by all that was read of it, so that nothing happens where somebody changed it meanwhile; a change
//! says only what differs, down to the field within a field
//! (<https://www.mongodb.com/docs/manual/reference/operator/update/>).

use std::collections::BTreeMap;

use super::change::{collection_of, compared};
use super::read::{self, Value};
use super::statement::{self, key, name, written};
use crate::dialect::{
    Answer, Around, Datum, Edit, Elements, Found, Part, Place, Planned, Reading, Row, Source, Takes, Undo,
};

/// Documents of a collection.
#[derive(Debug)]
pub(super) struct Documents;

/// The name of the part that is all of the document.
const WHOLE: &str = "(document)";
/// The column of fields that have none.
const OTHERS: &str = "(others)";

/// A value, as it is written.
fn value_of(datum: &Datum) -> Value {
    match datum {
        Datum::Null | Datum::Default | Datum::Absent => Value::Null,
        Datum::Bool(value) => Value::Bool(*value),
        Datum::Number(text) => Value::Number(text.clone()),
        Datum::Text(text) | Datum::Bytes(text) => Value::Text(text.clone()),
        Datum::Written(text) => read::value(text).unwrap_or(Value::Null),
    }
}

fn fields_of(document: &str) -> Vec<(String, Value)> {
    match read::value(document) {
        Ok(Value::Object(fields)) => fields,
        _ => Vec::new(),
    }
}

fn of<'a>(fields: &'a [(String, Value)], name: &str) -> Option<&'a Value> {
    fields.iter().find(|(field, _)| field == name).map(|(_, value)| value)
}

/// Whether a name means the field, where a statement has a path.
fn is_path(name: &str) -> bool {
    !name.is_empty() && !name.starts_with('$') && !name.contains('.')
}

fn whole(place: &Place) -> usize {
    place.parts.iter().position(|part| part.whole).unwrap_or(place.parts.len())
}

fn of_id(place: &Place) -> usize {
    place.parts.iter().position(|part| part.is_key).unwrap_or(place.parts.len())
}

/// All of a document, where it is known as the server has it.
fn exact<'a>(place: &Place, row: &'a Row) -> Option<&'a str> {
    match row.get(whole(place))?.as_ref()? {
        Datum::Written(text) => Some(text),
        _ => None,
    }
}

/// What finds a document that was read, and no other, if it still is as it was.
fn filter(place: &Place, row: &Row) -> String {
    let condition = |(part, value): (&Part, &Option<Datum>)| {
        let value = value.as_ref().filter(|_| is_path(&part.name) && !part.whole)?;
        let text = match value {
            Datum::Absent => "{ $exists: false }".to_owned(),
            value => written(&compared(value_of(value))),
        };
        Some(format!("{}: {text}", key(&part.name)))
    };
    let all: Vec<String> = place.parts.iter().zip(row).filter_map(condition).collect();
    format!("{{ {} }}", all.join(", "))
}

/// What an update sets, and what it takes out.
#[derive(Default)]
struct Changes {
    set: Vec<String>,
    unset: Vec<String>,
}

impl Changes {
    fn set(&mut self, path: &str, value: &Value) {
        self.set.push(format!("{}: {}", key(path), written(value)));
    }

    /// A field that is to be another one: only what differs in it.
    fn differ(&mut self, path: &str, old: &Value, new: &Value) {
        match (old, new) {
            (old, new) if old == new => {}
            (Value::Object(old), Value::Object(new)) if are_fields(old) && are_fields(new) && !old.is_empty() => {
                let at = |name: &str| format!("{path}.{name}");
                for (name, value) in new {
                    match of(old, name) {
                        Some(before) => self.differ(&at(name), before, value),
                        None => self.set(&at(name), value),
                    }
                }
                let gone = old.iter().filter(|(name, _)| of(new, name).is_none());
                self.unset.extend(gone.map(|(name, _)| format!("{}: \"\"", key(&at(name)))));
            }
            (_, new) => self.set(path, new),
        }
    }

    /// The document that an update has; nothing where it would change nothing.
    fn written(&self) -> Option<String> {
        let part =
            |operator: &str, all: &[String]| (!all.is_empty()).then(|| format!("{operator}: {{ {} }}", all.join(", ")));
        let parts: Vec<_> = [part("$set", &self.set), part("$unset", &self.unset)].into_iter().flatten().collect();
        (!parts.is_empty()).then(|| format!("{{ {} }}", parts.join(", ")))
    }
}

/// Whether the fields of an object can be named by paths: not where it stands for a value of another type.
fn are_fields(fields: &[(String, Value)]) -> bool {
    fields.iter().all(|(name, _)| is_path(name))
}

impl Elements for Documents {
    fn place(&self, text: &str, columns: &[(String, String)]) -> Result<Place, String> {
        let command = statement::command(text).map_err(|mistake| mistake.message)?;
        if command.iter().any(|(name, _)| name == "$db") {
            return Err("the statement names a database of its own: switch to that, and read them there".into());
        }
        let collection = collection_of(&command)
            .ok_or("these rows are not documents of a collection: the statement computes them")?;
        if !columns.iter().any(|(name, _)| name == "_id") {
            return Err("the rows have no _id, which identifies a document".into());
        }
        if columns.iter().any(|(name, _)| name == OTHERS) {
            return Err("the documents have more fields than there are columns: write the change by hand".into());
        }
        let part = |(at, (name, about)): (usize, &(String, String))| Part {
            name: name.clone(),
            about: about.clone(),
            source: Source::Column(at),
            takes: Takes::Value,
            is_key: name == "_id",
            lasting: name == "_id",
            fixed: !is_path(name),
            optional: name != "_id",
            whole: false,
        };
        let mut parts: Vec<Part> = columns.iter().enumerate().map(part).collect();
        parts.push(Part {
            name: WHOLE.to_owned(),
            about: "object".to_owned(),
            takes: Takes::Value,
            whole: true,
            ..Part::default()
        });
        Ok(Place {
            written: name(&collection),
            name: collection,
            element: "document".to_owned(),
            parts,
            can: [true, true],
        })
    }

    fn has_documents(&self) -> bool {
        true
    }

    fn of_document(&self, place: &Place, document: &str, is_exact: bool) -> Result<Row, String> {
        let value = read::value(document).map_err(|mistake| mistake.message)?;
        let all = written(&value);
        let Value::Object(fields) = value else { return Err("it is not a document".into()) };
        let nothing = if is_exact { Datum::Absent } else { Datum::Null };
        let part = |part: &Part| {
            Some(match (part.whole, of(&fields, &part.name)) {
                // As it is kept it lacks fields that are NULL.
                (true, _) if is_exact => Datum::Written(all.clone()),
                (true, _) => Datum::Text(all.clone()),
                (_, None) => nothing.clone(),
                (_, Some(Value::Null)) => Datum::Null,
                (_, Some(value)) => Datum::Written(written(value)),
            })
        };
        Ok(place.parts.iter().map(part).collect())
    }

    fn plan(&self, place: &Place, edits: &[Edit<'_>]) -> Result<Vec<Planned>, (usize, String)> {
        let mut order: Vec<usize> = (0..edits.len()).collect();
        order.sort_by_key(|at| match &edits[*at] {
            Edit::Delete(_) => 0,
            Edit::Change(..) => 1,
            Edit::Add(_) => 2,
        });
        order.into_iter().map(|at| plan(place, &edits[at], at).map_err(|what| (at, what))).collect()
    }

    fn found(&self, place: &Place, edit: &Edit<'_>, _: &Planned, answers: &[Answer]) -> Found {
        let Some(old) = edit.old() else { return Found::Same(None) };
        let answer = answers.first();
        let row = answer.and_then(|answer| self.of_document(place, answer.row.as_ref()?.first()?.text(), true).ok());
        let is_other = answer.is_some_and(|answer| answer.is_other);
        match row {
            Some(now) if !is_other && exact(place, old).is_none_or(|old| exact(place, &now) == Some(old)) => {
                Found::Same(Some(now))
            }
            now => Found::Other(now),
        }
    }

    fn became(&self, place: &Place, _: &Edit<'_>, _: &Planned, [_, after]: [&[Answer]; 2]) -> Option<Row> {
        self.of_document(place, after.first()?.row.as_ref()?.first()?.text(), true).ok()
    }

    fn opposite(&self, place: &Place, edit: &Edit<'_>, before: Option<&Row>, after: Option<&Row>) -> Option<Undo> {
        let all = whole(place);
        Some(match edit {
            Edit::Delete(_) => Undo::Add(BTreeMap::from([(all, before?.get(all)?.clone()?)])),
            Edit::Add(_) => Undo::Delete(after?.clone()),
            Edit::Change(..) => {
                let (before, after) = (before?, after?);
                let (was, is) = (fields_of(exact(place, before)?), fields_of(exact(place, after)?));
                // A field that is put back comes last; where one was taken out the document itself is put back, in its order.
                let same_fields = was.len() == is.len() && was.iter().zip(&is).all(|((a, _), (b, _))| a == b);
                let known = |name: &str| place.parts.iter().any(|part| part.name == name && !part.fixed);
                let differing = was.iter().zip(&is).filter(|(was, is)| was.1 != is.1);
                let in_place =
                    same_fields && differing.clone().all(|((name, was), (_, is))| known(name) && in_order(was, is));
                if !in_place {
                    return Some(Undo::Change(after.clone(), BTreeMap::from([(all, before.get(all)?.clone()?)])));
                }
                let new = differing.filter_map(|((name, value), _)| {
                    let part = place.parts.iter().position(|part| part.name == *name)?;
                    let value = if *value == Value::Null { Datum::Null } else { Datum::Written(written(value)) };
                    Some((part, value))
                });
                Undo::Change(after.clone(), new.collect())
            }
        })
    }

    fn around(&self, _: &Place, _: &[Edit<'_>]) -> Around {
        Around {
            first: "begin".into(),
            may_be_refused: true,
            within: "",
            last: "commit",
            back: ["rollback", "rollback"],
            remark: "//",
        }
    }

    fn type_of_decimals(&self) -> Option<&'static str> {
        Some("decimal")
    }

    fn types(&self) -> Option<&'static [&'static str; 13]> {
        Some(&TYPES)
    }

    fn plain(&self, text: &str) -> Option<(String, String)> {
        let value = read::value(text).ok()?;
        let only = |fields: &[(String, Value)]| match fields {
            [(name, Value::Text(text))] => {
                let of = WRAPPED.iter().find(|(_, wrapper)| wrapper == name)?.0;
                Some((of.to_owned(), text.clone()))
            }
            _ => None,
        };
        Some(match &value {
            Value::Text(text) => ("string".to_owned(), text.clone()),
            Value::Bool(value) => ("bool".to_owned(), value.to_string()),
            Value::Number(text) if is_whole(text) => {
                let fits = text.parse::<i32>().is_ok();
                (if fits { "int" } else { "long" }.to_owned(), text.clone())
            }
            Value::Number(text) => ("double".to_owned(), text.clone()),
            Value::Object(fields) => only(fields).unwrap_or_else(|| ("object".to_owned(), written(&value))),
            value => ("array".to_owned(), written(value)),
        })
    }

    fn written(&self, of: &str, text: &str) -> Result<String, String> {
        let shaped = text.trim();
        let number = || shaped.parse::<f64>().ok().filter(|number| number.is_finite());
        let wrapped = |wrapper: &str, text: &str| {
            written(&Value::Object(vec![(wrapper.to_owned(), Value::Text(text.to_owned()))]))
        };
        let not = |what: &str| Err(format!("\"{}\" is not {what}", text.chars().take(24).collect::<String>()));
        match of.to_ascii_lowercase().as_str() {
            "string" => Ok(written(&Value::Text(text.to_owned()))),
            "bool" => match shaped.to_ascii_lowercase().as_str() {
                "true" => Ok("true".into()),
                "false" => Ok("false".into()),
                _ => Err("it has to be true or false".into()),
            },
            "int" | "long" if !is_whole(shaped) => not("a whole number"),
            "int" => match shaped.parse::<i64>() {
                Ok(number) => Ok(number.to_string()),
                Err(_) => Err("it does not fit 64 bits".into()),
            },
            "long" => match shaped.parse::<i64>() {
                Ok(number) if i32::try_from(number).is_ok() => Ok(wrapped("$numberLong", &number.to_string())),
                Ok(number) => Ok(number.to_string()),
                Err(_) => Err("it does not fit 64 bits".into()),
            },
            "double" => match number() {
                Some(number) => Ok(format!("{number:?}")),
                None if matches!(shaped, "NaN" | "Infinity" | "-Infinity") => Ok(wrapped("$numberDouble", shaped)),
                None => not("a number"),
            },
            "decimal" if number().is_some() || matches!(shaped, "NaN" | "Infinity" | "-Infinity") => {
                Ok(wrapped("$numberDecimal", shaped))
            }
            "decimal" => not("a number"),
            "objectid" => match shaped.len() == 24 && shaped.bytes().all(|byte| byte.is_ascii_hexdigit()) {
                true => Ok(wrapped("$oid", &shaped.to_ascii_lowercase())),
                false => Err("an ObjectId has 24 hexadecimal digits".into()),
            },
            "date" => match shaped.len() >= 10 && shaped.as_bytes().first().is_some_and(u8::is_ascii_digit) {
                true => Ok(wrapped("$date", shaped)),
                false => Err("write a timestamp as 2031-03-05T07:30:00Z".into()),
            },
            "uuid" => Ok(wrapped("$uuid", shaped)),
            _ => match read::value(shaped) {
                Ok(Value::Parameter(name)) => Err(format!("{name} is a parameter and not a value")),
                Ok(value) => Ok(written(&value)),
                Err(mistake) => {
                    Err(format!("{} (at {}); text stands in quotation marks", mistake.message, mistake.at + 1))
                }
            },
        }
    }

    fn part_at(&self, text: &str, path: &str) -> Option<String> {
        let mut value = read::value(text).ok()?;
        for name in path.split('.') {
            value = match value {
                Value::Object(fields) => fields.into_iter().find(|(field, _)| field == name)?.1,
                Value::Array(values) => values.into_iter().nth(name.parse().ok()?)?,
                _ => return None,
            };
        }
        Some(written(&value))
    }

    fn with_part(&self, text: &str, path: &str, part: Option<&str>) -> Option<String> {
        let part = match part {
            Some(part) => Some(read::value(part).ok()?),
            None => None,
        };
        put_at(read::value(text).ok()?, path, part).map(|value| written(&value))
    }

    fn differ_only_in(&self, one: &str, other: &str, names: &[&str]) -> bool {
        let (one, other) = (fields_of(one), fields_of(other));
        let within = |from: &[(String, Value)], all: &[(String, Value)]| {
            from.iter()
                .filter(|(name, _)| !names.contains(&name.as_str()))
                .all(|(name, value)| of(all, name) == Some(value))
        };
        within(&one, &other) && within(&other, &one)
    }

    fn laid_out(&self, text: &str) -> String {
        read::value(text).map_or_else(|_| text.to_owned(), |value| statement::laid_out(&value))
    }

    fn new_key(&self, random: [u8; 12]) -> Option<Datum> {
        let digits: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
        Some(Datum::Written(format!("{{ $oid: \"{digits}\" }}")))
    }
}

/// Types whose values are a text in an object with one field, and its name.
const WRAPPED: &[(&str, &str)] = &[
    ("objectId", "$oid"),
    ("date", "$date"),
    ("decimal", "$numberDecimal"),
    ("long", "$numberLong"),
    ("int", "$numberInt"),
    ("double", "$numberDouble"),
    ("uuid", "$uuid"),
];

/// The types of fields that rows of a file become.
const TYPES: [&str; 13] = [
    "int", "long", "double", "double", "bool", "date", "string", "date", "date", "string", "object", "string",
    "binData",
];

fn is_whole(text: &str) -> bool {
    let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
    !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit())
}

/// A value with another one at a path in it. An element of a list cannot be taken out: those after it would be others.
fn put_at(value: Value, path: &str, part: Option<Value>) -> Option<Value> {
    let (name, rest) = path.split_once('.').map_or((path, None), |(name, rest)| (name, Some(rest)));
    Some(match (value, rest) {
        (Value::Object(mut fields), Some(rest)) => {
            let field = fields.iter_mut().find(|(field, _)| field == name)?;
            field.1 = put_at(field.1.clone(), rest, part)?;
            Value::Object(fields)
        }
        (Value::Object(mut fields), None) => {
            match (fields.iter().position(|(field, _)| field == name), part) {
                (Some(at), Some(part)) => fields[at].1 = part,
                (Some(at), None) => drop(fields.remove(at)),
                (None, Some(part)) => fields.push((name.to_owned(), part)),
                (None, None) => {}
            }
            Value::Object(fields)
        }
        (Value::Array(mut values), rest) => {
            let at = values.get_mut(name.parse::<usize>().ok()?)?;
            *at = match rest {
                Some(rest) => put_at(at.clone(), rest, part)?,
                None => part?,
            };
            Value::Array(values)
        }
        _ => return None,
    })
}

/// Whether a change back keeps the order of fields, at any depth.
fn in_order(was: &Value, is: &Value) -> bool {
    match (was, is) {
        (Value::Object(was), Value::Object(is)) if are_fields(was) && are_fields(is) && !is.is_empty() => {
            was.len() == is.len() && was.iter().zip(is).all(|(was, is)| was.0 == is.0 && in_order(&was.1, &is.1))
        }
        _ => true,
    }
}

/// What is sent for one change.
fn plan(place: &Place, edit: &Edit<'_>, at: usize) -> Result<Planned, String> {
    let collection = &place.written;
    let read = |filter: &str| format!("{collection} | match {filter} | project {{ _id: 0, document: \"$$ROOT\" }}");
    let by_id = |id: &Value| format!("{{ _id: {} }}", written(&compared(id.clone())));
    let id_of = |row: &Row| row.get(of_id(place)).cloned().flatten().map(|id| value_of(&id));
    let reads = edit
        .old()
        .map(|old| Reading { text: read(&filter(place, old)), otherwise: id_of(old).map(|id| read(&by_id(&id))) });
    let reads: Vec<Reading> = reads.into_iter().collect();
    let after = |id: Option<Value>| match id {
        Some(id) => vec![Reading { text: read(&by_id(&id)), otherwise: None }],
        None => Vec::new(),
    };
    let (writes, after) = match edit {
        Edit::Delete(old) => (vec![format!("{collection} delete {}", filter(place, old))], Vec::new()),
        Edit::Add(_) => {
            let fields = made(place, edit);
            let id = of(&fields, "_id").cloned();
            (vec![format!("{collection} insert {}", written(&Value::Object(fields)))], after(id))
        }
        Edit::Change(old, _) => {
            let (filter, id) = (filter(place, old), id_of(old));
            let text = match edit.given(whole(place)).filter(|_| exact(place, old).is_some()) {
                Some(_) => {
                    let mut fields = made(place, edit);
                    // Its identifier stays, whatever stands in the text.
                    fields.retain(|(name, _)| name != "_id");
                    fields.splice(0..0, id.clone().map(|id| ("_id".to_owned(), id)));
                    Some(format!("{collection} replace {filter} {}", written(&Value::Object(fields))))
                }
                None => changed(place, edit)?.map(|changes| format!("{collection} update {filter} {changes}")),
            };
            (text.into_iter().collect(), after(id))
        }
    };
    Ok(Planned { edit: at, reads, writes, after, shift: 0 })
}

/// The fields that are given, one by one.
fn given<'a>(place: &'a Place, edit: &'a Edit<'_>) -> impl Iterator<Item = (usize, &'a str, &'a Datum)> {
    let parts = place.parts.iter().enumerate().filter(|(_, part)| !part.whole);
    parts.filter_map(|(at, part)| Some((at, part.name.as_str(), edit.given(at)?)))
}

/// A document as it is to be: its text, and the fields that are given.
fn made(place: &Place, edit: &Edit<'_>) -> Vec<(String, Value)> {
    let mut fields = edit.given(whole(place)).map_or_else(Vec::new, |all| fields_of(all.text()));
    for (_, name, value) in given(place, edit) {
        let (is_there, value) = (*value != Datum::Absent, value_of(value));
        match fields.iter().position(|(field, _)| field == name) {
            Some(at) if is_there => fields[at].1 = value,
            Some(at) => drop(fields.remove(at)),
            None if is_there => fields.push((name.to_owned(), value)),
            None => {}
        }
    }
    fields
}

/// What is changed in a document, as an update has it; nothing where it stays as it is. A field that is given counts before
/// the text of all of it: no path stands twice in an update.
fn changed(place: &Place, edit: &Edit<'_>) -> Result<Option<String>, String> {
    let mut changes = Changes::default();
    if let (Some(text), Some(before)) = (edit.given(whole(place)), edit.was(whole(place))) {
        let is_given = |name: &str| given(place, edit).any(|(_, own, _)| own == name);
        let others = |text: &Datum| -> Vec<(String, Value)> {
            fields_of(text.text()).into_iter().filter(|(name, _)| !is_given(name)).collect()
        };
        let (before, now) = (others(before), others(text));
        if of(&now, "_id") != of(&before, "_id") {
            return Err("_id cannot be changed; copy the document, and delete this one".into());
        }
        changes_of(&before, &now, &mut changes)?;
    }
    for (at, name, value) in given(place, edit) {
        match (value, edit.was(at)) {
            (Datum::Absent, _) => changes.unset.push(format!("{}: \"\"", key(name))),
            (value, Some(before @ Datum::Written(_))) => changes.differ(name, &value_of(before), &value_of(value)),
            (value, _) => changes.set(name, &value_of(value)),
        }
    }
    Ok(changes.written())
}

/// What differs between a document as it was shown and as it was written.
fn changes_of(before: &[(String, Value)], now: &[(String, Value)], changes: &mut Changes) -> Result<(), String> {
    for (name, value) in now {
        match of(before, name) {
            Some(before) if before == value => {}
            _ if !is_path(name) => {
                return Err(format!("\"{name}\" cannot be named in a change: its name has a dot, or begins with a $"));
            }
            Some(before) => changes.differ(name, before, value),
            None => changes.set(name, value),
        }
    }
    let gone = before.iter().filter(|(name, _)| of(now, name).is_none());
    for (name, _) in gone {
        if !is_path(name) {
            return Err(format!("\"{name}\" cannot be named in a change: its name has a dot, or begins with a $"));
        }
        changes.unset.push(format!("{}: \"\"", key(name)));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_edited_without_what_only_tells_their_type() {
        for (value, of, text) in [
            ("\"it's \\\"7\\\"\"", "string", "it's \"7\""),
            ("7", "int", "7"),
            ("9000000000", "long", "9000000000"),
            ("{ $numberLong: \"7\" }", "long", "7"),
            ("7.5", "double", "7.5"),
            ("{ $numberDouble: \"NaN\" }", "double", "NaN"),
            ("{ $numberDecimal: \"12.50\" }", "decimal", "12.50"),
            ("true", "bool", "true"),
            ("{ $date: \"2031-03-05T12:00:00Z\" }", "date", "2031-03-05T12:00:00Z"),
            ("{ $oid: \"65f0c0ffee65f0c0ffee65f0\" }", "objectId", "65f0c0ffee65f0c0ffee65f0"),
            ("{ $uuid: \"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11\" }", "uuid", "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"),
            ("{ a: 1, b: [2, \"c\"] }", "object", "{ a: 1, b: [2, \"c\"] }"),
            ("[1, { $oid: \"65f0c0ffee65f0c0ffee65f0\" }]", "array", "[1, { $oid: \"65f0c0ffee65f0c0ffee65f0\" }]"),
        ] {
            assert_eq!(Documents.plain(value), Some((of.to_owned(), text.to_owned())), "{value}");
            assert_eq!(Documents.written(of, text).as_deref(), Ok(value), "{of}");
        }
    }

    #[test]
    fn a_text_that_is_no_value_of_the_type_is_told() {
        for (of, text, told) in [
            ("int", "7.5", "\"7.5\" is not a whole number"),
            ("int", "99999999999999999999", "it does not fit 64 bits"),
            ("double", "much", "\"much\" is not a number"),
            ("bool", "yes", "it has to be true or false"),
            ("objectid", "GUL", "an ObjectId has 24 hexadecimal digits"),
            ("date", "soon", "write a timestamp as 2031-03-05T07:30:00Z"),
            ("object", ":day", ":day is a parameter and not a value"),
        ] {
            assert_eq!(Documents.written(of, text).unwrap_err(), told);
        }
        assert!(Documents.written("mixed", "Gull").unwrap_err().ends_with("text stands in quotation marks"));
        assert_eq!(Documents.written("double", "7").as_deref(), Ok("7.0"), "it stays a floating-point number");
        assert_eq!(Documents.written("int", "+07").as_deref(), Ok("7"));
    }

    #[test]
    fn parts_are_found_put_and_taken_out_by_their_path() {
        let value = "{ code: \"N\", at: [1, { x: 2 }] }";
        assert_eq!(Documents.part_at(value, "at.1.x").as_deref(), Some("2"));
        assert_eq!(Documents.part_at(value, "at.7"), None);
        let with = |path: &str, part: Option<&str>| Documents.with_part(value, path, part).unwrap_or_default();
        assert_eq!(with("at.1.x", Some("3")), "{ code: \"N\", at: [1, { x: 3 }] }");
        assert_eq!(with("new", Some("true")), "{ code: \"N\", at: [1, { x: 2 }], new: true }");
        assert_eq!(with("code", None), "{ at: [1, { x: 2 }] }");
        assert_eq!(with("at.0", None), "", "an element of a list is not taken out: others would move");
        assert_eq!(with("lost.deep", Some("1")), "");
    }

    #[test]
    fn a_document_is_laid_out_and_reads_back() {
        let text =
            "{ _id: { $oid: \"65f0\" }, tags: [1, 2], stops: [{ port: \"GUL\" }, { port: \"SMQ\" }], empty: {} }";
        let laid = Documents.laid_out(text);
        let expected = "{\n  _id: { $oid: \"65f0\" },\n  tags: [1, 2],\n  stops: [\n    {\n      port: \"GUL\"\n    },\n    {\n      port: \"SMQ\"\n    }\n  ],\n  empty: {}\n}";
        assert_eq!(laid, expected);
        assert_eq!(Documents.written("object", &laid).as_deref(), Ok(text));
    }

    #[test]
    fn a_filter_compares_and_does_not_search() {
        let columns = ["_id", "like", "to", "a.b", "gone"].map(|name| (name.to_owned(), String::new()));
        let place = Documents.place("rules", &columns).unwrap();
        let text = "{ _id: 1, like: { $regularExpression: { pattern: \"^q\", options: \"\" } }, to: { $ref: \"ports\", $id: 2 }, \"a.b\": 3 }";
        let row = Documents.of_document(&place, text, true).unwrap();
        assert_eq!(
            filter(&place, &row),
            "{ _id: 1, like: { $eq: { $regularExpression: { pattern: \"^q\", options: \"\" } } }, to: { $eq: { $ref: \"ports\", $id: 2 } }, gone: { $exists: false } }"
        );
        assert!(place.parts[3].fixed, "a name with a dot would be taken for a path");
        for (statement, told) in [
            ("rules | group { _id: 1 }", "these rows are not documents of a collection"),
            ("rules {", "missing at the end"),
        ] {
            let error = Documents.place(statement, &columns).unwrap_err();
            assert!(error.contains(told), "{error}");
        }
        assert!(Documents.place("rules", &columns[1..]).unwrap_err().contains("no _id"));
    }
}
