//! Sparklines: how the values of each column go along its rows, in the room of a few cells. All rows count: each place
//! of the line reaches from the least to the greatest value of its rows.

use jaunty_picture::{Paint, Scene};

use super::column::{Nature, nature, numbers};
use super::gather::PartError;
use crate::arrange::Progress;
use crate::arrange::pick::Part;

/// Stretches of rows that are told apart. A line may be drawn in fewer places, so it fits a column of any width.
const STRETCHES: u64 = 256;

/// The range of some rows' values; of none it is empty.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Range {
    min: f64,
    max: f64,
}

impl Range {
    const EMPTY: Range = Range { min: f64::INFINITY, max: f64::NEG_INFINITY };

    fn is_empty(self) -> bool {
        self.min > self.max
    }

    fn and(self, other: Range) -> Range {
        Range { min: self.min.min(other.min), max: self.max.max(other.max) }
    }

    /// With values; those that are NaN are none.
    fn with(self, values: &[f64]) -> Range {
        values.iter().fold(self, |range, value| Range { min: range.min.min(*value), max: range.max.max(*value) })
    }
}

/// The course of a column's values along its rows.
#[derive(Debug, Clone, PartialEq)]
pub struct Spark {
    stretches: Vec<Range>,
    whole: Range,
}

impl Spark {
    fn of(stretches: Vec<Range>) -> Option<Spark> {
        let whole = stretches.iter().copied().fold(Range::EMPTY, Range::and);
        (!whole.is_empty()).then_some(Spark { stretches, whole })
    }

    /// The line in so many places: where each reaches from and to, between the column's least value (0) and its
    /// greatest (1); nothing where there is no value. Of values that are all the same it lies in the middle.
    pub fn places(&self, places: usize) -> Vec<Option<(f64, f64)>> {
        let count = self.stretches.len();
        let height = self.whole.max - self.whole.min;
        let share = |value: f64| if height > 0.0 { (value - self.whole.min) / height } else { 0.5 };
        let one = |place: usize| {
            let from = place * count / places;
            let to = ((place + 1) * count / places).max(from + 1);
            let range = self.stretches.get(from..to)?.iter().copied().fold(Range::EMPTY, Range::and);
            (!range.is_empty()).then(|| (share(range.min), share(range.max)))
        };
        (0..places).map(one).collect()
    }

    /// The line in the dots of so many cells, beside and below each other.
    pub fn scene(&self, width: u16, height: u16) -> Scene {
        let (places, dots) = (usize::from(width) * 2, f32::from(height) * 4.0);
        let mut scene = Scene::new(f32::from(width) * 2.0, dots);
        let mut before = None;
        for (x, place) in self.places(places).into_iter().enumerate() {
            // Rows without a value are a gap.
            if let Some((mut low, mut high)) = place {
                // A stroke goes on where the one before it ended.
                if let Some((low_before, high_before)) = before.replace((low, high)) {
                    (low, high) = (low.min(high_before), high.max(low_before));
                }
                let (x, y) = (x as f32 + 0.5, |share: f64| (dots - 1.0) * (1.0 - share as f32) + 0.5);
                scene.line(vec![(x, y(low)), (x, y(high))], Paint::Series(0), 1.0);
            } else {
                before = None;
            }
        }
        scene
    }
}

