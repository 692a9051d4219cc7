//! All statements of a buffer, kept up to date while it is edited.
//!
//! A statement depends on nothing before its own beginning, so after an edit only the statements
//! around it are found anew; as soon as one begins where an old one did, the rest is the same. In a
//! long statement that holds from mark to mark.

use std::ops::Range;

use ropey::Rope;
use sha2::{Digest as _, Sha256};

use crate::dialect::Dialect;
pub use crate::split::Change;
use crate::split::{From, Mark, Statement, Trail, statements_from};

/// A statement is known by its text: two with the same text share their runs, and a statement
/// keeps its runs while text around it changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct StatementId([u8; 16]);

impl StatementId {
    /// The identity of a statement's text. Blanks around it and its semicolon do not count.
    pub fn of(text: &str) -> Self {
        let digest = Sha256::digest(StatementId::essence(text).as_bytes());
        let mut id = [0; 16];
        id.copy_from_slice(&digest[..16]);
        StatementId(id)
    }

    /// The part of a statement's text that is its identity.
    pub fn essence(text: &str) -> &str {
        text.trim().trim_end_matches(';').trim_end()
    }

    /// Thirty-two hexadecimal digits.
    pub fn hex(&self) -> String {
        self.0.iter().map(|b| format!("{b:02x}")).collect()
    }
}

/// The statements of one buffer in order.
#[derive(Debug, Clone)]
pub struct Outline {
    dialect: &'static Dialect,
    statements: Vec<Statement>,
    /// Places in long statements, in order.
    marks: Vec<Mark>,
    /// The fewest bytes between two marks.
    spacing: usize,
    /// Texts that the server takes as one statement although they are found as several: their lengths in
    /// bytes, and what they are known by.
    joined: Vec<(usize, StatementId)>,
    /// The statements with those put together; empty where nothing is joined.
    together: Vec<Statement>,
}

/// At most so many statements are taken as parts of the one before them.
pub const MOST_PARTS: usize = 3;

/// Lexing so much takes a small part of a frame.
const SPACING: usize = 16 << 10;

impl Outline {
    /// Finds all statements of `rope`.
    pub fn new(rope: &Rope, dialect: &'static Dialect) -> Self {
        Outline::marked(rope, dialect, SPACING)
    }

    /// One that knows no statement yet.
    pub fn empty(dialect: &'static Dialect) -> Self {
        Outline {
            dialect,
            statements: Vec::new(),
            marks: Vec::new(),
            spacing: SPACING,
            joined: Vec::new(),
            together: Vec::new(),
        }
    }

    /// Finds all statements of a large text, and tells now and then how many bytes it has come. `None` if that
    /// answers false: nobody wants it any more.
    pub fn found(rope: &Rope, dialect: &'static Dialect, mut so_far: impl FnMut(usize) -> bool) -> Option<Self> {
        let trail = Trail { spacing: SPACING, ..Trail::default() };
        let mut finder = statements_from(rope, dialect, From::Behind(None), trail);
        let mut statements = Vec::new();
        for statement in finder.by_ref() {
            statements.push(statement);
            if statements.len().is_multiple_of(1000) && !so_far(statement.end) {
                return None;
            }
        }
        Some(Outline { statements, marks: finder.into_marks(), ..Outline::empty(dialect) })
    }

    fn marked(rope: &Rope, dialect: &'static Dialect, spacing: usize) -> Self {
        let mut finder = statements_from(rope, dialect, From::Behind(None), Trail { spacing, ..Trail::default() });
        let statements = finder.by_ref().collect();
        Outline { dialect, statements, marks: finder.into_marks(), spacing, joined: Vec::new(), together: Vec::new() }
    }

    /// The statements.
    pub fn statements(&self) -> &[Statement] {
        if self.together.is_empty() { &self.statements } else { &self.together }
    }

