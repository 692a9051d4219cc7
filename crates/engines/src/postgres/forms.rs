//! Values as the server reads them, of what other formats write: lists for arrays, and days before our era.

use jaunty_seam::catalog::Column;
use serde_json::value::RawValue;

use crate::net::formed::Form;

/// How values of a column are put for the server, where that is not as other formats write them.
pub(super) fn form_of(column: &Column) -> Option<Form> {
    match column.db_type.as_str() {
        list if list.ends_with(']') => Some(array),
        day if day.starts_with("date") || day.starts_with("timestamp") => Some(far_day),
        _ => None,
    }
}

/// A day of a year with a sign (ISO 8601, 4.1.2.4), in which there is a year 0, as the server reads it; none where it has
/// no sign and is of our era.
fn far_day(text: &str) -> Option<String> {
    if let Some(rest) = text.strip_prefix("0000-") {
        return Some(format!("0001-{rest} BC"));
    }
    let (year, rest) = text.get(1..)?.split_once('-')?;
    let number: u32 = year.parse().ok().filter(|_| (4..=6).contains(&year.len()))?;
    match text.as_bytes().first()? {
        b'-' => Some(format!("{:04}-{rest} BC", number + 1)),
        b'+' => Some(format!("{number:04}-{rest}")),
        _ => None,
    }
}

/// An array as the server reads one, of a list of JSON; none where it is not one:
/// <https://www.postgresql.org/docs/current/arrays.html#ARRAYS-IO>.
fn array(json: &str) -> Option<String> {
    let elements: Vec<&RawValue> = serde_json::from_str(json.trim()).ok()?;
    let element = |element: &&RawValue| -> Option<String> {
        let text = element.get();
        Some(match text.as_bytes().first()? {
            b'n' => "NULL".to_owned(),
            b'[' => array(text)?,
            b'"' => quoted_element(&serde_json::from_str::<String>(text).ok()?),
            _ => quoted_element(text),
        })
    };
    Some(format!("{{{}}}", elements.iter().map(element).collect::<Option<Vec<String>>>()?.join(",")))
}

fn quoted_element(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn years_with_a_sign_are_years_of_an_era() {
        for (text, wanted) in [
            ("-4712-01-01", Some("4713-01-01 BC")),
            ("-0043-03-15T12:00:00Z", Some("0044-03-15T12:00:00Z BC")),
            ("0000-12-31", Some("0001-12-31 BC")),
            ("+012031-02-03", Some("12031-02-03")),
            ("2031-02-03", None),
            ("-infinity", None),
            ("", None),
        ] {
            assert_eq!(far_day(text).as_deref(), wanted, "{text}");
        }
    }

    #[test]
    fn lists_of_json_are_arrays() {
        for (json, wanted) in [
            ("[1, null,-3.10]", Some(r#"{"1",NULL,"-3.10"}"#)),
            (r#" ["a,b", "q\"\\x", "", "NULL", "\u00e9"] "#, Some(r#"{"a,b","q\"\\x","","NULL","é"}"#)),
            ("[[1,2],[3,4]]", Some(r#"{{"1","2"},{"3","4"}}"#)),
            (r#"[{"a": [1]}, true]"#, Some(r#"{"{\"a\": [1]}","true"}"#)),
            ("[]", Some("{}")),
            ("[0:1]={5,6}", None),
            ("{1,2}", None),
            ("", None),
        ] {
            assert_eq!(array(json).as_deref(), wanted, "{json}");
        }
    }
}
