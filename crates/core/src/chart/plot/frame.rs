//! The edges of a chart, and the ranges that all small charts share.

use jaunty_picture::{Anchor, Metrics, Paint, Scene};

use super::table::Table;
use super::{x_edge, y_edge};
use crate::chart::gather::{Body, Data, Part};
use crate::chart::scale::{Edge, Scale, Tick};
use crate::chart::spec::{Kind, Spec, Stack};

/// A part of a picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Area {
    pub left: f32,
    pub top: f32,
    pub right: f32,
    pub bottom: f32,
}

impl Area {
    pub fn width(&self) -> f32 {
        (self.right - self.left).max(0.0)
    }

    pub fn height(&self) -> f32 {
        (self.bottom - self.top).max(0.0)
    }
}

/// How far below the lower edge the middle of its labels is.
pub(super) fn below(metrics: &Metrics) -> f32 {
    if metrics.cells { metrics.line * 0.6 } else { metrics.line * 0.85 }
}

/// How many series have a colour of their own.
const SERIES: usize = 8;

/// What all small charts have in common, so that they can be compared.
pub(super) struct Shared {
    /// The series that are shown, the largest first; the last one may be all others.
    pub series: Vec<String>,
    /// The ranges of values.
    pub x: (f64, f64),
    pub y: (f64, f64),
    /// The groups of each part, where rows are put together.
    pub tables: Vec<Table>,
}

fn wider(range: &mut (f64, f64), value: f64) {
    if value.is_finite() {
        *range = (range.0.min(value), range.1.max(value));
    }
}

const NONE: (f64, f64) = (f64::INFINITY, f64::NEG_INFINITY);

impl Shared {
    pub fn of(parts: &[&Part], data: &Data, spec: &Spec, metrics: &Metrics, room: (f32, f32)) -> Shared {
        // How many rows each series has in all.
        let mut weights: Vec<(String, f64)> = Vec::new();
        let aggregate = data.plan.aggregate;
        for part in parts {
            for (at, name) in part.series.iter().enumerate() {
                let weight = match &part.body {
                    Body::Lines(lines) => {
                        lines.get(at).map_or(0.0, |bins| bins.filled().map(|bin| bin.count as f64).sum())
                    }
                    Body::Spreads(spreads) => spreads.get(at).map_or(0.0, |spread| spread.count as f64),
                    Body::Pairs(pairs) => {
                        pairs.get(at).map_or(0.0, |pairs| pairs.places().iter().map(|p| f64::from(p.2)).sum())
                    }
                    Body::Groups(groups) => {
                        let own = groups.groups.iter().filter(|((_, series), _)| *series as usize == at);
                        own.map(|(_, group)| group.value(aggregate.unwrap_or(crate::chart::Aggregate::Count)).abs())
                            .sum()
                    }
                };
                match weights.iter_mut().find(|(known, _)| known == name) {
                    Some((_, known)) => *known += weight,
                    None => weights.push((name.clone(), weight)),
                }
            }
        }
        let series = match data.plan.kind {
            // Several measures stand in the order in which they were named, and the rows of a heat map by name.
            Kind::Heat => {
                let mut names: Vec<String> = weights.into_iter().map(|(name, _)| name).collect();
                names.sort();
                names
            }
            _ if data.plan.by.is_none() => weights.into_iter().map(|(name, _)| name).collect(),
            kind => {
                weights.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
                let most = spec.top.unwrap_or(if kind == Kind::Box { 30 } else { SERIES });
                let others = weights.len().saturating_sub(most);
                let keeps = if others > 1 { most.saturating_sub(1).max(1) } else { weights.len() };
                let others = weights.len() - keeps;
                let mut names: Vec<String> = weights.into_iter().take(keeps).map(|(name, _)| name).collect();
                if others > 0 {
                    names.push(format!("{others} others"));
                }
                names
            }
        };
        let mut shared = Shared { series, x: NONE, y: NONE, tables: Vec::new() };
        if parts.iter().any(|part| matches!(part.body, Body::Groups(_))) {
            let mut step = data.step;
            loop {
                shared.tables = parts.iter().map(|part| Table::of(part, data, &shared.series, step)).collect();
                // Where nobody asked for a step there are no more than have room.
                let keys = shared.tables.iter().map(Table::slots).max().unwrap_or(0);
                let least = if metrics.cells { 2.0 } else { 3.0 };
                let coarser = step.filter(|_| data.plan.chooses_step).and_then(crate::chart::steps::coarser);
                match coarser {
                    Some(next) if keys as f32 * least > room.0 * 0.85 => step = Some(next),
                    _ => break,
                }
            }
            shared.of_tables(spec, data);
        } else {
            shared.of_bodies(parts);
        }
        shared
    }

