//! What is known of the word at the cursor.

use jaunty_core::complete::about::About;

use super::Layer;

/// What is known of something.
#[derive(Debug)]
pub struct AboutView {
    /// What is known.
    pub about: About,
    /// The first line that is shown.
    pub top: usize,
}

impl Layer for AboutView {
    fn gives_way_to(&self) -> &'static [&'static str] {
        &["reveal"]
    }

    fn move_by(&mut self, by: isize) {
        self.top = self.top.saturating_add_signed(by).min(self.about.lines.len().saturating_sub(1));
    }

    fn wheel(&self) -> isize {
        3
    }
}
