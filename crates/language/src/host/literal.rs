//! Finding the literals of a text.

use std::ops::Range;

use super::escape::{self, Meaning};
use super::masked::encoded;
use super::{Host, Insert, Quote};

/// A literal of a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Literal {
    /// Where it begins, with its prefix.
    pub start: usize,
    /// The bytes between its quotes.
    pub inside: Range<usize>,
    /// The byte after it.
    pub end: usize,
    /// What stands in it for something else: an escaped sign, or a value of the program.
    pub parts: Vec<Part>,
}

/// Part of a literal that stands for something else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Part {
    /// Signs that stand for a character, which takes the last bytes of them where it is not blank.
    Escape(Range<usize>, Meaning),
    /// A value, by its name as far as it has one.
    Value(Range<usize>),
}

impl Literal {
    /// What is written in it for a reader of SQL, in as many bytes.
    pub(super) fn written(&self, text: &str, host: &Host) -> Vec<u8> {
        let mut out = text.as_bytes().get(self.inside.clone()).unwrap_or_default().to_vec();
        for (number, part) in self.parts.iter().enumerate() {
            let (Part::Escape(range, _) | Part::Value(range)) = part;
            let Some(bytes) = out.get_mut(range.start - self.inside.start..range.end - self.inside.start) else {
                continue;
            };
            match part {
                Part::Escape(_, meaning) => {
                    // Lines stay what they are.
                    bytes.iter_mut().filter(|byte| !matches!(byte, b'\n' | b'\r')).for_each(|byte| *byte = b' ');
                    let mut room = [0; 4];
                    let sign = if let Meaning::Character(c) = meaning { encoded(*c, &mut room) } else { &[] };
                    // A name within escaped quotes must not get blanks: the one that closes it comes first. Two of them side
                    // by side stand for one within the text, and stay side by side. What is not a quote stays by what follows.
                    let is_quote = matches!(sign, [b'\'' | b'"' | b'`']);
                    let same = |part: &&Part| matches!(part, Part::Escape(_, other) if other == meaning);
                    let closes = is_quote && self.parts.iter().take(number).filter(same).count() % 2 == 1;
                    let beside = |other: Option<&Part>, at: fn(&Range<usize>) -> usize, here: usize| {
                        let other = other.filter(same);
                        other.is_some_and(|part| matches!(part, Part::Escape(other, _) if at(other) == here))
                    };
                    let before = number.checked_sub(1).and_then(|before| self.parts.get(before));
                    let first = match closes {
                        true => !beside(self.parts.get(number + 1), |other| other.start, range.end),
                        false => is_quote && beside(before, |other| other.end, range.start),
                    };
                    let from = if first { 0 } else { bytes.len() - sign.len() };
                    bytes.iter_mut().skip(from).zip(sign).for_each(|(to, from)| *to = *from);
                }
                Part::Value(range) => {
                    let name = name_of(text.get(range.clone()).unwrap_or_default(), number, bytes.len());
                    bytes.fill(b' ');
                    bytes.iter_mut().zip(name.bytes()).for_each(|(to, from)| *to = from);
                    // The program writes the quotes of a text itself; a parameter has none.
                    let around = [range.start.checked_sub(self.inside.start + 1), Some(range.end - self.inside.start)];
                    if around.iter().all(|at| at.is_some_and(|at| out.get(at) == Some(&b'\''))) {
                        around.iter().flatten().for_each(|at| out[*at] = b' ');
                    }
                }
            }
        }
        name_places(&mut out);
        let line_end = |part: &Part| match part {
            Part::Escape(range, Meaning::Character('\n')) => Some(range.start - self.inside.start),
            _ => None,
        };
        let line_ends: Vec<usize> = self.parts.iter().filter_map(line_end).collect();
        let at_names = host.at_names && !declares(&out);
        settle(&mut out, &line_ends, at_names);
        out
    }
}

/// Gives the places that drivers fill in by `%s` and `%(name)s` names of SQL. Within a text of SQL, as in
/// `like '%s%'`, they are left: what stands around tells them.
fn name_places(out: &mut [u8]) {
    let mut count = 0;
    let mut at = 0;
    while at + 1 < out.len() {
        let before = at.checked_sub(1).and_then(|at| out.get(at)).copied().unwrap_or(b' ');
        let opens = out[at] == b'%' && (before.is_ascii_whitespace() || b"(=,<>".contains(&before));
        let name = match out.get(at + 1) {
            Some(b's' | b'd') if opens => Some((2, Vec::new())),
            Some(b'(') if opens => out.get(at + 2..).and_then(|rest| {
                let length = rest.iter().position(|byte| *byte == b')')?;
                let name =
                    rest.get(..length).filter(|name| name.iter().all(|b| b.is_ascii_alphanumeric() || *b == b'_'))?;
                rest.get(length + 1)
                    .is_some_and(|byte| matches!(byte, b's' | b'd'))
                    .then(|| (length + 4, name.to_vec()))
            }),
            _ => None,
        };
        let Some((length, name)) = name else {
            at += 1;
            continue;
        };
        let after = out.get(at + length).copied().unwrap_or(b' ');
        if after.is_ascii_whitespace() || b"),;:".contains(&after) {
            let name = if name.is_empty() { vec![b'a' + (count % 26)] } else { name };
            count += 1;
            if let Some(place) = out.get_mut(at..at + length) {
                place.fill(b' ');
                place.iter_mut().zip(std::iter::once(b':').chain(name)).for_each(|(to, from)| *to = from);
            }
        }
        at += length;
    }
}

