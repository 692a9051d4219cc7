//! Words of other languages of the family, which a person who goes from server to server writes by habit.

use std::ops::Range;

use super::shape::Word;
use crate::dialect::Dialect;
use crate::lexer::TokenKind;

/// A word of another language, and what this one says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Habit {
    /// Its bytes in the statement.
    pub range: Range<usize>,
    /// As it is written.
    pub word: String,
    /// What stands for it here.
    pub instead: &'static str,
}

impl Habit {
    /// It as a sentence without a full stop.
    pub fn sentence(&self) -> String {
        format!("{} {NOT_HERE}; instead: {}", self.word, self.instead)
    }
}

/// What every such sentence says.
pub const NOT_HERE: &str = "isn't supported here";

/// The lines of a table ([`Dialect::habits`]): a pattern, two blanks, and what is said instead.
fn lines(dialect: &'static Dialect) -> impl Iterator<Item = (&'static str, &'static str)> {
    dialect.habits.lines().filter_map(|line| line.split_once("  "))
}

/// The first word of another language in a statement, of which these are the words.
pub fn habit_in(text: &str, all: &[Word], dialect: &'static Dialect) -> Option<Habit> {
    let plain = lines(dialect).filter(|(pattern, _)| !pattern.starts_with([TYPE, REFUSED, POINTED, SIGN]));
    first(text, all, plain.filter_map(|(pattern, instead)| Some((place(pattern, all)?, instead))))
}

/// The same of a statement that the server refused with this message. More is looked for then: what newer servers, or those
/// with something installed, may take; types, where the message tells of them, since columns may be called so; and signs,
/// where the server points at them (`at`, in bytes of the statement).
pub fn habit_refused(
    text: &str,
    all: &[Word],
    dialect: &'static Dialect,
    (message, at): (&str, Option<usize>),
) -> Option<Habit> {
    let message = message.to_lowercase();
    if let Some(habit) = at.and_then(|at| pointed(text, dialect, &message, at)) {
        return Some(habit);
    }
    let types = lines(dialect).filter_map(|(pattern, instead)| Some((pattern.strip_prefix(TYPE)?, instead)));
    let signs = ["\"", "'", "data type "];
    let told = types.filter(|(name, _)| signs.iter().any(|sign| message.contains(&format!("{sign}{name}"))));
    let places = told.filter_map(|(name, instead)| {
        let length = name.split(' ').count();
        let at = (1..all.len()).find(|at| fits(name, all, *at) && !is_part(all, *at))?;
        Some((at..at + length, instead))
    });
    let all_others = lines(dialect).filter(|(pattern, _)| !pattern.starts_with([TYPE, POINTED, SIGN]));
    let others =
        all_others.filter_map(|(pattern, instead)| Some((place(pattern.trim_start_matches(REFUSED), all)?, instead)));
    let signs = lines(dialect).filter_map(|(pattern, instead)| Some((pattern.strip_prefix(SIGN)?, instead)));
    let signs = signs.filter_map(|(sign, instead)| {
        let byte = sign.bytes().next()?;
        let at = all.iter().position(|word| word.sign(byte))?;
        Some((at..at + 1, instead))
    });
    first(text, all, places).or_else(|| first(text, all, others)).or_else(|| first(text, all, signs))
}

/// The signs that a server points at, or in the midst of.
fn pointed(text: &str, dialect: &'static Dialect, message: &str, at: usize) -> Option<Habit> {
    let signs = lines(dialect).filter_map(|(pattern, instead)| Some((pattern.strip_prefix(POINTED)?, instead)));
    let mut found = signs.filter_map(|(pattern, instead)| {
        let (signs, told) = pattern.split_once(' ').unwrap_or((pattern, ""));
        let signs = signs.replace('_', " ");
        let mut starts = (at + 1).saturating_sub(signs.len())..=at;
        let start = starts.find(|start| text.get(*start..).is_some_and(|rest| rest.starts_with(&signs)))?;
        let there = start..start + signs.len();
        message.contains(told).then(|| Habit { range: there, word: signs.trim().to_owned(), instead })
    });
    found.next()
}

/// What a pattern of a type begins with.
const TYPE: char = '!';

/// What a pattern begins with that counts only where the server refuses the statement.
const REFUSED: char = '?';

/// What signs begin with that count where the server points at them; after a blank, a word that its message has. `_` is a
/// blank among them.
const POINTED: char = '§';

/// What a sign begins with that this language has not at all: it counts wherever it stands in a statement that is refused.
const SIGN: char = '¤';

