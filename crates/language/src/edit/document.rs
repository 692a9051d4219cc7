//! A buffer in the hand: its text, cursor, selection and undo history.

use std::ops::Range;

use ropey::Rope;

use crate::dialect::Dialect;
use crate::edit::lines;
use crate::outline::{Change, Outline};
use crate::split::Statement;
use crate::text::motion;

/// One replacement of text, with what is needed to take it back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edit {
    /// Where, in bytes.
    pub at: usize,
    /// What stood there.
    pub removed: String,
    /// What stands there now.
    pub inserted: String,
}

/// Edits that are undone together.
#[derive(Debug, Clone)]
struct Step {
    edits: Vec<Edit>,
    cursor_before: usize,
    cursor_after: usize,
    /// Typing that the next keystroke may join.
    open: bool,
}

/// Where a motion leads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Motion {
    /// One character back.
    Left,
    /// One character on.
    Right,
    /// To the beginning of the word before.
    WordLeft,
    /// To the end of the word after.
    WordRight,
    /// Some lines up.
    Up(usize),
    /// Some lines down.
    Down(usize),
    /// To the first character of the line, then to its edge.
    LineHome,
    /// To the end of the line.
    LineEnd,
    /// To the first line.
    Top,
    /// To the last line.
    Bottom,
    /// To the beginning of the next statement.
    NextStatement,
    /// To the beginning of the statement before.
    PreviousStatement,
    /// To a byte.
    To(usize),
}

/// A buffer: text, statements, cursor, history.
#[derive(Debug)]
pub struct Document {
    rope: Rope,
    outline: Outline,
    cursor: usize,
    anchor: Option<usize>,
    /// The column that moving up and down tries to keep.
    goal: Option<usize>,
    undo: Vec<Step>,
    redo: Vec<Step>,
    /// The length of `undo` when the text was last saved; `None` once that state is out of reach.
    saved: Option<usize>,
    /// Edits not yet fetched by [`Document::take_edits`].
    fresh: Vec<Edit>,
    revision: u64,
    /// While the statements of a large text are found elsewhere: what changed meanwhile, with the text after it.
    meanwhile: Option<Vec<(Change, Rope)>>,
}

/// The statements of a longer text, in bytes, are not found at once: that takes more than a frame.
const LONG: usize = 2 << 20;

impl Document {
    /// A buffer with this text, as saved.
    pub fn new(text: &str, dialect: &'static Dialect) -> Self {
        let rope = Rope::from_str(text);
        let long = text.len() > LONG;
        let outline = if long { Outline::empty(dialect) } else { Outline::new(&rope, dialect) };
        Document {
            rope,
            outline,
            cursor: 0,
            anchor: None,
            goal: None,
            undo: Vec::new(),
            redo: Vec::new(),
            saved: Some(0),
            fresh: Vec::new(),
            revision: 0,
            meanwhile: long.then(Vec::new),
        }
    }

    /// Takes a text as one statement from now on ([`Outline::join`]).
    pub fn join(&mut self, text: &str) {
        self.outline.join(&self.rope, text);
        self.revision += 1;
    }

    /// Reads the text in another language from now on.
    pub fn set_dialect(&mut self, dialect: &'static Dialect) {
        if !std::ptr::eq(self.outline.dialect(), dialect) {
            let long = self.rope.len_bytes() > LONG;
            self.outline = if long { Outline::empty(dialect) } else { Outline::new(&self.rope, dialect) };
            self.meanwhile = long.then(Vec::new);
            self.revision += 1;
        }
    }

    /// Whether the statements of a large text are not known yet: whoever owns the document has them found
    /// ([`Outline::found`]) in the text as it is now, and gives them to [`Document::take_outline`].
    pub fn awaits_outline(&self) -> bool {
        self.meanwhile.is_some()
    }

    /// What changes from now on is what [`Document::take_outline`] has to follow.
    pub fn forget_meanwhile(&mut self) {
        if let Some(meanwhile) = &mut self.meanwhile {
            meanwhile.clear();
        }
    }

    /// Takes the statements of the text as it was when they were last asked for. What changed since is followed. Those
    /// by another dialect are not taken; false then.
    pub fn take_outline(&mut self, mut outline: Outline) -> bool {
        if !std::ptr::eq(outline.dialect(), self.outline.dialect()) {
            return false;
        }
        for (change, rope) in self.meanwhile.take().unwrap_or_default() {
            outline.update(&rope, change);
        }
        self.outline = outline;
        self.revision += 1;
        true
    }

