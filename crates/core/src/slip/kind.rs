//! What the values of a column are, and whether a text is one of them.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use jaunty_language::dialect::Dialect;
use jaunty_seam::catalog::{Catalog, Column, Object, ObjectKind};
use jaunty_seam::rows::cell::is_hex;
use jaunty_seam::rows::moment;
use jaunty_seam::rows::nested::{Element, Nested, array_of};
use jaunty_seam::rows::shape::{self, is_shape};

use super::Datum;
use crate::catalog::checks;

/// What the values of a column are. The server has the last word: what is not known here is sent as text.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// Whole numbers between two.
    Integer(i128, i128),
    /// Numbers with so many digits, and so many of them after the point, where it is told.
    Decimal(Option<(u32, u32)>),
    /// Floating-point numbers.
    Real,
    /// True or false.
    Boolean,
    /// Days.
    Date,
    /// Times of day.
    Time,
    /// Points in time.
    Moment,
    /// Identifiers of 16 bytes.
    Uuid,
    /// JSON.
    Json,
    /// Lists, as the server writes them.
    Array,
    /// Bytes.
    Bytes,
    /// Points, lines and areas, as well-known text.
    Shape,
    /// Numbers of so many bits, which are written as bits too.
    Bits(u32),
    /// Small numbers, of which one and zero stand for true and false, and may be written so.
    Flag,
    /// One of these.
    Choice(Vec<String>),
    /// Any number of these, or none, with commas between.
    Several(Vec<String>),
    /// Text, of so many characters at most.
    Text(Option<usize>),
    /// Values of any type as the language writes them, of which this one is the usual one.
    Value(String),
    /// Whatever is given: the column has no type.
    #[default]
    Any,
    /// Something that only the server can check.
    Other,
}

/// Why a text is not a value of a column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mistake {
    /// The server would refuse it.
    Wrong(String),
    /// The server takes it, and it is not what the column's type says.
    Unusual(String),
}

impl Mistake {
    /// The sentence.
    pub fn text(&self) -> &str {
        match self {
            Mistake::Wrong(text) | Mistake::Unusual(text) => text,
        }
    }
}

/// Makes what a type's values are of what stands after its name.
type Make = fn(&Arguments) -> Kind;

/// Names of types and what they are. The longest name that a type begins with counts.
const NAMES: &[(&str, Make)] = &[
    ("tinyint", |args| args.of_bits(8)),
    ("smallint", |args| args.of_bits(16)),
    ("smallserial", |args| args.of_bits(16)),
    ("int2", |args| args.of_bits(16)),
    ("mediumint", |args| args.of_bits(24)),
    ("int", |args| args.of_bits(32)),
    ("integer", |args| args.of_bits(32)),
    ("int4", |args| args.of_bits(32)),
    ("serial", |args| args.of_bits(32)),
    ("bigint", |args| args.of_bits(64)),
    ("bigserial", |args| args.of_bits(64)),
    ("int8", |args| args.of_bits(64)),
    // Two digits are a year between 1970 and 2069, and four from 1901 on; zero is one too.
    ("year", |_| Kind::Integer(0, 2155)),
    ("numeric", |args| Kind::Decimal(args.digits())),
    ("decimal", |args| Kind::Decimal(args.digits())),
    ("dec", |args| Kind::Decimal(args.digits())),
    ("money", |_| Kind::Other),
    ("smallmoney", |_| Kind::Decimal(Some((10, 4)))),
    ("real", |_| Kind::Real),
    ("double", |_| Kind::Real),
    ("float", |_| Kind::Real),
    ("bool", |_| Kind::Boolean),
    ("boolean", |_| Kind::Boolean),
    ("date", |_| Kind::Date),
    ("time", |_| Kind::Time),
    ("timetz", |_| Kind::Other),
    ("timestamp", |_| Kind::Moment),
    ("timestamptz", |_| Kind::Moment),
    ("datetime", |_| Kind::Moment),
    ("datetime2", |_| Kind::Moment),
    ("datetimeoffset", |_| Kind::Moment),
    ("smalldatetime", |_| Kind::Moment),
    ("uuid", |_| Kind::Uuid),
    ("uniqueidentifier", |_| Kind::Uuid),
    ("json", |_| Kind::Json),
    ("jsonb", |_| Kind::Json),
    ("bytea", |_| Kind::Bytes),
    ("blob", |_| Kind::Bytes),
    ("tinyblob", |_| Kind::Bytes),
    ("mediumblob", |_| Kind::Bytes),
    ("longblob", |_| Kind::Bytes),
    ("binary", |_| Kind::Bytes),
    ("varbinary", |_| Kind::Bytes),
    ("image", |_| Kind::Bytes),
    ("text", |_| Kind::Text(None)),
    ("tinytext", |_| Kind::Text(None)),
    ("mediumtext", |_| Kind::Text(None)),
    ("longtext", |_| Kind::Text(None)),
    ("ntext", |_| Kind::Text(None)),
    ("clob", |_| Kind::Text(None)),
    ("citext", |_| Kind::Text(None)),
    ("char", |args| Kind::Text(args.first())),
    ("character", |args| Kind::Text(args.first())),
    ("nchar", |args| Kind::Text(args.first())),
    ("varchar", |args| Kind::Text(args.first())),
    ("nvarchar", |args| Kind::Text(args.first())),
    ("enum", |args| Kind::Choice(args.texts.clone())),
    ("set", |args| Kind::Several(args.texts.clone())),
];

