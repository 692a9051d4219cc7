//! What is left of program code when everything but its statements is blanked out.

use std::ops::Range;

use super::Host;
use super::between::{added_to, target, value_after, value_between};
use super::literal::{Literal, Scan, name_of, scan};
use super::looks::{is_marked, looks_like_sql, mark_within};

/// The masked text alone.
#[cfg(test)]
pub(super) fn masked(text: &str, host: &Host) -> String {
    Masked::of(text, host).text
}

/// A text with everything but its statements blanked out: as many bytes, the same lines, and a semicolon where the closing quote
/// of a statement was. A value between its literals becomes a parameter, as one within does. And where it can be cut: what stands before such a place and what stands from it on are masked alike if
/// they are masked alone, as far as [`REACH`] bytes on both sides stay as they are.
pub(super) struct Masked {
    pub text: String,
    /// Beginnings of lines, in order.
    pub cuts: Vec<usize>,
}

/// So far the masked text of a place depends on what stands around it, where that is neither a comment nor a literal.
pub(super) const REACH: usize = 2048;

impl Masked {
    pub fn of(text: &str, host: &Host) -> Masked {
        let Scan { literals: found, lines, unsure } = scan(text, host);
        let mut groups: Vec<Range<usize>> = Vec::new();
        let mut out: Vec<u8> =
            text.bytes().map(|byte| if matches!(byte, b'\n' | b'\r') { byte } else { b' ' }).collect();
        let mut at = 0;
        while at < found.len() {
            let (parts, next) = joined(text, &found, at, host);
            let values = values(text, &parts, &found, host);
            let last = next.checked_sub(1).and_then(|last| found.get(last)).map_or(0, |last| last.end);
            let last = values.last().map_or(last, |(_, value)| last.max(value.end + 1));
            groups.extend(parts.first().map(|first| first.start..last));
            let mut written: Vec<Vec<u8>> = parts.iter().map(|literal| literal.written(text, host)).collect();
            for (number, _) in &values {
                let (before, after) = written.split_at_mut(number + 1);
                without_quotes(before.last_mut(), after.first_mut());
            }
            let is_before_value = |number: usize| values.iter().any(|(before, _)| *before == number);
            let mut all = Vec::new();
            for (number, part) in written.iter().enumerate() {
                all.extend_from_slice(part);
                if is_before_value(number) {
                    all.extend_from_slice(b" :x ");
                }
            }
            let whole = String::from_utf8_lossy(&all);
            if parts.first().is_some_and(|first| is_marked(text, first, &whole)) || looks_like_sql(&whole) {
                let mark = mark_within(&whole);
                for (number, (literal, mut written)) in parts.iter().zip(written).enumerate() {
                    if let Some(mark) = mark.clone().filter(|_| number == 0)
                        && let Some(mark) = written.get_mut(mark)
                    {
                        mark.fill(b' ');
                    }
                    if let Some(out) = out.get_mut(literal.inside.clone()) {
                        out.copy_from_slice(&written);
                    }
                }
                let mut end = parts.last().map_or(0, |last| last.inside.end);
                for (number, (before, value)) in values.iter().enumerate() {
                    // From the closing quote on nothing stands there any more; lines stay, and a semicolon may follow.
                    let quote = parts.get(*before).map_or(value.start, |literal| literal.inside.end);
                    let lines = text.get(quote..value.start).and_then(|part| part.rfind(['\n', '\r']));
                    let from = lines.map_or(quote, |line| quote + line + 1);
                    let name = name_of(text.get(value.clone()).unwrap_or_default(), number, value.end - from - 1);
                    let place = out.get_mut(from..from + name.len()).into_iter().flatten();
                    place.zip(name.bytes()).for_each(|(to, from)| *to = from);
                    end = end.max(from + name.len());
                }
                if let Some(end) = out.get_mut(end)
                    && *end == b' '
                {
                    *end = b';';
                }
            }
            at = next;
        }
        // Of characters only whole ones were kept.
        let masked = String::from_utf8(out).unwrap_or_default();
        let mut at = 0;
        let is_within = |line: usize| {
            at += groups.get(at..).unwrap_or_default().iter().take_while(|group| group.end < line).count();
            groups.get(at).is_some_and(|group| group.start < line)
        };
        let marks = |line: usize| text.get(..line).is_some_and(|before| before.trim_end().ends_with("*/"));
        let sure = lines.into_iter().take_while(|line| unsure.is_none_or(|unsure| *line <= unsure));
        let mut is_within = is_within;
        let cuts = sure.filter(|line| !is_within(*line) && !marks(*line)).collect();
        Masked { text: masked, cuts }
    }
}

