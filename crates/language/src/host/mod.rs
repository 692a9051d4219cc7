//! Statements of SQL inside the string literals of program code.
//!
//! [`masked`] gives the text with everything else blanked out, byte for byte: what finds, judges and runs statements in
//! a text of SQL does so in it, and places are the same in both. A value that the program puts into a literal becomes
//! a parameter.
//!
//! To add a language: an entry in [`HOSTS`], and a case in `cases.txt`.

mod between;
mod code;
mod escape;
mod exact;
mod literal;
mod looks;

use std::ops::Range;

use between::{added_to, target, value_after, value_between};
use literal::{Literal, literals, name_of};
use looks::{is_marked, looks_like_sql, mark_within};

pub use code::Code;
pub use escape::Escapes;
pub use exact::{Exact, exact};

/// What stands in a literal for a value of the program.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Insert {
    /// From these signs to the closing one, with others of its kind inside: `${…}`, `#{…}`, `\(…)`, `{…}`.
    Between(&'static str, u8, u8),
    /// A name after a dollar sign: `$port`.
    Dollar,
}

/// A kind of literal.
#[derive(Debug, Clone, Copy)]
pub struct Quote {
    /// What may stand before its opening quote, the letters in any order and case; empty for nothing.
    pub prefix: &'static str,
    /// The opening quote.
    pub open: &'static str,
    /// The closing one.
    pub close: &'static str,
    /// What a backslash does to the signs after it; none where it is one.
    pub escapes: Option<&'static Escapes>,
    /// Whether the closing quote stands for itself where it is doubled.
    pub doubled: bool,
    /// Whether it may go over several lines; one that may not ends with its line at the latest.
    pub lines: bool,
    /// What stands for values in it.
    pub inserts: &'static [Insert],
}

/// A programming language, as far as its literals go.
#[derive(Debug)]
pub struct Host {
    /// Its name, as editors say it.
    pub name: &'static str,
    /// Other such names.
    pub also: &'static [&'static str],
    /// The endings of its files.
    pub endings: &'static [&'static str],
    /// What begins a comment to the end of the line.
    pub line_comments: &'static [&'static str],
    /// What begins and ends a longer one.
    pub block_comment: Option<(&'static str, &'static str)>,
    /// Its literals; of two that fit the first counts.
    pub quotes: &'static [Quote],
    /// Whether `<<SQL` begins a text that ends with that word alone on a line.
    pub here: bool,
    /// What may stand between two literals that are one text, beside blanks.
    pub joins: &'static [u8],
}

const fn plain(open: &'static str, escapes: &'static Escapes) -> Quote {
    // Three signs, and the backtick, are what languages have for texts of several lines.
    let lines = open.len() > 1 || matches!(open.as_bytes(), [b'`']);
    Quote { prefix: "", open, close: open, escapes: Some(escapes), doubled: false, lines, inserts: &[] }
}

const fn over_lines(quote: Quote) -> Quote {
    Quote { lines: true, ..quote }
}

const fn raw(open: &'static str) -> Quote {
    Quote { escapes: None, ..plain(open, escape::ONE) }
}

const fn with(quote: Quote, inserts: &'static [Insert]) -> Quote {
    Quote { inserts, ..quote }
}

const fn after(prefix: &'static str, quote: Quote) -> Quote {
    Quote { prefix, ..quote }
}

const BRACES: &[Insert] = &[Insert::Between("{", b'{', b'}')];
const DOLLAR_BRACES: &[Insert] = &[Insert::Between("${", b'{', b'}')];
const DOLLARS: &[Insert] = &[Insert::Between("${", b'{', b'}'), Insert::Dollar];
const HASH_BRACES: &[Insert] = &[Insert::Between("#{", b'{', b'}')];
const SLASH_PARENS: &[Insert] = &[Insert::Between("\\(", b'(', b')')];
const C_COMMENTS: (&[&str], Option<(&str, &str)>) = (&["//"], Some(("/*", "*/")));

const SCRIPT_QUOTES: &[Quote] =
    &[with(plain("`", escape::SCRIPT), DOLLAR_BRACES), plain("\"", escape::SCRIPT), plain("'", escape::SCRIPT)];

