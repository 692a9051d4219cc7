//! Modules and calls of them.

use rusqlite::types::{Value, ValueRef};

use super::queries::assign;
use super::{DEEPEST, Fault, Outcome, Scope, Session, syntax};

use crate::tds::lex::{Kind, Token};
use crate::tds::parse::{Does, Execution, Module};
use crate::tds::sent::Reader;
use crate::tds::types::{Type, text_of};
use crate::tds::{held, parse, say, sqlite};

impl Session {
    /// A module is made, or made anew.
    pub(super) fn make(&mut self, module: &Module, line: u32) -> Outcome {
        let name = module.name.to_lowercase();
        if !module.replaces && held(&self.shared.modules).contains_key(&name) {
            let text = format!("There is already an object named '{}' in the database.", module.name);
            return Err(self.plain(2714, &text, line));
        }
        if module.kind == "view" {
            let query =
                sqlite::translate(&module.body, &self.database).map_err(|text| self.plain(40515, &text, line))?;
            // A view of SQLite names no place, since a file may be opened under another name.
            let query = query.text.replace("dbo.", "");
            let made = format!("drop view if exists dbo.\"{0}\"; create view dbo.\"{0}\" as {query}", module.name);
            self.db.execute_batch(&made).map_err(|error| self.fault(&error, &module.body, line))?;
        } else {
            parse::statements(&module.body)
                .map_err(|(text, line)| Fault::Raised(syntax(text, line), true))
                .map(drop)
                .or_else(|fault| if module.kind == "procedure" { Err(fault) } else { Ok(()) })?;
        }
        held(&self.shared.modules).insert(name, module.clone());
        self.done(0, 0xDE, 0)
    }

