//! Changes to lines, searching and replacing, the outline.

use std::ops::Range;

use jaunty_language::dialect::Family;
use jaunty_language::dialect::documents::turn::turned;
use jaunty_language::edit::document::Motion;
use jaunty_language::edit::lines::{self, Change};
use jaunty_language::text::search::{self, Pattern};
use ropey::Rope;

use super::overlay::prompt::Asked;
use super::{App, Item, List, Overlay, Pick, Prompt};
use jaunty_core::words;

impl App {
    /// Moves the cursor.
    pub fn go(&mut self, motion: Motion, extend: bool) {
        self.buffer.document.go(motion, extend);
        if matches!(motion, Motion::NextStatement | Motion::PreviousStatement) {
            let height = usize::from(self.areas().buffer.height);
            self.buffer.show_statement(height);
        }
    }

    /// Moves the cursor by screens of text.
    pub fn go_pages(&mut self, pages: isize) {
        let height = usize::from(self.areas().buffer.height).saturating_sub(1).max(1);
        let motion = if pages < 0 { Motion::Up(height) } else { Motion::Down(height) };
        self.buffer.document.go(motion, false);
    }

    /// Deletes.
    pub fn delete(&mut self, motion: Motion) {
        self.buffer.document.delete(motion);
    }

    /// Begins a line.
    pub fn new_line(&mut self) {
        self.buffer.document.type_newline();
    }

    /// Puts in blanks up to the next stop.
    pub fn indent(&mut self) {
        let (_, column) = self.buffer.place();
        self.buffer.document.insert(&" ".repeat(2 - column % 2));
    }

    /// Takes the last change back.
    pub fn undo(&mut self) {
        if !self.buffer.document.undo() {
            self.tell("nothing to undo");
        }
    }

    /// Does it again.
    pub fn redo(&mut self) {
        if !self.buffer.document.redo() {
            self.tell("nothing to redo");
        }
    }

    /// Cuts.
    pub fn cut(&mut self) {
        self.buffer.cut = self.buffer.document.cut();
        self.clipboard = Some(self.buffer.cut.clone());
    }

    /// Copies. Without a selection while something runs, a person means to stop it.
    pub fn copy(&mut self) {
        if self.buffer.document.selection().is_none() && self.connection.is_busy() {
            return self.connection.stop();
        }
        self.buffer.cut = self.buffer.document.copy();
        self.clipboard = Some(self.buffer.cut.clone());
        self.tell("copied");
    }

    /// Puts in what was cut or copied.
    pub fn paste(&mut self) {
        let text = self.buffer.cut.clone();
        self.buffer.document.insert(&text);
    }

    /// Selects everything.
    pub fn select_all(&mut self) {
        self.buffer.document.select_all();
    }

    fn selection(&self) -> Range<usize> {
        let document = &self.buffer.document;
        document.selection().unwrap_or(document.cursor()..document.cursor())
    }

    fn carry_out(&mut self, change: Change) {
        let document = &mut self.buffer.document;
        document.go(Motion::To(change.range.start), false);
        if !change.range.is_empty() {
            document.go(Motion::To(change.range.end), true);
        }
        document.insert(&change.text);
        document.go(Motion::To(change.select.start), false);
        if !change.select.is_empty() {
            document.go(Motion::To(change.select.end), true);
        }
    }

    fn change_lines(&mut self, change: impl Fn(&Rope, &Range<usize>) -> Option<Change>) {
        let selection = self.selection();
        if let Some(change) = change(self.buffer.document.rope(), &selection) {
            self.carry_out(change);
        }
    }

    /// Makes lines comments, or no comments any more.
    pub fn comment_lines(&mut self) {
        let dialect = self.buffer.document.outline().dialect();
        self.change_lines(|rope, selection| Some(lines::comment(rope, selection, dialect)));
    }

    /// Moves lines to the right.
    pub(super) fn indent_lines(&mut self) {
        self.change_lines(|rope, selection| Some(lines::indent(rope, selection)));
    }

    /// Moves lines to the left.
    pub fn outdent_lines(&mut self) {
        self.change_lines(|rope, selection| Some(lines::outdent(rope, selection)));
    }

    /// Writes the selection or the line a second time.
    pub fn duplicate(&mut self) {
        self.change_lines(|rope, selection| Some(lines::duplicate(rope, selection)));
    }

    /// Exchanges lines with those beside them.
    pub fn shift_lines(&mut self, down: bool) {
        self.change_lines(|rope, selection| lines::shift(rope, selection, down));
    }

    /// Puts the selection between signs. False if there is none, or it is no such sign.
    pub(super) fn surround(&mut self, open: char) -> bool {
        let Some(selection) = self.buffer.document.selection() else { return false };
        let change = lines::surround(self.buffer.document.rope(), &selection, open);
        change.map(|change| self.carry_out(change)).is_some()
    }

    /// Goes to the parenthesis that belongs to the one at the cursor.
    pub fn go_to_partner(&mut self) {
        let document = &self.buffer.document;
        let statement = document.statement();
        let from = statement.map_or(0, |s| s.start.min(document.cursor()));
        match lines::partner(document.rope(), document.outline().dialect(), from, document.cursor()) {
            Some(there) => self.buffer.document.go(Motion::To(there), false),
            None => self.tell("no matching parenthesis here"),
        }
    }

