//! Who somebody is: SCRAM in both digests (RFC 5802, RFC 7677), PLAIN (RFC 4616) and a certificate.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit as _, Mac as _};
use sha1::Sha1;
use sha2::{Digest as _, Sha256};

use super::failure::Failure;

/// How often a password is gone over.
const ROUNDS: u32 = 4096;

/// A conversation that goes on.
pub struct Conversation {
    sha1: bool,
    user: String,
    /// The first message of the client, without its head, and our answer.
    begun: String,
    nonce: String,
    salt: Vec<u8>,
}

fn refused() -> Failure {
    Failure::new(18, "AuthenticationFailed", "Authentication failed.")
}

/// A hash of a key and a text, by one of the digests.
fn mac(sha1: bool, key: &[u8], text: &[u8]) -> Vec<u8> {
    if sha1 {
        Hmac::<Sha1>::new_from_slice(key).map(|mac| mac.chain_update(text).finalize().into_bytes().to_vec())
    } else {
        Hmac::<Sha256>::new_from_slice(key).map(|mac| mac.chain_update(text).finalize().into_bytes().to_vec())
    }
    .unwrap_or_default()
}

fn digest(sha1: bool, of: &[u8]) -> Vec<u8> {
    if sha1 { Sha1::digest(of).to_vec() } else { Sha256::digest(of).to_vec() }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn part<'a>(message: &'a str, name: &str) -> Option<&'a str> {
    message.split(',').find_map(|part| part.strip_prefix(name)?.strip_prefix('='))
}

/// The first message of a client, and the answer to it.
pub fn begin(mechanism: &str, payload: &[u8]) -> Result<(Conversation, Vec<u8>), Failure> {
    let sha1 = match mechanism {
        "SCRAM-SHA-256" => false,
        "SCRAM-SHA-1" => true,
        other => {
            let what = format!("Received authentication for mechanism {other} which is not enabled");
            return Err(Failure::new(334, "MechanismUnavailable", what));
        }
    };
    let text = std::str::from_utf8(payload).map_err(|_| refused())?;
    let bare = text.strip_prefix("n,,").ok_or_else(refused)?;
    let user = part(bare, "n").ok_or_else(refused)?.replace("=2C", ",").replace("=3D", "=");
    let own: u64 = (super::expression::chance() * 1e18) as u64;
    let nonce = format!("{}{own:016x}", part(bare, "r").ok_or_else(refused)?);
    let salt = digest(false, nonce.as_bytes()).into_iter().take(if sha1 { 16 } else { 28 }).collect::<Vec<u8>>();
    let answer = format!("r={nonce},s={},i={ROUNDS}", STANDARD.encode(&salt));
    let begun = format!("{bare},{answer}");
    Ok((Conversation { sha1, user, begun, nonce, salt }, answer.into_bytes()))
}

impl Conversation {
    /// The proof of a client; what proves us to it.
    pub fn prove(&self, payload: &[u8], user: &str, password: &str) -> Result<Vec<u8>, Failure> {
        let text = std::str::from_utf8(payload).map_err(|_| refused())?;
        let (without, proof) = text.rsplit_once(",p=").ok_or_else(refused)?;
        let proof = STANDARD.decode(proof).map_err(|_| refused())?;
        if self.user != user || part(without, "r") != Some(&self.nonce) || part(without, "c") != Some("biws") {
            return Err(refused());
        }
        // The older digest takes another digest of the password, as the specification of the protocol has it.
        let password = match self.sha1 {
            true => hex(&md5::Md5::digest(format!("{user}:mongo:{password}"))),
            false => password.to_owned(),
        };
        let mut salted = vec![0; if self.sha1 { 20 } else { 32 }];
        if self.sha1 {
            pbkdf2::pbkdf2_hmac::<Sha1>(password.as_bytes(), &self.salt, ROUNDS, &mut salted);
        } else {
            pbkdf2::pbkdf2_hmac::<Sha256>(password.as_bytes(), &self.salt, ROUNDS, &mut salted);
        }
        let whole = format!("{},{without}", self.begun);
        let key = mac(self.sha1, &salted, b"Client Key");
        let signature = mac(self.sha1, &digest(self.sha1, &key), whole.as_bytes());
        let wanted: Vec<u8> = key.iter().zip(&signature).map(|(left, right)| left ^ right).collect();
        if wanted != proof {
            return Err(refused());
        }
        let own = mac(self.sha1, &mac(self.sha1, &salted, b"Server Key"), whole.as_bytes());
        Ok(format!("v={}", STANDARD.encode(own)).into_bytes())
    }
}

/// A password in plain text: nobody, the user and the password, with zeros between them.
pub fn plain(payload: &[u8], user: &str, password: &str) -> Result<(), Failure> {
    let mut parts = payload.split(|byte| *byte == 0).skip(1);
    if parts.next() == Some(user.as_bytes()) && parts.next() == Some(password.as_bytes()) {
        Ok(())
    } else {
        Err(refused())
    }
}