    /// The text.
    pub fn rope(&self) -> &Rope {
        &self.rope
    }

    /// The statements.
    pub fn outline(&self) -> &Outline {
        &self.outline
    }

    /// The cursor's byte.
    pub fn cursor(&self) -> usize {
        self.cursor
    }

    /// A number that grows with every change of the text.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// The selected bytes, if any.
    pub fn selection(&self) -> Option<Range<usize>> {
        let anchor = self.anchor?;
        let range = anchor.min(self.cursor)..anchor.max(self.cursor);
        (!range.is_empty()).then_some(range)
    }

    /// The selected text, if any.
    pub fn selected_text(&self) -> Option<String> {
        self.selection().map(|range| self.rope.byte_slice(range).to_string())
    }

    /// Whether the text differs from what was last saved.
    pub fn is_unsaved(&self) -> bool {
        self.saved != Some(self.undo.len())
    }

    /// Notes that the text is saved as it is.
    pub fn mark_saved(&mut self) {
        self.close_step();
        self.saved = Some(self.undo.len());
    }

    /// Notes that the text is not what is on disk, as after bringing back a journal.
    pub fn mark_unsaved(&mut self) {
        self.saved = None;
    }

    /// The index of the statement at the cursor.
    pub fn current(&self) -> Option<usize> {
        self.outline.at(&self.rope, self.cursor)
    }

    /// The statement at the cursor.
    pub fn statement(&self) -> Option<&Statement> {
        self.outline.statements().get(self.current()?)
    }

    /// The edits since the last call, in order, for the journal.
    pub fn take_edits(&mut self) -> Vec<Edit> {
        std::mem::take(&mut self.fresh)
    }

    /// Drops the selection.
    pub fn unselect(&mut self) {
        self.anchor = None;
    }

    /// Selects everything.
    pub fn select_all(&mut self) {
        self.anchor = Some(0);
        self.cursor = self.rope.len_bytes();
    }

    /// Moves the cursor; `extend` stretches the selection.
    pub fn go(&mut self, motion: Motion, extend: bool) {
        self.close_step();
        let selected = self.selection();
        if extend {
            self.anchor.get_or_insert(self.cursor);
        } else {
            self.anchor = None;
        }
        let vertical = matches!(motion, Motion::Up(_) | Motion::Down(_));
        if !vertical {
            self.goal = None;
        }
        let rope = &self.rope;
        self.cursor = match motion {
            // Leaving a selection sideways stops at its edge.
            Motion::Left => match selected.filter(|_| !extend) {
                Some(range) => range.start,
                None => motion::left(rope, self.cursor),
            },
            Motion::Right => match selected.filter(|_| !extend) {
                Some(range) => range.end,
                None => motion::right(rope, self.cursor),
            },
            Motion::WordLeft => motion::word_left(rope, self.cursor),
            Motion::WordRight => motion::word_right(rope, self.cursor),
            Motion::Up(lines) => self.vertical(|line| line.checked_sub(lines.min(line.max(1)))),
            Motion::Down(lines) => {
                let last = rope.len_lines() - 1;
                self.vertical(|line| (line < last).then(|| (line + lines).min(last)))
            }
            Motion::LineHome => motion::line_home(rope, self.cursor),
            Motion::LineEnd => motion::line_end(rope, self.cursor),
            Motion::Top => 0,
            Motion::Bottom => rope.len_bytes(),
            Motion::NextStatement => {
                // Wherever in a statement the cursor is, the one that follows it is meant.
                let all = self.outline.statements();
                let next = match self.current() {
                    Some(at) => all.get(at + 1),
                    None => all.iter().find(|s| s.start > self.cursor),
                };
                next.map_or(self.cursor, |s| s.start)
            }
            Motion::PreviousStatement => {
                let all = self.outline.statements();
                let before = match self.current() {
                    // Below a statement, that one is the one before.
                    Some(at) if all.get(at).is_some_and(|s| s.end < self.cursor) => all.get(at),
                    Some(at) => at.checked_sub(1).and_then(|at| all.get(at)).or(all.first()),
                    None => all.iter().rev().find(|s| s.start < self.cursor),
                };
                before.map_or(self.cursor, |s| s.start)
            }
            Motion::To(at) => self.floor(at),
        };
    }

    /// The nearest byte at or before `at` where a cursor can stand.
    fn floor(&self, at: usize) -> usize {
        let at = at.min(self.rope.len_bytes());
        self.rope.char_to_byte(self.rope.byte_to_char(at))
    }

