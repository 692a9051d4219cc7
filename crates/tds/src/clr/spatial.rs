//! `geography` and `geometry`, as well-known text ([MS-SSCLRT] 2.2.1 "GEOGRAPHY and GEOMETRY").

use std::fmt::Write as _;

use crate::types::Reader;

const HAS_Z: u8 = 1;
const HAS_M: u8 = 2;
const ONE_POINT: u8 = 8;
const ONE_LINE: u8 = 16;

struct Shape {
    parent: i32,
    figure: i32,
    kind: u8,
}

struct Value {
    points: Vec<[f64; 2]>,
    z: Vec<f64>,
    m: Vec<f64>,
    /// Where the points of each figure begin.
    figures: Vec<usize>,
    shapes: Vec<Shape>,
}

/// The text; `None` where it has arcs, or the bytes are none.
pub fn text(raw: &[u8], on_earth: bool) -> Option<String> {
    let value = read(raw, on_earth)?;
    let mut text = String::new();
    if value.shapes.is_empty() {
        return None;
    }
    value.put(0, true, &mut text)?;
    Some(text)
}

fn read(raw: &[u8], on_earth: bool) -> Option<Value> {
    let mut from = Reader::new(raw, 0);
    from.u32()?;
    let version = from.u8()?;
    let properties = from.u8()?;
    let few = properties & (ONE_POINT | ONE_LINE) != 0;
    let count = match (properties & ONE_POINT != 0, few) {
        (true, _) => 1,
        (false, true) => 2,
        (false, false) => from.u32()? as usize,
    };
    // Each point takes sixteen bytes: a count beyond that is no count.
    if count > raw.len() / 16 + 1 {
        return None;
    }
    let float = |from: &mut Reader<'_>| from.u64().map(f64::from_bits);
    let mut points = Vec::with_capacity(count);
    for _ in 0..count {
        let (a, b) = (float(&mut from)?, float(&mut from)?);
        // On the earth the latitude comes first, and is written last.
        points.push(if on_earth { [b, a] } else { [a, b] });
    }
    let more = |has: u8, from: &mut Reader<'_>| -> Option<Vec<f64>> {
        if properties & has == 0 { Some(Vec::new()) } else { (0..count).map(|_| float(from)).collect() }
    };
    let z = more(HAS_Z, &mut from)?;
    let m = more(HAS_M, &mut from)?;
    if few {
        let kind = if count == 1 { 1 } else { 2 };
        return Some(Value { points, z, m, figures: vec![0], shapes: vec![Shape { parent: -1, figure: 0, kind }] });
    }
    let figures = (0..from.u32()?.min(raw.len() as u32))
        .map(|_| {
            let attribute = from.u8()?;
            // Arcs are figures of their own kinds since the second version.
            let straight = version < 2 || attribute <= 1;
            let at = from.u32()?;
            straight.then_some(at as usize)
        })
        .collect::<Option<Vec<_>>>()?;
    let shapes = (0..from.u32()?.min(raw.len() as u32))
        .map(|_| Some(Shape { parent: from.u32()? as i32, figure: from.u32()? as i32, kind: from.u8()? }))
        .collect::<Option<Vec<_>>>()?;
    Some(Value { points, z, m, figures, shapes })
}

impl Value {
    /// Adds a shape: with its word, or as a part of one that has said it.
    fn put(&self, at: usize, named: bool, text: &mut String) -> Option<()> {
        let shape = self.shapes.get(at)?;
        let word = match shape.kind {
            1 => "POINT",
            2 => "LINESTRING",
            3 => "POLYGON",
            4 => "MULTIPOINT",
            5 => "MULTILINESTRING",
            6 => "MULTIPOLYGON",
            7 => "GEOMETRYCOLLECTION",
            11 => "FULLGLOBE",
            _ => return None,
        };
        if named {
            text.push_str(word);
            if shape.kind == 11 {
                return Some(());
            }
            text.push(' ');
        }
        let children: Vec<usize> = if shape.kind >= 4 {
            (at + 1..self.shapes.len()).filter(|i| self.shapes.get(*i).is_some_and(|s| s.parent == at as i32)).collect()
        } else {
            Vec::new()
        };
        if shape.figure < 0 || (shape.kind >= 4 && children.is_empty()) {
            text.push_str("EMPTY");
            return Some(());
        }
        text.push('(');
        match shape.kind {
            1 | 2 => self.put_figure(shape.figure as usize, text)?,
            3 => {
                for (count, figure) in self.figures_of(at).enumerate() {
                    text.push_str(if count > 0 { ", (" } else { "(" });
                    self.put_figure(figure, text)?;
                    text.push(')');
                }
            }
            kind => {
                for (count, child) in children.into_iter().enumerate() {
                    if count > 0 {
                        text.push_str(", ");
                    }
                    self.put(child, kind == 7, text)?;
                }
            }
        }
        text.push(')');
        Some(())
    }

