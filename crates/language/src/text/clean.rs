//! Text from a server or a file, made harmless: what a terminal may be sent, with its width.
//!
//! Nothing that this module returns moves the cursor, changes the direction of writing, hides, or
//! takes another number of cells than it says:
//!
//! - control characters become their one-cell pictures (`ESC` shows as `␛`);
//! - marks of direction, invisible format characters, separators, private and unassigned
//!   noncharacters become `�`, so that a person sees that something is there;
//! - joiners and variation selectors, which make a terminal guess at widths, are left out;
//! - marks without a letter to stand on get a dotted circle, and a letter carries three at most.
//!
//! Only what is shown is cleaned. What is copied, exported or sent is the text as it came.

use std::borrow::Cow;

use unicode_width::UnicodeWidthChar;

/// The most marks that one letter carries on the screen.
const MARKS: usize = 3;

/// How far apart tab stops are, in cells.
pub const TAB: usize = 4;

/// One or more characters that are painted together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Piece<'a> {
    /// The byte offset of what it shows, in the text as it came.
    pub at: usize,
    /// What to paint.
    pub shown: Cow<'a, str>,
    /// Cells that it takes: 1 or 2.
    pub width: usize,
    /// Whether it is a stand-in for something that may not be painted.
    pub stands_in: bool,
}

/// How one character is shown.
enum Shown {
    Itself(usize),
    Mark,
    StandIn(char),
    Nothing,
}

fn shown(c: char) -> Shown {
    match c {
        ' '..='~' => Shown::Itself(1),
        '\0'..='\x1f' => Shown::StandIn(char::from_u32(0x2400 + c as u32).unwrap_or('\u{fffd}')),
        '\x7f' => Shown::StandIn('\u{2421}'),
        // Joiners and variation selectors.
        '\u{200c}' | '\u{200d}' | '\u{fe00}'..='\u{fe0f}' | '\u{e0100}'..='\u{e01ef}' => Shown::Nothing,
        _ if hidden(c) => Shown::StandIn('\u{fffd}'),
        _ => match c.width() {
            None => Shown::StandIn('\u{fffd}'),
            Some(0) => Shown::Mark,
            Some(width) => Shown::Itself(width.min(2)),
        },
    }
}

/// Characters that act on others or on the terminal and have no picture of their own.
fn hidden(c: char) -> bool {
    matches!(c,
        '\u{80}'..='\u{9f}'          // the second set of control characters
        | '\u{ad}'                   // soft hyphen
        | '\u{34f}'                  // combining grapheme joiner
        | '\u{61c}'                  // Arabic letter mark
        | '\u{17b4}' | '\u{17b5}'    // Khmer vowels that are not seen
        | '\u{13430}'..='\u{1343f}'  // joins of hieroglyphs
        | '\u{1bca0}'..='\u{1bca3}'  // shorthand format characters
        | '\u{1d173}'..='\u{1d17a}'  // beams and slurs of music
        | '\u{115f}' | '\u{1160}' | '\u{3164}' | '\u{ffa0}' // Hangul fillers
        | '\u{180b}'..='\u{180f}'    // Mongolian selectors
        | '\u{200b}' | '\u{200e}' | '\u{200f}' // zero width space, marks of direction
        | '\u{2028}'..='\u{202e}'    // separators, embeddings and overrides
        | '\u{2060}'..='\u{206f}'    // word joiner, isolates, deprecated format characters
        | '\u{feff}'                 // byte order mark
        | '\u{fff0}'..='\u{fffb}'    // interlinear annotation
        | '\u{e000}'..='\u{f8ff}' | '\u{f0000}'..='\u{10ffff}' // private use
        | '\u{e0000}'..='\u{e00ff}' | '\u{e01f0}'..='\u{e0fff}' // tags, and what is ignored beside them
    ) || (c as u32) & 0xfffe == 0xfffe // noncharacters
        || ('\u{fdd0}'..='\u{fdef}').contains(&c)
}