    pub(super) fn execute(&mut self, execution: &Execution, line: u32, scope: &mut Scope) -> Outcome {
        if self.within.len() >= DEEPEST {
            return Err(self.plain(
                217,
                "Maximum stored procedure, function, trigger, or view nesting level exceeded (limit 32).",
                line,
            ));
        }
        let mut values = Vec::new();
        for (name, tokens, output) in &execution.arguments {
            // A bare word is a text there.
            let value = match tokens.as_slice() {
                [token] if token.kind == Kind::Word && token.is("default") => Value::Null,
                [token] if token.kind == Kind::Word && !token.text.starts_with('@') && !token.is("null") => {
                    Value::Text(token.text.clone())
                }
                tokens => self.value(tokens, line, scope)?,
            };
            let back = tokens.first().map(|token| token.text.clone()).filter(|_| *output);
            values.push((name.clone(), value, back));
        }
        let text_at =
            |at: usize| values.get(at).map(|(_, value, _)| text_of(ValueRef::from(value))).unwrap_or_default();
        match execution.name.to_lowercase().as_str() {
            "" => return self.inside("", |session| session.batch(&text_at(0), &mut Scope::default())),
            "sp_executesql" => {
                let mut own = Scope::default();
                let declared = format!("declare {}", text_at(1));
                if let (Some(_), Ok(statements)) = (values.get(1), parse::batch(&declared)) {
                    self.all(&statements, &mut own)?;
                    let names: Vec<String> = match statements.first().map(|statement| &statement.does) {
                        Some(Does::Declare(all)) => all.iter().map(|variable| variable.name.to_lowercase()).collect(),
                        _ => Vec::new(),
                    };
                    for (at, (name, value, _)) in values.iter().skip(2).enumerate() {
                        let name = name.clone().map(|name| name.to_lowercase()).or_else(|| names.get(at).cloned());
                        own.values.insert(name.unwrap_or_default(), value.clone());
                    }
                }
                return self.inside("", |session| session.batch(&text_at(0), &mut own));
            }
            "sp_describe_first_result_set" => {
                let statements =
                    parse::batch(&text_at(0)).map_err(|(text, line)| Fault::Raised(syntax(text, line), true))?;
                // The types of its parameters may be any: they are NULL.
                let mut own = Scope::default();
                for part in text_at(1).split(',') {
                    let name = part.split_whitespace().next().unwrap_or_default();
                    own.values.insert(name.to_lowercase(), Value::Null);
                }
                for statement in &statements {
                    self.plan_of(statement, "", &mut own)?;
                }
                return Ok(());
            }
            "sp_addextendedproperty" => {
                let of = (text_at(5), text_at(7));
                if text_at(0) == "MS_Description" && held(&self.shared.descriptions).insert(of, text_at(1)).is_some() {
                    return Err(self.plain(15233, "Property cannot be added. It already exists.", line));
                }
                return self.done(0, 0, 0);
            }
            "sp_dropextendedproperty" => {
                let known = held(&self.shared.descriptions).remove(&(text_at(4), text_at(6)));
                return match known {
                    Some(_) => self.done(0, 0, 0),
                    None => Err(self.plain(15217, "Cannot update or delete the property. It does not exist.", line)),
                };
            }
            "sp_reset_connection" | "sp_set_session_context" => return Ok(()),
            _ => {}
        }
        let module = held(&self.shared.modules).get(&execution.name.to_lowercase()).cloned();
        let Some(module) = module.filter(|module| module.kind == "procedure") else {
            let text = format!("Could not find stored procedure '{}'.", execution.name);
            return Err(self.plain(2812, &text, line));
        };
        let mut own = Scope::default();
        for (at, parameter) in module.parameters.iter().enumerate() {
            let named = values
                .iter()
                .find(|(name, ..)| name.as_deref().is_some_and(|name| name.eq_ignore_ascii_case(&parameter.name)));
            let given = named.or_else(|| values.get(at).filter(|(name, ..)| name.is_none()));
            let value = match given {
                Some((_, value, _)) => value.clone(),
                None if !parameter.value.is_empty() => self.value(&parameter.value, line, scope)?,
                None => {
                    let text = format!(
                        "Procedure or function '{}' expects parameter '{}', which was not supplied.",
                        module.name, parameter.name
                    );
                    return Err(self.plain(201, &text, line));
                }
            };
            own.types.insert(parameter.name.to_lowercase(), Type::of(&parameter.of));
            own.values.insert(parameter.name.to_lowercase(), value);
        }
        let statements =
            parse::statements(&module.body).map_err(|(text, line)| Fault::Raised(syntax(text, line), true))?;
        let mut returned = 0;
        self.inside(&module.name, |session| match session.all(&statements, &mut own) {
            Err(Fault::Return(status)) => {
                returned = status;
                Ok(())
            }
            outcome => outcome,
        })?;
        for (at, parameter) in module.parameters.iter().enumerate() {
            let named = values
                .iter()
                .find(|(name, ..)| name.as_deref().is_some_and(|name| name.eq_ignore_ascii_case(&parameter.name)));
            let given = named.or_else(|| values.get(at).filter(|(name, ..)| name.is_none()));
            if let Some((_, _, Some(back))) = given
                && let Some(value) = own.values.get(&parameter.name.to_lowercase())
            {
                assign(scope, back, value.clone(), line)?;
            }
        }
        if let Some(variable) = &execution.returned {
            assign(scope, variable, Value::Integer(returned.into()), line)?;
        }
        self.say(&say::status(returned))?;
        self.end_pending(true)?;
        self.pending = Some((0xFE, 0, 0xE0, 0));
        Ok(())
    }

    /// Does something as a procedure of this name.
    pub(super) fn inside(&mut self, name: &str, work: impl FnOnce(&mut Session) -> Outcome) -> Outcome {
        let depth = self.within.len();
        self.within.push(name.to_owned());
        let outcome = work(self);
        self.within.truncate(depth);
        outcome
    }