/// The sparkline of each column of a part of a result, in one pass and bounded memory; none of columns whose values are
/// neither numbers nor times, or that have none.
pub fn sparks(part: &Part, progress: &Progress) -> Result<Vec<Option<Spark>>, PartError> {
    let schema = part.schema();
    let mut sparks: Vec<Option<Spark>> = vec![None; schema.fields().len()];
    let rows = part.len();
    progress.expect(rows);
    let first = Part { rows: part.rows.start..part.rows.start + rows.min(1000), ..part.clone() };
    let Some(first) = first.batches().next().transpose()? else { return Ok(sparks) };
    let natures: Vec<Nature> =
        schema.fields().iter().zip(first.columns()).map(|(field, column)| nature(field, column)).collect();
    let measured: Vec<usize> = (0..natures.len()).filter(|at| natures.get(*at) != Some(&Nature::Name)).collect();
    if measured.is_empty() {
        return Ok(sparks);
    }
    // Of the others nothing is read.
    let own = |at: &usize| part.columns.as_ref().map_or(Some(*at), |columns| columns.get(*at).copied());
    let read = Part { columns: Some(measured.iter().filter_map(own).collect()), ..part.clone() };
    let count = rows.min(STRETCHES);
    let begins = |stretch: u64| (u128::from(stretch) * u128::from(rows)).div_ceil(u128::from(count)) as u64;
    let mut stretches = vec![vec![Range::EMPTY; count as usize]; measured.len()];
    let mut values = Vec::new();
    let mut at = 0;
    for batch in read.batches() {
        let batch = batch?;
        let here = at..at + batch.num_rows() as u64;
        let of_stretch = |row: u64| (u128::from(row) * u128::from(count) / u128::from(rows)) as u64;
        for (((column, field), place), ranges) in
            batch.columns().iter().zip(read.schema().fields()).zip(&measured).zip(&mut stretches)
        {
            numbers(column, field, natures.get(*place).copied().unwrap_or(Nature::Number), &mut values);
            for stretch in of_stretch(here.start)..count {
                let (from, to) = (begins(stretch).max(here.start), begins(stretch + 1).min(here.end));
                if from >= to {
                    break;
                }
                let rows = (from - here.start) as usize..(to - here.start) as usize;
                if let (Some(range), Some(values)) = (ranges.get_mut(stretch as usize), values.get(rows)) {
                    *range = range.with(values);
                }
            }
        }
        at = here.end;
        progress.advance(batch.num_rows()).map_err(|_| PartError::Stopped)?;
    }
    for (place, stretches) in measured.into_iter().zip(stretches) {
        if let Some(spark) = sparks.get_mut(place) {
            *spark = Spark::of(stretches);
        }
    }
    Ok(sparks)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch, StringArray};
    use jaunty_picture::cells::Grid;

    use super::*;
    use crate::archive::Writer;
    use crate::arrange::{Order, Wanted, arrange};

    /// Rows in batches of this many.
    fn part(folder: &tempfile::TempDir, columns: Vec<(&str, ArrayRef)>, each: usize) -> Part {
        let whole = RecordBatch::try_from_iter(columns).unwrap();
        let mut writer = Writer::create(&folder.path().join("rows.arrow"), &whole.schema()).unwrap();
        for from in (0..whole.num_rows()).step_by(each) {
            writer.write(&whole.slice(from, each.min(whole.num_rows() - from))).unwrap();
        }
        let archive = Arc::clone(writer.archive());
        writer.finish().unwrap();
        Part::whole(archive)
    }

    fn drawn(spark: &Spark, width: u16, height: u16) -> Vec<String> {
        Grid::paint(&spark.scene(width, height), false).lines()
    }

    #[test]
    fn a_line_reaches_from_the_least_to_the_greatest_of_its_rows() {
        let folder = tempfile::tempdir().unwrap();
        // One row of a hundred thousand stands out.
        let depths: Float64Array = (0..100_000).map(|n| Some(if n == 70_123 { 100.0 } else { 1.0 })).collect();
        let ids: Int64Array = (0..100_000).map(Some).collect();
        let names: StringArray = (0..100_000).map(|n| Some(format!("berth {n}"))).collect();
        let part = part(
            &folder,
            vec![("depth", Arc::new(depths)), ("name", Arc::new(names)), ("id", Arc::new(ids))],
            // Batches end where no stretch does.
            8192,
        );
        let found = sparks(&part, &Progress::default()).unwrap();
        assert_eq!(found[1], None, "words have no course");
        let high: Vec<usize> =
            (0..20).filter(|at| found[0].as_ref().unwrap().places(20)[*at].unwrap().1 > 0.5).collect();
        assert_eq!(high, [14], "70,123 of 100,000 is in the fifteenth of twenty places");
        assert_eq!(drawn(found[0].as_ref().unwrap(), 10, 2), ["       ⡇  ", "⣀⣀⣀⣀⣀⣀⣀⣇⣀⣀"]);
        assert_eq!(drawn(found[2].as_ref().unwrap(), 4, 2), ["  ⣠⠞", "⡴⠋⠁ "]);
        // The same rows the other way about, and some of the columns.
        let wanted = Wanted { order: vec![Order { column: 2, descending: true }], ..Wanted::default() };
        let order = arrange(&part.archive, &wanted, &Progress::default()).unwrap();
        let back = Part { arrangement: Some(Arc::new(order)), columns: Some(vec![2]), ..part };
        let found = sparks(&back, &Progress::default()).unwrap();
        assert_eq!(drawn(found[0].as_ref().unwrap(), 4, 2), ["⠳⣄⡀ ", "  ⠙⢦"]);
    }

    #[test]
    fn rows_without_a_value_are_a_gap_and_few_rows_are_steps() {
        let folder = tempfile::tempdir().unwrap();
        let few = Int64Array::from(vec![Some(1), None, Some(3), Some(2)]);
        let same = Int64Array::from(vec![7; 4]);
        let none = Int64Array::from(vec![None; 4]);
        let part = part(&folder, vec![("few", Arc::new(few)), ("same", Arc::new(same)), ("none", Arc::new(none))], 3);
        let found = sparks(&part, &Progress::default()).unwrap();
        let few = found[0].as_ref().unwrap();
        assert_eq!(few.places(4), [Some((0.0, 0.0)), None, Some((1.0, 1.0)), Some((0.5, 0.5))]);
        assert_eq!(few.places(8)[..4], [Some((0.0, 0.0)), Some((0.0, 0.0)), None, None]);
        assert_eq!(few.places(1), [Some((0.0, 1.0))]);
        assert_eq!(found[1].as_ref().unwrap().places(2), [Some((0.5, 0.5)); 2]);
        assert_eq!(found[2], None);
    }

    #[test]
    fn no_rows_have_no_course_and_a_wish_ends_it() {
        let folder = tempfile::tempdir().unwrap();
        let part = part(&folder, vec![("id", Arc::new(Int64Array::from(vec![1, 2])))], 10);
        let none = Part { rows: 0..0, ..part.clone() };
        assert_eq!(sparks(&none, &Progress::default()).unwrap(), [None]);
        let progress = Progress::default();
        progress.stop();
        assert!(matches!(sparks(&part, &progress), Err(PartError::Stopped)));
    }
}
