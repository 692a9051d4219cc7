//! What a file of fields looks like: what stands between them, where its rows begin, and whether the first has names.

use super::Choices;
use crate::import::csv::{Form, Reader, Record};

/// So many records are looked at.
const RECORDS: usize = 50;

/// Rows do not begin further down.
const TITLES: usize = 12;

/// What may stand between fields.
const SEPARATORS: [u8; 4] = [b',', b';', b'\t', b'|'];

/// Whether a separator stands after what may be the last field.
fn ends_empty(record: &Record) -> bool {
    let last = record.len().checked_sub(1).filter(|last| *last > 0).and_then(|last| record.get(last));
    last.is_some_and(|(last, quoted)| last.is_empty() && !quoted)
}

/// The text after so many of its lines.
pub(super) fn after_lines(text: &str, lines: u64) -> &str {
    let skipped = text.split_inclusive('\n').take(usize::try_from(lines).unwrap_or(usize::MAX));
    &text[skipped.map(str::len).sum::<usize>()..]
}

/// How many lines stand above the rows as a title or the like, where the first line has another count of fields than all
/// that come after some: then those have the same count, and more than one.
pub(super) fn titles(first: &str, form: Form) -> u64 {
    // The last line may be cut.
    let whole = first.rsplit_once('\n').map_or(first, |(whole, _)| whole);
    let below = |separator: u8| -> Option<u64> {
        let mut reader = Reader::new(whole.as_bytes(), Form { separator, ..form });
        let (mut record, mut all) = (Record::default(), Vec::new());
        while all.len() < RECORDS && reader.read(&mut record).unwrap_or(false) {
            all.push((record.line, record.len(), ends_empty(&record)));
        }
        (1..all.len().min(TITLES)).find_map(|at| {
            let (line, count, _) = all[at];
            let differs = all[..at].iter().all(|(_, other, _)| *other < count);
            let rows = &all[at..];
            let same = rows.iter().all(|(_, other, ends)| *other == count || (*ends && *other == count + 1));
            (count > 1 && differs && rows.len() > 2 && same).then_some(line - 1)
        })
    };
    SEPARATORS.into_iter().filter_map(below).min().unwrap_or(0)
}

/// How fields are written: by the ending, or by what gives the first lines the same count of fields, and the most.
pub(super) fn form_of(first: &str, ending: &str, choices: &Choices) -> Form {
    let quote = choices.quote.unwrap_or(b'"');
    if let Some(separator) = choices.separator {
        return Form { separator, quote };
    }
    if matches!(ending, "tsv" | "tab") {
        return Form { separator: b'\t', quote };
    }
    // The last line may be cut.
    let whole = first.rsplit_once('\n').map_or(first, |(whole, _)| whole);
    let count = |separator: u8| -> usize {
        let mut reader = Reader::new(whole.as_bytes(), Form { separator, quote });
        let (mut record, mut fields) = (Record::default(), Vec::new());
        while fields.len() < RECORDS && reader.read(&mut record).unwrap_or(false) {
            fields.push((record.len(), ends_empty(&record)));
        }
        let (first, _) = fields.first().copied().unwrap_or((1, false));
        let same = fields.iter().filter(|(count, ends)| *count == first || (*ends && *count == first + 1)).count();
        if first > 1 && same * 10 >= fields.len() * 9 { first } else { 0 }
    };
    let best = SEPARATORS.into_iter().map(|sign| (count(sign), sign)).rev().max_by_key(|(count, _)| *count);
    Form { separator: best.filter(|(count, _)| *count > 0).map_or(b',', |(_, sign)| sign), quote }
}

/// Whether a first record has names: none of them is a number or a day, and they are different from each other and not
/// empty; or there are numbers or days below them.
pub(super) fn looks_like_names(record: &Record, second: Option<&Record>) -> bool {
    let text = |field: &[u8]| String::from_utf8_lossy(field).trim().to_owned();
    let is_value = |text: &str| {
        let day = text.get(..10).unwrap_or_default();
        text.parse::<f64>().is_ok() || jaunty_seam::rows::moment::day(day).is_some()
    };
    let names: Vec<String> = record.fields().map(|(field, _)| text(field)).collect();
    if names.iter().any(|name| is_value(name)) {
        return false;
    }
    let mut seen = std::collections::HashSet::new();
    if names.iter().all(|name| !name.is_empty() && seen.insert(name)) {
        return true;
    }
    let below = second.into_iter().flat_map(Record::fields).map(|(field, _)| text(field));
    names.iter().zip(below).any(|(name, value)| !name.is_empty() && is_value(&value))
}

/// The names of the columns: those of the first record, or by their places.
pub(super) fn names_of(record: &Record, header: bool) -> Vec<String> {
    let mut seen = std::collections::HashSet::new();
    let name = |(at, (field, _)): (usize, (&[u8], bool))| {
        // What no server takes in a name, and nobody sees.
        let text = String::from_utf8_lossy(field).trim().replace(char::is_control, "_");
        let mut name = if header && !text.is_empty() { text } else { format!("c{}", at + 1) };
        while !seen.insert(name.clone()) {
            name.push('_');
        }
        name
    };
    record.fields().enumerate().map(name).collect()
}
