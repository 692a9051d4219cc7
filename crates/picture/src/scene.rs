//! A picture before it is written anywhere.

/// The lengths of text in the units of a scene.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Metrics {
    /// The width of a character. All have the same.
    pub advance: f32,
    /// From one line of text to the next.
    pub line: f32,
    /// The least that can be seen: a point of paper, or a dot of a terminal.
    pub dot: f32,
    /// Whether text and bars stand in cells only.
    pub cells: bool,
}

impl Metrics {
    /// Points of paper, 72 to the inch, with text of 9 points.
    pub const PAPER: Metrics = Metrics { advance: 9.0 * crate::font::ADVANCE, line: 13.0, dot: 1.0, cells: false };

    /// Dots of a terminal: a cell has two beside each other and four below each other.
    pub const TERMINAL: Metrics = Metrics { advance: 2.0, line: 4.0, dot: 1.0, cells: true };

    /// The width of a text.
    pub fn width(&self, text: &str) -> f32 {
        let columns: usize = text.chars().map(|c| unicode_width::UnicodeWidthChar::width(c).unwrap_or(0)).sum();
        columns as f32 * self.advance
    }
}

/// What something is painted with; the colour depends on where it is painted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Paint {
    /// The ground.
    Ground,
    /// Text and what is most important.
    Ink,
    /// Less important text.
    Faint,
    /// Lines that help the eye.
    Rule,
    /// One of several series, from 0; they repeat after [`SERIES`].
    Series(u8),
    /// The same, as an area that other things stand on.
    Soft(u8),
    /// A step between few and many, from 0 to 15.
    Ramp(u8),
    /// What somebody should look at.
    Alarm,
}

/// How many series have a colour of their own.
pub const SERIES: u8 = 8;

/// Light or dark.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Look {
    /// Dark on light, as on paper.
    #[default]
    Light,
    /// Light on dark.
    Dark,
}

impl Look {
    /// The colour of a paint: red, green and blue. Text has a contrast of 4.5 to 1 with the ground or more (WCAG 2.1,
    /// success criterion 1.4.3), lines and areas of series 3 to 1 (1.4.11); the series differ in lightness as well
    /// as in hue, for eyes that do not tell all hues apart.
    pub fn colour(self, paint: Paint) -> [u8; 3] {
        const LIGHT: [[u8; 3]; SERIES as usize] = [
            [0x14, 0x53, 0x84],
            [0xb8, 0x4f, 0x0b],
            [0x2f, 0x85, 0x66],
            [0x7c, 0x2c, 0x66],
            [0x8c, 0x78, 0x0a],
            [0x55, 0x62, 0xc4],
            [0xc7, 0x3f, 0x5c],
            [0x40, 0x4a, 0x52],
        ];
        const DARK: [[u8; 3]; SERIES as usize] = [
            [0x7c, 0xb8, 0xe8],
            [0xf0, 0x9a, 0x55],
            [0x63, 0xc7, 0xa2],
            [0xd6, 0x8b, 0xc4],
            [0xd9, 0xc8, 0x5b],
            [0x97, 0xa0, 0xf2],
            [0xf0, 0x87, 0x9b],
            [0xb9, 0xc4, 0xcc],
        ];
        let series =
            |n: u8, light: bool| if light { LIGHT[usize::from(n % SERIES)] } else { DARK[usize::from(n % SERIES)] };
        let mix = |a: [u8; 3], b: [u8; 3], share: f32| {
            let one = |a: u8, b: u8| (f32::from(a) + (f32::from(b) - f32::from(a)) * share).round() as u8;
            [one(a[0], b[0]), one(a[1], b[1]), one(a[2], b[2])]
        };
        match (self, paint) {
            (Look::Light, Paint::Ground) => [0xff, 0xff, 0xff],
            (Look::Dark, Paint::Ground) => [0x17, 0x1c, 0x21],
            (Look::Light, Paint::Ink) => [0x1c, 0x22, 0x28],
            (Look::Dark, Paint::Ink) => [0xe8, 0xec, 0xef],
            (Look::Light, Paint::Faint) => [0x5a, 0x64, 0x6c],
            (Look::Dark, Paint::Faint) => [0xa3, 0xae, 0xb7],
            (Look::Light, Paint::Rule) => [0xd9, 0xde, 0xe2],
            (Look::Dark, Paint::Rule) => [0x3a, 0x43, 0x4b],
            (Look::Light, Paint::Alarm) => [0xb4, 0x23, 0x18],
            (Look::Dark, Paint::Alarm) => [0xff, 0x8a, 0x7a],
            (look, Paint::Series(n)) => series(n, look == Look::Light),
            (look, Paint::Soft(n)) => mix(look.colour(Paint::Ground), series(n, look == Look::Light), 0.45),
            (look, Paint::Ramp(step)) => {
                let share = f32::from(step.min(15)) / 15.0;
                let strong = if look == Look::Light { [0x0f, 0x3d, 0x66] } else { [0x9f, 0xd2, 0xf7] };
                mix(look.colour(Paint::Ground), strong, 0.12 + 0.88 * share)
            }
        }
    }
}

/// Which end of a text stands at its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Anchor {
    /// The first character.
    Start,
    /// The middle.
    Middle,
    /// The last character.
    End,
}

