//! Lines of the servers' own command-line clients, which no server knows: they are refused before they are sent.

use jaunty_language::dialect::Dialect;
use jaunty_language::statement::client_line::client_line;
use jaunty_seam::error::{EngineError, ErrorKind};

/// Refuses a statement that is such a line.
pub fn refuse(statement: &str, dialect: &Dialect) -> Result<(), EngineError> {
    match client_line(statement, false).filter(|_| dialect.client_lines) {
        Some(line) => Err(EngineError::new(ErrorKind::Refused, line.sentence()).at(Some(0)).remedy(line.way)),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{POSTGRES, SQLITE};

    #[test]
    fn a_line_of_a_client_is_refused_with_our_own_way() {
        let error = refuse("\\dt+ ports", &POSTGRES).unwrap_err();
        assert!(error.message.starts_with("\\dt+ is a command") && error.remedy.unwrap().contains("tables"));
        assert!(refuse("select '\\d'", &POSTGRES).is_ok() && refuse("\\d", &SQLITE).is_ok());
    }
}
