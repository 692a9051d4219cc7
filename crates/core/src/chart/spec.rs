//! What a person wants to see of rows, as words: `line x=day y=taken by=route step=month`.

use std::fmt;

use jaunty_picture::Look;

use crate::connection::nearest;

/// What is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// A line from point to point.
    Line,
    /// The area below a line.
    Area,
    /// A bar for each name or step of time.
    Bar,
    /// A mark for each row, by two numbers.
    Scatter,
    /// How often values come, by ranges of them.
    Histogram,
    /// Median, quartiles and ends of a column's values.
    Box,
    /// How often pairs of values come, or what a third column holds there.
    Heat,
    /// A mark for each row at its longitude and latitude.
    Map,
}

/// How several series share a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Stack {
    /// Beside each other, or over each other where they are lines.
    #[default]
    Beside,
    /// On top of each other.
    Stacked,
    /// On top of each other, as parts of 100 %.
    Share,
}

/// What is made of several values at one place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Aggregate {
    /// Their sum.
    Sum,
    /// Their arithmetic mean.
    Mean,
    /// How many there are.
    Count,
    /// The least.
    Min,
    /// The greatest.
    Max,
    /// The one in the middle.
    Median,
}

/// A step of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Step {
    /// A minute.
    Minute,
    /// An hour.
    Hour,
    /// A day.
    Day,
    /// A week, from Monday (ISO 8601).
    Week,
    /// A month.
    Month,
    /// A quarter of a year.
    Quarter,
    /// A year.
    Year,
}

/// Declares the words for the values of a choice, in the order in which keys go through them.
macro_rules! words {
    ($of:ident: $($value:ident $word:literal),+) => {
        impl $of {
            /// All, in the order in which they are offered.
            pub const ALL: &[$of] = &[$($of::$value),+];

            /// The word for it.
            pub fn word(self) -> &'static str {
                match self {
                    $($of::$value => $word,)+
                }
            }

            /// The one with this word.
            pub fn from_word(word: &str) -> Option<$of> {
                $of::ALL.iter().copied().find(|one| one.word().eq_ignore_ascii_case(word))
            }
        }
    };
}

words!(Kind: Line "line", Area "area", Bar "bar", Scatter "scatter", Histogram "histogram", Box "box", Heat "heat", Map "map");
words!(Stack: Beside "beside", Stacked "stacked", Share "share");
words!(Aggregate: Sum "sum", Mean "mean", Count "count", Min "min", Max "max", Median "median");
words!(Step: Minute "minute", Hour "hour", Day "day", Week "week", Month "month", Quarter "quarter", Year "year");

/// The size of a picture on paper, in points.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Size {
    /// From side to side.
    pub width: f32,
    /// From top to bottom.
    pub height: f32,
}

impl Default for Size {
    fn default() -> Size {
        Size { width: 640.0, height: 400.0 }
    }
}

/// What is to be drawn. What is not said follows from the columns.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Spec {
    /// The kind.
    pub kind: Option<Kind>,
    /// The column along the lower edge.
    pub x: Option<String>,
    /// The columns along the left edge: several are a series each.
    pub y: Vec<String>,
    /// The column whose values are a series each.
    pub by: Option<String>,
    /// The column whose values are a small picture each.
    pub each: Option<String>,
    /// The column that a heat map shows.
    pub of: Option<String>,
    /// What is made of several values at one place.
    pub aggregate: Option<Aggregate>,
    /// The step of time.
    pub step: Option<Step>,
    /// Whether the left edge counts in powers.
    pub log: bool,
    /// Whether the left edge begins at 0.
    pub zero: Option<bool>,
    /// How several series share a place.
    pub stack: Stack,
    /// How many names or series are shown; the others are one.
    pub top: Option<usize>,
    /// What stands above it.
    pub title: Option<String>,
    /// Light or dark, on paper.
    pub look: Look,
    /// Its size on paper, if it is not to be as the chart wants it.
    pub size: Option<Size>,
}

/// The keys of [`Spec::set`], each with a line of help.
pub const OPTIONS: [(&str, &str); 14] = [
    ("x", "the column of the x axis"),
    ("y", "the columns of the y axis, with commas between"),
    ("by", "the column that splits the rows into series"),
    ("each", "the column that splits it into small multiples"),
    ("of", "the column that a heat map shows"),
    ("aggregate", "sum, mean, count, min, max or median: how several values at one x are combined"),
    ("step", "minute, hour, day, week, month, quarter or year: the step of time"),
    ("stack", "beside, stacked or share: how several series share a place"),
    ("log", "yes or no: whether the y axis is logarithmic"),
    ("zero", "yes or no: whether the y axis begins at 0"),
    ("top", "a number: how many names or series are shown, the others as one"),
    ("title", "what stands above it"),
    ("look", "light or dark"),
    ("size", "a4, or width and height in points such as 640x400"),
];

