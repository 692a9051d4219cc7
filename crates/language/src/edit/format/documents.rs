//! Statements of document databases written anew: a stage a line, and what does not fit on its line with a field a line.

use super::{STEP, WIDE};

/// A piece of a statement. Blanks between them mean nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Piece<'a> {
    text: &'a str,
    kind: Kind,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Open,
    Close,
    Comma,
    Colon,
    Bar,
    /// A comment up to the end of its line: nothing may stand behind it.
    Line,
    Other,
}

fn pieces(text: &str) -> Vec<Piece<'_>> {
    let mut found: Vec<Piece<'_>> = Vec::new();
    let mut open = Vec::new();
    let mut at = 0;
    while let Some(rest) = text.get(at..).filter(|rest| !rest.is_empty()) {
        let first = rest.chars().next().unwrap_or(' ');
        if first.is_whitespace() {
            at += first.len_utf8();
            continue;
        }
        let kind = match first {
            '{' | '[' => Kind::Open,
            '}' | ']' => Kind::Close,
            ',' => Kind::Comma,
            ':' if begins_parameter(rest, &found, open.last().copied()) => Kind::Other,
            ':' => Kind::Colon,
            '|' => Kind::Bar,
            _ if rest.starts_with("//") => Kind::Line,
            _ => Kind::Other,
        };
        let length = match first {
            _ if kind == Kind::Line => rest.find('\n').unwrap_or(rest.len()),
            _ if kind != Kind::Other => 1,
            _ if rest.starts_with("/*") => rest.find("*/").map_or(rest.len(), |end| end + 2),
            '"' | '\'' => quoted(rest, first),
            _ => {
                // A comment may begin right behind a word.
                let ends = |(at, c): &(usize, char)| {
                    let comment = *c == '/' && rest.get(at + 1..).is_some_and(|next| next.starts_with(['/', '*']));
                    comment || c.is_whitespace() || "{}[],:|\"'".contains(*c)
                };
                let end = rest.char_indices().skip(1).find(ends);
                end.map_or(rest.len(), |(at, _)| at)
            }
        };
        match kind {
            Kind::Open => open.push(first),
            Kind::Close => drop(open.pop()),
            _ => {}
        }
        found.push(Piece { text: rest.get(..length).unwrap_or_default().trim_end(), kind });
        at += length;
    }
    found
}

/// Whether a colon belongs to the word right behind it, as in `limit :most`: not behind the name of a field.
fn begins_parameter(rest: &str, before: &[Piece<'_>], open: Option<char>) -> bool {
    let named = rest.chars().nth(1).is_some_and(|c| c.is_alphabetic() || matches!(c, '_' | '$'));
    let is_comment = |piece: &&Piece<'_>| piece.kind == Kind::Line || piece.text.starts_with("/*");
    let last = before.iter().rev().find(|piece| !is_comment(piece));
    let of_field = open == Some('{') && last.is_some_and(|piece| piece.kind == Kind::Other);
    named && !of_field
}

/// How long a text in quotes is.
fn quoted(rest: &str, quote: char) -> usize {
    let mut escaped = false;
    for (at, c) in rest.char_indices().skip(1) {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            c if c == quote => return at + c.len_utf8(),
            _ => {}
        }
    }
    rest.len()
}

/// Writes a statement anew; one whose brackets do not fit each other stays as it is.
pub(super) fn statement(text: &str) -> String {
    let pieces = pieces(text);
    let Some(closes) = pairs(&pieces) else { return text.to_owned() };
    let mut writer = Writer { pieces: &pieces, closes: &closes, out: String::new(), column: 0 };
    writer.write(0..pieces.len(), 0, true);
    writer.out.trim_end().to_owned()
}

/// Where the bracket that opens at each piece closes.
fn pairs(pieces: &[Piece<'_>]) -> Option<Vec<usize>> {
    let mut closes = vec![0; pieces.len()];
    let mut open = Vec::new();
    for (at, piece) in pieces.iter().enumerate() {
        match piece.kind {
            Kind::Open => open.push(at),
            Kind::Close => {
                let from = open.pop()?;
                let fits = matches!((pieces.get(from)?.text, piece.text), ("{", "}") | ("[", "]"));
                *closes.get_mut(from).filter(|_| fits)? = at;
            }
            _ => {}
        }
    }
    open.is_empty().then_some(closes)
}

struct Writer<'a> {
    pieces: &'a [Piece<'a>],
    closes: &'a [usize],
    out: String,
    column: usize,
}

