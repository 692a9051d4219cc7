//! A name as it stands in a statement.

use crate::dialect::Dialect;

/// A name as it stands in a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Written {
    /// The name without its quotes.
    pub text: String,
    /// Whether it stood in quotes.
    pub quoted: bool,
}

impl Written {
    /// A name that stood there without quotes.
    pub fn plain(text: &str) -> Written {
        Written { text: text.to_owned(), quoted: false }
    }

    /// Whether it means this name. A dialect that folds names takes one in quotes as it is.
    pub fn means(&self, name: &str, dialect: &Dialect) -> bool {
        match (dialect.folds_names, self.quoted) {
            (true, true) => self.text == name,
            // Letters beyond ASCII are not folded by every server, and nobody can tell from here.
            (true, false) => self.text.to_lowercase() == name,
            (false, _) => self.text == name || self.text.to_lowercase() == name.to_lowercase(),
        }
    }
}
