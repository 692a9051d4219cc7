//! From the rows of a result to what is drawn of them, in one pass and in bounded memory, whatever the count of rows.
//!
//! Nothing is left out by chance: where there are more rows than places, each place keeps the least and the greatest
//! value, or how many rows it has; what has no place is counted.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch};
use arrow_schema::{Field, SchemaRef};
use jaunty_seam::rows::cell::ColumnReader;

use super::ChartError;
use super::choose::{Plan, plan};
use super::column::{Nature, numbers};
use super::spec::{Aggregate, Kind, Spec, Step};
use super::steps::{coarser, start_of};
use crate::archive::ArchiveError;
use crate::arrange::Progress;
use crate::arrange::pick::Part as Rows;

/// Places of a line along its lower edge.
const BINS: usize = 2048;

/// Places of a scatter along each edge.
const FIELD: usize = 512;

/// As long as there are no more rows than this, each keeps its own place in a scatter.
const EXACT: usize = 20_000;

/// As long as there are no more values than this, histograms and quartiles are of the values themselves.
const KEPT: usize = 200_000;

/// Series that are told apart while rows are read.
const MOST_SERIES: usize = 64;

/// Small charts beside each other.
const MOST_EACH: usize = 12;

/// Points that have their words beside them: more would lie over each other.
const MOST_LABELS: usize = 40;

/// Names and steps of time, times series.
const MOST_GROUPS: usize = 200_000;

/// Steps of time before they become coarser.
const MOST_STEPS: usize = 4096;

/// What a median is made of.
const MOST_VALUES: u64 = 2_000_000;

/// How many rows there were, and which of them are not drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counts {
    /// All rows.
    pub rows: u64,
    /// Those with NULL, or with what is no number, where a number or a time is needed.
    pub without_place: u64,
    /// Those of small charts that are not shown.
    pub elsewhere: u64,
}

/// The values at one place.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// How many.
    pub count: u64,
    sum: f64,
    min: f64,
    max: f64,
    values: Vec<f64>,
}

impl Group {
    fn new() -> Group {
        Group { count: 0, sum: 0.0, min: f64::INFINITY, max: f64::NEG_INFINITY, values: Vec::new() }
    }

    fn add(&mut self, value: f64, keep: bool) {
        self.count += 1;
        self.sum += value;
        self.min = self.min.min(value);
        self.max = self.max.max(value);
        if keep {
            self.values.push(value);
        }
    }

    /// Adds what another place has.
    pub(super) fn merge(&mut self, other: &Group) {
        self.count += other.count;
        self.sum += other.sum;
        self.min = self.min.min(other.min);
        self.max = self.max.max(other.max);
        self.values.extend_from_slice(&other.values);
    }

    /// What is made of them.
    pub fn value(&self, aggregate: Aggregate) -> f64 {
        match aggregate {
            Aggregate::Sum => self.sum,
            Aggregate::Mean => self.sum / self.count as f64,
            Aggregate::Count => self.count as f64,
            Aggregate::Min => self.min,
            Aggregate::Max => self.max,
            Aggregate::Median => quantile(&sorted(&self.values), 0.5),
        }
    }
}

fn sorted(values: &[f64]) -> Vec<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    sorted
}

/// A quantile of sorted values, between two neighbours in proportion (type 7 of Hyndman and Fan, 1996).
pub(super) fn quantile(sorted: &[f64], share: f64) -> f64 {
    let Some(last) = sorted.len().checked_sub(1) else { return f64::NAN };
    let at = share * last as f64;
    let (low, high) = (at.floor() as usize, at.ceil() as usize);
    sorted[low] + (sorted[high.min(last)] - sorted[low]) * (at - at.floor())
}

/// Part of a line: all points between two places of the lower edge.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bin {
    /// How many points.
    pub count: u64,
    /// The least value.
    pub min: f64,
    /// The greatest.
    pub max: f64,
    /// The first point.
    pub first: (f64, f64),
    /// The last point.
    pub last: (f64, f64),
}

const NO_POINT: Bin = Bin {
    count: 0,
    min: f64::INFINITY,
    max: f64::NEG_INFINITY,
    first: (f64::INFINITY, 0.0),
    last: (f64::NEG_INFINITY, 0.0),
};

