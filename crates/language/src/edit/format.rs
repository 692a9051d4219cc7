//! A statement written anew: a clause a line, what stands in parentheses moved to the right if it is
//! a query. Its tokens stay as they are, in their order; only blanks change, so it means the same.

mod documents;

use ropey::Rope;

use crate::dialect::{Dialect, Family};
use crate::lexer::{Lexer, TokenKind};

/// Words that begin a line. The longest that fits is one.
const CLAUSES: &[&str] = &[
    "SELECT",
    "FROM",
    "WHERE",
    "GROUP BY",
    "HAVING",
    "ORDER BY",
    "LIMIT",
    "OFFSET",
    "FETCH",
    "WINDOW",
    "UNION ALL",
    "UNION",
    "EXCEPT",
    "INTERSECT",
    "JOIN",
    "INNER JOIN",
    "LEFT JOIN",
    "LEFT OUTER JOIN",
    "RIGHT JOIN",
    "RIGHT OUTER JOIN",
    "FULL JOIN",
    "FULL OUTER JOIN",
    "CROSS JOIN",
    "NATURAL JOIN",
    "STRAIGHT_JOIN",
    "SET",
    "VALUES",
    "RETURNING",
    "ON CONFLICT",
    "ON DUPLICATE KEY UPDATE",
    "INSERT INTO",
    "UPDATE",
    "DELETE FROM",
    "FOR UPDATE",
];

/// How far what belongs to a clause stands to the right of it.
const STEP: usize = 4;

/// The widest line that a list of expressions is left on.
const WIDE: usize = 90;

struct Piece {
    kind: TokenKind,
    text: String,
    /// Whether a blank or an end of line stood before it.
    apart: bool,
}

/// Writes a statement anew. One that holds statements of its own stays as it is.
pub fn statement(text: &str, dialect: &'static Dialect) -> String {
    if dialect.family == Family::Documents {
        return documents::statement(text);
    }
    let rope = Rope::from_str(text);
    let mut pieces: Vec<Piece> = Vec::new();
    let mut apart = false;
    for token in Lexer::new(&rope, dialect, 0) {
        if matches!(token.kind, TokenKind::Space | TokenKind::LineEnd) {
            apart = true;
            continue;
        }
        let text = text.get(token.range()).unwrap_or_default().to_owned();
        pieces.push(Piece { kind: token.kind, text, apart });
        apart = false;
    }
    let first = pieces.iter().find(|piece| piece.kind == TokenKind::Word).map(|piece| piece.text.to_uppercase());
    let formatted = ["SELECT", "WITH", "INSERT", "UPDATE", "DELETE", "REPLACE", "VALUES", "EXPLAIN"];
    let begins = |first: &str| formatted.contains(&first) || dialect.clauses.first() == Some(&first);
    let known = first.is_some_and(|first| begins(&first));
    if !known || pieces.iter().any(|piece| matches!(piece.kind, TokenKind::Semicolon | TokenKind::Code)) {
        return text.to_owned();
    }
    let mut writer = Writer {
        out: String::new(),
        column: 0,
        indents: vec![0],
        pieces: &pieces,
        clauses: dialect.clauses,
        opens: Vec::new(),
        fresh: true,
        comment: false,
    };
    let mut at = 0;
    while at < pieces.len() {
        at = writer.write(at);
    }
    writer.out.trim_end().to_owned()
}

struct Writer<'a> {
    out: String,
    column: usize,
    /// Where the lines of each query begin.
    indents: Vec<usize>,
    pieces: &'a [Piece],
    /// Those of the language.
    clauses: &'static [&'static str],
    /// Whether each open parenthesis holds a query.
    opens: Vec<bool>,
    /// Nothing stands on this line yet.
    fresh: bool,
    /// The line ends in a comment: nothing may stand behind it.
    comment: bool,
}

