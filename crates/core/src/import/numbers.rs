//! Numbers as people write them: which sign stands before the fraction, and what groups the digits before it.

use std::borrow::Cow;

/// How a column writes its numbers.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Numbers {
    /// `1234.5`, as all servers read them.
    #[default]
    Plain,
    /// `1.234,5`.
    Comma,
    /// `1,234.5`.
    Point,
}

impl Numbers {
    /// By its word on a command line: the sign before the fraction.
    pub fn of_word(word: &str) -> Option<Numbers> {
        Some(match word {
            "comma" => Numbers::Comma,
            "point" => Numbers::Point,
            _ => return None,
        })
    }

    /// A number written so.
    pub fn example(self) -> &'static str {
        match self {
            Numbers::Plain => "1234.5",
            Numbers::Comma => "1.234,5",
            Numbers::Point => "1,234.5",
        }
    }

    /// A number as all servers read it; none if it is not written so. Groups have three digits, and blanks (also those
    /// that do not break a line) and apostrophes may stand between them as well.
    pub fn plain(self, text: &str) -> Option<Cow<'_, str>> {
        let (group, point) = match self {
            Numbers::Plain => return Some(Cow::Borrowed(text)),
            Numbers::Comma => ('.', ','),
            Numbers::Point => (',', '.'),
        };
        let text = text.trim();
        let (sign, unsigned) = match text.strip_prefix(['-', '\u{2212}']) {
            Some(unsigned) => ("-", unsigned),
            None => ("", text),
        };
        let (whole, fraction) = match unsigned.split_once(point) {
            Some((whole, fraction)) => (whole, Some(fraction)),
            None => (unsigned, None),
        };
        let are_digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
        if fraction.is_some_and(|fraction| !are_digits(fraction)) {
            return None;
        }
        let separates = |c: char| c == group || matches!(c, ' ' | '\u{a0}' | '\u{202f}' | '\'' | '\u{2019}');
        // One sign groups all of them.
        let separator = whole.chars().find(|c| separates(*c));
        let mut parts = whole.split(|c| Some(c) == separator);
        let first = parts.next().filter(|first| are_digits(first))?;
        let mut number = format!("{sign}{first}");
        for part in parts {
            if first.len() > 3 || part.len() != 3 || !are_digits(part) {
                return None;
            }
            number.push_str(part);
        }
        if let Some(fraction) = fraction {
            number.push('.');
            number.push_str(fraction);
        }
        Some(Cow::Owned(number))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_as_they_are_written() {
        let read = |numbers: Numbers, text: &str| numbers.plain(text).map(Cow::into_owned);
        for (text, comma, point) in [
            ("7,5", Some("7.5"), None),
            ("1.234,50", Some("1234.50"), None),
            ("-1.234.567", Some("-1234567"), None),
            ("1,234.50", None, Some("1234.50")),
            ("1,234", Some("1.234"), Some("1234")),
            ("1.234", Some("1234"), Some("1.234")),
            ("12 345,6", Some("12345.6"), None),
            ("12\u{a0}345", Some("12345"), Some("12345")),
            ("1'234.5", None, Some("1234.5")),
            ("\u{2212}3", Some("-3"), Some("-3")),
            ("1234567,5", Some("1234567.5"), None),
            ("1234.567,5", None, None),
            ("1.23,5", None, None),
            ("1.234 567", None, None),
            ("1,2,3", None, None),
            ("1,", None, None),
            (",5", None, None),
            ("12e3", None, None),
            ("", None, None),
            ("quay", None, None),
        ] {
            let expected = (comma.map(str::to_owned), point.map(str::to_owned));
            assert_eq!((read(Numbers::Comma, text), read(Numbers::Point, text)), expected, "{text}");
        }
        assert_eq!(read(Numbers::Plain, "1,5").as_deref(), Some("1,5"), "others are not looked at");
    }
}
