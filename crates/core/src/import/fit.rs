//! Whether rows fit a table: each value is checked against the type of its column before it is sent.

use std::borrow::Cow;
use std::sync::Arc;

use arrow_array::builder::StringBuilder;
use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, BooleanArray, RecordBatch, StringArray};
use arrow_buffer::BooleanBuffer;
use arrow_schema::{DataType, Field, Schema};
use jaunty_language::dialect::{Dialect, Elements};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

use super::found::is_exact;
use super::matching::{Matching, Target};
use super::refused::Bad;
use super::source::Block;
use super::{Dates, ImportError, Numbers};
use crate::slip::{Datum, Kind, Mistake, datum};

/// A block whose rows fit, and those that do not.
pub(super) struct Fitted {
    /// Those that fit, with the columns of the table.
    pub rows: RecordBatch,
    /// The same as they stand in the file.
    pub of_file: RecordBatch,
    /// The line of each.
    pub lines: Vec<u64>,
    /// Those that do not.
    pub bad: Vec<Bad>,
    /// Values that are not what their column's type says.
    pub unusual: Unusual,
}

/// Values that are not what their column's type says: how many, and the first, by the line.
#[derive(Debug, Default)]
pub(super) struct Unusual(pub u64, pub Option<(u64, String)>);

impl Unusual {
    pub fn add(&mut self, more: Unusual) {
        self.0 += more.0;
        self.1 = self.1.take().or(more.1);
    }
}

/// The rows of a block that fit, with the columns of the table.
pub(super) fn fitted(
    block: Block,
    matching: &Matching,
    names: &[String],
    dialect: &Dialect,
) -> Result<Fitted, ImportError> {
    let targets = &matching.targets;
    let Block { rows, lines, mut bad, quoted } = block;
    let malformed = |error: arrow_schema::ArrowError| ImportError::Malformed(error.to_string());
    let count = rows.num_rows();
    let mut reasons: Vec<Option<String>> = vec![None; count];
    let mut unusual = Unusual::default();
    let (mut fields, mut columns) = (Vec::new(), Vec::new());
    for target in targets {
        let Some(column) = rows.columns().get(target.from) else {
            let column = arrow_array::new_null_array(&DataType::Utf8, count);
            fields.push(Field::new(&target.column.name, DataType::Utf8, true));
            columns.push(column);
            continue;
        };
        let column = match column.data_type() {
            DataType::Utf8 => {
                let quoted = quoted.get(target.from).filter(|_| target.kind == Kind::Json);
                let json = quoted.map(|quoted| as_json(column, quoted));
                fit_texts(json.as_ref().unwrap_or(column), target, dialect, (&mut reasons, &mut unusual, &lines))
            }
            _ => {
                if loses_digits(&target.kind, dialect) && column.data_type().is_decimal() {
                    let reader = ColumnReader::of(column, rows.schema_ref().field(target.from));
                    let mut text = String::new();
                    for (row, reason) in reasons.iter_mut().enumerate().filter(|(row, _)| column.is_valid(*row)) {
                        text.clear();
                        reader.put(row, &mut text);
                        if !is_exact(&text) {
                            reason.get_or_insert_with(|| too_long(target, &text));
                        }
                    }
                }
                if !target.column.nullable && column.null_count() > 0 {
                    for (row, reason) in reasons.iter_mut().enumerate().filter(|(row, _)| column.is_null(*row)) {
                        let _ = row;
                        reason.get_or_insert_with(|| not_null(target));
                    }
                }
                Arc::clone(column)
            }
        };
        // What a field says of its form goes along.
        let of = rows.schema_ref().field(target.from).clone().with_name(&target.column.name);
        fields.push(of.with_data_type(column.data_type().clone()));
        columns.push(column);
    }
    let schema = Arc::new(Schema::new(fields));
    let options = arrow_array::RecordBatchOptions::new().with_row_count(Some(count));
    let mut fitted = RecordBatch::try_new_with_options(schema, columns, &options).map_err(malformed)?;
    if let Some(becoming) = Becoming::of(matching, &fitted, dialect) {
        for (row, reason) in reasons.iter_mut().enumerate().filter(|(_, reason)| reason.is_none()) {
            *reason = becoming.may_not_fit(row).then(|| becoming.statements(row).err()).flatten();
        }
    }
    let mut kept = lines;
    let mut of_file = rows.clone();
    if reasons.iter().any(Option::is_some) {
        let readers = ColumnReader::all(&rows);
        for (row, reason) in reasons.iter().enumerate() {
            let Some(reason) = reason else { continue };
            let fields = readers.iter().take(names.len()).map(|column| match column.get(row) {
                cell if cell.kind == CellKind::Null => String::new(),
                cell => cell.text.into_owned(),
            });
            bad.push(Bad { line: kept[row], reason: reason.clone(), fields: fields.collect() });
        }
        let mask = BooleanArray::from_iter(reasons.iter().map(|reason| Some(reason.is_none())));
        drop(readers);
        fitted = arrow_select::filter::filter_record_batch(&fitted, &mask).map_err(malformed)?;
        of_file = arrow_select::filter::filter_record_batch(&of_file, &mask).map_err(malformed)?;
        kept = kept.into_iter().zip(&reasons).filter(|(_, reason)| reason.is_none()).map(|(line, _)| line).collect();
    }
    bad.sort_by_key(|bad| bad.line);
    Ok(Fitted { rows: fitted, of_file, lines: kept, bad, unusual })
}

