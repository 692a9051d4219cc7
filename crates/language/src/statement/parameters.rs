//! Parameters of statements: which there are, and their values, which are sent beside the text and never
//! pasted into it.
//!
//! Each language has its own: `$1` (PostgreSQL), `?` (MySQL), and `?`, `?7`, `:name`, `@name`, `$name`
//! (SQLite). `:name` and `?` are understood everywhere: where the server does not know them, they are numbered on the
//! way. What is a cast (`::int`), a slice (`[1:n]`) or a label (`deep: loop`) is not a parameter, nor is `?` where it
//! stands between two values: there it is an operator (of JSON, of PostgreSQL). `@name` is one, too, where the server has
//! no variables: PostgreSQL would take it for an operator, and `id = @id` for true.

use std::ops::Range;

use ropey::Rope;

use crate::dialect::{Dialect, Family, Kind};
use crate::lexer::{Lexer, Token, TokenKind};
use crate::split;
use crate::text::moved::Moved;

/// A value that a person gave.
#[derive(Debug, Clone, PartialEq)]
pub enum ParameterValue {
    /// No value.
    Null,
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A number, as it was written: its digits count.
    Number(String),
    /// Text.
    Text(String),
    /// Bytes, as the slip sends them: nobody writes one.
    Bytes(Vec<u8>),
}

impl ParameterValue {
    /// Reads a value: `null`, `true`, a number, or text, which quotes keep from being one of the others.
    pub fn read(text: &str) -> ParameterValue {
        let text = text.trim();
        let quoted = text.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\''));
        if let Some(inside) = quoted {
            return ParameterValue::Text(inside.replace("''", "'"));
        }
        match text.to_ascii_lowercase().as_str() {
            "null" => return ParameterValue::Null,
            "true" => return ParameterValue::Bool(true),
            "false" => return ParameterValue::Bool(false),
            _ => {}
        }
        // `007` is a name of somebody and no number.
        let digits = text.trim_start_matches('-');
        let plain = digits.len() == 1 || !digits.starts_with('0') || digits.starts_with("0.");
        match text.parse::<i64>() {
            Ok(number) if plain => ParameterValue::Int(number),
            _ if plain && digits.starts_with(|c: char| c.is_ascii_digit()) && text.parse::<f64>().is_ok() => {
                ParameterValue::Number(text.to_owned())
            }
            _ => ParameterValue::Text(text.to_owned()),
        }
    }

    /// As a person writes it; reads back as the same value.
    pub fn written(&self) -> String {
        match self {
            ParameterValue::Text(text) if ParameterValue::read(text) != *self => {
                format!("'{}'", text.replace('\'', "''"))
            }
            value => value.text().unwrap_or_else(|| "null".into()),
        }
    }

    /// Its text, as a server reads it; none for NULL.
    pub fn text(&self) -> Option<String> {
        match self {
            ParameterValue::Null => None,
            ParameterValue::Bool(value) => Some(value.to_string()),
            ParameterValue::Int(value) => Some(value.to_string()),
            ParameterValue::Number(text) | ParameterValue::Text(text) => Some(text.clone()),
            ParameterValue::Bytes(bytes) => Some(format!("\\x{}", hex(bytes))),
        }
    }
}

/// A parameter's name, as it is asked for, with its value.
pub type Value = (String, ParameterValue);

