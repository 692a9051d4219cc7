//! Batches: statements that a server gets together, with the variables that live in them.
//!
//! A statement that uses a variable of its batch cannot be sent alone. What it needs is sent before it: the statements
//! above it in its batch that declare the variable or give it a value, and what those need. That only means the same where
//! they can be carried out once more: what depends on what ran before them (a count of rows, the last number given, a
//! procedure that gives values back) cannot, and is told.

use std::collections::BTreeSet;
use std::ops::Range;

use ropey::Rope;

use crate::dialect::Dialect;
use crate::lexer::{Lexer, TokenKind};
use crate::outline::Outline;
use crate::split::Statement;

/// What a statement needs of its batch.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Needs {
    /// The statements above it that are sent with it, in order, by their places in the outline.
    pub statements: Vec<usize>,
    /// One of those that means something else when it is carried out once more, and why.
    pub once: Option<(usize, &'static str)>,
}

/// Words that say what happened before.
const BEFORE: &[&str] = &["@@ROWCOUNT", "@@IDENTITY", "@@ERROR", "@@FETCH_STATUS", "@@TRANCOUNT", "SCOPE_IDENTITY"];

/// At most so many statements of a batch are looked at above one and below it.
const MOST: usize = 1000;

/// What a statement needs of its batch; nothing in a language without batches.
pub fn needs(outline: &Outline, index: usize, rope: &Rope) -> Needs {
    let mut needs = Needs::default();
    let dialect = outline.dialect();
    let all = outline.statements();
    let (Some(statement), Some(_)) = (all.get(index), dialect.batch_word) else { return needs };
    let own = Variables::of(statement, rope, outline);
    let mut wanted: BTreeSet<String> = own.used.difference(&own.declared).cloned().collect();
    if wanted.is_empty() {
        return needs;
    }
    for above in all_of_batch(outline, index, rope).rev().filter(|above| *above < index) {
        let Some(there) = all.get(above) else { continue };
        let found = Variables::of(there, rope, outline);
        let gives = found.declared.intersection(&wanted).next().is_some();
        if !gives && found.given.intersection(&wanted).next().is_none() {
            continue;
        }
        needs.statements.push(above);
        needs.once = found.once.map(|why| (above, why)).or(needs.once);
        wanted.extend(found.used);
    }
    // Those that nobody declares are values that a person is asked for.
    needs.statements.reverse();
    let declares = |at: &usize| all.get(*at).is_some_and(|s| !Variables::of(s, rope, outline).declared.is_empty());
    if !needs.statements.iter().any(declares) {
        return Needs::default();
    }
    needs
}

/// The statements of the batch that one of them is in.
pub fn all_of_batch(outline: &Outline, index: usize, rope: &Rope) -> Range<usize> {
    let all = outline.statements();
    let parted = |at: &usize| begins_batch(outline, *at, rope);
    let least = index.saturating_sub(MOST);
    let most = all.len().min(index + MOST);
    let first = (least..=index).rev().find(parted).unwrap_or(least);
    let end = (index + 1..most).find(parted).unwrap_or(most);
    first..end
}

/// Whether a batch begins with this statement: there is a line that ends the one before it.
pub fn begins_batch(outline: &Outline, index: usize, rope: &Rope) -> bool {
    let all = outline.statements();
    match (index.checked_sub(1).and_then(|before| all.get(before)), all.get(index)) {
        (Some(before), Some(after)) => holds_end(outline, rope, before.end..after.top()).is_some(),
        _ => true,
    }
}

/// How often the batch is to be carried out whose last statement this is.
pub fn times(outline: &Outline, index: usize, rope: &Rope) -> u32 {
    let all = outline.statements();
    let Some(last) = all.get(index) else { return 1 };
    let end = all.get(index + 1).map_or(rope.len_bytes(), Statement::top);
    holds_end(outline, rope, last.end..end).unwrap_or(1)
}