/// So many domains may be over each other: types are told apart by their names alone.
const DOMAINS: usize = 8;

/// What stands after the name of a type.
#[derive(Debug, Default)]
struct Arguments {
    numbers: Vec<u32>,
    texts: Vec<String>,
    unsigned: bool,
}

impl Arguments {
    fn of_bits(&self, bits: u32) -> Kind {
        let half = 1_i128 << (bits - 1);
        if self.unsigned { Kind::Integer(0, half * 2 - 1) } else { Kind::Integer(-half, half - 1) }
    }

    fn digits(&self) -> Option<(u32, u32)> {
        self.numbers.first().map(|all| (*all, self.numbers.get(1).copied().unwrap_or(0)))
    }

    fn first(&self) -> Option<usize> {
        self.numbers.first().map(|most| *most as usize)
    }
}

impl Kind {
    /// What a column's values are, by the database's name of its type.
    pub fn of(column: &Column, catalog: &Catalog, dialect: &Dialect) -> Kind {
        Kind::of_type(&column.db_type, catalog, dialect, 0)
    }

    /// The same of a column of a table, whose checks may say more of it than its type does.
    pub fn in_table(column: &Column, table: &Object, catalog: &Catalog, dialect: &'static Dialect) -> Kind {
        let kind = Kind::of(column, catalog, dialect);
        if !matches!(kind, Kind::Text(_)) {
            return kind;
        }
        if checks::is_json(table, &column.name) {
            return Kind::Json;
        }
        let allowed = checks::allowed(table, &column.name, dialect);
        // Letters of another alphabet may stand after a sign that says so: N'…'.
        let plain = |text: &String| match text.split_once('\'').and_then(|(_, rest)| rest.strip_suffix('\'')) {
            Some(inside) if !inside.contains('\\') => Some(inside.replace("''", "'")),
            _ => None,
        };
        match allowed.iter().map(plain).collect::<Option<Vec<_>>>() {
            Some(values) if !values.is_empty() => Kind::Choice(values),
            _ => kind,
        }
    }

