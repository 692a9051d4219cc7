//! Transactions: several commands that hold together ("Driver Transactions Specification", "Driver Sessions").

use jaunty_documents::bson::field;
use jaunty_documents::{Bson, Document};
use jaunty_seam::engine::Transaction;
use jaunty_seam::error::EngineError;

use super::connect::random_bytes;
use super::session::pair;

/// A statement about transactions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Word {
    Begin,
    Commit,
    RollBack,
}

impl Word {
    /// That of a statement which is one word.
    pub fn of(statement: &str) -> Option<Word> {
        let lines = statement.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with("//"));
        match lines.collect::<Vec<_>>().as_slice() {
            [word] => match word.trim_end_matches(';').trim_end() {
                "begin" => Some(Word::Begin),
                "commit" => Some(Word::Commit),
                "rollback" => Some(Word::RollBack),
                _ => None,
            },
            _ => None,
        }
    }
}

/// The transactions of a session, one after another.
#[derive(Debug, Default)]
pub struct Transactions {
    /// The session that the server knows them by.
    session: Option<[u8; 16]>,
    number: i64,
    open: Option<Open>,
}

#[derive(Debug, Default)]
struct Open {
    /// The server has heard of it.
    told: bool,
    failed: bool,
}

impl Transactions {
    /// How it stands.
    pub fn state(&self) -> Option<Transaction> {
        self.open.as_ref().map(|open| if open.failed { Transaction::Failed } else { Transaction::Open })
    }

    /// Opens one.
    pub fn begin(&mut self) -> Result<(), EngineError> {
        if self.session.is_none() {
            let mut id = random_bytes::<16>()?;
            // A UUID of random bits (RFC 9562, section 5.4).
            id[6] = id[6] & 0x0F | 0x40;
            id[8] = id[8] & 0x3F | 0x80;
            self.session = Some(id);
        }
        self.number += 1;
        self.open = Some(Open::default());
        Ok(())
    }

    /// It is over.
    pub fn end(&mut self) {
        self.open = None;
    }

    /// Something in it failed: the server has rolled it back.
    pub fn fail(&mut self) {
        if let Some(open) = &mut self.open {
            open.failed = true;
        }
    }

    /// Makes a command a part of the open transaction, if there is one.
    pub fn put_into(&mut self, command: &mut Document) {
        if self.put_into_last(command) {
            return;
        }
        let Some(open) = &mut self.open else { return };
        open.told = true;
        self.put_into_last(command);
        command.push(pair("startTransaction", Bson::Bool(true)));
    }

    /// The same for what ends it; false where the server does not know of it.
    pub fn put_into_last(&self, command: &mut Document) -> bool {
        let (Some(open), Some(session)) = (&self.open, self.session) else { return false };
        if open.told && field(command, "lsid").is_none() {
            let id = Bson::Binary(4, session.to_vec());
            command.push(pair("lsid", Bson::Document(vec![pair("id", id)])));
            command.push(pair("txnNumber", Bson::Int64(self.number)));
            command.push(pair("autocommit", Bson::Bool(false)));
        }
        open.told
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_alone_is_about_transactions() {
        for (statement, word) in [
            ("begin", Some(Word::Begin)),
            ("// all of it\ncommit;\n", Some(Word::Commit)),
            ("  rollback ;", Some(Word::RollBack)),
            ("begin {}", None),
            ("\"begin\"", None),
            ("begin\n| limit 5", None),
            ("", None),
        ] {
            assert_eq!(Word::of(statement), word, "{statement:?}");
        }
    }

    #[test]
    fn the_first_command_tells_the_server() {
        let mut transactions = Transactions::default();
        let names = |transactions: &mut Transactions| {
            let mut command = vec![pair("find", Bson::text("ports"))];
            transactions.put_into(&mut command);
            command.into_iter().skip(1).map(|(name, _)| name).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(names(&mut transactions), "");
        transactions.begin().unwrap();
        assert_eq!(names(&mut transactions), "lsid txnNumber autocommit startTransaction");
        assert_eq!(names(&mut transactions), "lsid txnNumber autocommit");
        transactions.fail();
        assert_eq!(transactions.state(), Some(Transaction::Failed));
        transactions.end();
        assert_eq!((names(&mut transactions), transactions.state()), (String::new(), None));
    }
}