/// The batches of a text that are not empty: their places, without the lines that end them, and how often each is to be
/// carried out.
pub fn parts(text: &str, dialect: &'static Dialect) -> Vec<(Range<usize>, u32)> {
    let Some(word) = dialect.batch_word else { return vec![(0..text.len(), 1)] };
    let rope = Rope::from_str(text);
    let (mut parts, mut start, mut first_on_line) = (Vec::new(), 0, true);
    let mut add = |range: Range<usize>, times: u32| {
        if text.get(range.clone()).is_some_and(|text| !text.trim().is_empty()) {
            parts.push((range, times));
        }
    };
    let mut passed = 0;
    for token in Lexer::new(&rope, dialect, 0) {
        let ends = first_on_line && token.kind == TokenKind::Word && token.start >= passed;
        if let Some(times) =
            text.get(token.start..).filter(|_| ends).and_then(|rest| count_of(rest.lines().next()?, word))
        {
            add(start..token.start, times);
            start =
                text.get(token.start..).and_then(|rest| rest.find('\n')).map_or(text.len(), |at| token.start + at + 1);
            passed = start;
        }
        first_on_line = token.kind == TokenKind::LineEnd || (first_on_line && token.kind == TokenKind::Space);
    }
    add(start..text.len(), 1);
    parts
}

/// The count of the line that ends a batch in this range, if there is one.
fn holds_end(outline: &Outline, rope: &Rope, between: Range<usize>) -> Option<u32> {
    let word = outline.dialect().batch_word?;
    let text = rope.byte_slice(between).to_string();
    text.lines().find_map(|line| count_of(line, word))
}

/// How often a batch is carried out that this line ends; nothing where it ends none.
fn count_of(line: &str, word: &str) -> Option<u32> {
    let line = line.split("--").next().unwrap_or_default().trim();
    let (first, rest) = line.split_at_checked(word.len())?;
    let count = rest.trim();
    let counts =
        count.is_empty() || (rest.starts_with(char::is_whitespace) && count.bytes().all(|b| b.is_ascii_digit()));
    (first.eq_ignore_ascii_case(word) && counts).then(|| count.parse().unwrap_or(1))
}

/// The variables of a statement, in lower case.
#[derive(Debug, Default)]
struct Variables {
    used: BTreeSet<String>,
    declared: BTreeSet<String>,
    /// What it gives a value to.
    given: BTreeSet<String>,
    /// Why it means something else when it is carried out once more.
    once: Option<&'static str>,
}

impl Variables {
    fn of(statement: &Statement, rope: &Rope, outline: &Outline) -> Variables {
        let mut found = Variables::default();
        let text = statement.text(rope);
        // Most statements have none.
        if !text.contains('@') {
            return found;
        }
        let rope = Rope::from_str(&text);
        let tokens: Vec<_> = Lexer::new(&rope, outline.dialect(), 0).filter(|token| !token.kind.is_trivia()).collect();
        let text_of = |at: usize| tokens.get(at).and_then(|token| text.get(token.range())).unwrap_or_default();
        let is = |at: usize, word: &str| text_of(at).eq_ignore_ascii_case(word);
        let lead = text_of(0).to_ascii_uppercase();
        let changes = matches!(lead.as_str(), "INSERT" | "UPDATE" | "DELETE" | "MERGE");
        let mut depth = 0_u32;
        for (at, token) in tokens.iter().enumerate() {
            match token.kind {
                TokenKind::Punctuation(b'(') => depth += 1,
                TokenKind::Punctuation(b')') => depth = depth.saturating_sub(1),
                TokenKind::Word => {}
                _ => continue,
            }
            let word = text_of(at);
            if BEFORE.iter().any(|known| word.eq_ignore_ascii_case(known)) {
                found.once = Some("it depends on what ran before it");
            }
            if !word.starts_with('@') || word.starts_with("@@") {
                continue;
            }
            let name = word.to_lowercase();
            // `EXEC p @port = 5` names a parameter of the procedure.
            let names_parameter = lead.starts_with("EXEC") && is(at + 1, "=") && at > 1;
            if names_parameter {
                continue;
            }
            let begins = at > 0 && (is(at - 1, "DECLARE") || (is(at - 1, ",") && depth == 0));
            if lead == "DECLARE" && begins {
                found.declared.insert(name.clone());
            }
            let after = |word: &str| at > 0 && is(at - 1, word);
            let assigned = matches!(lead.as_str(), "SET" | "SELECT") && depth == 0 && is_assigned(text_of(at + 1));
            let written = changes && (after("INTO") || after("UPDATE") || after("FROM") || after("INSERT"));
            if assigned || written {
                found.given.insert(name.clone());
            }
            if is(at + 1, "OUTPUT")
                || is(at + 1, "OUT")
                || (lead == "FETCH" && is(at - 1, "INTO"))
                || (lead.starts_with("EXEC") && at == 1)
            {
                found.given.insert(name.clone());
                found.once = Some("it takes a value out of a procedure or a cursor");
            }
            // What is put into a table of its own happens nowhere else; other changes do.
            if written && !after("INTO") && !after("UPDATE") && !after("INSERT") {
                found.given.remove(&name);
            }
            if changes && after("INTO") && !is(at.wrapping_sub(2), "INSERT") && !is(at.wrapping_sub(2), "MERGE") {
                // `OUTPUT … INTO @t` of a change elsewhere.
                found.once = Some("it changes rows");
            }
            found.used.insert(name);
        }
        found
    }
}