/// Settles what drivers and the program make of signs outside of quoted texts: `??` and `%%` are one sign each, and a comment
/// ends where the program writes the end of its line as an escape, at one of these places. Nothing is left of such a comment,
/// since the masked text has no line end there. Where that is what drivers have, `@name` is the place of a value.
fn settle(out: &mut [u8], line_ends: &[usize], at_names: bool) {
    let (mut at, mut quote, mut comment) = (0, None, None);
    while let Some(byte) = out.get(at).copied() {
        let next = out.get(at + 1).copied();
        if let Some(from) = comment {
            if line_ends.binary_search(&at).is_ok() {
                let (before, rest) = out.split_at_mut(from);
                // A mark at the beginning is looked for later.
                let is_mark = before.iter().all(u8::is_ascii_whitespace);
                if let Some(comment) = rest.get_mut(..at - from).filter(|comment| !(is_mark && says_sql(comment))) {
                    comment.fill(b' ');
                }
                comment = None;
            } else if byte == b'\n' {
                comment = None;
            }
        } else if let Some(open) = quote {
            quote = Some(open).filter(|open| *open != byte);
        } else {
            match byte {
                b'\'' | b'"' => quote = Some(byte),
                b'-' if next == Some(b'-') => comment = Some(at),
                b'?' | b'%' if next == Some(byte) => {
                    out[at] = b' ';
                    at += 1;
                }
                b'@' if next == Some(b'@') => at += 1,
                b'@' if at_names && next.is_some_and(|next| next.is_ascii_alphabetic() || next == b'_') => {
                    out[at] = b':'
                }
                _ => {}
            }
        }
        at += 1;
    }
}

/// Whether a text has variables of its own, or gives them values.
fn declares(text: &[u8]) -> bool {
    let lower = text.to_ascii_lowercase();
    let has = |word: &[u8]| lower.windows(word.len()).any(|part| part == word);
    // A call names what the procedure takes.
    lower.trim_ascii_start().starts_with(b"exec") || has(b"declare @") || has(b"set @") || has(b":=")
}

/// Whether a comment is the mark of a literal of SQL.
fn says_sql(comment: &[u8]) -> bool {
    let word = comment.get(2..).unwrap_or_default().trim_ascii();
    word.eq_ignore_ascii_case(b"sql")
}

/// A parameter for a value: by the last name in it where there is room, else by its number.
pub(super) fn name_of(written: &str, number: usize, room: usize) -> String {
    let mut words = written.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    let word = words.rfind(|word| !word.is_empty() && !word.starts_with(|c: char| c.is_ascii_digit()));
    let name = format!(":{}", word.unwrap_or_default().to_ascii_lowercase());
    match name.len() > 1 && name.len() <= room {
        true => name,
        false => format!(":{}", char::from(b'a' + (number % 26) as u8)),
    }
}

/// What stands in a text, in order.
pub(super) struct Scan {
    pub literals: Vec<Literal>,
    /// Where lines begin that are neither in a comment nor in a literal.
    pub lines: Vec<usize>,
    /// From here on all may be another if the text went on after its end.
    pub unsure: Option<usize>,
}

/// All literals, in order.
pub(super) fn literals(text: &str, host: &Host) -> Vec<Literal> {
    scan(text, host).literals
}