/// All languages.
pub static HOSTS: &[Host] = &[
    Host {
        name: "rust",
        also: &[],
        endings: &["rs"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[
            after("r", Quote { close: "\"##", ..raw("##\"") }),
            after("r", Quote { close: "\"#", ..raw("#\"") }),
            after("r", over_lines(raw("\""))),
            over_lines(with(plain("\"", escape::RUST), BRACES)),
        ],
        here: false,
        joins: b"",
    },
    Host {
        name: "python",
        also: &[],
        endings: &["py", "pyi"],
        line_comments: &["#"],
        block_comment: None,
        quotes: &[
            after("rf", with(raw("\"\"\""), BRACES)),
            after("rf", with(raw("'''"), BRACES)),
            after("f", with(plain("\"\"\"", escape::PYTHON), BRACES)),
            after("f", with(plain("'''", escape::PYTHON), BRACES)),
            after("r", raw("\"\"\"")),
            after("r", raw("'''")),
            plain("\"\"\"", escape::PYTHON),
            plain("'''", escape::PYTHON),
            after("rf", with(raw("\""), BRACES)),
            after("rf", with(raw("'"), BRACES)),
            after("f", with(plain("\"", escape::PYTHON), BRACES)),
            after("f", with(plain("'", escape::PYTHON), BRACES)),
            after("r", raw("\"")),
            after("r", raw("'")),
            plain("\"", escape::PYTHON),
            plain("'", escape::PYTHON),
        ],
        here: false,
        joins: b"+\\",
    },
    Host {
        name: "javascript",
        also: &["javascriptreact"],
        endings: &["js", "mjs", "cjs", "jsx"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: SCRIPT_QUOTES,
        here: false,
        joins: b"+",
    },
    Host {
        name: "typescript",
        also: &["typescriptreact"],
        endings: &["ts", "tsx", "mts", "cts"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: SCRIPT_QUOTES,
        here: false,
        joins: b"+",
    },
    Host {
        name: "go",
        also: &[],
        endings: &["go"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[raw("`"), plain("\"", escape::GO)],
        here: false,
        joins: b"+",
    },
    Host {
        name: "java",
        also: &[],
        endings: &["java"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[plain("\"\"\"", escape::JAVA), plain("\"", escape::JAVA)],
        here: false,
        joins: b"+",
    },
    Host {
        name: "kotlin",
        also: &[],
        endings: &["kt", "kts"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[with(raw("\"\"\""), DOLLARS), with(plain("\"", escape::KOTLIN), DOLLARS)],
        here: false,
        joins: b"+",
    },
    Host {
        name: "csharp",
        also: &["cs"],
        endings: &["cs"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[
            after("$", with(raw("\"\"\""), BRACES)),
            raw("\"\"\""),
            after("$@", Quote { doubled: true, lines: true, ..with(raw("\""), BRACES) }),
            after("@", Quote { doubled: true, lines: true, ..raw("\"") }),
            after("$", with(plain("\"", escape::CSHARP), BRACES)),
            plain("\"", escape::CSHARP),
        ],
        here: false,
        joins: b"+",
    },
    Host {
        name: "php",
        also: &[],
        endings: &["php"],
        line_comments: &["//", "#"],
        block_comment: C_COMMENTS.1,
        quotes: &[
            over_lines(with(plain("\"", escape::PHP), &[Insert::Between("{$", b'{', b'}'), Insert::Dollar])),
            over_lines(plain("'", escape::ONE)),
        ],
        here: true,
        joins: b".",
    },
    Host {
        name: "ruby",
        also: &[],
        endings: &["rb", "rake"],
        line_comments: &["#"],
        block_comment: None,
        quotes: &[over_lines(with(plain("\"", escape::RUBY), HASH_BRACES)), over_lines(plain("'", escape::ONE))],
        here: true,
        joins: b"+\\",
    },
    Host {
        name: "swift",
        also: &[],
        endings: &["swift"],
        line_comments: C_COMMENTS.0,
        block_comment: C_COMMENTS.1,
        quotes: &[with(plain("\"\"\"", escape::SWIFT), SLASH_PARENS), with(plain("\"", escape::SWIFT), SLASH_PARENS)],
        here: false,
        joins: b"+",
    },
    Host {
        name: "shellscript",
        also: &["sh", "bash", "zsh", "shell", "shell-script"],
        endings: &["sh", "bash", "zsh"],
        line_comments: &["#"],
        block_comment: None,
        quotes: &[over_lines(with(plain("\"", escape::SHELL), DOLLARS)), over_lines(raw("'"))],
        here: true,
        joins: b"\\",
    },
];

/// Text in no language: words of it can be looked up, and it has no statements.
pub static PLAIN: Host = Host {
    name: "plaintext",
    also: &[],
    endings: &[],
    line_comments: &["#"],
    block_comment: None,
    quotes: &[],
    here: false,
    joins: b"",
};

/// The language that editors call so.
pub fn by_name(name: &str) -> Option<&'static Host> {
    HOSTS.iter().find(|host| host.name == name || host.also.contains(&name))
}

/// The language of files with this ending.
pub fn by_ending(ending: &str) -> Option<&'static Host> {
    HOSTS.iter().find(|host| host.endings.contains(&ending))
}

/// The text with everything but its statements blanked out: as many bytes, the same lines, and a semicolon where the
/// closing quote of a statement was. A value between its literals becomes a parameter, as one within does.
pub fn masked(text: &str, host: &Host) -> String {
    let found = literals(text, host);
    let mut out: Vec<u8> = text.bytes().map(|byte| if matches!(byte, b'\n' | b'\r') { byte } else { b' ' }).collect();
    let mut at = 0;
    while at < found.len() {
        let (parts, next) = joined(text, &found, at, host);
        let values = values(text, &parts, &found, host);
        let mut written: Vec<Vec<u8>> = parts.iter().map(|literal| literal.written(text)).collect();
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
    String::from_utf8(out).unwrap_or_default()
}

/// The bytes of a character, where it is one that the masked text can have: all that is not blank there.
fn encoded(c: char, room: &mut [u8; 4]) -> &[u8] {
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
    let rest = text.get(at..).unwrap_or_default();
    let begins = rest.len() - rest.trim_start().len();
    at + rest.get(begins..).and_then(|rest| rest.find('\n')).map_or(rest.len(), |end| begins + end)
}

/// More bytes than this do not stand between two literals that are one text.
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use ropey::Rope;

    use super::*;
    use crate::dialect::POSTGRES;
    use crate::outline::Outline;

    /// Each case: a language, its code, and the statements that are found in it.
    const CASES: &str = include_str!("cases.txt");

    #[test]
    fn statements_are_found_in_code() {
        let mut cases = 0;
        for case in CASES.split("\n====\n") {
            let (head, rest) = case.trim_start().split_once('\n').unwrap();
            let (code, expected) = rest.split_once("\n----\n").unwrap();
            let host = by_name(head.trim()).unwrap_or_else(|| panic!("{head}"));
            let masked = masked(code, host);
            assert_eq!(masked.len(), code.len(), "{head}");
            let rope = Rope::from_str(&masked);
            let outline = Outline::new(&rope, &POSTGRES);
            let blanks = |text: String| text.split_whitespace().collect::<Vec<_>>().join(" ");
            let found: Vec<String> = outline.statements().iter().map(|s| blanks(s.text(&rope))).collect();
            assert_eq!(found.join("\n"), expected.trim_end(), "{head}\n{code}");
            cases += 1;
        }
        assert!(cases >= 20);
        assert!(HOSTS.iter().all(|host| CASES.contains(&format!("\n{}\n", host.name)) || CASES.starts_with(host.name)));
    }

    proptest! {
        #[test]
        fn places_stay_where_they_are(text in "[a-z\"'`\\\\{}$#()/*\n é🚢<SQL]{0,80}") {
            for host in HOSTS {
                let masked = masked(&format!("q = \"select a from b where {text}"), host);
                prop_assert_eq!(masked.len(), text.len() + 27);
                prop_assert_eq!(masked.matches('\n').count(), text.matches('\n').count());
            }
        }
    }
}
