//! What was found out about a file from its first rows: the types of its columns, the form of its days.

use jaunty_language::dialect::{ColumnType, Dialect};
use jaunty_seam::catalog::{Catalog, Column};
use jaunty_seam::rows::moment;
use jaunty_seam::rows::nested::Nested;

use super::Numbers;
use crate::slip::Kind;

/// The order in which a day is written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Dates {
    /// `2031-03-05`.
    #[default]
    Iso,
    /// `05.03.2031`, with any sign between.
    DayFirst,
    /// `03/05/2031`.
    MonthFirst,
}

impl Dates {
    /// By its word on a command line.
    pub fn of_word(word: &str) -> Option<Dates> {
        Some(match word {
            "ymd" | "iso" => Dates::Iso,
            "dmy" => Dates::DayFirst,
            "mdy" => Dates::MonthFirst,
            _ => return None,
        })
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Dates::Iso => "ymd",
            Dates::DayFirst => "dmy",
            Dates::MonthFirst => "mdy",
        }
    }

    /// A day, with a time of day after it if there is one, as all servers read it; none if it is not written so.
    pub fn iso(self, text: &str) -> Option<String> {
        if self == Dates::Iso {
            return Some(text.to_owned());
        }
        let text = text.trim();
        let (date, clock) = text.split_once([' ', 'T']).map_or((text, ""), |(date, clock)| (date, clock.trim()));
        let parts: Vec<&str> = date.split(['.', '/', '-']).collect();
        let [first, second, year] = parts[..] else { return None };
        let (day, month) = if self == Dates::DayFirst { (first, second) } else { (second, first) };
        let number = |text: &str, most: usize| -> Option<u32> {
            (1..=most).contains(&text.len()).then(|| text.parse().ok()).flatten()
        };
        let (day, month, year) = (number(day, 2)?, number(month, 2)?, number(year, 4).filter(|_| year.len() == 4)?);
        let iso = format!("{year:04}-{month:02}-{day:02}");
        moment::day(&iso)?;
        Some(if clock.is_empty() { iso } else { format!("{iso} {clock}") })
    }
}

/// What a file holds, as far as its first rows tell.
#[derive(Debug, Clone, Default)]
pub struct Found {
    /// The columns.
    pub columns: Vec<FoundColumn>,
    /// How many rows were looked at.
    pub rows: u64,
    /// Whether those are all.
    pub all: bool,
    /// The language of the database that the rows come from, where they come from one.
    pub language: Option<&'static Dialect>,
}

/// A column of a file.
#[derive(Debug, Clone)]
pub struct FoundColumn {
    /// Its name.
    pub name: String,
    /// Its type, as the database names it that the rows come from; empty where they come from none.
    pub declared: String,
    /// What its values are.
    pub shape: Shape,
    /// The order in which its days are written.
    pub dates: Dates,
    /// How its numbers are written.
    pub numbers: Numbers,
    /// The most digits after a point that a time has.
    pub fraction: usize,
    /// How many values are not there.
    pub nulls: u64,
    /// Whether its values are different from each other, as far as they were looked at.
    pub distinct: bool,
    /// The first values, to be shown.
    pub examples: Vec<String>,
}

/// What the values of a column are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Shape {
    /// Their type.
    pub of: ColumnType,
    /// Whether the column has it, and not only all of its values that were looked at.
    pub typed: bool,
    /// Whether its values are texts where numbers could have been, too: in quotation marks, or of a database.
    pub texts: bool,
    /// The most digits after a point.
    pub scale: u32,
    /// Whether a server whose decimals are floating-point numbers keeps every number as it is written.
    pub exact: bool,
    /// The longest text, in characters.
    pub longest: usize,
}

