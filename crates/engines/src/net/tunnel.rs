//! Through an SSH server.

use jaunty_core::connection::Profile;
use jaunty_core::engine::{EngineError, Step};

use super::reach::{Address, Stream};

/// A connection to an SSH server, which carries others.
pub struct Tunnel {}

impl Tunnel {
    /// Opens the one that a profile names.
    pub async fn open(_: &Profile) -> Result<Tunnel, EngineError> {
        Err(EngineError::connecting(Step::Tunnel, "tunnels are not built yet"))
    }

    /// The SSH server, as the profile names it.
    pub fn name(&self) -> &str {
        ""
    }

    /// A stream to an address as seen from the other end.
    pub async fn stream(&self, _: &Address) -> Result<Stream, EngineError> {
        Err(EngineError::connecting(Step::Tunnel, "tunnels are not built yet"))
    }
}