impl Writer<'_> {
    fn word(&self, at: usize, word: &str) -> bool {
        self.pieces.get(at).is_some_and(|piece| piece.kind == TokenKind::Word && piece.text.eq_ignore_ascii_case(word))
    }

    fn sign(&self, at: usize, sign: u8) -> bool {
        self.pieces.get(at).is_some_and(|piece| piece.kind == TokenKind::Punctuation(sign))
    }

    fn new_line(&mut self, extra: usize) {
        if self.fresh && self.out.is_empty() {
            return;
        }
        let trimmed = self.out.trim_end_matches(' ').len();
        self.out.truncate(trimmed);
        if !self.fresh {
            self.out.push('\n');
        } else {
            let line = self.out.rfind('\n').map_or(0, |at| at + 1);
            self.out.truncate(line);
        }
        let indent = self.indents.last().copied().unwrap_or(0) + extra;
        self.out.push_str(&" ".repeat(indent));
        self.column = indent;
        self.fresh = true;
        self.comment = false;
    }

    fn put(&mut self, at: usize) {
        let Some(piece) = self.pieces.get(at) else { return };
        let before = at.checked_sub(1).and_then(|before| self.pieces.get(before));
        if self.comment {
            self.new_line(STEP);
        }
        if !self.fresh && self.wants_blank(before, piece) {
            self.out.push(' ');
            self.column += 1;
        }
        self.out.push_str(&piece.text);
        self.column += piece.text.chars().count();
        self.fresh = false;
        // One that ends with its line.
        self.comment = piece.kind == TokenKind::Comment && !piece.text.starts_with("/*");
    }

    /// Blanks stand where they stood, but not inside of parentheses and before commas.
    fn wants_blank(&self, before: Option<&Piece>, piece: &Piece) -> bool {
        let sign =
            |piece: &Piece, signs: &[u8]| matches!(piece.kind, TokenKind::Punctuation(sign) if signs.contains(&sign));
        let Some(before) = before else { return false };
        if sign(piece, b",") || sign(piece, b")") && !matches!(before.kind, TokenKind::Comment) {
            return false;
        }
        if sign(before, b"(") {
            return false;
        }
        sign(before, b",") || piece.apart
    }

    /// Writes the piece at `at`, or the clause that begins there. Returns the next one.
    fn write(&mut self, at: usize) -> usize {
        let in_call = self.opens.last() == Some(&false);
        let dotted = at > 0 && self.sign(at - 1, b'.');
        if !in_call && !dotted {
            if let Some(words) = self.clause(at) {
                let keeps = at == 0 || self.sign(at.wrapping_sub(1), b'(') && self.opens.last() == Some(&true);
                if !keeps {
                    self.new_line(0);
                }
                (at..at + words).for_each(|at| self.put(at));
                return self.list(at, at + words);
            }
            if (self.word(at, "AND") || self.word(at, "OR")) && !self.between(at) {
                self.new_line(STEP);
            }
        }
        if self.sign(at, b'(') {
            let query = self.word(at + 1, "SELECT") || self.word(at + 1, "WITH");
            self.put(at);
            self.opens.push(query);
            if query {
                let indent = self.indents.last().copied().unwrap_or(0) + STEP;
                self.indents.push(indent);
                self.new_line(0);
            }
            return at + 1;
        }
        if self.sign(at, b')') {
            if self.opens.pop() == Some(true) {
                self.indents.pop();
                if self.indents.is_empty() {
                    self.indents.push(0);
                }
                self.new_line(0);
            }
            self.put(at);
            return at + 1;
        }
        self.put(at);
        if self.comment {
            self.new_line(if self.opens.is_empty() { 0 } else { STEP });
        }
        at + 1
    }

    /// How many words the clause that begins here has.
    fn clause(&self, at: usize) -> Option<usize> {
        let fits = |clause: &&&str| clause.split(' ').enumerate().all(|(place, word)| self.word(at + place, word));
        let longest = CLAUSES.iter().chain(self.clauses).filter(fits).map(|clause| clause.split(' ').count()).max()?;
        // `distinct from`, `for update` inside of other things, `on delete set null`.
        let before = |word: &str| at > 0 && self.word(at - 1, word);
        let part = (self.word(at, "FROM") && (before("DISTINCT") || before("DELETE")))
            || (self.word(at, "SET") && (before("DELETE") || before("DO") || before("CHARACTER")))
            || (self.word(at, "SET") && before("UPDATE") && at > 1 && self.word(at - 2, "THEN"))
            || ((self.word(at, "UPDATE") || self.word(at, "DELETE")) && before("THEN"))
            || (self.word(at, "UPDATE") && (before("DO") || before("FOR") || before("ON") || before("KEY")))
            || (self.word(at, "JOIN")
                && ["LEFT", "RIGHT", "INNER", "FULL", "CROSS", "NATURAL", "OUTER"].iter().any(|w| before(w)))
            || (self.word(at, "OFFSET") && at > 1 && self.word(at - 2, "LIMIT"));
        (!part).then_some(longest)
    }

    /// Whether an AND belongs to a BETWEEN.
    fn between(&self, at: usize) -> bool {
        let mut depth = 0;
        for back in (0..at).rev() {
            if self.sign(back, b')') {
                depth += 1;
            } else if self.sign(back, b'(') {
                if depth == 0 {
                    return false;
                }
                depth -= 1;
            } else if depth == 0 && self.word(back, "BETWEEN") {
                return self.word(at, "AND");
            } else if depth == 0 && (self.word(back, "AND") || self.word(back, "OR") || self.clause(back).is_some()) {
                return false;
            }
        }
        false
    }

    /// A list of expressions that is too wide for a line stands one below the other.
    fn list(&mut self, clause: usize, from: usize) -> usize {
        let listed = self.word(clause, "SELECT") || self.word(clause, "SET");
        let mut depth = 0_usize;
        let (mut end, mut width, mut commas, mut nested) = (from, self.column, 0, false);
        while let Some(piece) = self.pieces.get(end) {
            if self.sign(end, b'(') {
                depth += 1;
                nested |= self.word(end + 1, "SELECT");
            } else if self.sign(end, b')') {
                if depth == 0 {
                    break;
                }
                depth -= 1;
            } else if depth == 0 && end > from && self.clause(end).is_some() {
                break;
            } else if depth == 0 && self.sign(end, b',') {
                commas += 1;
            }
            width += piece.text.chars().count() + 1;
            end += 1;
        }
        if !listed || commas == 0 || (width <= WIDE && !nested) {
            return from;
        }
        let mut at = from;
        self.new_line(STEP);
        let open = self.opens.len();
        while at < end {
            let comma = self.sign(at, b',') && self.opens.len() == open;
            // Queries inside stand to the right of the list.
            self.indents.push(self.indents.last().copied().unwrap_or(0) + STEP);
            at =
                if self.clause(at).is_some() && self.opens.len() == open { self.put_plain(at) } else { self.write(at) };
            let deeper = self.opens.last() == Some(&true) && self.opens.len() > open;
            let level = self.indents.len();
            if deeper {
                self.indents.remove(level - 2);
            } else {
                self.indents.pop();
            }
            if comma && !self.comment {
                self.new_line(STEP);
            }
        }
        at
    }

    fn put_plain(&mut self, at: usize) -> usize {
        self.put(at);
        at + 1
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};

    fn tokens(text: &str, dialect: &'static Dialect) -> Vec<String> {
        let rope = Rope::from_str(text);
        let read = |token: &crate::lexer::Token| !matches!(token.kind, TokenKind::Space | TokenKind::LineEnd);
        Lexer::new(&rope, dialect, 0).filter(read).map(|token| text[token.range()].to_owned()).collect()
    }

    #[test]
    fn a_clause_a_line() {
        let mut all = String::new();
        for text in [
            "select name,berths from ports where country='x' and berths between 1 and 3 or id in (1,2) order by name limit 3",
            "select p.id, count(*) as n from ports p left join routes r on r.from_port_id = p.id group by p.id having count(*) > 1",
            "with x as (select id from ports where id > 1), y as (select 1) select * from x, y",
            "select a from t where exists (select 1 from u where u.a = t.a and u.b = 1) union all select b from v",
            "insert into ports (id, name) values (1, 'a'), (2, 'b') on conflict (id) do update set name = excluded.name returning id",
            "update ports set name = 'x', berths = 2 where id = 1",
            "delete from ports where id = 1",
            "select 1 -- a remark\n, 2 /* another */ from t",
            "select the_first_of_many_columns, the_second_of_many_columns, the_third_of_many_columns, count(*) over (partition by a order by b) as n from t",
            "create table t (a int,b int)",
        ] {
            let formatted = statement(text, &SQLITE);
            assert_eq!(statement(&formatted, &SQLITE), formatted, "once is enough");
            all.push_str(&format!("{formatted}\n\n"));
        }
        insta::assert_snapshot!(all);
    }

    #[test]
    fn clauses_of_t_sql() {
        let mut all = String::new();
        for text in [
            "select top (5) p.name, s.departs_at from ports p cross apply (select top (1) departs_at from sailings s where s.port = p.id order by departs_at) s where p.[open days] > 3 option (recompile)",
            "update ports set berths += 1 output inserted.id, deleted.berths where id = 1",
            "merge into ports as t using news as n on n.code = t.code when matched and n.gone = 1 then delete when matched then update set name = n.name when not matched then insert (code, name) values (n.code, n.name) output $action",
            "select name from ports order by name offset 10 rows fetch next 5 rows only for json path",
            "with late as (select id from sailings where delay_min > 60) select * from late outer apply dbo.why(late.id)",
            "delete top (3) from ports where code in (N'SMQ', N'GUL')",
        ] {
            let formatted = statement(text, &SQLSERVER);
            assert_eq!(statement(&formatted, &SQLSERVER), formatted, "once is enough");
            assert_eq!(tokens(&formatted, &SQLSERVER), tokens(text, &SQLSERVER));
            all.push_str(&format!("{formatted}\n\n"));
        }
        insta::assert_snapshot!(all);
    }

    proptest! {
        #[test]
        fn tokens_stay_as_they_are(text in "(select|from|where|and|or|join|left|on|with x as|insert into|values|update|set|delete|group by|between|\\(|\\)|,|\\.|'a  b'| |-- c\n|/\\*d\\*/|a|t1|=|1|\n){0,40}") {
            for dialect in [&SQLITE, &POSTGRES, &MYSQL, &SQLSERVER] {
                let text = format!("select {text}");
                let formatted = statement(&text, dialect);
                prop_assert_eq!(tokens(&formatted, dialect), tokens(text.trim_end(), dialect), "{}", formatted);
            }
        }
    }
}
