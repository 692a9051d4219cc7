//! Lines of the servers' own command-line clients. They are no SQL: no server knows them. Where one
//! stands in a buffer the error says so, and how the same is done here.

use jaunty_language::dialect::Dialect;
use jaunty_seam::error::{EngineError, ErrorKind};

/// What such lines begin with, and our own way to do the same.
const WAYS: &[(&str, &str)] = &[
    ("\\dt", "The action \"Tables\", or jaunty schema, lists tables and views."),
    ("\\d", "The action \"Tables\", or jaunty schema, lists tables and views."),
    ("\\l", "The action \"Switch database\" lists databases."),
    ("\\connect", "Use the actions \"Connections\" and \"Switch database\"."),
    ("\\copy", "Use copy … to stdout, or jaunty run --output with a file."),
    ("\\c", "Use the actions \"Connections\" and \"Switch database\"."),
    ("\\u", "Use the action \"Switch database\", or the statement use name."),
    ("\\i", "Open that file as a buffer: jaunty FILE."),
    ("\\.", "Open that file as a buffer: jaunty FILE."),
    ("\\timing", "Each statement shows how long it ran."),
    ("\\t", "Each statement shows how long it ran."),
    ("\\q", "The action \"Quit\" does this."),
    ("\\G", "Leave it out: the result pane shows the rows."),
    ("\\g", "Leave it out: the action \"Run statement\" does this."),
];

/// Refuses a statement that is such a line.
pub fn refuse(statement: &str, dialect: &Dialect) -> Result<(), EngineError> {
    if !dialect.client_lines || !statement.starts_with('\\') {
        return Ok(());
    }
    let word = statement.split_whitespace().next().unwrap_or_default();
    let fits = WAYS.iter().filter(|(start, _)| word.starts_with(start)).max_by_key(|(start, _)| start.len());
    let remedy = fits.map_or("The list of actions has every action.", |(_, way)| way);
    let what = format!("{word} is a command of a command-line client, not SQL");
    Err(EngineError::new(ErrorKind::Refused, what).at(Some(0)).remedy(remedy))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{POSTGRES, SQLITE};

    #[test]
    fn a_line_of_a_client_is_refused_with_our_own_way() {
        let error = refuse("\\dt+ ports", &POSTGRES).unwrap_err();
        assert_eq!(error.message, "\\dt+ is a command of a command-line client, not SQL");
        assert!(error.remedy.unwrap().contains("tables"));
        assert!(refuse("select '\\d'", &POSTGRES).is_ok() && refuse("\\d", &SQLITE).is_ok());
    }
}
