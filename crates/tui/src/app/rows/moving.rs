//! Moving in a result: by rows, pages, columns, to a row by its number or its share.

use jaunty_core::logbook::Outcome;

use crate::action::Scope;
use crate::app::overlay::prompt::Asked;
use crate::app::{App, Overlay, Prompt};
use jaunty_core::words;

impl App {
    /// Moves by pages.
    pub fn page_by(&mut self, pages: i64) {
        self.rows.advance(pages * self.rows.height() as i64);
    }

    /// Moves by halves of a page.
    pub fn half_page_by(&mut self, halves: i64) {
        self.rows.advance(halves * (self.rows.height() as i64 / 2).max(1));
    }

    /// Goes to the first row.
    pub fn first_row(&mut self) {
        self.rows.go_to(0);
    }

    /// Goes to the last row, and fetches what has not been fetched.
    pub fn last_row(&mut self) {
        self.rows.go_to(u64::MAX);
        if let Some(run) = self.rows.run().filter(|run| run.outcome() == Outcome::Running).cloned() {
            run.fetch_rest();
            if let Some(view) = self.rows.view_mut() {
                view.to_end = true;
            }
        }
    }

    /// Moves by rows.
    pub fn move_row(&mut self, by: i64) {
        self.rows.go_to(self.rows.view().row.saturating_add_signed(by));
    }

    /// Moves by columns.
    pub fn move_column(&mut self, by: isize) {
        if let Some(view) = self.rows.view_mut() {
            view.column = view.column.saturating_add_signed(by).min(view.columns.len().saturating_sub(1));
        }
    }

    /// Asks for a row number.
    pub fn ask_for_row(&mut self) {
        let title = format!("row, 1 to {}, or a percentage, such as 50 %", words::number(self.rows.total().max(1)));
        self.overlay = Some(Overlay::Prompt(Prompt::new(format!("go to {title}"), Asked::Row)));
    }

    /// Asks for a line number.
    pub fn ask_for_line(&mut self) {
        let title = format!("line, 1 to {}", words::number(self.buffer.document.rope().len_lines() as u64));
        self.overlay = Some(Overlay::Prompt(Prompt::new(format!("go to {title}"), Asked::Line)));
    }

    fn go_to_percent(&mut self, text: &str, percent: &str) {
        match percent.replace(',', ".").parse::<f64>() {
            Ok(percent) if (0.0..=100.0).contains(&percent) => {
                let last = self.rows.total().saturating_sub(1);
                self.rows.go_to((last as f64 * percent / 100.0).round() as u64);
                self.panes.focus = Scope::Result;
            }
            _ => self.tell_wrong(format!("\"{text}\" is not a percentage; write it such as 50 %")),
        }
    }

    pub(in crate::app) fn go_to_row_number(&mut self, text: &str) {
        if let Some(percent) = text.trim().strip_suffix('%') {
            return self.go_to_percent(text, percent.trim());
        }
        let digits: String = text.chars().filter(|c| !matches!(c, ',' | '_' | ' ' | '.')).collect();
        match digits.parse::<u64>() {
            Ok(0) | Err(_) => self.tell_wrong(format!("\"{text}\" is not a row number; rows start at 1")),
            Ok(number) => {
                let total = self.rows.total();
                if let Some(run) = self.rows.run().filter(|run| number > total && run.is_held()) {
                    run.fetch_rest();
                }
                self.rows.go_to(number - 1);
                self.panes.focus = Scope::Result;
                if number > total {
                    self.tell(format!("only {} fetched so far; this is the last", words::count(total, "row")));
                }
            }
        }
    }
}
