//! Conditions on a column, as a person writes them: `> 5`, `Saltmarsh`, `not null`, `in a, b`.
//!
//! ```text
//! condition = ["not"] test
//! test      = ("=" | "!=" | "<>" | "<" | "<=" | ">" | ">=") value
//!           | "between" value "and" value | "in" value {"," value}
//!           | ("has" | "begins" | "ends") text | "~" expression
//!           | "null" | "empty" | value
//! ```
//!
//! A value alone is looked for inside text, and is what anything else has to be equal to. Quotes around a
//! value keep blanks and words such as `null` as they are. Values compare as the column's do; text is
//! found in any case unless it holds a capital letter.

use std::cmp::Ordering;
use std::fmt;

use arrow_array::ArrayRef;
use arrow_schema::{DataType, Field};
use regex::{Regex, RegexBuilder};

use super::key::{Keys, Sought};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::form::TextForm;
use jaunty_seam::rows::widen::is_mixed;

/// What a column's values must fulfil.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    /// The column.
    pub column: usize,
    /// What of it.
    pub test: Test,
}

/// A test of one value.
#[derive(Debug, Clone)]
pub struct Test {
    pub(super) kind: Kind,
    /// It must not be so.
    pub(super) not: bool,
}

#[derive(Debug, Clone)]
pub(super) enum Kind {
    Null,
    Empty,
    Compare(Comparison, String, Sought),
    Between([String; 2], [Sought; 2]),
    In(Vec<String>, Vec<Sought>),
    /// What is looked for, as it was written, and as an expression over the text form.
    Text(Where, String, Regex),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Where {
    Inside,
    Begins,
    Ends,
    Expression,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Comparison {
    Equal,
    Less,
    AtMost,
    Greater,
    AtLeast,
}

impl Comparison {
    pub(super) fn sign(self) -> &'static str {
        match self {
            Comparison::Equal => "=",
            Comparison::Less => "<",
            Comparison::AtMost => "<=",
            Comparison::Greater => ">",
            Comparison::AtLeast => ">=",
        }
    }

    fn holds(self, ordering: Ordering) -> bool {
        match self {
            Comparison::Equal => ordering.is_eq(),
            Comparison::Less => ordering.is_lt(),
            Comparison::AtMost => ordering.is_le(),
            Comparison::Greater => ordering.is_gt(),
            Comparison::AtLeast => ordering.is_ge(),
        }
    }
}

/// Why a condition cannot be understood.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum ConditionError {
    /// Nothing is compared with.
    #[error("{0} needs a value behind it")]
    NoValue(String),
    /// The value is none of the column's type.
    #[error("\"{value}\" is not of type {type_name}, which this column holds; \"has {value}\" looks for it as text")]
    NotOfType {
        /// What was written.
        value: String,
        /// The column's type.
        type_name: String,
    },
    /// The expression is wrong.
    #[error("the expression cannot be read: {0}")]
    Expression(String),
}

/// Whether a column's values are text, so that a value alone is looked for inside.
pub(super) fn is_text(field: &Field) -> bool {
    let kind = field.data_type();
    (*kind == DataType::Utf8 && !matches!(TextForm::of(field), TextForm::Number | TextForm::Span)) || is_mixed(kind)
}

impl Test {
    /// Reads a condition on a column.
    pub fn read(text: &str, field: &Field) -> Result<Test, ConditionError> {
        let text = text.trim();
        let (not, text) = match first_word(text) {
            ("not", rest) if !rest.is_empty() => (true, rest),
            _ => (false, text),
        };
        let kind = Kind::read(text, field)?;
        // `!=` is `not =`.
        let unequal = ["!=", "<>"].iter().any(|sign| text.starts_with(sign));
        Ok(Test { kind, not: not != unequal })
    }

    /// That a value is this one, or that it is not.
    pub fn equal(cell: (CellKind, &str), field: &Field, not: bool) -> Result<Test, ConditionError> {
        let kind = match cell.0 {
            CellKind::Null => Kind::Null,
            _ => Kind::Compare(Comparison::Equal, cell.1.to_owned(), sought(cell.1, field)?),
        };
        Ok(Test { kind, not })
    }

