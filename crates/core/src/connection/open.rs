//! From a profile to a session: the one way in, for the screen and without it.

use super::guarded::Guarded;
use crate::connection::url;
use jaunty_seam::engine::{Engine, Place, Session};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile, Secret, source};

/// Opens a session of a profile. `given` is a secret that a person gave for it.
///
/// The error says at which step it failed; with [`jaunty_seam::error::Step::Secret`] a person is to be
/// asked.
pub fn open(
    engine: &'static dyn Engine,
    profile: &Profile,
    given: Option<&Secret>,
) -> Result<(Box<dyn Session>, Place), EngineError> {
    let settled = url::settled(profile, &[engine])?;
    let secret = source::secret_for(&settled, given, |profile| engine.secret_on_file(profile))?;
    let session = engine.connect(&settled, secret.as_ref())?;
    let mut session: Box<dyn Session> = match profile.guard {
        Guard::ReadOnly => Box::new(Guarded { session, dialect: engine.dialect() }),
        Guard::Ask | Guard::Open => session,
    };
    let place = session.place().map_err(|error| EngineError { kind: ErrorKind::Connect, ..error })?;
    Ok((session, place))
}
