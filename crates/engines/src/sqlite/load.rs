//! Many rows at once: one prepared statement, carried out for each.

use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use rusqlite::{Connection, Statement};

/// How a value is bound, by the affinity of its column (<https://www.sqlite.org/datatype3.html>, section 3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Bound {
    Text,
    Number,
    /// A floating-point number.
    Real,
    Boolean,
    Bytes,
    /// As it looks: the column has no type.
    Any,
}

impl Bound {
    fn of(column: &Column) -> Bound {
        let upper = column.db_type.to_ascii_uppercase();
        let has = |words: &[&str]| words.iter().any(|word| upper.contains(word));
        match upper.as_str() {
            "" => Bound::Any,
            _ if has(&["INT"]) => Bound::Number,
            _ if has(&["CHAR", "CLOB", "TEXT"]) => Bound::Text,
            _ if has(&["BLOB"]) => Bound::Bytes,
            _ if has(&["BOOL"]) => Bound::Boolean,
            _ if has(&["REAL", "FLOA", "DOUB"]) => Bound::Real,
            _ => Bound::Number,
        }
    }

    fn bind(self, prepared: &mut Statement<'_>, at: usize, kind: CellKind, text: &str) -> rusqlite::Result<()> {
        let bytes = |text: &str| -> Option<Vec<u8>> {
            let digits = text.trim_start_matches("\\x").trim_start_matches("0x");
            let pairs = digits.as_bytes().chunks(2);
            pairs
                .map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok().filter(|_| pair.len() == 2))
                .collect()
        };
        match (self, kind) {
            (Bound::Bytes, CellKind::Text) | (_, CellKind::Binary) => match bytes(text) {
                Some(bytes) => prepared.raw_bind_parameter(at, bytes),
                None => prepared.raw_bind_parameter(at, text),
            },
            (Bound::Boolean, _) if matches!(text, "true" | "t" | "TRUE" | "True" | "yes") => {
                prepared.raw_bind_parameter(at, 1)
            }
            (Bound::Boolean, _) if matches!(text, "false" | "f" | "FALSE" | "False" | "no") => {
                prepared.raw_bind_parameter(at, 0)
            }
            // No text becomes one of these by itself.
            (Bound::Real, _) if text.parse::<f64>().is_ok_and(f64::is_infinite) => {
                prepared.raw_bind_parameter(at, text.parse::<f64>().unwrap_or(f64::INFINITY))
            }
            (Bound::Number | Bound::Real | Bound::Boolean, _) | (Bound::Any, CellKind::Number) => {
                match text.parse::<i64>() {
                    Ok(number) => prepared.raw_bind_parameter(at, number),
                    // What is not a number stays a text: the affinity of the column converts what it can.
                    Err(_) => prepared.raw_bind_parameter(at, text),
                }
            }
            _ => prepared.raw_bind_parameter(at, text),
        }
    }
}

/// Loads rows into a table of a database.
pub fn rows(
    connection: &Connection,
    load: &Load<'_>,
    next: &mut NextRows<'_>,
    failed: impl Fn(&rusqlite::Error) -> EngineError,
) -> Result<u64, EngineError> {
    let Some([before, after]) = load.around() else {
        return Err(EngineError::new(ErrorKind::Refused, "there is no statement for these rows"));
    };
    let places = vec!["?"; load.columns.len()].join(", ");
    let text = format!("{before} values ({places}) {after}");
    let mut prepared = connection.prepare(&text).map_err(|error| failed(&error))?;
    let bound: Vec<Bound> = load.columns.iter().map(Bound::of).collect();
    let (mut taken, mut scratch) = (0, String::new());
    while let Some(batch) = next()? {
        if load.stop.is_wished() {
            return Err(EngineError::stopped());
        }
        let columns = ColumnReader::all(&batch);
        for row in 0..batch.num_rows() {
            for ((at, column), bound) in columns.iter().enumerate().zip(&bound) {
                let outcome = match column {
                    ColumnReader::Text(_) if column.is_null(row) => {
                        prepared.raw_bind_parameter(at + 1, rusqlite::types::Null)
                    }
                    ColumnReader::Text(texts) => bound.bind(&mut prepared, at + 1, CellKind::Text, texts.value(row)),
                    column => {
                        scratch.clear();
                        match column.put(row, &mut scratch) {
                            CellKind::Null => prepared.raw_bind_parameter(at + 1, rusqlite::types::Null),
                            kind => bound.bind(&mut prepared, at + 1, kind, &scratch),
                        }
                    }
                };
                outcome.map_err(|error| failed(&error))?;
            }
            taken += prepared.raw_execute().map_err(|error| failed(&error))? as u64;
        }
    }
    Ok(taken)
}
