//! One row with its names down the side, or one value of it: wrapped, indented, folded, searched.

use std::collections::HashSet;
use std::path::Path;

use jaunty_core::rows::unfold;

use crate::app::{App, Summoned};
use crate::line;
use crate::pager::{Field, Wish};
use crate::words;

/// A row that is looked at.
#[derive(Debug)]
pub struct Whole {
    /// Its place among the rows that are shown.
    pub at: u64,
    /// The row of the archive.
    row: u64,
    /// Its values; none until they are read.
    pub fields: Vec<Field>,
    /// The column that is looked at alone.
    pub alone: Option<usize>,
    /// Whether the row was there before the value.
    from_row: bool,
    /// Its lines.
    pub lines: Vec<Line>,
    /// The line in hand, among all.
    pub chosen: usize,
    /// The lines whose inside is folded away.
    folded: HashSet<usize>,
    /// What is looked for.
    pub sought: line::Line,
    /// How many lines hold it.
    pub found: usize,
    /// Whether that is being typed.
    pub typing: bool,
}

/// A line of a row.
#[derive(Debug, Clone)]
pub struct Line {
    /// The column.
    pub column: usize,
    /// Whether it is the first of its value.
    pub first: bool,
    /// Its text, not cleaned.
    pub text: String,
    /// The line that closes what this one opens.
    pub closes: Option<usize>,
}

/// So many lines of a long value are shown in a row; all of them when it is looked at alone.
const SOME: usize = 12;

impl Whole {
    fn new(at: u64, row: u64, alone: Option<usize>) -> Whole {
        Whole {
            at,
            row,
            fields: Vec::new(),
            alone,
            from_row: false,
            lines: Vec::new(),
            chosen: 0,
            folded: HashSet::new(),
            sought: line::Line::default(),
            found: 0,
            typing: false,
        }
    }

    /// Lays its values out.
    fn lay_out(&mut self) {
        self.lines.clear();
        self.folded.clear();
        for (column, field) in self.fields.iter().enumerate() {
            if self.alone.is_some_and(|alone| alone != column) {
                continue;
            }
            let mut lines = unfold::lines(field.kind, &field.text);
            if lines.is_empty() {
                lines.push(unfold::Line { text: String::new(), closes: None });
            }
            let all = lines.len();
            let shown = if self.alone.is_some() { all } else { all.min(SOME) };
            let begins = self.lines.len();
            for (at, line) in lines.into_iter().take(shown).enumerate() {
                let closes = line.closes.filter(|closes| *closes < shown).map(|closes| begins + closes);
                self.lines.push(Line { column, first: at == 0, text: line.text, closes });
            }
            if shown < all {
                let text = format!("… {} more; enter shows all", words::count((all - shown) as u64, "line"));
                self.lines.push(Line { column, first: false, text, closes: None });
            }
        }
        self.chosen = self.chosen.min(self.lines.len().saturating_sub(1));
    }

    /// The lines that are not folded away.
    pub fn visible(&self) -> Vec<usize> {
        let mut visible = Vec::new();
        let mut at = 0;
        while let Some(line) = self.lines.get(at) {
            visible.push(at);
            at = match line.closes.filter(|_| self.folded.contains(&at)) {
                Some(closes) => closes,
                None => at + 1,
            };
        }
        visible
    }

    /// Whether what a line opens is folded away.
    pub fn is_folded(&self, line: usize) -> bool {
        self.folded.contains(&line)
    }

    fn move_by(&mut self, by: isize) {
        let visible = self.visible();
        let now = visible.partition_point(|line| *line < self.chosen);
        let to = now.saturating_add_signed(by).min(visible.len().saturating_sub(1));
        self.chosen = visible.get(to).copied().unwrap_or(0);
    }

    /// The column of the line in hand.
    fn column(&self) -> usize {
        self.lines.get(self.chosen).map_or(0, |line| line.column)
    }

    /// Whether a line holds what is looked for.
    pub fn matches(&self, line: &Line) -> bool {
        !self.sought.is_empty() && line.text.to_lowercase().contains(&self.sought.text().to_lowercase())
    }

    /// What is looked for, while it is being written.
    pub(in crate::app) fn line(&mut self) -> Option<&mut line::Line> {
        self.typing.then_some(&mut self.sought)
    }

    /// Looks for something else that was typed.
    pub(in crate::app) fn search_anew(&mut self) {
        self.count();
        if !self.lines.get(self.chosen).is_some_and(|line| self.matches(line)) {
            self.seek(false);
        }
    }

    fn count(&mut self) {
        self.found = self.lines.iter().filter(|line| self.matches(line)).count();
    }

