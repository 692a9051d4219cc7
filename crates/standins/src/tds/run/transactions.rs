//! Transactions, settings of the session, and the current database.

use super::{Fault, Outcome, Scope, Session, syntax};

use crate::tds::lex::Token;
use crate::tds::parse::{Does, Statement};
use crate::tds::say;
use crate::tds::say::Line;

impl Session {
    pub(super) fn commit(&mut self, line: u32) -> Outcome {
        match self.open {
            0 => {
                return Err(self.plain(
                    3902,
                    "The COMMIT TRANSACTION request has no corresponding BEGIN TRANSACTION.",
                    line,
                ));
            }
            1 => {
                self.db.execute_batch("commit").map_err(|error| self.fault(&error, &[], line))?;
                let number = self.transactions;
                self.open = 0;
                self.say(&say::transaction(9, number))?;
            }
            _ => self.open -= 1,
        }
        self.done(0, 0xD5, 0)
    }

    pub(super) fn roll_back(&mut self) -> Outcome {
        // SQLite may have done so by itself.
        if !self.db.is_autocommit() {
            let _ = self.db.execute_batch("rollback");
        }
        self.open = 0;
        let number = self.transactions;
        self.say(&say::transaction(10, number))
    }

    pub(super) fn go_to(&mut self, name: &str, line: u32) -> Outcome {
        let Some(name) = self.shared.database(name) else {
            let text = format!("Database '{name}' does not exist. Make sure that the name is entered correctly.");
            return Err(self.plain(911, &text, line));
        };
        self.attach_in_hand(&name, line)?;
        let before = std::mem::replace(&mut self.database, name.clone());
        self.say(&say::environment(1, &name, &before))?;
        let text = format!("Changed database context to '{name}'.");
        self.say(&say::info(&Line { number: 5701, state: 2, class: 0, text, line, procedure: String::new() }))?;
        self.done(0, 0, 0)
    }

    pub(super) fn set(&mut self, words: &[Token], line: u32) -> Outcome {
        let on = words.last().is_some_and(|word| word.is("on"));
        let first = words.first().map(|word| word.text.to_ascii_lowercase()).unwrap_or_default();
        match first.as_str() {
            "nocount" => self.count = !on,
            "showplan_xml" => self.plans = on,
            "parseonly" | "noexec" => self.parses = on,
            "fmtonly" => self.describes = on,
            "xact_abort" => self.aborts = on,
            "statistics" if words.get(1).is_some_and(|word| word.is("xml")) => self.measures = on,
            "" => return Err(Fault::Raised(syntax("Incorrect syntax near 'set'.".into(), line), true)),
            _ => {}
        }
        self.done(0, 0xF9, 0)
    }

    /// A request of the manager of transactions: begin, commit, roll back.
    pub(super) fn manage(&mut self, message: &[u8]) -> Outcome {
        let headers = u32::from_le_bytes(message.get(..4).and_then(|b| b.try_into().ok()).unwrap_or_default()) as usize;
        let does = match message.get(headers) {
            Some(5) => Does::Begin,
            Some(7) => Does::Commit,
            Some(8) => Does::RollBack(None),
            _ => return Err(Fault::Raised(syntax("This request is not a part of the stand-in.".into(), 1), true)),
        };
        self.one(&Statement { line: 1, does }, &mut Scope::default())
    }
}
