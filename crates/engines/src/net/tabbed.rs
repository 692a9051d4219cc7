//! Rows as lines of text with tabs between the values, as the bulk ways of servers read them: `\N` is NULL, and a
//! backslash stands before what is not meant as such (PostgreSQL's `COPY` in text format, MySQL's `LOAD DATA`).

use jaunty_seam::rows::cell::{CellKind, ColumnReader};

/// Adds a row as a line. Bytes are written as hexadecimal digits, after what `before_bytes` says for their column.
pub fn put_row(
    columns: &[ColumnReader<'_>],
    row: usize,
    before_bytes: &[&str],
    scratch: &mut String,
    out: &mut Vec<u8>,
) {
    for (at, column) in columns.iter().enumerate() {
        if at > 0 {
            out.push(b'\t');
        }
        match column {
            ColumnReader::Text(_) if column.is_null(row) => out.extend_from_slice(b"\\N"),
            ColumnReader::Text(texts) => put_text(texts.value(row).as_bytes(), out),
            column => {
                scratch.clear();
                match column.put(row, scratch) {
                    CellKind::Null => out.extend_from_slice(b"\\N"),
                    CellKind::Binary => {
                        let before = before_bytes.get(at).copied().unwrap_or_default();
                        // Some forms of bytes have it already.
                        put_text(if scratch.starts_with(before) { "" } else { before }.as_bytes(), out);
                        put_text(scratch.as_bytes(), out);
                    }
                    _ => put_text(scratch.as_bytes(), out),
                }
            }
        }
    }
    out.push(b'\n');
}

fn put_text(text: &[u8], out: &mut Vec<u8>) {
    let mut from = 0;
    for (at, byte) in text.iter().enumerate() {
        let letter = match byte {
            b'\\' => b'\\',
            b'\t' => b't',
            b'\n' => b'n',
            b'\r' => b'r',
            _ => continue,
        };
        out.extend_from_slice(&text[from..at]);
        out.extend_from_slice(&[b'\\', letter]);
        from = at + 1;
    }
    out.extend_from_slice(&text[from..]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{ArrayRef, BinaryArray, Int64Array, StringArray};
    use std::sync::Arc;

    #[test]
    fn what_would_end_a_value_is_escaped() {
        let texts: ArrayRef = Arc::new(StringArray::from(vec![Some("a\tb\\\nc\r"), None, Some("")]));
        let numbers: ArrayRef = Arc::new(Int64Array::from(vec![Some(-1), None, Some(2)]));
        let bytes: ArrayRef = Arc::new(BinaryArray::from(vec![Some(&b"\x00\\"[..]), None, Some(b"")]));
        let columns = [&texts, &numbers, &bytes, &bytes].map(ColumnReader::new);
        let mut out = Vec::new();
        (0..3).for_each(|row| put_row(&columns, row, &["", "", "\\x"], &mut String::new(), &mut out));
        let wanted = "a\\tb\\\\\\nc\\r\t-1\t\\\\x005c\t005c\n\\N\t\\N\t\\N\t\\N\n\t2\t\\\\x\t\n";
        assert_eq!(String::from_utf8(out).unwrap(), wanted);
    }
}