    fn of_type(name: &str, catalog: &Catalog, dialect: &Dialect, deep: usize) -> Kind {
        let name = name.trim();
        if name.is_empty() {
            return Kind::Any;
        }
        let lower = name.to_ascii_lowercase();
        let word: String = lower.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
        let is_list = lower.ends_with(']');
        // Times of day with a zone are written in ways of their own.
        let is_zoned = word == "time" && lower.ends_with("with time zone");
        match (word.as_str(), dialect.changing) {
            ("bit", Some(changing)) if changing.bits_are_numbers => {
                return Kind::Bits(arguments(name).numbers.first().map_or(1, |bits| (*bits).clamp(1, 64)));
            }
            ("tinyint", Some(changing)) if !is_loose(dialect) => {
                let [least, most] = changing.tiny;
                // What a column of booleans is there.
                if lower.replace(' ', "") == "tinyint(1)" {
                    return Kind::Flag;
                }
                let signed = Kind::Integer(least.into(), most.into());
                return if arguments(name).unsigned { Kind::Integer(0, 255) } else { signed };
            }
            _ => {}
        }
        if is_shape(name, dialect) && !is_list {
            return Kind::Shape;
        }
        let known = NAMES.iter().find(|(known, _)| *known == word).filter(|_| !is_list && !is_zoned);
        if let Some((_, make)) = known {
            let kind = make(&arguments(name));
            // Where a column takes values of any type, its numbers are not limited to that of its name.
            return match kind {
                Kind::Integer(..) if is_loose(dialect) => Kind::Integer(i64::MIN.into(), i64::MAX.into()),
                Kind::Decimal(_) if is_loose(dialect) => Kind::Decimal(None),
                Kind::Text(_) if is_loose(dialect) => Kind::Text(None),
                kind => kind,
            };
        }
        if matches!(Nested::of(&lower), Some(Nested::Array(_))) && !is_loose(dialect) {
            return Kind::Array;
        }
        let own = name.rsplit('.').next().unwrap_or(name).trim_matches('"');
        let mut types = catalog.objects().iter().filter(|object| object.kind == ObjectKind::Type && object.name == own);
        let told = types.find_map(|object| match object.domain_of() {
            Some(base) if deep < DOMAINS => Some(Kind::of_type(base, catalog, dialect, deep + 1)),
            _ => (!object.values.is_empty()).then(|| Kind::Choice(object.values.clone())),
        });
        told.unwrap_or(Kind::Other)
    }