/// JSON, or other text for programs, with escapes (RFC 8259, section 7) for what would act on a terminal. Line ends
/// and tabs stay, and so does everything that is seen.
pub fn escaped(json: &str) -> Cow<'_, str> {
    let acts = |c: char| {
        !matches!(c, '\n' | '\t' | ' '..='~') && (c.is_control() || hidden(c) || matches!(shown(c), Shown::Nothing))
    };
    if !json.contains(acts) {
        return Cow::Borrowed(json);
    }
    let mut out = String::with_capacity(json.len() + 16);
    for c in json.chars() {
        if acts(c) {
            let mut units = [0; 2];
            c.encode_utf16(&mut units).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}")));
        } else {
            out.push(c);
        }
    }
    Cow::Owned(out)
}

/// The pieces of `text` in the order in which they are painted. A line end is shown like any other
/// control character; split lines before where they should act.
pub fn pieces(text: &str) -> Pieces<'_> {
    Pieces { text, at: 0 }
}

/// See [`pieces`].
pub struct Pieces<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Iterator for Pieces<'a> {
    type Item = Piece<'a>;

    fn next(&mut self) -> Option<Piece<'a>> {
        let start = self.at;
        let (first, what) = loop {
            let c = self.text[self.at..].chars().next()?;
            self.at += c.len_utf8();
            match shown(c) {
                Shown::Nothing => {}
                what => break (c, what),
            }
        };
        let first_at = self.at - first.len_utf8();
        let piece = |shown, width, stands_in| Piece { at: start, shown, width, stands_in };
        Some(match what {
            Shown::StandIn(picture) => piece(Cow::Owned(picture.to_string()), 1, true),
            Shown::Mark => {
                let mut shown = String::from('\u{25cc}');
                shown.push(first);
                self.marks(&mut Some(&mut shown));
                piece(Cow::Owned(shown), 1, true)
            }
            Shown::Itself(width) => {
                let bare = self.at;
                if self.marks(&mut None) {
                    let mut shown = self.text[first_at..bare].to_owned();
                    self.at = bare;
                    self.marks(&mut Some(&mut shown));
                    piece(Cow::Owned(shown), width, false)
                } else {
                    piece(Cow::Borrowed(&self.text[first_at..bare]), width, false)
                }
            }
            Shown::Nothing => return None,
        })
    }
}

impl Pieces<'_> {
    /// Takes the marks and joiners that follow; tells whether there were any.
    fn marks(&mut self, into: &mut Option<&mut String>) -> bool {
        let mut taken = 0;
        let before = self.at;
        while let Some(c) = self.text[self.at..].chars().next() {
            match shown(c) {
                Shown::Mark => {
                    taken += 1;
                    if let (Some(into), true) = (into.as_mut(), taken <= MARKS) {
                        into.push(c);
                    }
                }
                Shown::Nothing => {}
                _ => break,
            }
            self.at += c.len_utf8();
        }
        self.at > before
    }
}

/// `text` with everything harmful replaced, borrowed where nothing had to be.
pub fn clean(text: &str) -> Cow<'_, str> {
    if text.bytes().all(|b| (b' '..=b'~').contains(&b)) {
        return Cow::Borrowed(text);
    }
    pieces(text).map(|piece| piece.shown).collect::<String>().into()
}

/// [`clean`] for text over several lines: the ends of lines and tabs act as such.
pub fn clean_lines(text: &str) -> String {
    let lines: Vec<_> = text.lines().map(|line| clean(&line.replace('\t', "    ")).into_owned()).collect();
    lines.join("\n")
}

/// Cells that `text` takes when painted.
pub fn width(text: &str) -> usize {
    if text.bytes().all(|b| (b' '..=b'~').contains(&b)) {
        return text.len();
    }
    pieces(text).map(|piece| piece.width).sum()
}

/// A text made to fit a number of cells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fitted {
    /// Cleaned, at most as wide as was asked.
    pub text: String,
    /// Its width in cells.
    pub width: usize,
    /// Whether something was left out.
    pub cut: bool,
}

