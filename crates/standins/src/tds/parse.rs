//! Statements of T-SQL, as far as they are told apart here.

use super::lex::{Kind, Mistake, Token, tokens};

/// A statement.
#[derive(Debug, Clone, PartialEq)]
pub struct Statement {
    pub line: u32,
    pub does: Does,
}

/// What a statement does.
#[derive(Debug, Clone, PartialEq)]
pub enum Does {
    /// A query, a change or a definition: its tokens.
    Sql(Vec<Token>),
    Declare(Vec<Variable>),
    /// Gives a variable a value.
    Assign(String, Vec<Token>),
    /// A setting of the session: its words.
    Set(Vec<Token>),
    Print(Vec<Token>),
    /// Raises an error: its arguments, and whether it is sent at once.
    Raise(Vec<Vec<Token>>, bool),
    Throw(Vec<Vec<Token>>),
    If(Vec<Token>, Box<Statement>, Option<Box<Statement>>),
    While(Vec<Token>, Box<Statement>),
    Block(Vec<Statement>),
    Try(Vec<Statement>, Vec<Statement>),
    Begin,
    Commit,
    RollBack(Option<String>),
    Save(String),
    Use(String),
    Execute(Execution),
    Wait(Vec<Token>),
    Return(Vec<Token>),
    Break,
    Continue,
    Make(Module),
}

/// A variable that is declared.
#[derive(Debug, Clone, PartialEq)]
pub struct Variable {
    pub name: String,
    pub of: Vec<Token>,
    pub value: Vec<Token>,
    /// Whether a call takes its value back.
    pub output: bool,
}

/// A call of a procedure, or a text that is carried out.
#[derive(Debug, Clone, PartialEq)]
pub struct Execution {
    /// The variable for what it returns.
    pub returned: Option<String>,
    /// The last part of its name; empty for a text.
    pub name: String,
    /// Values: with the names of parameters where they are given, and whether each takes a value back.
    pub arguments: Vec<(Option<String>, Vec<Token>, bool)>,
}

/// What is made with the rest of its batch as its text.
#[derive(Debug, Clone, PartialEq)]
pub struct Module {
    /// `procedure`, `view`, `function` or `trigger`.
    pub kind: String,
    pub schema: String,
    pub name: String,
    /// All of it.
    pub text: String,
    pub parameters: Vec<Variable>,
    /// What it consists of; of a view and a function nothing is carried out here.
    pub body: Vec<Token>,
    pub replaces: bool,
}

/// The words that statements begin with.
const LEADS: &[&str] = &[
    "select",
    "insert",
    "update",
    "delete",
    "merge",
    "create",
    "alter",
    "drop",
    "truncate",
    "declare",
    "set",
    "print",
    "raiserror",
    "throw",
    "if",
    "while",
    "begin",
    "commit",
    "rollback",
    "save",
    "use",
    "exec",
    "execute",
    "waitfor",
    "return",
    "break",
    "continue",
    "with",
    "grant",
    "revoke",
    "deny",
    "kill",
    "dbcc",
    "checkpoint",
    "end",
    "else",
    "go",
];

/// Reads a batch.
pub fn batch(text: &str) -> Result<Vec<Statement>, Mistake> {
    let all = tokens(text)?;
    if let Some(module) = module(&all, text) {
        let line = all.first().map_or(1, |token| token.line);
        return Ok(vec![Statement { line, does: Does::Make(module) }]);
    }
    statements(&all)
}

/// Reads statements.
pub fn statements(all: &[Token]) -> Result<Vec<Statement>, Mistake> {
    let mut parser = Parser { all, at: 0 };
    let mut found = Vec::new();
    loop {
        parser.pass(";");
        if parser.at >= all.len() {
            return Ok(found);
        }
        found.push(parser.statement(found.is_empty())?);
    }
}

struct Parser<'a> {
    all: &'a [Token],
    at: usize,
}