    fn vertical(&mut self, to: impl Fn(usize) -> Option<usize>) -> usize {
        let line = self.rope.byte_to_line(self.cursor);
        let text = motion::line_text(&self.rope, line);
        let column = motion::column_of(&text, self.cursor - self.rope.line_to_byte(line));
        let goal = *self.goal.get_or_insert(column);
        match to(line) {
            Some(target) if target != line => {
                let text = motion::line_text(&self.rope, target);
                self.rope.line_to_byte(target) + motion::byte_at_column(&text, goal)
            }
            Some(_) | None if to(line).is_none_or(|t| t >= line) && line + 1 == self.rope.len_lines() => {
                self.rope.len_bytes()
            }
            _ => 0,
        }
    }

    /// Types a character or a line end. Keystrokes of one word are undone together.
    pub fn type_text(&mut self, text: &str) {
        let joins = self.selection().is_none()
            && self.undo.last().is_some_and(|step| step.open && step.cursor_after == self.cursor)
            && !text.starts_with(char::is_whitespace)
            && self.saved != Some(self.undo.len());
        let text = self.with_own_line_ends(text);
        self.replace(self.selection().unwrap_or(self.cursor..self.cursor), &text, joins);
        if let Some(step) = self.undo.last_mut() {
            step.open = true;
        }
    }

    /// Begins a new line with the blanks that the current one begins with.
    pub fn type_newline(&mut self) {
        let line = self.rope.byte_to_line(self.cursor);
        let text = motion::line_text(&self.rope, line);
        let column = self.cursor - self.rope.line_to_byte(line);
        let indent: String = text.chars().take_while(|c| *c == ' ' || *c == '\t').take(column).collect();
        self.type_text(&format!("\n{indent}"));
    }

    /// Puts text in, as one step. Its line ends become those of this text.
    pub fn insert(&mut self, text: &str) {
        let text = self.with_own_line_ends(text);
        self.replace(self.selection().unwrap_or(self.cursor..self.cursor), &text, false);
    }

    /// A text with the line ends of this one: as [`Document::insert`] puts it in.
    pub fn with_own_line_ends(&self, text: &str) -> String {
        let text = text.replace("\r\n", "\n").replace('\r', "\n");
        match lines::line_break(&self.rope) {
            "\n" => text,
            other => text.replace('\n', other),
        }
    }

    /// Takes another text in the place of all of this one, as it is, as one step.
    pub fn replace_all(&mut self, text: &str) {
        self.replace(0..self.rope.len_bytes(), text, false);
    }

    /// Removes the selection, or what a motion from the cursor passes over.
    pub fn delete(&mut self, motion: Motion) {
        let range = match self.selection() {
            Some(range) => range,
            None => {
                let from = self.cursor;
                self.go(motion, false);
                from.min(self.cursor)..from.max(self.cursor)
            }
        };
        self.replace(range, "", false);
    }

    /// Removes and returns the selection, or the whole line of the cursor.
    pub fn cut(&mut self) -> String {
        let range = self.selection().unwrap_or_else(|| self.current_line());
        let text = self.rope.byte_slice(range.clone()).to_string();
        self.replace(range, "", false);
        text
    }

    /// The selection, or the whole line of the cursor.
    pub fn copy(&self) -> String {
        let range = self.selection().unwrap_or_else(|| self.current_line());
        self.rope.byte_slice(range).to_string()
    }

    fn current_line(&self) -> Range<usize> {
        let line = self.rope.byte_to_line(self.cursor);
        let end =
            if line + 1 < self.rope.len_lines() { self.rope.line_to_byte(line + 1) } else { self.rope.len_bytes() };
        self.rope.line_to_byte(line)..end
    }

    /// Takes the last step back. Returns false when there is none.
    pub fn undo(&mut self) -> bool {
        let Some(step) = self.undo.pop() else { return false };
        for edit in step.edits.iter().rev() {
            self.apply(&Edit { at: edit.at, removed: edit.inserted.clone(), inserted: edit.removed.clone() });
        }
        self.cursor = step.cursor_before;
        self.anchor = None;
        self.redo.push(step);
        true
    }

    /// Does again what was taken back. Returns false when there is nothing.
    pub fn redo(&mut self) -> bool {
        let Some(mut step) = self.redo.pop() else { return false };
        for edit in &step.edits {
            self.apply(edit);
        }
        self.cursor = step.cursor_after;
        self.anchor = None;
        step.open = false;
        self.undo.push(step);
        true
    }

