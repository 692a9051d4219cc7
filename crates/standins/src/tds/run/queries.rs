//! Expressions, variables, and the statements that SQLite carries out.

use std::sync::Arc;

use rusqlite::types::{Value, ValueRef};

use super::{COUNTED, Fault, Outcome, Scope, Session, syntax, undeclared};

use crate::tds::lex::{Kind, Token};
use crate::tds::parse::Variable;
use crate::tds::plan::Planned;
use crate::tds::say::Line;
use crate::tds::sqlite::Translated;
use crate::tds::types::{Type, text_of};
use crate::tds::{catalog, held, parse, plan, say, sqlite};

impl Session {
    pub(super) fn declare(&mut self, all: &[Variable], line: u32, scope: &mut Scope) -> Outcome {
        for variable in all {
            let name = variable.name.to_lowercase();
            if scope.values.contains_key(&name) {
                let text = format!(
                    "The variable name '{}' has already been declared. Variable names must be unique within a query batch or stored procedure.",
                    variable.name
                );
                return Err(Fault::Raised(Line { number: 134, ..syntax(text, line) }, true));
            }
            if variable.of.first().is_some_and(|token| token.is("table")) {
                // A table of the session under the variable's name, anew for each batch.
                let mut made: Vec<Token> = vec![variable.of[0].clone()];
                made[0].text = "create".into();
                made.push(Token { text: "table".into(), ..variable.of[0].clone() });
                made.push(Token { text: format!("#{name}"), ..variable.of[0].clone() });
                made.extend(variable.of.iter().skip(1).cloned());
                let _ = self.db.execute_batch(&format!("drop table if exists temp.\"#{name}\""));
                let made = sqlite::translate(&made, &self.database).map_err(|text| self.plain(40515, &text, line))?;
                self.db.execute_batch(&made.text).map_err(|error| self.fault(&error, &variable.of, line))?;
                continue;
            }
            let value = if variable.value.is_empty() { Value::Null } else { self.value(&variable.value, line, scope)? };
            scope.types.insert(name.clone(), Type::of(&variable.of));
            scope.values.insert(name.clone(), Value::Null);
            assign(scope, &name, value, line)?;
        }
        Ok(())
    }

    /// What an expression gives.
    pub(super) fn value(&mut self, tokens: &[Token], line: u32, scope: &Scope) -> Outcome<Value> {
        let (tokens, of) = self.reached(tokens);
        let text = format!("select {}", sqlite::expression(&with_tables(&tokens, scope), &self.database));
        self.tell_facts();
        self.fill_catalog(&tokens, of.as_deref());
        let tokens = tokens.as_slice();
        let mut prepared = self.db.prepare(&text).map_err(|error| self.fault(&error, tokens, line))?;
        bind(&mut prepared, scope, line)?;
        let mut rows = prepared.raw_query();
        let first = rows.next().map_err(|error| self.fault(&error, tokens, line))?;
        first.map_or(Ok(Value::Null), |row| row.get(0)).map_err(|error| self.fault(&error, tokens, line))
    }

    pub(super) fn is_true(&mut self, condition: &[Token], line: u32, scope: &Scope) -> Outcome<bool> {
        Ok(match self.value(condition, line, scope)? {
            Value::Integer(number) => number != 0,
            Value::Real(number) => number != 0.0,
            _ => false,
        })
    }

    /// Fills the views of the catalog that a statement reads: of the database in hand, or of another one.
    pub(super) fn fill_catalog(&self, tokens: &[Token], of: Option<&str>) {
        let of_table = |three: &[Token]| three[1].is(".") && catalog::is_table(&three[0].text, &three[2].text);
        let reads = tokens.windows(3).any(of_table);
        if reads
            && let Err(error) =
                catalog::fill(&self.db, &self.shared, (of.unwrap_or("dbo"), of.unwrap_or(&self.database)))
        {
            eprintln!("the catalog of the stand-in: {error}");
        }
    }