    /// Takes out of `stay` the rows that do not fulfil it. NULL fulfils nothing but `null`, and
    /// nothing that begins with `not` but `not` of something.
    pub(super) fn narrow(&self, column: &ArrayRef, field: &Field, stay: &mut [bool]) {
        let keys = Keys::of(column, field);
        let reader = ColumnReader::of(column, field);
        let mut space = Vec::new();
        for (row, stays) in stay.iter_mut().enumerate().filter(|(_, stays)| **stays) {
            let fulfilled = match &self.kind {
                Kind::Null => Some(reader.is_null(row)),
                Kind::Empty => (!reader.is_null(row)).then(|| reader.get(row).text.is_empty()),
                Kind::Compare(comparison, _, sought) => {
                    keys.compare(row, sought, &mut space).map(|ordering| comparison.holds(ordering))
                }
                Kind::Between(_, [low, high]) => keys.compare(row, low, &mut space).and_then(|low| {
                    let high = keys.compare(row, high, &mut space)?;
                    Some(low.is_ge() && high.is_le())
                }),
                Kind::In(_, sought) => (!reader.is_null(row))
                    .then(|| sought.iter().any(|s| keys.compare(row, s, &mut space) == Some(Ordering::Equal))),
                Kind::Text(.., expression) => {
                    (!reader.is_null(row)).then(|| expression.is_match(&reader.get(row).text))
                }
            };
            *stays = fulfilled.is_some_and(|fulfilled| fulfilled != self.not);
        }
    }
}

impl PartialEq for Test {
    fn eq(&self, other: &Test) -> bool {
        self.to_string() == other.to_string()
    }
}

impl fmt::Display for Test {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unequal = matches!(self.kind, Kind::Compare(Comparison::Equal, ..));
        if self.not && !unequal {
            f.write_str("not ")?;
        }
        match &self.kind {
            Kind::Null => f.write_str("null"),
            Kind::Empty => f.write_str("empty"),
            Kind::Compare(Comparison::Equal, text, _) if self.not => write!(f, "!= {text}"),
            Kind::Compare(comparison, text, _) => write!(f, "{} {text}", comparison.sign()),
            Kind::Between([low, high], _) => write!(f, "between {low} and {high}"),
            Kind::In(all, _) => {
                let all: Vec<String> = all.iter().map(|value| quoted(value)).collect();
                write!(f, "in {}", all.join(", "))
            }
            Kind::Text(place, text, _) => {
                let word = match place {
                    Where::Inside => "has",
                    Where::Begins => "begins",
                    Where::Ends => "ends",
                    Where::Expression => "~",
                };
                write!(f, "{word} {text}")
            }
        }
    }
}

fn first_word(text: &str) -> (&str, &str) {
    let (word, rest) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
    (word, rest.trim_start())
}

/// A value without the quotes around it; within them a quote is written twice. What is not one value in
/// quotes is as it stands.
fn unquoted(text: &str) -> String {
    let inside = |quote: char| {
        let inside = text.strip_prefix(quote)?.strip_suffix(quote)?;
        let twice = format!("{quote}{quote}");
        let bare = inside.replace(&twice, "");
        (text.len() > 1 && !bare.contains(quote)).then(|| inside.replace(&twice, &quote.to_string()))
    };
    inside('\'').or_else(|| inside('"')).unwrap_or_else(|| text.to_owned())
}

/// A value of a list as it has to be written there.
fn quoted(text: &str) -> String {
    let plain = !text.contains(',') && !text.starts_with(['\'', '"']) && text.trim() == text && !text.is_empty();
    if plain { text.to_owned() } else { format!("'{}'", text.replace('\'', "''")) }
}

/// The place of a text outside of quotes. A quote begins where a value does.
fn find_outside(text: &str, wanted: &str) -> Option<usize> {
    let mut open = None;
    let mut begins = true;
    for (at, c) in text.char_indices() {
        if open.is_none() && text.get(at..at + wanted.len()).is_some_and(|here| here.eq_ignore_ascii_case(wanted)) {
            return Some(at);
        }
        match open {
            Some(quote) if c == quote => open = None,
            // The second of two closes and opens at once.
            None if matches!(c, '\'' | '"') && (begins || text[..at].ends_with(c)) => open = Some(c),
            _ => {}
        }
        begins = c.is_whitespace() || c == ',' || c == '(';
    }
    None
}