impl FoundColumn {
    /// What its values are: by the type that a database of the language `from` has for them, where that says more than they
    /// do. Digits in a column of text are text. Where a column takes values of any type, its own says nothing of them.
    pub fn of(&self, from: Option<&Dialect>) -> ColumnType {
        if self.shape.typed {
            return self.shape.of;
        }
        let looks = match self.shape.of {
            ColumnType::Integer | ColumnType::Long | ColumnType::Decimal | ColumnType::Real | ColumnType::Boolean
                if self.shape.texts =>
            {
                ColumnType::Text
            }
            looks => looks,
        };
        let Some(from) = from else { return looks };
        match self.declared_kind(Some(from)) {
            // Of documents a decimal is kept as text, and a value of Redis is nothing else.
            None if from.changing.is_none() && !matches!(self.declared.as_str(), "string" | "objectId") => {
                self.shape.of
            }
            None => looks,
            Some(Kind::Json | Kind::Array) => ColumnType::Json,
            Some(Kind::Uuid) => ColumnType::Uuid,
            // What is kept as text only because some of its values have no other form.
            Some(Kind::Integer(..) | Kind::Decimal(_) | Kind::Real | Kind::Boolean | Kind::Bits(_) | Kind::Flag) => {
                self.shape.of
            }
            Some(Kind::Date | Kind::Time | Kind::Moment) => self.shape.of,
            Some(_) => ColumnType::Text,
        }
    }

    /// What its own type says of its values; nothing where a column takes values of any type.
    fn declared_kind(&self, from: Option<&Dialect>) -> Option<Kind> {
        let from = from.filter(|from| from.changing.is_some_and(|changing| !changing.loose_types))?;
        let column = Column { db_type: self.declared.clone(), ..Column::default() };
        Some(Kind::of(&column, &Catalog::default(), from))
    }

    /// The lists that its values are, where they are not written as JSON.
    /// They become JSON in a column of this kind, but stay in one that has such, and in one of text of the same kind of server.
    pub(super) fn lists_for(&self, kind: &Kind, is_same: bool) -> Option<Nested> {
        let lists = Nested::of(&self.declared.to_ascii_lowercase());
        let become_json = *kind == Kind::Json || (*kind != Kind::Array && !is_same);
        lists.filter(|lists| become_json && matches!(lists, Nested::Array(_)))
    }

    /// What documents do not keep of the values.
    pub(super) fn lost_in_documents(&self) -> Option<&'static str> {
        // BSON, "datetime": milliseconds since 1970.
        let is_time = matches!(self.shape.of, ColumnType::Moment | ColumnType::Instant);
        (is_time && self.fraction > 3).then_some("milliseconds are kept, and some values have more digits")
    }

    /// The type of a column for them; `from` is the language that its own type is one of. A key of text needs a length on
    /// some servers.
    pub fn db_type(&self, is_key: bool, dialect: &Dialect, from: Option<&Dialect>) -> String {
        let of = self.of(from);
        let Some(changing) = dialect.changing else {
            let is_exact = self.shape.typed || matches!(self.declared_kind(from), Some(Kind::Decimal(_)));
            let exact = dialect.type_of_decimals().filter(|_| of == ColumnType::Decimal && is_exact);
            let types = dialect.types_of_rows();
            return exact.or(types.map(|types| types[of as usize])).unwrap_or("text").to_owned();
        };
        let is_long = |named: &str| named.contains("longtext") || named.contains("max");
        let is_same = from.is_some_and(|from| from.name == dialect.name) && changing.keeps(&self.declared);
        if is_same && !(is_key && is_long(&self.declared)) {
            return self.declared.to_ascii_lowercase();
        }
        // A number that would lose digits is kept as text.
        let loses = of == ColumnType::Decimal && changing.decimals_are_doubles && !self.shape.exact;
        let of = if loses { ColumnType::Text } else { of };
        let named = changing.type_of(of, self.shape.scale);
        match is_key && of == ColumnType::Text && is_long(&named) {
            true => format!("{}varchar(255)", if named.starts_with('n') { "n" } else { "" }),
            false => named,
        }
    }
}