/// The places of a statement's parameters with their names. Those without a name are counted: `?1`, `?2`.
fn places(statement: &str, dialect: &'static Dialect) -> Vec<(Range<usize>, String)> {
    let mut found = Vec::new();
    if !dialect.takes_parameters() {
        return found;
    }
    let rope = Rope::from_str(statement);
    let mut unnamed = 0;
    // Variables that nobody declares stand for values too, where a language has them.
    let variables = dialect.word_signs.contains(&b'@');
    let declared = if variables { declared(statement, dialect) } else { Vec::new() };
    // The word that the statement in hand begins with, and a variable after it that is not one where `=` follows:
    // `EXEC p @port = 5` names a parameter of a procedure.
    let (mut lead, mut undecided) = (String::new(), None);
    let in_document = dialect.family == Family::Documents;
    let mut previous: Option<Token> = None;
    let mut tokens = with_names(Lexer::new(&rope, dialect, 0), dialect).peekable();
    while let Some(token) = tokens.next() {
        let text = statement.get(token.range()).unwrap_or_default();
        if !token.kind.is_trivia() {
            found.extend(undecided.take().filter(|_| token.kind != TokenKind::Punctuation(b'=')));
        }
        match token.kind {
            TokenKind::Parameter if text == "?" => {
                unnamed += 1;
                found.push((token.range(), format!("?{unnamed}")));
            }
            TokenKind::Parameter => found.push((token.range(), text.to_owned())),
            TokenKind::Word if variables => {
                if dialect.starter(text).is_some() {
                    lead = text.to_ascii_lowercase();
                }
                let named = text.starts_with('@') && !text.starts_with("@@");
                if named && !declared.iter().any(|known| known.eq_ignore_ascii_case(text)) {
                    let variable = (token.range(), text.to_owned());
                    match lead.starts_with("exec") && !ends_in_exec(statement, token.start) {
                        true => undecided = Some(variable),
                        false => found.push(variable),
                    }
                }
            }
            TokenKind::Punctuation(b':') if in_document && value_may_follow(previous.as_ref(), true) => {
                let next = tokens.peek().filter(|next| next.kind == TokenKind::Word && next.start == token.end);
                let name = next.and_then(|next| Some((token.start..next.end, statement.get(token.start..next.end)?)));
                // The colon may stand close to its value: `{ open :true }`.
                let is_value = |name: &str| matches!(name, ":true" | ":false" | ":null" | ":NaN" | ":Infinity");
                found.extend(name.filter(|(_, name)| !is_value(name)).map(|(range, name)| (range, name.to_owned())));
            }
            _ => {}
        }
        previous = Some(token);
    }
    found.extend(undecided);
    found
}

/// What stands before a token.
#[derive(Default)]
struct Before {
    /// The token directly before it.
    last: Option<Token>,
    /// The last one that says something.
    meaning: Option<Token>,
}

impl Before {
    fn take(&mut self, token: &Token) {
        self.last = Some(*token);
        if !token.kind.is_trivia() {
            self.meaning = Some(*token);
        }
    }

    /// Whether `@` directly before a name, which PostgreSQL takes for an operator (the value without its sign), can only be
    /// the place of a value: nothing that has a value stands before it, and it is not a part of another operator.
    fn wants_named(&self, token: &Token, rope: &Rope, dialect: &'static Dialect) -> bool {
        let beside = self.meaning.filter(|before| before.end == token.start);
        let is_operator =
            beside.is_some_and(|before| !matches!(before.kind, TokenKind::Punctuation(b'(' | b',' | b'=' | b'>')));
        is_mistakable("@", dialect) && !is_operator && self.wants_value(token, rope, dialect)
    }

    /// Whether a `?` that is an operator, too, can only stand for a value: nothing that has a value stands before it.
    fn wants_value(&self, token: &Token, rope: &Rope, dialect: &'static Dialect) -> bool {
        let Some(before) = self.meaning.filter(|_| dialect.family == Family::Sql) else { return false };
        // `?-` and `?|` before a value are operators on lines.
        let sign = |at: usize| rope.get_byte(token.end + at);
        if matches!(sign(0), Some(b'-' | b'|')) && sign(1) == Some(b' ') {
            return false;
        }
        match before.kind {
            TokenKind::Punctuation(sign) if before.end == token.start => b"(=<>+-*/|,%!~".contains(&sign),
            TokenKind::Punctuation(sign) => !b")]}".contains(&sign),
            TokenKind::Word => {
                let word = rope.byte_slice(before.range()).to_string().to_ascii_uppercase();
                dialect.is_keyword(&word) && !dialect.can_end.contains(&word.as_str())
            }
            _ => false,
        }
    }
}

/// Whether a value can stand after a token: it does so behind a blank or a sign.
fn value_may_follow(previous: Option<&Token>, in_document: bool) -> bool {
    previous.is_none_or(|previous| match previous.kind {
        TokenKind::Punctuation(sign) => b"(,=<>+-*/|%!~".contains(&sign) || in_document && b"[:".contains(&sign),
        kind => kind.is_trivia(),
    })
}

