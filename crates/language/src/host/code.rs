//! Program code in whose literals statements stand.

use std::ops::Range;

use ropey::Rope;

use super::exact::exact;
use super::masked::{Masked, REACH};
use super::{Exact, Host};
use crate::dialect::Dialect;
use crate::split::Change;
use crate::statement::parameters::{self, Value};

/// Program code. Places in it are those of its masked text.
#[derive(Debug, Clone)]
pub struct Code {
    host: &'static Host,
    written: Rope,
    masked: Rope,
    /// Places at which the masked text can be cut, some way from each other.
    cuts: Vec<usize>,
}

impl Code {
    /// That of a text.
    pub fn new(text: &str, host: &'static Host) -> Code {
        let masked = Masked::of(text, host);
        let cuts = spaced(masked.cuts);
        Code { host, written: Rope::from_str(text), masked: Rope::from_str(&masked.text), cuts }
    }

    /// Its language.
    pub fn host(&self) -> &'static Host {
        self.host
    }

    /// It as it is written.
    pub fn written(&self) -> &Rope {
        &self.written
    }

    /// Its statements, with everything else blanked out.
    pub fn masked(&self) -> &Rope {
        &self.masked
    }

    /// Puts a text in the place of these bytes, which lie between characters. Gives what that changes in the masked text; only
    /// what is near is read again, unless it says what all that follows is.
    pub fn edit(&mut self, range: Range<usize>, put: &str) -> Change {
        let chars = self.written.byte_to_char(range.start)..self.written.byte_to_char(range.end);
        self.written.remove(chars.clone());
        self.written.insert(chars.start, put);
        let length = self.written.len_bytes();
        // What stands before a place hangs on what follows it for some way.
        let before = self.cuts.partition_point(|cut| *cut <= range.start).saturating_sub(1);
        let from = before.checked_sub(1).and_then(|last| self.cuts.get(last)).copied().unwrap_or(0);
        let moved = |cut: &usize| cut - range.len() + put.len();
        let after: Vec<usize> = self.cuts.iter().filter(|cut| **cut >= range.end).map(moved).collect();
        let mut reached = 1;
        let (fresh, to, known) = loop {
            let end = after.get(reached).copied().unwrap_or(length);
            let fresh = Masked::of(&String::from(self.written.byte_slice(from..end)), self.host);
            if end == length {
                break (fresh, length, after.len());
            }
            let is_cut = |cut: &usize| fresh.cuts.binary_search(&(cut - from)).is_ok();
            if let Some(known) = after.iter().take(reached).rposition(is_cut) {
                break (fresh, after[known], known);
            }
            reached = reached * 2 + 1;
        };
        let fresh_cuts = fresh.cuts.into_iter().map(|cut| cut + from).filter(|cut| (from + 1..to).contains(cut));
        let near: Vec<usize> = self.cuts.iter().take(before).copied().chain(fresh_cuts).collect();
        self.cuts = spaced(near.into_iter().chain(after.into_iter().skip(known)).collect());
        let old = from..self.masked.len_bytes().min(to + range.len() - put.len());
        self.replace(old, fresh.text.get(..to - from).unwrap_or_default())
    }

    /// Puts a text in the place of bytes of the masked text, as far as they differ.
    fn replace(&mut self, range: Range<usize>, text: &str) -> Change {
        let old = String::from(self.masked.byte_slice(range.clone()));
        let same = |pair: &(u8, u8)| pair.0 == pair.1;
        let mut first = old.bytes().zip(text.bytes()).take_while(same).count();
        while !old.is_char_boundary(first) || !text.is_char_boundary(first) {
            first -= 1;
        }
        let most = old.len().min(text.len()) - first;
        let mut last = old.bytes().rev().zip(text.bytes().rev()).take(most).take_while(same).count();
        while !old.is_char_boundary(old.len() - last) || !text.is_char_boundary(text.len() - last) {
            last -= 1;
        }
        let change =
            Change { at: range.start + first, removed: old.len() - first - last, inserted: text.len() - first - last };
        let chars = self.masked.byte_to_char(change.at)..self.masked.byte_to_char(change.at + change.removed);
        self.masked.remove(chars.clone());
        self.masked.insert(chars.start, text.get(first..text.len() - last).unwrap_or_default());
        change
    }

    /// Where the quote lies in whose literal a statement begins.
    pub fn quote_before(&self, start: usize) -> usize {
        let before = self.written.byte_slice(..start.min(self.written.len_bytes()));
        let blank = before.chars_at(before.len_chars()).reversed().take_while(|c| c.is_whitespace());
        start.saturating_sub(blank.map(char::len_utf8).sum::<usize>() + 1)
    }

    /// The values that comments give above the line in which the literal of the statement at a byte begins: a line within it
    /// is not one of the code's comments.
    pub fn noted_above(&self, start: usize) -> Vec<Value> {
        let line = self.written.byte_to_line(self.quote_before(start));
        parameters::noted_above(&self.written, line, self.host.line_comments)
    }

    /// The statement in this range of the masked text as the program sends it; none where that is what stands there. Fails with
    /// the place of an escape within a quoted text that is not understood.
    pub fn exact(&self, statement: Range<usize>, dialect: &'static Dialect) -> Result<Option<Exact>, Range<usize>> {
        let before = self.cuts.partition_point(|cut| *cut <= statement.start);
        let from = before.checked_sub(1).and_then(|last| self.cuts.get(last)).copied().unwrap_or(0);
        let end = self.cuts.iter().find(|cut| **cut >= statement.end).copied().unwrap_or(self.written.len_bytes());
        let near = |rope: &Rope| String::from(rope.byte_slice(from..end));
        let masked = Rope::from_str(&near(&self.masked));
        let found =
            exact(&near(&self.written), (&masked, statement.start - from..statement.end - from), self.host, dialect);
        found.map_err(|escape| escape.start + from..escape.end + from)
    }
}