/// Sees the values of one column, and says what all of them are.
#[derive(Debug)]
pub(super) struct Seeing {
    /// What is still possible.
    could: Vec<ColumnType>,
    day_first: bool,
    month_first: bool,
    iso: bool,
    scale: u32,
    exact: bool,
    /// The numbers of another writing that all of them could be.
    written: [Written; 2],
    longest: usize,
    pub fraction: usize,
    values: u64,
    pub nulls: u64,
    seen: std::collections::HashSet<u64>,
    distinct: bool,
    pub examples: Vec<String>,
}

/// Numbers in another writing than the usual one.
#[derive(Debug)]
struct Written {
    numbers: Numbers,
    /// The type that all of them have, if all are such.
    could: Option<ColumnType>,
    /// Whether one of them can be read in no other way.
    clear: bool,
    scale: u32,
    exact: bool,
}

impl Written {
    fn new(numbers: Numbers) -> Written {
        Written { numbers, could: Some(ColumnType::Integer), clear: false, scale: 0, exact: true }
    }

    /// Whether a text is such a number.
    fn see(&mut self, text: &str) -> bool {
        let Some(plain) = self.numbers.plain(text) else {
            self.could = None;
            return false;
        };
        self.exact &= is_exact(&plain);
        let fraction = plain.split_once('.').map_or(0, |(_, fraction)| fraction.len());
        self.scale = self.scale.max(fraction as u32);
        let wider = |of: &ColumnType| [ColumnType::Integer, ColumnType::Long, ColumnType::Decimal].contains(of);
        self.could = self.could.and_then(|could| {
            let rest = TRIED.iter().skip_while(|of| **of != could).filter(|of| wider(of));
            rest.copied().find(|of| is_of(*of, &plain, None))
        });
        true
    }
}

/// What is tried, the narrowest first.
const TRIED: [ColumnType; 10] = [
    ColumnType::Integer,
    ColumnType::Long,
    ColumnType::Decimal,
    ColumnType::Real,
    ColumnType::Boolean,
    ColumnType::Date,
    ColumnType::Time,
    ColumnType::Moment,
    ColumnType::Instant,
    ColumnType::Uuid,
];

impl Default for Seeing {
    fn default() -> Seeing {
        Seeing {
            could: TRIED.into_iter().chain([ColumnType::Json]).collect(),
            day_first: true,
            month_first: true,
            iso: true,
            scale: 0,
            exact: true,
            written: [Written::new(Numbers::Comma), Written::new(Numbers::Point)],
            longest: 0,
            fraction: 0,
            values: 0,
            nulls: 0,
            seen: std::collections::HashSet::new(),
            distinct: true,
            examples: Vec::new(),
        }
    }
}

impl Seeing {
    pub fn see(&mut self, value: Option<&str>) {
        let Some(text) = value else {
            self.nulls += 1;
            return;
        };
        self.values += 1;
        self.longest = self.longest.max(text.chars().count());
        if self.examples.len() < 3 {
            self.examples.push(text.chars().take(60).collect());
        }
        if self.distinct {
            use std::hash::{DefaultHasher, Hash, Hasher};
            let mut hasher = DefaultHasher::new();
            text.hash(&mut hasher);
            self.distinct = self.seen.insert(hasher.finish());
        }
        let [comma, point] = &mut self.written;
        if comma.could.is_some() || point.could.is_some() {
            let (by_comma, by_point) = (comma.see(text), point.see(text));
            // Points alone stand in addresses and versions, too.
            comma.clear |= by_comma && !by_point && text.contains(',');
            point.clear |= by_point && !by_comma;
        }
        // Of a text like any other nothing is tried any more.
        if self.could.is_empty() {
            return;
        }
        let looks_like_a_day = text.len() >= 8 && text.starts_with(|c: char| c.is_ascii_digit());
        let tried = |dates: Dates, is_left: bool| dates.iso(text).filter(|_| is_left);
        let (day_first, month_first) = match looks_like_a_day {
            true => (tried(Dates::DayFirst, self.day_first), tried(Dates::MonthFirst, self.month_first)),
            false => (None, None),
        };
        let is_iso = |text: &str| moment::day(text.get(..10).unwrap_or(text)).is_some();
        self.iso &= looks_like_a_day && is_iso(text);
        self.day_first &= day_first.is_some();
        self.month_first &= month_first.is_some();
        let iso = if self.iso { Some(text.to_owned()) } else { day_first.or(month_first) };
        if let Some((_, fraction)) = text.split_once('.') {
            self.scale = self.scale.max(fraction.len() as u32);
            let digits = fraction.bytes().take_while(u8::is_ascii_digit);
            let kept = digits.enumerate().filter(|(_, digit)| *digit != b'0').map(|(at, _)| at + 1).last();
            self.fraction = self.fraction.max(kept.unwrap_or(0));
        }
        self.exact &= is_exact(text);
        self.could.retain(|of| is_of(*of, text, iso.as_deref()));
    }

