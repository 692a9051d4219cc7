//! Values as Extended JSON v2, relaxed or canonical, and back from what a person writes
//! (<https://github.com/mongodb/specifications/blob/master/source/extended-json/extended-json.md>).

use std::fmt::Write as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use crate::bson::{Bson, DEEPEST};
use crate::decimal;
use crate::raw::{Element, RawDocument};

/// How values are written that JSON has no type for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Numbers as numbers, days as texts: what people read.
    Relaxed,
    /// As relaxed, but for numbers whose type would be another one when they are read.
    Typed,
    /// So that every type comes back.
    Canonical,
}

/// Writes a document.
pub fn document(raw: &RawDocument<'_>, form: Form, out: &mut String) {
    fields(raw, form, 0, out);
}

fn fields(raw: &RawDocument<'_>, form: Form, depth: usize, out: &mut String) {
    out.push('{');
    for (count, (name, value)) in raw.iter().flatten().enumerate() {
        if count > 0 {
            out.push_str(", ");
        }
        quoted(name, out);
        out.push_str(": ");
        within(&value, form, depth + 1, out);
    }
    out.push('}');
}

/// Writes a value.
pub fn value(element: &Element<'_>, form: Form, out: &mut String) {
    within(element, form, 0, out);
}

fn within(element: &Element<'_>, form: Form, depth: usize, out: &mut String) {
    if depth > DEEPEST {
        return out.push_str("null");
    }
    let relaxed = form != Form::Canonical;
    let wrap = |key: &str, text: &str, out: &mut String| {
        let _ = write!(out, "{{\"{key}\": ");
        quoted(text, out);
        out.push('}');
    };
    match element {
        Element::Double(number) if relaxed && number.is_finite() => double(*number, out),
        Element::Double(number) => {
            let mut text = String::new();
            match number {
                number if number.is_nan() => text.push_str("NaN"),
                number if number.is_infinite() => text.push_str(if *number > 0.0 { "Infinity" } else { "-Infinity" }),
                number => double(*number, &mut text),
            }
            wrap("$numberDouble", &text, out);
        }
        Element::Text(text) => quoted(text, out),
        Element::Document(raw) => fields(raw, form, depth, out),
        Element::Array(raw) => {
            out.push('[');
            for (count, (_, value)) in raw.iter().flatten().enumerate() {
                if count > 0 {
                    out.push_str(", ");
                }
                within(&value, form, depth + 1, out);
            }
            out.push(']');
        }
        Element::Binary(kind, bytes) => {
            let _ = write!(
                out,
                "{{\"$binary\": {{\"base64\": \"{}\", \"subType\": \"{kind:02x}\"}}}}",
                STANDARD.encode(bytes)
            );
        }
        Element::Undefined => out.push_str("{\"$undefined\": true}"),
        Element::ObjectId(id) => wrap("$oid", &hex(id), out),
        Element::Bool(value) => out.push_str(if *value { "true" } else { "false" }),
        Element::DateTime(millis) if relaxed && (0..=253_402_300_799_999).contains(millis) => {
            wrap("$date", &moment(*millis), out);
        }
        Element::DateTime(millis) => {
            let _ = write!(out, "{{\"$date\": {{\"$numberLong\": \"{millis}\"}}}}");
        }
        Element::Null => out.push_str("null"),
        Element::Regex(pattern, options) => {
            out.push_str("{\"$regularExpression\": {\"pattern\": ");
            quoted(pattern, out);
            out.push_str(", \"options\": ");
            quoted(options, out);
            out.push_str("}}");
        }
        Element::Code(code, None) => wrap("$code", code, out),
        Element::Code(code, Some(scope)) => {
            out.push_str("{\"$code\": ");
            quoted(code, out);
            out.push_str(", \"$scope\": ");
            fields(scope, form, depth + 1, out);
            out.push('}');
        }
        Element::Symbol(text) => wrap("$symbol", text, out),
        Element::Pointer(name, id) => {
            out.push_str("{\"$dbPointer\": {\"$ref\": ");
            quoted(name, out);
            let _ = write!(out, ", \"$id\": {{\"$oid\": \"{}\"}}}}}}", hex(id));
        }
        Element::Int32(number) if relaxed => {
            let _ = write!(out, "{number}");
        }
        Element::Int64(number) if form == Form::Relaxed || form == Form::Typed && i32::try_from(*number).is_err() => {
            let _ = write!(out, "{number}");
        }
        Element::Int32(number) => wrap("$numberInt", &number.to_string(), out),
        Element::Int64(number) => wrap("$numberLong", &number.to_string(), out),
        Element::Timestamp(seconds, number) => {
            let _ = write!(out, "{{\"$timestamp\": {{\"t\": {seconds}, \"i\": {number}}}}}");
        }
        Element::Decimal(bytes) => wrap("$numberDecimal", &decimal::text(*bytes), out),
        Element::MinKey => out.push_str("{\"$minKey\": 1}"),
        Element::MaxKey => out.push_str("{\"$maxKey\": 1}"),
    }
}

