//! A drawing of a schema as a scene for paper, and as cells for a terminal.

use jaunty_language::text::clean;
use jaunty_picture::{Anchor, Metrics, Paint, Scene};

use super::Table;
use super::layout::{Layout, names_width};

/// A cell of a drawing in a terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cell {
    /// Its character; the second half of a wide one has none.
    pub symbol: char,
    /// Its paint.
    pub paint: Paint,
}

/// A drawing in cells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cells {
    /// Cells beside each other.
    pub width: usize,
    /// Cells below each other.
    pub height: usize,
    cells: Vec<Cell>,
}

const FREE: Cell = Cell { symbol: ' ', paint: Paint::Ink };

/// The characters for lines by the sides that they reach: 1 up, 2 right, 4 down, 8 left (Unicode Standard, block "Box Drawing").
const LINES: [char; 16] = [' ', '╵', '╶', '└', '╷', '│', '┌', '├', '╴', '┘', '─', '┴', '┐', '┤', '┬', '┼'];

/// The sign before a row.
fn sign(row: &super::Row) -> &'static str {
    match (row.key, row.references) {
        (true, true) => "◆",
        (true, false) => "●",
        (false, true) => "→",
        (false, false) => " ",
    }
}

fn colour(table: usize) -> Paint {
    Paint::Series((table % usize::from(jaunty_picture::scene::SERIES)) as u8)
}

impl Cells {
    /// Paints a drawing.
    pub fn paint(tables: &[Table], layout: &Layout) -> Cells {
        let (width, height) = (layout.width.max(1) as usize, layout.height.max(1) as usize);
        let mut cells = Cells { width, height, cells: vec![FREE; width * height] };
        let mut sides: Vec<(u8, Paint)> = vec![(0, Paint::Rule); width * height];
        let mut reach = |x: i32, y: i32, side: u8, paint: Paint| {
            if let (Ok(x), Ok(y)) = (usize::try_from(x), usize::try_from(y))
                && x < width
                && let Some(cell) = sides.get_mut(y * width + x)
            {
                *cell = (cell.0 | side, paint);
            }
        };
        for road in &layout.roads {
            let paint = colour(road.to);
            for pair in road.corners.windows(2) {
                let ((ax, ay), (bx, by)) = (pair[0], pair[1]);
                let (dx, dy) = ((bx - ax).signum(), (by - ay).signum());
                let (ahead, back) = match (dx, dy) {
                    (1, _) => (2, 8),
                    (-1, _) => (8, 2),
                    (_, 1) => (4, 1),
                    _ => (1, 4),
                };
                let (mut x, mut y) = (ax, ay);
                while (x, y) != (bx, by) {
                    reach(x, y, ahead, paint);
                    (x, y) = (x + dx, y + dy);
                    reach(x, y, back, paint);
                }
            }
            // The ends reach the boxes.
            for (end, next) in
                [(road.corners.first(), road.corners.get(1)), (road.corners.last(), road.corners.iter().rev().nth(1))]
            {
                if let (Some(end), Some(next)) = (end, next) {
                    reach(end.0, end.1, if next.0 > end.0 { 8 } else { 2 }, paint);
                }
            }
        }
        for (cell, (sides, paint)) in cells.cells.iter_mut().zip(&sides) {
            if *sides != 0 {
                *cell = Cell { symbol: LINES[usize::from(*sides & 15)], paint: *paint };
            }
        }
        for road in &layout.roads {
            for (end, next, text) in ends(road) {
                let width = clean::width(text);
                let x = if next.0 > end.0 { end.0 } else { end.0 + 1 - width as i32 };
                cells.write(x, end.1, text, width, colour(road.to));
            }
        }
        for (at, (table, placed)) in tables.iter().zip(&layout.boxes).enumerate() {
            let inside = (placed.width - 2).max(0) as usize;
            let title = clean::fit(&table.title, inside.saturating_sub(2)).text;
            let rule = "─".repeat(inside.saturating_sub(clean::width(&title) + 2));
            cells.write(placed.x, placed.y, "┌ ", 2, colour(at));
            cells.write(placed.x + 2, placed.y, &title, inside, Paint::Ink);
            let after = placed.x + 3 + clean::width(&title) as i32;
            cells.write(after, placed.y, &format!("{rule}┐"), inside + 2, colour(at));
            let names = names_width(table);
            for (row, about) in table.rows.iter().enumerate() {
                let y = placed.row(row);
                cells.write(placed.x, y, &format!("│{}│", " ".repeat(inside)), inside + 2, colour(at));
                cells.write(placed.x + 2, y, sign(about), 1, Paint::Faint);
                cells.write(placed.x + 4, y, &clean::fit(&about.name, names.max(8)).text, inside, Paint::Ink);
                let room = inside.saturating_sub(names + 4);
                let type_name = clean::fit(&about.type_name, room).text;
                cells.write(placed.x + 5 + names as i32, y, &type_name, room, Paint::Faint);
            }
            let bottom = format!("└{}┘", "─".repeat(inside));
            cells.write(placed.x, placed.y + placed.height - 1, &bottom, inside + 2, colour(at));
        }
        cells
    }

    /// A cell; free ones beyond the edge.
    pub fn cell(&self, x: i32, y: i32) -> Cell {
        match (usize::try_from(x), usize::try_from(y)) {
            (Ok(x), Ok(y)) if x < self.width => self.cells.get(y * self.width + x).copied().unwrap_or(FREE),
            _ => FREE,
        }
    }