/// The tokens of a text with each `:name` as one parameter, which to most servers is a sign and a word, and each `?` that
/// stands for a value. In documents a colon has a meaning of its own, and they stay as they are.
pub fn with_names<'a>(tokens: Lexer<'a>, dialect: &'static Dialect) -> impl Iterator<Item = Token> + 'a {
    let rope = tokens.rope();
    let takes = dialect.takes_parameters() && dialect.family != Family::Documents;
    let mut tokens = tokens.peekable();
    let mut before = Before::default();
    std::iter::from_fn(move || {
        let mut token = tokens.next()?;
        match token.kind {
            TokenKind::Punctuation(b':') if takes && value_may_follow(before.last.as_ref(), false) => {
                let is_name = |next: &Token| next.kind == TokenKind::Word && next.start == token.end;
                if let Some(name) = tokens.next_if(is_name) {
                    token = Token { kind: TokenKind::Parameter, end: name.end, ..token };
                }
            }
            TokenKind::Punctuation(b'@') if takes && before.wants_named(&token, rope, dialect) => {
                let is_name = |next: &Token| next.kind == TokenKind::Word && next.start == token.end;
                if let Some(name) = tokens.next_if(is_name) {
                    token = Token { kind: TokenKind::Parameter, end: name.end, ..token };
                }
            }
            TokenKind::Punctuation(b'?') if takes && before.wants_value(&token, rope, dialect) => {
                let number = tokens.next_if(|next| next.kind == TokenKind::Number && next.start == token.end);
                let end = number.map_or(token.end, |number| number.end);
                token = Token { kind: TokenKind::Parameter, end, ..token };
            }
            _ => {}
        }
        before.take(&token);
        Some(token)
    })
}

/// Whether the word before this place calls a procedure: `EXEC @returned = p`.
fn ends_in_exec(statement: &str, at: usize) -> bool {
    let before = statement.get(..at).unwrap_or_default().trim_end().to_ascii_lowercase();
    before.ends_with("exec") || before.ends_with("execute")
}

/// The variables that a text declares.
fn declared(text: &str, dialect: &'static Dialect) -> Vec<String> {
    let rope = Rope::from_str(text);
    let (mut found, mut depth) = (Vec::new(), 0_u32);
    // Whether a list of declarations goes on, and whether a name stands next in it.
    let (mut declaring, mut named) = (false, false);
    for token in Lexer::new(&rope, dialect, 0).filter(|token| !token.kind.is_trivia()) {
        let word = text.get(token.range()).unwrap_or_default();
        match token.kind {
            TokenKind::Punctuation(b'(') => depth += 1,
            TokenKind::Punctuation(b')') => depth = depth.saturating_sub(1),
            TokenKind::Punctuation(b',') if depth == 0 => named = declaring,
            TokenKind::Semicolon => declaring = false,
            TokenKind::Word if word.eq_ignore_ascii_case("declare") => (declaring, named) = (true, true),
            TokenKind::Word if word.starts_with('@') && named => {
                found.push(word.to_owned());
                named = false;
            }
            TokenKind::Word if depth == 0 && dialect.starter(word).is_some() => declaring = false,
            _ => {}
        }
    }
    found
}

/// Whether servers take values for a statement. A definition, or `PREPARE`, may hold what looks like a
/// parameter and is its own.
fn takes_values(statement: &str, dialect: &'static Dialect) -> bool {
    // Of documents every statement does.
    if dialect.family == Family::Documents {
        return true;
    }
    let rope = Rope::from_str(statement);
    let Some(first) = split::statements(&rope, dialect, 0).next() else { return false };
    let word = statement.get(first.start..).unwrap_or_default();
    let word = word.split(|c: char| !c.is_ascii_alphabetic()).next().unwrap_or_default();
    let is_word = |other: &str| word.eq_ignore_ascii_case(other);
    // In batches a call has the values of the batch, as after declarations the statement has that they are for.
    let batches = dialect.batch_word.is_some();
    let in_batch = batches && (first.kind == Kind::Setting || is_word("exec") || is_word("execute"));
    is_word("call") || in_batch || matches!(first.kind, Kind::Query | Kind::Change | Kind::Plan)
}

/// The values that comments directly above a line give, the nearest first: `-- :port = Saltmarsh`. Others among them say
/// something else; `marks` begin a comment to the end of its line.
pub fn noted_above(rope: &Rope, line: usize, marks: &[&str]) -> Vec<Value> {
    let above = (0..line.min(rope.len_lines())).rev().map(|line| rope.line(line).to_string());
    let is_comment = |line: &String| marks.iter().any(|mark| line.trim_start().starts_with(mark));
    let noted = |line: String| {
        let (name, value) = split::note_in(&line, marks)?;
        Some((name.to_owned(), ParameterValue::read(value)))
    };
    above.take_while(is_comment).filter_map(noted).collect()
}

