//! Plans in the place of carrying out.

use rusqlite::types::Value;

use super::queries::{assignments, bind, with_tables};
use super::{Fault, Outcome, Scope, Session, syntax, undeclared};

use crate::tds::lex::Token;
use crate::tds::parse::{Does, Statement};
use crate::tds::plan::Planned;
use crate::tds::{held, parse, plan, sqlite};

impl Session {
    /// The plans of a batch.
    pub(super) fn show_plans(&mut self, statements: &[Statement], text: &str, scope: &mut Scope) -> Outcome {
        let mut planned = Vec::new();
        for statement in statements {
            planned.extend(self.plan_of(statement, text, scope)?);
        }
        self.show(&plan::document(&planned))
    }

    pub(super) fn plan_of(&mut self, statement: &Statement, text: &str, scope: &mut Scope) -> Outcome<Vec<Planned>> {
        let line = statement.line;
        let simple =
            |kind: &'static str| Planned { kind, text: text.to_owned(), rows: 1, met: None, steps: Vec::new() };
        Ok(match &statement.does {
            Does::Sql(tokens) => {
                let kind = plan::kind(tokens);
                if assignments(tokens).is_some() {
                    return Ok(vec![simple("ASSIGN WITH QUERY")]);
                }
                if !matches!(kind, "SELECT" | "SELECT WITHOUT QUERY" | "INSERT" | "UPDATE" | "DELETE") {
                    return Ok(vec![simple(kind)]);
                }
                let (tokens, of) = self.reached(&with_tables(tokens, scope));
                let translated =
                    sqlite::translate(&tokens, &self.database).map_err(|text| self.plain(40515, &text, line))?;
                self.tell_facts();
                self.fill_catalog(&tokens, of.as_deref());
                let prepared = self.db.prepare(&translated.text).map_err(|error| self.fault(&error, &tokens, line))?;
                for at in 1..=prepared.parameter_count() {
                    let name = prepared.parameter_name(at).unwrap_or_default();
                    if !scope.values.contains_key(&name.to_lowercase()) {
                        return Err(undeclared(name, line));
                    }
                }
                drop(prepared);
                let rows = self.estimated(&tokens, scope);
                let steps = plan::steps(&self.db, &translated.text);
                vec![Planned { kind, text: sqlite::written(&tokens), rows, met: None, steps }]
            }
            Does::Declare(all) => {
                for variable in all {
                    scope.values.insert(variable.name.to_lowercase(), Value::Null);
                }
                Vec::new()
            }
            Does::Assign(..) => vec![simple("ASSIGN")],
            Does::Set(_) => vec![simple("SET ON/OFF")],
            Does::Print(_) => vec![simple("PRINT")],
            Does::Raise(..) => vec![simple("RAISERROR")],
            Does::Throw(_) => vec![simple("THROW")],
            Does::Wait(_) => vec![simple("WAITFOR")],
            Does::Begin => vec![simple("BEGIN TRANSACTION")],
            Does::Commit => vec![simple("COMMIT TRANSACTION")],
            Does::RollBack(_) => vec![simple("ROLLBACK TRANSACTION")],
            Does::Save(_) => vec![simple("SAVE TRANSACTION")],
            Does::Use(_) => vec![simple("USE DATABASE")],
            Does::Return(_) => vec![simple("RETURN")],
            Does::Break | Does::Continue => vec![simple("GOTO")],
            Does::Make(module) => vec![simple(if module.kind == "view" { "CREATE VIEW" } else { "CREATE PROC" })],
            Does::If(_, then, otherwise) => {
                let mut all = vec![simple("COND")];
                all.extend(self.plan_of(then, text, scope)?);
                if let Some(otherwise) = otherwise {
                    all.extend(self.plan_of(otherwise, text, scope)?);
                }
                all
            }
            Does::While(_, body) => {
                let mut all = vec![simple("COND")];
                all.extend(self.plan_of(body, text, scope)?);
                all
            }
            Does::Block(inside) => self.plans_of(inside, text, scope)?,
            Does::Try(inside, handler) => {
                let mut all = self.plans_of(inside, text, scope)?;
                all.extend(self.plans_of(handler, text, scope)?);
                all
            }
            Does::Execute(execution)
                if execution.name.is_empty() || execution.name.eq_ignore_ascii_case("sp_executesql") =>
            {
                vec![simple("EXECUTE STRING")]
            }
            Does::Execute(execution) => {
                let module = held(&self.shared.modules).get(&execution.name.to_lowercase()).cloned();
                let mut all = vec![simple("EXECUTE PROC")];
                if let Some(module) = module {
                    let mut own = Scope::default();
                    for parameter in &module.parameters {
                        own.values.insert(parameter.name.to_lowercase(), Value::Null);
                    }
                    let inside = parse::statements(&module.body)
                        .map_err(|(text, line)| Fault::Raised(syntax(text, line), true))?;
                    all.extend(self.plans_of(&inside, text, &mut own)?);
                }
                all
            }
        })
    }

    pub(super) fn plans_of(&mut self, all: &[Statement], text: &str, scope: &mut Scope) -> Outcome<Vec<Planned>> {
        let mut planned = Vec::new();
        for statement in all {
            planned.extend(self.plan_of(statement, text, scope)?);
        }
        Ok(planned)
    }

    /// How many rows a statement would touch: counted, which is more than the server would know.
    pub(super) fn estimated(&self, tokens: &[Token], scope: &Scope) -> u64 {
        let lead = tokens.first().map(|token| token.text.to_ascii_lowercase()).unwrap_or_default();
        let table = match lead.as_str() {
            "delete" => tokens
                .iter()
                .skip(1)
                .skip_while(|token| token.is("from"))
                .take_while(|token| token.is_name() || token.is("."))
                .filter(|token| !token.is("where"))
                .cloned()
                .collect::<Vec<_>>(),
            "update" => tokens.iter().skip(1).take_while(|token| !token.is("set")).cloned().collect(),
            _ => return 1,
        };
        let condition =
            tokens.iter().position(|token| token.is("where")).map(|at| tokens.get(at..).unwrap_or_default());
        let condition = condition.map(|tokens| sqlite::expression(tokens, &self.database)).unwrap_or_default();
        let query = format!("select count(*) from {} {condition}", sqlite::expression(&table, &self.database));
        let Ok(mut prepared) = self.db.prepare(&query) else { return 1 };
        if bind(&mut prepared, scope, 0).is_err() {
            return 1;
        }
        let mut rows = prepared.raw_query();
        rows.next().ok().flatten().and_then(|row| row.get::<_, i64>(0).ok()).map_or(1, |count| count as u64)
    }
}