    /// The characters, line by line.
    pub fn lines(&self) -> Vec<String> {
        let lines = self.cells.chunks(self.width);
        lines.map(|line| line.iter().map(|cell| cell.symbol).filter(|c| *c != '\0').collect()).collect()
    }

    fn write(&mut self, x: i32, y: i32, text: &str, most: usize, paint: Paint) {
        let (Ok(x), Ok(y)) = (usize::try_from(x), usize::try_from(y)) else { return };
        let mut at = x;
        for c in text.chars() {
            let columns = clean::width(c.encode_utf8(&mut [0; 4]));
            if columns == 0 || at + columns > self.width || at + columns > x + most {
                continue;
            }
            if let Some(cell) = self.cells.get_mut(y * self.width + at) {
                *cell = Cell { symbol: c, paint };
            }
            if columns == 2
                && let Some(cell) = self.cells.get_mut(y * self.width + at + 1)
            {
                *cell = Cell { symbol: '\0', paint };
            }
            at += columns;
        }
    }
}

/// An end of a line, the corner after it, and what stands there.
type End = ((i32, i32), (i32, i32), &'static str);

/// The ends of a line, the corner after each, and what stands there.
fn ends(road: &super::layout::Road) -> [End; 2] {
    let first = road.corners.first().copied().unwrap_or_default();
    let second = road.corners.get(1).copied().unwrap_or(first);
    let last = road.corners.last().copied().unwrap_or_default();
    let before = road.corners.iter().rev().nth(1).copied().unwrap_or(last);
    [(first, second, road.signs.0), (last, before, road.signs.1)]
}

/// A drawing on paper.
pub fn scene(tables: &[Table], layout: &Layout, title: &str) -> Scene {
    let Metrics { advance, line, .. } = Metrics::PAPER;
    let (left, top) = (2.0 * advance, 2.5 * line);
    let place = |x: f32, y: f32| (left + x * advance, top + y * line);
    let mut scene = Scene::new(layout.width as f32 * advance + 2.0 * left, layout.height as f32 * line + top + line);
    scene.title = title.to_owned();
    let tables_word = if tables.len() == 1 { "table" } else { "tables" };
    let names: Vec<&str> = tables.iter().map(|table| table.title.as_str()).collect();
    scene.about =
        format!("{} {tables_word} and {} foreign keys: {}.", tables.len(), layout.roads.len(), names.join(", "));
    scene.items.push(jaunty_picture::Item::Text {
        x: left,
        y: line,
        text: title.to_owned(),
        anchor: Anchor::Start,
        paint: Paint::Ink,
        strong: true,
    });
    for road in &layout.roads {
        let mut points: Vec<(f32, f32)> =
            road.corners.iter().map(|(x, y)| place(*x as f32 + 0.5, *y as f32 + 0.5)).collect();
        // From side to side of the boxes.
        for (at, next) in [(0, 1), (points.len().saturating_sub(1), points.len().saturating_sub(2))] {
            if let (Some(end), Some(next)) = (points.get(at).copied(), points.get(next).copied()) {
                points[at].0 = if next.0 > end.0 { end.0 - advance / 2.0 } else { end.0 + advance / 2.0 };
            }
        }
        scene.line(points, colour(road.to), 1.0);
    }
    for road in &layout.roads {
        for (end, next, text) in ends(road) {
            let outward = if next.0 > end.0 { 1.0 } else { -1.0 };
            let (x, y) = place(end.0 as f32 + 0.5 + 0.2 * outward, end.1 as f32 + 0.5);
            let anchor = if outward > 0.0 { Anchor::Start } else { Anchor::End };
            let x = x - outward * advance / 2.0;
            let width = Metrics::PAPER.width(text);
            scene.rect(if outward > 0.0 { x } else { x - width }, y - line * 0.4, width, line * 0.8, Paint::Ground);
            scene.text(x, y, anchor, Paint::Faint, text);
        }
    }
    for (at, (table, placed)) in tables.iter().zip(&layout.boxes).enumerate() {
        let (x, y) = place(placed.x as f32, placed.y as f32 + 0.2);
        let (width, height) = (placed.width as f32 * advance, (placed.height as f32 - 0.6) * line);
        scene.rect(x, y, width, height, Paint::Ground);
        scene.rect(x, y, width, line * 0.8, Paint::Soft((at % 8) as u8));
        let outline = vec![(x, y), (x + width, y), (x + width, y + height), (x, y + height), (x, y)];
        scene.line(outline, colour(at), 1.0);
        let inside = (placed.width - 2).max(1) as usize;
        let text = |row: f32| place(placed.x as f32, placed.y as f32 + row + 0.55).1;
        scene.text(x + advance, text(0.0), Anchor::Start, Paint::Ink, clean::fit(&table.title, inside).text);
        let names = names_width(table);
        for (row, about) in table.rows.iter().enumerate() {
            let y = place(0.0, placed.row(row) as f32 + 0.5).1;
            scene.text(x + advance, y, Anchor::Start, Paint::Faint, sign(about));
            scene.text(x + 3.0 * advance, y, Anchor::Start, Paint::Ink, clean::fit(&about.name, names.max(8)).text);
            let room = inside.saturating_sub(names + 3);
            let type_name = clean::fit(&about.type_name, room).text;
            if !type_name.is_empty() {
                scene.text(x + (4 + names) as f32 * advance, y, Anchor::Start, Paint::Faint, type_name);
            }
        }
    }
    scene
}
