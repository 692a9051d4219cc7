//! One value of what is changed: as it was read, and as it is to be.

use serde::{Deserialize, Serialize};

use super::Dialect;

/// The values of a row, or of an element, by its fields: none where one was not read.
pub type Row = Vec<Option<Datum>>;

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
    /// A value of any type, as its language writes it.
    Written(String),
    /// A field of a document that is not there.
    Absent,
}

impl Datum {
    /// Its text, as a person edits it; nothing where it is a word.
    pub fn text(&self) -> &str {
        match self {
            Datum::Null | Datum::Default | Datum::Absent => "",
            Datum::Number(text) | Datum::Text(text) | Datum::Bytes(text) | Datum::Written(text) => text,
            Datum::Bool(true) => "true",
            Datum::Bool(false) => "false",
        }
    }

    /// As it is shown: NULL and defaults in words of their own, which are told from text by [`Datum::is_word`].
    pub fn shown(&self) -> &str {
        match self {
            Datum::Null => "NULL",
            Datum::Default => "default",
            Datum::Absent => "not there",
            value => value.text(),
        }
    }

    /// Whether what is shown stands for something, and is not its text.
    pub fn is_word(&self) -> bool {
        matches!(self, Datum::Null | Datum::Default | Datum::Absent)
    }

    /// As it stands in a statement.
    pub fn literal(&self, dialect: &Dialect) -> String {
        match self {
            Datum::Null | Datum::Absent => "null".into(),
            Datum::Default => "default".into(),
            Datum::Written(text) => text.clone(),
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
            Datum::Bool(value) if dialect.is_keyword("TRUE") => value.to_string(),
            // Where there are no such words a flag is a number.
            Datum::Bool(value) => u8::from(*value).to_string(),
        }
    }
}

/// Whether a number can stand in a statement as it is. A zero with a sign keeps that only as text.
fn is_plain_number(text: &str) -> bool {
    text != "-0"
        && text.bytes().any(|byte| byte.is_ascii_digit())
        && text.bytes().all(|byte| byte.is_ascii_digit() || b"+-.eE".contains(&byte))
}

/// The bytes of hexadecimal digits; what is not a digit ends them.
pub fn bytes_of(digits: &str) -> Vec<u8> {
    let pairs = digits.as_bytes().chunks_exact(2);
    pairs.map_while(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};

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
}
