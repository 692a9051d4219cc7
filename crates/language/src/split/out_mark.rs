//! The mark of an out-line: a comment below a statement that says where its rows go.

use crate::dialect::Dialect;

/// What an out-line begins with.
pub const MARK: &str = "-->";

/// What stands behind the mark in a comment, if it is an out-line; and how many bytes come before.
pub fn behind_mark<'a>(comment: &'a str, dialect: &Dialect) -> Option<(usize, &'a str)> {
    let line = comment.trim_start();
    let blanks = comment.len() - line.len();
    if let Some(rest) = line.strip_prefix(MARK) {
        return Some((blanks + MARK.len(), rest));
    }
    dialect.line_comments.iter().find_map(|open| {
        let inside = line.strip_prefix(open)?;
        let rest = inside.trim_start().strip_prefix(MARK)?;
        Some((comment.len() - rest.len(), rest))
    })
}
