//! Values that are JSON themselves, or lists, as parts of a JSON document and not as text in it.

use serde::de::IgnoredAny;
use serde_json::value::RawValue;

/// What the values of a column are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Nested {
    /// JSON.
    Json,
    /// Arrays of PostgreSQL, of such elements.
    Array(Element),
}

/// What the elements of an array are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Element {
    /// Numbers.
    Number,
    /// True or false, as `t` and `f`.
    Boolean,
    /// JSON.
    Json,
    /// Whatever else has a text.
    Text,
}

impl Nested {
    /// What the values of a column with this type are, if they have parts; the type in the words of the
    /// database, in lower case, as a result names it or a catalog.
    pub fn of(db_type: &str) -> Option<Nested> {
        match db_type.strip_suffix("[]") {
            // The one type whose elements have another sign between them.
            Some("box") => None,
            Some(of) => Some(Nested::Array(match of.split('(').next().unwrap_or(of) {
                "int2" | "int4" | "int8" | "oid" | "float4" | "float8" | "numeric" | "smallint" | "integer"
                | "bigint" | "real" | "double precision" => Element::Number,
                "bool" | "boolean" => Element::Boolean,
                "json" | "jsonb" => Element::Json,
                _ => Element::Text,
            })),
            None => matches!(db_type, "json" | "jsonb").then_some(Nested::Json),
        }
    }

    /// A value as JSON on one line; none if it is not what its type says.
    pub fn json(self, text: &str) -> Option<String> {
        match self {
            Nested::Json => json(text),
            Nested::Array(element) => {
                // Bounds that are not the usual ones stand before it: `[2:3]={…}`.
                let text = if text.starts_with('[') { text.split_once('=')?.1 } else { text };
                let mut out = String::new();
                let rest = array(text, element, &mut out)?;
                rest.is_empty().then_some(out)
            }
        }
    }
}

/// JSON as it is, but for line breaks between its parts.
fn json(text: &str) -> Option<String> {
    serde_json::from_str::<IgnoredAny>(text).ok()?;
    let text = text.trim();
    if !text.contains(['\n', '\r']) {
        return Some(text.to_owned());
    }
    // In a string there are none: JSON escapes them (RFC 8259, section 7).
    let mut out = String::with_capacity(text.len());
    let (mut quoted, mut escaped) = (false, false);
    for c in text.chars() {
        if quoted {
            (quoted, escaped) = (escaped || c != '"', c == '\\' && !escaped);
        } else if c.is_ascii_whitespace() {
            continue;
        } else {
            quoted = c == '"';
        }
        out.push(c);
    }
    Some(out)
}

/// Reads `{…}` as PostgreSQL writes arrays (its documentation, section 8.15.6), and writes it as a JSON
/// array. Returns what follows.
fn array<'a>(text: &'a str, of: Element, out: &mut String) -> Option<&'a str> {
    // People leave room around elements; servers do not.
    let mut rest = text.strip_prefix('{')?.trim_ascii_start();
    out.push('[');
    if let Some(rest) = rest.strip_prefix('}') {
        out.push(']');
        return Some(rest);
    }
    loop {
        rest = match rest.as_bytes().first()? {
            b'{' => array(rest, of, out)?,
            b'"' => quoted(rest.get(1..)?, of, out)?,
            _ => {
                let end = rest.find([',', '}'])?;
                let (bare, rest) = rest.split_at(end);
                match bare.trim_ascii_end() {
                    "" => return None,
                    null if null.eq_ignore_ascii_case("null") => out.push_str("null"),
                    bare => element(bare, of, out),
                }
                rest
            }
        };
        rest = rest.trim_ascii_start();
        match rest.as_bytes().first()? {
            b',' => out.push(','),
            b'}' => {
                out.push(']');
                return rest.get(1..);
            }
            _ => return None,
        }
        rest = rest.get(1..)?.trim_ascii_start();
    }
}

/// Reads an element from behind its first quote on.
fn quoted<'a>(text: &'a str, of: Element, out: &mut String) -> Option<&'a str> {
    let mut value = String::new();
    let mut signs = text.char_indices();
    while let Some((at, sign)) = signs.next() {
        match sign {
            '"' => {
                element(&value, of, out);
                return text.get(at + 1..);
            }
            '\\' => value.push(signs.next()?.1),
            sign => value.push(sign),
        }
    }
    None
}

