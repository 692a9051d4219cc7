//! `ALTER TABLE` about rules and types of columns: SQLite has no statement for it, but takes another text of the table.

use super::{Fault, Outcome, Session};
use crate::tds::held;
use crate::tds::lex::Token;
use crate::tds::sqlite;
use crate::tds::table::{Table, Wrong};

impl Session {
    /// Carries one out; none where SQLite has a statement for it.
    pub(super) fn altered(&mut self, tokens: &[Token], line: u32) -> Option<Outcome> {
        let [alter, table, rest @ ..] = tokens else { return None };
        if !alter.is("alter") || !table.is("table") {
            return None;
        }
        let after =
            rest.iter().position(|token| token.is_one(&["with", "add", "drop", "alter", "check", "nocheck"]))?;
        let name = after.checked_sub(1).and_then(|at| rest.get(at))?.text.clone();
        let (looks, rest) = match rest.get(after..)? {
            [with, how, rest @ ..] if with.is("with") => (!how.is("nocheck"), rest),
            rest => (true, rest),
        };
        let change = |table: &mut Table| match rest {
            [drop, constraint, rule] if drop.is("drop") && constraint.is("constraint") => {
                table.drop_rule(&name, &rule.text)
            }
            [alter, word, column @ ..] if alter.is("alter") && word.is("column") => table.alter(&sqlite::part(column)),
            [add, rule @ ..] if add.is("add") => match rule.iter().rposition(|token| token.is("for")) {
                Some(to) if to + 2 == rule.len() => table.add_default(&rule[to + 1].text, &sqlite::part(&rule[..to])),
                _ => {
                    table.add(&sqlite::part(rule));
                    Ok(())
                }
            },
            _ => Ok(()),
        };
        let begins = |at: usize, words: &[&str]| rest.get(at).is_some_and(|token| token.is_one(words));
        let of_rules = begins(1, &["constraint", "foreign", "check", "default"]) && begins(0, &["add", "drop"]);
        let named = rest.get(2).map(|token| token.text.to_lowercase()).filter(|_| begins(1, &["constraint"]));
        let off = begins(0, &["check", "nocheck"]).then(|| begins(0, &["nocheck"]));
        if let (Some(rule), Some(off)) = (&named, off) {
            // One that is on again was not looked at meanwhile.
            held(&self.shared.lenient).insert(rule.clone(), off);
            return Some(self.done(0, 0xD8, 0));
        }
        if !of_rules && !begins(0, &["alter"]) {
            return None;
        }
        let outcome = self.with_text(&name, (line, looks), change);
        if let (Some(rule), Ok(())) = (named, &outcome) {
            match begins(0, &["add"]) && !looks {
                true => held(&self.shared.lenient).insert(rule, false),
                false => held(&self.shared.lenient).remove(&rule),
            };
        }
        Some(outcome)
    }

    /// Changes the text of a table.
    fn with_text(
        &mut self,
        table: &str,
        (line, looks): (u32, bool),
        change: impl FnOnce(&mut Table) -> Result<(), Wrong>,
    ) -> Outcome {
        let fault = |error: rusqlite::Error| self.fault(&error, &[], line);
        let find = "select sql from dbo.sqlite_schema where type = 'table' and lower(name) = lower(?1)";
        let before: String = self.db.query_row(find, [table], |row| row.get(0)).map_err(fault)?;
        let Some(mut read) = Table::read(&before) else { return self.done(0, 0xD8, 0) };
        change(&mut read).map_err(|wrong| self.refused(&wrong, line))?;
        let after = read.text();
        // What keeps values different is an index, which goes with it; those that come after it would need other names.
        let keys = |table: &Table| [table.rules("primary"), table.rules("unique")].concat();
        let (had, has) = (Table::read(&before).map_or(Vec::new(), |table| keys(&table)), keys(&read));
        if !had.starts_with(&has) {
            return Err(self.plain(40515, "Taking away a key before others is not a part of this stand-in.", line));
        }
        let gone = (has.len() < had.len()).then(|| {
            let last = "select name from dbo.sqlite_schema where lower(tbl_name) = lower(?1) and name like 'sqlite_autoindex_%' \
                        order by rowid desc limit 1";
            self.db.query_row(last, [table], |row| row.get::<_, String>(0))
        });
        let gone = gone.transpose().map_err(fault)?;
        let put = |text: &str| {
            self.db.execute_batch("pragma writable_schema = on")?;
            if let Some(gone) = &gone {
                self.db.execute("delete from dbo.sqlite_schema where name = ?1", [gone])?;
            }
            let change = "update dbo.sqlite_schema set sql = ?1 where type = 'table' and lower(name) = lower(?2)";
            self.db.execute(change, [text, table])?;
            self.db.execute_batch("pragma writable_schema = reset")
        };
        put(&after).map_err(fault)?;
        let check = format!("select count(*) from pragma_foreign_key_check('{}', 'dbo')", table.replace('\'', "''"));
        let wrong: i64 = self.db.query_row(&check, [], |row| row.get(0)).map_err(fault)?;
        if looks && wrong > 0 {
            put(&before).map_err(fault)?;
            let text = "The ALTER TABLE statement conflicted with the FOREIGN KEY constraint.";
            return Err(self.plain(547, text, line));
        }
        self.done(0, 0xD8, 0)
    }

    fn refused(&self, wrong: &Wrong, line: u32) -> Fault {
        match wrong {
            Wrong::NoColumn(name) => {
                self.plain(4924, &format!("ALTER TABLE failed because column '{name}' does not exist."), line)
            }
            Wrong::NoRule(name) => self.plain(3728, &format!("'{name}' is not a constraint."), line),
            Wrong::Depends(name) => {
                self.plain(5074, &format!("The object 'default' is dependent on column '{name}'."), line)
            }
        }
    }
}
