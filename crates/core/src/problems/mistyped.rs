//! A keyword with a letter wrong: `selct`, `form`. It is looked for only where the server refuses a statement, since such
//! a word may be a name.

use super::{LONGEST, Problem};
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::habits::NOT_HERE;
use jaunty_language::statement::shape::{Word, words};
use jaunty_seam::error::{EngineError, ErrorKind};

/// What statements begin with.
const BEGIN: &[&str] = &[
    "SELECT",
    "INSERT",
    "UPDATE",
    "DELETE",
    "CREATE",
    "ALTER",
    "DROP",
    "WITH",
    "EXPLAIN",
    "BEGIN",
    "COMMIT",
    "ROLLBACK",
    "SAVEPOINT",
    "RELEASE",
    "GRANT",
    "REVOKE",
    "TRUNCATE",
    "MERGE",
    "VALUES",
    "SHOW",
    "CALL",
    "EXEC",
    "EXECUTE",
    "DECLARE",
    "PRAGMA",
    "VACUUM",
    "ANALYZE",
    "REINDEX",
    "ATTACH",
    "DETACH",
    "DESCRIBE",
    "REPLACE",
    "COPY",
];

/// What stands within them, and is written often. Words that columns are often a letter off (`like`, `case`) are left out.
const WITHIN: &[&str] = &[
    "FROM",
    "WHERE",
    "GROUP",
    "ORDER",
    "HAVING",
    "LIMIT",
    "OFFSET",
    "FETCH",
    "JOIN",
    "INNER",
    "LEFT",
    "RIGHT",
    "OUTER",
    "CROSS",
    "UNION",
    "INTERSECT",
    "EXCEPT",
    "VALUES",
    "INTO",
    "DISTINCT",
    "BETWEEN",
    "EXISTS",
    "WHEN",
    "THEN",
    "RETURNING",
    "TABLE",
    "INDEX",
    "TRIGGER",
    "REFERENCES",
    "PRIMARY",
    "UNIQUE",
    "DEFAULT",
    "COLUMN",
    "CONSTRAINT",
];

/// The keyword that was meant where a server refuses a statement: by the word that it begins with, or by the one that the
/// server points at, or that stands before that one (it took the word for a name, and stumbles over what follows). Of
/// statements of SQL only, and not of very long ones.
pub fn mistyped(error: &EngineError, text: &str, dialect: &'static Dialect) -> Option<Problem> {
    if error.kind != ErrorKind::Refused || dialect.family != Family::Sql || text.len() > LONGEST {
        return None;
    }
    // It is known what was meant.
    if error.remedy.as_ref().is_some_and(|remedy| remedy.contains(NOT_HERE)) {
        return None;
    }
    let all = words(text, dialect, 0);
    let first = all.first()?;
    if let Some(keyword) = meant(first, BEGIN, dialect) {
        return Some(problem(first, keyword, error));
    }
    // Of other mistakes it is not known that a keyword is missing.
    if !error.message.to_lowercase().contains("syntax") && error.code.as_deref() != Some("42601") {
        return None;
    }
    let pointed = error.at?;
    let at = all.iter().position(|word| pointed < word.range.end).unwrap_or(all.len());
    [Some(at), at.checked_sub(1)].into_iter().flatten().filter_map(|at| all.get(at)).find_map(|word| {
        let keyword = meant(word, WITHIN, dialect)?;
        Some(problem(word, keyword, error))
    })
}

/// The keyword that a word is a letter off, or two of a long one; letters that changed places count as one.
fn meant(word: &Word, keywords: &[&'static str], dialect: &Dialect) -> Option<&'static str> {
    if word.kind != TokenKind::Word || word.text.len() < 3 || dialect.is_keyword(&word.text) {
        return None;
    }
    // As it is written it is a word of others, or a type.
    let is_type = |known: &&str| known.eq_ignore_ascii_case(&word.text);
    if keywords.contains(&word.text.as_str()) || word.text == "INT" || dialect.types.iter().any(is_type) {
        return None;
    }
    let off = |keyword: &&&str| strsim::damerau_levenshtein(&word.text, keyword);
    let may = |keyword: &&&str| off(keyword) <= if keyword.len() > 6 { 2 } else { 1 };
    keywords.iter().filter(may).min_by_key(off).copied()
}

fn problem(word: &Word, keyword: &str, error: &EngineError) -> Problem {
    let said = Problem::of_server(error);
    let near = vec![keyword.to_lowercase()];
    Problem { near, is_written: true, ..Problem::new(word.range.clone(), said.message) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::by_name;

    #[test]
    fn keywords_with_a_letter_wrong_are_known_by_where_the_server_stumbles() {
        let told = |text: &str, message: &str| {
            let at = text.find('|');
            let error = EngineError::new(ErrorKind::Refused, message).at(at);
            let text = text.replacen('|', "", 1);
            let found = mistyped(&error, &text, by_name("postgres").unwrap())?;
            Some(format!("{} {}", &text[found.range.clone()], found.near[0]))
        };
        let syntax = "syntax error at or near";
        for (text, wanted) in [
            ("|selct code from ports", Some("selct select")),
            ("|SLECT code from ports", Some("SLECT select")),
            ("|isnert into ports values (1)", Some("isnert insert")),
            ("select code form |ports", Some("form from")),
            ("select code from ports wehre |berths > 2", Some("wehre where")),
            ("select code from ports |gruop by code", Some("gruop group")),
            ("select code from ports p oder |by code", Some("oder order")),
            ("create tabel |x (a int)", Some("tabel table")),
            // Nothing near, a keyword, something else, a quoted name.
            ("select code |frobnicate", None),
            ("select code from |where", None),
            ("select base |frobnicate", None),
            ("select |(code", None),
            ("select code \"form\" |ports", None),
            // A type, and a word that others have.
            ("create table x (a int |frobnicate)", None),
            ("|describe ports", None),
        ] {
            assert_eq!(told(text, syntax).as_deref(), wanted, "{text}");
        }
        // What is wrong is not the language.
        assert_eq!(told("select * from |form", "relation \"form\" does not exist"), None);
        // But a statement begins with none of our names, whatever the server says of it.
        assert_eq!(told("selct 1", "could not find stored procedure 'selct'").as_deref(), Some("selct select"));
    }
}
