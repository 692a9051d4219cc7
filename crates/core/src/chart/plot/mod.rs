//! The picture of what was gathered: where everything stands, on paper or in the cells of a terminal.

mod bars;
mod frame;
mod heat;
mod lines;
mod places;
mod table;

use jaunty_picture::{Anchor, Metrics, Paint, Scene};

use self::frame::{Area, Frame};
use super::choose::Plan;
use super::column::Nature;
use super::gather::{Body, Data, Part};
use super::scale::{self, Edge, Scale};
use super::spec::{Kind, Spec, Stack};
use super::steps;

pub use self::places::{Place, Rows};

/// What stands around a chart.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Texts {
    /// Above it, unless the spec has a title.
    pub title: String,
    /// Below it: where the rows come from.
    pub source: String,
}

/// A chart as a picture, and what stands where in it.
#[derive(Debug, Clone)]
pub struct Plot {
    /// The picture.
    pub scene: Scene,
    /// Places that can be gone to, from left to right or from top to bottom.
    pub places: Vec<Place>,
    /// The area of each small chart, from its left upper corner to its right lower one.
    pub frames: Vec<[f32; 4]>,
}

/// What is needed everywhere while a chart is drawn.
struct Drawing<'a> {
    data: &'a Data,
    spec: &'a Spec,
    metrics: Metrics,
    scene: Scene,
    places: Vec<Place>,
    frames: Vec<[f32; 4]>,
    /// What has to be told below the chart.
    notes: Vec<String>,
}

/// Draws what was gathered on so much room.
pub fn draw(data: &Data, spec: &Spec, texts: &Texts, size: (f32, f32), metrics: Metrics) -> Plot {
    let scene = Scene::new(size.0, size.1);
    let mut drawing = Drawing { data, spec, metrics, scene, places: Vec::new(), frames: Vec::new(), notes: Vec::new() };
    drawing.whole(texts);
    let Drawing { mut scene, places, frames, .. } = drawing;
    scene.title = spec.title.clone().unwrap_or_else(|| texts.title.clone());
    scene.about = about(data, &places);
    Plot { scene, places, frames }
}

/// The height that a chart on paper of this width wants: as much as all its bars take.
pub fn natural_height(data: &Data, spec: &Spec, height: f32) -> f32 {
    const MOST: usize = 200;
    let is_lying = data.plan.kind == Kind::Bar && data.plan.x_nature == Nature::Name && data.plan.each.is_none();
    let Some((_, Part { body: Body::Groups(groups), series, .. })) = data.parts.first().filter(|_| is_lying) else {
        return height;
    };
    let each = if spec.stack == Stack::Beside && series.len() > 1 { series.len().min(8) + 1 } else { 1 };
    let bars = groups.keys.len().min(spec.top.unwrap_or(MOST)).min(MOST) * each;
    height.max(bars as f32 * bars::LOWEST + 8.0 * Metrics::PAPER.line)
}

/// A text that has room, cut with an ellipsis if need be.
pub(super) fn fitted(text: &str, room: f32, metrics: &Metrics) -> String {
    if metrics.width(text) <= room {
        return text.to_owned();
    }
    let mut cut = String::new();
    for c in text.chars() {
        let next = format!("{cut}{c}…");
        if metrics.width(&next) > room {
            break;
        }
        cut.push(c);
    }
    if cut.is_empty() { String::new() } else { cut + "…" }
}

/// The name of a series or a place, as it is shown: what is empty is NULL.
fn shown(name: &str) -> String {
    if name.is_empty() { "NULL".to_owned() } else { jaunty_language::text::clean::clean(name).into_owned() }
}