impl Writer<'_> {
    fn put(&mut self, text: &str) {
        self.out.push_str(text);
        let last = text.rsplit('\n').next().unwrap_or_default().chars().count();
        self.column = if text.contains('\n') { last } else { self.column + last };
    }

    fn line(&mut self, indent: usize) {
        while self.out.ends_with(' ') {
            self.out.pop();
        }
        if !self.out.is_empty() && !self.out.ends_with('\n') {
            self.out.push('\n');
        }
        self.column = 0;
        self.put(&" ".repeat(indent));
    }

    /// Whether something stands on the line already.
    fn has_begun(&self) -> bool {
        !self.out.rsplit('\n').next().unwrap_or_default().trim().is_empty()
    }

    /// Pieces, one behind the other; those of a broken bracket (`lines`) a field a line.
    fn write(&mut self, range: std::ops::Range<usize>, indent: usize, outermost: bool) {
        let mut at = range.start;
        while at < range.end {
            let Some(piece) = self.pieces.get(at).copied() else { return };
            let before = at.checked_sub(1).filter(|before| *before >= range.start).and_then(|at| self.pieces.get(at));
            match piece.kind {
                Kind::Bar if outermost => {
                    self.line(0);
                    self.put("| ");
                }
                Kind::Comma => {
                    self.put(",");
                    // A comment behind the comma belongs to its line.
                    let comment = self.pieces.get(at + 1).is_some_and(|next| next.kind == Kind::Line);
                    if !outermost && !comment {
                        self.line(indent);
                    }
                }
                Kind::Colon => self.put(":"),
                Kind::Line => {
                    if self.has_begun() {
                        let apart = if self.out.ends_with(' ') { "" } else { " " };
                        self.put(apart);
                    }
                    self.put(piece.text);
                    self.line(indent);
                }
                Kind::Open => {
                    self.space(before);
                    at = self.bracket(at, indent);
                }
                Kind::Close | Kind::Bar | Kind::Other => {
                    self.space(before);
                    self.put(piece.text);
                }
            }
            at += 1;
        }
    }

    fn space(&mut self, before: Option<&Piece<'_>>) {
        if before.is_some() && self.has_begun() && !self.out.ends_with(' ') {
            self.put(" ");
        }
    }

    /// What stands in a bracket, on this line if it fits; the piece that closes it.
    fn bracket(&mut self, at: usize, indent: usize) -> usize {
        let close = self.closes.get(at).copied().unwrap_or(at);
        if let Some(text) = self.on_one_line(at, close)
            && self.column + text.chars().count() <= WIDE
        {
            self.put(&text);
            return close;
        }
        self.put(self.pieces.get(at).map_or("", |piece| piece.text));
        self.line(indent + STEP);
        self.write(at + 1..close, indent + STEP, false);
        self.line(indent);
        self.put(self.pieces.get(close).map_or("", |piece| piece.text));
        close
    }

    /// A bracket with all that is in it, if that can stand on one line.
    fn on_one_line(&self, from: usize, to: usize) -> Option<String> {
        let mut text = String::new();
        let mut before: Option<&Piece<'_>> = None;
        for piece in self.pieces.get(from..=to)? {
            if piece.kind == Kind::Line || piece.text.contains('\n') {
                return None;
            }
            let apart = match (before.map(|before| (before.kind, before.text)), piece.kind) {
                (None, _) | (_, Kind::Comma | Kind::Colon) | (Some((_, "[")), _) => false,
                (Some((Kind::Open, _)), Kind::Close) => false,
                (_, Kind::Close) => piece.text == "}",
                _ => true,
            };
            if apart {
                text.push(' ');
            }
            text.push_str(piece.text);
            before = Some(piece);
        }
        Some(text)
    }
}

#[cfg(test)]
mod tests {
    use super::{pieces, statement};
    use crate::dialect::documents::statement::command;

    #[test]
    fn a_stage_stands_on_a_line_and_a_long_document_on_several() {
        for (written, expected) in [
            ("sailings{delay:{$gt:60}}", "sailings { delay: { $gt: 60 } }"),
            ("sailings count\n{ }", "sailings count {}"),
            (
                "sailings { a: 1 } | group {_id:\"$port\",n:{$sum:-1}} |sort{n : -1} // late\n|limit 5",
                "sailings { a: 1 }\n| group { _id: \"$port\", n: { $sum: -1 } }\n| sort { n: -1 } // late\n| limit 5",
            ),
            (
                "ports insert {name:'Saltmarsh Quay and the old ferry landing',place:{type:'Point',coordinates:[2.5,51]},berths:[1,2,3]}",
                "ports insert {\n    name: 'Saltmarsh Quay and the old ferry landing',\n    place: { type: 'Point', coordinates: [2.5, 51] },\n    berths: [1, 2, 3]\n}",
            ),
            ("{ find: 'a', // all\n filter: {} }", "{\n    find: 'a', // all\n    filter: {}\n}"),
            ("{ delete : 'a', deletes: [ { q: {}, limit: 0 } ] }", "{ delete: 'a', deletes: [{ q: {}, limit: 0 }] }"),
            (
                "ports { a::b, c: [:d,:e] }|limit :most|skip:few",
                "ports { a: :b, c: [:d, :e] }\n| limit :most\n| skip :few",
            ),
            ("{ find: :which, filter: { a:b } }", "{ find: :which, filter: { a: b } }"),
            ("$a|$a:sailings", "$a\n| $a :sailings"),
            ("sailings { a: 1", "sailings { a: 1"),
            ("sailings { a: [1 }", "sailings { a: [1 }"),
        ] {
            let made = statement(written);
            assert_eq!(made, expected);
            assert_eq!(statement(&made), made, "twice is as once");
        }
    }

    proptest::proptest! {
        #[test]
        fn nothing_but_blanks_changes(text in "(sailings|update|a// e,f\n|\\{|\\}|\\[|\\]|:|,|\\||\\$a|a|'x y'|\"q\"|-1|// c\n|/\\* d \\*/|\n| |;|é){0,30}") {
            let made = statement(&text);
            let texts = |text: &str| pieces(text).into_iter().map(|piece| piece.text.to_owned()).collect::<Vec<_>>();
            proptest::prop_assert_eq!(texts(&made), texts(&text));
            if let Ok(meant) = command(&text) {
                proptest::prop_assert_eq!(command(&made), Ok(meant));
            }
            proptest::prop_assert_eq!(statement(&made), made);
        }
    }
}
