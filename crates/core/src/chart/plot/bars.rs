//! Bars, histograms and boxes.

use jaunty_picture::{Anchor, Paint};

use super::frame::{Area, Frame, Shared};
use super::places::{Place, Rows, value};
use super::{Drawing, fitted, shown};
use crate::chart::Aggregate;
use crate::chart::column::Nature;
use crate::chart::gather::{Part, Spread};
use crate::chart::scale::{Edge, Scale, number, short};
use crate::chart::spec::Stack;

/// The least that a bar with its word takes on paper, in points.
pub(super) const LOWEST: f32 = 10.0;

impl Drawing<'_> {
    /// Bars of words, one below the other: words are read from left to right.
    pub(super) fn lying_bars(&mut self, number: usize, _: &Part, area: Area, shared: &Shared) {
        let metrics = self.metrics;
        let Some(mut table) = shared.tables.get(number).cloned() else { return };
        let series = shared.series.len().max(1);
        let beside = self.spec.stack == Stack::Beside && series > 1;
        let share = self.spec.stack == Stack::Share;
        let each = if beside { series } else { 1 };
        // One line for a bar, and one between several.
        let line = if metrics.cells { metrics.line } else { LOWEST };
        let lines = (area.height() / line).floor() as usize;
        let room = (lines.saturating_sub(1) / (each + usize::from(beside))).max(1);
        let aggregate = self.data.plan.aggregate.unwrap_or(Aggregate::Count);
        let rest = table.keep(self.spec.top.map_or(room, |top| top.min(room)).max(2), aggregate);
        let names: Vec<String> = table.keys.iter().map(|key| shown(key.name.as_deref().unwrap_or_default())).collect();
        let widest = names.iter().map(|name| metrics.width(name)).fold(0.0, f32::max);
        let label = widest.min(area.width() * 0.35);
        let totals: Vec<f64> = (0..table.keys.len()).map(|row| table.total(row)).collect();
        // The numbers stand behind the bars.
        let texts = |row: usize| -> Vec<String> {
            let values = &table.values[row];
            match beside {
                true => values.iter().map(|cell| cell.map_or(String::new(), short)).collect(),
                false if share => vec![short(totals[row])],
                false => vec![short(totals[row])],
            }
        };
        let number_room = (0..table.keys.len())
            .flat_map(|row| texts(row).into_iter().map(|text| metrics.width(&text)))
            .fold(0.0, f32::max)
            + metrics.advance;
        let mut left = area.left + label + metrics.advance;
        if metrics.cells {
            left = (left / 2.0).ceil() * 2.0;
        }
        let right = area.right - number_room;
        let range = match (share, beside || series == 1) {
            (true, _) => (0.0, 100.0),
            (false, true) => table
                .values
                .iter()
                .flatten()
                .flatten()
                .fold((0.0_f64, 0.0_f64), |(low, high), v| (low.min(*v), high.max(*v))),
            (false, false) => table.values.iter().fold((0.0_f64, 0.0_f64), |(low, high), values| {
                let above: f64 = values.iter().flatten().filter(|v| **v > 0.0).sum();
                let below: f64 = values.iter().flatten().filter(|v| **v < 0.0).sum();
                (low.min(below), high.max(above))
            }),
        };
        let log = self.spec.log && !share && range.0 >= 0.0;
        let least = table.values.iter().flatten().flatten().copied().filter(|v| *v > 0.0).fold(f64::INFINITY, f64::min);
        let scale = match log {
            true => Scale::round((least, range.1), Edge::Log, false),
            false => {
                Scale { edge: Edge::Linear, from: range.0, to: if range.1 > range.0 { range.1 } else { range.0 + 1.0 } }
            }
        };
        if log {
            self.note("bars on a logarithmic axis");
        }
        let x_at = |value: f64| scale.share(value).map_or(left, |share| left + share as f32 * (right - left).max(0.0));
        let zero = if log { left } else { x_at(0.0) };
        let slot = match metrics.cells {
            true => metrics.line * (each + usize::from(beside)) as f32,
            // On paper bars are as high as there is room, and not higher than two lines.
            false => (area.height() / table.keys.len().max(1) as f32).min(metrics.line * (each as f32 + 1.0)),
        };
        let thick = if metrics.cells { metrics.line } else { (slot / (each as f32 + 0.5)).max(1.0) };
        self.frames.push([left, area.top, right, area.top + slot * table.keys.len() as f32]);
        for (row, name) in names.iter().enumerate() {
            let top = area.top + row as f32 * slot;
            let text = fitted(name, label, &metrics);
            self.scene.text(left - metrics.advance, top + thick * each as f32 / 2.0, Anchor::End, Paint::Ink, text);
            let (mut above, mut below) = (0.0, 0.0);
            let mut ends = vec![zero; each];
            for (at, cell) in table.values[row].iter().enumerate() {
                let Some(value) = *cell else { continue };
                let value = if share { value / totals[row] * 100.0 } else { value };
                let y = top + if beside { at as f32 * thick } else { 0.0 };
                let (from, to) = match (beside || series == 1, value >= 0.0) {
                    (true, _) => (zero, x_at(value)),
                    (false, true) => {
                        let from = x_at(above);
                        above += value;
                        (from, x_at(above))
                    }
                    (false, false) => {
                        let from = x_at(below);
                        below += value;
                        (from, x_at(below))
                    }
                };
                // Bars do not touch each other.
                let (from_top, high) = if metrics.cells { (1.0, 3.0) } else { (thick * 0.08, thick * 0.85) };
                let is_rest = rest > 0 && row + 1 == names.len() && series == 1;
                let paint = if is_rest { Paint::Faint } else { Paint::Series(at as u8) };
                self.scene.rect(from.min(to), y + from_top, (to - from).abs(), high, paint);
                let end = &mut ends[if beside { at } else { 0 }];
                *end = end.max(to).max(from);
            }
            for (at, (text, end)) in texts(row).into_iter().zip(ends).enumerate() {
                let y = top + at as f32 * thick + thick / 2.0;
                let mut x = end + metrics.advance;
                if metrics.cells {
                    x = (end / 2.0).round() * 2.0 + metrics.advance;
                }
                self.scene.text(x, y, Anchor::Start, Paint::Faint, text);
            }
        }
        let before = self.places.len();
        self.places_of_table(number, &table, shared, &totals, |row, _| {
            (left, area.top + row as f32 * slot + thick / 2.0)
        });
        self.places[before..].iter_mut().for_each(|place| place.lies = true);
    }

    /// Bars of numbers and steps of time, side by side.
    pub(super) fn standing_bars(&mut self, number: usize, _: &Part, area: Area, shared: &Shared) {
        let metrics = self.metrics;
        let Some(table) = shared.tables.get(number) else { return };
        let series = shared.series.len().max(1);
        let piled = self.spec.stack != Stack::Beside || series == 1;
        let share = self.spec.stack == Stack::Share;
        let slots = table.slots().max(1);
        let mut x = shared.x_scale(self.data);
        if table.step.is_none() {
            // A bar has room of its own around its number.
            let half = (shared.x.1 - shared.x.0).max(1.0) / (2.0 * slots as f64);
            (x.from, x.to) = (shared.x.0 - half, shared.x.1 + half);
        }
        let frame = self.frame(area, x, shared.y_scale(self.spec, self.data, true));
        let zero = frame.y_at(0.0);
        let slot = frame.area.width() / slots as f32;
        let totals: Vec<f64> = (0..table.keys.len()).map(|row| table.total(row)).collect();
        let left_of = |key: &super::table::Slot| match (key.at, key.end) {
            (Some(at), Some(_)) => frame.x_at(at),
            (Some(at), None) => frame.x_at(at) - slot / 2.0,
            _ => frame.area.left,
        };
        let gap = if slot >= 4.0 { (slot * 0.2).min(6.0) } else { 0.0 };
        for (row, key) in table.keys.iter().enumerate() {
            let (mut above, mut below) = (0.0, 0.0);
            let left = left_of(key);
            let width = key.end.map_or(slot, |end| frame.x_at(end) - left);
            for (at, cell) in table.values[row].iter().enumerate() {
                let Some(value) = *cell else { continue };
                let value = if share { value / totals[row] * 100.0 } else { value };
                let (from, to) = match (piled && series > 1, value >= 0.0) {
                    (false, _) => (zero, frame.y_at(value)),
                    (true, true) => {
                        let from = frame.y_at(above);
                        above += value;
                        (from, frame.y_at(above))
                    }
                    (true, false) => {
                        let from = frame.y_at(below);
                        below += value;
                        (from, frame.y_at(below))
                    }
                };
                let own = if piled { width - gap } else { (width - gap) / series as f32 };
                let x = left + gap / 2.0 + if piled { 0.0 } else { at as f32 * own };
                self.scene.rect(x, from.min(to), own.max(metrics.dot), (to - from).abs(), Paint::Series(at as u8));
            }
        }
        self.places_of_table(number, table, shared, &totals, |_, key| (left_of(key) + slot / 2.0, frame.area.bottom));
    }

    pub(super) fn histogram(&mut self, number: usize, part: &Part, spreads: &[Spread], area: Area, shared: &Shared) {
        let metrics = self.metrics;
        let nature = self.data.plan.y_nature.first().copied().unwrap_or(Nature::Number);
        let edge = if nature == Nature::Time { Edge::Time } else { Edge::Linear };
        let count: u64 = spreads.iter().map(|spread| spread.count).sum();
        // As many ranges as the cube root of the count suggests (Rice's rule), of a round width.
        let wanted = (2.0 * (count.max(1) as f64).cbrt())
            .clamp(4.0, f64::from(area.width() / if metrics.cells { 4.0 } else { 10.0 }).max(4.0));
        let (low, high) = shared.x;
        let ticks = Scale::round((low, high), Edge::Linear, false).ticks(wanted as usize);
        let width = ticks.get(1).zip(ticks.first()).map_or(1.0, |(b, a)| b.at - a.at);
        // What is a round number but for the last digit of its fraction begins a range.
        let from = (low / width + 1e-9).floor() * width;
        let ranges = (((high - from) / width).floor() as usize + 1).min(4000);
        let x = Scale { edge, from, to: from + width * ranges as f64 };
        let mut piled = vec![0_u64; ranges];
        let counts: Vec<(usize, Vec<u64>)> = spreads
            .iter()
            .enumerate()
            .map(|(at, spread)| {
                (part.series.get(at).map_or(0, |name| shared.series_at(name)), spread.counts(from, width, ranges))
            })
            .collect();
        for (_, counts) in &counts {
            piled.iter_mut().zip(counts).for_each(|(all, own)| *all += own);
        }
        let most = piled.iter().max().copied().unwrap_or(1) as f64;
        let y = match self.spec.log {
            true => Scale { edge: Edge::Log, from: 0.5, to: 10_f64.powf(most.max(1.0).log10().ceil().max(1.0)) },
            false => Scale::round((0.0, most), Edge::Linear, true),
        };
        let frame = self.frame(area, x, y);
        let mut below = vec![0_u64; ranges];
        for (series, counts) in counts {
            for (at, count) in counts.into_iter().enumerate().filter(|(_, count)| *count > 0) {
                let base = if below[at] == 0 { frame.area.bottom } else { frame.y_at(below[at] as f64) };
                below[at] += count;
                let top = frame.y_at(below[at] as f64);
                let (left, right) = (frame.x_at(from + width * at as f64), frame.x_at(from + width * (at + 1) as f64));
                let gap = if metrics.cells { 0.0 } else { 0.6 };
                self.scene.rect(
                    left,
                    top,
                    (right - left - gap).max(metrics.dot),
                    (base - top).max(0.5),
                    Paint::Series(series as u8),
                );
            }
        }
        if spreads.iter().any(Spread::is_rounded) {
            self.note("more than 200,000 values: counted to within 1/2048 of the range");
        }
        let plan = &self.data.plan;
        let written =
            |value: f64| if nature == Nature::Time { crate::chart::steps::written(value) } else { short(value) };
        let last = ranges.saturating_sub(1);
        for (at, count) in piled.iter().enumerate() {
            let (begin, end) = (from + width * at as f64, from + width * (at + 1) as f64);
            let share = *count as f64 / count_of(&piled) * 100.0;
            self.places.push(Place {
                at: (frame.x_at(f64::midpoint(begin, end)), frame.area.bottom),
                lies: false,
                part: number,
                name: format!("{} – {}", written(begin), written(end)),
                values: vec![
                    ("rows".into(), crate::chart::scale::number(*count as f64, 0)),
                    (String::new(), value(share, true)),
                ],
                rows: plan.y.first().map(|column| Rows::between(*column, nature, begin, end, at == last)),
            });
        }
    }

    /// Median, quartiles and ends of each series.
    pub(super) fn boxes(&mut self, part_number: usize, part: &Part, spreads: &[Spread], area: Area, shared: &Shared) {
        let metrics = self.metrics;
        let mut rows: Vec<(String, &Spread)> = Vec::new();
        let mut left_out = 0;
        for (at, spread) in spreads.iter().enumerate().filter(|(_, spread)| spread.count > 0) {
            let name = part.series.get(at).cloned().unwrap_or_default();
            if shared.series.contains(&name) || shared.series.is_empty() {
                rows.push((name, spread))
            } else {
                left_out += 1
            }
        }
        let quartiles = |spread: &Spread| spread.quantiles([0.25, 0.5, 0.75]);
        rows.sort_by(|a, b| quartiles(b.1)[1].total_cmp(&quartiles(a.1)[1]).then_with(|| a.0.cmp(&b.0)));
        let room = ((area.height() / metrics.line).floor() as usize).saturating_sub(2).max(1);
        let per = if metrics.cells && rows.len() * 2 <= room { 2.0 } else { 1.0 };
        left_out += rows.len().saturating_sub(room);
        rows.truncate(room);
        let named = self.data.plan.by.is_some();
        let label = match named {
            true => {
                rows.iter().map(|(name, _)| metrics.width(&shown(name))).fold(0.0, f32::max).min(area.width() * 0.35)
            }
            false => 0.0,
        };
        let edge = if self.data.plan.y_nature.first() == Some(&Nature::Time) { Edge::Time } else { Edge::Linear };
        let x = Scale::round(
            shared.x,
            if self.spec.log && shared.x.0 > 0.0 { Edge::Log } else { edge },
            self.spec.zero.unwrap_or(false),
        );
        let plain = Scale { edge: Edge::Linear, from: 0.0, to: 1.0 };
        let mut inside = area;
        inside.left += label;
        let mut frame = Frame::within(inside, x, plain, &metrics);
        frame.leave_out_y(inside.left + metrics.advance, &metrics);
        frame.draw(&mut self.scene, &metrics);
        self.frames.push([frame.area.left, frame.area.top, frame.area.right, frame.area.bottom]);
        self.rules_behind(&frame);
        let slot = match metrics.cells {
            true => metrics.line * per,
            false => (frame.area.height() / rows.len().max(1) as f32).min(metrics.line * 2.5),
        };
        let plan = &self.data.plan;
        for (row, (name, spread)) in rows.iter().enumerate() {
            let middle = frame.area.top + row as f32 * slot + if metrics.cells { 2.0 } else { slot / 2.0 };
            let [low, median, high] = quartiles(spread);
            let at = |value: f64| frame.x_at(value);
            let half = if metrics.cells { 2.0 } else { slot * 0.3 };
            let paint = Paint::Series(0);
            self.scene.line(vec![(at(spread.min), middle), (at(low), middle)], paint, 1.2);
            self.scene.line(vec![(at(high), middle), (at(spread.max), middle)], paint, 1.2);
            self.scene.rect(at(low), middle - half, (at(high) - at(low)).max(metrics.dot), half * 2.0, Paint::Soft(0));
            for end in [spread.min, spread.max] {
                self.scene.line(vec![(at(end), middle - half * 0.7), (at(end), middle + half * 0.6)], paint, 1.2);
            }
            if metrics.cells {
                self.scene.text(at(median), middle, Anchor::Start, Paint::Ink, "│");
            } else {
                self.scene.line(vec![(at(median), middle - half), (at(median), middle + half)], Paint::Ink, 2.0);
            }
            if named {
                let text = fitted(&shown(name), label, &metrics);
                self.scene.text(frame.area.left - metrics.advance, middle, Anchor::End, Paint::Ink, text);
            }
            let value = |value: f64| if edge == Edge::Time { written_time(value) } else { short(value) };
            let column = plan.y.first().map_or("", |y| plan.name(*y)).to_owned();
            let parts = [("min", spread.min), ("q1", low), ("median", median), ("q3", high), ("max", spread.max)];
            let mut values: Vec<(String, String)> =
                parts.iter().map(|(name, v)| ((*name).to_owned(), value(*v))).collect();
            values.push(("rows".into(), number(spread.count as f64, 0)));
            self.places.push(Place {
                at: (frame.area.left, middle),
                lies: true,
                part: part_number,
                name: if named { shown(name) } else { column },
                values,
                rows: Rows::named(plan, name).filter(|_| named),
            });
        }
        if left_out > 0 {
            self.note(&format!("{left_out} more are not shown"));
        }
        if rows.iter().any(|(_, spread)| spread.is_rounded()) {
            self.note("more than 200,000 values: quartiles to within 1/2048 of the range");
        }
    }

    fn rules_behind(&mut self, frame: &Frame) {
        if !self.metrics.cells {
            for tick in frame.x.ticks(8) {
                let x = frame.x_at(tick.at);
                self.scene.line(vec![(x, frame.area.top), (x, frame.area.bottom)], Paint::Rule, 0.6);
            }
        }
    }
}

fn written_time(value: f64) -> String {
    crate::chart::steps::written(value)
}

fn count_of(counts: &[u64]) -> f64 {
    counts.iter().sum::<u64>().max(1) as f64
}
