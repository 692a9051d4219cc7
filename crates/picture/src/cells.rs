//! A scene in the cells of a terminal: areas as blocks in eighths of a cell, lines and marks in dots of Braille
//! characters, two by four to a cell, and text as it is. The units are those of [`Metrics::TERMINAL`].

use crate::scene::{Anchor, Item, Mark, Paint, Scene};

#[cfg(doc)]
use crate::scene::Metrics;

/// One cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cell {
    /// Its character.
    pub symbol: char,
    /// What the character is painted with.
    pub paint: Paint,
    /// What lies below it.
    pub ground: Paint,
}

const FREE: Cell = Cell { symbol: ' ', paint: Paint::Ink, ground: Paint::Ground };

/// Blocks that fill a cell from below, by eighths.
const EIGHTHS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// The dots of a Braille character, by column and row (Unicode Standard, chapter 21.1).
const DOTS: [[u8; 4]; 2] = [[0x01, 0x02, 0x04, 0x40], [0x08, 0x10, 0x20, 0x80]];

/// A picture in cells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grid {
    /// Cells beside each other.
    pub width: usize,
    /// Cells below each other.
    pub height: usize,
    cells: Vec<Cell>,
}

/// What fills the eighths of a cell from above, and its dots.
#[derive(Debug, Clone, Copy)]
struct Part {
    eighths: [Option<Paint>; 8],
    dots: u8,
    dotted: Paint,
}

impl Grid {
    /// Paints a scene, without colours if need be: areas of several series then have characters of their own.
    pub fn paint(scene: &Scene, colours: bool) -> Grid {
        let (width, height) = ((scene.width / 2.0).round() as usize, (scene.height / 4.0).round() as usize);
        let none = Part { eighths: [None; 8], dots: 0, dotted: Paint::Ink };
        let mut parts = vec![none; width * height];
        let mut texts = Vec::new();
        for item in &scene.items {
            let mut dots = Dots { parts: &mut parts, width, height };
            match item {
                Item::Rect { x, y, width, height, paint } => dots.fill(*x, *y, x + width, y + height, *paint),
                Item::Line { points, paint, dashed, .. } => dots.line(points, *paint, *dashed),
                Item::Area { points, paint } => dots.area(points, *paint),
                Item::Marks { points, paint, mark } => {
                    for (x, y) in points {
                        dots.set(x.floor() as i64, y.floor() as i64, *paint);
                        if matches!(mark, Mark::Shape(_)) {
                            dots.set(x.floor() as i64 + 1, y.floor() as i64, *paint);
                        }
                    }
                }
                Item::Text { .. } => texts.push(item),
            }
        }
        let cells = parts.iter().map(|part| part.cell(colours)).collect();
        let mut grid = Grid { width, height, cells };
        for item in texts {
            if let Item::Text { x, y, text, anchor, paint, .. } = item {
                grid.write(*x, *y, text, *anchor, *paint);
            }
        }
        grid
    }

    /// A cell; free ones beyond the edge.
    pub fn cell(&self, x: usize, y: usize) -> Cell {
        if x >= self.width {
            return FREE;
        }
        self.cells.get(y * self.width + x).copied().unwrap_or(FREE)
    }

    /// The characters, line by line.
    pub fn lines(&self) -> Vec<String> {
        let lines = self.cells.chunks(self.width.max(1));
        lines.map(|cells| cells.iter().map(|cell| cell.symbol).filter(|c| *c != '\0').collect()).collect()
    }

    fn write(&mut self, x: f32, y: f32, text: &str, anchor: Anchor, paint: Paint) {
        let row = (y / 4.0).floor();
        if row < 0.0 || row as usize >= self.height {
            return;
        }
        let columns: usize = text.chars().map(columns_of).sum();
        let first = match anchor {
            Anchor::Start => (x / 2.0).round(),
            Anchor::Middle => (x / 2.0 - columns as f32 / 2.0).round(),
            Anchor::End => (x / 2.0).round() - columns as f32,
        };
        let mut at = first as i64;
        for c in text.chars() {
            let columns = columns_of(c) as i64;
            if columns > 0 && at >= 0 && at + columns <= self.width as i64 {
                let place = row as usize * self.width + at as usize;
                let ground = self.cells.get(place).map_or(Paint::Ground, |cell| cell.ground);
                if let Some(cell) = self.cells.get_mut(place) {
                    *cell = Cell { symbol: c, paint, ground };
                }
                // The second half of a wide character.
                if columns == 2
                    && let Some(cell) = self.cells.get_mut(place + 1)
                {
                    *cell = Cell { symbol: '\0', paint, ground };
                }
            }
            at += columns;
        }
    }
}

