//! From a profile to a session: the one way in, for the screen and without it.

use super::guarded::Guarded;
use crate::connection::url;
use jaunty_seam::engine::{Attempt, Engine, NoPrompt, Prompt, Session, Stop};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::{Guard, Profile, Secret, source};

/// Opens a session of a profile, with nobody there to be asked or to give up. `given` is a secret that a person gave.
///
/// The error says at which step it failed; with [`jaunty_seam::error::Step::Secret`] a person is to be
/// asked.
pub fn open(
    engine: &'static dyn Engine,
    profile: &Profile,
    given: Option<&Secret>,
) -> Result<Box<dyn Session>, EngineError> {
    open_asking(engine, profile, given, &NoPrompt, &Stop::default())
}

/// Opens a session of a profile; what else is wanted is asked through `prompt`, until `stop`.
pub fn open_asking(
    engine: &'static dyn Engine,
    profile: &Profile,
    given: Option<&Secret>,
    prompt: &dyn Prompt,
    stop: &Stop,
) -> Result<Box<dyn Session>, EngineError> {
    let settled = url::settled(profile, &[engine])?;
    let secret = source::secret_for(&settled, given, |profile| engine.secret_on_file(profile))?;
    let attempt = Attempt { profile: &settled, secret: secret.as_ref(), prompt, stop: stop.clone() };
    let session = engine.connect(&attempt)?;
    Ok(match profile.guard {
        Guard::ReadOnly => Box::new(Guarded { session, dialect: engine.dialect() }),
        Guard::Ask | Guard::Open => session,
    })
}
