//! Errors: raised, thrown, caught, and those of SQLite as the server tells them.

use rusqlite::ErrorCode;
use rusqlite::types::{Value, ValueRef};

use super::{Fault, Outcome, Scope, Session, TRIED};

use crate::tds::lex::Token;
use crate::tds::parse::Statement;
use crate::tds::say::Line;
use crate::tds::types::text_of;
use crate::tds::{held, say};

impl Session {
    pub(super) fn raise_error(
        &mut self,
        arguments: &[Vec<Token>],
        at_once: bool,
        line: u32,
        scope: &mut Scope,
    ) -> Outcome {
        let mut values = Vec::new();
        for argument in arguments {
            values.push(self.value(argument, line, scope)?);
        }
        let mut text = values.first().map(|value| text_of(ValueRef::from(value))).unwrap_or_default();
        for value in values.iter().skip(3) {
            let value = text_of(ValueRef::from(value));
            if let Some(at) = text.find("%s").or_else(|| text.find("%d")) {
                text.replace_range(at..at + 2, &value);
            }
        }
        let number = |at: usize| match values.get(at) {
            Some(Value::Integer(number)) => u8::try_from(*number).unwrap_or(16),
            _ => 16,
        };
        let told = Line { number: 50000, state: number(2), class: number(1), text, line, procedure: self.procedure() };
        if told.class > 10 {
            return Err(Fault::Raised(told, false));
        }
        self.say(&say::info(&told))?;
        if at_once {
            held(&self.wire).flush()?;
        }
        Ok(())
    }

    pub(super) fn throw(&mut self, arguments: &[Vec<Token>], line: u32, scope: &mut Scope) -> Outcome {
        if arguments.is_empty() {
            return match self.handled.take() {
                Some(handled) => Err(Fault::Raised(handled, true)),
                None => Err(self.plain(
                    10704,
                    "To rethrow an error, a THROW statement must be used inside a CATCH block.",
                    line,
                )),
            };
        }
        let mut values = Vec::new();
        for argument in arguments {
            values.push(text_of(ValueRef::from(&self.value(argument, line, scope)?)));
        }
        let number = values.first().and_then(|number| number.parse().ok()).unwrap_or(50000);
        let text = values.get(1).cloned().unwrap_or_default();
        let state = values.get(2).and_then(|state| state.parse().ok()).unwrap_or(1);
        Err(Fault::Raised(Line { number, state, class: 16, text, line, procedure: self.procedure() }, true))
    }

    pub(super) fn try_and_handle(&mut self, inside: &[Statement], handler: &[Statement], scope: &mut Scope) -> Outcome {
        self.within.push(TRIED.to_owned());
        let outcome = self.all(inside, scope);
        while self.within.pop().is_some_and(|name| name != TRIED) {}
        let Err(Fault::Raised(line, _)) = outcome else { return outcome };
        let before = self.handled.replace(line);
        let outcome = self.all(handler, scope);
        self.handled = before;
        outcome
    }

    /// An error of SQLite, as the server tells it.
    pub(super) fn fault(&self, error: &rusqlite::Error, tokens: &[Token], line: u32) -> Fault {
        let text = match error {
            rusqlite::Error::SqliteFailure(_, Some(text)) => text.clone(),
            rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
            rusqlite::Error::UserFunctionError(inside) => inside.to_string(),
            other => other.to_string(),
        };
        if error.sqlite_error_code() == Some(ErrorCode::OperationInterrupted) {
            return Fault::Stopped;
        }
        let behind =
            |start: &str| text.strip_prefix(start).map(|rest| rest.split(" in ").next().unwrap_or(rest).to_owned());
        // Where the word stands that it is about.
        let line_of = |name: &str| {
            let last = name.rsplit('.').next().unwrap_or(name);
            tokens.iter().find(|token| token.text.eq_ignore_ascii_case(last)).map_or(line, |token| token.line)
        };
        let quoted = text.split('"').nth(1).unwrap_or_default().to_owned();
        let (number, class, told, line, ends) = if let Some(name) = behind("no such table: ") {
            let shown = name.trim_start_matches("main.").to_owned();
            (208, 16, format!("Invalid object name '{shown}'."), line_of(&shown), true)
        } else if let Some(name) = behind("no such column: ") {
            let last = name.rsplit('.').next().unwrap_or(&name).trim_matches('"').to_owned();
            (207, 16, format!("Invalid column name '{last}'."), line_of(&last), true)
        } else if let Some(name) = behind("no such function: ") {
            (195, 15, format!("'{name}' is not a recognized built-in function name."), line_of(&name), true)
        } else if text.contains("syntax error") {
            (102, 15, format!("Incorrect syntax near '{quoted}'."), line_of(&quoted), true)
        } else if text.contains("incomplete input") {
            (102, 15, "Incorrect syntax near the end of the statement.".to_owned(), line, true)
        } else if text.contains("UNIQUE constraint failed") {
            (
                2627,
                14,
                format!("Violation of UNIQUE KEY constraint. Cannot insert duplicate key in object ({text})."),
                line,
                false,
            )
        } else if text.contains("constraint failed") {
            (547, 16, format!("The statement conflicted with a constraint ({text})."), line, false)
        } else if text.contains("integer overflow") {
            (8115, 16, "Arithmetic overflow error converting expression to data type bigint.".to_owned(), line, false)
        } else if matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked)) {
            (1222, 16, "Lock request time out period exceeded.".to_owned(), line, false)
        } else {
            (50001, 16, text.clone(), line, false)
        };
        Fault::Raised(Line { number, state: 1, class, text: told, line, procedure: self.procedure() }, ends)
    }
}