/// Cleans as much of `text` as fits into `room` cells. A text that is too wide leaves the last cell
/// free for the mark that says so.
pub fn fit(text: &str, room: usize) -> Fitted {
    let mut fitted = Fitted { text: String::new(), width: 0, cut: false };
    // Where the text must stop if the whole turns out too wide.
    let mut keep = (0, 0);
    for piece in pieces(text) {
        if fitted.width + piece.width > room {
            fitted.text.truncate(keep.0);
            fitted.width = keep.1;
            fitted.cut = true;
            return fitted;
        }
        fitted.text.push_str(&piece.shown);
        fitted.width += piece.width;
        if fitted.width < room {
            keep = (fitted.text.len(), fitted.width);
        }
    }
    fitted
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_acts_is_escaped_in_json() {
        let json = "{\"a\":\"é名\u{7f}\u{85}\u{202e}\u{e0001}\u{200d}\"}\n";
        assert_eq!(escaped(json), "{\"a\":\"é名\\u007f\\u0085\\u202e\\udb40\\udc01\\u200d\"}\n");
        let read: serde_json::Value = serde_json::from_str(&escaped(json)).unwrap();
        assert_eq!(read["a"], "é名\u{7f}\u{85}\u{202e}\u{e0001}\u{200d}");
        assert!(matches!(escaped("{\"a\": 1}\n"), Cow::Borrowed(_)));
    }

    #[test]
    fn harmful_characters_are_shown_not_sent() {
        for (text, expected) in [
            ("plain", "plain"),
            ("\x1b[31mred\x07", "␛[31mred␇"),
            ("a\tb\r\nc", "a␉b␍␊c"),
            ("\u{9b}2J", "�2J"),
            ("abc\u{202e}def", "abc�def"),
            ("zero\u{200b}width", "zero�width"),
            ("a\u{34f}b\u{17b4}c\u{13430}d\u{1bca0}e\u{1d173}f\u{e0080}g\u{e01f0}h", "a�b�c�d�e�f�g�h"),
            ("\u{301}alone", "◌\u{301}alone"),
            ("e\u{301}", "e\u{301}"),
            ("a\u{300}\u{301}\u{302}\u{303}\u{304}", "a\u{300}\u{301}\u{302}"),
            ("👩\u{200d}🚀", "👩🚀"),
            ("❤\u{fe0f}", "❤"),
            ("名前", "名前"),
            ("שלום", "שלום"),
            ("\x7f", "␡"),
        ] {
            assert_eq!(clean(text), expected, "{text:?}");
        }
    }

    #[test]
    fn fitting_leaves_room_for_the_mark() {
        for (text, room, expected, cut) in [
            ("abcdef", 6, "abcdef", false),
            ("abcdef", 5, "abcd", true),
            ("名前です", 8, "名前です", false),
            ("名前です", 7, "名前で", true),
            ("名前です", 6, "名前", true),
            ("", 0, "", false),
            ("a", 0, "", true),
        ] {
            let fitted = fit(text, room);
            assert_eq!((fitted.text.as_str(), fitted.cut), (expected, cut), "{text} in {room}");
        }
    }

    proptest! {
        #[test]
        fn nothing_harmful_gets_through(text in "\\PC*|[\\x00-\\x1f\\x7f-\\x9f\u{200b}-\u{2070}\u{300}-\u{310}a名]{0,40}", room in 0..40_usize) {
            let shown = clean(&text);
            prop_assert!(!shown.chars().any(|c| c.is_control() || hidden(c)));
            let fitted = fit(&text, room);
            prop_assert!(fitted.width <= room && fitted.width == width(&fitted.text));
            prop_assert!(fitted.cut || fitted.text == shown);
        }

        #[test]
        fn pieces_cover_the_text_in_order(text in "\\PC{0,40}") {
            let mut last = None;
            for piece in pieces(&text) {
                prop_assert!(last < Some(piece.at) && text.is_char_boundary(piece.at));
                last = Some(piece.at);
            }
        }
    }
}
