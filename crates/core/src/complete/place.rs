//! What can stand at the cursor, by the clause and the token before it.

use super::context::Context;
use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::clause::Clause;
use jaunty_language::statement::shape::Word;

/// What can stand at the cursor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// A statement begins.
    Start,
    /// A table, a view, or another source of rows.
    Source,
    /// Behind a source: its other name, a join, the next clause.
    AfterSource,
    /// An expression.
    Operand,
    /// Behind an expression: an operator, or the next clause.
    AfterOperand,
    /// One of the columns of the table that is written to, or that a rule is about.
    Column,
    /// Behind the table of an `INSERT`.
    AfterTarget,
    /// A type.
    Type,
    /// A word of a definition.
    Definition,
    /// A procedure.
    Procedure,
    /// A text in quotes that is being written.
    Text,
    /// A name of a person's own: a new table, an alias.
    NewName,
    /// Nothing to be helped with: a comment, a number.
    Nothing,
}

impl Context<'_> {
    pub(super) fn find_place(&self) -> Place {
        let Some(previous) = self.back(1) else { return Place::Start };
        let first = self.shape.queries.get(self.query).map_or(0, |query| query.words.start);
        let (clause, from) = self.clause;
        if self.begins == first {
            // At the beginning of a query in parentheses.
            return if self.begins == 0 || previous.sign(b';') { Place::Start } else { Place::Operand };
        }
        if matches!(clause, Clause::Start | Clause::Other | Clause::Define)
            && let Some(place) = self.place_of_variable(previous)
        {
            return place;
        }
        if self.is_behind_top(previous) {
            return Place::Operand;
        }
        if previous.is("TOP") && self.around.dialect.is_keyword("TOP") {
            return Place::Nothing;
        }
        let in_list = self.open.is_some_and(|open| open > from);
        let lists = previous.sign(b'(') || previous.sign(b',');
        match clause {
            Clause::Start if previous.is_one_of(self.around.dialect.prefixes) => Place::Start,
            Clause::Start | Clause::Other => Place::Definition,
            Clause::With if previous.is("AS") || previous.sign(b')') => Place::AfterTarget,
            Clause::With => Place::NewName,
            Clause::From if !in_list => {
                if previous.sign(b',')
                    || previous.is_one_of(&["FROM", "JOIN", "STRAIGHT_JOIN", "LATERAL", "ONLY", "USING"])
                {
                    Place::Source
                } else if previous.is("AS") {
                    Place::NewName
                } else {
                    Place::AfterSource
                }
            }
            Clause::Target if !in_list => {
                let opens = previous.is_one_of(&["INTO", "UPDATE", "FROM", "TABLE", "ONLY", "IGNORE"]);
                if opens { Place::Source } else { Place::AfterTarget }
            }
            // The list of columns behind the table.
            Clause::Target => {
                if lists {
                    Place::Column
                } else {
                    Place::AfterOperand
                }
            }
            Clause::Using if in_list => Place::Column,
            Clause::Conflict if in_list && lists => Place::Column,
            Clause::Set if previous.is("SET") || (previous.sign(b',') && !in_list) => Place::Column,
            Clause::Define => self.place_in_definition(previous),
            Clause::Call if !in_list && (previous.is_one_of(&["CALL", "EXEC", "EXECUTE"])) => Place::Procedure,
            _ if self.is_cast(previous) => Place::Type,
            Clause::Select | Clause::Returning if previous.is("AS") => Place::NewName,
            Clause::Conflict if previous.is("UPDATE") || (previous.sign(b',') && !in_list) => Place::Column,
            _ if expects_operand(previous, self.back(2), self.around.dialect) => Place::Operand,
            _ => Place::AfterOperand,
        }
    }

    /// What stands in `DECLARE @name type = value`, and behind words that take an expression; nothing elsewhere.
    fn place_of_variable(&self, previous: &Word) -> Option<Place> {
        let dialect = self.around.dialect;
        let first = self.shape.words.first().filter(|_| dialect.word_signs.contains(&b'@'))?;
        let named = |word: &Word| dialect.is_own_name(&word.text);
        if first.is("DECLARE") {
            let types = named(previous) || (previous.is("AS") && self.back(2).is_some_and(named));
            return match () {
                () if types => Some(Place::Type),
                () if previous.sign(b'=') => Some(Place::Operand),
                () if previous.is("DECLARE") || previous.sign(b',') => Some(Place::NewName),
                () => None,
            };
        }
        let takes = previous.is_one_of(&["PRINT", "IF", "WHILE", "RETURN"]) || previous.sign(b'=');
        takes.then_some(Place::Operand)
    }

    /// Whether what was read is `TOP 5` or `TOP (5)`, and perhaps what goes with it: the list of columns begins.
    fn is_behind_top(&self, previous: &Word) -> bool {
        if !self.around.dialect.is_keyword("TOP") {
            return false;
        }
        if previous.is_one_of(&["PERCENT", "TIES"]) {
            return true;
        }
        let words = &self.shape.words;
        let Some(last) = self.begins.checked_sub(1) else { return false };
        let open = match previous.kind {
            TokenKind::Number => Some(last),
            _ if previous.sign(b')') => {
                let mut depth = 0_i32;
                (0..=last).rev().find(|at| {
                    let sign = |byte| words.get(*at).is_some_and(|word| word.sign(byte));
                    depth += i32::from(sign(b')')) - i32::from(sign(b'('));
                    depth == 0
                })
            }
            _ => None,
        };
        open.and_then(|open| open.checked_sub(1)).and_then(|at| words.get(at)).is_some_and(|word| word.is("TOP"))
    }

    /// Whether a type follows: behind `::`, and behind `AS` in a cast.
    fn is_cast(&self, previous: &Word) -> bool {
        let cast = |open: usize| {
            open.checked_sub(1)
                .and_then(|at| self.shape.words.get(at))
                .is_some_and(|w| w.is_one_of(&["CAST", "TRY_CAST"]))
        };
        (previous.sign(b':') && self.back(2).is_some_and(|w| w.sign(b':')))
            || (previous.is("AS") && self.open.is_some_and(cast))
    }

    fn place_in_definition(&self, previous: &Word) -> Place {
        const OBJECTS: &[&str] = &[
            "TABLE",
            "VIEW",
            "REFERENCES",
            "TRUNCATE",
            "ANALYZE",
            "VACUUM",
            "DESCRIBE",
            "DESC",
            "REINDEX",
            "LIKE",
            "CLUSTER",
        ];
        let creates = self.shape.words.first().is_some_and(|w| w.is("CREATE"));
        let table = self.shape.words.iter().take(5).any(|w| w.is("TABLE"));
        if previous.is_one_of(OBJECTS) {
            return if creates && previous.is_one_of(&["TABLE", "VIEW"]) { Place::NewName } else { Place::Source };
        }
        let makes = |word: &str| self.shape.words.iter().take(4).any(|w| w.is(word));
        if previous.is("ON") && (makes("INDEX") || makes("TRIGGER") || makes("GRANT") || makes("REVOKE")) {
            return Place::Source;
        }
        if previous.is("EXISTS") && !creates {
            return Place::Source;
        }
        if previous.is("COLUMN") && self.shape.words.first().is_some_and(|w| w.is("COMMENT")) {
            return Place::Source;
        }
        let open = self.open;
        let before_open =
            |by: usize| open.and_then(|open| open.checked_sub(by)).and_then(|at| self.shape.words.get(at));
        let lists = previous.sign(b'(') || previous.sign(b',');
        if open.is_some() {
            let keys = before_open(1).is_some_and(|w| w.is_one_of(&["KEY", "UNIQUE", "INDEX", "INCLUDE"]));
            let references = before_open(2).is_some_and(|w| w.is("REFERENCES"));
            let index = makes("INDEX") && !table;
            if lists && (keys || references || index) {
                return Place::Column;
            }
            if before_open(1).is_some_and(|w| w.is("CHECK")) || index {
                return if expects_operand(previous, self.back(2), self.around.dialect) {
                    Place::Operand
                } else {
                    Place::AfterOperand
                };
            }
            if creates && table {
                let named = self.back(2).is_none_or(|w| w.sign(b'(') || w.sign(b','));
                return match (lists, named && previous.kind != TokenKind::Punctuation(b')')) {
                    (true, _) => Place::NewName,
                    (_, true) => Place::Type,
                    _ => Place::Definition,
                };
            }
        }
        let alters = self.shape.words.first().is_some_and(|w| w.is("ALTER"));
        if alters && previous.is_one_of(&["COLUMN", "RENAME"]) {
            let adds = self.back(2).is_some_and(|w| w.is("ADD"));
            return if adds { Place::NewName } else { Place::Column };
        }
        if alters && previous.is("TYPE") {
            return Place::Type;
        }
        if alters && self.back(2).is_some_and(|w| w.is_one_of(&["COLUMN", "ADD"])) && !previous.is("COLUMN") {
            return if self.back(2).is_some_and(|w| w.is("ADD")) || self.back(3).is_some_and(|w| w.is("ADD")) {
                Place::Type
            } else {
                Place::Definition
            };
        }
        Place::Definition
    }
}

