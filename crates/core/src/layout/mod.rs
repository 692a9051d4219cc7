//! A value laid out in lines that fit a screen: what [`pretty_print`] makes of it, wrapped, with words where
//! there is nothing to be seen.

pub mod pretty_print;

use jaunty_seam::rows::cell::CellKind;

use jaunty_language::text::clean::clean;
use jaunty_language::text::wrap::wrapped;

/// A line of a value on the screen.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Line {
    /// Its text, cleaned.
    pub text: String,
    /// The line that closes what this one opens, so that those between can be folded away.
    pub closes: Option<usize>,
    /// Whether it goes on with the line above it, for which there was no room; then so many of its first bytes are
    /// indentation.
    pub goes_on: Option<usize>,
}

/// A value in lines.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Layout {
    /// The lines.
    pub lines: Vec<Line>,
    /// Whether there are more.
    pub cut: bool,
}

/// Lays a value, or the part of it that begins at byte `first`, out in lines of at most `room` cells, and at most so
/// many of them. Bytes are not wrapped.
pub fn laid_out(kind: CellKind, text: &str, first: u64, room: usize, most: usize) -> Layout {
    if let Some(words) = stands_for(kind, text).filter(|_| first == 0) {
        return Layout { lines: vec![Line { text: words, ..Line::default() }], cut: false };
    }
    let unfolded = pretty_print::lines(kind, text, first);
    let is_nested = unfolded.iter().any(|line| line.closes.is_some());
    let mut laid = Layout::default();
    // Where each of the unfolded lines begins among those that are laid out.
    let mut begins = Vec::with_capacity(unfolded.len().min(most));
    for line in &unfolded {
        if laid.lines.len() >= most {
            laid.cut = true;
            break;
        }
        begins.push(laid.lines.len());
        if kind == CellKind::Binary {
            laid.lines.push(Line { text: line.text.clone(), ..Line::default() });
            continue;
        }
        let indent = if is_nested { line.text.len() - line.text.trim_start_matches(' ').len() } else { 0 };
        // What is nested too deeply for the room is wrapped all the same.
        let indent = indent.min(room / 2);
        let (blanks, rest) = line.text.split_at(indent);
        for (at, part) in wrapped(rest, room.saturating_sub(indent)).into_iter().enumerate() {
            if laid.lines.len() >= most {
                laid.cut = true;
                break;
            }
            let goes_on = (at > 0).then_some(indent);
            laid.lines.push(Line { text: format!("{blanks}{part}"), closes: None, goes_on });
        }
    }
    for (line, begin) in unfolded.iter().zip(&begins) {
        let closes = line.closes.and_then(|closes| begins.get(closes)).copied();
        if let (Some(closes), Some(line)) = (closes, laid.lines.get_mut(*begin)) {
            line.closes = Some(closes);
        }
    }
    laid
}

/// Words for a value of which nothing can be seen.
fn stands_for(kind: CellKind, text: &str) -> Option<String> {
    let blanks = text.len();
    match kind {
        CellKind::Null => Some(clean(text).into_owned()),
        CellKind::Text if text.is_empty() => Some("'' (no characters)".to_owned()),
        CellKind::Text if text.bytes().all(|byte| byte == b' ') => {
            Some(format!("{} ({blanks} blank{})", "␣".repeat(blanks.min(40)), if blanks == 1 { "" } else { "s" }))
        }
        CellKind::Binary if text.trim_start_matches("\\x").is_empty() => Some("x'' (no bytes)".to_owned()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn texts(laid: &Layout) -> Vec<&str> {
        laid.lines.iter().map(|line| line.text.as_str()).collect()
    }

    #[test]
    fn long_lines_go_on_below() {
        let laid = laid_out(CellKind::Text, "the harbour master\nof Saltmarsh", 0, 12, 9);
        assert_eq!(texts(&laid), ["the harbour ", "master", "of Saltmarsh"]);
        assert_eq!(laid.lines.iter().map(|line| line.goes_on).collect::<Vec<_>>(), [None, Some(0), None]);
        assert!(!laid.cut);
        let laid = laid_out(CellKind::Text, "abcdefghij", 0, 3, 2);
        assert_eq!((texts(&laid), laid.cut), (vec!["abc", "def"], true));
    }

    #[test]
    fn what_is_nested_keeps_its_indentation_and_folds() {
        let json = r#"{"deck": {"remark": "the harbour master"}, "open": true}"#;
        let laid = laid_out(CellKind::Text, json, 0, 20, 99);
        assert_eq!(
            texts(&laid),
            ["{", "  \"deck\": {", "    \"remark\": \"the ", "    harbour master\"", "  },", "  \"open\": true", "}"]
        );
        assert_eq!((laid.lines[0].closes, laid.lines[1].closes, laid.lines[3].goes_on), (Some(6), Some(4), Some(4)));
        // What closes out of sight does not fold.
        let cut = laid_out(CellKind::Text, json, 0, 20, 5);
        assert_eq!((cut.lines[0].closes, cut.lines[1].closes, cut.cut), (None, Some(4), true));
    }

    #[test]
    fn what_cannot_be_seen_is_told() {
        for (kind, text, expected) in [
            (CellKind::Null, "∅", "∅"),
            (CellKind::Text, "", "'' (no characters)"),
            (CellKind::Text, " ", "␣ (1 blank)"),
            (CellKind::Text, "   ", "␣␣␣ (3 blanks)"),
            (CellKind::Text, "\t", "␉"),
            (CellKind::Text, "\u{1b}[2J", "␛[2J"),
            (CellKind::Binary, "", "x'' (no bytes)"),
            (CellKind::Binary, "\\x", "x'' (no bytes)"),
        ] {
            assert_eq!(texts(&laid_out(kind, text, 0, 40, 9)), [expected], "{text:?}");
        }
    }

    proptest! {
        #[test]
        fn nothing_is_lost(text in "([a-z{}\\[\\]\",: 名]{0,40}\n?){0,6}", room in 4..30_usize) {
            let laid = laid_out(CellKind::Text, &text, 0, room, usize::MAX);
            let mut whole = String::new();
            for line in &laid.lines {
                match line.goes_on {
                    Some(indent) => whole.push_str(&line.text[indent..]),
                    None => {
                        whole.push('\n');
                        whole.push_str(&line.text);
                    }
                }
            }
            if stands_for(CellKind::Text, &text).is_none() {
                let expected: String = pretty_print::lines(CellKind::Text, &text, 0).iter().map(|line| format!("\n{}", line.text)).collect();
                prop_assert_eq!(whole, expected);
            }
        }
    }
}