    /// Carries out what SQLite can.
    pub(super) fn sql(&mut self, tokens: &[Token], line: u32, scope: &mut Scope) -> Outcome {
        let lead = tokens.first().map(|token| token.text.to_ascii_lowercase()).unwrap_or_default();
        if matches!(lead.as_str(), "grant" | "deny" | "revoke" | "dbcc" | "checkpoint") {
            return self.done(0, 0, 0);
        }
        if lead == "kill" {
            let number = tokens.get(1).and_then(|token| token.text.parse::<u16>().ok()).unwrap_or_default();
            if let Some(stream) = held(&self.shared.sessions).remove(&number) {
                let _ = stream.shutdown(std::net::Shutdown::Both);
            }
            return self.done(0, 0, 0);
        }
        if let Some(announced) = self.announce(tokens, line) {
            return announced;
        }
        // A word of other languages, which is the name of a column here.
        let truth = tokens.iter().enumerate().find(|(at, token)| {
            let dotted = at.checked_sub(1).and_then(|at| tokens.get(at)).is_some_and(|before| before.is("."));
            token.kind == Kind::Word && token.is_one(&["true", "false"]) && !dotted
        });
        if let Some((_, token)) = truth {
            let text = format!("Invalid column name '{}'.", token.text);
            return Err(Fault::Raised(Line { number: 207, class: 16, ..syntax(text, token.line) }, true));
        }
        if let Some(made) = self.made_database(tokens, line) {
            return made;
        }
        if let Some(made) = self.dropped(tokens) {
            return made;
        }
        if let Some(altered) = self.altered(tokens, line) {
            return altered;
        }
        // A word of other languages, which is read as another name of the table before it.
        let limit = tokens.windows(2).find(|two| two[0].is("limit") && matches!(two[1].kind, Kind::Number));
        if let Some([_, number]) = limit {
            return Err(Fault::Raised(syntax(format!("Incorrect syntax near '{}'.", number.text), number.line), true));
        }
        if let Some(assigned) = assignments(tokens) {
            return self.assign_all(tokens, &assigned, line, scope);
        }
        let (tokens, of) = self.reached(&with_tables(tokens, scope));
        let translated = sqlite::translate(&tokens, &self.database).map_err(|text| self.plain(40515, &text, line))?;
        self.tell_facts();
        self.fill_catalog(&tokens, of.as_deref());
        let command = command(&lead);
        let rows = self.carry_out(&translated, &tokens, line, scope, command)?;
        self.fact("@@rowcount", Value::Integer(rows as i64));
        self.fact("@@error", Value::Integer(0));
        if lead == "insert" {
            let last = self.db.last_insert_rowid();
            self.fact("@@identity", Value::Integer(last));
            self.fact("scope_identity", Value::Integer(last));
        }
        if self.measures && matches!(lead.as_str(), "select" | "insert" | "update" | "delete" | "with") {
            let planned = Planned {
                kind: plan::kind(&tokens),
                text: sqlite::written(&tokens),
                rows,
                met: Some(rows),
                steps: plan::steps(&self.db, &translated.text),
            };
            self.show(&plan::document(&[planned]))?;
        }
        Ok(())
    }

    /// A result of one text.
    pub(super) fn show(&mut self, text: &str) -> Outcome {
        self.say(&described(&["plan".to_owned()], &[Type::NVarChar(None)]))?;
        let mut row = vec![0xD1];
        Type::NVarChar(None).put(ValueRef::Text(text.as_bytes()), &mut row);
        self.say(&row)?;
        self.done(COUNTED, 0xC1, 1)
    }

    /// `DROP` of a module: SQLite knows no procedures.
    pub(super) fn dropped(&mut self, tokens: &[Token]) -> Option<Outcome> {
        let [drop, kind, rest @ ..] = tokens else { return None };
        if !drop.is("drop") || !kind.is_one(&["procedure", "proc", "function", "trigger", "view"]) {
            return None;
        }
        let lenient = rest.first().is_some_and(|token| token.is("if"));
        let name = rest.last().map(|token| token.text.clone()).unwrap_or_default();
        let known = held(&self.shared.modules).remove(&name.to_lowercase()).is_some();
        if kind.is("view") {
            let words = if lenient { "if exists " } else { "" };
            let made = self.db.execute_batch(&format!("drop view {words}dbo.\"{name}\""));
            return Some(made.map_err(|error| self.fault(&error, tokens, kind.line)).and_then(|()| self.done(0, 0, 0)));
        }
        if !known && !lenient {
            let text =
                format!("Cannot drop the procedure '{name}', because it does not exist or you do not have permission.");
            return Some(Err(self.plain(3701, &text, kind.line)));
        }
        Some(self.done(0, 0, 0))
    }

    /// `SELECT @a = …`: gives variables values, and nothing else.
    pub(super) fn assign_all(&mut self, tokens: &[Token], names: &[String], line: u32, scope: &mut Scope) -> Outcome {
        // Without the names and their signs it is a query.
        let mut query = Vec::new();
        let (mut depth, mut at, mut item) = (0_i32, 0, true);
        while let Some(token) = tokens.get(at) {
            if item && depth == 0 && token.text.starts_with('@') && tokens.get(at + 1).is_some_and(|next| next.is("="))
            {
                at += 2;
                item = false;
                continue;
            }
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
            item = at == 0 || (depth == 0 && token.is(","));
            query.push(token.clone());
            at += 1;
        }
        let (query, of) = self.reached(&with_tables(&query, scope));
        let translated = sqlite::translate(&query, &self.database).map_err(|text| self.plain(40515, &text, line))?;
        self.tell_facts();
        self.fill_catalog(&query, of.as_deref());
        let mut found: Option<Vec<Value>> = None;
        let mut count = 0;
        {
            let mut prepared = self.db.prepare(&translated.text).map_err(|error| self.fault(&error, &query, line))?;
            bind(&mut prepared, scope, line)?;
            let mut rows = prepared.raw_query();
            while let Some(row) = rows.next().map_err(|error| self.fault(&error, &query, line))? {
                let values: Result<Vec<Value>, _> = (0..names.len()).map(|at| row.get(at)).collect();
                found = Some(values.map_err(|error| self.fault(&error, &query, line))?);
                count += 1;
            }
        }
        for (name, value) in names.iter().zip(found.unwrap_or_default()) {
            assign(scope, name, value, line)?;
        }
        self.fact("@@rowcount", Value::Integer(count));
        Ok(())
    }

