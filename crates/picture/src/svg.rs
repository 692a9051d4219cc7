//! A scene as SVG 1.1, one document that needs nothing else: the characters that it uses are embedded as a font.

use std::fmt::Write;

use crate::font::{self, Subset};
use crate::scene::{Anchor, Item, Look, Mark, Paint, Scene};

/// Writes a scene.
pub fn write(scene: &Scene, look: Look) -> String {
    let mut out = String::new();
    let (width, height) = (number(scene.width), number(scene.height));
    let font = Subset::of(texts(scene));
    out.push_str("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    // Writing to a string never fails.
    let _ = writeln!(
        out,
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" viewBox=\"0 0 {width} {height}\" role=\"img\" aria-labelledby=\"title about\">"
    );
    let _ = writeln!(out, "<title id=\"title\">{}</title>", escaped(&scene.title));
    let _ = writeln!(out, "<desc id=\"about\">{}</desc>", escaped(&scene.about));
    let _ = writeln!(
        out,
        "<style>@font-face{{font-family:\"{0}\";src:url(data:font/ttf;base64,{1})}}text{{font-family:\"{0}\",monospace;font-size:{2}px;white-space:pre}}.s{{font-size:{3}px}}</style>",
        font::NAME,
        font.base64(),
        number(font::SIZE),
        number(font::STRONG),
    );
    let colour = |paint: Paint| hex(look.colour(paint));
    let _ = writeln!(out, "<rect width=\"{width}\" height=\"{height}\" fill=\"{}\"/>", colour(Paint::Ground));
    for item in &scene.items {
        match item {
            Item::Rect { x, y, width, height, paint } => {
                let _ = writeln!(
                    out,
                    "<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" fill=\"{}\"/>",
                    number(*x),
                    number(*y),
                    number(*width),
                    number(*height),
                    colour(*paint)
                );
            }
            Item::Line { points, paint, width, dashed } => {
                let dashes = if *dashed { " stroke-dasharray=\"3 3\"" } else { "" };
                let _ = writeln!(
                    out,
                    "<path d=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"{}\" stroke-linejoin=\"round\"{dashes}/>",
                    path(points, false),
                    colour(*paint),
                    number(*width)
                );
            }
            Item::Area { points, paint } => {
                let _ = writeln!(out, "<path d=\"{}\" fill=\"{}\"/>", path(points, true), colour(*paint));
            }
            Item::Marks { points, paint, mark } => marks(points, *mark, &colour(*paint), &mut out),
            Item::Text { x, y, text, anchor, paint, strong } => {
                let anchor = match anchor {
                    Anchor::Start => "start",
                    Anchor::Middle => "middle",
                    Anchor::End => "end",
                };
                let class = if *strong { " class=\"s\"" } else { "" };
                let _ = writeln!(
                    out,
                    "<text x=\"{}\" y=\"{}\" text-anchor=\"{anchor}\" fill=\"{}\"{class}>{}</text>",
                    number(*x),
                    number(y + font::baseline(*strong)),
                    colour(*paint),
                    escaped(text)
                );
            }
        }
    }
    out.push_str("</svg>\n");
    out
}

/// All texts of a scene.
pub(crate) fn texts(scene: &Scene) -> impl Iterator<Item = &str> {
    scene.items.iter().filter_map(|item| match item {
        Item::Text { text, .. } => Some(text.as_str()),
        _ => None,
    })
}

fn hex([red, green, blue]: [u8; 3]) -> String {
    format!("#{red:02x}{green:02x}{blue:02x}")
}

/// A number with two digits behind the point at most: the same on every machine.
pub(crate) fn number(value: f32) -> String {
    let hundredths = (f64::from(value) * 100.0).round();
    if !hundredths.is_finite() {
        return "0".to_owned();
    }
    let text = format!("{:.2}", hundredths / 100.0);
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

fn path(points: &[(f32, f32)], closed: bool) -> String {
    let mut text = String::new();
    for (at, (x, y)) in points.iter().enumerate() {
        let _ = write!(text, "{}{} {}", if at == 0 { 'M' } else { 'L' }, number(*x), number(*y));
    }
    if closed {
        text.push('Z');
    }
    text
}

/// Marks as one path.
fn marks(points: &[(f32, f32)], mark: Mark, colour: &str, out: &mut String) {
    let mut text = String::new();
    match mark {
        // A line of no length with round ends is a dot.
        Mark::Dot | Mark::Shape(0) => {
            let size = if mark == Mark::Dot { "1.6" } else { "6" };
            for (x, y) in points {
                let _ = write!(text, "M{} {}h0", number(*x), number(*y));
            }
            let _ = writeln!(
                out,
                "<path d=\"{text}\" fill=\"none\" stroke=\"{colour}\" stroke-width=\"{size}\" stroke-linecap=\"round\"/>"
            );
        }
        Mark::Shape(shape) => {
            for (x, y) in points {
                for (outline, closed) in outlines(shape, *x, *y) {
                    text.push_str(&path(&outline, closed));
                }
            }
            let (fill, stroke) = if is_filled(shape) { (colour, "none") } else { ("none", colour) };
            let _ = writeln!(out, "<path d=\"{text}\" fill=\"{fill}\" stroke=\"{stroke}\" stroke-width=\"1.4\"/>");
        }
    }
}

/// Whether a shape is filled; else it is drawn as lines.
pub(crate) fn is_filled(shape: u8) -> bool {
    !matches!(shape % 8, 4 | 5)
}

/// The outlines of a mark, and whether each is closed.
pub(crate) fn outlines(shape: u8, x: f32, y: f32) -> Vec<(Vec<(f32, f32)>, bool)> {
    let r = 3.0;
    let at = |points: &[(f32, f32)]| points.iter().map(|(dx, dy)| (x + dx * r, y + dy * r)).collect::<Vec<_>>();
    match shape % 8 {
        1 => vec![(at(&[(-0.9, -0.9), (0.9, -0.9), (0.9, 0.9), (-0.9, 0.9)]), true)],
        2 => vec![(at(&[(0.0, -1.1), (1.1, 0.9), (-1.1, 0.9)]), true)],
        3 => vec![(at(&[(0.0, -1.2), (1.2, 0.0), (0.0, 1.2), (-1.2, 0.0)]), true)],
        4 => vec![(at(&[(-1.0, -1.0), (1.0, 1.0)]), false), (at(&[(-1.0, 1.0), (1.0, -1.0)]), false)],
        5 => vec![(at(&[(-1.2, 0.0), (1.2, 0.0)]), false), (at(&[(0.0, -1.2), (0.0, 1.2)]), false)],
        6 => vec![(at(&[(-1.1, -0.9), (1.1, -0.9), (0.0, 1.1)]), true)],
        _ => vec![(at(&[(-1.2, -0.5), (1.2, -0.5), (1.2, 0.5), (-1.2, 0.5)]), true)],
    }
}

/// Text as it stands in XML 1.0, which has no place for most control characters.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_short_and_the_same_everywhere() {
        assert_eq!([0.0, -0.001, 1.5, 2.0, 1.0 / 3.0, 1234.567].map(number), ["0", "0", "1.5", "2", "0.33", "1234.57"]);
        assert_eq!(number(f32::NAN), "0");
    }

    #[test]
    fn a_million_points_are_one_element() {
        let mut scene = Scene::new(100.0, 100.0);
        let points = (0..1000).map(|n| (n as f32 / 10.0, 5.0)).collect();
        scene.items.push(Item::Marks { points, paint: Paint::Series(0), mark: Mark::Dot });
        assert_eq!(write(&scene, Look::Light).matches("<path").count(), 1);
    }

    #[test]
    fn hostile_text_stays_text() {
        let mut scene = Scene::new(10.0, 10.0);
        scene.title = "</title><script>".into();
        scene.text(0.0, 0.0, Anchor::Start, Paint::Ink, "a<b>&\"\u{1b}[0m\0");
        let svg = write(&scene, Look::Dark);
        assert!(svg.contains("<title id=\"title\">&lt;/title&gt;&lt;script&gt;</title>"));
        assert!(svg.contains(">a&lt;b&gt;&amp;&quot;\u{fffd}[0m\u{fffd}</text>"));
    }
}
