//! Authentication plugins: what is sent for a password (MySQL Source Code Documentation, "Authentication Methods";
//! MariaDB Server Documentation, "Authentication Plugins").

use curve25519_dalek::{EdwardsPoint, Scalar};
use ed25519_dalek::{Signer as _, SigningKey};
use rsa::pkcs8::DecodePublicKey as _;
use rsa::rand_core::UnwrapErr;
use rsa::{Oaep, RsaPublicKey};
use sha1::Sha1;
use sha2::{Digest as _, Sha256, Sha512};
use zeroize::Zeroizing;

use crate::Error;

/// An authentication plugin.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AuthPlugin {
    /// `mysql_native_password`: by SHA-1.
    Native,
    /// `caching_sha2_password`: by SHA-256, and the password itself where the server does not know it yet.
    Sha2,
    /// `client_ed25519`: a signature with a key made of the password.
    Ed25519,
    /// `parsec`: a signature with a key made of the password and a salt that is asked for.
    Parsec,
    /// `mysql_clear_password`: the password itself.
    Clear,
}

impl AuthPlugin {
    const ALL: [(&str, AuthPlugin); 5] = [
        ("mysql_native_password", AuthPlugin::Native),
        ("caching_sha2_password", AuthPlugin::Sha2),
        ("client_ed25519", AuthPlugin::Ed25519),
        ("parsec", AuthPlugin::Parsec),
        ("mysql_clear_password", AuthPlugin::Clear),
    ];

    /// The plugin of a name.
    pub fn named(name: &str) -> Option<AuthPlugin> {
        AuthPlugin::ALL.into_iter().find(|(known, _)| *known == name).map(|(_, plugin)| plugin)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        AuthPlugin::ALL.into_iter().find(|(_, plugin)| *plugin == self).map_or("", |(name, _)| name)
    }

    /// The auth response for a password; empty where there is none.
    pub fn response(self, password: &str, nonce: &[u8]) -> Vec<u8> {
        match self {
            _ if password.is_empty() => Vec::new(),
            AuthPlugin::Native => native(password, nonce).to_vec(),
            AuthPlugin::Sha2 => sha2(password, nonce).to_vec(),
            AuthPlugin::Ed25519 => ed25519(password, nonce).to_vec(),
            // The salt is asked for by an empty message.
            AuthPlugin::Parsec => Vec::new(),
            AuthPlugin::Clear => with_zero(password).to_vec(),
        }
    }
}

/// The password with the zero that ends it.
pub fn with_zero(password: &str) -> Zeroizing<Vec<u8>> {
    let mut ended = Zeroizing::new(Vec::with_capacity(password.len() + 1));
    ended.extend(password.as_bytes());
    ended.push(0);
    ended
}

/// `SHA1(password) XOR SHA1(nonce, SHA1(SHA1(password)))`.
fn native(password: &str, nonce: &[u8]) -> [u8; 20] {
    let once = Sha1::digest(password);
    let twice = Sha1::digest(once);
    let both = Sha1::new().chain_update(nonce).chain_update(twice).finalize();
    std::array::from_fn(|at| once[at] ^ both[at])
}

/// `SHA256(password) XOR SHA256(SHA256(SHA256(password)), nonce)`.
fn sha2(password: &str, nonce: &[u8]) -> [u8; 32] {
    let once = Sha256::digest(password);
    let twice = Sha256::digest(once);
    let both = Sha256::new().chain_update(twice).chain_update(nonce).finalize();
    std::array::from_fn(|at| once[at] ^ both[at])
}

/// A signature of the nonce by Ed25519 (RFC 8032), whose key is not a seed: the password stands in its place.
fn ed25519(password: &str, nonce: &[u8]) -> [u8; 64] {
    let hashed = Zeroizing::new(<[u8; 64]>::from(Sha512::digest(password)));
    let (scalar, prefix) = hashed.split_at(32);
    let clamped = curve25519_dalek::scalar::clamp_integer(scalar.try_into().unwrap_or_default());
    let secret = Scalar::from_bytes_mod_order(clamped);
    let public = EdwardsPoint::mul_base(&secret).compress();
    let wide = |hash: Sha512| Scalar::from_bytes_mod_order_wide(&hash.finalize().into());
    let once = wide(Sha512::new().chain_update(prefix).chain_update(nonce));
    let point = EdwardsPoint::mul_base(&once).compress();
    let challenge =
        wide(Sha512::new().chain_update(point.as_bytes()).chain_update(public.as_bytes()).chain_update(nonce));
    let mut signature = [0; 64];
    signature[..32].copy_from_slice(point.as_bytes());
    signature[32..].copy_from_slice((challenge * secret + once).as_bytes());
    signature
}

/// The most that a server may ask for in rounds of hashing, as a power of two above 1024: some seconds of work.
const MOST_ROUNDS: u8 = 12;

/// What `parsec` answers to a salt: a nonce of our own, and a signature of the server's and ours.
pub fn parsec(password: &str, nonce: &[u8], salt: &[u8]) -> Result<Vec<u8>, Error> {
    let (b'P', factor @ ..=MOST_ROUNDS, salt) = (match salt {
        [kind, factor, salt @ ..] if nonce.len() == 32 => (*kind, *factor, salt),
        _ => return Err(Error::Broken("a salt of another kind")),
    }) else {
        return Err(Error::Broken("a salt of another kind"));
    };
    let mut ours = [0; 32];
    random(&mut ours)?;
    let mut seed = Zeroizing::new([0; 32]);
    pbkdf2::pbkdf2_hmac::<Sha512>(password.as_bytes(), salt, 1024 << factor, seed.as_mut());
    let signed = [nonce, &ours].concat();
    let signature = SigningKey::from_bytes(&seed).sign(&signed).to_bytes();
    Ok([ours.as_slice(), &signature].concat())
}

