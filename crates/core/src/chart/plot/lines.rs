//! Lines, areas, scatters and maps.

use jaunty_picture::scene::Mark;
use jaunty_picture::{Anchor, Item, Paint};

use super::frame::{Area, Frame, Shared, below};
use super::places::{Place, Rows, value};
use super::table::Table;
use super::{Drawing, fitted, shown, written};
use crate::chart::column::Nature;
use crate::chart::gather::{Bin, Bins, Pairs, Part};
use crate::chart::scale::{Edge, Scale, short};
use crate::chart::spec::{Kind, Stack};

/// The letter of a series, where there may be no colours.
pub(super) fn letter(series: usize) -> String {
    char::from_u32('a' as u32 + series as u32 % 26).unwrap_or('?').to_string()
}

/// A point of a line with all that lies at it.
#[derive(Debug, Clone, Copy)]
struct Column {
    x: f32,
    bin: Bin,
}

/// Bins put together by where they stand in the picture: one for each dot along the bottom.
fn columns(bins: &Bins, frame: &Frame) -> Vec<Column> {
    let mut columns: Vec<Column> = Vec::new();
    for bin in bins.filled() {
        let x = frame.x_at(f64::midpoint(bin.first.0, bin.last.0));
        match columns.last_mut().filter(|last| last.x.floor() == x.floor()) {
            Some(last) => {
                let known = &mut last.bin;
                known.count += bin.count;
                known.min = known.min.min(bin.min);
                known.max = known.max.max(bin.max);
                known.last = bin.last;
            }
            None => columns.push(Column { x, bin: *bin }),
        }
    }
    columns
}