    /// The dialect they were found by.
    pub fn dialect(&self) -> &'static Dialect {
        self.dialect
    }

    /// Takes a text as one statement from now on, wherever it stands: the server says that it is.
    pub fn join(&mut self, rope: &Rope, text: &str) {
        let text = (text.len(), StatementId::of(text));
        if !self.joined.contains(&text) {
            self.joined.push(text);
        }
        self.put_together(rope);
    }

    /// Puts statements together that are known to be one.
    fn put_together(&mut self, rope: &Rope) {
        self.together.clear();
        if self.joined.is_empty() {
            return;
        }
        let is_one = |first: &Statement, last: &Statement| {
            let length = last.body_end - first.start;
            let text = || rope.byte_slice(first.start..last.body_end).to_string();
            self.joined.iter().any(|(known, id)| *known == length && *id == StatementId::of(&text()))
        };
        let mut at = 0;
        while let Some(first) = self.statements.get(at) {
            // No more follow each other without a semicolon than are asked about.
            let most = if first.body_end == first.end { MOST_PARTS } else { 0 };
            let mut after = self.statements.iter().skip(at + 1).take(most).enumerate();
            let last = after.rfind(|(_, last)| is_one(first, last));
            let (parts, whole) = match last {
                Some((parts, last)) => (parts + 1, Statement { body_end: last.body_end, end: last.end, ..*first }),
                None => (0, *first),
            };
            self.together.push(whole);
            at += 1 + parts;
        }
    }

    /// Follows one change; `rope` is the text after it.
    pub fn update(&mut self, rope: &Rope, change: Change) {
        self.find_again(rope, change);
        self.put_together(rope);
    }

    fn find_again(&mut self, rope: &Rope, change: Change) {
        // The end of a statement may hang on two words after it, each perhaps a statement.
        let mut kept = self.statements.partition_point(|s| s.end < change.at).saturating_sub(2);
        // The state at a mark may hang on the next word, which lies before the mark after the next.
        let settled = self.marks.partition_point(|mark| mark.at <= change.at).checked_sub(3);
        let inside = settled.and_then(|index| self.marks.get(index)).cloned();
        let holder = inside.as_ref().map(|mark| self.statements.partition_point(|s| s.end < mark.at));
        let inside = inside.filter(|_| holder.is_some_and(|holder| holder >= kept));
        kept = kept.max(holder.unwrap_or(0));

        let old = self.statements.split_off(kept);
        let last = self.statements.last().copied();
        let kept_marks = match &inside {
            Some(mark) => self.marks.partition_point(|m| m.at <= mark.at),
            None => self.marks.partition_point(|m| last.is_some_and(|last| m.at <= last.end)),
        };
        let old_marks = self.marks.split_off(kept_marks);
        let behind = old_marks.partition_point(|mark| mark.at < change.at + change.removed);
        let behind = old_marks.get(behind..).unwrap_or_default();
        let trail = Trail { spacing: self.spacing, old: behind, statements: &old, change, ..Trail::default() };
        let from = match (inside, old.first()) {
            (Some(mark), Some(begun)) => From::Inside(*begun, mark),
            _ => From::Behind(last),
        };
        let mut rest = old.iter().skip_while(|s| s.start < change.at + change.removed).peekable();
        let mut finder = statements_from(rope, self.dialect, from, trail);
        while let Some(found) = finder.next() {
            self.statements.push(found);
            if found.start < change.at + change.inserted {
                continue;
            }
            while rest.peek().is_some_and(|s| change.shift(s.start) < found.start) {
                rest.next();
            }
            let same = |s: &&Statement| change.shift(s.start) == found.start && s.delimiter == found.delimiter;
            if let Some(met) = rest.next_if(same) {
                self.marks.extend(finder.into_marks());
                let later = behind.partition_point(|mark| mark.at <= met.end);
                self.marks.extend(behind.iter().skip(later).map(|mark| mark.shifted(&change)));
                self.statements.extend(rest.map(|s| change.shifted(s)));
                return;
            }
        }
        self.marks.extend(finder.into_marks());
    }

    /// The nearest place at or before byte `at` that is known to lie between two tokens.
    pub fn boundary_before(&self, at: usize) -> usize {
        let behind = self.statements().partition_point(|s| s.end <= at).checked_sub(1);
        let behind = behind.and_then(|index| self.statements().get(index)).map_or(0, |s| s.end);
        let mark = self.marks.partition_point(|mark| mark.at <= at).checked_sub(1);
        mark.and_then(|index| self.marks.get(index)).map_or(behind, |mark| mark.at.max(behind))
    }

    /// The statement that belongs to byte `at`: the one that holds it, whose title holds it, or
    /// that ends on its line; otherwise the nearest above, or the first.
    pub fn at(&self, rope: &Rope, at: usize) -> Option<usize> {
        let after = self.statements().partition_point(|s| s.end < at);
        let holds = |i: &usize| self.statements().get(*i).is_some_and(|s| s.top() <= at);
        if let Some(before) = after.checked_sub(1) {
            // On the same line, just behind a semicolon.
            let same_line = rope.byte_to_line(self.statements()[before].end) == rope.byte_to_line(at);
            if same_line && self.statements().get(after).is_none_or(|s| s.start > at) {
                return Some(before);
            }
        }
        // A statement's line may begin with blanks, and its title too.
        let next_begins_here =
            self.statements().get(after).filter(|s| rope.byte_to_line(s.top()) == rope.byte_to_line(at));
        if holds(&after) || next_begins_here.is_some() {
            return Some(after);
        }
        after.checked_sub(1).or(if self.statements().is_empty() { None } else { Some(0) })
    }

    /// The statements that a selection touches.
    pub fn within(&self, range: Range<usize>) -> Range<usize> {
        let first = self.statements().partition_point(|s| s.body_end <= range.start);
        let last = self.statements().partition_point(|s| s.start < range.end);
        first..last.max(first)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::{MYSQL, POSTGRES, SQLITE};
    use crate::lexer::Lexer;

    #[test]
    fn statements_that_are_one_stay_together_while_others_change() {
        let text = "select 1\n\n-- Tidy up\nvacuum\nselect 2;\nselect 3";
        let mut rope = Rope::from_str(text);
        let mut outline = Outline::new(&rope, &SQLITE);
        let texts =
            |outline: &Outline, rope: &Rope| outline.statements().iter().map(|s| s.text(rope)).collect::<Vec<_>>();
        assert_eq!(texts(&outline, &rope), ["select 1", "vacuum", "select 2", "select 3"]);
        outline.join(&rope, "select 1\n\n-- Tidy up\nvacuum");
        let together = ["select 1\n\n-- Tidy up\nvacuum", "select 2", "select 3"];
        assert_eq!(texts(&outline, &rope), together);
        // A change beside it.
        let mut change = |outline: &mut Outline, at: usize, removed: usize, inserted: &str| {
            rope.remove(at..at + removed);
            rope.insert(at, inserted);
            outline.update(&rope, Change { at, removed, inserted: inserted.len() });
            texts(outline, &rope)
        };
        assert_eq!(change(&mut outline, 0, 0, "\n"), together);
        // A change in it makes it another one.
        assert_eq!(change(&mut outline, 8, 1, "9")[0], "select 9");
        assert_eq!(change(&mut outline, 8, 1, "1"), together);
    }

    #[test]
    fn the_statement_of_a_place() {
        // Each digit is a place; the statement that belongs to it has that number.
        let text = "0\n-- t0itle\nse0lect 1;0 -- note\n0\n0\n  1select 2; 2select 32\n2\n-- Th3ird\nselect3\n 43\n\n3";
        let mut plain = String::new();
        let mut places = Vec::new();
        for c in text.chars() {
            // The numbers that are text follow a blank directly.
            match c.to_digit(10) {
                Some(d) if !plain.ends_with("select ") && !plain.ends_with("\n ") => {
                    places.push((plain.len(), d as usize))
                }
                _ => plain.push(c),
            }
        }
        let rope = Rope::from_str(&plain);
        let outline = Outline::new(&rope, &SQLITE);
        assert_eq!(outline.statements().len(), 4, "{plain}");
        for (at, expected) in places {
            assert_eq!(outline.at(&rope, at), Some(expected), "{:?}¦{:?}", &plain[..at], &plain[at..]);
        }
    }

    #[test]
    fn a_selection_touches_statements() {
        let text = "select 1; select 2; select 3;";
        let outline = Outline::new(&Rope::from_str(text), &SQLITE);
        assert_eq!(outline.within(0..text.len()), 0..3);
        assert_eq!(outline.within(12..14), 1..2);
        assert_eq!(outline.within(9..10), 1..1);
    }

    #[test]
    fn identity_is_the_text() {
        assert_eq!(StatementId::of(" select 1 ;\n"), StatementId::of("select 1"));
        assert_ne!(StatementId::of("select 1"), StatementId::of("select 2"));
        assert_eq!(StatementId::of("select 1").hex().len(), 32);
    }

    proptest! {
        /// Following edits gives what finding everything anew gives.
        #[test]
        fn updates_equal_a_fresh_look(
            language in 0..3_usize,
            start in "(select 1;?|begin;?|vacuum;?|-- t\n|\n|'|;| |\\(|create trigger a begin |end|\\$a\\$|delimiter x\n|copy a from stdin;\n){0,30}",
            edits in proptest::collection::vec((any::<prop::sample::Index>(), 0..6_usize, "(select|commit|vacuum|;|'|--|\n| |\\)|x|\\$|e){0,3}"), 1..8)
        ) {
            let dialect = [&SQLITE, &POSTGRES, &MYSQL].get(language).copied().unwrap_or(&SQLITE);
            let mut text = start;
            let rope = Rope::from_str(&text);
            // Once as it is used, and once with marks as near to each other as they can be.
            let mut outline = Outline::new(&rope, dialect);
            let mut marked = Outline::marked(&rope, dialect, 1);
            for (place, removed, inserted) in edits {
                let at = place.index(text.len() + 1);
                let removed = removed.min(text.len() - at);
                text.replace_range(at..at + removed, &inserted);
                let rope = Rope::from_str(&text);
                let change = Change { at, removed, inserted: inserted.len() };
                outline.update(&rope, change);
                marked.update(&rope, change);
                let anew = Outline::new(&rope, dialect);
                prop_assert_eq!(outline.statements(), anew.statements(), "{:?}", text);
                prop_assert_eq!(marked.statements(), anew.statements(), "{:?}", text);
                let boundaries: Vec<usize> = Lexer::new(&rope, dialect, 0).map(|token| token.end).collect();
                for mark in &marked.marks {
                    prop_assert!(boundaries.contains(&mark.at), "{:?}", text);
                }
                prop_assert!(marked.marks.is_sorted_by_key(|mark| mark.at));
            }
        }
    }
}