    /// What all of them are. Days and numbers that could be written either way are text, since nobody can know, unless a
    /// person says how they are written.
    pub fn shape(&self, told: Option<Dates>, numbers: Option<Numbers>) -> (Shape, Dates, Numbers) {
        let dates = match (self.iso, self.day_first, self.month_first) {
            (true, ..) => Dates::Iso,
            (_, true, true) => told.unwrap_or_default(),
            (_, true, false) => Dates::DayFirst,
            (_, false, true) => Dates::MonthFirst,
            _ => Dates::Iso,
        };
        let is_unclear = dates == Dates::Iso && !self.iso && self.day_first && self.month_first;
        let first = self.could.first().copied().filter(|_| self.values > 0);
        let of = match first {
            Some(ColumnType::Date | ColumnType::Moment) if is_unclear => ColumnType::Text,
            Some(of) => of,
            None => ColumnType::Text,
        };
        let written = self.written.iter().find(|written| match numbers {
            Some(told) => written.numbers == told,
            None => written.clear,
        });
        // `1.234` is a number of the usual writing, too: only a person can say that it is not.
        let others = written.filter(|_| self.values > 0 && (of == ColumnType::Text || numbers.is_some()));
        if let Some((written, of)) = others.and_then(|written| Some((written, written.could?))) {
            let scale = written.scale.min(30);
            let shape = Shape { of, typed: false, texts: false, scale, exact: written.exact, longest: self.longest };
            return (shape, dates, written.numbers);
        }
        let scale = self.scale.min(30);
        (
            Shape { of, typed: false, texts: false, scale, exact: self.exact, longest: self.longest },
            dates,
            Numbers::Plain,
        )
    }

    /// Whether all values are days in the usual order.
    pub fn is_iso(&self) -> bool {
        self.iso && self.values > 0
    }

    pub fn is_distinct(&self) -> bool {
        self.distinct && self.nulls == 0 && self.values > 0
    }
}

/// Whether a number stays what it is where decimals are floating-point numbers: as a whole one of 64 bits, or because
/// it is the shortest text of its floating-point number. What is no number stays, too.
pub(super) fn is_exact(text: &str) -> bool {
    // Of so few digits every one stays (IEEE 754, 5.12.2).
    const ALWAYS: usize = 15;
    if text.len() <= ALWAYS || text.parse::<i64>().is_ok() {
        return true;
    }
    let Ok(number) = text.parse::<f64>() else { return true };
    let digits = |text: &str| -> String {
        let mantissa = text.split(['e', 'E']).next().unwrap_or_default();
        let whole = mantissa.bytes().filter(u8::is_ascii_digit).map(char::from);
        let digits: String = whole.skip_while(|digit| *digit == '0').collect();
        digits.trim_end_matches('0').to_owned()
    };
    digits(text) == digits(&format!("{number:e}"))
}