/// A number, with a point so that it stays one of its type.
fn double(number: f64, out: &mut String) {
    let start = out.len();
    let _ = write!(out, "{number:?}");
    // Of a large one the digits are many; what reads back is enough.
    if out.len() - start > 24 {
        out.truncate(start);
        let _ = write!(out, "{number:e}");
    }
}

/// Twenty-four hexadecimal digits.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// A moment as ISO 8601, with milliseconds where there are some.
pub fn moment(millis: i64) -> String {
    let (day, rest) = (millis.div_euclid(86_400_000), millis.rem_euclid(86_400_000));
    let z = day + 719_468;
    let (era, of_era) = (z.div_euclid(146_097), z.rem_euclid(146_097));
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let m = (5 * of_year + 2) / 153;
    let (date, month) = (of_year - (153 * m + 2) / 5 + 1, if m < 10 { m + 3 } else { m - 9 });
    let year = year + era * 400 + i64::from(month <= 2);
    let seconds = rest / 1000;
    let fraction = if rest % 1000 == 0 { String::new() } else { format!(".{:03}", rest % 1000) };
    format!(
        "{year:04}-{month:02}-{date:02}T{:02}:{:02}:{:02}{fraction}Z",
        seconds / 3600,
        seconds / 60 % 60,
        seconds % 60
    )
}

/// Milliseconds since 1970 of a moment as ISO 8601.
pub fn read_moment(text: &str) -> Option<i64> {
    let (date, clock) = text.split_once(['T', ' ']).unwrap_or((text, "00:00:00Z"));
    let mut parts = date.splitn(3, '-').map(|part| part.parse::<i64>().ok());
    let (year, month, day) = (parts.next()??, parts.next()??, parts.next()??);
    if !(1..=12).contains(&month) || !(1..=31).contains(&day) {
        return None;
    }
    let (y, m) = if month <= 2 { (year - 1, month + 9) } else { (year, month - 3) };
    let (era, of_era) = (y.div_euclid(400), y.rem_euclid(400));
    let days = era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + (153 * m + 2) / 5 + day - 1 - 719_468;
    let zone = clock.find(['Z', '+', '-']).unwrap_or(clock.len());
    let (clock, zone) = clock.split_at(zone);
    let mut parts = clock.split(':');
    let mut number = || parts.next().map_or(Some(0.0), |part| part.parse::<f64>().ok());
    let (hours, minutes, seconds) = (number()?, number()?, number()?);
    let east = match zone.strip_prefix(['+', '-']) {
        None => 0,
        Some(rest) => {
            let digits: String = rest.chars().filter(char::is_ascii_digit).collect();
            let minutes =
                digits.get(..2)?.parse::<i64>().ok()? * 60 + digits.get(2..4).map_or(Some(0), |m| m.parse().ok())?;
            if zone.starts_with('-') { -minutes } else { minutes }
        }
    };
    let millis = ((hours * 3600.0 + minutes * 60.0 + seconds) * 1000.0).round() as i64;
    Some(days * 86_400_000 + millis - east * 60_000)
}

