//! A row, or one value of it, in lines of the screen. The thread of pages lays them out: a value may be megabytes.

use std::ops::Range;

use jaunty_core::layout::laid_out;
use jaunty_language::text::clean;
use jaunty_seam::rows::cell::CellKind;
use jaunty_seam::rows::origin::Origin;

use jaunty_core::words;

/// A value of a row, and what is known of it.
#[derive(Debug, Clone)]
pub struct Field {
    /// The column's name, cleaned.
    pub name: String,
    /// Its type, cleaned.
    pub type_name: String,
    /// Where it comes from, if the database tells; not cleaned.
    pub origin: Option<Origin>,
    /// What it is.
    pub kind: CellKind,
    /// How many bytes it has in all.
    pub bytes: u64,
    /// Which of them were read: long values are looked at part by part.
    pub part: Range<u64>,
}

/// A line of a row.
#[derive(Debug, Clone, Default)]
pub struct Line {
    /// The column.
    pub column: usize,
    /// Whether it is the first of its value.
    pub first: bool,
    /// Its text, cleaned.
    pub text: String,
    /// The line that closes what this one opens.
    pub closes: Option<usize>,
    /// Whether it goes on with the line above it; then so many of its first bytes are indentation.
    pub goes_on: Option<usize>,
    /// Whether it is about the value, and no part of it.
    pub is_note: bool,
}

/// The most bytes of a value that are shown at a time when it is looked at alone.
pub const LONGEST: u64 = 4 << 20;
/// So many lines of a long value are shown in a row; all of them when it is looked at alone.
const SOME: usize = 12;

/// The cells of names and of types in front of the values of a row.
pub fn columns(fields: &[Field]) -> (u16, u16) {
    let widest = |text: fn(&Field) -> &String, most: usize| {
        fields.iter().map(|field| clean::width(text(field))).max().unwrap_or(0).min(most) as u16
    };
    (widest(|field| &field.name, 28), widest(|field| &field.type_name, 20))
}

/// Where values begin.
pub fn left(fields: &[Field], alone: bool) -> u16 {
    let (names, types) = columns(fields);
    if alone { 3 } else { 3 + names + 2 + types + 2 }
}

/// Lays the values of a row out in lines, or one of them alone, on so many columns of the screen. Texts are as they
/// came.
pub fn lay_out(fields: &[Field], texts: &[String], alone: Option<usize>, width: u16) -> Vec<Line> {
    let room = usize::from(width.saturating_sub(left(fields, alone.is_some()) + 2)).max(10);
    let mut all: Vec<Line> = Vec::new();
    let shown = fields.iter().zip(texts).enumerate().filter(|(column, _)| alone.is_none_or(|alone| alone == *column));
    for (column, (field, text)) in shown {
        let note = |text: String| Line { column, text, is_note: true, ..Line::default() };
        let most = if alone.is_some() { usize::MAX } else { SOME };
        let laid = laid_out(field.kind, text, field.part.start, room, most);
        let from = all.len();
        let of_all = || format!("{} of {}", words::bytes(field.part.start), words::bytes(field.bytes));
        if field.part.start > 0 {
            all.push(note(format!("after {}; < goes back", of_all())));
        } else if field.kind == CellKind::Binary && field.bytes > 0 {
            all.push(note(words::bytes(field.bytes)));
        }
        let begins = all.len();
        all.extend(laid.lines.into_iter().map(|line| Line {
            column,
            text: line.text,
            closes: line.closes.map(|closes| begins + closes),
            goes_on: line.goes_on,
            ..Line::default()
        }));
        if laid.cut {
            all.push(note("… more; enter shows all".into()));
        } else if field.part.end < field.bytes {
            all.push(note(format!("… {} in all; > goes on, c copies all of it", words::bytes(field.bytes))));
        }
        if let Some(first) = all.get_mut(from) {
            first.first = true;
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn field(name: &str, kind: CellKind, bytes: u64) -> Field {
        Field { name: name.into(), type_name: "text".into(), origin: None, kind, bytes, part: 0..bytes.min(LONGEST) }
    }

    #[test]
    fn a_row_shows_some_of_each_value_and_a_value_all_of_itself() {
        let fields = [
            field("id", CellKind::Number, 1),
            field("remark", CellKind::Text, 0),
            field("chart", CellKind::Binary, 20),
        ];
        let remark: String = (0..20).map(|n| format!("line {n}\n")).collect();
        let texts = ["7".to_owned(), remark, "00".repeat(20)];
        let row = lay_out(&fields, &texts, None, 80);
        let of = |column: usize| row.iter().filter(|line| line.column == column).collect::<Vec<_>>();
        assert_eq!(of(1).len(), SOME + 1);
        assert_eq!(of(1).last().map(|line| line.text.as_str()), Some("… more; enter shows all"));
        assert_eq!(
            of(2).iter().map(|line| (line.first, line.is_note)).collect::<Vec<_>>(),
            [(true, true), (false, false), (false, false)]
        );
        assert_eq!(of(2)[0].text, "20 bytes");
        assert_eq!(lay_out(&fields, &texts, Some(1), 80).len(), 20);
        // Names and types stand before the values of a row, and not before a value alone.
        assert_eq!((left(&fields, false), left(&fields, true)), (3 + 6 + 2 + 4 + 2, 3));
    }

    #[test]
    fn a_value_that_is_too_long_says_how_long_it_is_and_is_gone_through_by_parts() {
        let part = "x".repeat(LONGEST as usize);
        let mut field = field("remark", CellKind::Text, LONGEST + 7);
        let lines = lay_out(std::slice::from_ref(&field), std::slice::from_ref(&part), Some(0), 105);
        assert_eq!(lines.len() as u64, LONGEST.div_ceil(100) + 1);
        assert_eq!(lines.last().unwrap().text, "… 4.0 MiB in all; > goes on, c copies all of it");
        field.part = LONGEST..LONGEST + 7;
        let lines = lay_out(&[field], &["x".repeat(7)], Some(0), 105);
        assert_eq!(
            lines.iter().map(|line| line.text.as_str()).collect::<Vec<_>>(),
            ["after 4.0 MiB of 4.0 MiB; < goes back", "xxxxxxx"]
        );
    }
}
