//! Heat maps: of words and steps of time, and of two numbers.

use jaunty_picture::{Anchor, Paint};

use super::frame::{Area, Frame, Shared, below};
use super::{Drawing, fitted, shown, written};
use crate::chart::column::Nature;
use crate::chart::gather::{Pairs, Part};
use crate::chart::scale::{Edge, Scale, short};

impl Drawing<'_> {
    /// A heat map of words and steps of time.
    pub(super) fn heat(&mut self, number: usize, _: &Part, area: Area, shared: &Shared) {
        let Some(mut table) = shared.tables.get(number).cloned() else { return };
        let words = self.data.plan.x_nature == Nature::Name;
        if words {
            table.by_name();
        }
        let metrics = self.metrics;
        let mut inside = area;
        inside.bottom -= if metrics.cells { metrics.line } else { metrics.line * 1.3 };
        let widest = shared.series.iter().map(|name| metrics.width(&shown(name))).fold(0.0, f32::max);
        let label = widest.min(area.width() / 3.0);
        inside.left += label + metrics.advance;
        inside.top += metrics.line;
        let (columns, rows) = (table.slots().max(1), shared.series.len().max(1));
        let mut slot = (inside.width() / columns as f32, inside.height() / rows as f32);
        if metrics.cells {
            slot = ((slot.0 / 2.0).floor().max(1.0) * 2.0, (slot.1 / 4.0).floor().max(1.0) * 4.0);
            inside.left = (inside.left / 2.0).round() * 2.0;
        }
        let shown_rows = ((inside.height() / slot.1).floor() as usize).min(rows);
        let (low, high) = shared.y;
        for at in 0..table.keys.len() {
            let column = table.slot_of(at);
            for (series, cell) in table.values.get(at).into_iter().flatten().enumerate().take(shown_rows) {
                let Some(value) = cell else { continue };
                let share = if high > low { (value - low) / (high - low) } else { 1.0 };
                let (x, y) = (inside.left + column as f32 * slot.0, inside.top + series as f32 * slot.1);
                let gap = if metrics.cells { 0.0 } else { 0.6 };
                self.scene.rect(x, y, slot.0 - gap, slot.1 - gap, Paint::Ramp((share * 15.0).round() as u8));
            }
        }
        // Where rows are lower than a line of text, each second, third, … has its name.
        let every = (metrics.line * 0.8 / slot.1).ceil().max(1.0) as usize;
        for (series, name) in shared.series.iter().enumerate().take(shown_rows).step_by(every) {
            let text = fitted(&shown(name), label, &metrics);
            let y = inside.top + (series as f32 + 0.5) * slot.1;
            let y = if metrics.cells { (y / 4.0).floor() * 4.0 + 2.0 } else { y };
            self.scene.text(inside.left - metrics.advance, y, Anchor::End, Paint::Ink, text);
        }
        self.ramp(area, low, high);
        let bottom = inside.top + shown_rows as f32 * slot.1;
        let names: Vec<String> = table
            .keys
            .iter()
            .map(|key| {
                key.name.as_deref().map_or_else(|| written(key.at.unwrap_or(0.0), &self.data.plan, table.step), shown)
            })
            .collect();
        let right = inside.left + columns as f32 * slot.0;
        let plain = Scale { edge: Edge::Linear, from: 0.0, to: 1.0 };
        let grid = Area { left: inside.left, top: inside.top, right, bottom };
        let mut frame = Frame::within(area, plain, plain, &metrics);
        frame.area = grid;
        self.frames.push([grid.left, grid.top, grid.right, grid.bottom]);
        if table.step.is_some() {
            // Some of the steps, where they stand.
            let every = (11.0 * metrics.advance / slot.0).ceil().max(1.0) as usize;
            for (at, name) in names.iter().enumerate().step_by(every) {
                let x = inside.left + table.slot_of(at) as f32 * slot.0;
                if x + metrics.width(name) <= area.right + metrics.advance {
                    self.scene.text(x, bottom + below(&metrics), Anchor::Start, Paint::Faint, name.clone());
                }
            }
        } else {
            self.words_below(&frame, &names);
        }
        if shown_rows < rows {
            self.note(&format!("{} of {rows} rows are shown: there is no room for more", shown_rows));
        }
        let totals = vec![1.0; table.keys.len()];
        self.places_of_table(number, &table, shared, &totals, |row, _| {
            let column = table.slot_of(row) as f32;
            (inside.left + (column + 0.5) * slot.0, bottom)
        });
    }

    /// What the colours of a heat map mean.
    fn ramp(&mut self, area: Area, low: f64, high: f64) {
        let metrics = self.metrics;
        let (low, high) = (short(low), short(high));
        let y = area.top + metrics.line / 2.0;
        let mut x = area.left;
        if metrics.width(&low) + metrics.width(&high) + 18.0 * metrics.advance > area.width() {
            return;
        }
        self.scene.text(x, y, Anchor::Start, Paint::Faint, low.clone());
        x += metrics.width(&low) + metrics.advance;
        for step in 0..16 {
            self.scene.rect(x, y - metrics.line / 2.0, metrics.advance, metrics.line * 0.8, Paint::Ramp(step));
            x += metrics.advance;
        }
        self.scene.text(x + metrics.advance, y, Anchor::Start, Paint::Faint, high);
    }

    /// A heat map of two numbers: how many rows there are at each place.
    pub(super) fn density(&mut self, number: usize, pairs: &[Pairs], area: Area, shared: &Shared) {
        let metrics = self.metrics;
        let mut below = area;
        below.top += metrics.line;
        let frame = self.frame(below, shared.x_scale(self.data), shared.y_scale(self.spec, self.data, false));
        let cell = if metrics.cells { (2.0, 4.0) } else { (8.0, 8.0) };
        let mut counts: std::collections::BTreeMap<(i32, i32), u64> = std::collections::BTreeMap::new();
        for (x, y, count) in pairs.iter().flat_map(Pairs::places) {
            let place = (frame.x_at(x) - frame.area.left, frame.y_at(y) - frame.area.top);
            let key = ((place.0 / cell.0).floor() as i32, (place.1 / cell.1).floor() as i32);
            *counts.entry(key).or_default() += u64::from(count);
        }
        let most = counts.values().max().copied().unwrap_or(1);
        for ((x, y), count) in counts {
            // Few rows are seen beside many.
            let share = (count as f64).ln_1p() / (most as f64).ln_1p();
            let (x, y) = (frame.area.left + x as f32 * cell.0, frame.area.top + y as f32 * cell.1);
            self.scene.rect(x, y, cell.0, cell.1, Paint::Ramp((share * 15.0).round() as u8));
        }
        self.ramp(area, 1.0, most as f64);
        self.note("colours go by the logarithm of the count");
        self.places_across(number, pairs, &frame);
    }
}