/// Writes a text between quotes.
pub fn quoted(text: &str, out: &mut String) {
    out.push('"');
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if u32::from(c) < 0x20 => {
                let _ = write!(out, "\\u{:04x}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out.push('"');
}

/// A document of one field that stands for a value JSON has no type for; `Ok(None)` where it is none.
pub fn typed(fields: &[(String, Bson)]) -> Result<Option<Bson>, String> {
    let [(key, value), rest @ ..] = fields else { return Ok(None) };
    let text = || value.as_str().ok_or_else(|| format!("{key} needs a text"));
    let number = |name: &str| {
        value
            .as_document()
            .and_then(|inside| crate::bson::field(inside, name))
            .and_then(Bson::as_i64)
            .and_then(|n| u32::try_from(n).ok())
    };
    let wrong = || format!("this is not a value of {key}");
    Ok(Some(match (key.as_str(), rest) {
        ("$oid", []) => {
            let text = text()?;
            let bytes: Option<Vec<u8>> =
                (0..12).map(|at| u8::from_str_radix(text.get(at * 2..at * 2 + 2)?, 16).ok()).collect();
            match bytes.and_then(|bytes| bytes.try_into().ok()).filter(|_| text.len() == 24) {
                Some(id) => Bson::ObjectId(id),
                None => return Err("$oid needs 24 hexadecimal digits".into()),
            }
        }
        ("$date", []) => match value {
            Bson::Text(text) => Bson::DateTime(read_moment(text).ok_or_else(wrong)?),
            Bson::DateTime(millis) => Bson::DateTime(*millis),
            other => Bson::DateTime(other.as_i64().ok_or_else(wrong)?),
        },
        ("$numberInt", []) => Bson::Int32(text()?.parse().map_err(|_| wrong())?),
        ("$numberLong", []) => Bson::Int64(text()?.parse().map_err(|_| wrong())?),
        ("$numberDouble", []) => Bson::Double(match text()? {
            "NaN" => f64::NAN,
            "Infinity" => f64::INFINITY,
            "-Infinity" => f64::NEG_INFINITY,
            text => text.parse().map_err(|_| wrong())?,
        }),
        ("$numberDecimal", []) => Bson::Decimal(decimal::read(text()?).ok_or_else(wrong)?),
        ("$binary", []) => {
            let inside = value.as_document().ok_or_else(wrong)?;
            let bytes = crate::bson::field(inside, "base64").and_then(Bson::as_str).ok_or_else(wrong)?;
            let kind = crate::bson::field(inside, "subType").and_then(Bson::as_str).unwrap_or("00");
            Bson::Binary(
                u8::from_str_radix(kind, 16).map_err(|_| wrong())?,
                STANDARD.decode(bytes).map_err(|_| wrong())?,
            )
        }
        ("$uuid", []) => {
            let digits: String = text()?.chars().filter(|c| *c != '-').collect();
            let bytes: Option<Vec<u8>> =
                (0..16).map(|at| u8::from_str_radix(digits.get(at * 2..at * 2 + 2)?, 16).ok()).collect();
            Bson::Binary(4, bytes.ok_or_else(wrong)?)
        }
        ("$regularExpression", []) => {
            let inside = value.as_document().ok_or_else(wrong)?;
            let part =
                |name: &str| crate::bson::field(inside, name).and_then(Bson::as_str).unwrap_or_default().to_owned();
            Bson::Regex(part("pattern"), part("options"))
        }
        ("$timestamp", []) => Bson::Timestamp(number("t").ok_or_else(wrong)?, number("i").ok_or_else(wrong)?),
        ("$code", []) => Bson::Code(text()?.to_owned(), None),
        ("$code", [(scope, Bson::Document(inside))]) if scope == "$scope" => {
            Bson::Code(text()?.to_owned(), Some(inside.clone()))
        }
        ("$symbol", []) => Bson::Symbol(text()?.to_owned()),
        ("$undefined", []) => Bson::Undefined,
        ("$minKey", []) => Bson::MinKey,
        ("$maxKey", []) => Bson::MaxKey,
        _ => return Ok(None),
    }))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::bson::encoded;
    use crate::bson::tests::any_value;

    /// Reads JSON as a library does, and then what stands for other types.
    fn back(value: &serde_like::Value) -> Bson {
        match value {
            serde_like::Value::Object(fields) => {
                let fields: Vec<_> = fields.iter().map(|(name, value)| (name.clone(), back(value))).collect();
                typed(&fields).unwrap().unwrap_or(Bson::Document(fields))
            }
            serde_like::Value::Array(values) => Bson::Array(values.iter().map(back).collect()),
            serde_like::Value::Text(text) => Bson::text(text.clone()),
            serde_like::Value::Bool(value) => Bson::Bool(*value),
            serde_like::Value::Number(text) => Bson::Int64(text.parse().unwrap()),
            serde_like::Value::Null => Bson::Null,
        }
    }

    /// The least JSON reader that a test needs.
    mod serde_like {
        #[derive(Debug)]
        pub enum Value {
            Null,
            Bool(bool),
            Number(String),
            Text(String),
            Array(Vec<Value>),
            Object(Vec<(String, Value)>),
        }

        pub fn read(text: &mut std::iter::Peekable<std::str::Chars<'_>>) -> Value {
            while text.peek().is_some_and(|c| c.is_whitespace() || *c == ',' || *c == ':') {
                text.next();
            }
            match text.peek().copied().unwrap() {
                '{' => {
                    text.next();
                    let mut fields = Vec::new();
                    loop {
                        while text.peek().is_some_and(|c| c.is_whitespace() || *c == ',') {
                            text.next();
                        }
                        if text.peek() == Some(&'}') {
                            text.next();
                            return Value::Object(fields);
                        }
                        let Value::Text(name) = read(text) else { panic!("a name") };
                        fields.push((name, read(text)));
                    }
                }
                '[' => {
                    text.next();
                    let mut values = Vec::new();
                    loop {
                        while text.peek().is_some_and(|c| c.is_whitespace() || *c == ',') {
                            text.next();
                        }
                        if text.peek() == Some(&']') {
                            text.next();
                            return Value::Array(values);
                        }
                        values.push(read(text));
                    }
                }
                '"' => {
                    text.next();
                    let mut inside = String::new();
                    loop {
                        match text.next().unwrap() {
                            '"' => return Value::Text(inside),
                            '\\' => match text.next().unwrap() {
                                'n' => inside.push('\n'),
                                'r' => inside.push('\r'),
                                't' => inside.push('\t'),
                                'u' => {
                                    let digits: String = text.by_ref().take(4).collect();
                                    inside.push(char::from_u32(u32::from_str_radix(&digits, 16).unwrap()).unwrap());
                                }
                                c => inside.push(c),
                            },
                            c => inside.push(c),
                        }
                    }
                }
                _ => {
                    let mut word = String::new();
                    while text.peek().is_some_and(|c| c.is_alphanumeric() || "+-.".contains(*c)) {
                        word.push(text.next().unwrap());
                    }
                    match word.as_str() {
                        "null" => Value::Null,
                        "true" => Value::Bool(true),
                        "false" => Value::Bool(false),
                        _ => Value::Number(word),
                    }
                }
            }
        }
    }

    proptest! {
        #[test]
        fn canonical_text_keeps_every_type(value in any_value()) {
            // A document whose only field has the name of a type is what that stands for.
            let bytes = encoded(&[("a".to_owned(), value.clone())]);
            let mut text = String::new();
            document(&RawDocument::new(&bytes).unwrap(), Form::Canonical, &mut text);
            let read = serde_like::read(&mut text.chars().peekable());
            let Bson::Document(fields) = back(&read) else { panic!("a document") };
            prop_assert_eq!(&fields[0].1, &value, "{}", text);
        }
    }

    #[test]
    fn relaxed_text_is_what_people_read() {
        let fields = vec![
            ("_id".to_owned(), Bson::ObjectId([0xAB; 12])),
            ("n".to_owned(), Bson::Int64(7)),
            ("x".to_owned(), Bson::Double(2.0)),
            ("at".to_owned(), Bson::DateTime(1_930_393_800_500)),
            ("price".to_owned(), Bson::Decimal(decimal::read("12.50").unwrap())),
            ("tags".to_owned(), Bson::Array(vec![Bson::text("a\"b"), Bson::Null])),
        ];
        let mut text = String::new();
        document(&RawDocument::new(&encoded(&fields)).unwrap(), Form::Relaxed, &mut text);
        assert_eq!(
            text,
            "{\"_id\": {\"$oid\": \"abababababababababababab\"}, \"n\": 7, \"x\": 2.0, \"at\": {\"$date\": \"2031-03-04T12:30:00.500Z\"}, \"price\": {\"$numberDecimal\": \"12.50\"}, \"tags\": [\"a\\\"b\", null]}"
        );
        assert_eq!(read_moment("2031-03-04T13:30:00.5+01:00"), Some(1_930_393_800_500));
        assert_eq!(read_moment("2031-03-04"), Some(1_930_348_800_000));
    }
}
