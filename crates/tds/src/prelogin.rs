//! What both sides tell before the login ([MS-TDS] 2.2.6.5).

use crate::Error;

/// What a side says of encryption.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encryption {
    /// For the login alone.
    Off,
    /// For everything.
    On,
    /// It has none.
    NotSupported,
    /// There is no connection without.
    Required,
}

impl Encryption {
    fn byte(self) -> u8 {
        match self {
            Encryption::Off => 0,
            Encryption::On => 1,
            Encryption::NotSupported => 2,
            Encryption::Required => 3,
        }
    }

    fn of(byte: u8) -> Option<Encryption> {
        Some(match byte {
            0 => Encryption::Off,
            1 => Encryption::On,
            2 => Encryption::NotSupported,
            3 => Encryption::Required,
            _ => return None,
        })
    }
}

/// What a client tells.
#[derive(Debug, Clone, Copy)]
pub struct Prelogin<'a> {
    /// What it wishes.
    pub encryption: Encryption,
    /// The instance that is meant, as the server checks it; empty for whichever is there.
    pub instance: &'a str,
    /// The login is by an access token.
    pub token: bool,
}

/// What a server answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Answer {
    /// What holds.
    pub encryption: Encryption,
    /// Whether its instance has the name that was sent, where it tells.
    pub right_instance: bool,
    /// It has heard that a token comes.
    pub token: bool,
}

const VERSION: u8 = 0;
const ENCRYPTION: u8 = 1;
const INSTANCE: u8 = 2;
const THREAD: u8 = 3;
const SEVERAL_AT_ONCE: u8 = 4;
const TOKEN: u8 = 6;
const END: u8 = 0xFF;

impl Prelogin<'_> {
    /// The message.
    pub fn written(&self) -> Vec<u8> {
        let mut instance = self.instance.as_bytes().to_vec();
        instance.push(0);
        let mut options: Vec<(u8, Vec<u8>)> = vec![
            (VERSION, vec![1, 0, 0, 0, 0, 0]),
            (ENCRYPTION, vec![self.encryption.byte()]),
            (INSTANCE, instance),
            (THREAD, vec![0; 4]),
            (SEVERAL_AT_ONCE, vec![0]),
        ];
        if self.token {
            options.push((TOKEN, vec![1]));
        }
        let (mut heads, mut data) = (Vec::new(), Vec::<u8>::new());
        let mut offset = options.len() * 5 + 1;
        for (option, value) in &options {
            heads.push(*option);
            heads.extend((offset as u16).to_be_bytes());
            heads.extend((value.len() as u16).to_be_bytes());
            data.extend(value);
            offset += value.len();
        }
        heads.push(END);
        heads.extend(data);
        heads
    }
}

impl Answer {
    /// Reads what a server answers.
    pub fn read(message: &[u8]) -> Result<Answer, Error> {
        let broken = Error::Broken("the prelogin cannot be read");
        let mut answer = Answer { encryption: Encryption::NotSupported, right_instance: true, token: false };
        let mut at = 0;
        loop {
            let head = message.get(at..);
            match head {
                Some([END, ..]) => return Ok(answer),
                Some([option, o1, o2, l1, l2, ..]) => {
                    let (offset, length) = (u16::from_be_bytes([*o1, *o2]), u16::from_be_bytes([*l1, *l2]));
                    let start = usize::from(offset);
                    let Some(value) = message.get(start..start + usize::from(length)) else { return Err(broken) };
                    match (*option, value.first()) {
                        (ENCRYPTION, Some(byte)) => match Encryption::of(*byte) {
                            Some(encryption) => answer.encryption = encryption,
                            None => return Err(broken),
                        },
                        (INSTANCE, Some(byte)) => answer.right_instance = *byte == 0,
                        (TOKEN, Some(byte)) => answer.token = *byte == 1,
                        _ => {}
                    }
                    at += 5;
                }
                _ => return Err(broken),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_as_the_specification_says() {
        let written = Prelogin { encryption: Encryption::On, instance: "quay", token: true }.written();
        let answer = Answer::read(&written).unwrap();
        assert_eq!((answer.encryption, answer.token), (Encryption::On, true));
        // The example of section 4.2 of the specification: encryption is off.
        let example = [
            0x00, 0x00, 0x1A, 0x00, 0x06, 0x01, 0x00, 0x20, 0x00, 0x01, 0x02, 0x00, 0x21, 0x00, 0x01, 0x03, 0x00, 0x22,
            0x00, 0x00, 0x04, 0x00, 0x22, 0x00, 0x01, 0xFF, 0x09, 0x00, 0x00, 0x00, 0x00, 0x00, 0x01, 0x00, 0x00,
        ];
        let answer = Answer::read(&example).unwrap();
        assert_eq!((answer.encryption, answer.right_instance, answer.token), (Encryption::On, true, false));
    }

    #[test]
    fn what_points_beyond_its_end_is_refused() {
        for message in [&[][..], &[1], &[1, 0, 6, 0, 1], &[1, 0, 200, 0, 1, 0xFF], &[1, 0, 6, 0, 1, 0xFF, 9]] {
            assert!(Answer::read(message).is_err(), "{message:?}");
        }
    }
}