    /// Carries a statement of SQLite out, and sends what it gives. How many rows that were.
    pub(super) fn carry_out(
        &mut self,
        translated: &Translated,
        tokens: &[Token],
        line: u32,
        scope: &Scope,
        command: u16,
    ) -> Outcome<u64> {
        self.end_pending(true)?;
        let (wire, count) = (Arc::clone(&self.wire), self.count);
        let fault = |error: &rusqlite::Error| self.fault(error, tokens, line);
        let mut prepared = self.db.prepare(&translated.text).map_err(|error| fault(&error))?;
        let columns: Vec<(String, Option<Type>)> = prepared
            .columns()
            .map(|column| (column.name().to_owned(), column.decl_type().and_then(Type::declared)))
            .collect();
        bind(&mut prepared, scope, line)?;
        if columns.is_empty() && self.describes {
            drop(prepared);
            self.done(0, command, 0)?;
            return Ok(0);
        }
        if columns.is_empty() {
            let changed = prepared.raw_execute().map_err(|error| fault(&error))? as u64;
            drop(prepared);
            let counted = command != 0 && count;
            self.done(if counted { COUNTED } else { 0 }, command, if counted { changed } else { 0 })?;
            return Ok(changed);
        }
        let mut rows = prepared.raw_query();
        let mut next = if self.describes { None } else { rows.next().map_err(|error| fault(&error))? };
        // What has no type yet has that of its first value.
        let types: Vec<Type> = columns
            .iter()
            .enumerate()
            .map(|(at, (_, declared))| {
                let first = next.as_ref().and_then(|row| row.get_ref(at).ok());
                let cast = translated.cast.get(at).copied().flatten();
                cast.or(*declared).or_else(|| first.map(Type::for_value)).unwrap_or(Type::Int(4))
            })
            .collect();
        let names: Vec<String> = columns
            .into_iter()
            .zip(&translated.cast_names(tokens))
            .map(|((name, _), own)| own.clone().unwrap_or(name))
            .collect();
        held(&wire).say(&described(&names, &types))?;
        let (mut given, mut bytes) = (0_u64, Vec::new());
        let mut failed = None;
        while let Some(row) = next {
            bytes.push(0xD1);
            for (at, of) in types.iter().enumerate() {
                of.put(row.get_ref(at).unwrap_or(ValueRef::Null), &mut bytes);
            }
            given += 1;
            if bytes.len() > 1 << 14 || given < 64 {
                let mut wire = held(&wire);
                wire.say(&bytes)?;
                // The first rows are not kept back.
                if given < 64 && given.is_power_of_two() {
                    wire.flush()?;
                }
                bytes.clear();
            }
            if given.is_multiple_of(512) && held(&wire).is_stopped() {
                return Err(Fault::Stopped);
            }
            match rows.next() {
                Ok(row) => next = row,
                Err(error) => {
                    failed = Some(fault(&error));
                    break;
                }
            }
        }
        drop(rows);
        drop(prepared);
        held(&wire).say(&bytes)?;
        if let Some(fault) = failed {
            return Err(fault);
        }
        self.done(if self.count { COUNTED } else { 0 }, command, if self.count { given } else { 0 })?;
        Ok(given)
    }
}

pub(super) fn assign(scope: &mut Scope, name: &str, value: Value, line: u32) -> Outcome {
    let key = name.to_lowercase();
    let Some(known) = scope.values.get_mut(&key) else { return Err(undeclared(name, line)) };
    // Numbers that are kept as such.
    let of = scope.types.get(&key).copied().flatten();
    *known = match (of, value) {
        (Some(Type::Int(_)), Value::Real(number)) => Value::Integer(number as i64),
        (Some(Type::Int(_)), Value::Text(text)) => text.trim().parse().map(Value::Integer).unwrap_or(Value::Null),
        (Some(Type::NVarChar(_) | Type::VarChar(_)), value @ (Value::Integer(_) | Value::Real(_))) => {
            Value::Text(text_of(ValueRef::from(&value)))
        }
        (_, value) => value,
    };
    Ok(())
}