/// A line as bins that grow with the range of its points: they double, and two become one.
#[derive(Debug, Clone)]
pub struct Bins {
    from: f64,
    width: f64,
    bins: Vec<Bin>,
}

impl Bins {
    /// For points in this range; of none at all the first one says where it is.
    fn new((low, high): (f64, f64)) -> Bins {
        if low > high {
            return Bins { from: f64::NAN, width: 0.0, bins: vec![NO_POINT; BINS] };
        }
        let range = if high > low { high - low } else { 1.0 };
        Bins { from: low, width: range / (BINS as f64 - 1.0), bins: vec![NO_POINT; BINS] }
    }

    fn merged(a: Bin, b: Bin) -> Bin {
        let first = if a.first.0 <= b.first.0 { a.first } else { b.first };
        let last = if b.last.0 >= a.last.0 { b.last } else { a.last };
        Bin { count: a.count + b.count, min: a.min.min(b.min), max: a.max.max(b.max), first, last }
    }

    /// Makes room for a place beyond the ends.
    #[cold]
    fn grow(&mut self, to: f64) {
        if self.from.is_nan() {
            (self.from, self.width) = (to, to.abs().max(1.0) * 1e-12);
        }
        while to < self.from || to >= self.from + self.width * BINS as f64 {
            let to_left = to < self.from;
            let half: Vec<Bin> = self.bins.chunks_exact(2).map(|pair| Bins::merged(pair[0], pair[1])).collect();
            let free = vec![NO_POINT; BINS / 2];
            if to_left {
                self.from -= self.width * BINS as f64;
                self.bins = [free, half].concat();
            } else {
                self.bins = [half, free].concat();
            }
            self.width *= 2.0;
            if !self.width.is_finite() {
                return;
            }
        }
    }

    #[inline]
    fn add(&mut self, x: f64, y: f64) {
        let mut at = ((x - self.from) / self.width) as usize;
        if self.from.is_nan() || x < self.from || at >= BINS {
            self.grow(x);
            at = (((x - self.from) / self.width) as usize).min(BINS - 1);
        }
        let Some(bin) = self.bins.get_mut(at) else { return };
        bin.count += 1;
        bin.min = bin.min.min(y);
        bin.max = bin.max.max(y);
        if x < bin.first.0 {
            bin.first = (x, y);
        }
        if x >= bin.last.0 {
            bin.last = (x, y);
        }
    }

    /// Adds points, and says how many of them have no place.
    fn add_all(&mut self, xs: &[f64], ys: &[f64]) -> u64 {
        let mut without_place = 0;
        let (mut from, mut each) = (self.from, 1.0 / self.width);
        for (x, y) in xs.iter().copied().zip(ys.iter().copied()) {
            if x.is_nan() || y.is_nan() {
                without_place += 1;
                continue;
            }
            let at = (x - from) * each;
            // What is beyond the ends, or at the end of the last bin, takes the long way.
            if at >= 0.0
                && let Some(bin) = self.bins.get_mut(at as usize)
            {
                bin.count += 1;
                if y < bin.min {
                    bin.min = y;
                }
                if y > bin.max {
                    bin.max = y;
                }
                if x < bin.first.0 {
                    bin.first = (x, y);
                }
                if x >= bin.last.0 {
                    bin.last = (x, y);
                }
            } else {
                self.add(x, y);
                (from, each) = (self.from, 1.0 / self.width);
            }
        }
        without_place
    }

    /// Those that have points, in order.
    pub fn filled(&self) -> impl Iterator<Item = &Bin> {
        self.bins.iter().filter(|bin| bin.count > 0)
    }
}

/// Values of a column, kept or counted by ranges.
#[derive(Debug, Clone)]
pub struct Spread {
    /// How many.
    pub count: u64,
    /// The least.
    pub min: f64,
    /// The greatest.
    pub max: f64,
    values: Vec<f64>,
    bins: Option<Bins>,
}

impl Spread {
    fn new() -> Spread {
        Spread { count: 0, min: f64::INFINITY, max: f64::NEG_INFINITY, values: Vec::new(), bins: None }
    }

    fn add(&mut self, value: f64) {
        self.count += 1;
        self.min = self.min.min(value);
        self.max = self.max.max(value);
        match &mut self.bins {
            Some(bins) => bins.add(value, 0.0),
            None => {
                self.values.push(value);
                if self.values.len() > KEPT {
                    let mut bins = Bins::new((self.min, self.max));
                    std::mem::take(&mut self.values).into_iter().for_each(|value| bins.add(value, 0.0));
                    self.bins = Some(bins);
                }
            }
        }
    }

