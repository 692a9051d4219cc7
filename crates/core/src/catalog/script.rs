//! Statements one after the other, as a text that can be run.

use jaunty_language::dialect::Dialect;
use jaunty_language::outline::Outline;
use jaunty_language::text::rope;

/// A statement with what ends it. One with semicolons inside has another sign at its end, where the language needs that.
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
        _ => whole,
    }
}
