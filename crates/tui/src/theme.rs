//! Two themes of our own, `lamplight` (dark) and `foolscap` (light), as roles instead of colours.
//!
//! Each role has a colour for terminals with many, one of the sixteen for those without, and
//! modifiers that carry the meaning where there is no colour at all.

use jaunty_picture as picture;
use jaunty_picture::Paint;
use ratatui::style::{Color, Modifier, Style};

/// How many colours the terminal has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Any colour.
    Full,
    /// The 256 of the xterm palette.
    Indexed,
    /// Sixteen.
    Sixteen,
    /// None: `NO_COLOR` is set.
    None,
}

impl Depth {
    /// What the environment says: <https://no-color.org>, `COLORTERM` and `TERM`.
    pub fn of_environment(read: impl Fn(&str) -> Option<String>) -> Depth {
        let value = |name| read(name).unwrap_or_default();
        let term = value("TERM");
        if !value("NO_COLOR").is_empty() || term == "dumb" {
            Depth::None
        } else if matches!(value("COLORTERM").as_str(), "truecolor" | "24bit") {
            Depth::Full
        } else if term.contains("256color") {
            Depth::Indexed
        } else {
            Depth::Sixteen
        }
    }
}

/// What a piece of the screen means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Text of the buffer, and its ground.
    Text,
    /// Values, and the ground of the result.
    Value,
    /// The line at the top and the one at the bottom.
    Edge,
    /// The ground of what is overlay over the screen.
    Overlay,
    /// What should step back: notes, type names, row numbers.
    Faint,
    /// The line between areas.
    Rule,
    /// What the eye should find: titles, the statement in hand.
    Accent,
    /// Keywords.
    Keyword,
    /// Quoted text.
    Quoted,
    /// Numbers in text.
    Number,
    /// Comments.
    Comment,
    /// Quoted names and parameters.
    Name,
    /// A run that is done.
    Done,
    /// A run that failed, and errors.
    Failed,
    /// Text that cannot be right.
    Wrong,
    /// A run that was stopped or cut short.
    Stopped,
    /// A run that goes on.
    Running,
    /// Selected text, and the chosen line of a list.
    Selected,
    /// The cell in hand.
    Cell,
    /// The row in hand.
    Row,
    /// NULL, and everything that is shown in the place of something else.
    StandIn,
    /// A value that is another one in the result beside it.
    Differing,
    /// A value that is drafted and not yet sent.
    Draft,
    /// A guarded connection.
    Guard,
}

/// A theme.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Name {
    /// Dark.
    Lamplight,
    /// Light.
    Foolscap,
}

impl Name {
    /// Both.
    pub const ALL: [Name; 2] = [Name::Lamplight, Name::Foolscap];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Name::Lamplight => "lamplight",
            Name::Foolscap => "foolscap",
        }
    }

    /// The other one.
    pub fn other(self) -> Name {
        if self == Name::Lamplight { Name::Foolscap } else { Name::Lamplight }
    }
}

/// A theme for a terminal.
#[derive(Debug, Clone, Copy)]
pub struct Theme {
    /// Which.
    pub name: Name,
    depth: Depth,
}

/// Foreground and background as `0xRRGGBB`, then the same among sixteen, then modifiers.
type Look = (u32, u32, Color, Color, Modifier);

const PLAIN: Modifier = Modifier::empty();

