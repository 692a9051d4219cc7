//! The change of a document that was read, as a statement to be edited.

use super::read::{self, Value};
use super::statement::{self, key, name, written};

/// Stages after which documents are still those of the collection, whole or in part.
const KEPT: &[&str] = &["$match", "$sort", "$limit", "$skip", "$sample", "$geoNear", "$project", "$unset"];

/// The statement that changes a document, of those that `statement` found; `document` is Extended JSON.
///
/// The filter has all that was read, so that nothing is touched that somebody changed meanwhile; the change gives every
/// field its value, for a person to edit. Fields that were not read stay as they are.
///
/// An error is a sentence that says why there is no such statement.
pub fn of_document(statement: &str, document: &str) -> Result<String, String> {
    let command = statement::command(statement).map_err(|mistake| mistake.message)?;
    let collection =
        collection_of(&command).ok_or("these rows are not documents of a collection: the statement computes them")?;
    let Value::Object(fields) = read::value(document).map_err(|mistake| mistake.message)? else {
        return Err("the row is not a document".into());
    };
    if !fields.iter().any(|(name, _)| name == "_id") {
        return Err("the rows have no _id, which identifies a document".into());
    }
    if fields.iter().any(|(name, _)| name == "(others)") {
        return Err("the document has more fields than there are columns: write its change by hand".into());
    }
    let lines = |fields: &[(String, Value)], indent: &str| -> String {
        let line = |(name, value): &(String, Value)| format!("{indent}{}: {}", key(name), written(value));
        fields.iter().map(line).collect::<Vec<_>>().join(",\n")
    };
    let all: Vec<_> = fields.iter().map(|(name, value)| (name.clone(), compared(value.clone()))).collect();
    let others: Vec<_> = fields.iter().filter(|(name, _)| name != "_id").cloned().collect();
    if others.is_empty() {
        return Err("the rows have no field but _id".into());
    }
    Ok(format!(
        "// Changes the document unless somebody else did: the first braces are what was read, the others what it is to be.\n\
         {} update {{\n{}\n}} {{\n  $set: {{\n{}\n  }}\n}}",
        name(&collection),
        lines(&all, "  "),
        lines(&others, "    ")
    ))
}

/// A value as a filter has it, to be compared: a regular expression would be looked for by what it fits, and the fields of a
/// reference would be taken for operators.
pub(super) fn compared(value: Value) -> Value {
    let is_special = matches!(&value, Value::Object(parts)
        if parts.iter().any(|(name, _)| matches!(name.as_str(), "$regularExpression" | "$ref")));
    if is_special { Value::Object(vec![("$eq".to_owned(), value)]) } else { value }
}

/// The collection that a command's documents are of.
pub(super) fn collection_of(command: &[(String, Value)]) -> Option<String> {
    let (verb, Value::Text(collection)) = command.first()? else { return None };
    let part = |wanted: &str| command.iter().find(|(name, _)| name == wanted).map(|(_, value)| value);
    // A statement of ours would go to the database in hand.
    if part("$db").is_some() {
        return None;
    }
    let is_plain = match verb.as_str() {
        "find" => part("projection").is_none_or(is_choice),
        "aggregate" => match part("pipeline")? {
            Value::Array(stages) => stages.iter().all(|stage| match stage {
                Value::Object(stage) => stage.iter().all(|(name, argument)| {
                    KEPT.contains(&name.as_str())
                        && (name != "$project" || is_choice(argument))
                        && (name != "$unset" || takes_whole(argument))
                        && adds_nothing(argument)
                }),
                _ => false,
            }),
            _ => false,
        },
        _ => false,
    };
    is_plain.then(|| collection.clone())
}

/// Whether a projection only chooses fields, and these as they are: of a part of one the rest is not known.
fn is_choice(projection: &Value) -> bool {
    let Value::Object(fields) = projection else { return false };
    fields.iter().all(|(name, value)| !name.contains('.') && matches!(value, Value::Number(_) | Value::Bool(_)))
}

/// Whether a stage takes whole fields out.
fn takes_whole(argument: &Value) -> bool {
    match argument {
        Value::Text(name) => !name.contains('.'),
        Value::Array(names) => names.iter().all(takes_whole),
        _ => false,
    }
}

/// Whether a stage puts no field of its own into documents.
fn adds_nothing(argument: &Value) -> bool {
    !matches!(argument, Value::Object(fields) if fields.iter().any(|(name, _)| name == "distanceField"))
}

#[cfg(test)]
mod tests {
    use super::*;

    const GULL: &str =
        r#"{"_id":"GUL","berths":4,"place":{"type":"Point","coordinates":[3.2,52.9]},"odd name":{"$oid":"65f0"}}"#;

    #[test]
    fn what_was_read_is_the_filter() {
        let text = of_document("ports { berths: 4 } | sort { _id: 1 }", GULL).unwrap();
        let expected = "\
ports update {
  _id: \"GUL\",
  berths: 4,
  place: { type: \"Point\", coordinates: [3.2, 52.9] },
  \"odd name\": { $oid: \"65f0\" }
} {
  $set: {
    berths: 4,
    place: { type: \"Point\", coordinates: [3.2, 52.9] },
    \"odd name\": { $oid: \"65f0\" }
  }
}";
        assert_eq!(text.split_once('\n').unwrap().1, expected);
        let command = statement::command(&text).unwrap();
        assert_eq!(command[0], ("update".to_owned(), Value::Text("ports".into())));
    }

    #[test]
    fn a_pattern_is_compared_and_not_searched_with() {
        let text =
            of_document("rules", r#"{"_id":1,"like":{"$regularExpression":{"pattern":"^q","options":""}}}"#).unwrap();
        assert!(
            text.contains("  like: { $eq: { $regularExpression: { pattern: \"^q\", options: \"\" } } }\n}"),
            "{text}"
        );
    }

    #[test]
    fn only_documents_as_they_are_there() {
        for statement in
            ["ports", "ports | project { berths: 1 }", "{ find: 'ports', filter: {} }", "ports | match {} | limit 5"]
        {
            assert!(of_document(statement, GULL).is_ok(), "{statement}");
        }
        for statement in [
            "ports count",
            "ports | group { _id: 1 }",
            "ports | unwind '$a'",
            "ports | project { twice: { $add: [1, 1] } }",
            "ports | geoNear { near: { type: 'Point', coordinates: [0, 0] }, distanceField: 'm' }",
            "{ listCollections: 1 }",
            "{ find: 'ports', $db: 'other' }",
            "ports | project { 'place.type': 1 }",
            "ports | unset ['place.type']",
        ] {
            assert!(of_document(statement, GULL).is_err(), "{statement}");
        }
        assert!(of_document("ports", r#"{"berths":4}"#).is_err());
        assert!(of_document("ports", r#"{"_id":4}"#).is_err());
    }
}