    /// Reads what a person typed. Nothing but the text decides: NULL and defaults are given by keys.
    ///
    /// An error says what is wrong; what is only unusual is the value too.
    pub fn read(&self, text: &str, dialect: &Dialect) -> (Datum, Option<Mistake>) {
        let shaped = text.trim();
        let loose = is_loose(dialect);
        let say = |what: String| if loose { Mistake::Unusual(what) } else { Mistake::Wrong(what) };
        let as_text = || Datum::Text(text.to_owned());
        let folds = dialect.changing.is_some_and(|changing| changing.choices_fold);
        let is_folded = |value: &str, text: &str| folds && value.to_lowercase() == text.to_lowercase();
        let number = |fits: Option<String>| match (is_number(shaped), fits) {
            (false, _) => (as_text(), Some(say(format!("\"{}\" is not a number", short(shaped))))),
            (true, Some(mistake)) => (Datum::Number(shaped.to_owned()), Some(say(mistake))),
            (true, None) => (Datum::Number(shaped.to_owned()), None),
        };
        let checked = |is: bool, what: &str| {
            (Datum::Text(if is { shaped.to_owned() } else { text.to_owned() }), (!is).then(|| say(what.to_owned())))
        };
        match self {
            Kind::Integer(least, most) => number(match shaped.parse::<i128>() {
                Ok(value) if value < *least || value > *most => Some(format!("it has to be from {least} to {most}")),
                Ok(_) => None,
                Err(_) => Some("it has to be a whole number".into()),
            }),
            Kind::Decimal(_)
                if dialect.changing.is_some_and(|changing| changing.decimals_have_nan) && is_no_number(shaped) =>
            {
                (Datum::Text(shaped.to_owned()), None)
            }
            Kind::Decimal(digits) => number(digits.and_then(|(all, behind)| {
                let whole = shaped.trim_start_matches(['-', '+']).split('.').next().unwrap_or_default();
                let room = all.saturating_sub(behind) as usize;
                let after = shaped.split_once('.').map_or(0, |(_, after)| after.trim_end_matches('0').len());
                match whole.trim_start_matches('0').len() > room {
                    true => Some(format!("it can have at most {room} digits before the decimal point")),
                    false => (after > behind as usize)
                        .then(|| format!("it can have at most {behind} digits after the decimal point")),
                }
            })),
            Kind::Real => match shaped.parse::<f64>() {
                Ok(_) => (Datum::Number(shaped.to_owned()), None),
                Err(_) => number(None),
            },
            Kind::Boolean => match shaped.to_ascii_lowercase().as_str() {
                "true" | "t" | "yes" | "1" => (Datum::Bool(true), None),
                "false" | "f" | "no" | "0" => (Datum::Bool(false), None),
                _ => (as_text(), Some(say("it has to be true or false".into()))),
            },
            Kind::Date => {
                checked(moment::day(&near(shaped, dialect)).is_some() || is_word(shaped), "write a date as 2031-03-05")
            }
            Kind::Time => {
                let spans = dialect.changing.is_some_and(|changing| changing.times_are_spans);
                checked(is_time(shaped, spans) || is_word(shaped), "write a time as 07:30 or 07:30:05")
            }
            Kind::Moment => checked(
                moment::instant(&near(shaped, dialect), None).is_some() || is_word(shaped),
                "write a timestamp as 2031-03-05 07:30:00",
            ),
            Kind::Uuid => {
                let digits = shaped.bytes().filter(u8::is_ascii_hexdigit).count();
                let others = shaped.bytes().all(|byte| byte.is_ascii_hexdigit() || b"-{}".contains(&byte));
                checked(digits == 32 && others, "a UUID has 32 hexadecimal digits")
            }
            Kind::Json => match serde_json::from_str::<serde::de::IgnoredAny>(text) {
                Ok(_) => (as_text(), None),
                Err(error) => (as_text(), Some(say(format!("it is not JSON: {error}")))),
            },
            Kind::Array => match array_of(shaped) {
                Some(array) => (Datum::Text(array), None),
                None if Nested::Array(Element::Text).json(shaped).is_some() => (as_text(), None),
                None => (as_text(), Some(say("write a list as {1,2,NULL}, or as JSON: [1, 2, null]".into()))),
            },
            Kind::Bytes => {
                let digits = shaped.strip_prefix("\\x").or(shaped.strip_prefix("0x")).unwrap_or(shaped);
                let digits: String = digits.chars().filter(|c| !c.is_whitespace()).collect();
                match digits.is_empty() || is_hex(&digits) {
                    true => (Datum::Bytes(digits.to_ascii_lowercase()), None),
                    false => (as_text(), Some(say("write bytes as pairs of hexadecimal digits".into()))),
                }
            }
            // Another server reads more than is known here.
            Kind::Shape if !dialect.changing.is_some_and(|changing| changing.shapes_are_bytes) => {
                (Datum::Text(shaped.to_owned()), None)
            }
            Kind::Shape => match shape::numbered(shaped) {
                Some(_) => (Datum::Text(shaped.to_owned()), None),
                // Its bytes, as other programs write them.
                None if is_hex(shaped) => (Datum::Bytes(shaped.to_ascii_lowercase()), None),
                None => (as_text(), Some(say("write a shape as POINT (1 2), or SRID=4326;POINT (1 2)".into()))),
            },
            Kind::Bits(bits) => match bits_of(shaped, *bits) {
                Ok(value) => (Datum::Number(value.to_string()), None),
                Err(1) => (as_text(), Some(say("it has to be 0 or 1".into()))),
                Err(most) => (as_text(), Some(say(format!("it has to be from 0 to {most}, or bits as b'101'")))),
            },
            Kind::Flag => match bits_of(shaped, 1) {
                Ok(value) => (Datum::Number(value.to_string()), None),
                Err(_) => Kind::Integer(i8::MIN.into(), i8::MAX.into()).read(text, dialect),
            },
            Kind::Several(values) => {
                let unknown =
                    shaped.split(',').find(|part| !values.iter().any(|value| value.eq_ignore_ascii_case(part)));
                match unknown.filter(|_| !shaped.is_empty()) {
                    None => (Datum::Text(shaped.to_owned()), None),
                    Some(part) => {
                        let what =
                            format!("\"{}\" is not one of: {}; commas between several", short(part), values.join(", "));
                        (as_text(), Some(say(what)))
                    }
                }
            }
            Kind::Choice(values) => match values.iter().any(|value| value == text || is_folded(value, text)) {
                true => (as_text(), None),
                false => (as_text(), Some(say(format!("it has to be one of: {}", values.join(", "))))),
            },
            Kind::Text(most) => {
                let long = text.chars().count();
                let over = most.filter(|most| long > *most);
                (as_text(), over.map(|most| say(format!("{long} characters; the column takes {most}"))))
            }
            Kind::Value(of) => match dialect.elements.map(|elements| elements.written(of, text)) {
                Some(Ok(written)) => (Datum::Written(written), None),
                Some(Err(what)) => (as_text(), Some(Mistake::Wrong(what))),
                None => (as_text(), None),
            },
            Kind::Any if is_number(shaped) && shaped == text => (Datum::Number(text.to_owned()), None),
            Kind::Any | Kind::Other => (as_text(), None),
        }
    }

