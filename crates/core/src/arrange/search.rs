//! Looking for a text in all values of a row, as they are shown.

use arrow_array::cast::AsArray;
use arrow_array::types::{Int16Type, Int32Type, Int64Type};
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_schema::{DataType, Field};
use regex::bytes::{Regex, RegexBuilder};

use jaunty_seam::rows::cell::ColumnReader;
use jaunty_seam::rows::form::TextForm;

/// What is looked for: a text, in any case unless it holds a capital letter.
#[derive(Debug, Clone)]
pub struct Search {
    expression: Regex,
    text: String,
}

impl Search {
    /// Looks for this; nothing for an empty text.
    pub fn new(text: &str) -> Option<Search> {
        let capital = text.chars().any(char::is_uppercase);
        let expression = RegexBuilder::new(&regex::escape(text)).case_insensitive(!capital).build().ok()?;
        (!text.is_empty()).then(|| Search { expression, text: text.to_owned() })
    }

    /// Where it stands in a text, in bytes.
    pub fn places<'a>(&'a self, text: &'a str) -> impl Iterator<Item = std::ops::Range<usize>> + 'a {
        self.expression.find_iter(text.as_bytes()).map(|found| found.range())
    }

    /// Takes out of `stay` the rows in which it is nowhere.
    pub(super) fn narrow(&self, batch: &RecordBatch, stay: &mut [bool]) {
        let mut found = vec![false; batch.num_rows()];
        for (column, field) in batch.columns().iter().zip(batch.schema_ref().fields()) {
            if self.can_be_in(field) {
                self.look(column, field, &mut found);
            }
        }
        stay.iter_mut().zip(found).for_each(|(stays, found)| *stays &= found);
    }

    /// Whether a value of a column could hold it: a word is in no number.
    pub(super) fn can_be_in(&self, field: &Field) -> bool {
        let only = |signs: &str| self.text.chars().all(|c| c.is_ascii_digit() || signs.contains(c));
        match field.data_type() {
            DataType::Int16 | DataType::Int32 | DataType::Int64 | DataType::UInt32 | DataType::UInt64 => only("-"),
            DataType::Decimal128(..) => only("-."),
            // Signs of exponents, `NaN`, `Infinity`.
            DataType::Float32 | DataType::Float64 => only("+-.eEaNInfity"),
            // Zones and eras, `infinity`, a `T` between the two halves.
            kind if kind.is_temporal() => only("-:. +/TZBCinfty"),
            DataType::Binary if TextForm::of(field) == TextForm::Plain => only("abcdefABCDEF"),
            _ => true,
        }
    }

    fn look(&self, column: &ArrayRef, field: &Field, found: &mut [bool]) {
        let mut digits = itoa::Buffer::new();
        let mut whole = |row: usize, value: i64, found: &mut [bool]| {
            if let Some(found) = found.get_mut(row).filter(|_| !column.is_null(row)) {
                *found = *found || self.expression.is_match(digits.format(value).as_bytes());
            }
        };
        match column.data_type() {
            DataType::Utf8 => self.look_in_text(column, found),
            DataType::Int16 => {
                let values = column.as_primitive::<Int16Type>().values();
                values.iter().enumerate().for_each(|(row, value)| whole(row, i64::from(*value), found));
            }
            DataType::Int32 => {
                let values = column.as_primitive::<Int32Type>().values();
                values.iter().enumerate().for_each(|(row, value)| whole(row, i64::from(*value), found));
            }
            DataType::Int64 => {
                let values = column.as_primitive::<Int64Type>().values();
                values.iter().enumerate().for_each(|(row, value)| whole(row, *value, found));
            }
            _ => {
                let reader = ColumnReader::of(column, field);
                for (row, found) in found.iter_mut().enumerate().filter(|(_, found)| !**found) {
                    *found = !reader.is_null(row) && self.expression.is_match(reader.get(row).text.as_bytes());
                }
            }
        }
    }

    /// The values of a batch lie end to end, so all of them are looked through at once.
    fn look_in_text(&self, column: &ArrayRef, found: &mut [bool]) {
        let texts = column.as_string::<i32>();
        let (offsets, all) = (texts.value_offsets(), texts.value_data());
        let Some((first, last)) = offsets.first().zip(offsets.last()).map(|(a, b)| (*a as usize, *b as usize)) else {
            return;
        };
        let mut at = first;
        let mut row = 0;
        while let Some(place) = all.get(..last).and_then(|all| self.expression.find_at(all, at)) {
            row += offsets.get(row..).unwrap_or_default().partition_point(|o| *o as usize <= place.start()).max(1) - 1;
            let Some(end) = offsets.get(row + 1).map(|end| *end as usize) else { break };
            // It may begin in one value and end in the next: then this value has to have it for itself.
            let inside =
                place.end() <= end || all.get(place.start()..end).is_some_and(|rest| self.expression.is_match(rest));
            if inside
                && !texts.is_null(row)
                && let Some(found) = found.get_mut(row)
            {
                *found = true;
            }
            at = end;
        }
    }
}