    /// Whether what is told of them is only exact to a part of their range.
    pub fn is_rounded(&self) -> bool {
        self.bins.is_some()
    }

    /// How many lie in each of these ranges of equal width.
    pub fn counts(&self, from: f64, width: f64, ranges: usize) -> Vec<u64> {
        let mut counts = vec![0; ranges];
        let mut add = |value: f64, count: u64| {
            let at = ((value - from) / width).floor().max(0.0) as usize;
            if let Some(range) = counts.get_mut(at.min(ranges.saturating_sub(1))) {
                *range += count;
            }
        };
        self.values.iter().for_each(|value| add(*value, 1));
        for bin in self.bins.iter().flat_map(Bins::filled) {
            add(f64::midpoint(bin.first.0, bin.last.0), bin.count);
        }
        counts
    }

    /// Quantiles.
    pub fn quantiles<const N: usize>(&self, shares: [f64; N]) -> [f64; N] {
        let Some(bins) = &self.bins else {
            let sorted = sorted(&self.values);
            return shares.map(|share| quantile(&sorted, share));
        };
        shares.map(|share| {
            let at = share * (self.count as f64 - 1.0);
            let mut before = 0.0;
            for bin in bins.filled() {
                if at < before + bin.count as f64 {
                    let within = (at - before) / bin.count as f64;
                    return bin.first.0 + (bin.last.0 - bin.first.0) * within;
                }
                before += bin.count as f64;
            }
            self.max
        })
    }
}

/// Pairs of numbers: each where it is, or counted by places.
#[derive(Debug, Clone)]
pub struct Pairs {
    /// The pairs, as long as there are few.
    pub exact: Vec<(f64, f64)>,
    /// The ranges of both.
    pub x: (f64, f64),
    /// The range of the second.
    pub y: (f64, f64),
    /// The words of the first pairs, where there are any.
    pub labels: Vec<String>,
    field: Option<Field2>,
}

#[derive(Debug, Clone)]
struct Field2 {
    from: [f64; 2],
    width: [f64; 2],
    counts: Vec<u32>,
}

impl Field2 {
    fn grow(&mut self, axis: usize, to_left: bool) {
        let mut counts = vec![0_u32; FIELD * FIELD];
        let shift = if to_left { FIELD / 2 } else { 0 };
        for (at, count) in self.counts.iter().enumerate().filter(|(_, count)| **count > 0) {
            let mut place = [at % FIELD, at / FIELD];
            place[axis] = place[axis] / 2 + shift;
            let new = &mut counts[place[1] * FIELD + place[0]];
            *new = new.saturating_add(*count);
        }
        self.counts = counts;
        if to_left {
            self.from[axis] -= self.width[axis] * FIELD as f64;
        }
        self.width[axis] *= 2.0;
    }

    fn add(&mut self, at: [f64; 2]) {
        let mut place = [0; 2];
        for axis in 0..2 {
            loop {
                let n = (at[axis] - self.from[axis]) / self.width[axis];
                if (0.0..FIELD as f64).contains(&n) || !self.width[axis].is_finite() {
                    place[axis] = (n.max(0.0) as usize).min(FIELD - 1);
                    break;
                }
                self.grow(axis, n < 0.0);
            }
        }
        let count = &mut self.counts[place[1] * FIELD + place[0]];
        *count = count.saturating_add(1);
    }
}

impl Pairs {
    fn new() -> Pairs {
        let none = (f64::INFINITY, f64::NEG_INFINITY);
        Pairs { exact: Vec::new(), x: none, y: none, labels: Vec::new(), field: None }
    }

    fn add(&mut self, x: f64, y: f64) {
        self.x = (self.x.0.min(x), self.x.1.max(x));
        self.y = (self.y.0.min(y), self.y.1.max(y));
        if let Some(field) = &mut self.field {
            return field.add([x, y]);
        }
        self.exact.push((x, y));
        if self.exact.len() > EXACT {
            let width = |(low, high): (f64, f64)| if high > low { (high - low) / (FIELD as f64 - 1.0) } else { 1.0 };
            let mut field = Field2 {
                from: [self.x.0, self.y.0],
                width: [width(self.x), width(self.y)],
                counts: vec![0; FIELD * FIELD],
            };
            std::mem::take(&mut self.exact).into_iter().for_each(|(x, y)| field.add([x, y]));
            self.field = Some(field);
        }
    }