fn element(text: &str, of: Element, out: &mut String) {
    let known = match of {
        // There are no infinities in JSON.
        Element::Number => {
            Some(text.to_owned()).filter(|text| serde_json::from_str::<serde_json::Number>(text).is_ok())
        }
        Element::Boolean => match text {
            "t" => Some("true".to_owned()),
            "f" => Some("false".to_owned()),
            _ => None,
        },
        Element::Json => json(text),
        Element::Text => None,
    };
    out.push_str(&known.unwrap_or_else(|| serde_json::Value::from(text).to_string()));
}

/// An array as PostgreSQL reads one, of a list of JSON; none where it is not one:
/// <https://www.postgresql.org/docs/current/arrays.html#ARRAYS-IO>.
pub fn array_of(json: &str) -> Option<String> {
    let elements: Vec<&RawValue> = serde_json::from_str(json.trim()).ok()?;
    let element = |element: &&RawValue| -> Option<String> {
        let text = element.get();
        Some(match text.as_bytes().first()? {
            b'n' => "NULL".to_owned(),
            b'[' => array_of(text)?,
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

    fn told(db_type: &str, text: &str) -> Option<String> {
        Nested::of(db_type).and_then(|nested| nested.json(text))
    }

    #[test]
    fn json_is_a_part_of_its_own() {
        for (text, expected) in [
            (r#"{"a": [1, 2.50, 1e400]}"#, r#"{"a": [1, 2.50, 1e400]}"#),
            (
                "{\n  \"a b\": \"x\\n \\\" y\\\\\",\r\n\t\"b\": 10000000000000000000000.10\n}",
                r#"{"a b":"x\n \" y\\","b":10000000000000000000000.10}"#,
            ),
            (" null ", "null"),
            (r#""text""#, r#""text""#),
            ("7", "7"),
        ] {
            assert_eq!(told("jsonb", text).as_deref(), Some(expected), "{text}");
            serde_json::from_str::<IgnoredAny>(expected).unwrap();
        }
        for text in ["", "{", "{'a': 1}", "[1,]", "nil"] {
            assert_eq!(told("json", text), None, "{text}");
        }
        assert_eq!(told("box[]", "{(1,1),(0,0)}"), None);
        assert_eq!(told("text", "{}"), None, "text is text, whatever it looks like");
    }

    #[test]
    fn arrays_are_lists() {
        for (db_type, text, expected) in [
            ("int4[]", "{1,-2,NULL}", "[1,-2,null]"),
            ("int8[]", "{}", "[]"),
            ("int4[]", "[2:3]={1,2}", "[1,2]"),
            ("int4[]", "{{1,2},{3,4}}", "[[1,2],[3,4]]"),
            ("float8[]", "{1.5,NaN,-Infinity,1e+20}", r#"[1.5,"NaN","-Infinity",1e+20]"#),
            ("numeric[]", "{10.00,99999999999999999999.5}", "[10.00,99999999999999999999.5]"),
            ("bool[]", "{t,f}", "[true,false]"),
            ("text[]", r#"{a,"b c","NULL","","q\"\\,{}",ö}"#, r#"["a","b c","NULL","","q\"\\,{}","ö"]"#),
            ("int4[]", "{ {1 , null},{ 3,4} }", "[[1,null],[3,4]]"),
            ("text[]", "{ \"a\" , b c , NULL }", r#"["a","b c",null]"#),
            ("text[]", "{\"a\nb\"}", r#"["a\nb"]"#),
            ("jsonb[]", r#"{"{\"a\": 1}"}"#, r#"[{"a": 1}]"#),
            ("state[]", "{open,held}", r#"["open","held"]"#),
            ("varchar(3)[]", "{1}", r#"["1"]"#),
        ] {
            assert_eq!(told(db_type, text).as_deref(), Some(expected), "{text}");
            serde_json::from_str::<IgnoredAny>(expected).unwrap();
        }
        for text in
            ["", "{", "{1", "{1}x", "1,2", "{\"a", "{\"a\\", "{\"a\"b}", "[1:2]{1}", "{1,}x", "{1,}", "{,1}", "{ }x"]
        {
            assert_eq!(told("int4[]", text), None, "{text}");
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
            assert_eq!(array_of(json).as_deref(), wanted, "{json}");
        }
    }
}