fn columns_of(c: char) -> usize {
    unicode_width::UnicodeWidthChar::width(c).unwrap_or(0)
}

/// A character for an area where there are no colours.
fn shade(paint: Paint) -> char {
    match paint {
        Paint::Series(n) | Paint::Soft(n) => ['█', '▒', '░', '▓', '╬', '▞', '▚', '≡'][usize::from(n % 8)],
        Paint::Ramp(step) => [' ', '·', '░', '▒', '▓', '█'][usize::from(step.min(15)) * 5 / 15],
        _ => '█',
    }
}

impl Part {
    fn cell(&self, colours: bool) -> Cell {
        let filled = self.eighths.iter().filter(|part| part.is_some()).count();
        let most = self
            .eighths
            .iter()
            .flatten()
            .copied()
            .max_by_key(|paint| self.eighths.iter().filter(|part| **part == Some(*paint)).count());
        if self.dots != 0 {
            let symbol = char::from_u32(0x2800 + u32::from(self.dots)).unwrap_or(' ');
            let ground = most.filter(|_| filled >= 4 && colours).unwrap_or(Paint::Ground);
            return Cell { symbol, paint: self.dotted, ground };
        }
        let Some(most) = most else { return FREE };
        let [top, .., bottom] = self.eighths;
        let from_below = self.eighths.iter().rev().take_while(|part| **part == bottom).count();
        let from_above = self.eighths.iter().take_while(|part| **part == top).count();
        if !colours {
            return match (filled, bottom) {
                (8, _) => Cell { symbol: shade(most), paint: most, ground: Paint::Ground },
                (count, Some(_)) if shade(most) == '█' => {
                    Cell { symbol: EIGHTHS[count], paint: most, ground: Paint::Ground }
                }
                (count, _) if count >= 4 => Cell { symbol: shade(most), paint: most, ground: Paint::Ground },
                _ => FREE,
            };
        }
        match (top, bottom) {
            // Blocks of some fonts leave a gap between lines, and grounds none.
            _ if from_below == 8 => Cell { symbol: ' ', paint: Paint::Ink, ground: most },
            (above, Some(below)) => {
                let ground = above.filter(|_| from_below < 8).unwrap_or(Paint::Ground);
                Cell { symbol: EIGHTHS[from_below], paint: below, ground }
            }
            // From above there are no blocks in eighths: what is free is painted over it.
            (Some(above), None) => Cell { symbol: EIGHTHS[8 - from_above], paint: Paint::Ground, ground: above },
            (None, None) => FREE,
        }
    }
}

struct Dots<'a> {
    parts: &'a mut [Part],
    width: usize,
    height: usize,
}

