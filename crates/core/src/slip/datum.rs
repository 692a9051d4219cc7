//! One value of a slip: as it was read, and as it is to be.

use serde::{Deserialize, Serialize};

use jaunty_language::dialect::Dialect;
use jaunty_language::statement::parameters::ParameterValue;
use jaunty_seam::rows::cell::CellKind;

/// A value. Texts are whole and not cleaned.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Datum {
    /// NULL.
    Null,
    /// What the table gives where nothing is given. Only as a new value.
    Default,
    /// A number, by its digits.
    Number(String),
    /// Text, and everything that is sent as text.
    Text(String),
    /// Bytes, as hexadecimal digits.
    Bytes(String),
    /// True or false.
    Bool(bool),
}

impl Datum {
    /// A value that was read.
    pub fn of_cell(kind: CellKind, text: &str) -> Datum {
        match kind {
            CellKind::Null => Datum::Null,
            CellKind::Number => Datum::Number(text.to_owned()),
            CellKind::Text => Datum::Text(text.to_owned()),
            CellKind::Binary => Datum::Bytes(text.trim_start_matches("\\x").to_owned()),
            CellKind::Boolean => Datum::Bool(text == "true"),
        }
    }

    /// Its text, as a person edits it; nothing for NULL and defaults.
    pub fn text(&self) -> &str {
        match self {
            Datum::Null | Datum::Default => "",
            Datum::Number(text) | Datum::Text(text) | Datum::Bytes(text) => text,
            Datum::Bool(true) => "true",
            Datum::Bool(false) => "false",
        }
    }

    /// As it is shown: NULL and defaults in words of their own, which are told from text by [`Datum::is_word`].
    pub fn shown(&self) -> &str {
        match self {
            Datum::Null => "NULL",
            Datum::Default => "default",
            value => value.text(),
        }
    }

    /// Whether what is shown stands for something, and is not its text.
    pub fn is_word(&self) -> bool {
        matches!(self, Datum::Null | Datum::Default)
    }

    /// As it stands in a statement.
    pub fn literal(&self, dialect: &Dialect) -> String {
        match self {
            Datum::Null => "null".into(),
            Datum::Default => "default".into(),
            Datum::Number(text) => match is_plain_number(text) {
                true => text.clone(),
                false => match (dialect.infinity, text.as_str()) {
                    (Some(infinity), "inf") => infinity.into(),
                    (Some(infinity), "-inf") => format!("-{infinity}"),
                    _ => dialect.text_as_written(text),
                },
            },
            Datum::Text(text) => dialect.text_as_written(text),
            Datum::Bytes(digits) => dialect.bytes_as_written(digits),
            Datum::Bool(value) => value.to_string(),
        }
    }

    /// As it is sent beside a statement; none where it stands in the text as a word.
    pub fn parameter(&self) -> Option<ParameterValue> {
        Some(match self {
            Datum::Null | Datum::Default => return None,
            Datum::Number(text) => match text.parse::<i64>() {
                Ok(number) if number.to_string() == *text => ParameterValue::Int(number),
                _ if keeps_its_digits(text) => ParameterValue::Number(text.clone()),
                // A server reads text as the number that its column holds, digit by digit.
                _ => ParameterValue::Text(text.clone()),
            },
            Datum::Text(text) => ParameterValue::Text(text.clone()),
            Datum::Bytes(digits) => ParameterValue::Bytes(bytes(digits)),
            Datum::Bool(value) => ParameterValue::Bool(*value),
        })
    }
}

/// Whether a number can stand in a statement as it is. A zero with a sign keeps that only as text.
fn is_plain_number(text: &str) -> bool {
    text != "-0"
        && text.bytes().any(|byte| byte.is_ascii_digit())
        && text.bytes().all(|byte| byte.is_ascii_digit() || b"+-.eE".contains(&byte))
}

/// Whether a double is this number and no other with more digits.
fn keeps_its_digits(text: &str) -> bool {
    let Ok(number) = text.parse::<f64>() else { return false };
    if number.is_infinite() && matches!(text, "inf" | "-inf") {
        return true;
    }
    let digits = text.bytes().filter(u8::is_ascii_digit).count();
    number.is_finite() && (digits <= 15 || ryu::Buffer::new().format(number) == text)
}

/// The bytes of hexadecimal digits; what is not a digit ends them.
fn bytes(digits: &str) -> Vec<u8> {
    let pairs = digits.as_bytes().chunks_exact(2);
    pairs.map_while(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};

    #[test]
    fn values_stand_in_statements_as_each_language_has_them() {
        let bytes = Datum::Bytes("00ff".into());
        for (datum, dialect, literal) in [
            (Datum::Number("12.50".into()), &POSTGRES, "12.50"),
            (Datum::Number("NaN".into()), &POSTGRES, "'NaN'"),
            (Datum::Number("inf".into()), &SQLITE, "9e999"),
            (Datum::Number("-0".into()), &SQLITE, "'-0'"),
            (Datum::Text("it's".into()), &MYSQL, "'it''s'"),
            (Datum::Text("čaj".into()), &SQLSERVER, "N'čaj'"),
            (Datum::Null, &POSTGRES, "null"),
            (bytes.clone(), &SQLITE, "x'00ff'"),
            (bytes, &SQLSERVER, "0x00ff"),
        ] {
            assert_eq!(datum.literal(dialect), literal);
        }
    }

    #[test]
    fn a_number_is_sent_with_all_of_its_digits() {
        let sent = |text: &str| Datum::Number(text.into()).parameter().unwrap();
        assert_eq!(sent("-5"), ParameterValue::Int(-5));
        assert_eq!(sent("007"), ParameterValue::Number("007".into()));
        assert_eq!(sent("0.1"), ParameterValue::Number("0.1".into()));
        let long = "12345678901234567890.123456789";
        assert_eq!(sent(long), ParameterValue::Text(long.into()));
        assert_eq!(Datum::Bytes("00ff1".into()).parameter(), Some(ParameterValue::Bytes(vec![0, 255])));
        assert_eq!(Datum::Null.parameter(), None);
    }
}
