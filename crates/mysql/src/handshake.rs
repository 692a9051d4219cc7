//! What a server says first, and what is answered to it (MySQL Source Code Documentation, "Connection Phase"; for the
//! capabilities of MariaDB's own, MariaDB Server Documentation, "Connecting").

use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt as _};

use crate::fields::{Fields, put_bytes};
use crate::{Error, ServerError, packet, text};

/// Capability flags ("Capabilities Flags").
pub mod capability {
    /// MySQL's own; where a server leaves it out, it is MariaDB and has capabilities beyond the first 32.
    pub const CLIENT_MYSQL: u32 = 1;
    /// A database is named with the login.
    pub const CONNECT_WITH_DB: u32 = 1 << 3;
    /// Rows are sent for `LOAD DATA LOCAL`.
    pub const LOCAL_FILES: u32 = 1 << 7;
    /// The protocol since 4.1.
    pub const PROTOCOL_41: u32 = 1 << 9;
    /// TLS.
    pub const SSL: u32 = 1 << 11;
    /// The state of transactions is told.
    pub const TRANSACTIONS: u32 = 1 << 13;
    /// Auth responses of up to 255 bytes.
    pub const SECURE_CONNECTION: u32 = 1 << 15;
    /// Several statements in one request.
    pub const MULTI_STATEMENTS: u32 = 1 << 16;
    /// Several results of one statement.
    pub const MULTI_RESULTS: u32 = 1 << 17;
    /// Several results of one prepared statement.
    pub const PS_MULTI_RESULTS: u32 = 1 << 18;
    /// Authentication plugins have names.
    pub const PLUGIN_AUTH: u32 = 1 << 19;
    /// We say which program we are.
    pub const CONNECT_ATTRS: u32 = 1 << 20;
    /// No packet of its own between columns and rows.
    pub const DEPRECATE_EOF: u32 = 1 << 24;
    /// Among the capabilities beyond the first 32: how far a long statement is.
    pub const PROGRESS: u32 = 1;
    /// Among those, too: what a column's type is called where it has no number.
    pub const EXTENDED_METADATA: u32 = 1 << 3;
}

/// What we can do, where the server can too.
const OURS: u32 = capability::LOCAL_FILES
    | capability::PROTOCOL_41
    | capability::TRANSACTIONS
    | capability::SECURE_CONNECTION
    | capability::MULTI_STATEMENTS
    | capability::MULTI_RESULTS
    | capability::PS_MULTI_RESULTS
    | capability::PLUGIN_AUTH
    | capability::CONNECT_ATTRS
    | capability::DEPRECATE_EOF;

/// What we can do of MariaDB's own.
const OURS_EXTENDED: u32 = capability::PROGRESS | capability::EXTENDED_METADATA;

/// The number of the collation `utf8mb4_general_ci`: every server of the protocol has it since 5.5.3.
const UTF8MB4: u8 = 45;

/// The longest handshake packet that is taken.
const MOST: usize = 1 << 16;

/// Who logs in. It holds the password, and is not printed.
#[derive(Clone, Copy)]
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
pub struct Handshake {
    /// Its version, as it writes it.
    pub version: String,
    /// The number of the connection, by which `KILL` ends it from another one.
    pub id: u32,
    /// What the server can do: [`capability`].
    pub capabilities: u32,
    /// What it can do beyond that, of MariaDB's own.
    pub extended: u32,
    /// The state of the session.
    pub status: u16,
    /// The nonce of the auth response.
    pub nonce: Vec<u8>,
    /// Its default authentication plugin.
    pub plugin: String,
    /// The place of what is sent next.
    pub(crate) sequence: u8,
}

impl Handshake {
    /// Reads it from a stream, and not a byte more.
    pub async fn receive<S: AsyncRead + Unpin>(stream: &mut S) -> Result<Handshake, Error> {
        let (sequence, payload) = packet::single(stream, MOST).await?;
        if payload.first() == Some(&0xFF) {
            return Err(match ServerError::read(&payload) {
                Some(error) => Error::Server(error),
                None => Error::Broken("an error that ends in the middle"),
            });
        }
        if payload.first() != Some(&10) {
            return Err(Error::Broken("a handshake of another version of the protocol"));
        }
        let handshake = Handshake::read(&payload).ok_or(Error::Broken("a handshake that ends in the middle"))?;
        if handshake.capabilities & capability::PROTOCOL_41 == 0 {
            return Err(Error::Broken("the server is from before version 4.1"));
        }
        Ok(Handshake { sequence: sequence.wrapping_add(1), ..handshake })
    }

