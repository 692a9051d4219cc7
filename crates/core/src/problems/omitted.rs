//! A word that was left out, or stands for another: `order name`, `delete ports`, `is 'x'`, `= Salt`. It is looked for only
//! where the server refuses a statement, since another server may take it.

use super::{LONGEST, Problem};
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::habits::NOT_HERE;
use jaunty_language::statement::shape::{Word, words};
use jaunty_seam::error::{EngineError, ErrorKind};

/// What was meant where a server does not understand a statement: near the place that it points at, or where it points at
/// nothing. `near` of the problem is what stands in its place then.
pub fn omitted(error: &EngineError, text: &str, dialect: &'static Dialect) -> Option<Problem> {
    let all = words_of(error, text, dialect)?;
    let pointed = error.at.map(|at| all.iter().position(|word| at < word.range.end).unwrap_or(all.len()));
    // A server stumbles over what follows, or gets to the end.
    let is_near = |at: usize| pointed.is_none_or(|pointed| (at..=at + 2).contains(&pointed) || pointed == all.len());
    let not_understood =
        error.message.to_lowercase().contains("syntax") || matches!(error.code.as_deref(), Some("42601" | "42883"));
    if !not_understood {
        return None;
    }
    let text_of = |word: &Word| text.get(word.range.clone()).unwrap_or_default();
    let with = |word: &Word, more: &str| {
        let is_upper = text_of(word).chars().next().is_some_and(char::is_uppercase);
        format!("{} {}", text_of(word), if is_upper { more.to_uppercase() } else { more.to_owned() })
    };
    let problem = |range: std::ops::Range<usize>, near: String| {
        let said = Problem::of_server(error);
        Some(Problem { near: vec![near], is_written: true, ..Problem::new(range, said.message) })
    };
    if let Some((at, more)) = first_words(&all, dialect).filter(|(at, _)| is_near(*at)) {
        return problem(all[at].range.clone(), with(&all[at], more));
    }
    for at in (0..all.len()).filter(|at| is_near(*at)) {
        let (word, next) = (&all[at], all.get(at + 1));
        let before = at.checked_sub(1).and_then(|at| all.get(at));
        let is_name =
            next.is_some_and(|next| matches!(next.kind, TokenKind::Word | TokenKind::QuotedName | TokenKind::Number));
        // `o.order` and `as group` are names.
        let is_keyword = before.is_some_and(|before| !before.sign(b'.') && !before.is("AS"));
        if word.is_one_of(&["ORDER", "GROUP"]) && is_keyword && is_name && !next.is_some_and(|next| next.is("BY")) {
            return problem(word.range.clone(), with(word, "by"));
        }
        let closes = next.is_some_and(|next| next.sign(b')') || next.sign(b','));
        if word.is("PRIMARY") && closes {
            return problem(word.range.clone(), with(word, "key"));
        }
        if word.is("FOREIGN") && next.is_some_and(|next| next.sign(b'(')) {
            return problem(word.range.clone(), with(word, "key"));
        }
        if word.is("IS") && next.is_some_and(|next| matches!(next.kind, TokenKind::Text | TokenKind::Number)) {
            return problem(word.range.clone(), "=".to_owned());
        }
        if word.sign(b'=') && next.is_some_and(|next| next.sign(b'=') && next.range.start == word.range.end) {
            return problem(word.range.start..word.range.end + 1, "=".to_owned());
        }
        let on = before.is_some_and(|before| before.is("DISTINCT")) && word.is("ON");
        if let Some(name) = next.filter(|next| on && next.kind == TokenKind::Word && !next.is("FROM")) {
            return problem(word.range.start..name.range.end, format!("{} ({})", text_of(word), text_of(name)));
        }
    }
    None
}

/// The first word of a statement that needs another one after it, by its place, and that one.
fn first_words(all: &[Word], dialect: &Dialect) -> Option<(usize, &'static str)> {
    let [first, second, rest @ ..] = all else { return None };
    if !matches!(second.kind, TokenKind::Word | TokenKind::QuotedName) {
        return None;
    }
    let ends = rest.first().is_none_or(|word| word.is("WHERE") || word.sign(b'.') || word.kind == TokenKind::Semicolon);
    let goes_on = rest.first().is_some_and(|word| word.is_one_of(&["VALUES", "SELECT", "DEFAULT"]) || word.sign(b'('));
    let is_own = second.kind == TokenKind::Word && dialect.is_keyword(&second.text);
    if first.is("DELETE") && ends && !second.is("FROM") && !is_own {
        return Some((0, "from"));
    }
    if first.is("INSERT") && goes_on && !second.is("INTO") && !is_own {
        return Some((0, "into"));
    }
    // `update ports name = 'x'`
    let equals = rest.iter().position(|word| word.sign(b'='))?;
    let table = 2 + equals.checked_sub(1)?;
    let is_short = !all.iter().any(|word| word.is("SET")) && first.is("UPDATE");
    (is_short && table >= 2 && !all[table - 1].sign(b'.')).then_some((table - 1, "set"))
}

/// The text that was meant where a server knows no column of that name: what something is compared with.
pub fn unquoted(error: &EngineError, text: &str, dialect: &'static Dialect) -> Option<Problem> {
    let all = words_of(error, text, dialect)?;
    let message = error.message.to_lowercase();
    if !message.contains("column") {
        return None;
    }
    (0..all.len()).find_map(|at| {
        let word = all.get(at)?;
        let name = text.get(word.range.clone())?;
        let is_plain = word.kind == TokenKind::Word && !dialect.is_keyword(&word.text);
        let is_told = error.at.is_none_or(|at| word.range.contains(&at)) && tells_of(&message, &name.to_lowercase());
        (is_plain && is_told && is_compared(&all, at)).then(|| {
            let said = Problem::of_server(error);
            let near = vec![format!("'{name}'")];
            Problem { near, is_written: true, ..Problem::new(word.range.clone(), said.message) }
        })
    })
}

