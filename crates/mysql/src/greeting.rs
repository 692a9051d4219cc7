//! What a server says first, and what is answered to it (MySQL Source Code Documentation, "Connection Phase"; for the
//! capabilities of MariaDB's own, MariaDB Server Documentation, "Connecting").

use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt as _};

use crate::fields::{Fields, put_bytes};
use crate::{Error, ServerError, packet, text};

/// What both sides can do.
pub mod can {
    /// MySQL's own; where a server leaves it out, it is MariaDB and has capabilities beyond the first 32.
    pub const MYSQL: u32 = 1;
    /// A database is named with the login.
    pub const DATABASE: u32 = 1 << 3;
    /// Rows are sent for `LOAD DATA LOCAL`.
    pub const FILES: u32 = 1 << 7;
    /// The protocol since 4.1.
    pub const PROTOCOL_41: u32 = 1 << 9;
    /// TLS.
    pub const TLS: u32 = 1 << 11;
    /// The state of transactions is told.
    pub const TRANSACTIONS: u32 = 1 << 13;
    /// Proofs of up to 255 bytes.
    pub const SECURE: u32 = 1 << 15;
    /// Several statements in one request.
    pub const STATEMENTS: u32 = 1 << 16;
    /// Several results of one statement.
    pub const RESULTS: u32 = 1 << 17;
    /// Several results of one prepared statement.
    pub const PREPARED_RESULTS: u32 = 1 << 18;
    /// Methods of login have names.
    pub const METHODS: u32 = 1 << 19;
    /// We say which program we are.
    pub const ATTRIBUTES: u32 = 1 << 20;
    /// No packet of its own between columns and rows.
    pub const NO_EOF: u32 = 1 << 24;
    /// Among the capabilities beyond the first 32: how far a long statement is.
    pub const PROGRESS: u32 = 1;
}

/// What we can do, where the server can too.
const OURS: u32 = can::FILES
    | can::PROTOCOL_41
    | can::TRANSACTIONS
    | can::SECURE
    | can::STATEMENTS
    | can::RESULTS
    | can::PREPARED_RESULTS
    | can::METHODS
    | can::ATTRIBUTES
    | can::NO_EOF;

/// The number of the collation `utf8mb4_general_ci`: every server of the protocol has it since 5.5.3.
const UTF8MB4: u8 = 45;

/// No greeting is longer.
const MOST: usize = 1 << 16;

/// Who logs in.
#[derive(Debug, Clone, Copy)]
pub struct Login<'a> {
    /// The user.
    pub user: &'a str,
    /// The password; empty where there is none.
    pub password: &'a str,
    /// The database to begin in.
    pub database: Option<&'a str>,
    /// The name of the program, which an administrator sees.
    pub program: &'a str,
    /// The most bytes of a message.
    pub largest: u64,
    /// The stream is encrypted by TLS.
    pub encrypted: bool,
    /// Nobody in between can read along: a password may be sent as it is.
    pub private: bool,
}

impl Login<'_> {
    /// The database to begin in, if it has a name.
    fn database(&self) -> Option<&str> {
        self.database.filter(|name| !name.is_empty())
    }
}

/// What a server says first.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Greeting {
    /// Its version, as it writes it.
    pub version: String,
    /// The number of the connection, by which it is ended from another one.
    pub id: u32,
    /// What the server can do: [`can`].
    pub can: u32,
    /// What it can do beyond that, of MariaDB's own.
    pub more: u32,
    /// The state of the session.
    pub status: u16,
    /// What a proof of the password has to answer to.
    pub nonce: Vec<u8>,
    /// How it would like to be shown who we are.
    pub method: String,
    /// The place of what is sent next.
    pub(crate) sequence: u8,
}

impl Greeting {
    /// Reads it from a stream, and not a byte more.
    pub async fn receive<S: AsyncRead + Unpin>(stream: &mut S) -> Result<Greeting, Error> {
        let (sequence, payload) = packet::single(stream, MOST).await?;
        if payload.first() == Some(&0xFF) {
            return Err(match ServerError::read(&payload) {
                Some(error) => Error::Server(error),
                None => Error::Broken("an error that ends in the middle"),
            });
        }
        if payload.first() != Some(&10) {
            return Err(Error::Broken("a greeting of another version of the protocol"));
        }
        let greeting = Greeting::read(&payload).ok_or(Error::Broken("a greeting that ends in the middle"))?;
        if greeting.can & can::PROTOCOL_41 == 0 {
            return Err(Error::Broken("the server is from before version 4.1"));
        }
        Ok(Greeting { sequence: sequence.wrapping_add(1), ..greeting })
    }