/// Of cuts those that are some way from each other.
fn spaced(cuts: Vec<usize>) -> Vec<usize> {
    let mut next = REACH;
    let is_far = |cut: &usize| {
        let is_far = *cut >= next;
        if is_far {
            next = cut + REACH;
        }
        is_far
    };
    cuts.into_iter().filter(is_far).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::POSTGRES;
    use crate::host::masked::masked;
    use crate::host::{HOSTS, by_name};
    use crate::outline::Outline;

    /// Pieces of code in all languages.
    const PIECES: &[&str] = &[
        "x = 1\n\n",
        "rows = db.query(\"select name from ports where id = %s\", port)\n",
        "// it's a comment\n# it isn't\n",
        "/* a longer\n one */\n",
        "q = 'delete from berths' + where\n",
        "q += \" where id = \" + id + \" and b = 2\"\n  + other;\n",
        "t = \"\"\"\n  select a\n  from b\n\"\"\"\n",
        "s = <<SQL\nselect é from ferry\nSQL\n",
        "v = `select * from ports where id = ${id}`;\n",
        "/* sql */\n\n'tide_now()'\n",
        "c := '\"'; d = 'x'\n",
        "f(\"select 1\",\n\n\n  \"from b\")\n",
        "one(two(three(four, five), six), seven) // eight nine ten eleven twelve thirteen fourteen fifteen\n",
    ];

    /// What an edit puts there.
    const PUT: &[&str] = &[
        "", "x", "\"", "'", "\"\"\"", "`", "\n", "/*", "*/", "//", "#", " + ", "<<SQL\n", "SQL\n", "select 1", "é",
        "\\", "-- sql",
    ];

    #[test]
    fn a_statement_far_down_is_read_alone() {
        let head = PIECES[0].repeat(2000);
        let text = format!("{head}q = \"select 'a\\tb'\"\n{head}q = \"select '\\N{{SHIP}}'\"\n");
        let code = Code::new(&text, by_name("python").unwrap());
        assert!(code.cuts.len() > 5, "{:?}", code.cuts);
        let outline = Outline::new(code.masked(), &POSTGRES);
        let of = |number: usize| {
            let statement = outline.statements()[number];
            code.exact(statement.start..statement.body_end, &POSTGRES)
        };
        assert_eq!(of(0).unwrap().unwrap().text, "select 'a\tb'");
        let escape = text.find("\\N").unwrap();
        assert_eq!(of(1), Err(escape..escape + 2));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        #[test]
        fn what_is_edited_is_masked_as_a_whole(
            host in 0..HOSTS.len(),
            pieces in prop::collection::vec(0..PIECES.len(), 200..600),
            edits in prop::collection::vec((any::<prop::sample::Index>(), 0_usize..40, 0..PUT.len(), 0..PIECES.len()), 1..12),
        ) {
            let text: String = pieces.iter().map(|at| PIECES[*at]).collect();
            let host = &HOSTS[host];
            let mut code = Code::new(&text, host);
            let mut outline = Outline::new(code.masked(), &POSTGRES);
            for (at, gone, put, piece) in &edits {
                let whole = code.written().to_string();
                let at = at.index(whole.len() + 1);
                let start = (0..=at).rev().find(|at| whole.is_char_boundary(*at)).unwrap();
                let end = (start + gone / 4).min(whole.len());
                let end = (end..=whole.len()).find(|at| whole.is_char_boundary(*at)).unwrap();
                let put = format!("{}{}", PUT[*put], if gone % 5 == 0 { PIECES[*piece] } else { "" });
                let change = code.edit(start..end, &put);
                outline.update(code.masked(), change);
                let whole = format!("{}{put}{}", &whole[..start], &whole[end..]);
                prop_assert_eq!(code.written().to_string(), whole.clone());
                let expected = masked(&whole, host);
                prop_assert!(*code.masked() == expected.as_str(), "{} differs after {put:?} at {start}", host.name);
            }
            let outlined = Outline::new(code.masked(), &POSTGRES);
            prop_assert_eq!(outline.statements(), outlined.statements());
        }
    }
}
