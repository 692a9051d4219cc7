//! What each word of a document is, for its colour.

use std::ops::Range;

use jaunty_language::lexer::{Lexer, TokenKind};
use jaunty_language::statement::parameters::with_names;
use serde_json::{Value, json};

use crate::state::Server;
use crate::text::Text;
use crate::wire::Refusal;

/// The protocol's words for what is told, in the order of their numbers.
pub(super) const TYPES: [&str; 7] = ["keyword", "function", "string", "number", "comment", "parameter", "property"];

pub(super) fn full(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    Ok(json!({"data": told(text, text.whole(), server)}))
}

pub(super) fn range(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let range = text.bytes(&params["range"]).ok_or_else(|| Refusal::params("range is missing"))?;
    Ok(json!({"data": told(text, range, server)}))
}

/// Five numbers a token, each place told from the one before. A token of several lines is told line by line.
fn told(text: &Text, range: Range<usize>, server: &Server) -> Vec<usize> {
    let (rope, dialect) = (&text.rope, text.dialect());
    let mut data = Vec::new();
    let mut before = (0, 0);
    let tokens = Lexer::new(rope, dialect, text.outline.boundary_before(range.start));
    for token in with_names(tokens, dialect) {
        if token.start >= range.end {
            break;
        }
        let kind = match token.kind {
            TokenKind::Comment => 4,
            TokenKind::Text | TokenKind::Binary => 2,
            TokenKind::QuotedName => 6,
            TokenKind::Parameter => 5,
            TokenKind::Number => 3,
            TokenKind::Word => {
                let word = rope.byte_slice(token.range()).to_string();
                match (dialect.is_keyword(&word), rope.get_byte(token.end) == Some(b'(')) {
                    (true, _) => 0,
                    (false, true) => 1,
                    (false, false) => continue,
                }
            }
            _ => continue,
        };
        if token.end <= range.start {
            continue;
        }
        let (first, last) = (text.lines.line_of(token.start), text.lines.line_of(token.end));
        for line in first..=last {
            let bytes = text.line(line);
            let part = token.start.max(bytes.start)..token.end.min(bytes.end);
            if part.start >= part.end {
                continue;
            }
            let place = text.position(part.start);
            let length = server.client.can.encoding.length_of(&text.written().byte_slice(part).to_string());
            let (line_before, column_before) = before;
            let down = place.line - line_before;
            let right = if down == 0 { place.column - column_before } else { place.column };
            data.extend([down, right, length, kind, 0]);
            before = (place.line, place.column);
        }
    }
    data
}