impl Parser<'_> {
    fn peek(&self) -> Option<&Token> {
        self.all.get(self.at)
    }

    fn is(&self, ahead: usize, word: &str) -> bool {
        self.all.get(self.at + ahead).is_some_and(|token| token.is(word))
    }

    /// Passes over signs or words of one kind.
    fn pass(&mut self, word: &str) -> bool {
        let before = self.at;
        while self.is(0, word) {
            self.at += 1;
        }
        self.at > before
    }

    fn take(&mut self, word: &str) -> bool {
        let is = self.is(0, word);
        self.at += usize::from(is);
        is
    }

    fn wrong(&self) -> Mistake {
        match self.peek().or(self.all.last()) {
            Some(token) => (format!("Incorrect syntax near '{}'.", token.text), token.line),
            None => ("Incorrect syntax.".into(), 1),
        }
    }

    fn expect(&mut self, word: &str) -> Result<(), Mistake> {
        if self.take(word) { Ok(()) } else { Err(self.wrong()) }
    }

    /// The last part of a name with points.
    fn name(&mut self) -> Result<String, Mistake> {
        let mut name = None;
        while let Some(token) = self.peek().filter(|token| token.is_name()) {
            name = Some(token.text.clone());
            self.at += 1;
            if !self.pass(".") {
                break;
            }
        }
        name.ok_or_else(|| self.wrong())
    }

    /// Tokens up to a word at this depth that is one of these, or to what ends a statement.
    fn until(&mut self, ends: &[&str]) -> Vec<Token> {
        let (start, mut depth, mut cases) = (self.at, 0_i32, 0_i32);
        while let Some(token) = self.peek() {
            if depth == 0 && cases == 0 && (token.is(";") || token.is_one(ends)) {
                break;
            }
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
            cases += i32::from(token.is("case")) - i32::from(cases > 0 && token.is("end"));
            if depth < 0 {
                break;
            }
            self.at += 1;
        }
        self.all.get(start..self.at).unwrap_or_default().to_vec()
    }

    fn statement(&mut self, first: bool) -> Result<Statement, Mistake> {
        let lead = self.peek().ok_or_else(|| self.wrong())?.clone();
        let word = if lead.kind == Kind::Word { lead.text.to_ascii_lowercase() } else { String::new() };
        let line = lead.line;
        let does = match word.as_str() {
            "declare" => self.declare()?,
            "set" => self.set()?,
            "print" => {
                self.at += 1;
                Does::Print(self.until(LEADS))
            }
            "raiserror" => {
                self.at += 1;
                let inside = self.arguments()?;
                let mut at_once = false;
                if self.take("with") {
                    at_once = self.until(LEADS).iter().any(|token| token.is("nowait"));
                }
                Does::Raise(inside, at_once)
            }
            "throw" => {
                self.at += 1;
                let all = self.until(LEADS);
                Does::Throw(parted(&all))
            }
            "if" => {
                self.at += 1;
                let condition = self.until(LEADS);
                let then = Box::new(self.statement(false)?);
                let before = self.at;
                self.pass(";");
                let otherwise = if self.take("else") {
                    Some(Box::new(self.statement(false)?))
                } else {
                    self.at = before;
                    None
                };
                Does::If(condition, then, otherwise)
            }
            "while" => {
                self.at += 1;
                let condition = self.until(LEADS);
                Does::While(condition, Box::new(self.statement(false)?))
            }
            "begin" => self.begin()?,
            "commit" | "rollback" | "save" => {
                self.at += 1;
                let _ = self.take("transaction") || self.take("tran") || self.take("work");
                let name = self.until(LEADS).first().map(|token| token.text.clone());
                match word.as_str() {
                    "commit" => Does::Commit,
                    "rollback" => Does::RollBack(name),
                    _ => Does::Save(name.ok_or_else(|| self.wrong())?),
                }
            }
            "use" => {
                self.at += 1;
                Does::Use(self.name()?)
            }
            "exec" | "execute" => {
                self.at += 1;
                Does::Execute(self.execution()?)
            }
            "waitfor" => {
                self.at += 1;
                if !self.take("delay") {
                    return Err(self.wrong());
                }
                Does::Wait(self.until(LEADS))
            }
            "return" => {
                self.at += 1;
                Does::Return(self.until(LEADS))
            }
            "break" | "continue" => {
                self.at += 1;
                if word == "break" { Does::Break } else { Does::Continue }
            }
            "select" | "insert" | "update" | "delete" | "merge" | "create" | "alter" | "drop" | "truncate" | "with"
            | "grant" | "revoke" | "deny" | "kill" | "dbcc" | "checkpoint" => Does::Sql(self.sql()?),
            _ if lead.is("(") => Does::Sql(self.sql()?),
            // A procedure at the beginning of a batch needs no word before it.
            _ if first && lead.is_name() => Does::Execute(self.execution()?),
            _ => return Err(self.wrong()),
        };
        Ok(Statement { line, does })
    }

    fn declare(&mut self) -> Result<Does, Mistake> {
        self.at += 1;
        let mut found = Vec::new();
        loop {
            found.push(self.variable()?);
            if !self.take(",") {
                return Ok(Does::Declare(found));
            }
        }
    }

    /// A name, its type, and its value or default.
    fn variable(&mut self) -> Result<Variable, Mistake> {
        let name = self.peek().filter(|token| token.text.starts_with('@')).ok_or_else(|| self.wrong())?.text.clone();
        self.at += 1;
        self.take("as");
        let of = self.until(&[&["=", ",", "output", "out", "readonly", "as"], LEADS].concat());
        let value =
            if self.take("=") { self.until(&[&[",", "output", "out", "as"], LEADS].concat()) } else { Vec::new() };
        let output = self.take("output") || self.take("out");
        Ok(Variable { name, of, value, output })
    }

    fn set(&mut self) -> Result<Does, Mistake> {
        self.at += 1;
        let name = self.peek().map(|token| token.text.clone()).unwrap_or_default();
        if !name.starts_with('@') {
            return Ok(Does::Set(self.until(LEADS)));
        }
        self.at += 1;
        let sign = self.peek().map(|token| token.text.clone()).unwrap_or_default();
        self.at += 1;
        let mut value = self.until(LEADS);
        match sign.strip_suffix('=') {
            Some("") => {}
            Some(operator) if !value.is_empty() => {
                // `@a += 1` is `@a = @a + (1)`.
                let like = |kind, text: &str, token: &Token| Token { kind, text: text.to_owned(), ..token.clone() };
                let first = value.first().cloned().ok_or_else(|| self.wrong())?;
                let mut whole = vec![like(Kind::Word, &name, &first), like(Kind::Sign, operator, &first)];
                whole.push(like(Kind::Sign, "(", &first));
                whole.append(&mut value);
                whole.push(like(Kind::Sign, ")", &first));
                value = whole;
            }
            _ => return Err(self.wrong()),
        }
        Ok(Does::Assign(name, value))
    }

    fn begin(&mut self) -> Result<Does, Mistake> {
        self.at += 1;
        if self.take("transaction") || self.take("tran") {
            self.until(LEADS);
            return Ok(Does::Begin);
        }
        let tries = self.take("try");
        let inside = self.block()?;
        if !tries {
            return Ok(Does::Block(inside));
        }
        self.expect("try")?;
        self.pass(";");
        self.expect("begin")?;
        self.expect("catch")?;
        let handler = self.block()?;
        self.expect("catch")?;
        Ok(Does::Try(inside, handler))
    }

    /// Statements up to the word that closes them.
    fn block(&mut self) -> Result<Vec<Statement>, Mistake> {
        let mut found = Vec::new();
        loop {
            self.pass(";");
            if self.take("end") {
                return Ok(found);
            }
            found.push(self.statement(false)?);
        }
    }

    /// What stands in parentheses, parted by commas.
    fn arguments(&mut self) -> Result<Vec<Vec<Token>>, Mistake> {
        self.expect("(")?;
        let all = self.until(&[]);
        self.expect(")")?;
        Ok(parted(&all))
    }

    fn execution(&mut self) -> Result<Execution, Mistake> {
        let mut execution = Execution { returned: None, name: String::new(), arguments: Vec::new() };
        if self.is(0, "(") {
            execution.arguments = self.arguments()?.into_iter().map(|tokens| (None, tokens, false)).collect();
            return Ok(execution);
        }
        if self.peek().is_some_and(|token| token.text.starts_with('@')) && self.is(1, "=") {
            execution.returned = self.peek().map(|token| token.text.clone());
            self.at += 2;
        }
        execution.name = self.name()?;
        loop {
            let named = self.peek().is_some_and(|token| token.text.starts_with('@')) && self.is(1, "=");
            let name = self.peek().map(|token| token.text.clone()).filter(|_| named);
            self.at += if named { 2 } else { 0 };
            let value = self.until(&[&[",", "output", "out"], LEADS].concat());
            let output = self.take("output") || self.take("out");
            if value.is_empty() {
                break;
            }
            execution.arguments.push((name, value, output));
            if !self.take(",") {
                break;
            }
        }
        Ok(execution)
    }

    /// A statement that goes to SQLite: up to the next one.
    fn sql(&mut self) -> Result<Vec<Token>, Mistake> {
        let start = self.at;
        let lead = self.peek().map(|token| token.text.to_ascii_lowercase()).unwrap_or_default();
        let (mut depth, mut cases) = (0_i32, 0_i32);
        // Whether a query or a change may still follow what was read.
        let mut wants = matches!(lead.as_str(), "insert" | "with");
        self.at += 1;
        while let Some(token) = self.peek() {
            if depth == 0 && token.is(";") {
                break;
            }
            let before = self.all.get(self.at - 1);
            if depth == 0 && cases == 0 && token.kind == Kind::Word && token.is_one(LEADS) {
                let word = token.text.to_ascii_lowercase();
                let after = |words: &[&str]| before.is_some_and(|before| before.is_one(words));
                let goes_on = match word.as_str() {
                    "select" => wants || after(&["union", "all", "except", "intersect", "as", "for"]),
                    "insert" | "update" | "delete" | "merge" => {
                        wants || after(&["then", "on", "for", "after", "of", ",", "grant", "deny", "revoke"])
                    }
                    "set" => {
                        lead == "update"
                            || lead == "merge"
                            || lead == "alter"
                            || lead == "with"
                            || after(&["delete", "update"])
                    }
                    "exec" | "execute" => wants,
                    "with" => {
                        let goes_on = |next: &Token| next.is_one(&["(", "check", "nocheck"]);
                        self.all.get(self.at + 1).is_some_and(goes_on) || lead == "create"
                    }
                    "if" => after(&["table", "view", "procedure", "index", "trigger", "function"]),
                    "alter" | "drop" => lead == "alter",
                    "else" | "end" | "begin" => false,
                    _ => false,
                };
                if !goes_on {
                    break;
                }
                if matches!(word.as_str(), "select" | "insert" | "update" | "delete" | "merge" | "exec" | "execute") {
                    wants = word == "insert";
                }
            }
            if depth == 0 && token.is("values") {
                wants = false;
            }
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
            cases += i32::from(token.is("case")) - i32::from(cases > 0 && token.is("end"));
            if depth < 0 {
                return Err(self.wrong());
            }
            self.at += 1;
        }
        if depth > 0 {
            return Err(self.wrong());
        }
        Ok(self.all.get(start..self.at).unwrap_or_default().to_vec())
    }
}