    /// Asks what to find.
    pub fn ask_for_pattern(&mut self) {
        let title = "find a regular expression; case matters only if it has capitals".to_owned();
        let selected = self.buffer.document.selected_text().filter(|text| !text.contains('\n'));
        let text = selected.map_or_else(|| self.sought.clone(), |text| search::literal(&text));
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::Find, text)));
    }

    pub(super) fn find(&mut self, pattern: &str) {
        self.sought = pattern.to_owned();
        self.find_next();
    }

    /// Goes to the next place that was sought.
    pub fn find_next(&mut self) {
        if self.sought.is_empty() {
            return self.ask_for_pattern();
        }
        let pattern = match Pattern::read(&self.sought) {
            Ok(pattern) => pattern,
            Err(error) => return self.tell_wrong(error.to_string()),
        };
        let from = self.selection().end;
        let rope = self.buffer.document.rope();
        match pattern.next(rope, from) {
            Some(found) => {
                let document = &mut self.buffer.document;
                document.go(Motion::To(found.range.start), false);
                document.go(Motion::To(found.range.end), true);
                let again = if found.range.start < from { " · from the top" } else { "" };
                self.tell(format!("{} of {}{again}", found.number, found.of));
            }
            None => self.tell(format!("no match for \"{}\" in this buffer", self.sought)),
        }
    }

    /// Asks what to replace.
    pub fn ask_to_replace(&mut self) {
        let within = if self.buffer.document.selection().is_some() { "in the selection" } else { "in the buffer" };
        let title = format!("replace {within}, as /pattern/by/; $1 is the first group");
        let mut prompt = Prompt::new(title, Asked::Replace);
        prompt.line.insert("/");
        self.overlay = Some(Overlay::Prompt(prompt));
    }

    pub(super) fn replace_all(&mut self, written: &str) {
        let outcome = search::Replacement::read(written).map(|replacement| {
            let document = &self.buffer.document;
            let range = document.selection().unwrap_or(0..document.rope().len_bytes());
            let before: String = document.rope().byte_slice(range.clone()).into();
            let (text, count) = replacement.apply(&before);
            (range, text, count)
        });
        match outcome {
            Ok((_, _, 0)) => self.tell("no match to replace"),
            Ok((range, text, count)) => {
                let cursor = self.buffer.document.cursor().min(range.start + text.len());
                self.carry_out(Change { range, text, select: cursor..cursor });
                self.tell(format!("{} replaced; undo reverts it", words::count(count as u64, "place")));
            }
            Err(error) => self.tell_wrong(error.to_string()),
        }
    }

    /// Lists the statements of the buffer.
    pub fn list_outline(&mut self) {
        let document = &self.buffer.document;
        let (rope, outline) = (document.rope(), document.outline());
        let current = document.current().unwrap_or(0);
        let items: Vec<Item> = outline
            .statements()
            .iter()
            .map(|statement| {
                let title = statement.title_text(rope, outline.dialect());
                let end = rope.len_bytes().min(statement.start + 400).min(statement.body_end.max(statement.start));
                let end = rope.char_to_byte(rope.byte_to_char(end));
                let text: String = rope.byte_slice(statement.start..end).into();
                let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
                Item {
                    label: title.clone().unwrap_or_else(|| line.clone()),
                    key: format!("line {}", rope.byte_to_line(statement.start) + 1),
                    help: if title.is_some() { line } else { String::new() },
                    pick: Pick::Place(statement.start),
                }
            })
            .collect();
        if items.is_empty() {
            return self.tell("no statement here yet");
        }
        let mut list = List::new("statements", items);
        list.chosen = current;
        self.overlay = Some(Overlay::List(list));
    }

    /// Writes the statement at the cursor in its other form.
    pub fn turn_statement(&mut self) {
        let document = &self.buffer.document;
        if document.outline().dialect().family != Family::Documents {
            return self.tell("only statements of document databases have two forms");
        }
        let Some(statement) = document.statement() else { return self.tell("no statement here") };
        let range = statement.start..statement.body_end;
        let before: String = document.rope().byte_slice(range.clone()).into();
        match turned(&before) {
            Ok(text) => {
                let cursor = range.start;
                self.carry_out(Change { range, text, select: cursor..cursor });
                let height = usize::from(self.areas().buffer.height);
                self.buffer.show_statement(height);
            }
            Err(why) => self.tell_wrong(why),
        }
    }

    /// Writes the statement at the cursor anew, a clause a line.
    pub fn format_statement(&mut self) {
        let document = &self.buffer.document;
        let dialect = document.outline().dialect();
        let statement = document.statement();
        let Some(statement) = statement.filter(|s| s.closed && !dialect.ends_with_line) else {
            return self.tell("no statement here to format");
        };
        let range = statement.start..statement.body_end;
        let before: String = document.rope().byte_slice(range.clone()).into();
        let text = jaunty_language::edit::format::statement(&before, dialect);
        if text == before {
            return self.tell("already formatted");
        }
        let cursor = range.start;
        self.carry_out(Change { range, text, select: cursor..cursor });
    }
}