    /// Whether places were rounded.
    pub fn is_rounded(&self) -> bool {
        self.field.is_some()
    }

    /// All places, each with how many pairs it has.
    pub fn places(&self) -> Vec<(f64, f64, u32)> {
        let exact = self.exact.iter().map(|(x, y)| (*x, *y, 1));
        let counted = self.field.iter().flat_map(|field| {
            let counts = field.counts.iter().enumerate().filter(|(_, count)| **count > 0);
            counts.map(|(at, count)| {
                let middle = |axis: usize, n: usize| field.from[axis] + (n as f64 + 0.5) * field.width[axis];
                (middle(0, at % FIELD), middle(1, at / FIELD), *count)
            })
        });
        exact.chain(counted).collect()
    }
}

/// A place of the lower edge that is told apart from the others.
#[derive(Debug, Clone, PartialEq)]
pub enum Key {
    /// A word.
    Name(String),
    /// A number, or the beginning of a step of time.
    Number(f64),
}

/// What was gathered for one chart.
#[derive(Debug, Clone)]
pub enum Body {
    /// Lines, one for each series.
    Lines(Vec<Bins>),
    /// Groups by place and series.
    Groups(Groups),
    /// The values of each series.
    Spreads(Vec<Spread>),
    /// The pairs of each series.
    Pairs(Vec<Pairs>),
}

/// Groups by place and series.
#[derive(Debug, Clone, Default)]
pub struct Groups {
    /// The places.
    pub keys: Vec<Key>,
    names: HashMap<String, u32>,
    numbers: HashMap<u64, u32>,
    /// By place and series.
    pub groups: HashMap<(u32, u32), Group>,
    values: u64,
}

impl Groups {
    fn name(&mut self, name: &str) -> u32 {
        if let Some(at) = self.names.get(name) {
            return *at;
        }
        let at = self.keys.len() as u32;
        self.keys.push(Key::Name(name.to_owned()));
        self.names.insert(name.to_owned(), at);
        at
    }

    fn number(&mut self, number: f64) -> u32 {
        let keys = &mut self.keys;
        *self.numbers.entry((number + 0.0).to_bits()).or_insert_with(|| {
            keys.push(Key::Number(number));
            keys.len() as u32 - 1
        })
    }

    /// Puts steps of time together.
    fn coarsen(&mut self, step: Step) {
        let old = std::mem::take(self);
        self.values = old.values;
        for ((key, series), group) in old.groups {
            let Some(Key::Number(at)) = old.keys.get(key as usize) else { continue };
            let key = self.number(start_of(*at, step));
            self.groups.entry((key, series)).or_insert_with(Group::new).merge(&group);
        }
    }
}

/// One chart's rows.
#[derive(Debug, Clone)]
pub struct Part {
    /// The series, in the order in which they turned up.
    pub series: Vec<String>,
    series_at: HashMap<String, u32>,
    /// Rows of series beyond those that are told apart.
    pub other_rows: u64,
    /// What is drawn.
    pub body: Body,
}

/// What is drawn of a result.
#[derive(Debug, Clone)]
pub struct Data {
    /// What it is drawn as.
    pub plan: Plan,
    /// The charts: one, or one for each value of a column.
    pub parts: Vec<(String, Part)>,
    /// What was counted.
    pub counts: Counts,
    /// The step of time that places are.
    pub step: Option<Step>,
}

/// Takes rows in, batch by batch.
pub struct Gather {
    spec: Spec,
    schema: SchemaRef,
    /// What is drawn, where that was chosen before.
    plan: Option<Plan>,
    data: Option<Data>,
    buffers: Buffers,
}

#[derive(Default)]
struct Buffers {
    x: Vec<f64>,
    y: Vec<f64>,
    of: Vec<f64>,
}

impl Gather {
    /// For rows with these columns. What is drawn is chosen as soon as the first of them come, since text may be times.
    pub fn new(spec: Spec, schema: SchemaRef) -> Gather {
        Gather { spec, schema, plan: None, data: None, buffers: Buffers::default() }
    }