/// The first of some places, as what stands there.
fn first(text: &str, all: &[Word], found: impl Iterator<Item = (Range<usize>, &'static str)>) -> Option<Habit> {
    let (at, instead) = found.min_by_key(|(at, _)| at.start)?;
    let (first, last) = (all.get(at.start)?, all.get(at.end.checked_sub(1)?)?);
    let range = first.range.start..last.range.end;
    Some(Habit { word: text.get(range.clone())?.to_owned(), range, instead })
}

/// What a pattern wants behind its words.
#[derive(Clone, Copy, PartialEq)]
enum Behind {
    Call,
    Value(TokenKind),
    Other,
}

impl Behind {
    fn fits(self, next: Option<&Word>) -> bool {
        let calls = next.is_some_and(|next| next.sign(b'('));
        match self {
            Behind::Call => calls,
            Behind::Value(kind) => next.is_some_and(|next| next.kind == kind || next.kind == TokenKind::Parameter),
            Behind::Other => !calls,
        }
    }
}

/// The words that a pattern fits (`!`, the name of a type, is not one of them): `^` is the beginning of a statement, `name()` a call, `9` a number, `''` a text, and
/// each of the last two what a value is asked for.
fn place(pattern: &str, all: &[Word]) -> Option<Range<usize>> {
    if let Some(first) = pattern.strip_prefix('^') {
        let length = first.split(' ').count();
        return fits(first, all, 0).then_some(0..length);
    }
    let ends =
        [("()", Behind::Call), (" 9", Behind::Value(TokenKind::Number)), (" ''", Behind::Value(TokenKind::Text))];
    let end = ends.into_iter().find_map(|(end, behind)| Some((pattern.strip_suffix(end)?, behind)));
    let (spelled, behind) = end.unwrap_or((pattern, Behind::Other));
    // A function of this name may just be made.
    let makes = all.first().is_some_and(|word| word.is_one_of(&["CREATE", "ALTER", "DROP"]));
    if makes && behind == Behind::Call {
        return None;
    }
    let length = spelled.split(' ').count();
    let names = |at: usize| all.get(at - 1).is_some_and(|before| before.is("AS"));
    let is_there =
        |at: &usize| fits(spelled, all, *at) && behind.fits(all.get(at + length)) && !names(*at) && !is_part(all, *at);
    // A statement begins with none of them.
    (1..all.len()).find(is_there).map(|at| at..at + length)
}

/// Whether words stand at a place.
fn fits(pattern: &str, all: &[Word], at: usize) -> bool {
    pattern.split(' ').enumerate().all(|(nth, word)| {
        let there = all.get(at + nth).filter(|there| there.kind == TokenKind::Word);
        there.is_some_and(|there| there.text.eq_ignore_ascii_case(word))
    })
}

/// Whether it is a part of a name with dots.
fn is_part(all: &[Word], at: usize) -> bool {
    let dot = |word: Option<&Word>| word.is_some_and(|word| word.sign(b'.'));
    dot(all.get(at + 1)) || at.checked_sub(1).is_some_and(|before| dot(all.get(before)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{DIALECTS, Family, MYSQL, POSTGRES, SQLITE, SQLSERVER};
    use crate::help;
    use crate::statement::shape::words;

    fn told(text: &str, dialect: &'static Dialect) -> Option<(String, &'static str)> {
        habit_in(text, &words(text, dialect, 0), dialect).map(|habit| (habit.word, habit.instead))
    }

    #[test]
    fn what_a_server_refused_is_looked_at_more_closely() {
        let told = |text: &str, dialect: &'static Dialect, message: &str| {
            let at = text.find('|');
            let text = text.replacen('|', "", 1);
            let habit = habit_refused(&text, &words(&text, dialect, 0), dialect, (message, at))?;
            Some(format!("{}: {}", habit.word, habit.instead))
        };
        for (text, dialect, message, wanted) in [
            ("create table t (a datetime)", &POSTGRES, "type \"datetime\" does not exist", Some("datetime: timestamp")),
            ("select datetime from t", &POSTGRES, "column \"name\" does not exist", None),
            (
                "select cast('x' as double precision)",
                &POSTGRES,
                "invalid input syntax for type double precision: \"x\"",
                None,
            ),
            ("create table t (a jsonb)", &MYSQL, "Unknown data type: 'jsonb'", Some("jsonb: json")),
            ("create table t (a boolean)", &SQLSERVER, "Cannot find data type boolean.", Some("boolean: bit")),
            ("select sysdate from dual", &POSTGRES, "relation \"dual\" does not exist", Some("sysdate: now()")),
            (
                "select a from t full outer join u on 1",
                &MYSQL,
                "syntax",
                Some("full outer join: a left join union a right join"),
            ),
            (
                "alter table t alter column a type int",
                &SQLITE,
                "near \"type\": syntax error",
                Some(
                    "alter column: a new table with the rows of the old one: columns are added, renamed and dropped, not altered",
                ),
            ),
            ("select top 5 * from t", &POSTGRES, "syntax", Some("top: limit 9, at the end of the statement")),
            ("select |[code] from t", &POSTGRES, "syntax", Some("[: names are in double quotes: \"name\"")),
            ("select a[1], b |from t", &POSTGRES, "syntax", None),
            (
                "select name |+ 'x' from t",
                &POSTGRES,
                "operator does not exist: text + unknown",
                Some("+: || joins texts: a || b"),
            ),
            ("select now() |+ 1", &POSTGRES, "operator does not exist: timestamp with time zone + integer", None),
            (
                "select year(at) from t",
                &POSTGRES,
                "function year(date) does not exist",
                Some("year: extract(year from at)"),
            ),
            ("select year from t where a = 1", &POSTGRES, "column \"year\" does not exist", None),
            ("select `code` |from t", &POSTGRES, "syntax", Some("`: names are in double quotes: \"name\"")),
            (
                "select a from t where b = |\"x\"",
                &POSTGRES,
                "column \"x\" does not exist",
                Some("\": texts are in single quotes: 'text'"),
            ),
            ("select a from |\"T\"", &POSTGRES, "relation \"T\" does not exist", None),
            ("select a|::text from t", &MYSQL, "syntax", Some("::: cast(a as char)")),
            ("select a-|>'$.b' from t", &MYSQL, "syntax", Some("->: json_extract(document, '$.name')")),
            ("select count (|*) from t", &MYSQL, "syntax", Some("(*: no blank before the parenthesis: count(*)")),
            (
                "select a from t limit 2|\\G",
                &MYSQL,
                "syntax",
                Some("\\G: a semicolon or nothing; enter in the rows shows one down the side"),
            ),
        ] {
            assert_eq!(told(text, dialect, message).as_deref(), wanted, "{text}");
        }
        assert_eq!(habit_in("select 1 from dual", &words("select 1 from dual", &POSTGRES, 0), &POSTGRES), None);
    }

    #[test]
    fn each_language_says_what_stands_for_words_of_others() {
        for (text, dialect, word) in [
            ("select * from ports limit 5", &SQLSERVER, "limit"),
            ("select length(name) from ports", &SQLSERVER, "length"),
            ("select * from ports where name ILIKE 'a%'", &SQLSERVER, "ILIKE"),
            ("select top 5 * from ports", &POSTGRES, "top"),
            ("SELECT GETDATE()", &SQLITE, "GETDATE"),
            ("select a, now() from ports", &SQLITE, "now"),
            ("describe ports", &SQLITE, "describe"),
            ("show tables", &POSTGRES, "show tables"),
            ("select * from ports where name regexp 'a'", &POSTGRES, "regexp"),
            ("select * from a order by b nulls last", &MYSQL, "nulls last"),
            ("select string_agg(name, ',') from ports", &MYSQL, "string_agg"),
            ("create table t (id int auto_increment)", &POSTGRES, "auto_increment"),
        ] {
            assert_eq!(told(text, dialect).map(|(word, _)| word).as_deref(), Some(word), "{text}");
        }
        let habit = habit_in("select now()", &words("select now()", &SQLSERVER, 0), &SQLSERVER).unwrap();
        assert_eq!(habit.sentence(), "now isn't supported here; instead: sysdatetime()");
    }

    #[test]
    fn names_and_words_of_the_language_itself_are_left_alone() {
        for (text, dialect) in [
            ("select limit, top from ports", &SQLSERVER),
            ("select p.len, app.len(name) from ports p", &POSTGRES),
            ("select 1 as ilike", &SQLITE),
            ("select top (5) len(name), sysdatetime() from ports", &SQLSERVER),
            ("select now(), length(name) from ports limit 5", &POSTGRES),
            ("select 'limit 5', \"top\" from ports -- limit 5", &SQLSERVER),
            ("show search_path", &POSTGRES),
            ("select regexp from patterns", &POSTGRES),
            ("create function len(t text) returns int language sql return length(t)", &POSTGRES),
        ] {
            assert_eq!(told(text, dialect), None, "{text}");
        }
    }

    #[test]
    fn tables_hold_what_their_languages_do_not_have() {
        for dialect in DIALECTS.iter().filter(|dialect| dialect.family == Family::Sql) {
            assert!(lines(dialect).count() > 10, "{}", dialect.name);
            for (pattern, instead) in lines(dialect) {
                assert!(!instead.trim().is_empty() && instead.trim() == instead, "{}: {pattern}", dialect.name);
                if let Some(name) = pattern.trim_start_matches(REFUSED).strip_suffix("()") {
                    assert!(help::of(dialect).function(name).is_none(), "{} has {name}", dialect.name);
                }
            }
        }
    }
}