/// What rows become where each of them is sent as a statement of its own.
pub(super) struct Becoming<'a> {
    elements: &'static dyn Elements,
    matching: &'a Matching,
    readers: Vec<ColumnReader<'a>>,
    rows: &'a RecordBatch,
    /// Whether a column has a meaning of its own, and values that it does not take.
    has_own: bool,
}

impl<'a> Becoming<'a> {
    /// That of fitted rows; none where rows become those of a table, or documents.
    pub fn of(matching: &'a Matching, rows: &'a RecordBatch, dialect: &Dialect) -> Option<Becoming<'a>> {
        let elements = dialect.elements?;
        let own = elements.filling(&matching.table)?.map_or(&[][..], |filling| filling.own);
        let has_own = matching.targets.iter().any(|target| own.iter().any(|own| own.name == target.column.name));
        Some(Becoming { elements, matching, readers: ColumnReader::all(rows), rows, has_own })
    }

    /// Whether it has to be looked at: what is there, and has no meaning of its own, is a value whatever it is.
    fn may_not_fit(&self, row: usize) -> bool {
        self.has_own || self.rows.columns().iter().any(|column| column.is_null(row))
    }

    /// What is sent for a row, or why it does not fit.
    pub fn statements(&self, row: usize) -> Result<Vec<String>, String> {
        let value = |reader: &ColumnReader<'_>| {
            let cell = reader.get(row);
            datum(cell.kind, &cell.text)
        };
        let (mut places, mut fields) = (Vec::new(), Vec::new());
        for (target, reader) in self.matching.targets.iter().zip(&self.readers) {
            match target.column.key {
                true => places.push(value(reader)),
                false => fields.push((target.column.name.as_str(), value(reader))),
            }
        }
        self.elements.filled(&self.matching.table, &places, &fields)
    }
}

/// Whether a number of many digits would lose some of them in such a column.
fn loses_digits(kind: &Kind, dialect: &Dialect) -> bool {
    matches!(kind, Kind::Decimal(_) | Kind::Integer(..)) && dialect.changing.is_some_and(|c| c.decimals_are_doubles)
}

fn too_long(target: &Target, text: &str) -> String {
    let number: String = text.chars().take(60).collect();
    format!("{}: {number} has more digits than a number keeps here; a column of text keeps them", target.column.name)
}

fn not_null(target: &Target) -> String {
    format!("{}: no value, and the column cannot be NULL", target.column.name)
}

/// Values of JSON as a column of JSON takes them: texts are texts there, too. One that holds an object or a list is the JSON
/// that somebody wrote as a text.
fn as_json(column: &ArrayRef, quoted: &BooleanBuffer) -> ArrayRef {
    let holds = |text: &str| {
        text.trim_start().starts_with(['{', '[']) && serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok()
    };
    let value = |(text, quoted): (Option<&str>, bool)| -> Option<String> {
        let text = text?;
        Some(if quoted && !holds(text) { serde_json::Value::from(text).to_string() } else { text.to_owned() })
    };
    Arc::new(column.as_string::<i32>().iter().zip(quoted).map(value).collect::<StringArray>())
}