impl Drawing<'_> {
    fn whole(&mut self, texts: &Texts) {
        let Metrics { advance, line, .. } = self.metrics;
        let (width, height) = (self.scene.width, self.scene.height);
        let mut area = Area { left: advance, top: line / 2.0, right: width - advance, bottom: height - line / 2.0 };
        if self.metrics.cells {
            (area.top, area.bottom) = (0.0, height);
        }
        let title = self.spec.title.as_ref().unwrap_or(&texts.title).clone();
        if !title.is_empty() {
            let text = fitted(&shown(&title), area.width() * if self.metrics.cells { 1.0 } else { 0.8 }, &self.metrics);
            let y = area.top + line / 2.0;
            self.scene.items.push(jaunty_picture::Item::Text {
                x: area.left,
                y,
                text,
                anchor: Anchor::Start,
                paint: Paint::Ink,
                strong: true,
            });
            area.top += if self.metrics.cells { line } else { line * 1.5 };
        }
        let what = fitted(&shown(&self.measured()), area.width(), &self.metrics);
        self.scene.text(area.left, area.top + line / 2.0, Anchor::Start, Paint::Faint, what);
        area.top += line;
        // The lines below it have room for a note and the source.
        let notes = area.bottom;
        area.bottom -= 2.0 * line;
        self.parts(area);
        let counted = self.counted();
        if !counted.is_empty() {
            let text = fitted(&counted, area.width(), &self.metrics);
            self.scene.text(area.left, notes - 1.5 * line, Anchor::Start, Paint::Faint, text);
        }
        let source = fitted(&shown(&texts.source), area.width(), &self.metrics);
        if !texts.source.is_empty() {
            self.scene.text(area.left, notes - 0.5 * line, Anchor::Start, Paint::Faint, source);
        }
    }

    /// What is measured by what, in words.
    fn measured(&self) -> String {
        let plan = &self.data.plan;
        let mut text = plan.measure();
        let share = self.spec.stack == Stack::Share && plan.is_grouped();
        if share {
            text.push_str(" in %");
        }
        let by = match plan.kind {
            Kind::Histogram => plan.y.first().copied(),
            Kind::Heat | Kind::Scatter | Kind::Map | Kind::Line | Kind::Area | Kind::Bar | Kind::Box => plan.x,
        };
        if let Some(by) = by {
            text.push_str(&format!(" by {}", plan.name(by)));
        }
        // The step that there came to be room for is told where it is drawn.
        if let (Kind::Heat, Some(y)) = (plan.kind, plan.y.first()) {
            text.push_str(&format!(" and {}", plan.name(*y)));
        }
        if let Some(by) = plan.by {
            text.push_str(&format!(", by {}", plan.name(by)));
        }
        text
    }

    /// What is not drawn, and what is only drawn in part.
    fn counted(&self) -> String {
        let counts = &self.data.counts;
        let rows = |count: u64, what: &str| {
            (count > 0)
                .then(|| format!("{} row{} {what}", scale::number(count as f64, 0), if count == 1 { "" } else { "s" }))
        };
        let others: u64 = self.data.parts.iter().map(|(_, part)| part.other_rows).sum();
        let told = [
            rows(counts.without_place, "not drawn: NULL or not a number"),
            rows(counts.elsewhere, "not drawn: more than 12 small multiples"),
            rows(others, "not drawn: more than 64 series"),
        ];
        let told = told.into_iter().flatten().chain(self.notes.iter().cloned());
        told.collect::<Vec<_>>().join(" · ")
    }

    /// The small charts beside and below each other, or the one.
    fn parts(&mut self, mut area: Area) {
        let data = self.data;
        let each = data.plan.each.is_some();
        let mut parts: Vec<(&str, &Part)> = data.parts.iter().map(|(name, part)| (name.as_str(), part)).collect();
        parts.sort_by(|a, b| a.0.cmp(b.0));
        let count = parts.len().max(1);
        let columns = match each {
            true => {
                let wide =
                    (area.width() / area.height().max(1.0) * if self.metrics.cells { 1.0 } else { 1.2 }).max(0.2);
                ((count as f32 * wide).sqrt().round() as usize).clamp(1, count)
            }
            false => 1,
        };
        let lines = count.div_ceil(columns);
        let Metrics { advance, line, .. } = self.metrics;
        let gap = 2.0 * advance;
        let (mut width, mut height) =
            ((area.width() - gap * (columns as f32 - 1.0)) / columns as f32, area.height() / lines as f32);
        if self.metrics.cells {
            (width, height) = ((width / 2.0).floor() * 2.0, (height / 4.0).floor() * 4.0);
        }
        let all: Vec<&Part> = parts.iter().map(|(_, part)| *part).collect();
        let shared = frame::Shared::of(&all, data, self.spec, &self.metrics, (width, height));
        let listed = if matches!(data.plan.kind, Kind::Box | Kind::Heat) { &[][..] } else { &shared.series };
        if listed.len() > 1 {
            let before = area.top;
            self.legend(listed, &mut area);
            height -= (area.top - before) / lines as f32;
            if self.metrics.cells {
                height = (height / 4.0).floor() * 4.0;
            }
        }
        for (at, (name, part)) in parts.into_iter().enumerate() {
            let (column, row) = (at % columns, at / columns);
            let left = area.left + column as f32 * (width + gap);
            let top = area.top + row as f32 * height;
            let mut own = Area { left, top, right: left + width, bottom: top + height };
            if each {
                let name = format!("{}: {}", data.plan.each.map_or("", |each| data.plan.name(each)), shown(name));
                let text = fitted(&name, own.width(), &self.metrics);
                self.scene.text(own.left, own.top + line / 2.0, Anchor::Start, Paint::Ink, text);
                own.top += line;
            }
            self.part(at, part, own, &shared);
        }
    }

    fn part(&mut self, number: usize, part: &Part, area: Area, shared: &frame::Shared) {
        let kind = self.data.plan.kind;
        match &part.body {
            Body::Lines(bins) => self.raw_lines(number, part, bins, area, shared),
            Body::Groups(_) if kind == Kind::Heat => self.heat(number, part, area, shared),
            Body::Groups(_) if kind == Kind::Bar && self.data.plan.x_nature == Nature::Name => {
                self.lying_bars(number, part, area, shared);
            }
            Body::Groups(_) if kind == Kind::Bar => self.standing_bars(number, part, area, shared),
            Body::Groups(_) => self.grouped_lines(number, part, area, shared),
            Body::Spreads(spreads) if kind == Kind::Box => self.boxes(number, part, spreads, area, shared),
            Body::Spreads(spreads) => self.histogram(number, part, spreads, area, shared),
            Body::Pairs(pairs) if kind == Kind::Heat => self.density(number, pairs, area, shared),
            Body::Pairs(pairs) => self.scatter(number, part, pairs, area, shared),
        }
    }

    /// Which series is which: with a letter each in a terminal, where there may be no colours.
    fn legend(&mut self, series: &[String], area: &mut Area) {
        let Metrics { advance, line, cells, .. } = self.metrics;
        let mut x = area.left;
        let mut y = area.top + line / 2.0;
        for (at, name) in series.iter().enumerate() {
            let paint = Paint::Series(at as u8);
            let text = fitted(&shown(name), area.width() - 4.0 * advance, &self.metrics);
            let width = self.metrics.width(&text) + 4.0 * advance;
            if x + width > area.right && x > area.left {
                x = area.left;
                y += line;
            }
            if cells && matches!(self.data.plan.kind, Kind::Line | Kind::Scatter | Kind::Map) {
                self.scene.text(x, y, Anchor::Start, paint, lines::letter(at));
            } else if cells {
                self.scene.rect(x, y - line / 2.0, advance, line, paint);
            } else {
                self.scene.items.push(jaunty_picture::Item::Marks {
                    points: vec![(x + advance * 0.6, y)],
                    paint,
                    mark: jaunty_picture::scene::Mark::Shape(at as u8),
                });
            }
            self.scene.text(x + 2.0 * advance, y, Anchor::Start, Paint::Ink, text);
            x += width;
        }
        area.top = y + line / 2.0 + if cells { 0.0 } else { line / 2.0 };
    }

    fn frame(&mut self, area: Area, x: Scale, y: Scale) -> Frame {
        let frame = Frame::within(area, x, y, &self.metrics);
        frame.draw(&mut self.scene, &self.metrics);
        self.frames.push([frame.area.left, frame.area.top, frame.area.right, frame.area.bottom]);
        frame
    }
}