/// Whether a text is a value of a type. `iso` is it as a day in the usual form.
fn is_of(of: ColumnType, text: &str, iso: Option<&str>) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    // `007` is a name of somebody and no number.
    let is_number = !(digits.len() > 1 && digits.starts_with('0') && !digits.starts_with("0."))
        && digits.starts_with(|c: char| c.is_ascii_digit());
    match of {
        ColumnType::Integer => is_number && text.parse::<i32>().is_ok(),
        ColumnType::Long => is_number && text.parse::<i64>().is_ok(),
        ColumnType::Decimal => {
            is_number
                && digits.len() <= 36
                && digits.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.')
                && digits.matches('.').count() <= 1
                && !digits.ends_with('.')
        }
        ColumnType::Real => is_number && text.parse::<f64>().is_ok_and(f64::is_finite) && is_exact(text),
        ColumnType::Boolean => matches!(text, "true" | "false" | "TRUE" | "FALSE" | "True" | "False" | "t" | "f"),
        ColumnType::Date => iso.is_some_and(|iso| moment::day(iso).is_some() && iso.len() == 10),
        ColumnType::Time => text.len() >= 5 && moment::time_of_day(text).is_some(),
        ColumnType::Moment => {
            iso.is_some_and(|iso| iso.len() > 10 && !has_offset(iso) && moment::instant(iso, None).is_some())
        }
        ColumnType::Instant => iso.is_some_and(|iso| has_offset(iso) && moment::instant(iso, None).is_some()),
        ColumnType::Uuid => {
            text.len() == 36
                && text.bytes().enumerate().all(|(at, byte)| match at {
                    8 | 13 | 18 | 23 => byte == b'-',
                    _ => byte.is_ascii_hexdigit(),
                })
        }
        ColumnType::Json => text.starts_with(['{', '[']) && serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok(),
        ColumnType::Text | ColumnType::Bytes => true,
    }
}

