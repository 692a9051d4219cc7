//! How much an `UPDATE` or `DELETE` would touch, read from its text.

use ropey::Rope;

use crate::dialect::Dialect;
use crate::lexer::{Bytes, Lexer, Token, TokenKind};

/// Whether a statement changes or removes rows without a condition, so that it touches all of them.
pub fn touches_everything(statement: &str, dialect: &'static Dialect) -> bool {
    let rope = Rope::from_str(statement);
    let mut bytes = Bytes::new(&rope);
    let words = outer_words(&rope, dialect);
    let mut is = |token: &Token, words: &[&str]| words.iter().any(|word| bytes.is_word(token, word));
    let others = &["SELECT", "INSERT", "REPLACE", "VALUES", "MERGE", "CREATE", "COPY", "ALTER", "GRANT", "REVOKE"];
    for (index, token) in words.iter().enumerate() {
        if is(token, others) {
            return false;
        }
        if is(token, &["UPDATE", "DELETE", "TRUNCATE"]) {
            let rest = &words[index..];
            if rest.iter().any(|token| is(token, &["LIMIT"])) {
                return false;
            }
            let Some(at) = rest.iter().position(|token| is(token, &["WHERE"])) else { return true };
            let end = rest.iter().find(|token| is(token, &["RETURNING", "ORDER"])).map_or(statement.len(), |t| t.start);
            return statement.get(rest[at].end..end).is_some_and(|condition| holds_always(condition, dialect));
        }
    }
    false
}

/// Whether a condition leaves nothing out but NULL, as far as its words tell: one that compares a column or
/// a value with itself, or is `TRUE` or a number, alone, beside others of the kind, or as one choice of several.
fn holds_always(condition: &str, dialect: &'static Dialect) -> bool {
    let rope = Rope::from_str(condition);
    let tokens: Vec<_> =
        Lexer::new(&rope, dialect, 0).filter(|t| !t.kind.is_trivia() && t.kind != TokenKind::Semicolon).collect();
    always(&tokens, condition)
}

fn always(tokens: &[Token], text: &str) -> bool {
    let word = |token: &Token| text.get(token.range()).unwrap_or_default().to_lowercase();
    let split = |word_between: &str| {
        let mut depth = 0;
        let outer = tokens.split(move |token| {
            match token.kind {
                TokenKind::Punctuation(b'(') => depth += 1,
                TokenKind::Punctuation(b')') => depth -= 1,
                _ => {}
            }
            depth == 0 && word(token) == word_between
        });
        outer.map(<[Token]>::to_vec).collect::<Vec<_>>()
    };
    let choices = split("or");
    if choices.len() > 1 {
        return choices.iter().any(|part| always(part, text));
    }
    let parts = split("and");
    if parts.len() > 1 {
        return parts.iter().all(|part| always(part, text));
    }
    if let [open, inside @ .., close] = tokens
        && (open.kind, close.kind) == (TokenKind::Punctuation(b'('), TokenKind::Punctuation(b')'))
    {
        return always(inside, text);
    }
    let words: Vec<String> = tokens.iter().map(word).collect();
    match words.as_slice() {
        [one] => one == "true" || one.parse::<f64>().is_ok_and(|number| number != 0.0),
        _ => {
            let operators: [&[&str]; 8] = [
                &["="],
                &["=", "="],
                &["<", "="],
                &[">", "="],
                &["<", "=", ">"],
                &["is"],
                &["like"],
                &["is", "not", "distinct", "from"],
            ];
            operators.iter().any(|operator| {
                let at = words.windows(operator.len()).position(|window| window == *operator);
                at.is_some_and(|at| {
                    let (left, right) = (&words[..at], &words[at + operator.len()..]);
                    // `p.id = id` is about one column too, where nothing else is called so.
                    let qualified = |long: &[String], short: &[String]| match (long, short) {
                        ([.., point, name], [alone]) => point == "." && name == alone,
                        _ => false,
                    };
                    !left.is_empty() && (left == right || qualified(left, right) || qualified(right, left))
                })
            })
        }
    }
}