    fn of_tables(&mut self, spec: &Spec, data: &Data) {
        let piled = spec.stack != Stack::Beside && data.plan.kind != Kind::Heat;
        for table in &self.tables {
            for (key, values) in table.keys.iter().zip(&table.values) {
                if let Some(at) = key.at {
                    wider(&mut self.x, at);
                    wider(&mut self.x, key.end.unwrap_or(at));
                }
                if piled {
                    let (above, below) = values.iter().flatten().fold((0.0, 0.0), |(above, below), value| {
                        if *value >= 0.0 { (above + value, below) } else { (above, below + value) }
                    });
                    wider(&mut self.y, above);
                    wider(&mut self.y, below);
                } else {
                    values.iter().flatten().for_each(|value| wider(&mut self.y, *value));
                }
            }
        }
        if spec.stack == Stack::Share {
            self.y = (0.0, 100.0);
        }
    }

    fn of_bodies(&mut self, parts: &[&Part]) {
        for part in parts {
            match &part.body {
                Body::Lines(lines) => {
                    for bin in lines.iter().flat_map(|bins| bins.filled()) {
                        wider(&mut self.x, bin.first.0);
                        wider(&mut self.x, bin.last.0);
                        wider(&mut self.y, bin.min);
                        wider(&mut self.y, bin.max);
                    }
                }
                Body::Pairs(pairs) => {
                    for pairs in pairs.iter().filter(|pairs| pairs.x.0 <= pairs.x.1) {
                        wider(&mut self.x, pairs.x.0);
                        wider(&mut self.x, pairs.x.1);
                        wider(&mut self.y, pairs.y.0);
                        wider(&mut self.y, pairs.y.1);
                    }
                }
                Body::Spreads(spreads) => {
                    for spread in spreads.iter().filter(|spread| spread.count > 0) {
                        wider(&mut self.x, spread.min);
                        wider(&mut self.x, spread.max);
                    }
                }
                Body::Groups(_) => {}
            }
        }
    }

    /// The number of a series among those that are shown: all others are the last.
    pub fn series_at(&self, name: &str) -> usize {
        self.series.iter().position(|known| known == name).unwrap_or(self.series.len().saturating_sub(1))
    }

    /// The edge along the bottom, where values are numbers or times.
    pub fn x_scale(&self, data: &Data) -> Scale {
        Scale::round(self.x, x_edge(&data.plan), false)
    }

    /// The edge at the left.
    pub fn y_scale(&self, spec: &Spec, data: &Data, zero: bool) -> Scale {
        Scale::round(self.y, y_edge(spec, &data.plan), spec.zero.unwrap_or(zero))
    }
}

/// The edges of a chart.
pub(super) struct Frame {
    /// What lies within the edges.
    pub area: Area,
    pub x: Scale,
    pub y: Scale,
    x_ticks: Vec<Tick>,
    y_ticks: Vec<Tick>,
}