/// Whether a message names this name, and not one that it is a part of.
fn tells_of(message: &str, name: &str) -> bool {
    let part = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
    message.match_indices(name).any(|(at, _)| {
        let before = message[..at].chars().next_back();
        let after = message[at + name.len()..].chars().next();
        !before.is_some_and(part) && !after.is_some_and(part)
    })
}

/// Whether the word at a place is all that something is compared with, or one of a list: what is meant there is mostly a
/// value.
pub(super) fn is_compared(all: &[Word], at: usize) -> bool {
    let back = |by: usize| at.checked_sub(by).and_then(|at| all.get(at));
    let goes_on = all.get(at + 1).is_some_and(|next| {
        matches!(next.kind, TokenKind::Punctuation(sign) if !matches!(sign, b')' | b','))
            || next.kind == TokenKind::Text
    });
    if goes_on {
        return false;
    }
    let Some(before) = back(1) else { return false };
    if before.sign(b'=') || before.sign(b'<') || before.sign(b'>') || before.is_one_of(&["LIKE", "ILIKE"]) {
        return true;
    }
    let list =
        |word: &&Word| word.sign(b',') || matches!(word.kind, TokenKind::Word | TokenKind::Text | TokenKind::Number);
    let opening = (1..=at).filter_map(back).find(|word| !list(word) || word.is_one_of(&["SELECT", "VALUES"]));
    let Some(opening) = opening.filter(|word| word.sign(b'(')) else { return false };
    let before = all.iter().rev().find(|word| word.range.start < opening.range.start);
    before.is_some_and(|word| word.is("IN"))
}

/// The words of a statement that a server refused; none where nothing is to be said about them.
fn words_of(error: &EngineError, text: &str, dialect: &'static Dialect) -> Option<Vec<Word>> {
    // Where the statement has a word of another server, it is known what was meant.
    let is_known = error.remedy.as_ref().is_some_and(|remedy| remedy.contains(NOT_HERE));
    let is_judged = error.kind == ErrorKind::Refused && dialect.family == Family::Sql && text.len() <= LONGEST;
    (is_judged && !is_known).then(|| words(text, dialect, 0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::by_name;

    fn refused(text: &str, message: &str) -> (EngineError, String) {
        let at = text.find('|');
        (EngineError::new(ErrorKind::Refused, message).at(at), text.replacen('|', "", 1))
    }

    fn told(found: Option<Problem>, text: &str) -> Option<String> {
        found.map(|found| format!("{} → {}", &text[found.range.clone()], found.near[0]))
    }

    #[test]
    fn words_that_were_left_out_are_known_by_what_follows() {
        for (text, wanted) in [
            ("select * from ports order |name", Some("order → order by")),
            ("select count(*) from ports GROUP |code", Some("GROUP → GROUP BY")),
            ("select 1 from ports order by |", None),
            ("select o.order |x from ports", None),
            ("delete |ports", Some("delete → delete from")),
            ("delete ports|", Some("delete → delete from")),
            ("delete |ports where id = 1", Some("delete → delete from")),
            ("delete from |where", None),
            ("insert |ports values (1)", Some("insert → insert into")),
            ("insert |ports (id) values (1)", Some("insert → insert into")),
            ("insert into |values (1)", None),
            ("update ports name |= 'x'", Some("ports → ports set")),
            ("update east.ports name |= 'x'", Some("ports → ports set")),
            ("update ports set name |== 'x'", Some("== → =")),
            ("select * from ports where name is |'x'", Some("is → =")),
            ("select * from ports where name is |null x", None),
            ("create table t (id int primary|)", Some("primary → primary key")),
            ("create table t (id int, foreign |(id) references x)", Some("foreign → foreign key")),
            ("select distinct on |name from ports", Some("on name → on (name)")),
            // Far from where it stumbles.
            ("select order x from ports where a = 1 and b = 2 frobnicate |it", None),
        ] {
            let (error, text) = refused(text, "syntax error at or near");
            let found = omitted(&error, &text, by_name("postgres").unwrap());
            assert_eq!(told(found, &text).as_deref(), wanted, "{text}");
        }
        // What is wrong is not the language.
        let (error, text) = refused("delete |ports", "permission denied");
        assert_eq!(omitted(&error, &text, by_name("postgres").unwrap()), None);
    }

    #[test]
    fn what_something_is_compared_with_is_mostly_a_text() {
        for (text, message, wanted) in [
            ("select * from ports where code = SMQ", "no such column: SMQ", Some("SMQ → 'SMQ'")),
            ("select * from ports where code = |smq and 1", "column \"smq\" does not exist", Some("smq → 'smq'")),
            ("select * from ports where code in (a, 'b', SMQ)", "no such column: SMQ", Some("SMQ → 'SMQ'")),
            ("select * from ports where code like Salt", "Unknown column 'Salt' in 'WHERE'", Some("Salt → 'Salt'")),
            // Others than what is compared, and what goes on.
            ("select SMQ from ports", "no such column: SMQ", None),
            ("select * from ports where code = SMQ || 'x'", "no such column: SMQ", None),
            ("select * from ports where code = SMQ.x", "no such column: SMQ.x", None),
            ("select * from ports where code = SMQ", "no such column: Q", None),
            ("select coalesce(a, SMQ) from ports", "no such column: SMQ", None),
        ] {
            let (error, text) = refused(text, message);
            let found = unquoted(&error, &text, by_name("sqlite").unwrap());
            assert_eq!(told(found, &text).as_deref(), wanted, "{text}");
        }
    }
}