/// Whether a server would take a parameter of this name for something else, and not refuse it, if it came without a value.
pub fn is_mistakable(name: &str, dialect: &Dialect) -> bool {
    name.starts_with('@') && dialect.parameters.contains(&b'$') && !dialect.parameters.contains(&b'@')
}

/// Whether two names differ at most in the sign before them.
pub fn is_alike(one: &str, other: &str) -> bool {
    const SIGNS: [char; 4] = [':', '@', '$', '?'];
    one.trim_start_matches(SIGNS) == other.trim_start_matches(SIGNS)
}

/// Whether who gives a value for `given` means the parameter of this name: the sign before it may be left out.
pub fn means(given: &str, name: &str) -> bool {
    given == name || name.strip_prefix([':', '@', '$', '?']) == Some(given)
}

/// The names of the parameters that a statement wants values for, each once, in the order in which they
/// come.
pub fn names(statement: &str, dialect: &'static Dialect) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    if !takes_values(statement, dialect) {
        return names;
    }
    for (_, name) in places(statement, dialect) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

/// A statement in which `:name` is what the server knows.
#[derive(Debug)]
pub struct Numbered {
    /// The statement.
    pub text: String,
    /// The names in the order in which the server wants their values.
    pub names: Vec<String>,
    /// Where each parameter stands in the text, and where in the statement as it was written.
    moved: Moved,
}

impl Numbered {
    /// The place in the statement as it was written of a place in the text, in bytes.
    pub fn written(&self, at: usize) -> usize {
        self.moved.before(at)
    }
}

/// A statement as the server takes it, with the names of its parameters.
pub fn numbered(statement: &str, dialect: &'static Dialect) -> Numbered {
    let places = places(statement, dialect);
    let by_number = dialect.parameters.contains(&b'$');
    let by_name = dialect.word_signs.contains(&b'@');
    let number = |name: &str| name.strip_prefix('$').and_then(|digits| digits.parse::<usize>().ok());
    let mut order: Vec<String> = Vec::new();
    if by_number {
        // `$2` without `$1` wants a value for both.
        let most = places.iter().filter_map(|(_, name)| number(name)).max().unwrap_or(0);
        order.extend((1..=most).map(|number| format!("${number}")));
    }
    let mut text = String::new();
    let mut end = 0;
    let mut moved = Moved::default();
    for (range, name) in places {
        text.push_str(statement.get(end..range.start).unwrap_or_default());
        end = range.end;
        let start = text.len();
        if by_number {
            let at = order.iter().position(|known| *known == name).unwrap_or_else(|| {
                order.push(name);
                order.len() - 1
            });
            text.push_str(&format!("${}", at + 1));
        } else if by_name {
            let at = order.iter().position(|known| *known == name).unwrap_or_else(|| {
                order.push(name.clone());
                order.len() - 1
            });
            text.push_str(&if name.starts_with('@') { name } else { format!("@value_{}", at + 1) });
        } else {
            order.push(name);
            text.push('?');
        }
        moved.add(start..text.len(), range);
    }
    text.push_str(statement.get(end..).unwrap_or_default());
    Numbered { text, names: order, moved }
}

