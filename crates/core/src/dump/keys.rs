//! Keys as commands that make them again. Each is as it was when it was read: there is no state of all of them.

use std::io::Write;

use jaunty_language::dialect::Dialect;
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};

use super::{DumpError, Dumped, Wanted};

/// What stands at the beginning.
const HEAD: [&str; 2] = [
    "Each key is made again as it was read; one of its name that is there is replaced.",
    "How long a key lives is what was left of it when it was read.",
];

/// Writes all keys, or those of some patterns, into `out`.
pub(super) fn dump(
    session: &mut dyn Session,
    dialect: &'static Dialect,
    wanted: &Wanted,
    (out, stop): (&mut (dyn Write + Send), &Stop),
    told: &mut (dyn FnMut(u64) + Send),
) -> Result<Dumped, DumpError> {
    if wanted.only_structure {
        return Err(DumpError::NoStructure);
    }
    let comment = dialect.line_comments.first().copied().unwrap_or_default();
    HEAD.iter().try_for_each(|line| writeln!(out, "{comment} {line}"))?;
    let patterns: Vec<&str> = match wanted.names.is_empty() {
        true => vec![""],
        false => wanted.names.iter().map(|name| name.name.as_str()).collect(),
    };
    let mut dumped = Dumped::default();
    for pattern in patterns {
        let (mut unwritten, before) = (None, dumped.rows);
        let remade = session.remake(pattern, stop, &mut |statement, elements| {
            told(before + elements);
            writeln!(out, "{statement}").map_err(|error| {
                unwritten = Some(error);
                EngineError::new(ErrorKind::Refused, "the text cannot be written")
            })
        });
        if let Some(error) = unwritten {
            return Err(error.into());
        }
        let remade = remade.map_err(DumpError::Server)?;
        if remade.elements == 0 && !pattern.is_empty() {
            dumped.left_out.push(format!("{pattern}: there is no such key"));
        }
        dumped.rows += remade.elements;
        dumped.left_out.extend(remade.left_out);
    }
    Ok(dumped)
}
