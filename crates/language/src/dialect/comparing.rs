//! How a language compares and orders values: what [`jaunty_core::arrange::statement`] writes conditions with.

/// How a language compares and orders values, where languages differ. In what is a template `VALUE` stands
/// for a value, and `TEXT` for a literal.
#[derive(Debug)]
pub struct Comparing {
    /// A value of any type as the text that it is shown as.
    pub as_text: &'static str,
    /// Bytes as the text that they are shown as.
    pub bytes_as_text: &'static str,
    /// What stands before and behind the digits of bytes as a literal.
    pub bytes: [&'static str; 2],
    /// What the names of types begin with whose values are text already; nothing where all can be used as text.
    pub text_types: &'static [&'static str],
    /// Whether a text fits a pattern in any case, and in this one.
    pub fits: [(Pattern, &'static str); 2],
    /// Whether a text fits a regular expression in any case, and in this one; with what the expression begins.
    pub expression: [(&'static str, &'static str); 2],
    /// A text that another has to be equal to, by code point.
    pub equal: &'static str,
    /// A text that another comes before or after, by code point.
    pub ordered: &'static str,
    /// A text to be sorted by, by code point.
    pub sorted: &'static str,
    /// A value to be sorted by with NULL at the end: the least first, and the greatest first. `NAME` is the
    /// column that it is made of.
    pub nulls_last: [&'static str; 2],
    /// Whether a query inside another may give two columns the same name.
    pub same_names: bool,
}

/// Signs that stand for others.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pattern {
    /// `%` for any text and `_` for any character, a backslash before those that are meant.
    Like,
    /// `*` and `?`, in brackets where they are meant.
    Glob,
}

impl Pattern {
    /// The sign for any text.
    pub fn any(self) -> char {
        match self {
            Pattern::Like => '%',
            Pattern::Glob => '*',
        }
    }

    /// A pattern that a text itself fits, and no other.
    pub fn of(self, text: &str) -> String {
        let mut pattern = String::with_capacity(text.len());
        for c in text.chars() {
            match (self, c) {
                (Pattern::Like, '%' | '_' | '\\') => pattern.extend(['\\', c]),
                (Pattern::Glob, '*' | '?' | '[') => pattern.extend(['[', c, ']']),
                _ => pattern.push(c),
            }
        }
        pattern
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_that_stand_for_others_are_meant() {
        assert_eq!(Pattern::Like.of(r"50% _off\"), r"50\% \_off\\");
        assert_eq!(Pattern::Glob.of("what? [all] 5*5"), "what[?] [[]all] 5[*]5");
    }
}