fn has_offset(text: &str) -> bool {
    text.get(10..).is_some_and(|clock| clock.contains(['Z', 'z', '+', '-']))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shape(values: &[&str]) -> (ColumnType, Dates) {
        let mut seeing = Seeing::default();
        values.iter().for_each(|value| seeing.see(Some(*value).filter(|value| !value.is_empty())));
        let (shape, dates, _) = seeing.shape(None, None);
        (shape.of, dates)
    }

    #[test]
    fn a_column_is_what_all_of_its_values_are() {
        for (values, expected) in [
            (&["1", "-20", ""][..], ColumnType::Integer),
            (&["1", "3000000000"], ColumnType::Long),
            (&["1", "2.50"], ColumnType::Decimal),
            (&["1", "2.5e3"], ColumnType::Real),
            (&["007", "1"], ColumnType::Text),
            (&["1e5", "99999999999999999999"], ColumnType::Text),
            (&["1e5", "0.12345678901234568"], ColumnType::Real),
            (&["0", "0.5"], ColumnType::Decimal),
            (&["true", "f"], ColumnType::Boolean),
            (&["2031-03-05", "2031-12-31"], ColumnType::Date),
            (&["2031-03-05", "2031-02-30"], ColumnType::Text),
            (&["07:30", "08:00:01"], ColumnType::Time),
            (&["2031-03-05 07:30:00", "2031-03-05T07:30"], ColumnType::Moment),
            (&["2031-03-05T07:30:00Z", "2031-03-05 07:30:00+02:00"], ColumnType::Instant),
            (&["2f1d7c9e-0000-4000-8000-00000000abcd"], ColumnType::Uuid),
            (&["{\"a\": 1}", "[]"], ColumnType::Json),
            (&["", ""], ColumnType::Text),
            (&["1", "one"], ColumnType::Text),
        ] {
            assert_eq!(shape(values).0, expected, "{values:?}");
        }
    }

    #[test]
    fn numbers_of_another_writing_are_found_where_they_are_clear() {
        let shape = |values: &[&str], told: Option<Numbers>| {
            let mut seeing = Seeing::default();
            values.iter().for_each(|value| seeing.see(Some(value)));
            let (shape, _, numbers) = seeing.shape(None, told);
            (shape.of, shape.scale, numbers)
        };
        use ColumnType::{Decimal, Integer, Long, Text};
        for (values, told, expected) in [
            (&["7,5", "1.234"][..], None, (Decimal, 1, Numbers::Comma)),
            (&["1.234.567", "3"], None, (Text, 0, Numbers::Plain)),
            (&["1.234.567", "3"], Some(Numbers::Comma), (Integer, 0, Numbers::Comma)),
            (&["1,234.50", "7"], None, (Decimal, 2, Numbers::Point)),
            (&["3,000,000,000"], None, (Long, 0, Numbers::Point)),
            (&["1,234", "2,345"], None, (Text, 0, Numbers::Plain)),
            (&["1,234", "2,345"], Some(Numbers::Comma), (Decimal, 3, Numbers::Comma)),
            (&["1,234", "2,345"], Some(Numbers::Point), (Integer, 0, Numbers::Point)),
            (&["1.234", "2.345"], None, (Decimal, 3, Numbers::Plain)),
            (&["1.234", "2.345"], Some(Numbers::Comma), (Integer, 0, Numbers::Comma)),
            (&["7,5", "1,234.5"], None, (Text, 0, Numbers::Plain)),
            (&["192.168.100.200"], None, (Text, 0, Numbers::Plain)),
            (&["1,2,3"], Some(Numbers::Comma), (Text, 0, Numbers::Plain)),
            (&["007,5"], None, (Text, 0, Numbers::Plain)),
            (&["quay"], Some(Numbers::Comma), (Text, 0, Numbers::Plain)),
        ] {
            let (of, scale, numbers) = shape(values, told);
            let scale = if of == Text { 0 } else { scale };
            assert_eq!((of, scale, numbers), expected, "{values:?} {told:?}");
        }
    }

    #[test]
    fn days_that_could_be_read_both_ways_are_what_a_person_says() {
        let mut seeing = Seeing::default();
        ["03/05/2031", "04/06/2031"].iter().for_each(|value| seeing.see(Some(value)));
        let (shape, dates, _) = seeing.shape(Some(Dates::DayFirst), None);
        assert_eq!((shape.of, dates), (ColumnType::Date, Dates::DayFirst));
    }

    #[test]
    fn numbers_that_doubles_do_not_keep_are_told_apart() {
        let lost = ["99999999999999999999", "0.1234567890123456789", "1234567890.123456789", "1.00000000000000000001"];
        let kept = ["9223372036854775807", "0.12345678901234568", "1.500000000000000000000", "quay", "1e300", "-0"];
        assert_eq!(lost.map(is_exact), [false; 4]);
        assert_eq!(kept.map(is_exact), [true; 6]);
        let column = |values: &[&str]| {
            let mut seeing = Seeing::default();
            values.iter().for_each(|value| seeing.see(Some(value)));
            let (shape, dates, numbers) = seeing.shape(None, None);
            let (name, declared, examples) = ("a".into(), String::new(), Vec::new());
            FoundColumn { name, declared, shape, dates, numbers, fraction: 0, nulls: 0, distinct: false, examples }
        };
        let types = |values: &[&str]| {
            use jaunty_language::dialect::{POSTGRES, SQLITE};
            [&SQLITE, &POSTGRES].map(|dialect| column(values).db_type(false, dialect, None))
        };
        assert_eq!(types(&["1.5", "2"]), ["numeric", "numeric"]);
        assert_eq!(types(&["1.5", lost[0]]), ["text", "numeric"]);
    }

    #[test]
    fn days_of_other_orders_are_told_apart_where_one_can() {
        assert_eq!(shape(&["05.03.2031", "31.12.2031"]), (ColumnType::Date, Dates::DayFirst));
        assert_eq!(shape(&["03/05/2031", "12/31/2031"]), (ColumnType::Date, Dates::MonthFirst));
        assert_eq!(shape(&["03/05/2031", "04/06/2031"]).0, ColumnType::Text, "nobody can know");
        assert_eq!(Dates::DayFirst.iso("5.3.2031 7:30").as_deref(), Some("2031-03-05 7:30"));
        assert_eq!(Dates::MonthFirst.iso("31/12/2031"), None);
        assert_eq!(shape(&["31.12.2031 07:30", "01.02.2031 08:00"]), (ColumnType::Moment, Dates::DayFirst));
    }
}