/// The variables that a `SELECT @a = …` gives values to; none where it is a query.
pub(super) fn assignments(tokens: &[Token]) -> Option<Vec<String>> {
    if !tokens.first()?.is("select") {
        return None;
    }
    let (mut names, mut depth, mut item) = (Vec::new(), 0_i32, true);
    for (at, token) in tokens.iter().enumerate().skip(1) {
        if depth == 0 && token.is_one(&["from", "where", "order"]) {
            break;
        }
        if item && token.text.starts_with('@') && tokens.get(at + 1).is_some_and(|next| next.is("=")) {
            names.push(token.text.clone());
        }
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        item = depth == 0 && token.is(",");
    }
    (!names.is_empty()).then_some(names)
}

/// Variables that are tables, under the names that they have in SQLite.
pub(super) fn with_tables(tokens: &[Token], scope: &Scope) -> Vec<Token> {
    let table = |at: usize, token: &Token| {
        let before = at.checked_sub(1).and_then(|at| tokens.get(at));
        token.text.starts_with('@')
            && !scope.values.contains_key(&token.text.to_lowercase())
            && before.is_some_and(|before| before.is_one(&["from", "join", "into", "update", "insert"]))
    };
    let renamed = |(at, token): (usize, &Token)| match table(at, token) {
        true => Token { text: format!("#{}", token.text.to_lowercase()), ..token.clone() },
        false => token.clone(),
    };
    tokens.iter().enumerate().map(renamed).collect()
}

pub(super) fn bind(prepared: &mut rusqlite::Statement<'_>, scope: &Scope, line: u32) -> Outcome {
    for at in 1..=prepared.parameter_count() {
        let name = prepared.parameter_name(at).unwrap_or_default().to_owned();
        let Some(value) = scope.values.get(&name.to_lowercase()) else { return Err(undeclared(&name, line)) };
        let bound = prepared.raw_bind_parameter(at, value);
        bound.map_err(|error| Fault::Raised(syntax(error.to_string(), line), true))?;
    }
    Ok(())
}

/// The server's number of what a statement does, where rows are counted.
pub(super) fn command(lead: &str) -> u16 {
    match lead {
        "select" | "with" => 0xC1,
        "insert" => 0xC3,
        "delete" | "truncate" => 0xC4,
        "update" => 0xC5,
        _ => 0,
    }
}

/// The description of columns.
pub(super) fn described(names: &[String], types: &[Type]) -> Vec<u8> {
    let mut bytes = vec![0x81];
    bytes.extend((types.len() as u16).to_le_bytes());
    for (name, of) in names.iter().zip(types) {
        let user_type = if *of == Type::RowVersion { 80_u32 } else { 0 };
        bytes.extend(user_type.to_le_bytes());
        // It may be NULL.
        bytes.extend([1, 0]);
        bytes.extend(of.described());
        if of.is_old() {
            bytes.push(1);
            bytes.extend(say::long("t"));
        }
        bytes.extend(say::short(name));
    }
    bytes
}

impl Translated {
    /// The names of columns that a query names itself by `name = expression`, or that have none; SQLite takes the text of
    /// an expression for its name, and the server has none.
    fn cast_names(&self, tokens: &[Token]) -> Vec<Option<String>> {
        let lead = tokens.first().is_some_and(|token| token.is("select"));
        if !lead {
            return vec![None; 4096];
        }
        let (mut depth, mut at) = (0_i32, 1);
        while tokens.get(at).is_some_and(|token| token.is_one(&["distinct", "all"])) {
            at += 1;
        }
        if tokens.get(at).is_some_and(|token| token.is("top")) {
            at += if tokens.get(at + 1).is_some_and(|token| token.is("(")) { 4 } else { 2 };
        }
        let start = at;
        while let Some(token) = tokens.get(at) {
            if depth == 0
                && token.is_one(&["from", "into", "where", "order", "union", "except", "intersect", "option", "for"])
            {
                break;
            }
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
            at += 1;
        }
        let items = parse::parted(tokens.get(start..at).unwrap_or_default());
        if items.iter().any(|item| item.last().is_some_and(|token| token.is("*"))) {
            return vec![None; 4096];
        }
        let name = |item: &Vec<Token>| match item.as_slice() {
            [one] if one.is_name() && !one.text.starts_with('@') => None,
            [.., point, _] if point.is(".") => None,
            [.., before, last] if last.is_name() && !before.is_one(&["+", "-", "*", "/", "%", "||", "end", "("]) => {
                Some(last.text.clone())
            }
            _ => Some(String::new()),
        };
        let mut names: Vec<_> = items.iter().map(name).collect();
        names.resize(4096, None);
        names
    }
}
