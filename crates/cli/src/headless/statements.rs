//! `jaunty statements`: what the splitter finds, for editors and for whoever wonders.

use jaunty_language::dialect::{DIALECTS, by_name};
use jaunty_language::split;
use jaunty_language::text::rope;
use serde_json::json;

use crate::args::Statements;
use crate::failure::Failure;

/// Prints each statement of a file as a line of JSON.
pub fn list(args: &Statements) -> Result<(), Failure> {
    let dialect = by_name(&args.dialect).ok_or_else(|| {
        let known: Vec<_> = DIALECTS.iter().map(|d| d.name).collect();
        Failure::Usage(format!("unknown dialect \"{}\". Use one of: {}.", args.dialect, known.join(", ")))
    })?;
    let rope = rope(&super::read(&super::buffers::meant(args.file.clone()))?);
    let mut lines = String::new();
    for statement in split::statements(&rope, dialect, 0) {
        let line = json!({
            "start": statement.start,
            "end": statement.end,
            "line": rope.byte_to_line(statement.start) + 1,
            "title": statement.title_text(&rope, dialect),
            "kind": statement.kind.word(),
        });
        lines.push_str(&format!("{line}\n"));
    }
    super::print(&lines)
}
