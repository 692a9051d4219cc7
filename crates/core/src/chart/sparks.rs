//! Sparklines: how the values of each column go along its rows, in the room of a few cells. All rows count: the line is
//! the mean of the rows at each place, and the area around it reaches from their least to their greatest value.

use jaunty_picture::{Paint, Scene};

use super::column::{Nature, nature, numbers};
use super::gather::PartError;
use crate::arrange::Progress;
use crate::arrange::pick::Part;

/// Stretches of rows that are told apart. A line may be drawn in fewer places, so it fits a column of any width.
const STRETCHES: u64 = 256;

/// What the values of some rows come to.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Stretch {
    min: f64,
    max: f64,
    sum: f64,
    count: u64,
}

impl Stretch {
    const EMPTY: Stretch = Stretch { min: f64::INFINITY, max: f64::NEG_INFINITY, sum: 0.0, count: 0 };

    fn and(self, other: Stretch) -> Stretch {
        Stretch {
            min: self.min.min(other.min),
            max: self.max.max(other.max),
            sum: self.sum + other.sum,
            count: self.count + other.count,
        }
    }

    /// With values; those that are NaN are none.
    fn with(mut self, values: &[f64]) -> Stretch {
        for value in values.iter().filter(|value| !value.is_nan()) {
            self.min = self.min.min(*value);
            self.max = self.max.max(*value);
            self.sum += value;
            self.count += 1;
        }
        self
    }
}

/// A place of a line, between the least value of the column (0) and its greatest (1).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Place {
    /// The least value of its rows.
    pub min: f64,
    /// Their mean.
    pub mean: f64,
    /// The greatest.
    pub max: f64,
}

/// The course of a column's values along its rows.
#[derive(Debug, Clone, PartialEq)]
pub struct Spark {
    stretches: Vec<Stretch>,
    whole: Stretch,
}

impl Spark {
    fn of(stretches: Vec<Stretch>) -> Option<Spark> {
        let whole = stretches.iter().copied().fold(Stretch::EMPTY, Stretch::and);
        (whole.count > 0).then_some(Spark { stretches, whole })
    }

    /// The line in so many places; nothing where there is no value. Of values that are all the same it lies in the
    /// middle.
    pub fn places(&self, places: usize) -> Vec<Option<Place>> {
        let count = self.stretches.len();
        let height = self.whole.max - self.whole.min;
        let share = |value: f64| if height > 0.0 { ((value - self.whole.min) / height).clamp(0.0, 1.0) } else { 0.5 };
        let one = |place: usize| {
            let from = place * count / places;
            let to = ((place + 1) * count / places).max(from + 1);
            let here = self.stretches.get(from..to)?.iter().copied().fold(Stretch::EMPTY, Stretch::and);
            let mean = here.sum / here.count as f64;
            (here.count > 0).then(|| Place { min: share(here.min), mean: share(mean), max: share(here.max) })
        };
        (0..places).map(one).collect()
    }

    /// The line in the dots of so many cells, beside and below each other; the area in the ground of the cells. Where
    /// there are no colours strokes from the least to the greatest stand for both.
    pub fn scene(&self, width: u16, height: u16, colours: bool) -> Scene {
        let dots = f32::from(height) * 4.0;
        let mut scene = Scene::new(f32::from(width) * 2.0, dots);
        let y = |share: f64| (dots - 1.0) * (1.0 - share as f32) + 0.5;
        let places = self.places(usize::from(width) * 2);
        for (x, cell) in places.chunks(2).enumerate().filter(|_| colours) {
            let here = || cell.iter().flatten();
            let min = here().map(|place| place.min).fold(f64::INFINITY, f64::min);
            let max = here().map(|place| place.max).fold(0.0, f64::max);
            let least = here().map(|place| place.mean).fold(f64::INFINITY, f64::min);
            let most = here().map(|place| place.mean).fold(0.0, f64::max);
            // The rows of a place of a rising line are not all alike either.
            if here().count() > 0 && (y(min) - y(least) > 1.0 || y(most) - y(max) > 1.0) {
                scene.rect(x as f32 * 2.0, y(max) - 0.5, 2.0, y(min) - y(max) + 1.0, Paint::Soft(0));
            }
        }
        let mut before = None;
        for (x, place) in places.into_iter().enumerate() {
            // Rows without a value are a gap.
            let Some(Place { min, mean, max }) = place else {
                before = None;
                continue;
            };
            let (mut low, mut high) = if colours { (mean, mean) } else { (min, max) };
            // A stroke goes on where the one before it ended.
            if let Some((low_before, high_before)) = before.replace((low, high)) {
                (low, high) = (low.min(high_before), high.max(low_before));
            }
            let x = x as f32 + 0.5;
            scene.line(vec![(x, y(low)), (x, y(high))], Paint::Series(0), 1.0);
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
    let mut stretches = vec![vec![Stretch::EMPTY; count as usize]; measured.len()];
    let mut values = Vec::new();
    let mut at = 0;
    for batch in read.batches() {
        let batch = batch?;
        let here = at..at + batch.num_rows() as u64;
        let of_stretch = |row: u64| (u128::from(row) * u128::from(count) / u128::from(rows)) as u64;
        for (((column, field), place), stretches) in
            batch.columns().iter().zip(read.schema().fields()).zip(&measured).zip(&mut stretches)
        {
            numbers(column, field, natures.get(*place).copied().unwrap_or(Nature::Number), &mut values);
            for stretch in of_stretch(here.start)..count {
                let (from, to) = (begins(stretch).max(here.start), begins(stretch + 1).min(here.end));
                if from >= to {
                    break;
                }
                let rows = (from - here.start) as usize..(to - here.start) as usize;
                if let (Some(stretch), Some(values)) = (stretches.get_mut(stretch as usize), values.get(rows)) {
                    *stretch = stretch.with(values);
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
        Grid::paint(&spark.scene(width, height, false), false).lines()
    }

    fn place(min: f64, mean: f64, max: f64) -> Option<Place> {
        Some(Place { min, mean, max })
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
            (0..20).filter(|at| found[0].as_ref().unwrap().places(20)[*at].unwrap().max > 0.5).collect();
        assert_eq!(high, [14], "70,123 of 100,000 is in the fifteenth of twenty places");
        assert_eq!(drawn(found[0].as_ref().unwrap(), 10, 2), ["       ⡇  ", "⣀⣀⣀⣀⣀⣀⣀⣇⣀⣀"]);
        assert_eq!(drawn(found[2].as_ref().unwrap(), 4, 2), ["  ⣠⠞", "⡴⠋⠁ "]);
        // With colours the line is the mean, and what stands out is the ground of its cell.
        let grid = Grid::paint(&found[0].as_ref().unwrap().scene(10, 2, true), true);
        assert_eq!(grid.lines(), ["          ", "⣀⣀⣀⣀⣀⣀⣀⣀⣀⣀"]);
        let grounds = |y: usize| (0..10).filter(|x| grid.cell(*x, y).ground != Paint::Ground).collect::<Vec<_>>();
        assert_eq!((grounds(0), grounds(1)), (vec![7], vec![7]));
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
        assert_eq!(few.places(4), [place(0.0, 0.0, 0.0), None, place(1.0, 1.0, 1.0), place(0.5, 0.5, 0.5)]);
        assert_eq!(few.places(8)[..4], [place(0.0, 0.0, 0.0), place(0.0, 0.0, 0.0), None, None]);
        assert_eq!(few.places(1), [place(0.0, 0.5, 1.0)]);
        assert_eq!(found[1].as_ref().unwrap().places(2), [place(0.5, 0.5, 0.5); 2]);
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