    fn close_step(&mut self) {
        if let Some(step) = self.undo.last_mut() {
            step.open = false;
        }
    }

    fn replace(&mut self, range: Range<usize>, text: &str, join: bool) {
        if range.is_empty() && text.is_empty() {
            return;
        }
        let cursor_before = self.cursor;
        let removed = self.rope.byte_slice(range.clone()).to_string();
        let edit = Edit { at: range.start, removed, inserted: text.to_owned() };
        self.apply(&edit);
        self.cursor = range.start + text.len();
        self.anchor = None;
        self.goal = None;
        if !self.redo.is_empty() {
            self.redo.clear();
            // What was saved cannot be reached any more if it was among what was taken back.
            self.saved = self.saved.filter(|saved| *saved <= self.undo.len());
        }
        match self.undo.last_mut().filter(|_| join) {
            Some(step) => {
                step.edits.push(edit);
                step.cursor_after = self.cursor;
            }
            None => {
                self.undo.push(Step { edits: vec![edit], cursor_before, cursor_after: self.cursor, open: false });
            }
        }
    }

    /// Changes the text and everything that is derived from it.
    fn apply(&mut self, edit: &Edit) {
        let from = self.rope.byte_to_char(edit.at);
        let to = self.rope.byte_to_char(edit.at + edit.removed.len());
        self.rope.remove(from..to);
        self.rope.insert(from, &edit.inserted);
        let change = Change { at: edit.at, removed: edit.removed.len(), inserted: edit.inserted.len() };
        match &mut self.meanwhile {
            Some(meanwhile) => meanwhile.push((change, self.rope.clone())),
            None => self.outline.update(&self.rope, change),
        }
        self.fresh.push(edit.clone());
        self.revision += 1;
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::SQLITE;

    fn typed(document: &mut Document, text: &str) {
        for c in text.chars() {
            document.type_text(&c.to_string());
        }
    }

    #[test]
    fn statements_of_a_long_text_are_found_beside_it() {
        let text = "select 1;\n".repeat(300_000);
        let mut document = Document::new(&text, &SQLITE);
        assert!(document.awaits_outline() && document.outline().statements().is_empty());
        let (rope, mut told) = (document.rope().clone(), 0);
        // Typed while they are found.
        document.go(Motion::Top, false);
        typed(&mut document, "select 0; ");
        document.go(Motion::Bottom, false);
        typed(&mut document, "select 2");
        document.undo();
        let outline = Outline::found(&rope, &SQLITE, |_| {
            told += 1;
            true
        });
        assert!(document.take_outline(outline.unwrap()) && told > 100);
        assert!(!document.awaits_outline());
        assert_eq!(document.outline().statements(), Outline::new(document.rope(), &SQLITE).statements());
        assert!(Outline::found(&rope, &SQLITE, |_| false).is_none(), "nobody wants it");
    }

    #[test]
    fn typing_is_undone_by_the_word() {
        let mut document = Document::new("", &SQLITE);
        typed(&mut document, "select name from");
        for expected in ["select name", "select", ""] {
            assert!(document.undo());
            assert_eq!(document.rope().to_string(), expected);
        }
        assert!(!document.undo());
        while document.redo() {}
        assert_eq!(document.rope().to_string(), "select name from");
    }

    #[test]
    fn unsaved_means_other_than_what_was_saved() {
        let mut document = Document::new("a", &SQLITE);
        assert!(!document.is_unsaved());
        document.type_text("b");
        assert!(document.is_unsaved());
        document.mark_saved();
        document.type_text("c");
        assert!(document.is_unsaved());
        document.undo();
        assert!(!document.is_unsaved(), "undo leads back to what was saved");
        document.undo();
        document.type_text("d");
        assert!(document.is_unsaved(), "a new step of the same length is another text");
    }

    #[test]
    fn a_selection_is_replaced_cut_and_copied() {
        let mut document = Document::new("select 1;\nselect 2;\n", &SQLITE);
        document.go(Motion::WordRight, true);
        assert_eq!(document.selected_text().as_deref(), Some("select"));
        document.insert("values (1),\r\n(2)");
        assert_eq!(document.rope().to_string(), "values (1),\n(2) 1;\nselect 2;\n");
        document.go(Motion::Bottom, false);
        document.go(Motion::Up(1), false);
        assert_eq!(document.copy(), "select 2;\n");
        assert_eq!(document.cut(), "select 2;\n");
        assert_eq!(document.outline().statements().len(), 1);
    }

    #[test]
    fn lines_end_as_those_of_the_text_do() {
        let mut document = Document::new("a;\r\n  b;\r\n", &SQLITE);
        document.insert("c\nd\r\ne\r");
        assert_eq!(document.rope().to_string(), "c\r\nd\r\ne\r\na;\r\n  b;\r\n");
        document.go(Motion::Bottom, false);
        document.go(Motion::Left, false);
        document.type_newline();
        assert!(document.rope().to_string().ends_with("  b;\r\n  \r\n"), "{:?}", document.rope().to_string());
        // A text from elsewhere is taken as it is, in one step.
        document.replace_all("x\ny\r\n");
        assert_eq!(document.rope().to_string(), "x\ny\r\n");
        document.undo();
        assert!(document.rope().to_string().starts_with("c\r\n"));
    }

    #[test]
    fn up_and_down_keep_the_column() {
        let mut document = Document::new("a long line\nb\na longer line", &SQLITE);
        document.go(Motion::To(7), false);
        document.go(Motion::Down(1), false);
        assert_eq!(document.cursor(), 13);
        document.go(Motion::Down(1), false);
        assert_eq!(document.cursor(), 21);
        document.go(Motion::Down(1), false);
        assert_eq!(document.cursor(), 27, "past the last line is the end");
        document.go(Motion::Up(9), false);
        document.go(Motion::Up(9), false);
        assert_eq!(document.cursor(), 0);
    }

    #[test]
    fn from_statement_to_statement() {
        let mut document = Document::new("select 1;\n-- b\nselect 2;\n", &SQLITE);
        document.go(Motion::NextStatement, false);
        assert_eq!((document.cursor(), document.current()), (15, Some(1)));
        document.go(Motion::NextStatement, false);
        assert_eq!(document.cursor(), 15);
        document.go(Motion::PreviousStatement, false);
        assert_eq!(document.cursor(), 0);
        // From any line of one, and from its title, the same.
        let text = "select 1;\n\n-- b\nselect 2\nfrom t\nwhere a;\n\nselect 3;\n\n";
        for (at, next, before) in
            [(0, 16, 0), (3, 16, 0), (12, 42, 0), (20, 42, 0), (30, 42, 0), (45, 45, 16), (52, 52, 42)]
        {
            let mut document = Document::new(text, &SQLITE);
            document.go(Motion::To(at), false);
            document.go(Motion::NextStatement, false);
            assert_eq!(document.cursor(), next, "next from {at}");
            document.go(Motion::To(at), false);
            document.go(Motion::PreviousStatement, false);
            assert_eq!(document.cursor(), before, "before from {at}");
        }
    }

    #[derive(Debug, Clone)]
    enum Act {
        Type(String),
        Delete,
        Move(usize),
        Select(usize),
        Undo,
        Redo,
    }

    proptest! {
        #[test]
        fn undoing_everything_gives_the_beginning(acts in proptest::collection::vec(prop_oneof![
            "[a-z;' \n名]".prop_map(Act::Type), Just(Act::Delete), (0..50_usize).prop_map(Act::Move),
            (0..50_usize).prop_map(Act::Select), Just(Act::Undo), Just(Act::Redo)], 0..40)) {
            let beginning = "select 'é' from t;\n\nselect 2";
            let mut document = Document::new(beginning, &SQLITE);
            let mut replayed = beginning.to_owned();
            for act in acts {
                match act {
                    Act::Type(text) => document.type_text(&text),
                    Act::Delete => document.delete(Motion::Left),
                    Act::Move(at) => document.go(Motion::To(at), false),
                    Act::Select(at) => document.go(Motion::To(at), true),
                    Act::Undo => { document.undo(); }
                    Act::Redo => { document.redo(); }
                }
                for edit in document.take_edits() {
                    replayed.replace_range(edit.at..edit.at + edit.removed.len(), &edit.inserted);
                }
                prop_assert_eq!(&replayed, &document.rope().to_string(), "the edits tell the whole story");
                let anew = Outline::new(document.rope(), &SQLITE);
                prop_assert_eq!(document.outline().statements(), anew.statements());
            }
            while document.undo() {}
            prop_assert_eq!(document.rope().to_string(), beginning);
            prop_assert!(!document.is_unsaved());
        }
    }
}