fn lamplight(role: Role) -> Look {
    use Color::{Black, Blue, Cyan, DarkGray, Green, LightYellow, Magenta, Red, Reset, White, Yellow};
    const GROUND: u32 = 0x1b1a1f;
    const RESULT: u32 = 0x211f26;
    const EDGE: u32 = 0x2b2831;
    match role {
        Role::Text => (0xe6dfd1, GROUND, Reset, Reset, PLAIN),
        Role::Value => (0xe6dfd1, RESULT, Reset, Reset, PLAIN),
        Role::Edge => (0xcfc6b6, EDGE, Reset, Reset, PLAIN),
        Role::Overlay => (0xe6dfd1, 0x302c38, Reset, Reset, PLAIN),
        Role::Faint => (0x9c958b, 0, DarkGray, Reset, Modifier::DIM),
        Role::Rule => (0x4a4452, 0, DarkGray, Reset, Modifier::DIM),
        Role::Accent => (0xf0b75e, 0, LightYellow, Reset, Modifier::BOLD),
        Role::Keyword => (0xd9a866, 0, Yellow, Reset, Modifier::BOLD),
        Role::Quoted => (0x9fbf8f, 0, Green, Reset, PLAIN),
        Role::Number => (0x8fb8c9, 0, Cyan, Reset, PLAIN),
        Role::Comment => (0x9d9585, 0, DarkGray, Reset, Modifier::ITALIC),
        Role::Name => (0xc3a6cf, 0, Magenta, Reset, PLAIN),
        Role::Done => (0x8fb573, 0, Green, Reset, PLAIN),
        Role::Failed => (0xe58a6f, 0, Red, Reset, Modifier::BOLD),
        Role::Wrong => (0xe58a6f, 0, Red, Reset, Modifier::UNDERLINED),
        Role::Stopped => (0xd8b36a, 0, Yellow, Reset, PLAIN),
        Role::Running => (0xf0b75e, 0, LightYellow, Reset, Modifier::BOLD),
        Role::Selected => (0xf4ecdc, 0x55483a, White, Blue, Modifier::REVERSED),
        Role::Cell => (0x1b1a1f, 0xe3b566, Black, Yellow, Modifier::REVERSED),
        Role::Row => (0xf0e8d9, 0x2e2a35, Reset, Reset, Modifier::BOLD),
        Role::StandIn => (0xb48a9f, 0, Magenta, Reset, Modifier::DIM.union(Modifier::ITALIC)),
        Role::Differing => (0xf0b75e, 0, LightYellow, Reset, Modifier::UNDERLINED),
        Role::Draft => (0xe2f2e8, 0x24504a, Black, Green, Modifier::BOLD.union(Modifier::ITALIC)),
        Role::Guard => (0x1b1a1f, 0xe58a6f, Black, Red, Modifier::REVERSED.union(Modifier::BOLD)),
    }
}

fn foolscap(role: Role) -> Look {
    use Color::{Black, Blue, Cyan, DarkGray, Green, Magenta, Red, Reset, White, Yellow};
    const GROUND: u32 = 0xf7f2e4;
    const RESULT: u32 = 0xf1ebda;
    const EDGE: u32 = 0xe4dcc7;
    match role {
        Role::Text => (0x2b2a33, GROUND, Reset, Reset, PLAIN),
        Role::Value => (0x2b2a33, RESULT, Reset, Reset, PLAIN),
        Role::Edge => (0x3d3a40, EDGE, Reset, Reset, PLAIN),
        Role::Overlay => (0x2b2a33, 0xe9e1cb, Reset, Reset, PLAIN),
        Role::Faint => (0x655f55, 0, DarkGray, Reset, Modifier::DIM),
        Role::Rule => (0xc3b99f, 0, DarkGray, Reset, Modifier::DIM),
        Role::Accent => (0x8a4b0f, 0, Blue, Reset, Modifier::BOLD),
        Role::Keyword => (0x7a4a12, 0, Blue, Reset, Modifier::BOLD),
        Role::Quoted => (0x3f6b2f, 0, Green, Reset, PLAIN),
        Role::Number => (0x215e78, 0, Cyan, Reset, PLAIN),
        Role::Comment => (0x665f50, 0, DarkGray, Reset, Modifier::ITALIC),
        Role::Name => (0x6d3f7d, 0, Magenta, Reset, PLAIN),
        Role::Done => (0x3f6b2f, 0, Green, Reset, PLAIN),
        Role::Failed => (0xa8321a, 0, Red, Reset, Modifier::BOLD),
        Role::Wrong => (0xa8321a, 0, Red, Reset, Modifier::UNDERLINED),
        Role::Stopped => (0x775c0e, 0, Yellow, Reset, PLAIN),
        Role::Running => (0x8a4b0f, 0, Blue, Reset, Modifier::BOLD),
        Role::Selected => (0x201f26, 0xdcc99a, White, Blue, Modifier::REVERSED),
        Role::Cell => (0xfaf6ea, 0x8a4b0f, White, Blue, Modifier::REVERSED),
        Role::Row => (0x201f26, 0xe6dec6, Reset, Reset, Modifier::BOLD),
        Role::StandIn => (0x93466b, 0, Magenta, Reset, Modifier::DIM.union(Modifier::ITALIC)),
        Role::Differing => (0x8a4b0f, 0, Blue, Reset, Modifier::UNDERLINED),
        Role::Draft => (0x12372e, 0xbfdccb, Black, Green, Modifier::BOLD.union(Modifier::ITALIC)),
        Role::Guard => (0xfaf6ea, 0xa8321a, Black, Red, Modifier::REVERSED.union(Modifier::BOLD)),
    }
}