impl Dots<'_> {
    fn part(&mut self, x: i64, y: i64) -> Option<&mut Part> {
        let (x, y) = (usize::try_from(x).ok()?, usize::try_from(y).ok()?);
        if x >= self.width || y >= self.height { None } else { self.parts.get_mut(y * self.width + x) }
    }

    fn set(&mut self, x: i64, y: i64, paint: Paint) {
        let (column, row) = (x.rem_euclid(2) as usize, y.rem_euclid(4) as usize);
        if let Some(part) = self.part(x.div_euclid(2), y.div_euclid(4)) {
            part.dots |= DOTS[column][row];
            part.dotted = paint;
        }
    }

    /// Fills what is at least half covered: whole columns of cells, and eighths of them.
    fn fill(&mut self, left: f32, top: f32, right: f32, bottom: f32, paint: Paint) {
        let (first, last) = ((left / 2.0).round() as i64, (right / 2.0).round() as i64);
        let (from, to) = ((top * 2.0).round() as i64, (bottom * 2.0).round() as i64);
        for x in first..last.max(first + 1) {
            // What is there at all is seen.
            for eighth in from.min(to - 1)..to {
                if let Some(part) = self.part(x, eighth.div_euclid(8)) {
                    part.eighths[eighth.rem_euclid(8) as usize] = Some(paint);
                }
            }
        }
    }

    fn line(&mut self, points: &[(f32, f32)], paint: Paint, dashed: bool) {
        let place = |(x, y): (f32, f32)| (x.floor() as i64, y.floor() as i64);
        let mut count = 0_u32;
        for pair in points.windows(2) {
            let ((x, y), (to_x, to_y)) = (place(pair[0]), place(pair[1]));
            let (dx, dy) = (to_x - x, to_y - y);
            // A line that leaves the picture goes on where it is cut.
            let steps = dx.abs().max(dy.abs()).clamp(1, 1 << 16);
            for step in 0..=steps {
                if !dashed || count % 4 < 2 {
                    let at = |from: i64, by: i64| from + (by as f64 * step as f64 / steps as f64).round() as i64;
                    self.set(at(x, dx), at(y, dy), paint);
                }
                count += 1;
            }
        }
        if let [one] = points {
            let (x, y) = place(*one);
            self.set(x, y, paint);
        }
    }

    /// Fills an outline, column of cells by column.
    fn area(&mut self, points: &[(f32, f32)], paint: Paint) {
        for column in 0..self.width {
            let x = column as f32 * 2.0 + 1.0;
            // Where the outline crosses the middle of the column.
            let mut crossings: Vec<f32> = Vec::new();
            for (at, (ax, ay)) in points.iter().enumerate() {
                let Some((bx, by)) = points.get((at + 1) % points.len()) else { continue };
                if (*ax <= x) != (*bx <= x) {
                    crossings.push(ay + (by - ay) * (x - ax) / (bx - ax));
                }
            }
            crossings.sort_by(f32::total_cmp);
            for pair in crossings.chunks_exact(2) {
                let (from, to) = ((pair[0] * 2.0).round() as i64, (pair[1] * 2.0).round() as i64);
                for eighth in from..to {
                    if let Some(part) = self.part(column as i64, eighth.div_euclid(8)) {
                        part.eighths[eighth.rem_euclid(8) as usize] = Some(paint);
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn painted(colours: bool, draw: impl FnOnce(&mut Scene)) -> Vec<String> {
        let mut scene = Scene::new(12.0, 12.0);
        draw(&mut scene);
        Grid::paint(&scene, colours).lines()
    }

    #[test]
    fn bars_end_in_eighths_of_a_cell() {
        let lines = painted(true, |scene| {
            scene.rect(2.0, 5.5, 2.0, 6.5, Paint::Series(0));
            scene.rect(6.0, 11.9, 2.0, 0.1, Paint::Series(1));
        });
        assert_eq!(lines, ["      ", " ▅    ", "   ▁  "]);
    }

    #[test]
    fn stacked_areas_share_a_cell() {
        let mut scene = Scene::new(2.0, 4.0);
        scene.rect(0.0, 0.0, 2.0, 2.5, Paint::Series(0));
        scene.rect(0.0, 2.5, 2.0, 1.5, Paint::Series(1));
        let cell = Grid::paint(&scene, true).cell(0, 0);
        assert_eq!(cell, Cell { symbol: '▃', paint: Paint::Series(1), ground: Paint::Series(0) });
        assert_eq!(Grid::paint(&scene, false).lines(), ["█"]);
    }

    #[test]
    fn lines_are_dots_and_text_lies_above_them() {
        let lines = painted(true, |scene| {
            scene.line(vec![(0.0, 0.0), (11.0, 0.0)], Paint::Series(0), 1.0);
            scene.line(vec![(0.0, 11.0), (11.0, 0.0)], Paint::Series(1), 1.0);
            scene.text(6.0, 6.0, Anchor::Middle, Paint::Ink, "tide");
        });
        assert_eq!(lines, ["⠉⠉⠉⠉⡩⠋", " tide ", "⡠⠊    "]);
    }

    #[test]
    fn what_leaves_the_picture_is_cut() {
        let lines = painted(true, |scene| {
            scene.text(-2.0, 2.0, Anchor::Start, Paint::Ink, "abc名");
            scene.text(12.0, 6.0, Anchor::End, Paint::Ink, "名");
            scene.text(0.0, 99.0, Anchor::Start, Paint::Ink, "far");
            scene.rect(-9.0, 10.0, 200.0, 90.0, Paint::Series(0));
        });
        assert_eq!(lines, ["bc名  ", "    名", "▄▄▄▄▄▄"]);
    }
}
