//! The login ([MS-TDS] 2.2.6.4).

use crate::text::utf16;

/// TDS 7.4.
const VERSION_7: u32 = 0x7400_0004;
/// TDS 8.0.
const VERSION_8: u32 = 0x0800_0000;

/// Fails where the database or the language is not there, and tells of both.
const FLAGS_1: u8 = 0xE0;
/// The language has to be there; the session has the settings of the standard.
const FLAGS_2: u8 = 0x03;
/// The session only reads.
const READ_INTENT: u8 = 0x20;
/// Features follow, and collations that are not known are taken.
const FLAGS_3: u8 = 0x18;

const FEATURE_TOKEN: u8 = 0x02;
const FEATURE_UTF8: u8 = 0x0A;
const FEATURES_END: u8 = 0xFF;
/// A token that the client has got for itself.
const SECURITY_TOKEN: u8 = 0x01;

/// Who comes, and with what.
#[derive(Debug, Clone, Copy)]
pub enum Who<'a> {
    /// A login of the server.
    Password {
        /// Its name.
        user: &'a str,
        /// Its password.
        password: &'a str,
    },
    /// A user of a directory, by an access token.
    Token {
        /// The token.
        token: &'a str,
        /// Whether the server has told that it expects one.
        told: bool,
    },
}

/// A login.
#[derive(Debug, Clone, Copy)]
pub struct Login<'a> {
    /// Who.
    pub who: Who<'a>,
    /// The machine that it comes from, as the server's list of sessions shows it.
    pub machine: &'a str,
    /// The program, likewise.
    pub program: &'a str,
    /// The server, as the client calls it.
    pub server: &'a str,
    /// The database to begin in; empty for the login's own.
    pub database: &'a str,
    /// How large packets may be.
    pub packet: u32,
    /// The session only reads, so that another server may take it.
    pub reads: bool,
    /// TLS came first.
    pub tls_first: bool,
}

/// How many bytes stand before the texts.
const FIXED: usize = 94;

impl Login<'_> {
    /// The message.
    pub fn written(&self) -> Vec<u8> {
        let (user, password) = match self.who {
            Who::Password { user, password } => (user, password),
            Who::Token { .. } => ("", ""),
        };
        let mut hidden = utf16(password);
        hidden.iter_mut().for_each(|byte| *byte = byte.rotate_left(4) ^ 0xA5);
        // The extension holds the place of the features.
        let texts: [Option<Vec<u8>>; 9] = [
            Some(utf16(self.machine)),
            Some(utf16(user)),
            Some(hidden),
            Some(utf16(self.program)),
            Some(utf16(self.server)),
            None,
            Some(utf16(self.program)),
            Some(Vec::new()),
            Some(utf16(self.database)),
        ];
        let (mut places, mut data) = (Vec::new(), Vec::new());
        let mut pointer = 0;
        for text in &texts {
            places.extend(((FIXED + data.len()) as u16).to_le_bytes());
            match text {
                Some(text) => {
                    places.extend(((text.len() / 2) as u16).to_le_bytes());
                    data.extend(text);
                }
                None => {
                    places.extend(4_u16.to_le_bytes());
                    pointer = data.len();
                    data.extend([0; 4]);
                }
            }
        }
        let end = (FIXED + data.len()) as u32;
        if let Some(place) = data.get_mut(pointer..pointer + 4) {
            place.copy_from_slice(&end.to_le_bytes());
        }
        places.extend([0; 6]);
        for _ in 0..3 {
            places.extend((end as u16).to_le_bytes());
            places.extend(0_u16.to_le_bytes());
        }
        places.extend(0_u32.to_le_bytes());
        data.extend(self.features());

        let mut message = Vec::with_capacity(FIXED + data.len());
        message.extend(((FIXED + data.len()) as u32).to_le_bytes());
        message.extend(if self.tls_first { VERSION_8 } else { VERSION_7 }.to_le_bytes());
        message.extend(self.packet.to_le_bytes());
        message.extend(1_u32.to_be_bytes());
        message.extend(std::process::id().to_le_bytes());
        message.extend(0_u32.to_le_bytes());
        message.extend([FLAGS_1, FLAGS_2, if self.reads { READ_INTENT } else { 0 }, FLAGS_3]);
        // Neither our time zone nor our language counts for the server.
        message.extend(0_u32.to_le_bytes());
        message.extend(0x0409_u32.to_le_bytes());
        message.extend(places);
        message.extend(data);
        message
    }

    fn features(&self) -> Vec<u8> {
        let mut features = Vec::new();
        if let Who::Token { token, told } = self.who {
            let token = utf16(token);
            features.push(FEATURE_TOKEN);
            features.extend((token.len() as u32 + 5).to_le_bytes());
            features.push(SECURITY_TOKEN << 1 | u8::from(told));
            features.extend((token.len() as u32).to_le_bytes());
            features.extend(token);
        }
        features.push(FEATURE_UTF8);
        features.extend(0_u32.to_le_bytes());
        features.push(FEATURES_END);
        features
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn login(who: Who<'_>) -> Vec<u8> {
        let login = Login {
            who,
            machine: "pier",
            program: "jaunty",
            server: "quay",
            database: "ferry",
            packet: 8000,
            reads: true,
            tls_first: false,
        };
        login.written()
    }

    /// The text at the place that stands at this byte.
    fn text(message: &[u8], at: usize) -> Vec<u8> {
        let number = |at: usize| usize::from(u16::from_le_bytes([message[at], message[at + 1]]));
        message[number(at)..number(at) + 2 * number(at + 2)].to_vec()
    }

    #[test]
    fn texts_stand_where_their_places_say() {
        let message = login(Who::Password { user: "clerk", password: "é1" });
        assert_eq!(u32::from_le_bytes(message[..4].try_into().unwrap()) as usize, message.len());
        for (at, expected) in [(36, "pier"), (40, "clerk"), (48, "jaunty"), (52, "quay"), (68, "ferry")] {
            assert_eq!(text(&message, at), utf16(expected), "{expected}");
        }
        // Each byte with its halves exchanged, and then turned by A5: the example of the specification, 2.2.6.4.
        assert_eq!(text(&message, 44), [0xE9_u8, 0, 0x31, 0].map(|byte| byte.rotate_left(4) ^ 0xA5));
        assert_eq!(message[26], READ_INTENT);
    }

    #[test]
    fn a_token_is_a_feature() {
        let message = login(Who::Token { token: "abc", told: true });
        let pointer = u16::from_le_bytes([message[56], message[57]]) as usize;
        let features = u32::from_le_bytes(message[pointer..pointer + 4].try_into().unwrap()) as usize;
        assert_eq!(message[features..features + 6], [FEATURE_TOKEN, 11, 0, 0, 0, 3]);
        assert_eq!(message[message.len() - 6..], [FEATURE_UTF8, 0, 0, 0, 0, FEATURES_END]);
    }
}