    /// All rows of a part, of which only those columns are read that are drawn; and which those are, among the part's.
    pub fn part(part: &Rows, spec: &Spec, progress: &Progress) -> Result<(Data, Vec<usize>), PartError> {
        progress.expect(part.len());
        let first = Rows { rows: part.rows.start..part.rows.end.min(part.rows.start + 1000), ..part.clone() };
        let Some(first) = first.batches().next().transpose()? else {
            return Err(PartError::Chart(ChartError::NothingToDraw));
        };
        let (plan, used) = Plan::narrow(spec, &first)?;
        let of_result = |column: &usize| match &part.columns {
            Some(columns) => columns.get(*column).copied(),
            None => Some(*column),
        };
        let part = Rows { columns: Some(used.iter().filter_map(of_result).collect()), ..part.clone() };
        let mut gather = Gather { plan: Some(plan), ..Gather::new(spec.clone(), part.schema()) };
        for batch in part.batches() {
            let batch = batch?;
            gather.take(&batch)?;
            progress.advance(batch.num_rows()).map_err(|_| PartError::Stopped)?;
        }
        Ok((gather.finish()?, part.columns.unwrap_or_default()))
    }

    /// Takes rows.
    pub fn take(&mut self, batch: &RecordBatch) -> Result<(), ChartError> {
        if batch.num_rows() == 0 {
            return Ok(());
        }
        let data = match &mut self.data {
            Some(data) => data,
            none => {
                let plan = match self.plan.take() {
                    Some(plan) => plan,
                    None => plan(&self.spec, batch)?,
                };
                let step = plan.step;
                none.insert(Data { plan, parts: Vec::new(), counts: Counts::default(), step })
            }
        };
        data.counts.rows += batch.num_rows() as u64;
        data.take(batch, &mut self.buffers)
    }

    /// What was gathered so far; an error where there were no rows.
    pub fn data(&self) -> Result<&Data, ChartError> {
        match &self.data {
            Some(data) if !data.parts.is_empty() => Ok(data),
            Some(_) => Err(ChartError::NothingToDraw),
            None => {
                // A mistake in the names of columns counts all the same.
                plan(&self.spec, &RecordBatch::new_empty(Arc::clone(&self.schema)))?;
                Err(ChartError::NothingToDraw)
            }
        }
    }

    /// What was gathered.
    pub fn finish(self) -> Result<Data, ChartError> {
        self.data()?;
        self.data.ok_or(ChartError::NothingToDraw)
    }
}

/// Why a part of a result is not drawn.
#[derive(Debug, thiserror::Error)]
pub enum PartError {
    /// A person stopped it.
    #[error("stopped")]
    Stopped,
    /// The rows cannot be read.
    #[error(transparent)]
    Rows(#[from] ArchiveError),
    /// They cannot be drawn so.
    #[error(transparent)]
    Chart(#[from] ChartError),
}

/// A column whose values are words.
struct Words<'a>(Option<ColumnReader<'a>>);

impl<'a> Words<'a> {
    fn of(batch: &'a RecordBatch, column: Option<usize>) -> Words<'a> {
        Words(column.map(|column| {
            let field = batch.schema_ref().fields().get(column).cloned();
            match field {
                Some(field) => ColumnReader::of(batch.column(column), &field),
                None => ColumnReader::new(batch.column(column)),
            }
        }))
    }

    fn at(&self, row: usize, text: &mut String) {
        text.clear();
        if let Some(reader) = &self.0 {
            reader.put(row, text);
        }
    }
}

fn column_and_field(batch: &RecordBatch, column: usize) -> (&ArrayRef, &Field) {
    (batch.column(column), batch.schema_ref().field(column))
}

impl Part {
    fn new(plan: &Plan) -> Part {
        let body = match plan.kind {
            _ if plan.is_grouped() => Body::Groups(Groups::default()),
            Kind::Histogram | Kind::Box => Body::Spreads(Vec::new()),
            Kind::Scatter | Kind::Map | Kind::Heat => Body::Pairs(Vec::new()),
            Kind::Line | Kind::Area | Kind::Bar => Body::Lines(Vec::new()),
        };
        Part { series: Vec::new(), series_at: HashMap::new(), other_rows: 0, body }
    }

