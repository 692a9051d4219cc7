//! A statement of program code as the program sends it.

use std::ops::Range;

use ropey::Rope;

use super::Host;
use super::escape::Meaning;
use super::literal::{Literal, Part, literals};
use crate::dialect::Dialect;
use crate::lexer::{Lexer, TokenKind};
use crate::text::moved::Moved;

/// A statement with what the escapes within its quoted texts stand for, which the masked text has no room for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exact {
    /// The statement.
    pub text: String,
    moved: Moved,
}

impl Exact {
    /// The place in the masked text's statement of a place in this one, in bytes.
    pub fn masked(&self, at: usize) -> usize {
        self.moved.before(at)
    }
}

/// The statement in this range of the masked text as the program sends it; none where that is what stands there. Fails with
/// the place of an escape within a quoted text that is not understood.
pub(super) fn exact(
    written: &str,
    (masked, statement): (&Rope, Range<usize>),
    host: &Host,
    dialect: &'static Dialect,
) -> Result<Option<Exact>, Range<usize>> {
    let mut quoted = Lexer::new(masked, dialect, statement.start)
        .take_while(|token| token.start < statement.end)
        .filter(|token| matches!(token.kind, TokenKind::Text | TokenKind::QuotedName | TokenKind::Binary))
        .peekable();
    if quoted.peek().is_none() {
        return Ok(None);
    }
    let literals = literals(written, host);
    let is_here = |literal: &&Literal| literal.inside.start <= statement.end && statement.start <= literal.inside.end;
    let parts = literals.iter().filter(is_here).flat_map(|literal| &literal.parts);
    let mut escapes = parts.filter_map(|part| match part {
        Part::Escape(range, meaning) => Some((range, *meaning)),
        Part::Value(_) => None,
    });
    let (mut text, mut moved, mut end) = (String::new(), Moved::default(), statement.start);
    let mut next = escapes.next();
    for token in quoted {
        while let Some((range, meaning)) = next.filter(|(range, _)| range.start < token.end) {
            next = escapes.next();
            // One that is the quote of the text itself has its blank outside.
            let within = range.start.max(token.start)..range.end.min(token.end);
            if within.is_empty() {
                continue;
            }
            let mut room = [0; 4];
            let stands = match meaning {
                Meaning::Character(c) => c.encode_utf8(&mut room),
                Meaning::Nothing => "",
                Meaning::Unknown => return Err(range.clone()),
            };
            if masked.byte_slice(within.clone()) == stands {
                continue;
            }
            text.push_str(&String::from(masked.byte_slice(end..within.start)));
            let from = text.len();
            text.push_str(stands);
            moved.add(from..text.len(), within.start - statement.start..within.end - statement.start);
            end = within.end;
        }
    }
    if end == statement.start {
        return Ok(None);
    }
    text.push_str(&String::from(masked.byte_slice(end..statement.end.max(end))));
    Ok(Some(Exact { text, moved }))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::{MYSQL, POSTGRES};
    use crate::host::masked::masked;
    use crate::host::{HOSTS, by_name};
    use crate::outline::Outline;

    fn of(name: &str, code: &str) -> Result<Option<Exact>, String> {
        let host = by_name(name).unwrap();
        let masked = Rope::from_str(&masked(code, host));
        let outline = Outline::new(&masked, &POSTGRES);
        let statement = outline.statements().first().unwrap();
        let found = exact(code, (&masked, statement.start..statement.body_end), host, &POSTGRES);
        found.map_err(|range| code[range].to_owned())
    }

    #[test]
    fn escapes_within_texts_of_statements_are_what_they_stand_for() {
        for (name, code, expected) in [
            (
                "python",
                r#"q = f"update t set tags = '{{}}' where id = {id}""#,
                "update t set tags = '{}' where id = :id ",
            ),
            ("python", r#"q = "update t set note = 'a\tb\\c'""#, "update t set note = 'a\tb\\c'"),
            ("python", r#"q = 'select \'it\'\'s\', b'"#, "select  'it''s' , b"),
            ("python", "q = \"select \\'\\', \\'it\\'\\'\\'\\'s\\', '\\n'\"", "select  '' ,  'it''''s' , '\n'"),
            ("python", "q = 'select \\'a\\\nb\\''", "select  'ab' "),
            (
                "java",
                r#"var q = "insert into t values ('{\"a\": \"é\n\u00e9\"}')";"#,
                "insert into t values ('{\"a\": \"é\né\"}')",
            ),
            ("rust", "let q = \"select 'a\\\n    b\\u{e9}'\";", "select 'abé'"),
            ("php", r#"$q = 'select \'\d+\\n\'';"#, r"select  '\d+\n'"),
            (
                "csharp",
                r#"var q = @"select ""the name"" from b where c = 'd ""e""'";"#,
                r#"select  "the name"  from b where c = 'd "e"'"#,
            ),
            ("go", r#"q := "select 'a\x41' = 'b'""#, "select 'aA' = 'b'"),
        ] {
            let exact = of(name, code).unwrap().unwrap();
            assert_eq!(exact.text, expected.trim_end(), "{code}");
        }
    }

    #[test]
    fn most_statements_are_as_they_stand() {
        for code in [
            r#"q = 'select \'a\' as x, b as \"c\"'"#,
            r#"q = f"select {id} as n where j = 'x' -- {{}}""#,
            "q = \"select a\\n from b where c = 'd'\"",
            "a = \"x'\\t'\"; q = \"select a from b where c = 'd'\"",
            r#"q = "select a from b where c ~ '\d+'""#,
        ] {
            assert_eq!(of("python", code), Ok(None), "{code}");
        }
    }

    #[test]
    fn what_is_not_understood_is_told() {
        assert_eq!(of("python", r#"q = "select '\N{SHIP}'""#), Err(r"\N".into()));
        assert_eq!(of("java", r#"var q = "select '\ud83d\udea2'";"#), Err(r"\ud83d".into()));
        assert_eq!(of("go", r#"q := "select \q, 'a'""#), Ok(None), "it does not stand in a text");
    }

    /// What is masked is read as what is sent: by the guards, before it runs.
    #[test]
    fn comments_end_where_the_program_ends_their_line() {
        let shown = |name: &str, code: &str, dialect: &'static Dialect| {
            let host = by_name(name).unwrap();
            let masked = Rope::from_str(&masked(code, host));
            let outline = Outline::new(&masked, dialect);
            let blanks = |text: String| text.split_whitespace().collect::<Vec<_>>().join(" ");
            outline.statements().iter().map(|s| blanks(s.text(&masked))).collect::<Vec<_>>().join(" | ")
        };
        for (name, code, expected) in [
            ("python", r#"q = "delete from t -- it's all\nwhere id = 1""#, "delete from t where id = 1"),
            ("python", r#"q = "select '--\n' from a -- b""#, "select '-- ' from a"),
            (
                "java",
                r#"var q = "select 'why??' from a where b ?? 'c' and d = ? and e %% 2 = 1 -- ??";"#,
                "select 'why??' from a where b ? 'c' and d = ? and e % 2 = 1",
            ),
            ("python", r#"q = "select 'a\\nb\\'c', d from e""#, r"select 'a \nb \'c', d from e"),
        ] {
            let dialect = if code.contains("nb") { &MYSQL } else { &POSTGRES };
            assert_eq!(shown(name, code, dialect), expected, "{code}");
        }
    }

    proptest! {
        #[test]
        fn any_code_has_its_statements(text in "([a-z\"'`\\\\{}$#()/*\n é🚢<SQLu0]|\\\\[ntux0'\"\n{é]|\\\\u00e9|\\\\u\\{1f6a2\\}|''|:a){0,60}") {
            for host in HOSTS {
                let code = format!("q = \"select a from b where {text}");
                let masked = Rope::from_str(&masked(&code, host));
                let outline = Outline::new(&masked, &POSTGRES);
                for statement in outline.statements() {
                    let bytes = statement.start..statement.body_end;
                    let Ok(Some(exact)) = exact(&code, (&masked, bytes.clone()), host, &POSTGRES) else { continue };
                    prop_assert!((0..=exact.text.len()).all(|at| exact.masked(at) <= bytes.len()));
                    prop_assert_eq!(exact.masked(exact.text.len()), bytes.len());
                }
            }
        }
    }

    #[test]
    fn a_place_is_found_again() {
        let code = r#"q = "select 'a\tb', '\\d{1,2}\n' frm ports where x = '\t'""#;
        let exact = of("python", code).unwrap().unwrap();
        let masked = masked(code, by_name("python").unwrap());
        let statement = &masked[masked.find("select").unwrap()..];
        for word in ["select", "frm", "ports", "where", "x ="] {
            let at = exact.text.find(word).unwrap();
            assert_eq!(exact.masked(at), statement.find(word).unwrap(), "{word}");
        }
    }
}