/// The edge along the bottom.
fn x_edge(plan: &Plan) -> Edge {
    if plan.x_nature == Nature::Time { Edge::Time } else { Edge::Linear }
}

/// The edge at the left.
fn y_edge(spec: &Spec, plan: &Plan) -> Edge {
    match plan.y_nature.first() {
        _ if spec.log && spec.stack != Stack::Share => Edge::Log,
        Some(Nature::Time) => Edge::Time,
        _ => Edge::Linear,
    }
}

/// A value along the bottom, in words.
fn written(value: f64, plan: &Plan, step: Option<super::Step>) -> String {
    match (plan.x_nature, step) {
        (Nature::Time, Some(step)) => steps::named(value, step),
        (Nature::Time, None) => steps::written(value),
        _ => scale::short(value),
    }
}

/// What a chart shows, in words, for whoever does not see it.
fn about(data: &Data, places: &[Place]) -> String {
    let plan = &data.plan;
    let kind = match plan.kind {
        Kind::Map => "Map".to_owned(),
        Kind::Histogram => "Histogram".to_owned(),
        kind => {
            let word = kind.word();
            let mut letters = word.chars();
            let first: String = letters.next().into_iter().flat_map(char::to_uppercase).collect();
            format!("{first}{} chart", letters.as_str())
        }
    };
    let mut text = format!("{kind} of {}", plan.measure());
    if let Some(x) = plan.x {
        text.push_str(&format!(" by {}", plan.name(x)));
    }
    if let Some(by) = plan.by {
        text.push_str(&format!(", a series for each {}", plan.name(by)));
    }
    if let Some(each) = plan.each {
        text.push_str(&format!(", a small multiple for each {}", plan.name(each)));
    }
    let rows = data.counts.rows;
    text.push_str(&format!("; {} row{}", scale::number(rows as f64, 0), if rows == 1 { "" } else { "s" }));
    if let (Some(first), Some(last)) = (places.first(), places.last())
        && places.len() > 1
    {
        text.push_str(&format!(", from {} to {}", first.name, last.name));
    }
    text.push('.');
    // As many of the values as can be listened to.
    for place in places.iter().take(if places.len() <= 30 { 30 } else { 0 }) {
        let values: Vec<String> = place
            .values
            .iter()
            .map(|(name, value)| if name.is_empty() { value.clone() } else { format!("{name} {value}") })
            .collect();
        text.push_str(&format!(" {}: {}.", place.name, values.join(", ")));
    }
    text
}