    /// Goes to the next line that holds it, or to the one before.
    fn seek(&mut self, back: bool) {
        let places: Vec<usize> = (0..self.lines.len()).filter(|at| self.matches(&self.lines[*at])).collect();
        let next = match back {
            false => places.iter().find(|at| **at > self.chosen).or(places.first()),
            true => places.iter().rev().find(|at| **at < self.chosen).or(places.last()),
        };
        if let Some(next) = next.copied() {
            // What it is folded in opens.
            let around: Vec<usize> = self
                .folded
                .iter()
                .copied()
                .filter(|open| *open < next && self.lines[*open].closes.is_some_and(|closes| closes > next))
                .collect();
            self.folded.retain(|open| !around.contains(open));
            self.chosen = next;
        }
    }

    fn fold(&mut self) -> bool {
        let opens = self.lines.get(self.chosen).is_some_and(|line| line.closes.is_some());
        if opens && !self.folded.remove(&self.chosen) {
            self.folded.insert(self.chosen);
        }
        opens
    }
}

impl App {
    /// Shows the row in hand with its names down the side.
    pub fn show_row(&mut self) {
        self.look_at_row(None);
    }

    /// Shows the value in hand alone.
    pub fn show_value(&mut self) {
        let column = self.rows.view().column_in_hand();
        self.look_at_row(Some(column));
    }

    fn look_at_row(&mut self, alone: Option<usize>) {
        let view = self.rows.view();
        let Some(rows) = self.rows.kept().cloned().filter(|_| self.rows.total() > 0) else {
            return self.tell("there are no rows here");
        };
        let row = view.row_of(view.row);
        let chosen = match &self.summoned {
            Some(Summoned::Whole(whole)) => whole.chosen,
            _ => 0,
        };
        let mut whole = Whole::new(view.row, row, alone);
        whole.chosen = chosen;
        self.summoned = Some(Summoned::Whole(Box::new(whole)));
        self.pager.ask(Wish::Row { rows, row });
    }

    pub(super) fn take_row(&mut self, path: &Path, row: u64, fields: Vec<Field>) {
        let ours = self.rows.kept().is_some_and(|kept| kept.path() == path);
        let column = self.rows.view().column_in_hand();
        if let Some(Summoned::Whole(whole)) = &mut self.summoned
            && ours
            && whole.row == row
        {
            let first = whole.chosen == 0;
            whole.fields = fields;
            whole.lay_out();
            if first && whole.alone.is_none() {
                // At the column that was in hand.
                whole.chosen = whole.lines.iter().position(|line| line.column == column).unwrap_or(0);
            }
        }
    }

    /// A key while a row is looked at.
    pub(in crate::app) fn key_to_whole(&mut self, name: &str) -> bool {
        let Some(Summoned::Whole(whole)) = &mut self.summoned else { return false };
        if whole.typing {
            match name {
                "esc" => (whole.typing, whole.sought) = (false, line::Line::default()),
                "enter" => whole.typing = false,
                _ => return false,
            }
            return true;
        }
        match name {
            "up" => whole.move_by(-1),
            "down" => whole.move_by(1),
            "pageup" => whole.move_by(-20),
            "pagedown" | "space" => whole.move_by(20),
            "home" => whole.chosen = 0,
            "end" => whole.move_by(isize::MAX),
            "left" => self.other_row(-1),
            "right" => self.other_row(1),
            "/" => (whole.typing, whole.sought) = (true, line::Line::default()),
            "n" => whole.seek(false),
            "p" => whole.seek(true),
            "c" | "ctrl-c" => {
                let (row, column) = (whole.row, whole.column());
                if let Some(rows) = self.rows.kept().cloned() {
                    self.pager.ask(Wish::Cell { rows, row, column });
                }
            }
            "enter" => {
                if !whole.fold() && whole.alone.is_none() {
                    (whole.alone, whole.from_row) = (Some(whole.column()), true);
                    whole.chosen = 0;
                    whole.lay_out();
                }
            }
            "v" => {
                let alone = if whole.alone.is_some() { None } else { Some(whole.column()) };
                let column = whole.column();
                whole.alone = alone;
                whole.lay_out();
                whole.chosen = whole.lines.iter().position(|line| line.column == column).unwrap_or(0);
            }
            "esc" if whole.alone.is_some() && whole.from_row => {
                let column = whole.alone.take();
                whole.from_row = false;
                whole.lay_out();
                whole.chosen = whole.lines.iter().position(|line| Some(line.column) == column).unwrap_or(0);
            }
            "esc" => self.summoned = None,
            _ => return false,
        }
        true
    }

    /// Looks at the next row, or the one before, at the same column.
    fn other_row(&mut self, by: i64) {
        let Some(Summoned::Whole(whole)) = &self.summoned else { return };
        let (alone, column) = (whole.alone, whole.column());
        self.move_row(by);
        if let Some(view) = self.rows.view_mut()
            && let Some(place) = view.columns.iter().position(|shown| *shown == column)
        {
            view.column = place;
        }
        self.summoned = None;
        self.look_at_row(alone);
    }
}