/// Checks the texts of a column against the type of the table's, and writes days as servers read them.
fn fit_texts(
    column: &ArrayRef,
    target: &Target,
    dialect: &Dialect,
    (reasons, unusual, lines): (&mut [Option<String>], &mut Unusual, &[u64]),
) -> ArrayRef {
    let texts = column.as_string::<i32>();
    let is_day = matches!(target.kind, Kind::Date | Kind::Moment) && target.dates != Dates::Iso;
    let is_number = matches!(target.kind, Kind::Integer(..) | Kind::Decimal(_) | Kind::Real);
    let is_number = is_number && target.numbers != Numbers::Plain;
    // A server that has numbers for bits does not read them as bits.
    let is_bits = matches!(target.kind, Kind::Bits(_) | Kind::Flag);
    let is_other = is_day || is_number || is_bits || target.lists.is_some();
    let mut rewritten = is_other.then(StringBuilder::new);
    let loses_digits = loses_digits(&target.kind, dialect);
    let is_required = !target.column.nullable && target.column.default.is_none() && target.column.generated.is_none();
    for (row, reason) in reasons.iter_mut().enumerate() {
        if texts.is_null(row) {
            if is_required && !target.column.key {
                reason.get_or_insert_with(|| not_null(target));
            }
            rewritten.iter_mut().for_each(StringBuilder::append_null);
            continue;
        }
        let text = texts.value(row);
        let mut usual = None;
        if let Some(rewritten) = &mut rewritten {
            usual = match target.lists {
                Some(lists) => lists.json(text),
                None if is_day => target.dates.iso(text),
                None if is_bits => match target.kind.read(text, dialect) {
                    (Datum::Number(number), None) => Some(number),
                    _ => None,
                },
                None => target.numbers.plain(text).map(Cow::into_owned),
            };
            match &usual {
                Some(usual) => rewritten.append_value(usual),
                None => {
                    rewritten.append_null();
                    let name = &target.column.name;
                    reason.get_or_insert_with(|| match is_day {
                        _ if target.lists.is_some() => format!("{name}: \"{text}\" is not a list"),
                        true => format!("{name}: \"{text}\" is not a date written as {}", target.dates.word()),
                        false if is_bits => {
                            let mistake = misfit(text, &target.kind, dialect);
                            format!("{name}: {}", mistake.as_ref().map_or("not bits", Mistake::text))
                        }
                        false => format!("{name}: \"{text}\" is not a number written as {}", target.numbers.example()),
                    });
                    continue;
                }
            }
        }
        let text = usual.as_deref().unwrap_or(text);
        match misfit(text, &target.kind, dialect) {
            None | Some(Mistake::Unusual(_)) if loses_digits && !is_exact(text) => {
                reason.get_or_insert_with(|| too_long(target, text));
            }
            None => {}
            Some(Mistake::Wrong(what)) => {
                reason.get_or_insert_with(|| format!("{}: {what}", target.column.name));
            }
            Some(Mistake::Unusual(what)) => {
                unusual.0 += 1;
                let line = lines.get(row).copied().unwrap_or(0);
                unusual.1.get_or_insert_with(|| (line, format!("{}: {what}", target.column.name)));
            }
        }
    }
    match rewritten {
        Some(mut rewritten) => Arc::new(rewritten.finish()),
        None => Arc::clone(column),
    }
}

/// Why a text is not a value; nothing where it is, or where only the server can tell.
fn misfit(text: &str, kind: &Kind, dialect: &Dialect) -> Option<Mistake> {
    if is_plainly(text, kind) {
        return None;
    }
    let shown = |what: String| match what.contains('"') {
        true => what,
        false => format!("\"{}\": {what}", text.chars().take(40).collect::<String>()),
    };
    Some(match kind.read(text, dialect).1? {
        Mistake::Wrong(what) => Mistake::Wrong(shown(what)),
        Mistake::Unusual(what) => Mistake::Unusual(shown(what)),
    })
}

/// Whether a text is a value in its usual form, told without much ado: so are most of millions.
fn is_plainly(text: &str, kind: &Kind) -> bool {
    let bytes = text.as_bytes();
    let digits =
        |range: std::ops::Range<usize>| bytes.get(range).is_some_and(|part| part.iter().all(u8::is_ascii_digit));
    let pair = |at: usize, most: u8| digits(at..at + 2) && (bytes[at] - b'0') * 10 + bytes[at + 1] - b'0' <= most;
    // The last days of a month are looked at more closely.
    let is_day = || {
        digits(0..4)
            && bytes[4] == b'-'
            && bytes[7] == b'-'
            && pair(5, 12)
            && pair(8, 28)
            && &bytes[5..7] != b"00"
            && &bytes[8..10] != b"00"
    };
    match kind {
        Kind::Text(None) | Kind::Other | Kind::Any => true,
        // Nothing in it that could be open: no quote, and one list.
        Kind::Array => text.strip_prefix('{').and_then(|rest| rest.strip_suffix('}')).is_some_and(|inside| {
            !inside.is_empty()
                && !inside.starts_with(',')
                && !inside.ends_with(',')
                && !inside.contains(",,")
                && inside.bytes().all(|byte| byte.is_ascii_alphanumeric() || b",.-_:+".contains(&byte))
        }),
        Kind::Text(Some(most)) => text.len() <= *most,
        Kind::Integer(least, most) => {
            text.parse::<i64>().is_ok_and(|value| (*least..=*most).contains(&i128::from(value)))
        }
        Kind::Real => text.parse::<f64>().is_ok(),
        Kind::Decimal(limit) => {
            let number = text.strip_prefix('-').unwrap_or(text);
            let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
            let most = limit.map_or((usize::MAX, usize::MAX), |(all, behind)| {
                (all.saturating_sub(behind) as usize, behind as usize)
            });
            !whole.is_empty()
                && whole.bytes().chain(fraction.bytes()).all(|byte| byte.is_ascii_digit())
                && whole.len() <= most.0
                && fraction.len() <= most.1
        }
        Kind::Boolean => matches!(text, "true" | "false" | "t" | "f" | "1" | "0"),
        Kind::Date => bytes.len() == 10 && is_day(),
        Kind::Moment => {
            bytes.len() == 19
                && is_day()
                && matches!(bytes[10], b' ' | b'T')
                && (bytes[13], bytes[16]) == (b':', b':')
                && pair(11, 23)
                && pair(14, 59)
                && pair(17, 59)
        }
        _ => false,
    }
}