impl Spec {
    /// Sets one by its key. The error says what may stand there; None if the key is none of a chart.
    pub fn set(&mut self, key: &str, value: &str) -> Option<Result<(), String>> {
        let (_, help) = OPTIONS.iter().find(|(name, _)| *name == key)?;
        let wrong = || format!("{key} is {help}; \"{value}\" is not");
        let yes = |value: &str| match value {
            "yes" => Some(true),
            "no" => Some(false),
            _ => None,
        };
        let name = || Some(value.to_owned()).filter(|value| !value.is_empty());
        let set = match key {
            "x" => name().map(|name| self.x = Some(name)),
            "y" => {
                self.y = value.split(',').map(|name| name.trim().to_owned()).filter(|name| !name.is_empty()).collect();
                (!self.y.is_empty()).then_some(())
            }
            "by" => name().map(|name| self.by = Some(name)),
            "each" => name().map(|name| self.each = Some(name)),
            "of" => name().map(|name| self.of = Some(name)),
            "aggregate" => Aggregate::from_word(value).map(|one| self.aggregate = Some(one)),
            "step" => Step::from_word(value).map(|one| self.step = Some(one)),
            "stack" => Stack::from_word(value).map(|one| self.stack = one),
            "log" => yes(value).map(|one| self.log = one),
            "zero" => yes(value).map(|one| self.zero = Some(one)),
            "top" => value.parse().ok().filter(|top| (1..=1000).contains(top)).map(|top| self.top = Some(top)),
            "title" => name().map(|name| self.title = Some(name)),
            "look" => match value {
                "light" => Some(Look::Light),
                "dark" => Some(Look::Dark),
                _ => None,
            }
            .map(|look| self.look = look),
            _ => size(value).map(|size| self.size = Some(size)),
        };
        Some(set.ok_or_else(wrong))
    }

    /// Takes a word without a value: a kind.
    pub fn take_word(&mut self, word: &str) -> Result<(), String> {
        match Kind::from_word(word) {
            Some(kind) => self.kind = Some(kind),
            None => {
                let kinds: Vec<&str> = Kind::ALL.iter().map(|kind| kind.word()).collect();
                let near = nearest(word, kinds.iter().copied());
                let near = near.map(|near| format!(" · did you mean \"{near}\"?")).unwrap_or_default();
                return Err(format!("\"{word}\" is not a kind of chart: {}{near}", kinds.join(", ")));
            }
        }
        Ok(())
    }
}

/// It as a person would write it, without what follows from the columns.
impl fmt::Display for Spec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let quoted = |value: &str| match value.contains(char::is_whitespace) {
            true => format!("\"{value}\""),
            false => value.to_owned(),
        };
        let mut words: Vec<String> = self.kind.iter().map(|kind| kind.word().to_owned()).collect();
        let y = Some(self.y.join(",")).filter(|y| !y.is_empty());
        let names = [("x", &self.x), ("y", &y), ("by", &self.by), ("each", &self.each), ("of", &self.of)];
        for (key, value) in names.into_iter().chain([("title", &self.title)]) {
            if let Some(value) = value {
                words.push(match value.contains(char::is_whitespace) {
                    true => quoted(&format!("{key}={value}")),
                    false => format!("{key}={value}"),
                });
            }
        }
        words.extend(self.aggregate.map(|one| format!("aggregate={}", one.word())));
        words.extend(self.step.map(|one| format!("step={}", one.word())));
        words.extend((self.stack != Stack::Beside).then(|| format!("stack={}", self.stack.word())));
        words.extend(self.log.then(|| "log=yes".to_owned()));
        words.extend(self.zero.map(|zero| format!("zero={}", if zero { "yes" } else { "no" })));
        words.extend(self.top.map(|top| format!("top={top}")));
        f.write_str(&words.join(" "))
    }
}

fn size(value: &str) -> Option<Size> {
    if value.eq_ignore_ascii_case("a4") {
        let (width, height) = jaunty_picture::pdf::A4;
        return Some(Size { width, height });
    }
    let (width, height) = value.split_once('x')?;
    let side = |text: &str| text.parse::<f32>().ok().filter(|side| (120.0..=10_000.0).contains(side));
    Some(Size { width: side(width)?, height: side(height)? })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(words: &[&str]) -> Result<Spec, String> {
        let mut spec = Spec::default();
        for word in words {
            match word.split_once('=') {
                Some((key, value)) => spec.set(key, value).unwrap_or_else(|| Err(format!("no key {key}")))?,
                None => spec.take_word(word)?,
            }
        }
        Ok(spec)
    }

    #[test]
    fn words_are_read_and_written() {
        let words =
            ["line", "x=day", "y=taken,lost", "by=route", "aggregate=mean", "step=month", "stack=share", "top=5"];
        let spec = read(&words).unwrap();
        assert_eq!((spec.kind, spec.y.len(), spec.step), (Some(Kind::Line), 2, Some(Step::Month)));
        assert_eq!(spec.to_string(), words.join(" "));
        assert_eq!(read(&["size=a4"]).unwrap().size, Some(Size { width: 841.89, height: 595.28 }));
        assert_eq!(read(&["title=Late sailings"]).unwrap().to_string(), "\"title=Late sailings\"");
    }

    #[test]
    fn mistakes_say_what_may_stand_there() {
        for (word, message) in [
            (
                "lines",
                "\"lines\" is not a kind of chart: line, area, bar, scatter, histogram, box, heat, map · did you mean \"line\"?",
            ),
            ("top=0", "top is a number: how many names or series are shown, the others as one; \"0\" is not"),
            ("step=moon", "step is minute, hour, day, week, month, quarter or year: the step of time; \"moon\" is not"),
            ("size=9x9", "size is a4, or width and height in points such as 640x400; \"9x9\" is not"),
            ("log=maybe", "log is yes or no: whether the y axis is logarithmic; \"maybe\" is not"),
        ] {
            assert_eq!(read(&[word]).unwrap_err(), message);
        }
        assert!(Spec::default().set("separator", ";").is_none());
    }
}