/// How the points of a series look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// As small as can be: there are many.
    Dot,
    /// Told apart by their shape as well as by their colour, by the number of the series.
    Shape(u8),
}

/// Something to paint. Places are in the units of the scene, from its upper left corner.
#[derive(Debug, Clone, PartialEq)]
pub enum Item {
    /// A filled rectangle.
    Rect {
        /// Its left side.
        x: f32,
        /// Its upper side.
        y: f32,
        /// Its width.
        width: f32,
        /// Its height.
        height: f32,
        /// What fills it.
        paint: Paint,
    },
    /// A line from point to point.
    Line {
        /// The points.
        points: Vec<(f32, f32)>,
        /// Its paint.
        paint: Paint,
        /// Its width, in dots.
        width: f32,
        /// Whether it is dashed.
        dashed: bool,
    },
    /// A filled outline.
    Area {
        /// The points of the outline.
        points: Vec<(f32, f32)>,
        /// What fills it.
        paint: Paint,
    },
    /// Marks, all alike: one element however many there are.
    Marks {
        /// Where they are.
        points: Vec<(f32, f32)>,
        /// Their paint.
        paint: Paint,
        /// How they look.
        mark: Mark,
    },
    /// A line of text.
    Text {
        /// Where it stands.
        x: f32,
        /// The middle of the line.
        y: f32,
        /// The text.
        text: String,
        /// Which end of it stands at `x`.
        anchor: Anchor,
        /// Its paint.
        paint: Paint,
        /// Whether it is larger, as a heading.
        strong: bool,
    },
}

/// A picture.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Scene {
    /// Its width.
    pub width: f32,
    /// Its height.
    pub height: f32,
    /// What it is called, for whoever does not see it.
    pub title: String,
    /// What it shows, in words.
    pub about: String,
    /// What is painted, in this order.
    pub items: Vec<Item>,
}

impl Scene {
    /// An empty one.
    pub fn new(width: f32, height: f32) -> Scene {
        Scene { width, height, ..Scene::default() }
    }

    /// Adds a text.
    pub fn text(&mut self, x: f32, y: f32, anchor: Anchor, paint: Paint, text: impl Into<String>) {
        self.items.push(Item::Text { x, y, text: text.into(), anchor, paint, strong: false });
    }

    /// Adds a line.
    pub fn line(&mut self, points: Vec<(f32, f32)>, paint: Paint, width: f32) {
        self.items.push(Item::Line { points, paint, width, dashed: false });
    }

    /// Adds a rectangle. What has no area is left out.
    pub fn rect(&mut self, x: f32, y: f32, width: f32, height: f32, paint: Paint) {
        if width > 0.0 && height > 0.0 {
            self.items.push(Item::Rect { x, y, width, height, paint });
        }
    }

    /// The places of all texts: left, upper, right and lower side of each, and what it says.
    pub fn labels(&self, metrics: &Metrics) -> Vec<([f32; 4], &str)> {
        let texts = self.items.iter().filter_map(|item| match item {
            Item::Text { x, y, text, anchor, strong, .. } => Some((x, y, text, anchor, *strong)),
            _ => None,
        });
        let labels = texts.map(|(x, y, text, anchor, strong)| {
            // A strong text is larger on paper; in cells it cannot be.
            let larger = if strong && !metrics.cells { crate::font::STRONG / crate::font::SIZE } else { 1.0 };
            let width = metrics.width(text) * larger;
            let left = match anchor {
                Anchor::Start => *x,
                Anchor::Middle => x - width / 2.0,
                Anchor::End => x - width,
            };
            ([left, y - metrics.line / 2.0, left + width, y + metrics.line / 2.0], text.as_str())
        });
        labels.collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The contrast of two colours, by WCAG 2.1.
    fn contrast(a: [u8; 3], b: [u8; 3]) -> f64 {
        let luminance = |colour: [u8; 3]| {
            let part = colour.map(|c| {
                let c = f64::from(c) / 255.0;
                if c <= 0.03928 { c / 12.92 } else { ((c + 0.055) / 1.055).powf(2.4) }
            });
            0.2126 * part[0] + 0.7152 * part[1] + 0.0722 * part[2]
        };
        let (a, b) = (luminance(a), luminance(b));
        (a.max(b) + 0.05) / (a.min(b) + 0.05)
    }

    #[test]
    fn everything_stands_out_from_the_ground() {
        for look in [Look::Light, Look::Dark] {
            let ground = look.colour(Paint::Ground);
            for paint in [Paint::Ink, Paint::Faint, Paint::Alarm] {
                assert!(contrast(look.colour(paint), ground) >= 4.5, "{look:?} {paint:?}");
            }
            for series in 0..SERIES {
                assert!(contrast(look.colour(Paint::Series(series)), ground) >= 3.0, "{look:?} {series}");
            }
        }
    }

    #[test]
    fn labels_have_places() {
        let mut scene = Scene::new(100.0, 50.0);
        scene.text(50.0, 10.0, Anchor::End, Paint::Ink, "quay");
        assert_eq!(scene.labels(&Metrics::TERMINAL), [([42.0, 8.0, 50.0, 12.0], "quay")]);
    }
}