impl Theme {
    /// A theme for a terminal with so many colours.
    pub fn new(name: Name, depth: Depth) -> Theme {
        Theme { name, depth }
    }

    /// How a role looks. A role without a ground of its own leaves the ground as it is.
    pub fn style(&self, role: Role) -> Style {
        let (fg, bg, fg16, bg16, modifier) = match self.name {
            Name::Lamplight => lamplight(role),
            Name::Foolscap => foolscap(role),
        };
        let colour = |rgb: u32| match self.depth {
            Depth::Full => Color::Rgb((rgb >> 16) as u8, (rgb >> 8) as u8, rgb as u8),
            _ => Color::Indexed(indexed(rgb)),
        };
        // Where colours tell what is faint or chosen, modifiers would only blur it.
        let carried = Modifier::DIM | Modifier::REVERSED;
        match self.depth {
            Depth::Full | Depth::Indexed => {
                let style = Style::new().fg(colour(fg)).add_modifier(modifier - carried);
                if bg == 0 { style } else { style.bg(colour(bg)) }
            }
            Depth::Sixteen => {
                let style = Style::new().fg(fg16).add_modifier(modifier - carried);
                if bg16 == Color::Reset { style } else { style.bg(bg16) }
            }
            Depth::None => Style::new().add_modifier(modifier),
        }
    }
}

impl Theme {
    /// Whether the terminal has colours enough to tell series apart by them.
    pub fn has_colours(&self) -> bool {
        matches!(self.depth, Depth::Full | Depth::Indexed)
    }

    /// A piece of a picture that lies on `ground`: what it is painted with, and what below it.
    pub fn painted(&self, paint: Paint, below: Paint, ground: Style) -> Style {
        let look = if self.name == Name::Lamplight { picture::Look::Dark } else { picture::Look::Light };
        let colour = |paint: Paint| -> Option<Color> {
            let [red, green, blue] = look.colour(paint);
            match (self.depth, paint) {
                // The ground is that of what the picture lies on.
                (_, Paint::Ground) => ground.bg,
                (Depth::Full, _) => Some(Color::Rgb(red, green, blue)),
                (Depth::Indexed, _) => {
                    Some(Color::Indexed(indexed(u32::from(red) << 16 | u32::from(green) << 8 | u32::from(blue))))
                }
                (Depth::Sixteen, Paint::Series(n) | Paint::Soft(n)) => {
                    use Color::{Blue, Cyan, Gray, Green, LightBlue, Magenta, Red, Yellow};
                    Some([Blue, Yellow, Green, Magenta, Cyan, Red, LightBlue, Gray][usize::from(n % 8)])
                }
                (Depth::Sixteen, Paint::Alarm) => Some(Color::Red),
                (Depth::Sixteen, Paint::Faint | Paint::Rule) => Some(Color::DarkGray),
                (Depth::Sixteen | Depth::None, _) => None,
            }
        };
        let mut style = ground;
        style.fg = colour(paint).or(ground.fg);
        style.bg = colour(below).or(ground.bg);
        style
    }
}