impl Drawing<'_> {
    pub(super) fn raw_lines(&mut self, number: usize, part: &Part, bins: &[Bins], area: Area, shared: &Shared) {
        let area_kind = self.data.plan.kind == Kind::Area;
        let x = shared.x_scale(self.data);
        // Of times the edge is as long as the line.
        let frame = self.frame(area, x, shared.y_scale(self.spec, self.data, area_kind));
        let mut all: Vec<(usize, Vec<Column>)> = Vec::new();
        for (at, bins) in bins.iter().enumerate() {
            let series = part.series.get(at).map_or(0, |name| shared.series_at(name));
            all.push((series, columns(bins, &frame)));
        }
        let mut rounded = false;
        for (series, columns) in &all {
            let mut points: Vec<(f32, f32)> = Vec::new();
            for Column { x, bin } in columns {
                if bin.count == 1 {
                    points.push((frame.x_at(bin.first.0), frame.y_at(bin.first.1)));
                    continue;
                }
                rounded = true;
                // From the first value over the least and the greatest to the last.
                for y in [bin.first.1, bin.min, bin.max, bin.last.1] {
                    points.push((*x, frame.y_at(y)));
                }
            }
            points.dedup();
            let paint = Paint::Series(*series as u8);
            if area_kind && points.len() > 1 {
                let base = frame.y_at(0.0);
                let (first, last) = (points[0].0, points[points.len() - 1].0);
                let outline = [(first, base)].into_iter().chain(points.iter().copied()).chain([(last, base)]);
                self.scene.items.push(Item::Area { points: outline.collect(), paint: Paint::Soft(*series as u8) });
            }
            self.line(points, *series, paint, shared);
        }
        if rounded {
            self.note("where rows share a place: first, min, max and last value");
        }
        self.places_of_columns(number, &all, &frame, shared);
    }

    /// A line with marks where they help, and its letter at its end.
    fn line(&mut self, points: Vec<(f32, f32)>, series: usize, paint: Paint, shared: &Shared) {
        let end = points.last().copied();
        let few = points.len() <= 40;
        if !self.metrics.cells && few {
            self.scene.items.push(Item::Marks { points: points.clone(), paint, mark: Mark::Shape(series as u8) });
        } else if points.len() == 1 {
            self.scene.items.push(Item::Marks { points: points.clone(), paint, mark: Mark::Shape(0) });
        }
        let width = if self.metrics.cells { 1.0 } else { 1.4 };
        self.scene.line(points, paint, width);
        if let (true, Some((x, y))) = (self.metrics.cells && shared.series.len() > 1, end) {
            self.scene.text(x + 2.0, y.max(0.0), Anchor::Start, paint, letter(series));
        }
    }

    fn places_of_columns(&mut self, number: usize, all: &[(usize, Vec<Column>)], frame: &Frame, shared: &Shared) {
        let plan = &self.data.plan;
        let mut at: Vec<f32> =
            all.iter().flat_map(|(_, columns)| columns.iter().map(|column| column.x.floor())).collect();
        at.sort_by(f32::total_cmp);
        at.dedup();
        for x in at {
            let here = |columns: &[Column]| columns.iter().find(|column| column.x.floor() == x).copied();
            let bins: Vec<(usize, Bin)> =
                all.iter().filter_map(|(series, columns)| Some((*series, here(columns)?.bin))).collect();
            let Some((_, first)) = bins.first() else { continue };
            let (from, to) = bins.iter().fold((first.first.0, first.last.0), |(from, to), (_, bin)| {
                (from.min(bin.first.0), to.max(bin.last.0))
            });
            let values = bins.iter().map(|(series, bin)| {
                let name = shared
                    .series
                    .get(*series)
                    .filter(|_| shared.series.len() > 1)
                    .map_or(String::new(), |name| shown(name));
                let text = match bin.count {
                    1 => short(bin.first.1),
                    count => format!(
                        "{} – {} ({} rows)",
                        short(bin.min),
                        short(bin.max),
                        crate::chart::scale::number(count as f64, 0)
                    ),
                };
                (name, text)
            });
            let name = match from == to {
                true => written(from, plan, None),
                false => format!("{} – {}", written(from, plan, None), written(to, plan, None)),
            };
            self.places.push(Place {
                at: (x, frame.y_at(first.last.1)),
                lies: false,
                part: number,
                name,
                values: values.collect(),
                rows: plan.x.map(|column| Rows::between(column, plan.x_nature, from, to, true)),
            });
        }
    }

    pub(super) fn grouped_lines(&mut self, number: usize, _: &Part, area: Area, shared: &Shared) {
        let plan = &self.data.plan;
        let Some(table) = shared.tables.get(number) else { return };
        let (share, piled) = (self.spec.stack == Stack::Share, self.spec.stack != Stack::Beside);
        let is_area = plan.kind == Kind::Area;
        // Words stand at even distances, in the order of the table.
        let words = plan.x_nature == Nature::Name;
        let mut table = table.clone();
        if words {
            table.by_name();
        }
        let x = if words {
            Scale { edge: Edge::Linear, from: -0.5, to: table.keys.len() as f64 - 0.5 }
        } else {
            let last = table.keys.iter().filter_map(|key| key.at).fold(f64::NEG_INFINITY, f64::max);
            Scale { to: last.max(shared.x.0 + 1.0), ..shared.x_scale(self.data) }
        };
        let frame = self.frame_of_words(
            area,
            x,
            shared.y_scale(self.spec, self.data, is_area || piled),
            words.then_some(&table),
        );
        let series = shared.series.len().max(1);
        let mut below = vec![0.0; table.keys.len()];
        let totals: Vec<f64> = (0..table.keys.len()).map(|row| table.total(row)).collect();
        for at in 0..series {
            let mut runs: Vec<Vec<(f32, f32, f32)>> = vec![Vec::new()];
            let mut before: Option<f64> = None;
            for (row, key) in table.keys.iter().enumerate() {
                let x = key.at.map_or(row as f64, |at| at);
                let Some(value) = table.values.get(row).and_then(|values| values.get(at).copied().flatten()) else {
                    if !piled {
                        runs.push(Vec::new());
                    }
                    continue;
                };
                // A step without rows breaks the line.
                if let (Some(before), Some(step)) = (before, table.step)
                    && crate::chart::steps::next(before, step) < x
                    && !piled
                {
                    runs.push(Vec::new());
                }
                before = Some(x);
                let value = if share { value / totals[row] * 100.0 } else { value };
                let base = if piled { below[row] } else { 0.0 };
                if piled {
                    below[row] += value;
                }
                if let Some(run) = runs.last_mut() {
                    run.push((frame.x_at(x), frame.y_at(base + value), frame.y_at(base)));
                }
            }
            let paint = Paint::Series(at as u8);
            for run in runs.into_iter().filter(|run| !run.is_empty()) {
                if is_area || piled {
                    let upper = run.iter().map(|(x, y, _)| (*x, *y));
                    let lower = run.iter().rev().map(|(x, _, base)| (*x, *base));
                    let paint = if piled { paint } else { Paint::Soft(at as u8) };
                    self.scene.items.push(Item::Area { points: upper.chain(lower).collect(), paint });
                }
                if !piled {
                    self.line(run.iter().map(|(x, y, _)| (*x, *y)).collect(), at, paint, shared);
                }
            }
        }
        self.places_of_table(number, &table, shared, &totals, |row, key| {
            (frame.x_at(key.at.unwrap_or(row as f64)), frame.area.bottom)
        });
    }

    /// The edges of a chart whose lower one has words.
    fn frame_of_words(&mut self, area: Area, x: Scale, y: Scale, words: Option<&Table>) -> Frame {
        let Some(table) = words else { return self.frame(area, x, y) };
        let mut frame = Frame::within(area, x, y, &self.metrics);
        frame.leave_out_x();
        frame.draw(&mut self.scene, &self.metrics);
        self.frames.push([frame.area.left, frame.area.top, frame.area.right, frame.area.bottom]);
        let names: Vec<String> = table.keys.iter().map(|key| shown(key.name.as_deref().unwrap_or_default())).collect();
        self.words_below(&frame, &names);
        frame
    }

    /// Words along the bottom, each as far as it has room; where there are too many, each second, third, …
    pub(super) fn words_below(&mut self, frame: &Frame, names: &[String]) {
        let advance = self.metrics.advance;
        let slot = frame.area.width() / names.len().max(1) as f32;
        let every = (5.0 * advance / slot).ceil().max(1.0) as usize;
        for (at, name) in names.iter().enumerate().step_by(every) {
            let room = slot * every as f32 - advance;
            let text = fitted(name, room, &self.metrics);
            let x = frame.area.left + (at as f32 + 0.5) * slot;
            self.scene.text(x, frame.area.bottom + below(&self.metrics), Anchor::Middle, Paint::Faint, text);
        }
    }

    /// Places from the rows of a table.
    pub(super) fn places_of_table(
        &mut self,
        number: usize,
        table: &Table,
        shared: &Shared,
        totals: &[f64],
        at: impl Fn(usize, &super::table::Slot) -> (f32, f32),
    ) {
        let plan = &self.data.plan;
        let share = self.spec.stack == Stack::Share;
        for (row, key) in table.keys.iter().enumerate() {
            let values = table.values.get(row).into_iter().flatten().enumerate().filter_map(|(series, cell)| {
                let cell = (*cell)?;
                let name = shared
                    .series
                    .get(series)
                    .filter(|_| shared.series.len() > 1)
                    .map_or(String::new(), |name| shown(name));
                let total = totals.get(row).copied().unwrap_or(1.0);
                Some((name, value(if share { cell / total * 100.0 } else { cell }, share)))
            });
            let (name, rows) = match (&key.name, key.at) {
                (Some(name), _) if name.ends_with(" others") && row + 1 == table.keys.len() => (name.clone(), None),
                (Some(name), _) => (shown(name), Rows::named(plan, name)),
                (None, Some(from)) => {
                    let rows = plan.x.map(|column| match key.end {
                        Some(end) => Rows::between(column, plan.x_nature, from, end, false),
                        None => Rows::between(column, plan.x_nature, from, from, true),
                    });
                    (written(from, plan, table.step), rows)
                }
                (None, None) => continue,
            };
            self.places.push(Place {
                at: at(row, key),
                lies: false,
                part: number,
                name,
                values: values.collect(),
                rows,
            });
        }
    }

    pub(super) fn scatter(&mut self, number: usize, part: &Part, pairs: &[Pairs], area: Area, shared: &Shared) {
        let is_map = self.data.plan.kind == Kind::Map;
        let (mut x, mut y) = (shared.x_scale(self.data), shared.y_scale(self.spec, self.data, false));
        if is_map {
            (x, y) = self.map_scales(area, shared);
        }
        let frame = self.frame(area, x, y);
        if is_map {
            self.graticule(&frame);
        } else {
            self.rules_across(&frame);
        }
        let rounded = pairs.iter().any(Pairs::is_rounded);
        let total: usize = pairs.iter().map(|pairs| pairs.exact.len()).sum();
        for (at, pairs) in pairs.iter().enumerate() {
            let series = part.series.get(at).map_or(0, |name| shared.series_at(name));
            let places = pairs.places();
            let most = places.iter().map(|place| place.2).max().unwrap_or(1).max(2);
            // Each mark once at each dot; how many there are shows where there is one series.
            let mut by_paint: std::collections::BTreeMap<Paint, Vec<(f32, f32)>> = std::collections::BTreeMap::new();
            for (x, y, count) in places {
                if frame.y.share(y).is_none() {
                    continue;
                }
                let paint = match rounded && shared.series.len() <= 1 {
                    true => Paint::Ramp((f64::from(count).ln() / f64::from(most).ln() * 12.0) as u8 + 3),
                    false => Paint::Series(series as u8),
                };
                by_paint.entry(paint).or_default().push((frame.x_at(x), frame.y_at(y)));
            }
            let mark = if total <= 400 { Mark::Shape(series as u8) } else { Mark::Dot };
            for ((x, y, _), label) in
                pairs.places().into_iter().zip(&pairs.labels).filter(|_| total <= pairs.labels.len())
            {
                let (x, y) = (frame.x_at(x) + self.metrics.advance * 1.5, frame.y_at(y));
                let text = fitted(&shown(label), frame.area.right + self.metrics.advance * 2.0 - x, &self.metrics);
                let y = if self.metrics.cells { (y / 4.0).floor() * 4.0 + 2.0 } else { y };
                self.scene.text(x, y, Anchor::Start, Paint::Faint, text);
            }
            for (paint, mut points) in by_paint {
                points.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
                points.dedup();
                self.scene.items.push(Item::Marks { points, paint, mark });
            }
        }
        if rounded {
            let what = if shared.series.len() <= 1 { "; the stronger, the more rows" } else { "" };
            self.note(&format!("marks stand on a grid of 512 by 512 places{what}"));
        }
        self.places_across(number, pairs, &frame);
    }

    /// Places from side to side: how many rows there are in each twentieth.
    pub(super) fn places_across(&mut self, number: usize, pairs: &[Pairs], frame: &Frame) {
        let plan = &self.data.plan;
        let parts = 20;
        let all: Vec<(f64, f64, u32)> = pairs.iter().flat_map(Pairs::places).collect();
        for part in 0..parts {
            let (from, to) = (frame.x.value(part as f64 / 20.0), frame.x.value((part + 1) as f64 / 20.0));
            let last = part + 1 == parts;
            let here = all.iter().filter(|(x, ..)| *x >= from && (*x < to || (last && *x <= to)));
            let (count, low, high) = here
                .fold((0_u64, f64::INFINITY, f64::NEG_INFINITY), |(count, low, high), (_, y, n)| {
                    (count + u64::from(*n), low.min(*y), high.max(*y))
                });
            if count == 0 {
                continue;
            }
            let name = format!("{} – {}", written(from, plan, None), written(to, plan, None));
            let y_name = plan.y.first().map_or("", |y| plan.name(*y)).to_owned();
            let rows = crate::chart::scale::number(count as f64, 0);
            self.places.push(Place {
                at: (frame.x_at(f64::midpoint(from, to)), frame.area.bottom),
                lies: false,
                part: number,
                name,
                values: vec![("rows".to_owned(), rows), (y_name, format!("{} – {}", short(low), short(high)))],
                rows: plan.x.map(|column| Rows::between(column, plan.x_nature, from, to, last)),
            });
        }
    }

    fn rules_across(&mut self, frame: &Frame) {
        if self.metrics.cells {
            return;
        }
        for tick in frame.x.ticks(8) {
            let x = frame.x_at(tick.at);
            self.scene.line(vec![(x, frame.area.top), (x, frame.area.bottom)], Paint::Rule, 0.6);
        }
    }

    /// The ranges of a map on which a degree is as long from north to south as it is in the middle from east to west
    /// (equirectangular, true to scale at the middle).
    fn map_scales(&self, area: Area, shared: &Shared) -> (Scale, Scale) {
        let pad = |(low, high): (f64, f64)| {
            let by = ((high - low) * 0.05).max(0.05);
            (low - by, high + by)
        };
        let (mut x, mut y) = (pad(shared.x), pad(shared.y));
        let middle = f64::midpoint(y.0, y.1).to_radians().cos().max(0.1);
        // In a terminal a dot is about as high as it is wide.
        let room = f64::from(area.width() / area.height().max(1.0));
        let is = (x.1 - x.0) * middle / (y.1 - y.0);
        let widen = |(low, high): (f64, f64), by: f64| {
            let half = (high - low) * by / 2.0;
            (f64::midpoint(low, high) - half, f64::midpoint(low, high) + half)
        };
        if is < room {
            x = widen(x, room / is);
        } else {
            y = widen(y, is / room);
        }
        (Scale { edge: Edge::Linear, from: x.0, to: x.1 }, Scale { edge: Edge::Linear, from: y.0, to: y.1 })
    }

    fn graticule(&mut self, frame: &Frame) {
        let Area { left, right, top, bottom } = frame.area;
        for tick in frame.x.ticks(if self.metrics.cells { 4 } else { 8 }) {
            let x = frame.x_at(tick.at);
            self.scene.items.push(Item::Line {
                points: vec![(x, top), (x, bottom)],
                paint: Paint::Rule,
                width: 0.6,
                dashed: true,
            });
        }
        if self.metrics.cells {
            return;
        }
        self.scene.line(
            vec![(left, top), (right, top), (right, bottom), (left, bottom), (left, top)],
            Paint::Faint,
            0.6,
        );
    }

    /// Something to be told below the chart, once.
    pub(super) fn note(&mut self, note: &str) {
        if !self.notes.iter().any(|known| known == note) {
            self.notes.push(note.to_owned());
        }
    }
}