    fn read(payload: &[u8]) -> Option<Handshake> {
        let mut fields = Fields::of(payload.get(1..)?);
        let version = text(fields.until_zero());
        let id = fields.u32()?;
        let mut nonce = fields.take(8)?.to_vec();
        fields.take(1)?;
        let low = fields.u16()?;
        let mut handshake = Handshake { version, id, capabilities: u32::from(low), ..Handshake::default() };
        if !fields.is_empty() {
            fields.take(1)?;
            handshake.status = fields.u16()?;
            handshake.capabilities |= u32::from(fields.u16()?) << 16;
            let length = usize::from(fields.u8()?);
            fields.take(6)?;
            let more = fields.u32()?;
            handshake.extended = if handshake.capabilities & capability::CLIENT_MYSQL == 0 { more } else { 0 };
            if handshake.capabilities & capability::SECURE_CONNECTION != 0 {
                // Its last byte is a zero.
                nonce.extend(fields.take(length.saturating_sub(8).max(13))?);
                nonce.pop();
            }
            if handshake.capabilities & capability::PLUGIN_AUTH != 0 {
                handshake.plugin = text(fields.until_zero());
            }
        }
        handshake.nonce = nonce;
        Some(handshake)
    }

    /// Whether it can encrypt.
    pub fn has_tls(&self) -> bool {
        self.capabilities & capability::SSL != 0
    }

    /// What is agreed on.
    pub(crate) fn agreed(&self) -> u32 {
        self.capabilities & OURS
    }

    /// What is agreed on of MariaDB's own.
    pub(crate) fn agreed_extended(&self) -> u32 {
        self.extended & OURS_EXTENDED
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
            agreed |= capability::SSL;
        }
        if login.database().is_some() {
            agreed |= capability::CONNECT_WITH_DB;
        }
        // Without it the capabilities beyond 32 count.
        agreed |= self.capabilities & capability::CLIENT_MYSQL;
        let mut head = Vec::with_capacity(32);
        head.extend(agreed.to_le_bytes());
        head.extend(u32::try_from(login.largest).unwrap_or(u32::MAX).to_le_bytes());
        head.push(UTF8MB4);
        head.extend([0; 19]);
        head.extend(self.agreed_extended().to_le_bytes());
        head
    }

    /// The handshake response packet, with the auth response of this plugin.
    pub(crate) fn answer(&self, login: &Login<'_>, plugin: &str, response: &[u8]) -> Vec<u8> {
        let agreed = self.agreed();
        let mut answer = self.head(login);
        put(login.user, &mut answer);
        answer.push(response.len() as u8);
        answer.extend(response);
        if let Some(database) = login.database() {
            put(database, &mut answer);
        }
        if agreed & capability::PLUGIN_AUTH != 0 {
            put(plugin, &mut answer);
        }
        if agreed & capability::CONNECT_ATTRS != 0 {
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

    /// A handshake packet as a server writes it.
    fn written(can: u32, more: u32, plugin: &str) -> Vec<u8> {
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
        written.extend(plugin.as_bytes());
        written.push(0);
        written
    }

    #[test]
    fn a_handshake_packet_is_read() {
        let can = OURS | capability::SSL;
        let handshake = Handshake::read(&written(can, 5, "mysql_native_password")).unwrap();
        assert_eq!((handshake.version.as_str(), handshake.id, handshake.extended), ("11.4.2-ferry", 77, 5));
        assert_eq!((handshake.nonce.as_slice(), handshake.status), (&b"abcdefghijklmnopqrst"[..], 2));
        assert_eq!((handshake.plugin.as_str(), handshake.has_tls()), ("mysql_native_password", true));
        // That of MySQL has nothing of MariaDB's.
        assert_eq!(Handshake::read(&written(can | capability::CLIENT_MYSQL, 5, "")).unwrap().extended, 0);
    }

    proptest! {
        #[test]
        fn hostile_handshakes_are_read_as_far_as_they_go(bytes: Vec<u8>, cut in 0_usize..90) {
            Handshake::read(&bytes);
            let mut written = written(u32::MAX, 1, "x");
            written.truncate(cut);
            Handshake::read(&written);
        }
    }
}
