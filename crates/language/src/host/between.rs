//! Values that a program puts between literals: `"… where id = " + id + " and …"`.

use std::ops::Range;

use super::Host;

/// A longer expression is not looked at.
const LONGEST: usize = 160;

/// The signs by which a program joins texts and values.
fn signs(host: &Host) -> Vec<u8> {
    // A backslash only joins lines.
    host.joins.iter().copied().filter(|sign| *sign != b'\\').collect()
}

/// The value in the text between two literals that are one text, if that is all that is there.
pub(super) fn value_between(between: &str, host: &Host) -> Option<Range<usize>> {
    let signs = signs(host);
    let begins = between.len() - between.trim_start().len();
    let ends = between.trim_end().len();
    let is_sign = |at: usize| between.as_bytes().get(at).is_some_and(|byte| signs.contains(byte));
    if !is_sign(begins) || ends < begins + 2 || !is_sign(ends - 1) {
        return None;
    }
    trimmed(between, begins + 1..ends - 1).filter(|range| is_value(between.get(range.clone()).unwrap_or_default()))
}

/// The value that is joined to the literal before this text, at its end.
pub(super) fn value_after(rest: &str, host: &Host) -> Option<Range<usize>> {
    let signs = signs(host);
    let begins = rest.len() - rest.trim_start().len();
    if !rest.as_bytes().get(begins).is_some_and(|byte| signs.contains(byte)) {
        return None;
    }
    let mut depth = 0_u32;
    let mut end = rest.len();
    for (at, byte) in rest.bytes().enumerate().skip(begins + 1).take(LONGEST) {
        match byte {
            b'(' | b'[' => depth += 1,
            b')' | b']' if depth > 0 => depth -= 1,
            b')' | b']' | b';' | b',' | b'\n' | b'\r' if depth == 0 => {
                end = at;
                break;
            }
            b'\n' => return None,
            _ => {}
        }
    }
    trimmed(rest, begins + 1..end).filter(|range| is_value(rest.get(range.clone()).unwrap_or_default()))
}

fn trimmed(text: &str, range: Range<usize>) -> Option<Range<usize>> {
    let part = text.get(range.clone())?;
    let start = range.start + part.len() - part.trim_start().len();
    Some(start..start + part.trim().len())
}

/// Whether a text can be one expression, without a text in it.
fn is_value(text: &str) -> bool {
    let mut depth = 0_i32;
    let holds = |byte: u8, depth: i32| {
        byte.is_ascii_alphanumeric() || b"_.$()[]->?:@!&*/%+ ".contains(&byte) || byte == b',' && depth > 0
    };
    for byte in text.bytes() {
        if !holds(byte, depth) {
            return false;
        }
        depth += i32::from(matches!(byte, b'(' | b'[')) - i32::from(matches!(byte, b')' | b']'));
        if depth < 0 {
            return false;
        }
    }
    depth == 0 && text.len() <= LONGEST && text.bytes().any(|byte| byte.is_ascii_alphanumeric())
}

/// What adds a text to one that is there, between the name of that and the text.
const ADDS: &[&str] = &["+=", ".=", "<<"];

/// The same as methods, before their parenthesis.
const ADDING: &[&str] = &["append", "Append", "AppendLine", "push_str", "WriteString", "concat"];

/// The name that a literal is given to or added to, by what stands before it on its line: `sql = `, `let mut sql = String::from(`,
/// `sql.append(`.
pub(super) fn target(before: &str) -> Option<&str> {
    let before = before.trim_end();
    let (head, called) = match before.strip_suffix('(') {
        Some(callee) => {
            let name = trailing(callee, |c| c.is_alphanumeric() || "_$.:<>!".contains(c));
            match name.rsplit_once('.').filter(|(_, method)| ADDING.contains(method)) {
                Some((to, _)) => return Some(to),
                None => (callee.get(..callee.len() - name.len())?.trim_end().trim_end_matches("new").trim_end(), true),
            }
        }
        None => (before, false),
    };
    let added = ADDS.iter().find_map(|sign| head.strip_suffix(sign)).filter(|_| !called);
    let given =
        || head.strip_suffix('=')?.strip_suffix([':', ' ']).filter(|head| !head.ends_with(['=', '!', '<', '>']));
    // Of a shell nothing stands between.
    let given = given().or_else(|| head.strip_suffix('=').filter(|head| head.ends_with(is_of_name)));
    let named = added.or(given)?.trim_end();
    let last = name_at_end(named)?;
    // With the type after a colon the name stands before that.
    let before = named.get(..named.len() - last.len())?.trim_end();
    before.strip_suffix(':').map_or(Some(last), |typed| name_at_end(typed.trim_end()))
}

/// The name that the next literal is added to, where nothing but that stands between it and the one before, on lines of their own.
pub(super) fn added_to<'b>(between: &'b str, host: &Host) -> Option<&'b str> {
    let is_end = |c: char| c.is_whitespace() || matches!(c, ')' | ';');
    let mut rest = between.trim_start_matches(is_end);
    let mut lines = between.get(..between.len() - rest.len())?.contains('\n');
    while host.line_comments.iter().any(|mark| rest.starts_with(mark)) {
        rest = rest.get(rest.find('\n')?..)?.trim_start();
        lines = true;
    }
    let to = target(rest)?;
    let after = rest.strip_prefix(to)?.trim();
    let adds = ADDS.contains(&after) || after.strip_prefix('.')?.strip_suffix('(').is_some_and(|m| ADDING.contains(&m));
    (lines && adds).then_some(to)
}

fn is_of_name(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '$' | '@')
}

fn name_at_end(text: &str) -> Option<&str> {
    let name = trailing(text, |c| is_of_name(c) || matches!(c, '.' | '-' | '>'));
    (!name.is_empty()).then_some(name)
}

/// The end of a text that has nothing but such signs.
fn trailing(text: &str, is: impl Fn(char) -> bool) -> &str {
    let begins = text
        .rfind(|c| !is(c))
        .map_or(0, |at| at + text.get(at..).and_then(|t| t.chars().next()).map_or(1, char::len_utf8));
    text.get(begins..).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::by_name;

    #[test]
    fn only_what_can_be_a_value_is_one() {
        let java = by_name("java").unwrap();
        for (between, expected) in [
            (" + id + ", Some("id")),
            ("\n    + port.getId(1, 2)\n    + ", Some("port.getId(1, 2)")),
            (" + a + b + ", Some("a + b")),
            (" + ", None),
            ("+", None),
            (", id, ", None),
            (" + a, b + ", None),
            (" + f(a + ", None),
            (" + a; x = + ", None),
        ] {
            assert_eq!(value_between(between, java).and_then(|range| between.get(range)), expected, "{between:?}");
        }
        for (rest, expected) in [
            (" + id;", Some("id")),
            (" + id)", Some("id")),
            (" + ids.get(0), x)", Some("ids.get(0)")),
            (" + id\n", Some("id")),
            (" + id", Some("id")),
            ("; x + y", None),
            (" + ", None),
            (" + new Text(\"x\");", None),
        ] {
            assert_eq!(value_after(rest, java).and_then(|range| rest.get(range)), expected, "{rest:?}");
        }
    }
}