/// Whether a statement is a `TRUNCATE`, by its first word.
pub fn is_truncate(statement: &str) -> bool {
    statement.split(|c: char| !c.is_ascii_alphabetic()).next().is_some_and(|word| word.eq_ignore_ascii_case("truncate"))
}

/// A statement that counts the rows which an `UPDATE` or `DELETE` of one table would touch. `None`
/// for any other, and for those in which more than one table takes part.
pub fn counting(statement: &str, dialect: &'static Dialect) -> Option<String> {
    let rope = Rope::from_str(statement);
    let mut bytes = Bytes::new(&rope);
    let words = outer_words(&rope, dialect);
    let mut place =
        |wanted: &[&str]| words.iter().position(|token| wanted.iter().any(|word| bytes.is_word(token, word)));
    if place(&["LIMIT", "OFFSET", "WITH", "JOIN"]).is_some() {
        return None;
    }
    let end = place(&["RETURNING", "ORDER"]).map_or(statement.len(), |at| words[at].start);
    let condition = place(&["WHERE"]).map_or("", |at| statement[words[at].start..end].trim_end());
    let table = match (place(&["DELETE"]), place(&["UPDATE"])) {
        (Some(0), _) => {
            let from = place(&["FROM"]).filter(|at| *at == 1 && place(&["USING"]).is_none())?;
            let until = place(&["WHERE"]).map_or(end, |at| words[at].start);
            &statement[words[from].end..until]
        }
        (_, Some(0)) => {
            let set = place(&["SET"]).filter(|_| place(&["FROM", "OR"]).is_none())?;
            &statement[words[0].end..words[set].start]
        }
        _ => return None,
    };
    Some(format!("select count(*) from {} {condition}", table.trim()).trim_end().to_owned())
}

/// The words outside parentheses.
fn outer_words(rope: &Rope, dialect: &'static Dialect) -> Vec<Token> {
    let mut depth = 0;
    let outer = Lexer::new(rope, dialect, 0).filter(|token| {
        match token.kind {
            TokenKind::Punctuation(b'(') => depth += 1,
            TokenKind::Punctuation(b')') => depth -= 1,
            _ => {}
        }
        depth == 0 && token.kind == TokenKind::Word
    });
    outer.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{POSTGRES, SQLITE};

    #[test]
    fn a_statement_without_a_condition_touches_everything() {
        for (statement, everything) in [
            ("delete from fares", true),
            ("update fares set price = (select max(price) from fares where id = 1)", true),
            ("truncate fares", true),
            ("delete from fares where id = id", true),
            ("delete from fares where (fares.id = id and 1 = 1);", true),
            ("update fares set price = 1 where id is not distinct from id returning id", true),
            ("update fares set price = 1 where id = 3 or true", true),
            ("delete from fares where id = 3 and id = id", false),
            ("delete from fares using old where fares.id = old.id", false),
            ("delete from fares where id = -id", false),
            ("delete from fares where 0", false),
            ("delete from fares where id = (select id)", false),
            ("delete from fares where id >= id", true),
            ("delete from fares where id = 1", false),
            ("with old as (select 1) delete from fares using old where true", true),
            ("with old as (select 1) delete from fares using old where old.id = 1", false),
            ("insert into fares select * from old_fares", false),
            ("select 1", false),
            ("create table t (a int references u on delete cascade)", false),
            ("-- delete\nselect 'update'", false),
        ] {
            assert_eq!(touches_everything(statement, &POSTGRES), everything, "{statement}");
        }
    }

    #[test]
    fn rows_are_counted_by_the_same_condition() {
        for (statement, expected) in [
            (
                "delete from fares where id in (select id from old)",
                Some("select count(*) from fares where id in (select id from old)"),
            ),
            ("DELETE FROM fares AS f", Some("select count(*) from fares AS f")),
            (
                "update fares as f set price = 1, note = 'set where' where f.id > 3 returning id",
                Some("select count(*) from fares as f where f.id > 3"),
            ),
            ("update fares set price = o.price from old o where o.id = fares.id", None),
            ("delete from fares limit 3", None),
            ("insert into fares values (1)", None),
        ] {
            assert_eq!(counting(statement, &SQLITE).as_deref(), expected);
        }
    }
}
