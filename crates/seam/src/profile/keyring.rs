//! The keyring of the desktop, where there is one.

use crate::error::{EngineError, Step};
use crate::profile::Secret;

#[cfg(feature = "keyring")]
const SERVICE: &str = "jaunty";

/// Reads the secret that the keyring keeps for a profile.
#[cfg(feature = "keyring")]
pub fn read(name: &str) -> Result<Secret, EngineError> {
    use keyring::v1::Entry;
    let failed = |what: String| {
        EngineError::connecting(Step::Secret, format!("the keyring has no password for {name}: {what}"))
            .remedy("Give it here for this session, or name another source under secret.")
    };
    let entry = Entry::new(SERVICE, name).map_err(|error| failed(error.to_string()))?;
    entry.get_password().map(Secret::new).map_err(|error| failed(error.to_string()))
}

/// Says that this program was built without a keyring.
#[cfg(not(feature = "keyring"))]
pub fn read(name: &str) -> Result<Secret, EngineError> {
    let message = format!("{name} keeps its password in the keyring, and this program was built without one");
    Err(EngineError::connecting(Step::Secret, message)
        .remedy("Give it here for this session, or build with the feature \"keyring\"."))
}
