//! What the bare kernels of Arrow take for the same work with all rows in memory.

use std::error::Error;
use std::time::{Duration, Instant};

use arrow_array::{Array, ArrayRef, BooleanArray, RecordBatch, StringArray};
use arrow_schema::DataType;

/// Sorts a column.
pub fn sorted(column: &ArrayRef, descending: bool) -> Result<Duration, Box<dyn Error>> {
    let options = arrow_ord::sort::SortOptions { descending, nulls_first: false };
    let begun = Instant::now();
    std::hint::black_box(arrow_ord::sort::sort_to_indices(column, Some(options), None)?);
    Ok(begun.elapsed())
}

/// The same search with kernels: each column as text, then `contains`.
pub fn searched(whole: &RecordBatch, text: &str) -> Result<Duration, Box<dyn Error>> {
    let begun = Instant::now();
    let mut found: Option<BooleanArray> = None;
    let needle = StringArray::new_scalar(text);
    for column in whole.columns() {
        let texts = arrow_cast::cast(column, &DataType::Utf8)?;
        // The search does not ask for capitals.
        let lower: StringArray = texts
            .as_any()
            .downcast_ref::<StringArray>()
            .ok_or("no text")?
            .iter()
            .map(|text| text.map(str::to_ascii_lowercase))
            .collect();
        let here = arrow_string::like::contains(&lower, &needle)?;
        found = Some(match found {
            Some(before) => arrow_arith::boolean::or_kleene(&before, &here)?,
            None => here,
        });
    }
    std::hint::black_box(found.map_or(0, |found| found.true_count()));
    Ok(begun.elapsed())
}