/// Reads a text that begins outside of comments and literals.
pub(super) fn scan(text: &str, host: &Host) -> Scan {
    let bytes = text.as_bytes();
    let means = signs(host);
    let (mut literals, mut lines, mut unsure) = (Vec::new(), Vec::new(), None);
    let mut at = 0;
    loop {
        let rest = bytes.get(at..).unwrap_or_default();
        let Some(next) = rest.iter().position(|byte| means[usize::from(*byte)]) else { break };
        at += next;
        let rest = bytes.get(at..).unwrap_or_default();
        if rest.first() == Some(&b'\n') {
            at += 1;
            lines.push(at);
            continue;
        }
        if host.line_comments.iter().any(|open| rest.starts_with(open.as_bytes())) && !is_url(text, at) {
            at += rest.iter().position(|byte| *byte == b'\n').unwrap_or(rest.len());
            continue;
        }
        if let Some((open, close)) = host.block_comment.filter(|(open, _)| rest.starts_with(open.as_bytes())) {
            at = find(bytes, at + open.len(), close).map_or(bytes.len(), |end| end + close.len());
            continue;
        }
        if host.here && rest.starts_with(b"<<") {
            match here(text, at, host) {
                Here::Literal(literal) => {
                    at = literal.end;
                    literals.push(literal);
                    continue;
                }
                Here::Unclosed => unsure = unsure.or(Some(at)),
                Here::Not => {}
            }
        }
        // A sign in single quotes, where those are no text: `'"'`.
        let is_sign = rest.first() == Some(&b'\'') && !host.quotes.iter().any(|quote| quote.open == "'");
        if is_sign && let Some(end) = sign(rest) {
            at += end;
            continue;
        }
        match host.quotes.iter().find_map(|quote| Some((quote, opens(text, at, quote)?))) {
            Some((quote, start)) => {
                let literal = literal(bytes, start, at, quote);
                at = literal.end.max(at + 1);
                literals.push(literal);
            }
            None => at += 1,
        }
    }
    Scan { literals, lines, unsure }
}

/// The bytes that something begins with which is not plain code.
fn signs(host: &Host) -> [bool; 256] {
    let mut means = [false; 256];
    let block = host.block_comment.map(|(open, _)| open);
    let texts = host.line_comments.iter().copied().chain(block).chain(host.quotes.iter().map(|quote| quote.open));
    let first = texts.filter_map(|text| text.bytes().next());
    first.chain([b'\n', b'\'']).chain(host.here.then_some(b'<')).for_each(|byte| means[usize::from(byte)] = true);
    means
}

/// `//` after a colon is not a comment.
fn is_url(text: &str, at: usize) -> bool {
    text.as_bytes().get(at) == Some(&b'/') && at > 0 && text.as_bytes().get(at - 1) == Some(&b':')
}

/// The length of a sign in single quotes, as `'x'` or `'\n'`.
fn sign(rest: &[u8]) -> Option<usize> {
    let escaped = rest.get(1) == Some(&b'\\');
    let from = if escaped { 3 } else { 2 };
    (from..from + 8).find(|at| rest.get(*at) == Some(&b'\'')).map(|at| at + 1).filter(|end| escaped || *end <= 6)
}

/// Where a literal begins whose quote stands at `at`, with its prefix before it.
fn opens(text: &str, at: usize, quote: &Quote) -> Option<usize> {
    let bytes = text.as_bytes();
    if !bytes.get(at..)?.starts_with(quote.open.as_bytes()) {
        return None;
    }
    let mut start = at;
    let mut left = quote.prefix.len();
    while left > 0 {
        let before = start.checked_sub(1)?;
        let sign = bytes.get(before)?.to_ascii_lowercase();
        if !quote.prefix.bytes().any(|one| one == sign) {
            return None;
        }
        start = before;
        left -= 1;
    }
    // A longer word before it is none of it.
    let word = |byte: &u8| byte.is_ascii_alphanumeric() || *byte == b'_';
    let prefixed = !quote.prefix.is_empty() && start > 0 && bytes.get(start - 1).is_some_and(word);
    (!prefixed).then_some(start)
}

fn find(bytes: &[u8], from: usize, wanted: &str) -> Option<usize> {
    let rest = bytes.get(from..)?;
    rest.windows(wanted.len()).position(|part| part == wanted.as_bytes()).map(|at| from + at)
}