    /// The number of a series; none if there are too many already.
    fn series(&mut self, name: &str) -> Option<usize> {
        if let Some(at) = self.series_at.get(name) {
            return Some(*at as usize);
        }
        if self.series.len() >= MOST_SERIES {
            self.other_rows += 1;
            return None;
        }
        self.series_at.insert(name.to_owned(), self.series.len() as u32);
        self.series.push(name.to_owned());
        Some(self.series.len() - 1)
    }
}

impl Data {
    fn take(&mut self, batch: &RecordBatch, buffers: &mut Buffers) -> Result<(), ChartError> {
        let plan = self.plan.clone();
        let each = Words::of(batch, plan.each);
        let by = Words::of(batch, plan.by);
        let labels = Words::of(batch, plan.label);
        let x_names = Words::of(batch, plan.x.filter(|_| plan.x_nature == Nature::Name));
        if let Some(x) = plan.x.filter(|_| plan.x_nature != Nature::Name) {
            let (column, field) = column_and_field(batch, x);
            numbers(column, field, plan.x_nature, &mut buffers.x);
        }
        if let Some(of) = plan.of {
            let (column, field) = column_and_field(batch, of);
            numbers(column, field, Nature::Number, &mut buffers.of);
        }
        // Without a column to measure, rows are counted.
        let measures: Vec<Option<usize>> =
            if plan.y.is_empty() { vec![None] } else { plan.y.iter().copied().map(Some).collect() };
        for (number, y) in measures.iter().enumerate() {
            let y_nature = plan.y_nature.get(number).copied().unwrap_or(Nature::Number);
            if let Some(y) = y
                && y_nature != Nature::Name
            {
                let (column, field) = column_and_field(batch, *y);
                numbers(column, field, y_nature, &mut buffers.y);
            }
            let y_names = Words::of(batch, y.filter(|_| y_nature == Nature::Name));
            let name = match (y, plan.y.len() > 1) {
                (Some(y), true) => batch.schema_ref().field(*y).name().clone(),
                _ => String::new(),
            };
            let row = Row {
                plan: &plan,
                each: &each,
                by: &by,
                x_names: &x_names,
                y_names: &y_names,
                labels: &labels,
                measures: y.is_some() && y_nature != Nature::Name,
            };
            self.take_measure(&row, &name, batch.num_rows(), buffers)?;
        }
        Ok(())
    }

    fn take_measure(&mut self, row: &Row<'_>, measure: &str, rows: usize, buffers: &Buffers) -> Result<(), ChartError> {
        let plan = row.plan;
        let (mut each, mut by, mut name) = (String::new(), String::new(), String::new());
        let plain = plan.each.is_none() && plan.by.is_none();
        // One line of all rows has a loop of its own: it is what charts of millions of rows are.
        if plain
            && plan.x.is_some()
            && plan.x_nature != Nature::Name
            && row.measures
            && let Some(part) = self.part("")
            && let Some(series) = self.parts[part].1.series(measure)
            && let Body::Lines(lines) = &mut self.parts[part].1.body
        {
            if series >= lines.len() {
                let range = range_of(&buffers.x);
                lines.resize_with(series + 1, || Bins::new(range));
            }
            self.counts.without_place += lines[series].add_all(&buffers.x, &buffers.y);
            return Ok(());
        }
        let mut known: Option<(usize, usize)> = None;
        for at in 0..rows {
            let x = buffers.x.get(at).copied().filter(|_| plan.x.is_some() && plan.x_nature != Nature::Name);
            let y = if row.measures { buffers.y.get(at).copied().unwrap_or(f64::NAN) } else { 1.0 };
            if x.is_some_and(f64::is_nan) || y.is_nan() {
                self.counts.without_place += 1;
                continue;
            }
            // Without series and small charts they are looked up once.
            let (part, series) = match known.filter(|_| plain) {
                Some(known) => known,
                None => {
                    row.each.at(at, &mut each);
                    let Some(part) = self.part(&each) else {
                        self.counts.elsewhere += 1;
                        continue;
                    };
                    row.by.at(at, &mut by);
                    let series = match (by.is_empty() && plan.by.is_none(), measure.is_empty()) {
                        (true, _) => measure,
                        (false, true) => &by,
                        (false, false) => {
                            by.push_str(" · ");
                            by.push_str(measure);
                            &by
                        }
                    };
                    // The rows of a heat map are series of their own.
                    let series = if plan.kind == Kind::Heat { Some(0) } else { self.parts[part].1.series(series) };
                    let Some(series) = series else { continue };
                    known = Some((part, series));
                    (part, series)
                }
            };
            let step = self.step;
            match &mut self.parts[part].1.body {
                Body::Lines(lines) => {
                    let x = x.unwrap_or(0.0);
                    if series >= lines.len() {
                        let range = range_of(&buffers.x);
                        lines.resize_with(series + 1, || Bins::new(range));
                    }
                    lines[series].add(x, y);
                }
                Body::Pairs(pairs) => {
                    if series >= pairs.len() {
                        pairs.resize_with(series + 1, Pairs::new);
                    }
                    let pairs = &mut pairs[series];
                    if row.labels.0.is_some() && pairs.labels.len() < MOST_LABELS {
                        row.labels.at(at, &mut name);
                        pairs.labels.push(name.clone());
                    }
                    pairs.add(x.unwrap_or(0.0), y);
                }
                Body::Spreads(spreads) => {
                    if series >= spreads.len() {
                        spreads.resize_with(series + 1, Spread::new);
                    }
                    spreads[series].add(y);
                }
                Body::Groups(groups) => {
                    let key = match (x, step) {
                        (Some(x), Some(step)) if plan.x_nature == Nature::Time => groups.number(start_of(x, step)),
                        (Some(x), _) => groups.number(x),
                        (None, _) => {
                            row.x_names.at(at, &mut name);
                            groups.name(&name)
                        }
                    };
                    // A heat map has places in two directions.
                    let (series, value) = match plan.kind {
                        Kind::Heat => {
                            if row.y_names.0.is_some() {
                                row.y_names.at(at, &mut name);
                            } else {
                                name.clear();
                                name.push_str(&super::scale::short(y));
                            }
                            let of = buffers.of.get(at).copied().filter(|_| plan.of.is_some()).unwrap_or(1.0);
                            if of.is_nan() {
                                self.counts.without_place += 1;
                                continue;
                            }
                            (None, of)
                        }
                        _ => (Some(series), y),
                    };
                    self.add_to_group(part, key, series, &name, value)?;
                }
            }
        }
        Ok(())
    }

