//! A line as words.

use std::ops::Range;

/// The words of a line with their bytes in it, without the double quotes that keep blanks in a word; and
/// whether the last quote is open.
pub fn words(text: &str) -> (Vec<(Range<usize>, String)>, bool) {
    let mut words: Vec<(Range<usize>, String)> = Vec::new();
    let (mut quoted, mut open) = (false, false);
    for (at, c) in text.char_indices() {
        if c.is_whitespace() && !quoted {
            open = false;
            continue;
        }
        if !open {
            words.push((at..at, String::new()));
            open = true;
        }
        if let Some((range, word)) = words.last_mut() {
            range.end = at + c.len_utf8();
            match c {
                '"' => quoted = !quoted,
                c => word.push(c),
            }
        }
    }
    (words, quoted)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quotes_keep_blanks_and_are_left_out() {
        let read = |text: &str| {
            let (words, open) = words(text);
            (words.into_iter().map(|(range, word)| (text[range].to_owned(), word)).collect::<Vec<_>>(), open)
        };
        let pair = |written: &str, word: &str| (written.to_owned(), word.to_owned());
        assert_eq!(read(" a  b=\"c d\" é"), (vec![pair("a", "a"), pair("b=\"c d\"", "b=c d"), pair("é", "é")], false));
        assert_eq!(read("\"\""), (vec![pair("\"\"", "")], false));
        assert_eq!(read("a \"b c"), (vec![pair("a", "a"), pair("\"b c", "b c")], true));
        assert_eq!(read("  "), (vec![], false));
    }
}
