//! The arguments of a command, as errors of this engine tell of them.

use jaunty_language::dialect::commands::arguments::{self, Mistake};
use jaunty_seam::error::{EngineError, ErrorKind};

/// The arguments of a line, as bytes.
pub fn split(line: &str) -> Result<Vec<Vec<u8>>, EngineError> {
    arguments::split(line).map_err(|Mistake { at, message, remedy }| {
        EngineError::new(ErrorKind::Refused, message).at(Some(at)).remedy(remedy)
    })
}