    fn read(payload: &[u8]) -> Option<Greeting> {
        let mut fields = Fields::of(payload.get(1..)?);
        let version = text(fields.until_zero());
        let id = fields.u32()?;
        let mut nonce = fields.take(8)?.to_vec();
        fields.take(1)?;
        let low = fields.u16()?;
        let mut greeting = Greeting { version, id, can: u32::from(low), ..Greeting::default() };
        if !fields.is_empty() {
            fields.take(1)?;
            greeting.status = fields.u16()?;
            greeting.can |= u32::from(fields.u16()?) << 16;
            let length = usize::from(fields.u8()?);
            fields.take(6)?;
            let more = fields.u32()?;
            greeting.more = if greeting.can & can::MYSQL == 0 { more } else { 0 };
            if greeting.can & can::SECURE != 0 {
                // Its last byte is a zero.
                nonce.extend(fields.take(length.saturating_sub(8).max(13))?);
                nonce.pop();
            }
            if greeting.can & can::METHODS != 0 {
                greeting.method = text(fields.until_zero());
            }
        }
        greeting.nonce = nonce;
        Some(greeting)
    }

    /// Whether it can encrypt.
    pub fn has_tls(&self) -> bool {
        self.can & can::TLS != 0
    }

    /// What is agreed on.
    pub(crate) fn agreed(&self) -> u32 {
        self.can & OURS
    }

    /// Asks for the handshake of TLS, which is what comes next on the stream. The login is the one that follows.
    pub async fn ask_for_tls<S: AsyncWrite + Unpin>(&mut self, stream: &mut S, login: &Login<'_>) -> Result<(), Error> {
        let asked = self.head(&Login { encrypted: true, ..*login });
        let mut packet = vec![asked.len() as u8, 0, 0, self.sequence];
        packet.extend(asked);
        stream.write_all(&packet).await?;
        stream.flush().await?;
        self.sequence = self.sequence.wrapping_add(1);
        Ok(())
    }

    /// The first 32 bytes of what is answered, also before TLS begins. Some servers believe only the first of the two:
    /// they have to be the same.
    fn head(&self, login: &Login<'_>) -> Vec<u8> {
        let mut agreed = self.agreed();
        if login.encrypted {
            agreed |= can::TLS;
        }
        if login.database().is_some() {
            agreed |= can::DATABASE;
        }
        // Without it the capabilities beyond 32 count.
        agreed |= self.can & can::MYSQL;
        let mut head = Vec::with_capacity(32);
        head.extend(agreed.to_le_bytes());
        head.extend(u32::try_from(login.largest).unwrap_or(u32::MAX).to_le_bytes());
        head.push(UTF8MB4);
        head.extend([0; 19]);
        head.extend((self.more & can::PROGRESS).to_le_bytes());
        head
    }

    /// The answer: who we are, and the first proof of it by this method.
    pub(crate) fn answer(&self, login: &Login<'_>, method: &str, proof: &[u8]) -> Vec<u8> {
        let agreed = self.agreed();
        let mut answer = self.head(login);
        put(login.user, &mut answer);
        answer.push(proof.len() as u8);
        answer.extend(proof);
        if let Some(database) = login.database() {
            put(database, &mut answer);
        }
        if agreed & can::METHODS != 0 {
            put(method, &mut answer);
        }
        if agreed & can::ATTRIBUTES != 0 {
            let mut attributes = Vec::new();
            put_bytes(b"program_name", &mut attributes);
            put_bytes(login.program.as_bytes(), &mut attributes);
            put_bytes(&attributes, &mut answer);
        }
        answer
    }
}

/// Adds a text and the zero that ends it.
fn put(text: &str, into: &mut Vec<u8>) {
    into.extend(text.bytes().filter(|byte| *byte != 0));
    into.push(0);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A greeting as a server writes it.
    fn written(can: u32, more: u32, method: &str) -> Vec<u8> {
        let mut written = vec![10];
        written.extend(b"11.4.2-ferry\0");
        written.extend(77_u32.to_le_bytes());
        written.extend(b"abcdefgh\0");
        written.extend((can as u16).to_le_bytes());
        written.push(45);
        written.extend(2_u16.to_le_bytes());
        written.extend(((can >> 16) as u16).to_le_bytes());
        written.push(21);
        written.extend([0; 6]);
        written.extend(more.to_le_bytes());
        written.extend(b"ijklmnopqrst\0");
        written.extend(method.as_bytes());
        written.push(0);
        written
    }

    #[test]
    fn a_greeting_is_read() {
        let can = OURS | can::TLS;
        let greeting = Greeting::read(&written(can, 5, "mysql_native_password")).unwrap();
        assert_eq!((greeting.version.as_str(), greeting.id, greeting.more), ("11.4.2-ferry", 77, 5));
        assert_eq!((greeting.nonce.as_slice(), greeting.status), (&b"abcdefghijklmnopqrst"[..], 2));
        assert_eq!((greeting.method.as_str(), greeting.has_tls()), ("mysql_native_password", true));
        // That of MySQL has nothing of MariaDB's.
        assert_eq!(Greeting::read(&written(can | can::MYSQL, 5, "")).unwrap().more, 0);
    }

    proptest! {
        #[test]
        fn hostile_greetings_are_read_as_far_as_they_go(bytes: Vec<u8>, cut in 0_usize..90) {
            Greeting::read(&bytes);
            let mut written = written(u32::MAX, 1, "x");
            written.truncate(cut);
            Greeting::read(&written);
        }
    }
}