    /// What a value is by itself, where a column takes values of several types; and its text, as a person edits it.
    pub fn of_value(&self, value: &Datum, dialect: &Dialect) -> (Kind, String) {
        let plain = |text: &str| dialect.elements.and_then(|elements| elements.plain(text));
        match (self, value) {
            (Kind::Value(_), Datum::Written(text) | Datum::Text(text)) => match plain(text) {
                Some((of, text)) => (Kind::Value(of), text),
                None => (self.clone(), text.clone()),
            },
            (Kind::Text(_), Datum::Bytes(digits)) => (Kind::Bytes, digits.clone()),
            (_, value) => (self.clone(), value.text().to_owned()),
        }
    }

    /// A text of several of the values with this one in it, or without it where it was in it; none where a value is one
    /// alone. They stand in the order of the type, as servers give them.
    pub fn toggled(&self, text: &str, value: &str) -> Option<String> {
        let Kind::Several(values) = self else { return None };
        let is_in = |known: &&String| text.split(',').any(|part| part.trim().eq_ignore_ascii_case(known));
        let kept = values.iter().filter(|known| is_in(known) != (*known == value));
        Some(kept.map(String::as_str).collect::<Vec<_>>().join(","))
    }

    /// What the values are, in a word for a person; nothing where the type's own name says all.
    pub fn choices(&self) -> Vec<String> {
        match self {
            Kind::Choice(values) | Kind::Several(values) => values.clone(),
            Kind::Boolean => vec!["true".into(), "false".into()],
            Kind::Bits(1) | Kind::Flag => vec!["1".into(), "0".into()],
            Kind::Value(of) if of == "bool" => vec!["true".into(), "false".into()],
            _ => Vec::new(),
        }
    }
}

fn is_loose(dialect: &Dialect) -> bool {
    dialect.changing.is_some_and(|changing| changing.loose_types)
}

/// Whether a text is a number as all servers read one.
fn is_number(text: &str) -> bool {
    let digits = text.trim_start_matches(['-', '+']);
    let signs = text.len() - digits.len();
    signs <= 1 && digits.bytes().any(|byte| byte.is_ascii_digit()) && text.parse::<f64>().is_ok()
}

/// A day or a point in time in a form that is looked at here: of a year with more than four digits in another year, and
/// days that are not known where a server has such. How far away it may be the server tells.
fn near<'t>(text: &'t str, dialect: &Dialect) -> Cow<'t, str> {
    let Some((year, rest)) = text.split_once('-') else { return Cow::Borrowed(text) };
    let is_number = year.bytes().all(|byte| byte.is_ascii_digit());
    let zeros = dialect.changing.is_some_and(|changing| changing.days_have_zeros);
    match rest.get(..5).filter(|_| zeros && is_number && year.len() == 4) {
        Some(day) if day.starts_with("00-") || day.ends_with("-00") => {
            let known = |part: &str| if part == "00" { "01".to_owned() } else { part.to_owned() };
            let known = format!("2000-{}-{}{}", known(&day[..2]), known(&day[3..]), &rest[5..]);
            Cow::Owned(known)
        }
        _ if is_number && (5..=6).contains(&year.len()) => Cow::Owned(format!("2000-{rest}")),
        _ => Cow::Borrowed(text),
    }
}