fn random(into: &mut [u8]) -> Result<(), Error> {
    getrandom::fill(into).map_err(|error| Error::Io(std::io::Error::other(error)))
}

/// The password for a server's public key, as `caching_sha2_password` sends it where nothing encrypts it: with the nonce
/// over it, by RSA with OAEP padding.
pub fn encrypted(password: &str, nonce: &[u8], key: &[u8]) -> Result<Vec<u8>, Error> {
    let key = std::str::from_utf8(key).ok().and_then(|pem| RsaPublicKey::from_public_key_pem(pem.trim()).ok());
    let key = key.ok_or(Error::Broken("what should be a public key"))?;
    let mut covered = with_zero(password);
    if nonce.is_empty() {
        return Err(Error::Broken("nothing to answer to"));
    }
    covered.iter_mut().zip(nonce.iter().cycle()).for_each(|(byte, over)| *byte ^= over);
    let padded = key.encrypt(&mut UnwrapErr(getrandom::SysRng), Oaep::<Sha1>::new(), &covered);
    padded.map_err(|_| Error::Broken("a public key too short for the password"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use ed25519_dalek::{Signature, Verifier as _};

    const NONCE: &[u8] = b"abcdefghijklmnopqrst";

    #[test]
    fn a_server_that_keeps_a_hash_finds_it_in_the_proof() {
        // The server keeps the hash of the hash, and finds the hash by what it knows.
        let response = AuthPlugin::Native.response("salt and fog", NONCE);
        let twice = Sha1::digest(Sha1::digest("salt and fog"));
        let both = Sha1::new().chain_update(NONCE).chain_update(twice).finalize();
        let once: Vec<u8> = response.iter().zip(both).map(|(response, both)| response ^ both).collect();
        assert_eq!(Sha1::digest(once), twice);
        let response = AuthPlugin::Sha2.response("salt and fog", NONCE);
        let twice = Sha256::digest(Sha256::digest("salt and fog"));
        let both = Sha256::new().chain_update(twice).chain_update(NONCE).finalize();
        let once: Vec<u8> = response.iter().zip(both).map(|(response, both)| response ^ both).collect();
        assert_eq!(Sha256::digest(once), twice);
    }

    #[test]
    fn without_a_password_there_is_nothing_to_prove() {
        for (name, plugin) in AuthPlugin::ALL {
            assert_eq!((AuthPlugin::named(name), plugin.name()), (Some(plugin), name));
            assert!(plugin.response("", NONCE).is_empty());
        }
        assert_eq!(AuthPlugin::named("dialog"), None);
    }

    #[test]
    fn signatures_are_those_of_the_key_that_the_password_makes() {
        let hashed = Sha512::digest("secret");
        let clamped = curve25519_dalek::scalar::clamp_integer(hashed[..32].try_into().unwrap());
        let public = EdwardsPoint::mul_base(&Scalar::from_bytes_mod_order(clamped)).compress();
        let key = ed25519_dalek::VerifyingKey::from_bytes(public.as_bytes()).unwrap();
        let signature = Signature::from_bytes(&ed25519("secret", NONCE));
        key.verify(NONCE, &signature).unwrap();
        assert!(key.verify(b"another", &signature).is_err());
    }

    #[test]
    fn a_salt_is_answered_with_a_signature_of_both_nonces() {
        let (nonce, salt) = ([7; 32], [b"P\0".as_slice(), &[9; 18]].concat());
        let answer = parsec("salt and fog", &nonce, &salt).unwrap();
        let (ours, signature) = answer.split_at(32);
        let mut seed = [0; 32];
        pbkdf2::pbkdf2_hmac::<Sha512>(b"salt and fog", &[9; 18], 1024, &mut seed);
        let signed = [&nonce, ours].concat();
        let signature = Signature::from_bytes(signature.try_into().unwrap());
        SigningKey::from_bytes(&seed).verifying_key().verify(&signed, &signature).unwrap();
        for hostile in [&b"P\x1Fxxxx"[..], b"Q\0xxxx", b"", b"P"] {
            assert!(matches!(parsec("x", &nonce, hostile), Err(Error::Broken(_))));
        }
    }

    #[test]
    fn the_owner_of_the_key_reads_the_password() {
        let key = rsa::RsaPrivateKey::new(&mut UnwrapErr(getrandom::SysRng), 1024).unwrap();
        let pem = rsa::pkcs8::EncodePublicKey::to_public_key_pem(&key.to_public_key(), Default::default()).unwrap();
        let sent = encrypted("salt and fog", NONCE, pem.as_bytes()).unwrap();
        let read = key.decrypt(Oaep::<Sha1>::new(), &sent).unwrap();
        let read: Vec<u8> = read.iter().zip(NONCE.iter().cycle()).map(|(byte, over)| byte ^ over).collect();
        assert_eq!(read, b"salt and fog\0");
        let long = "x".repeat(500);
        assert!(matches!(encrypted(&long, NONCE, pem.as_bytes()), Err(Error::Broken(_))));
        for hostile in [&b"none"[..], b"-----BEGIN PUBLIC KEY-----\nMIIB\n-----END PUBLIC KEY-----", b"\xFF"] {
            assert!(matches!(encrypted("x", NONCE, hostile), Err(Error::Broken(_))));
        }
    }
}