fn is_assigned(next: &str) -> bool {
    matches!(next, "=" | "+" | "-" | "*" | "/" | "%" | "&" | "|" | "^")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{SQLITE, SQLSERVER};

    fn needed(text: &str, index: usize) -> Needs {
        let rope = Rope::from_str(text);
        needs(&Outline::new(&rope, &SQLSERVER), index, &rope)
    }

    #[test]
    fn declarations_and_assignments_come_along() {
        let text = "declare @port int = 7, @name nvarchar(40)\nset @name = N'Quay'\nselect 1\n\
                    select * from ports where id = @port\nselect @port, @name\nselect 2\n";
        assert_eq!(needed(text, 3).statements, [0]);
        assert_eq!(needed(text, 4).statements, [0, 1]);
        assert_eq!(needed(text, 5), Needs::default());
    }

    #[test]
    fn what_they_need_comes_along_too() {
        let text = "declare @a int = 1\ndeclare @b int = @a + 1\nset @a = 5\nselect @b\n";
        assert_eq!(needed(text, 3).statements, [0, 1]);
        let text =
            "declare @t table (id int)\ninsert into @t values (1)\ninsert into ports values (3)\nselect * from @t\n";
        assert_eq!(needed(text, 3).statements, [0, 1]);
    }

    #[test]
    fn a_batch_has_an_end() {
        let text = "declare @a int = 1\ngo\nselect @a\n";
        assert_eq!(needed(text, 1), Needs::default());
        let rope = Rope::from_str("select 1\ngo 5\nselect 2\nselect 3\nGO -- done\n");
        let outline = Outline::new(&rope, &SQLSERVER);
        assert_eq!((all_of_batch(&outline, 0, &rope), times(&outline, 0, &rope)), (0..1, 5));
        assert_eq!((all_of_batch(&outline, 1, &rope), times(&outline, 2, &rope)), (1..3, 1));
    }

    #[test]
    fn a_text_is_parted_where_a_line_says_so() {
        let text = "select 'a\ngo\nb'\n  GO 2\nselect go -- x\n/* go\ngo\n*/\ngo -- end\n\ngo\n";
        let found: Vec<_> =
            parts(text, &SQLSERVER).into_iter().map(|(range, times)| (text[range].trim(), times)).collect();
        assert_eq!(found, [("select 'a\ngo\nb'", 2), ("select go -- x\n/* go\ngo\n*/", 1)]);
        assert_eq!(parts("select 1", &SQLITE), [(0..8, 1)]);
    }

    #[test]
    fn what_cannot_be_carried_out_once_more_is_told() {
        let text = "declare @id int\ninsert into ports values (1)\nset @id = scope_identity()\nselect @id\n";
        assert_eq!(
            needed(text, 3),
            Needs { statements: vec![0, 2], once: Some((2, "it depends on what ran before it")) }
        );
        let text = "declare @n int\nexec count_ports @berths = 4, @n = @n output\nselect @n\n";
        assert_eq!(needed(text, 2).once.map(|(at, _)| at), Some(1));
    }

    #[test]
    fn nothing_is_needed_where_there_are_no_batches_or_no_declarations() {
        let rope = Rope::from_str("select @a\nselect @a");
        assert_eq!(needs(&Outline::new(&rope, &SQLITE), 0, &rope), Needs::default());
        assert_eq!(needed("select @a = 5\nselect @a\n", 1), Needs::default());
    }
}