/// The values of a list.
fn listed(mut text: &str) -> Vec<String> {
    let mut all = Vec::new();
    while let Some(at) = find_outside(text, ",") {
        all.push(unquoted(text[..at].trim()));
        text = &text[at + 1..];
    }
    all.push(unquoted(text.trim()));
    all
}

fn sought(text: &str, field: &Field) -> Result<Sought, ConditionError> {
    Sought::read(text, field).ok_or_else(|| ConditionError::NotOfType {
        value: text.to_owned(),
        type_name: jaunty_seam::rows::cell::type_name(field),
    })
}

impl Kind {
    fn read(text: &str, field: &Field) -> Result<Kind, ConditionError> {
        const SIGNS: [(&str, Comparison); 7] = [
            ("!=", Comparison::Equal),
            ("<>", Comparison::Equal),
            ("<=", Comparison::AtMost),
            (">=", Comparison::AtLeast),
            ("<", Comparison::Less),
            (">", Comparison::Greater),
            ("=", Comparison::Equal),
        ];
        let needed = |rest: &str, what: &str| {
            if rest.is_empty() { Err(ConditionError::NoValue(what.to_owned())) } else { Ok(()) }
        };
        if let Some((sign, comparison)) = SIGNS.iter().find(|(sign, _)| text.starts_with(sign)) {
            let rest = text[sign.len()..].trim();
            needed(rest, sign)?;
            let value = unquoted(rest);
            let found = sought(&value, field)?;
            return Ok(Kind::Compare(*comparison, value, found));
        }
        if let Some(expression) = text.strip_prefix('~') {
            needed(expression.trim(), "~")?;
            return Kind::text(Where::Expression, expression.trim());
        }
        let (word, rest) = first_word(text);
        match (word.to_ascii_lowercase().as_str(), rest) {
            ("null", "") => return Ok(Kind::Null),
            ("empty", "") => return Ok(Kind::Empty),
            ("has", rest) if !rest.is_empty() => return Kind::text(Where::Inside, &unquoted(rest)),
            ("begins", rest) if !rest.is_empty() => return Kind::text(Where::Begins, &unquoted(rest)),
            ("ends", rest) if !rest.is_empty() => return Kind::text(Where::Ends, &unquoted(rest)),
            ("in", rest) if !rest.is_empty() => {
                let list = rest.strip_prefix('(').and_then(|rest| rest.strip_suffix(')')).unwrap_or(rest);
                let all = listed(list);
                let found = all.iter().map(|value| sought(value, field)).collect::<Result<_, _>>()?;
                return Ok(Kind::In(all, found));
            }
            ("between", rest) if !rest.is_empty() => {
                let (low, high) = find_outside(rest, " and ").map_or((rest, ""), |at| (&rest[..at], &rest[at + 5..]));
                needed(high.trim(), "between … and")?;
                let (low, high) = (unquoted(low.trim()), unquoted(high.trim()));
                let found = [sought(&low, field)?, sought(&high, field)?];
                return Ok(Kind::Between([low, high], found));
            }
            _ => {}
        }
        needed(text, "a condition")?;
        let value = unquoted(text);
        if is_text(field) {
            return Kind::text(Where::Inside, &value);
        }
        let found = sought(&value, field)?;
        Ok(Kind::Compare(Comparison::Equal, value, found))
    }

    fn text(place: Where, text: &str) -> Result<Kind, ConditionError> {
        let pattern = match place {
            Where::Inside => regex::escape(text),
            Where::Begins => format!("^(?:{})", regex::escape(text)),
            Where::Ends => format!("(?:{})$", regex::escape(text)),
            Where::Expression => text.to_owned(),
        };
        let capital = text.chars().any(char::is_uppercase);
        let expression = RegexBuilder::new(&pattern).case_insensitive(!capital).build();
        let expression = expression.map_err(|error| ConditionError::Expression(error.to_string()))?;
        Ok(Kind::Text(place, text.to_owned(), expression))
    }
}