    fn add_to_group(
        &mut self,
        part: usize,
        key: u32,
        series: Option<usize>,
        name: &str,
        value: f64,
    ) -> Result<(), ChartError> {
        let keeps = self.plan.aggregate == Some(Aggregate::Median);
        let part = &mut self.parts[part].1;
        let Some(series) = series.or_else(|| part.series(name)) else { return Ok(()) };
        let Body::Groups(groups) = &mut part.body else { return Ok(()) };
        groups.groups.entry((key, series as u32)).or_insert_with(Group::new).add(value, keeps);
        groups.values += u64::from(keeps);
        if groups.values > MOST_VALUES {
            return Err(ChartError::TooMany("a median of more than 2,000,000 values: use mean".into()));
        }
        if self.plan.x_nature == Nature::Time && self.plan.chooses_step && groups.keys.len() > MOST_STEPS {
            let next = self.step.and_then(coarser);
            if let Some(next) = next {
                groups.coarsen(next);
                self.step = Some(next);
                // All small charts have the same steps.
                for (_, other) in &mut self.parts {
                    if let Body::Groups(groups) = &mut other.body {
                        groups.coarsen(next);
                    }
                }
            }
        } else if groups.groups.len() > MOST_GROUPS {
            return Err(ChartError::TooMany(
                "more than 200,000 bars: choose a step, or a column with fewer values".into(),
            ));
        }
        Ok(())
    }

    fn part(&mut self, name: &str) -> Option<usize> {
        if let Some(at) = self.parts.iter().position(|(known, _)| known == name) {
            return Some(at);
        }
        if self.parts.len() >= MOST_EACH {
            return None;
        }
        self.parts.push((name.to_owned(), Part::new(&self.plan)));
        Some(self.parts.len() - 1)
    }
}

struct Row<'a> {
    plan: &'a Plan,
    each: &'a Words<'a>,
    by: &'a Words<'a>,
    x_names: &'a Words<'a>,
    y_names: &'a Words<'a>,
    labels: &'a Words<'a>,
    measures: bool,
}

fn range_of(values: &[f64]) -> (f64, f64) {
    let numbers = values.iter().filter(|value| !value.is_nan());
    numbers.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(*value), high.max(*value)))
}