/// Whether a text says that something is not a number, or more than any.
fn is_no_number(text: &str) -> bool {
    let text = text.strip_prefix(['-', '+']).unwrap_or(text).to_ascii_lowercase();
    matches!(text.as_str(), "nan" | "infinity" | "inf")
}

/// A number of so many bits, written as one, in bits, or as a word where it is one bit; or the greatest that there is.
fn bits_of(text: &str, bits: u32) -> Result<u64, u64> {
    let quoted = text.strip_prefix(['b', 'B']).and_then(|rest| rest.strip_prefix('\'')?.strip_suffix('\''));
    let value = match (quoted.or(text.strip_prefix("0b")), text.to_ascii_lowercase().as_str()) {
        (Some(digits), _) => u64::from_str_radix(digits, 2).ok(),
        (None, "true" | "t") => Some(1),
        (None, "false" | "f") => Some(0),
        (None, _) => text.parse().ok(),
    };
    let most = u64::MAX >> (64 - bits.clamp(1, 64));
    value.filter(|value| *value <= most).ok_or(most)
}

/// Whether a text is a time of day, or a span of hours where that is what times are.
fn is_time(text: &str, spans: bool) -> bool {
    let (clock, fraction) = text.split_once('.').unwrap_or((text, ""));
    let mut parts = clock.strip_prefix('-').filter(|_| spans).unwrap_or(clock).split(':');
    let digits = |part: &str, most: usize| (1..=most).contains(&part.len()) && part.bytes().all(|b| b.is_ascii_digit());
    let up_to = |part: &str, most: u16| digits(part, 3) && part.parse().is_ok_and(|number: u16| number <= most);
    let hours = parts.next().is_some_and(|hours| up_to(hours, if spans { 838 } else { 24 }));
    let minutes = parts.next().is_some_and(|minutes| digits(minutes, 2) && up_to(minutes, 59));
    // A second that is put in is taken by some.
    let last = if spans { 59 } else { 60 };
    let seconds = parts.next().is_none_or(|seconds| digits(seconds, 2) && up_to(seconds, last));
    hours && minutes && seconds && parts.next().is_none() && fraction.bytes().all(|byte| byte.is_ascii_digit())
}

/// Words that servers take for times.
fn is_word(text: &str) -> bool {
    matches!(text.to_ascii_lowercase().as_str(), "infinity" | "-infinity" | "now" | "today" | "tomorrow" | "yesterday")
        || text.ends_with(" BC")
}

fn short(text: &str) -> &str {
    text.get(..text.char_indices().nth(24).map_or(text.len(), |(at, _)| at)).unwrap_or(text)
}

/// What stands in the parentheses of a type: numbers, or texts in quotes.
fn arguments(db_type: &str) -> Arguments {
    let unsigned = db_type.to_ascii_lowercase().contains("unsigned");
    let inside = db_type.split_once('(').and_then(|(_, rest)| rest.rsplit_once(')')).map_or("", |(inside, _)| inside);
    let numbers = inside.split(',').map_while(|part| part.trim().parse().ok()).collect();
    let (mut texts, mut open) = (Vec::new(), None::<String>);
    let mut rest = inside.chars().peekable();
    while let Some(c) = rest.next() {
        match (&mut open, c) {
            (None, '\'') => open = Some(String::new()),
            (None, _) => {}
            (Some(text), '\'') if rest.peek() == Some(&'\'') => {
                rest.next();
                text.push('\'');
            }
            (Some(_), '\'') => texts.extend(open.take()),
            (Some(text), c) => text.push(c),
        }
    }
    Arguments { numbers, texts, unsigned }
}

#[cfg(test)]
mod tests;
