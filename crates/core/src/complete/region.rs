//! Which part of a text the cursor's statement is.

use std::ops::Range;

use ropey::Rope;

use jaunty_language::outline::Outline;

/// How far around the cursor other statements are looked at for names and values.
const NEARBY: usize = 16 << 10;

/// Statements that are larger are not looked at as a whole.
const LARGEST: usize = 256 << 10;

/// The bytes of the statement that is being written at the cursor. Behind a semicolon, and below a
/// blank line, a new one begins.
pub fn around(rope: &Rope, outline: &Outline, cursor: usize) -> Range<usize> {
    let statements = outline.statements();
    let before = statements.partition_point(|s| s.start <= cursor).checked_sub(1).and_then(|at| statements.get(at));
    let Some(statement) = before else { return line_from(rope, 0, cursor) };
    // A first word below a blank line could be an alias of what stands above, but is not meant so.
    let line = rope.line_to_byte(rope.byte_to_line(cursor));
    let word: String = rope.byte_slice(line..cursor).into();
    let above = rope.byte_to_line(line).checked_sub(1).map(|line| rope.line(line));
    if line > statement.start
        && above.is_some_and(|above| above.chars().all(char::is_whitespace))
        && !word.trim().contains(char::is_whitespace)
    {
        return line..cursor;
    }
    // One that is as large as a file of rows: nothing of it is known but the line.
    if statement.end - statement.start > LARGEST {
        return line_from(rope, statement.start, cursor);
    }
    let closed = statement.end > statement.body_end;
    if cursor <= statement.body_end || (!closed && !blank_line(rope, statement.body_end, cursor)) {
        if outline.dialect().ends_with_line
            && rope.byte_to_line(cursor) != rope.byte_to_line(statement.body_end.min(cursor))
        {
            return line_from(rope, statement.end, cursor);
        }
        return statement.start..statement.body_end.max(cursor);
    }
    line_from(rope, statement.end.min(cursor), cursor)
}

fn line_from(rope: &Rope, from: usize, cursor: usize) -> Range<usize> {
    let line = rope.line_to_byte(rope.byte_to_line(cursor));
    from.max(line).min(cursor)..cursor
}

/// Whether a line of blanks alone stands between two places.
fn blank_line(rope: &Rope, from: usize, to: usize) -> bool {
    let between: String = rope.byte_slice(from..to).into();
    between.matches('\n').count() > 1
}

/// The text around a statement, in which names and values were written before.
pub fn nearby(rope: &Rope, cursor: usize) -> String {
    let boundary = |at: usize| rope.char_to_byte(rope.byte_to_char(at.min(rope.len_bytes())));
    let from = boundary(cursor.saturating_sub(NEARBY));
    rope.byte_slice(from..boundary(cursor + NEARBY)).into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{REDIS, SQLITE};

    #[test]
    fn the_statement_at_the_cursor() {
        for (dialect, text, wanted) in [
            (&SQLITE, "select 1; sel|", "sel"),
            (&SQLITE, "select 1;|", ""),
            (&SQLITE, "select * from | where x", "select * from  where x"),
            (&SQLITE, "select *\nfrom |\n\nselect 2", "select *\nfrom "),
            (&SQLITE, "select *\nfrom ports |", "select *\nfrom ports "),
            (&SQLITE, "select * from ports\n\n|", ""),
            (&SQLITE, "select * from ports\n\nup|", "up"),
            (&SQLITE, "|", ""),
            (&SQLITE, "\n\n  s|", "s"),
            (&REDIS, "get a\nget |\nget c", "get "),
            (&REDIS, "get a\n|", ""),
        ] {
            let cursor = text.find('|').unwrap();
            let text = text.replacen('|', "", 1);
            let rope = Rope::from_str(&text);
            let outline = Outline::new(&rope, dialect);
            let range = around(&rope, &outline, cursor);
            assert!(range.start <= cursor && cursor <= range.end, "{text:?}: {range:?}");
            assert_eq!(text[range].trim_start(), wanted, "{text:?}");
        }
    }
}