/// The nearest of the xterm palette's 6×6×6 cube and its 24 greys.
fn indexed(rgb: u32) -> u8 {
    let parts = [16, 8, 0].map(|shift| (rgb >> shift & 0xff) as i32);
    let level = |v: i32| {
        if v < 48 {
            0
        } else if v < 115 {
            1
        } else {
            (v - 35) / 40
        }
    };
    let value = |l: i32| if l == 0 { 0 } else { 55 + 40 * l };
    let distance = |other: [i32; 3]| (0..3).map(|i| (parts[i] - other[i]).pow(2)).sum::<i32>();
    let cube = parts.map(level);
    let grey = ((parts.iter().sum::<i32>() / 3 - 3) / 10).clamp(0, 23);
    if distance([8 + 10 * grey; 3]) < distance(cube.map(value)) {
        (232 + grey) as u8
    } else {
        (16 + 36 * cube[0] + 6 * cube[1] + cube[2]) as u8
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_environment_tells_the_depth() {
        let depth = |vars: &[(&str, &str)]| {
            Depth::of_environment(|name| vars.iter().find(|(n, _)| *n == name).map(|(_, v)| (*v).to_owned()))
        };
        assert_eq!(depth(&[("TERM", "xterm-256color"), ("COLORTERM", "truecolor")]), Depth::Full);
        assert_eq!(depth(&[("TERM", "tmux-256color")]), Depth::Indexed);
        assert_eq!(depth(&[("TERM", "xterm")]), Depth::Sixteen);
        assert_eq!(depth(&[("TERM", "xterm-256color"), ("NO_COLOR", "1")]), Depth::None);
    }

    #[test]
    fn the_palette_is_hit_exactly_where_it_can_be() {
        for (rgb, index) in
            [(0x000000, 16), (0xffffff, 231), (0xff0000, 196), (0x5f87af, 67), (0x080808, 232), (0x808080, 244)]
        {
            assert_eq!(indexed(rgb), index, "{rgb:06x}");
        }
    }

    /// The relative luminance of a colour, by the definition of WCAG 2.2.
    fn luminance(rgb: u32) -> f64 {
        let part = |shift: u32| {
            let value = f64::from(rgb >> shift & 0xff) / 255.0;
            if value <= 0.04045 { value / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * part(16) + 0.7152 * part(8) + 0.0722 * part(0)
    }

    /// How well one colour is read on another: from 1 to 21.
    fn contrast(a: u32, b: u32) -> f64 {
        let (a, b) = (luminance(a), luminance(b));
        (a.max(b) + 0.05) / (a.min(b) + 0.05)
    }

    #[test]
    fn everything_that_is_written_can_be_read() {
        use Role::{
            Accent, Cell, Comment, Differing, Done, Edge, Failed, Faint, Guard, Keyword, Name as NameRole, Number,
            Overlay, Quoted, Row, Running, Selected, StandIn, Stopped, Text, Value, Wrong,
        };
        assert!((contrast(0, 0xffffff) - 21.0).abs() < 1e-9);
        for (name, look) in [("lamplight", lamplight as fn(Role) -> Look), ("foolscap", foolscap)] {
            for role in [Text, Value, Edge, Overlay, Row, Selected, Cell, Guard] {
                let (fg, bg, ..) = look(role);
                assert!(contrast(fg, bg) >= 6.0, "{role:?} of {name}: {:.2}", contrast(fg, bg));
            }
            // What has no ground of its own stands on that of any area, and in the row in hand.
            for role in [
                Faint, Accent, Keyword, Quoted, Number, Comment, NameRole, Done, Failed, Wrong, Stopped, Running,
                StandIn, Differing,
            ] {
                for ground in [Text, Value, Edge, Overlay, Row] {
                    let found = contrast(look(role).0, look(ground).1);
                    assert!(found >= 4.5, "{role:?} on {ground:?} of {name}: {found:.2}");
                }
            }
        }
    }

    #[test]
    fn areas_differ_from_each_other() {
        for look in [lamplight as fn(Role) -> Look, foolscap] {
            let grounds = [Role::Text, Role::Value, Role::Edge, Role::Overlay].map(|role| look(role).1);
            for (at, ground) in grounds.iter().enumerate() {
                assert!(grounds.iter().skip(at + 1).all(|other| contrast(*ground, *other) > 1.03), "{ground:06x}");
            }
        }
    }

    #[test]
    fn without_colour_what_differs_still_differs() {
        let theme = Theme::new(Name::Lamplight, Depth::None);
        for role in [Role::Selected, Role::Cell, Role::Guard, Role::StandIn, Role::Differing, Role::Failed] {
            let style = theme.style(role);
            assert_eq!((style.fg, style.bg), (None, None));
            assert!(!style.add_modifier.is_empty(), "{role:?}");
        }
    }
}
