//! What the checks of a table say of the values of a column.

use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::definition::unquoted;
use jaunty_language::statement::shape::{Word, words};
use jaunty_seam::catalog::{Object, Rule};

/// The texts that a check allows a column, as they are written there, in quotes: those of `column in ('a', 'b')`, and of
/// what servers make of it, `column = any (array['a', 'b'])` and `column = 'a' or column = 'b'`.
pub fn allowed(object: &Object, column: &str, dialect: &'static Dialect) -> Vec<String> {
    let expressions = checks(object).map(|expression| words(expression, dialect, 0));
    let of_one = |words: Vec<Word>| -> Vec<String> {
        let is_name = |kind| matches!(kind, TokenKind::Word | TokenKind::QuotedName);
        let first = words.iter().find(|word| is_name(word.kind));
        if first.is_none_or(|word| !unquoted(&word.text).eq_ignore_ascii_case(column)) {
            return Vec::new();
        }
        let has = |known: &[&str]| words.iter().any(|word| word.is_one_of(known));
        // Each side compares the same column with one text.
        let is_side = |word: &Word| {
            word.is("OR")
                || (is_name(word.kind) && unquoted(&word.text).eq_ignore_ascii_case(column))
                || word.kind == TokenKind::Text
                || [b'=', b'(', b')'].iter().any(|sign| word.sign(*sign))
        };
        // What is said of other columns, or of a part of the value, is no list.
        let is_plain = |word: &Word| match word.kind {
            TokenKind::Punctuation(sign) => b"()[],:=".contains(&sign),
            _ => true,
        };
        let lists = has(&["IN", "ANY"]) && !has(&["NOT", "OR", "AND"]) && words.iter().all(is_plain);
        if !lists && !words.iter().all(is_side) {
            return Vec::new();
        }
        words.iter().filter(|word| word.kind == TokenKind::Text).map(|word| word.text.clone()).collect()
    };
    expressions.flat_map(of_one).collect()
}

/// Whether a check wants the texts of a column to be JSON, as servers without a type of it do.
pub fn is_json(object: &Object, column: &str) -> bool {
    let bare = |text: &str| -> String {
        let kept = text.chars().filter(|c| !c.is_whitespace() && !"()[]\"`".contains(*c));
        kept.flat_map(char::to_lowercase).collect()
    };
    let column = bare(column);
    let (before, after) = (format!("{column}isnullor"), format!("or{column}isnull"));
    let is_wanted = |check: String| {
        let check = check.strip_prefix(&before).unwrap_or(&check);
        let check = check.strip_suffix(&after).unwrap_or(check);
        let of =
            ["json_valid", "isjson"].iter().find_map(|word| check.strip_prefix(word)?.strip_prefix(column.as_str()));
        of.is_some_and(|rest| matches!(rest, "" | "=1" | ">0" | "<>0"))
    };
    checks(object).map(bare).any(is_wanted)
}

fn checks(object: &Object) -> impl Iterator<Item = &str> {
    object.constraints.iter().filter_map(|constraint| match &constraint.rule {
        Rule::Check(expression) => Some(expression.as_str()),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};
    use jaunty_seam::catalog::{Catalog, Constraint, ObjectKind};

    fn table(check: &str) -> Object {
        let mut object = Catalog::default().object("", "gates", ObjectKind::Table).clone();
        object.constraints.push(Constraint::new("", Vec::new(), Rule::Check(check.to_owned())));
        object
    }

    #[test]
    fn a_check_lists_texts_in_the_words_of_each_server() {
        for (check, dialect, expected) in [
            ("kind in ('sea', 'river')", &SQLITE, "'sea' 'river'"),
            ("(kind = ANY (ARRAY['sea'::text, 'river'::text]))", &POSTGRES, "'sea' 'river'"),
            ("`kind` in ('sea','it''s')", &MYSQL, "'sea' 'it''s'"),
            ("([kind]='sea' OR [kind]='river')", &SQLSERVER, "'sea' 'river'"),
            ("([kind]='sea' OR [other]='river')", &SQLSERVER, ""),
            ("kind not in ('sea')", &SQLITE, ""),
            ("length(kind) > 2 or kind in ('a')", &SQLITE, ""),
            ("lower(kind) in ('sea')", &SQLITE, ""),
            ("other in ('sea')", &SQLITE, ""),
            ("kind <> 'x' and other in ('sea')", &SQLITE, ""),
            ("kind || 'x' in ('seax')", &SQLITE, ""),
            (
                "((kind)::text = ANY ((ARRAY['sea'::character varying, 'it''s'::character varying])::text[]))",
                &POSTGRES,
                "'sea' 'it''s'",
            ),
        ] {
            assert_eq!(allowed(&table(check), "kind", dialect).join(" "), expected, "{check}");
        }
    }

    #[test]
    fn a_check_may_want_json() {
        let checks = [
            "json_valid(`kind`)",
            "(isjson([kind])>(0))",
            "kind is null or json_valid(kind)",
            "JSON_VALID(\"kind\") = 1",
        ];
        for check in checks {
            assert!(is_json(&table(check), "kind"), "{check}");
        }
        for check in ["json_valid(other)", "kind is null or json_valid(other)", "json_valid(kind) = 0"] {
            assert!(!is_json(&table(check), "kind"), "{check}");
        }
    }
}