    /// A call of a procedure by its number or name ([MS-TDS] 2.2.6.6).
    pub(super) fn call(&mut self, message: &[u8]) -> Outcome {
        let broken = || Fault::Raised(syntax("The call could not be read.".into(), 1), true);
        let headers = u32::from_le_bytes(message.get(..4).and_then(|b| b.try_into().ok()).unwrap_or_default()) as usize;
        let mut from = Reader { bytes: message, at: headers };
        let length = from.u16().ok_or_else(broken)?;
        let name = match length {
            0xFFFF => match from.u16().ok_or_else(broken)? {
                10 => "sp_executesql".to_owned(),
                number => {
                    let text = format!("The procedure with the number {number} is not a part of this stand-in.");
                    return Err(Fault::Raised(syntax(text, 1), true));
                }
            },
            length => from.text(length.into()).ok_or_else(broken)?,
        };
        from.u16();
        let mut values: Vec<(String, bool, Value)> = Vec::new();
        while from.at < message.len() && message.get(from.at) != Some(&0x80) {
            let length = from.u8().ok_or_else(broken)?;
            let own = from.text(length.into()).ok_or_else(broken)?;
            let status = from.u8().ok_or_else(broken)?;
            values.push((own, status & 1 != 0, from.value().ok_or_else(broken)?));
        }
        let mut scope = Scope::default();
        if name.eq_ignore_ascii_case("sp_executesql") {
            let text =
                |at: usize| values.get(at).map(|(_, _, value)| text_of(ValueRef::from(value))).unwrap_or_default();
            let declared = text(1);
            let names: Vec<(String, Option<Type>)> = match parse::batch(&format!("declare {declared}")) {
                Ok(all) => match all.first().map(|statement| &statement.does) {
                    Some(Does::Declare(all)) => all.iter().map(|v| (v.name.to_lowercase(), Type::of(&v.of))).collect(),
                    _ => Vec::new(),
                },
                Err(_) => Vec::new(),
            };
            for (at, (own, _, value)) in values.iter().skip(2).enumerate() {
                let known = names.get(at).cloned();
                let name = if own.is_empty() {
                    known.as_ref().map(|(name, _)| name.clone()).unwrap_or_default()
                } else {
                    own.to_lowercase()
                };
                scope.types.insert(name.clone(), known.and_then(|(_, of)| of));
                scope.values.insert(name, value.clone());
            }
            let statement = text(0);
            let done = self.inside("", |session| session.batch(&statement, &mut scope));
            match done {
                Err(Fault::Raised(line, _)) => self.raise(&line)?,
                Err(Fault::Return(_)) => {}
                done => done?,
            }
        } else {
            // By name: as if it had been written.
            let arguments = values.iter().map(|(own, _, value)| {
                let name = Some(own.clone()).filter(|own| !own.is_empty());
                let text = text_of(ValueRef::from(value));
                let token = |kind, text: &str| Token { kind, text: text.to_owned(), line: 1, at: 0, end: 0 };
                let tokens = match value {
                    Value::Null => vec![token(Kind::Word, "null")],
                    Value::Integer(_) | Value::Real(_) => vec![token(Kind::Number, &text)],
                    _ => vec![token(Kind::Text, &text)],
                };
                (name, tokens, false)
            });
            let name = name.rsplit('.').next().unwrap_or(&name).trim_matches(['[', ']']).to_owned();
            let execution = Execution { returned: None, name, arguments: arguments.collect() };
            return self.execute(&execution, 1, &mut scope);
        }
        self.say(&say::status(0))?;
        for (at, (own, out, _)) in values.iter().enumerate().skip(2) {
            if *out {
                let value = scope.values.get(&own.to_lowercase()).cloned().unwrap_or(Value::Null);
                let of = scope.types.get(&own.to_lowercase()).copied().flatten().unwrap_or(Type::NVarChar(Some(4000)));
                let mut bytes = vec![0xAC];
                bytes.extend((at as u16).to_le_bytes());
                bytes.extend(say::short(own));
                bytes.extend([1, 0, 0, 0, 0, 1, 0]);
                bytes.extend(of.described());
                of.put(ValueRef::from(&value), &mut bytes);
                self.say(&bytes)?;
            }
        }
        self.end_pending(true)?;
        self.pending = Some((0xFE, 0, 0xE0, 0));
        Ok(())
    }
}