    /// The figures of a shape: up to where those of the next one begin.
    fn figures_of(&self, at: usize) -> std::ops::Range<usize> {
        let first = self.shapes.get(at).map_or(0, |shape| shape.figure.max(0) as usize);
        let next = self.shapes.iter().skip(at + 1).map(|shape| shape.figure).find(|figure| *figure >= 0);
        first..next.map_or(self.figures.len(), |next| next as usize)
    }

    fn put_figure(&self, figure: usize, text: &mut String) -> Option<()> {
        let start = *self.figures.get(figure)?;
        let end = self.figures.get(figure + 1).copied().unwrap_or(self.points.len());
        for at in start..end {
            if at > start {
                text.push_str(", ");
            }
            let [x, y] = self.points.get(at)?;
            let _ = write!(text, "{x} {y}");
            let (z, m) = (self.z.get(at), self.m.get(at));
            match (z.filter(|z| !z.is_nan()), m.filter(|m| !m.is_nan())) {
                (None, None) => {}
                (Some(z), None) => {
                    let _ = write!(text, " {z}");
                }
                (None, Some(m)) => {
                    let _ = write!(text, " NULL {m}");
                }
                (Some(z), Some(m)) => {
                    let _ = write!(text, " {z} {m}");
                }
            }
        }
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bytes(head: &[u8], floats: &[f64], tail: &[u8]) -> Vec<u8> {
        let mut all = head.to_vec();
        all.extend(floats.iter().flat_map(|value| value.to_le_bytes()));
        all.extend(tail);
        all
    }

    #[test]
    fn shapes_are_read() {
        let point = bytes(&[0xE6, 0x10, 0, 0, 1, 0x0C], &[51.5, -0.25], &[]);
        assert_eq!(text(&point, true).as_deref(), Some("POINT (-0.25 51.5)"));
        assert_eq!(text(&point, false).as_deref(), Some("POINT (51.5 -0.25)"));
        let line = bytes(&[0, 0, 0, 0, 1, 0x15], &[0.0, 0.0, 1.0, 2.0, 7.0, f64::NAN], &[]);
        assert_eq!(text(&line, false).as_deref(), Some("LINESTRING (0 0 7, 1 2)"));
        let corners = [0.0, 0.0, 3.0, 0.0, 0.0, 3.0, 0.0, 0.0];
        let mut tail = vec![1, 0, 0, 0, 2, 0, 0, 0, 0, 1, 0, 0, 0];
        tail.extend([0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0, 3]);
        let polygon = bytes(&[0, 0, 0, 0, 1, 4, 4, 0, 0, 0], &corners, &tail);
        assert_eq!(text(&polygon, false).as_deref(), Some("POLYGON ((0 0, 3 0, 0 3, 0 0))"));
        let mut tail = vec![2, 0, 0, 0, 1, 0, 0, 0, 0, 1, 1, 0, 0, 0, 3, 0, 0, 0];
        tail.extend([0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0, 4]);
        tail.extend([0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 1]);
        let several = bytes(&[0, 0, 0, 0, 1, 4, 2, 0, 0, 0], &[1.0, 2.0, 3.0, 4.0], &tail);
        assert_eq!(text(&several, false).as_deref(), Some("MULTIPOINT ((1 2), (3 4))"));
    }

    #[test]
    fn what_is_none_is_none() {
        for raw in [&[][..], &[0; 5], &[0, 0, 0, 0, 1, 4, 255, 255, 255, 255], &[0xFF; 12]] {
            assert_eq!(text(raw, true), None);
        }
    }
}
