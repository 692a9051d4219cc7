//! SCRAM: a password is proved without being sent (RFC 5802, RFC 7677, and "Authentication" of the protocol's
//! specifications, by which SHA-1 takes the MD5 of the password).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit as _, Mac as _};
use md5::Md5;
use sha1::Sha1;
use sha2::{Digest as _, Sha256};

use crate::Malformed;

/// By which digest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mechanism {
    /// `SCRAM-SHA-256`.
    Sha256,
    /// `SCRAM-SHA-1`.
    Sha1,
}

/// The fewest rounds that a server may ask for, and the most.
const ROUNDS: std::ops::RangeInclusive<u32> = 4096..=10_000_000;

impl Mechanism {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Mechanism::Sha256 => "SCRAM-SHA-256",
            Mechanism::Sha1 => "SCRAM-SHA-1",
        }
    }

    fn hmac(self, key: &[u8], text: &[u8]) -> Vec<u8> {
        // A key may have any length.
        match self {
            Mechanism::Sha256 => {
                Hmac::<Sha256>::new_from_slice(key).map(|mac| mac.chain_update(text).finalize().into_bytes().to_vec())
            }
            Mechanism::Sha1 => {
                Hmac::<Sha1>::new_from_slice(key).map(|mac| mac.chain_update(text).finalize().into_bytes().to_vec())
            }
        }
        .unwrap_or_default()
    }

    fn digest(self, text: &[u8]) -> Vec<u8> {
        match self {
            Mechanism::Sha256 => Sha256::digest(text).to_vec(),
            Mechanism::Sha1 => Sha1::digest(text).to_vec(),
        }
    }

    fn salted(self, password: &[u8], salt: &[u8], rounds: u32) -> Vec<u8> {
        match self {
            Mechanism::Sha256 => {
                let mut out = vec![0; 32];
                pbkdf2::pbkdf2_hmac::<Sha256>(password, salt, rounds, &mut out);
                out
            }
            Mechanism::Sha1 => {
                let mut out = vec![0; 20];
                pbkdf2::pbkdf2_hmac::<Sha1>(password, salt, rounds, &mut out);
                out
            }
        }
    }
}

/// A proof that has begun.
#[derive(Debug)]
pub struct Scram {
    mechanism: Mechanism,
    password: String,
    nonce: String,
    bare: String,
}

/// A proof whose answer is awaited.
#[derive(Debug)]
pub struct Proved {
    signature: Vec<u8>,
}

impl Scram {
    /// Begins one. `nonce` is text that nobody has used before.
    pub fn new(mechanism: Mechanism, user: &str, password: &str, nonce: &str) -> Scram {
        let password = match mechanism {
            Mechanism::Sha256 => password.to_owned(),
            Mechanism::Sha1 => crate::json::hex(&Md5::digest(format!("{user}:mongo:{password}"))),
        };
        let user = user.replace('=', "=3D").replace(',', "=2C");
        Scram { mechanism, password, nonce: nonce.to_owned(), bare: format!("n={user},r={nonce}") }
    }

    /// The first message.
    pub fn first(&self) -> Vec<u8> {
        format!("n,,{}", self.bare).into_bytes()
    }

    /// The second message, from what the server said to the first.
    pub fn second(self, challenge: &[u8]) -> Result<(Vec<u8>, Proved), Malformed> {
        let wrong = Malformed("the server's challenge cannot be read");
        let challenge = std::str::from_utf8(challenge).map_err(|_| wrong.clone())?;
        let part = |key: &str| challenge.split(',').find_map(|part| part.strip_prefix(key)).ok_or(wrong.clone());
        let (nonce, salt, rounds) = (part("r=")?, part("s=")?, part("i=")?);
        let salt = STANDARD.decode(salt).map_err(|_| wrong.clone())?;
        let rounds: u32 = rounds.parse().map_err(|_| wrong.clone())?;
        if !nonce.starts_with(&self.nonce) || nonce.len() == self.nonce.len() || !ROUNDS.contains(&rounds) {
            return Err(Malformed("the server's challenge is not valid"));
        }
        let without_proof = format!("c=biws,r={nonce}");
        let signed = format!("{},{challenge},{without_proof}", self.bare);
        let mechanism = self.mechanism;
        let salted = mechanism.salted(self.password.as_bytes(), &salt, rounds);
        let key = mechanism.hmac(&salted, b"Client Key");
        let signature = mechanism.hmac(&mechanism.digest(&key), signed.as_bytes());
        let proof: Vec<u8> = key.iter().zip(&signature).map(|(a, b)| a ^ b).collect();
        let signature = mechanism.hmac(&mechanism.hmac(&salted, b"Server Key"), signed.as_bytes());
        Ok((format!("{without_proof},p={}", STANDARD.encode(proof)).into_bytes(), Proved { signature }))
    }
}

impl Proved {
    /// Whether the server knows the password, too, by its last message.
    pub fn is_known(&self, last: &[u8]) -> bool {
        let told =
            std::str::from_utf8(last).ok().and_then(|last| last.split(',').find_map(|part| part.strip_prefix("v=")));
        told.and_then(|told| STANDARD.decode(told).ok()).is_some_and(|told| told == self.signature)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_example_of_rfc_7677() {
        let scram = Scram::new(Mechanism::Sha256, "user", "pencil", "rOprNGfwEbeRWgbNEkqO");
        assert_eq!(scram.first(), b"n,,n=user,r=rOprNGfwEbeRWgbNEkqO");
        let challenge = b"r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096";
        let (second, proved) = scram.second(challenge).unwrap();
        assert_eq!(
            second,
            b"c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ="
        );
        assert!(proved.is_known(b"v=6rriTRBi23WpRR/wtup+mMhUZUn/dB5nLTJRsjl95G4="));
        assert!(!proved.is_known(b"v=AAAA") && !proved.is_known(b"e=other-error"));
    }

    #[test]
    fn the_example_of_the_specification_for_sha_1() {
        let scram = Scram::new(Mechanism::Sha1, "user", "pencil", "fyko+d2lbbFgONRv9qkxdawL");
        let challenge =
            b"r=fyko+d2lbbFgONRv9qkxdawLHo+Vgk7qvUOKUwuWLIWg4l/9SraGMHEE,s=rQ9ZY3MntBeuP3E1TDVC4w==,i=10000";
        let (second, proved) = scram.second(challenge).unwrap();
        assert_eq!(
            second,
            b"c=biws,r=fyko+d2lbbFgONRv9qkxdawLHo+Vgk7qvUOKUwuWLIWg4l/9SraGMHEE,p=MC2T8BvbmWRckDw8oWl5IVghwCY="
        );
        assert!(proved.is_known(b"v=UMWeI25JD1yNYZRMpZ4VHvhZ9e0="));
    }

    #[test]
    fn a_challenge_that_may_not_be_sent_is_refused() {
        let second = |challenge: &[u8]| Scram::new(Mechanism::Sha256, "a", "b", "x").second(challenge).map(drop);
        for wrong in [
            &b""[..],
            b"r=x,s=AA==,i=4096",
            b"r=y1,s=AA==,i=4096",
            b"r=x1,s=AA==,i=1",
            b"r=x1,s=AA==,i=999999999",
            b"\xff",
        ] {
            assert!(second(wrong).is_err());
        }
    }
}