/// A statement with its values in it as literals: for asking a server what it would do, and never for running it.
pub fn with_literals(statement: &str, dialect: &'static Dialect, values: &[Value]) -> String {
    let (mut text, mut end) = (String::new(), 0);
    for (range, name) in places(statement, dialect) {
        text.push_str(statement.get(end..range.start).unwrap_or_default());
        end = range.end;
        // What a server takes as any type stands in quotes.
        match value_of(values, &name) {
            ParameterValue::Null => text.push_str("null"),
            ParameterValue::Int(value) => text.push_str(&value.to_string()),
            ParameterValue::Number(number) => text.push_str(&number),
            ParameterValue::Bool(value) => text.push_str(if value { "true" } else { "false" }),
            ParameterValue::Text(value) => text.push_str(&dialect.text_as_written(&value)),
            ParameterValue::Bytes(bytes) => text.push_str(&dialect.bytes_as_written(&hex(&bytes))),
        }
    }
    text.push_str(statement.get(end..).unwrap_or_default());
    text
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The value of a name; NULL where none was given.
pub fn value_of(values: &[Value], name: &str) -> ParameterValue {
    values.iter().find(|(known, _)| known == name).map_or(ParameterValue::Null, |(_, given)| given.clone())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{DOCUMENTS, MYSQL, POSTGRES, REDIS, SQLITE, SQLSERVER};

    #[test]
    fn documents_have_colons_of_their_own() {
        for (statement, expected) in [
            ("sailings { delay: { $gt: :minutes }, port::code }", &[":minutes", ":code"][..]),
            ("sailings { delay: { $in: [:one, :two, :one] } }", &[":one", ":two"]),
            ("sailings { open :true, a:null, 'x: :no': \":none\" } // :either", &[]),
            ("sailings | match { at: { $date: :day } }", &[":day"]),
            ("{ find: :collection }", &[":collection"]),
        ] {
            assert_eq!(names(statement, &DOCUMENTS), expected, "{statement}");
        }
    }

    #[test]
    fn a_value_reads_back_as_it_is_written() {
        for text in
            ["North", "null", "NULL", "true", "7", "007", "1.50", "-3", "'quoted'", "it's", "", " ", "a\nb", "'"]
        {
            for value in [ParameterValue::read(text), ParameterValue::Text(text.into())] {
                assert_eq!(ParameterValue::read(&value.written()), value, "{text:?} as {:?}", value.written());
            }
        }
        assert_eq!(
            [ParameterValue::Null, ParameterValue::Text("null".into())].map(|v| v.written()),
            ["null", "'null'"]
        );
    }

    #[test]
    fn parameters_are_found_and_nothing_else_is() {
        for (dialect, statement, expected) in [
            (&SQLITE, "select :a, @b, $c, ?, ?7, ':d' -- :e", vec![":a", "@b", "$c", "?1", "?7"]),
            (
                &POSTGRES,
                "select $2, $1, $2, a::int, b[1:n], '$3', :name from t where x=:name",
                vec!["$2", "$1", ":name"],
            ),
            (&POSTGRES, "select a ? 'b', '{}'::jsonb", vec![]),
            (
                &POSTGRES,
                "insert into t values (?, ?,?::date) on conflict do update set a=?, b = b || ? where c in (?) limit ?",
                vec!["?1", "?2", "?3", "?4", "?5", "?6", "?7"],
            ),
            (
                &POSTGRES,
                "select tags ? ? and (a) ? 'b' and e[1] ? 'c' and '{}'::jsonb ? 'd' and f @? '$.a' and null ? 'x' \
                 and ? ? 'y' and ?- lseg '0,0,1,1' and l ?|| m and g ?| ? and h <@ ?",
                vec!["?1", "?2", "?3", "?4"],
            ),
            (&SQLSERVER, "select top (?) a from b where c = ? and d like ?", vec!["?1", "?2", "?3"]),
            (&SQLSERVER, "exec p ?, @b = ?", vec!["?1", "?2"]),
            (
                &POSTGRES,
                "select @ -5, a @> b, c <@ d, e <@f, g @@ h, i @@j, @(k) from t where l = @id and m in (@one,@two) and n=@ID and o>@p and 'x@y' = @ z",
                vec!["@id", "@one", "@two", "@ID", "@p"],
            ),
            (&MYSQL, "select @x where a = @y", vec![]),
            (&POSTGRES, "select ?2, a ? 'b' where c = ?1 and d = ?2", vec!["?2", "?1"]),
            (&MYSQL, "select ?, ? + :fare, @x := 1, '?'", vec!["?1", "?2", ":fare"]),
            (&MYSQL, "create procedure p() deep:begin end", vec![]),
            (&MYSQL, "call p(:port)", vec![":port"]),
            (&SQLSERVER, "select @a, @@rowcount, :b from #t where c = @A", vec!["@a", ":b", "@A"]),
            (&SQLSERVER, "declare @a int = 1, @b table (c int)\nselect @a, @d from @b", vec!["@d"]),
            (&SQLSERVER, "declare @n int\nexec p @port = :port, @n = @n output\nselect @n", vec![":port"]),
            (&POSTGRES, "prepare one as select $1", vec![]),
            (&SQLITE, "create table t as select :a", vec![]),
            (&SQLITE, "explain query plan select :a", vec![":a"]),
            (&REDIS, "get :a", vec![]),
        ] {
            assert_eq!(names(statement, dialect), expected, "{statement}");
        }
    }

    #[test]
    fn a_sign_and_a_word_are_one_token_where_a_value_can_stand() {
        for (text, dialect, expected) in [
            ("select :new, a::text, b[1:n] where c=:d", &POSTGRES, vec![":new", ":d"]),
            ("select ':no', -- :no\n :yes", &MYSQL, vec![":yes"]),
            ("select a ? 'b' from t where c = ? limit ?", &POSTGRES, vec!["?", "?"]),
            ("select :a, $b", &SQLITE, vec![":a", "$b"]),
            ("ports { a: :b }", &DOCUMENTS, vec![]),
            ("get :a", &REDIS, vec![]),
        ] {
            let rope = Rope::from_str(text);
            let tokens: Vec<Token> = with_names(Lexer::new(&rope, dialect, 0), dialect).collect();
            let named = tokens.iter().filter(|token| token.kind == TokenKind::Parameter);
            assert_eq!(named.map(|token| &text[token.range()]).collect::<Vec<_>>(), expected, "{text}");
            assert!(tokens.windows(2).all(|pair| pair[0].end == pair[1].start), "nothing is lost of {text}");
        }
    }

    #[test]
    fn names_are_numbered_where_the_server_knows_none() {
        let postgres = numbered("select :b, $2 where a > :b and c = :d", &POSTGRES);
        assert_eq!(postgres.text, "select $3, $2 where a > $3 and c = $4");
        assert_eq!(postgres.names, ["$1", "$2", ":b", ":d"]);
        let postgres = numbered("select ?, a ? 'b' where c = :d and e=?", &POSTGRES);
        assert_eq!(postgres.text, "select $1, a ? 'b' where c = $2 and e=$3");
        assert_eq!(postgres.names, ["?1", ":d", "?2"]);
        let named = numbered("delete from t where id = @id or a < ? or b=@id", &POSTGRES);
        assert_eq!(named.text, "delete from t where id = $1 or a < $2 or b=$1");
        let sqlserver = numbered("select ? where a = ? or b = @c", &SQLSERVER);
        assert_eq!(sqlserver.text, "select @value_1 where a = @value_2 or b = @c");
        assert_eq!(sqlserver.names, ["?1", "?2", "@c"]);
        let mysql = numbered("select :b, ? where a > :b", &MYSQL);
        assert_eq!(mysql.text, "select ?, ? where a > ?");
        assert_eq!(mysql.names, [":b", "?1", ":b"]);
    }

    #[test]
    fn a_place_in_what_was_sent_is_one_in_what_was_written() {
        for dialect in [&POSTGRES, &MYSQL] {
            let written = "select :a, é.x frm ports where :longer_name = :a and b";
            let sent = numbered(written, dialect);
            for word in ["select", "é.x", "frm", "ports", "=", "and", "b"] {
                let place = |text: &str| text.find(word).unwrap();
                assert_eq!(sent.written(place(&sent.text)), place(written), "{word}");
            }
            assert_eq!(sent.written(sent.text.len()), written.len());
            // Within a parameter: where that begins.
            let second = sent.moved.part(1);
            assert!(second.clone().all(|at| sent.written(at) == written.find(":longer").unwrap()), "{second:?}");
        }
        let plain = numbered("select 1", &POSTGRES);
        assert_eq!(plain.written(7), 7);
    }

    #[test]
    fn values_have_the_type_that_they_are_written_in() {
        let text = |text: &str| ParameterValue::Text(text.into());
        for (written, expected) in [
            ("null", ParameterValue::Null),
            ("TRUE", ParameterValue::Bool(true)),
            ("-5", ParameterValue::Int(-5)),
            ("0", ParameterValue::Int(0)),
            ("0.50", ParameterValue::Number("0.50".into())),
            ("1e3", ParameterValue::Number("1e3".into())),
            ("99999999999999999999", ParameterValue::Number("99999999999999999999".into())),
            ("007", text("007")),
            ("'null'", text("null")),
            ("'it''s'", text("it's")),
            ("Saltmarsh Quay", text("Saltmarsh Quay")),
            ("2031-03-05", text("2031-03-05")),
            ("inf", text("inf")),
            ("", text("")),
        ] {
            assert_eq!(ParameterValue::read(written), expected, "{written}");
        }
    }
}
