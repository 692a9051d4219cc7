//! Statements one after the other, as a text that can be run.

use jaunty_language::dialect::Dialect;
use jaunty_language::outline::Outline;
use jaunty_language::text::rope;

/// A statement with what ends it. One with semicolons inside has another sign at its end, where the language needs that;
/// where a language has batches each is one.
pub fn ended(statement: &str, dialect: &'static Dialect) -> String {
    let statement = statement.trim().trim_end_matches(';').trim_end();
    // A comment at the end would take the semicolon with it.
    let last = statement.lines().next_back().unwrap_or_default();
    let comments = dialect.line_comments.iter().any(|sign| last.contains(sign));
    let whole = format!("{statement}{};", if comments { "\n" } else { "" });
    let is_several = || Outline::new(&rope(&whole), dialect).statements().len() > 1;
    match dialect.delimiter_word {
        Some(word) if statement.contains(';') && is_several() => {
            format!("{word} //\n{statement} //\n{word} ;")
        }
        _ => match dialect.batch_word {
            // What is made with all of its batch as its text would have the semicolon in it.
            Some(word) if takes_all(statement, dialect) => format!("{statement}\n{word}"),
            Some(word) => format!("{whole}\n{word}"),
            None => whole,
        },
    }
}

/// Whether what follows a statement would be a part of it, whatever ends it.
fn takes_all(statement: &str, dialect: &'static Dialect) -> bool {
    Outline::new(&rope(&format!("{statement}\n;\nselect 1")), dialect).statements().len() == 1
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{MYSQL, SQLITE, SQLSERVER};

    #[test]
    fn each_language_ends_a_statement_in_its_way() {
        assert_eq!(ended(" select 1 ; ", &SQLITE), "select 1;");
        assert_eq!(ended("select 1 -- one", &SQLITE), "select 1 -- one\n;");
        assert_eq!(
            ended("create procedure p() begin select 1; end", &MYSQL),
            "create procedure p() begin select 1; end;"
        );
        assert_eq!(ended("drop table t", &SQLSERVER), "drop table t;\nGO");
        assert_eq!(ended("create view v as select 1 as n;", &SQLSERVER), "create view v as select 1 as n\nGO");
        assert_eq!(ended("create proc p as print 1; -- so", &SQLSERVER), "create proc p as print 1; -- so\nGO");
    }
}
