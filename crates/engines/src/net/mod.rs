//! What engines of servers share: the keys of their profiles, the way to the server, TLS, and
//! waiting for a driver that is asynchronous.
//!
//! Connecting goes by steps, in this order: [`servers`] chooses one where a profile has several; [`reach`] finds the address and gets a stream to it,
//! perhaps through a [`tunnel`]; [`tls`] says how it is encrypted; the engine's own module logs in.
//! Each step has its own errors, so that a person knows which one failed.

pub mod feed;
pub mod formed;
pub mod keys;
pub mod limit;
pub mod reach;
pub mod servers;
pub mod tabbed;
pub mod tls;
pub mod tunnel;
pub mod work;

use std::sync::Once;

/// What to do where a server requires a password and has none, after a message that says so.
pub const GIVE_PASSWORD: &str = "Give it here, or name a source for it under secret.";

/// The same after a message that only says that the login failed.
pub const PASSWORD_REQUIRED: &str =
    "The server requires a password. Give it here, or name a source for it under secret.";

/// Makes the one provider of cryptography known to rustls, which refuses to choose between several
/// that drivers bring along.
pub fn prepare() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        // It fails only where one is installed already.
        let _ = rustls::crypto::ring::default_provider().install_default();
    });
}
