//! Values so long that they are written piece by piece, without their text being put together first: it would be in
//! memory beside the value, once as it is and once as the format quotes it.

use std::borrow::Cow;

use arrow_array::Array;

use jaunty_seam::rows::assemble::Value;
use jaunty_seam::rows::cell::{CellKind, ColumnReader, Formed, hex};
use jaunty_seam::rows::widen::mixed_value;

/// Text or bytes of at least this many bytes are long.
const LONG: usize = 1 << 20;
/// About so many bytes are written at once.
const PIECE: usize = 64 << 10;

/// A long value.
#[derive(Debug, Clone, Copy)]
pub(super) enum Long<'a> {
    /// Text as it is.
    Text(&'a str),
    /// Bytes, written as hexadecimal digits behind this.
    Bytes(&'static str, &'a [u8]),
}

impl<'a> Long<'a> {
    /// The value of a row, if it is long.
    pub(super) fn of(column: &ColumnReader<'a>, row: usize) -> Option<Long<'a>> {
        let long = match column {
            ColumnReader::Text(a) if !a.is_null(row) => Long::Text(a.value(row)),
            ColumnReader::Bytes(a) if !a.is_null(row) => Long::Bytes("", a.value(row)),
            ColumnReader::Formed(Formed::Bytes(a), _) if !a.is_null(row) => Long::Bytes("\\x", a.value(row)),
            ColumnReader::Mixed(a) => match mixed_value(a, row) {
                Value::Text(text) | Value::Typed(_, text) => Long::Text(text),
                Value::Bytes(bytes) => Long::Bytes("", bytes),
                _ => return None,
            },
            _ => return None,
        };
        Some(long).filter(|long| long.length() >= LONG)
    }

    fn length(&self) -> usize {
        match self {
            Long::Text(text) => text.len(),
            Long::Bytes(_, bytes) => bytes.len(),
        }
    }

    /// What it is.
    pub(super) fn kind(&self) -> CellKind {
        match self {
            Long::Text(_) => CellKind::Text,
            Long::Bytes(..) => CellKind::Binary,
        }
    }

    /// Its text, in pieces of whole characters.
    pub(super) fn pieces(self) -> impl Iterator<Item = Cow<'a, str>> {
        let mut at = 0;
        std::iter::from_fn(move || match self {
            Long::Text(text) => {
                let rest = text.get(at..).filter(|rest| !rest.is_empty())?;
                let end = rest.ceil_char_boundary(PIECE);
                at += end;
                rest.get(..end).map(Cow::Borrowed)
            }
            Long::Bytes(prefix, bytes) => {
                let rest = bytes.get(at..).filter(|rest| !rest.is_empty())?;
                let piece = hex(rest.get(..PIECE).unwrap_or(rest));
                let before = if at == 0 { prefix } else { "" };
                at += PIECE;
                Some(Cow::Owned(format!("{before}{piece}")))
            }
        })
    }
}