/// The bytes of a character, where it is one that the masked text can have: all that is not blank there.
pub(super) fn encoded(c: char, room: &mut [u8; 4]) -> &[u8] {
    if c.is_whitespace() || c.is_control() { &[] } else { c.encode_utf8(room).as_bytes() }
}

/// The program writes the quotes of a text around a value itself; a parameter has none.
fn without_quotes(before: Option<&mut Vec<u8>>, after: Option<&mut Vec<u8>>) {
    if let (Some(opens), Some(closes)) =
        (before.and_then(|part| part.last_mut()), after.and_then(|part| part.first_mut()))
        && (*opens, *closes) == (b'\'', b'\'')
    {
        (*opens, *closes) = (b' ', b' ');
    }
}

/// The values between literals that are one text, and after the last: after which literal, and where.
fn values(text: &str, parts: &[&Literal], all: &[Literal], host: &Host) -> Vec<(usize, Range<usize>)> {
    let mut values = Vec::new();
    for (number, literal) in parts.iter().enumerate() {
        let found = match parts.get(number + 1) {
            Some(next) => value_between(&opaque(text, all, literal.end..next.start), host),
            None => value_after(&opaque(text, all, literal.end..line_after(text, literal.end)), host),
        };
        values.extend(found.map(|range| (number, literal.end + range.start..literal.end + range.end)));
    }
    values
}

/// A part of the text in which literals are nothing but letters: as they are within a value.
fn opaque(text: &str, all: &[Literal], range: Range<usize>) -> String {
    let mut out = text.get(range.clone()).unwrap_or_default().as_bytes().to_vec();
    let first = all.partition_point(|literal| literal.start < range.start);
    for literal in all.iter().skip(first).take_while(|literal| literal.end <= range.end) {
        if let Some(part) = out.get_mut(literal.start - range.start..literal.end - range.start) {
            part.fill(b'x');
        }
    }
    String::from_utf8(out).unwrap_or_default()
}

/// The end of the line on which something goes on after a place.
fn line_after(text: &str, at: usize) -> usize {
    let mut end = text.len().min(at + APART);
    while !text.is_char_boundary(end) {
        end += 1;
    }
    let rest = text.get(at..end).unwrap_or_default();
    let begins = rest.len() - rest.trim_start().len();
    at + rest.get(begins..).and_then(|rest| rest.find('\n')).map_or(rest.len(), |end| begins + end)
}

/// More bytes than this do not stand between two literals that are one text, and a value does not begin further away.
const APART: usize = 400;

/// So many literals may stand in one value.
const WITHIN: usize = 4;

/// The literals that are one text with the one at `at`, and the place of the literal after them.
fn joined<'a>(text: &str, all: &'a [Literal], at: usize, host: &Host) -> (Vec<&'a Literal>, usize) {
    let mut parts: Vec<&Literal> = all.get(at).into_iter().collect();
    let mut end = at + 1;
    let before = text.get(..parts.first().map_or(0, |first| first.start)).unwrap_or_default();
    let target = target(before.rsplit('\n').next().unwrap_or_default());
    while let Some(before) = parts.last() {
        // Those between may be of a value: `" + join(",", ids) + "`.
        let goes_on = |next: &usize| {
            let Some(literal) = all.get(*next).filter(|next| next.start - before.end <= APART) else { return false };
            let between = opaque(text, all, before.end..literal.start);
            let adds = || added_to(&between, host).is_some_and(|to| target == Some(to));
            value_between(&between, host).is_some() || *next == end && (joins(&between, host) || adds())
        };
        let Some(next) = (end..end + WITHIN).find(goes_on) else { break };
        parts.extend(all.get(next));
        end = next + 1;
    }
    // So may those after the last.
    let last = parts.last().map_or(0, |last| last.end);
    if let Some(value) = value_after(&opaque(text, all, last..line_after(text, last)), host) {
        end += all.get(end..).unwrap_or_default().iter().take_while(|one| one.end <= last + value.end).count();
    }
    (parts, end)
}

/// Whether what stands between two literals makes one text of them.
fn joins(between: &str, host: &Host) -> bool {
    let may = !host.joins.is_empty() || host.name == "python";
    if !may || !between.bytes().all(|byte| byte.is_ascii_whitespace() || host.joins.contains(&byte)) {
        return false;
    }
    // On one line nothing but a sign joins two.
    between.contains('\n') || between.bytes().any(|byte| host.joins.contains(&byte)) || host.name == "python"
}