/// The literal that begins at `start` and whose quote stands at `quote_at`.
fn literal(bytes: &[u8], start: usize, quote_at: usize, quote: &Quote) -> Literal {
    let from = quote_at + quote.open.len();
    let mut parts = Vec::new();
    let mut at = from;
    while at < bytes.len() {
        let rest = bytes.get(at..).unwrap_or_default();
        if rest.starts_with(quote.close.as_bytes()) {
            if quote.doubled && rest.get(1) == rest.first() {
                let sign = rest.first().map_or(Meaning::Unknown, |sign| Meaning::Character(char::from(*sign)));
                parts.push(Part::Escape(at..at + 2, sign));
                at += 2;
                continue;
            }
            return Literal { start, inside: from..at, end: at + quote.close.len(), parts };
        }
        // Of braces that would hold a value, two stand for one.
        let doubled = rest.first().filter(|brace| matches!(brace, b'{' | b'}') && rest.get(1) == Some(brace));
        let holds = |insert: &Insert| matches!(insert, Insert::Between("{", ..));
        if let Some(brace) = doubled.filter(|_| quote.inserts.iter().any(holds)) {
            parts.push(Part::Escape(at..at + 2, Meaning::Character(char::from(*brace))));
            at += 2;
            continue;
        }
        if let Some(end) = quote.inserts.iter().find_map(|insert| inserted(rest, *insert)) {
            parts.push(Part::Value(at..at + end));
            at += end;
            continue;
        }
        let escape =
            quote.escapes.filter(|_| rest.first() == Some(&b'\\')).and_then(|escapes| escape::read(rest, escapes));
        if let Some((length, meaning)) = escape {
            let length = length.min(rest.len());
            parts.push(Part::Escape(at..at + length, meaning));
            at += length;
            continue;
        }
        match rest.first() {
            // Nobody closed it: the rest is not of it.
            Some(b'\n') if !quote.lines => {
                return Literal { start, inside: from..from, end: at, parts: Vec::new() };
            }
            _ => at += 1,
        }
    }
    Literal { start, inside: from..from, end: bytes.len(), parts: Vec::new() }
}

/// The length of what stands for a value at the beginning of these bytes.
fn inserted(rest: &[u8], insert: Insert) -> Option<usize> {
    match insert {
        Insert::Dollar => {
            let name = rest.strip_prefix(b"$")?;
            let length = name.iter().take_while(|byte| byte.is_ascii_alphanumeric() || **byte == b'_').count();
            // `$1` is a place of SQL itself.
            let is_name = name.first().is_some_and(|byte| byte.is_ascii_alphabetic() || *byte == b'_');
            is_name.then_some(1 + length)
        }
        Insert::Between(open, opening, closing) => {
            if !rest.starts_with(open.as_bytes()) {
                return None;
            }
            // `{{` stands for a brace.
            if open == "{" && rest.get(1) == Some(&b'{') {
                return None;
            }
            let mut depth = 1;
            for (at, byte) in rest.iter().enumerate().skip(open.len()) {
                match *byte {
                    byte if byte == opening => depth += 1,
                    byte if byte == closing => depth -= 1,
                    b'\n' => return None,
                    _ => {}
                }
                if depth == 0 {
                    return Some(at + 1);
                }
            }
            None
        }
    }
}

/// What `<<` begins.
enum Here {
    /// A text up to a line of its own with the word after it.
    Literal(Literal),
    /// Such a text whose end is not there.
    Unclosed,
    /// Something else.
    Not,
}

/// A text that `<<SQL` begins, `<<~SQL`, `<<-SQL`, `<<<SQL` or one of these with quotes around the word.
fn here(text: &str, at: usize, host: &Host) -> Here {
    let Some((is_quoted, word, begins)) = here_word(text, at) else { return Here::Not };
    let Some(close) = here_end(text, begins, word) else { return Here::Unclosed };
    let inserts: &[Insert] = match (is_quoted, host.name) {
        (true, _) => &[],
        (false, "ruby") => super::HASH_BRACES,
        (false, _) => super::DOLLARS,
    };
    let bytes = text.as_bytes();
    let mut parts = Vec::new();
    let mut inside = begins;
    while inside < close {
        let rest = bytes.get(inside..close).unwrap_or_default();
        match inserts.iter().find_map(|insert| inserted(rest, *insert)) {
            Some(length) => {
                parts.push(Part::Value(inside..inside + length));
                inside += length;
            }
            None => inside += 1,
        }
    }
    // The word that ends it stands where a closing quote would.
    Here::Literal(Literal { start: at, inside: begins..close, end: close, parts })
}

/// Whether the word after `<<` stands in quotes, the word, and where the line after it begins.
fn here_word(text: &str, at: usize) -> Option<(bool, &str, usize)> {
    let rest = text.get(at..)?.strip_prefix("<<")?.trim_start_matches(['<', '~', '-']);
    let word = rest.trim_start_matches(['\'', '"']);
    let length = word.bytes().take_while(|byte| byte.is_ascii_alphanumeric() || *byte == b'_').count();
    let is_quoted = rest.len() > word.len();
    let word = word.get(..length).filter(|word| word.starts_with(|c: char| c.is_ascii_alphabetic()))?;
    let line = text.get(at..)?.find('\n').map_or(text.len(), |end| at + end + 1);
    Some((is_quoted, word, line))
}

/// The beginning of the line that is this word alone, from the beginning of a line on.
fn here_end(text: &str, begins: usize, word: &str) -> Option<usize> {
    let mut line = begins;
    loop {
        let written = text.get(line..)?.lines().next()?;
        if written.trim().trim_end_matches([';', ',', ')']) == word {
            return Some(line);
        }
        line += text.get(line..)?.find('\n')? + 1;
    }
}