/// Words behind which an expression begins.
const BEFORE_OPERANDS: &[&str] = &[
    "SELECT",
    "DISTINCT",
    "ALL",
    "WHERE",
    "AND",
    "OR",
    "XOR",
    "NOT",
    "ON",
    "BY",
    "HAVING",
    "WHEN",
    "THEN",
    "ELSE",
    "CASE",
    "IN",
    "LIKE",
    "ILIKE",
    "BETWEEN",
    "RETURNING",
    "LIMIT",
    "OFFSET",
    "SIMILAR",
    "REGEXP",
    "RLIKE",
    "GLOB",
    "MATCH",
    "DIV",
    "MOD",
    "ANY",
    "SOME",
    "EXISTS",
    "VALUES",
    "FROM",
    "IS",
    "ESCAPE",
    "COLLATE",
    "CALL",
    "SET",
    "OVER",
    "FILTER",
    "USING",
    "INTERVAL",
];

/// Whether an expression begins behind a token.
pub fn expects_operand(previous: &Word, before: Option<&Word>, dialect: &Dialect) -> bool {
    match previous.kind {
        TokenKind::Punctuation(b')' | b']') => false,
        // A star is an operand where one could stand, and else a sign between two.
        TokenKind::Punctuation(b'*') => before.is_some_and(|before| {
            !(before.sign(b'(') || before.sign(b',') || before.sign(b'.') || before.is_one_of(BEFORE_OPERANDS))
        }),
        TokenKind::Punctuation(_) => true,
        TokenKind::Word => {
            let dotted = before.is_some_and(|before| before.sign(b'.') && before.range.end == previous.range.start);
            !dotted && previous.is_one_of(BEFORE_OPERANDS) && dialect.is_keyword(&previous.text)
        }
        _ => false,
    }
}