/// Tokens parted by the commas between them.
pub fn parted(all: &[Token]) -> Vec<Vec<Token>> {
    let (mut found, mut depth) = (vec![Vec::new()], 0_i32);
    for token in all {
        if depth == 0 && token.is(",") {
            found.push(Vec::new());
            continue;
        }
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        if let Some(last) = found.last_mut() {
            last.push(token.clone());
        }
    }
    found.retain(|part| !part.is_empty());
    found
}

/// A procedure, view, function or trigger that a batch makes.
fn module(all: &[Token], text: &str) -> Option<Module> {
    let mut parser = Parser { all, at: 0 };
    let creates = parser.take("create");
    let replaces = (!creates || parser.take("or")) && parser.take("alter");
    let kind = match parser.peek()?.text.to_ascii_lowercase().as_str() {
        "procedure" | "proc" => "procedure",
        "view" => "view",
        "function" => "function",
        "trigger" => "trigger",
        _ => return None,
    };
    if !creates && !replaces {
        return None;
    }
    parser.at += 1;
    let first = parser.peek()?.text.clone();
    let name = parser.name().ok()?;
    let schema = if first == name { "dbo".to_owned() } else { first };
    let mut parameters = Vec::new();
    if kind == "procedure" || kind == "function" {
        let inside = parser.take("(");
        while parser.peek().is_some_and(|token| token.text.starts_with('@')) {
            parameters.push(parser.variable().ok()?);
            if !parser.take(",") {
                break;
            }
        }
        if inside {
            parser.take(")");
        }
    }
    while parser.peek().is_some_and(|token| !token.is("as")) {
        parser.at += 1;
    }
    parser.at += 1;
    let body = all.get(parser.at..).unwrap_or_default().to_vec();
    Some(Module { kind: kind.into(), schema, name, text: text.trim().to_owned(), parameters, body, replaces })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kinds(text: &str) -> Vec<&'static str> {
        let each = |statement: &Statement| match &statement.does {
            Does::Sql(_) => "sql",
            Does::Declare(_) => "declare",
            Does::Assign(..) => "assign",
            Does::Set(_) => "set",
            Does::Print(_) => "print",
            Does::Raise(..) => "raise",
            Does::If(..) => "if",
            Does::While(..) => "while",
            Does::Block(_) => "block",
            Does::Try(..) => "try",
            Does::Execute(_) => "execute",
            Does::Make(_) => "make",
            _ => "other",
        };
        batch(text).unwrap().iter().map(each).collect()
    }

    #[test]
    fn statements_need_no_semicolons() {
        assert_eq!(kinds("select 1 select 2; insert into t select 3 update t set a = 1 from t"), ["sql"; 4]);
        assert_eq!(kinds("declare @a int = 1, @b nvarchar(10) set @a += 2 print @a"), ["declare", "assign", "print"]);
        assert_eq!(kinds("if exists (select 1) select 1; else begin select 2 end while 1 = 1 break"), ["if", "while"]);
        assert_eq!(kinds("begin try select 1 end try begin catch print 'x' end catch set nocount on"), ["try", "set"]);
        assert_eq!(kinds("create or alter procedure dbo.p @a int = 1, @b int output as select @a; select 2"), ["make"]);
        assert_eq!(
            kinds("with a as (select 1 as x) select * from a exec p @a = 1, @b = @c output"),
            ["sql", "execute"]
        );
        assert_eq!(
            kinds(
                "merge into t using s on t.a = s.a when matched then update set b = 1 when not matched then insert (a) values (1); select 1"
            ),
            ["sql", "sql"]
        );
        assert_eq!(kinds("sp_help 'ports'"), ["execute"]);
    }

    #[test]
    fn a_mistake_has_its_line() {
        assert_eq!(batch("select 1\nfrom (t").unwrap_err().1, 2);
        assert_eq!(batch("select 1\n\nnonsense here").map(|all| all.len()), Ok(1));
        assert_eq!(batch("select 1;\n\nnonsense here").unwrap_err(), ("Incorrect syntax near 'nonsense'.".into(), 3));
    }
}
