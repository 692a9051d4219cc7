//! Finding and replacing by regular expressions.

use std::ops::Range;

use regex::{Regex, RegexBuilder};
use ropey::Rope;

/// A pattern that cannot be read.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum SearchError {
    /// It is no regular expression.
    #[error(
        "\"{pattern}\" is not a regular expression: {why}. Put a backslash before a character that is meant literally."
    )]
    Pattern {
        /// The pattern.
        pattern: String,
        /// Why.
        why: String,
    },
    /// It is not written as a replacement.
    #[error("write it as /pattern/by/, or with another sign than / if one of them has a slash")]
    Form,
}

/// What is sought. Capitals count only if there are some in it.
#[derive(Debug)]
pub struct Pattern(Regex);

/// A place that fits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Its bytes.
    pub range: Range<usize>,
    /// Its number, from 1.
    pub number: usize,
    /// How many there are.
    pub of: usize,
}

impl Pattern {
    /// Reads a regular expression.
    pub fn read(pattern: &str) -> Result<Pattern, SearchError> {
        let capitals = pattern.chars().any(char::is_uppercase);
        let built = RegexBuilder::new(pattern).case_insensitive(!capitals).multi_line(true).build();
        built.map(Pattern).map_err(|error| {
            let why = error.to_string();
            let why = why.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
            SearchError::Pattern { pattern: pattern.to_owned(), why }
        })
    }

    /// The first byte that fits in a line.
    pub fn first_in(&self, line: &str) -> Option<usize> {
        self.0.find(line.trim_end_matches(['\n', '\r'])).filter(|found| !found.is_empty()).map(|found| found.start())
    }

    /// The next place from a byte on; behind the last one it begins again at the first.
    pub fn next(&self, rope: &Rope, from: usize) -> Option<Found> {
        let text = rope.to_string();
        let all: Vec<Range<usize>> =
            self.0.find_iter(&text).map(|found| found.range()).filter(|range| !range.is_empty()).collect();
        let at = all.iter().position(|range| range.start >= from).unwrap_or(0);
        let range = all.get(at)?.clone();
        Some(Found { range, number: at + 1, of: all.len() })
    }
}

/// A text as a pattern that stands for itself.
pub fn literal(text: &str) -> String {
    regex::escape(text)
}

/// A pattern, and what takes its place.
#[derive(Debug)]
pub struct Replacement {
    pattern: Regex,
    by: String,
}

impl Replacement {
    /// Reads `/pattern/by/`. Any sign may stand for the slash; written twice at the beginning, where one was there already, it
    /// counts once.
    pub fn read(written: &str) -> Result<Replacement, SearchError> {
        let sign =
            written.chars().next().filter(|c| !c.is_alphanumeric() && !c.is_whitespace()).ok_or(SearchError::Form)?;
        let again = written.strip_prefix(sign).filter(|rest| rest.starts_with(sign) && rest.matches(sign).count() == 3);
        let mut parts = again.unwrap_or(written).split(sign).skip(1);
        let (Some(pattern), Some(by)) = (parts.next(), parts.next()) else { return Err(SearchError::Form) };
        if pattern.is_empty() || parts.any(|rest| !rest.is_empty()) {
            return Err(SearchError::Form);
        }
        Ok(Replacement { pattern: Pattern::read(pattern)?.0, by: by.to_owned() })
    }

    /// The text with all places replaced, and how many there were.
    pub fn apply(&self, text: &str) -> (String, usize) {
        let count = self.pattern.find_iter(text).count();
        (self.pattern.replace_all(text, self.by.as_str()).into_owned(), count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_found_one_after_the_other_and_around() {
        let rope = Rope::from_str("Port port\nPORT é port");
        let next =
            |pattern: &str, from| Pattern::read(pattern).unwrap().next(&rope, from).map(|f| (f.range, f.number, f.of));
        assert_eq!(next("port", 0), Some((0..4, 1, 4)));
        assert_eq!(next("port", 4), Some((5..9, 2, 4)));
        assert_eq!(next("port", 30), Some((0..4, 1, 4)));
        assert_eq!(next("Port", 1), Some((0..4, 1, 1)));
        assert_eq!(next("^port", 1), Some((10..14, 2, 2)));
        assert_eq!(next("x*", 0), None);
    }

    #[test]
    fn replacements_are_written_between_signs() {
        let apply = |written: &str, text: &str| Replacement::read(written).map(|r| r.apply(text));
        assert_eq!(apply("/b/x/", "a b b"), Ok(("a x x".into(), 2)));
        assert_eq!(apply("/(\\w)=(\\w)/$2=$1", "a=b"), Ok(("b=a".into(), 1)));
        assert_eq!(apply("#/#-#", "a/b"), Ok(("a-b".into(), 1)));
        assert_eq!(apply("//b/x/", "a b b"), Ok(("a x x".into(), 2)));
        for wrong in ["", "abc", "//x/", "/a/b/c", "//", "///", "////"] {
            assert_eq!(Replacement::read(wrong).map(drop), Err(SearchError::Form), "{wrong}");
        }
        let error = Replacement::read("/(/x/").map(drop).unwrap_err().to_string();
        assert!(error.starts_with("\"(\" is not a regular expression: unclosed group"), "{error}");
    }
}
