//! From the rows of a result to what is drawn of them, in one pass and in bounded memory, whatever the count of rows.
//!
//! Nothing is left out by chance: where there are more rows than places, each place keeps the least and the greatest
//! value, or how many rows it has; what has no place is counted.

mod apart;
mod bins;
mod groups;
mod pairs;
mod spread;

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch};
use arrow_schema::{Field, SchemaRef};
use jaunty_seam::rows::cell::ColumnReader;

pub use bins::{Bin, Bins};
pub use groups::{Group, Groups, Key};
pub use pairs::Pairs;
pub use spread::Spread;

use super::ChartError;
use super::choose::{Plan, plan};
use super::column::{Nature, doubles, numbers};
use super::spec::{Aggregate, Kind, Spec, Step};
use super::steps::{coarser, start_of};
use crate::archive::ArchiveError;
use crate::arrange::Progress;
use crate::arrange::pick::Part as Rows;

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
    /// Where lines begin and end, if that was told; else the first rows say it.
    range: Option<(f64, f64)>,
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
        Gather { spec, schema, plan: None, data: None, range: None, buffers: Buffers::default() }
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
        if let Some(pieces) = apart::pieces(&plan, &part) {
            let (data, used) = (apart::gather(&plan, spec, &pieces, progress)?, part.columns.unwrap_or_default());
            return Ok((data, used));
        }
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
        data.take(batch, self.range, &mut self.buffers)
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
    fn take(
        &mut self,
        batch: &RecordBatch,
        range: Option<(f64, f64)>,
        buffers: &mut Buffers,
    ) -> Result<(), ChartError> {
        if self.take_lines(batch, range, buffers) {
            return Ok(());
        }
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

    /// Takes the rows of lines, without series by a column and small charts: what charts of millions of rows are has a
    /// loop of its own. False if they are to be drawn in another way.
    fn take_lines(&mut self, batch: &RecordBatch, range: Option<(f64, f64)>, buffers: &mut Buffers) -> bool {
        let plan = &self.plan;
        let Some(x) = plan.x.filter(|_| is_lines_alone(plan)) else { return false };
        let (x, x_nature) = (column_and_field(batch, x), plan.x_nature);
        let measures: Vec<(usize, Nature)> = plan.y.iter().copied().zip(plan.y_nature.iter().copied()).collect();
        let Some(part) = self.part("").and_then(|at| self.parts.get_mut(at)) else { return false };
        let part = &mut part.1;
        // Of columns of one name there is one line.
        let name = |y: usize| if measures.len() > 1 { batch.schema_ref().field(y).name() } else { "" };
        let series: Vec<usize> = measures.iter().filter_map(|(y, _)| part.series(name(*y))).collect();
        let Body::Lines(lines) = &mut part.body else { return false };
        if lines.is_empty() {
            let range = range.unwrap_or_else(|| {
                numbers(x.0, x.1, x_nature, &mut buffers.x);
                range_of(&buffers.x)
            });
            lines.resize_with(part.series.len(), || Bins::new(range));
        }
        for from in (0..batch.num_rows()).step_by(NEAR) {
            let rows = NEAR.min(batch.num_rows() - from);
            let xs = values((x.0, x.1, x_nature), from, rows, &mut buffers.x);
            for ((y, nature), series) in measures.iter().zip(&series) {
                let Some(line) = lines.get_mut(*series) else { continue };
                let (column, field) = column_and_field(batch, *y);
                let ys = values((column, field, *nature), from, rows, &mut buffers.y);
                self.counts.without_place += line.add_all(xs, ys);
            }
        }
        true
    }

    fn take_measure(&mut self, row: &Row<'_>, measure: &str, rows: usize, buffers: &Buffers) -> Result<(), ChartError> {
        let plan = row.plan;
        let (mut each, mut by, mut name) = (String::new(), String::new(), String::new());
        let plain = plan.each.is_none() && plan.by.is_none();
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

/// So many rows at a time stay in the processor's nearest cache.
const NEAR: usize = 2048;

/// Some of the values of a column as numbers: where they lie, or in a buffer. What has no place is NaN or endless.
fn values<'a>(
    (column, field, nature): (&'a ArrayRef, &Field, Nature),
    from: usize,
    rows: usize,
    buffer: &'a mut Vec<f64>,
) -> &'a [f64] {
    match doubles(column).and_then(|values| values.get(from..from + rows)) {
        Some(values) => values,
        None => {
            numbers(&column.slice(from, rows), field, nature, buffer);
            buffer
        }
    }
}

/// Whether lines of all rows are drawn: neither series by a column nor small charts.
fn is_lines_alone(plan: &Plan) -> bool {
    let is_lines = matches!(plan.kind, Kind::Line | Kind::Area | Kind::Bar) && !plan.is_grouped();
    let is_alone = plan.each.is_none() && plan.by.is_none() && plan.x_nature != Nature::Name;
    let measures = !plan.y.is_empty() && plan.y.len() <= MOST_SERIES && !plan.y_nature.contains(&Nature::Name);
    is_lines && is_alone && measures
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