impl Frame {
    /// The edges in so much room: it is left to the numbers beside them.
    pub fn within(area: Area, x: Scale, y: Scale, metrics: &Metrics) -> Frame {
        let mut inside = area;
        inside.bottom -= if metrics.cells { metrics.line } else { metrics.line * 1.3 };
        if !metrics.cells {
            // Half of the number at the upper end.
            inside.top += metrics.line * 0.4;
        }
        let lines = (inside.height() / (2.0 * metrics.line)).floor().clamp(2.0, 10.0) as usize;
        let y_ticks = y.ticks(lines);
        let widest = y_ticks.iter().map(|tick| metrics.width(&tick.label)).fold(0.0, f32::max);
        inside.left += widest.min(area.width() / 3.0) + metrics.advance;
        if metrics.cells {
            inside.left = (inside.left / 2.0).ceil() * 2.0;
        }
        // Half of a label may stand out to the right.
        inside.right -= metrics.advance * 2.0;
        let label = match x.edge {
            Edge::Time => 12.0,
            Edge::Linear | Edge::Log => 9.0,
        };
        let about = (inside.width() / (label * metrics.advance)).floor().clamp(2.0, 12.0) as usize;
        let x_ticks = x.ticks(about);
        Frame { area: inside, x, y, x_ticks, y_ticks }
    }

    /// Nothing stands below the lower edge: it has words of its own.
    pub fn leave_out_x(&mut self) {
        self.x_ticks.clear();
    }

    /// Nothing stands beside the left edge, which is there.
    pub fn leave_out_y(&mut self, left: f32, metrics: &Metrics) {
        self.y_ticks.clear();
        self.area.left = if metrics.cells { (left / 2.0).ceil() * 2.0 } else { left };
    }

    /// Where a value along the bottom stands.
    pub fn x_at(&self, value: f64) -> f32 {
        self.x.share(value).map_or(self.area.left, |share| self.area.left + share as f32 * self.area.width())
    }

    /// Where a value at the left stands; one without a place, as 0 in powers, at the lower edge.
    pub fn y_at(&self, value: f64) -> f32 {
        let share = self.y.share(value).unwrap_or(0.0).clamp(-0.001, 1.001);
        self.area.bottom - share as f32 * self.area.height()
    }

    /// Draws the edges.
    pub fn draw(&self, scene: &mut Scene, metrics: &Metrics) {
        let Area { left, right, top, bottom } = self.area;
        for tick in &self.y_ticks {
            let y = self.y_at(tick.at);
            if y < top - 1.0 || y > bottom + 1.0 {
                continue;
            }
            // In cells a line has its own dots, and its number the cell that they are in.
            let at = if metrics.cells { ((y - 0.5) / 4.0).floor() * 4.0 + 2.0 } else { y };
            let at = at
                .clamp(top + if metrics.cells { 2.0 } else { 0.0 }, if metrics.cells { bottom - 2.0 } else { bottom });
            if !metrics.cells {
                scene.line(vec![(left, y), (right, y)], Paint::Rule, 0.6);
            }
            let label = super::fitted(&tick.label, left - metrics.advance / 2.0, metrics);
            scene.text(
                left - metrics.advance * if metrics.cells { 1.0 } else { 0.6 },
                at,
                Anchor::End,
                Paint::Faint,
                label,
            );
        }
        let mut free = f32::NEG_INFINITY;
        for tick in &self.x_ticks {
            let x = self.x_at(tick.at);
            let half = metrics.width(&tick.label) / 2.0;
            if x < left - 1.0 || x > right + 1.0 || x - half < free || x + half > right + metrics.advance * 2.5 {
                continue;
            }
            if !metrics.cells {
                scene.line(vec![(x, bottom), (x, bottom + 3.0)], Paint::Faint, 0.6);
            }
            scene.text(x, bottom + below(metrics), Anchor::Middle, Paint::Faint, tick.label.clone());
            free = x + half + metrics.advance;
        }
        if !metrics.cells {
            scene.line(vec![(left, bottom), (right, bottom)], Paint::Faint, 0.8);
        }
    }
}
