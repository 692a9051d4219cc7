//! Where the secret of a profile comes from.
//!
//! In this order: what a person gave for this profile since the program started; what the profile
//! names (`secret`, `secret_command`, or `password` in plain text); the files of the server's own
//! clients. Where none of them has one the connection is tried without, and only a server that
//! wants a secret makes the program ask.

use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use zeroize::Zeroize;

use crate::error::{EngineError, Step};
use crate::profile::{Profile, Secret};

/// How long a `secret_command` may take: it may ask a person for a key.
const COMMAND_TIME: Duration = Duration::from_secs(60);

/// What a profile says of its secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SecretSource {
    /// Nothing: it may be that none is needed.
    Unsaid,
    /// It is asked for, and kept in memory only.
    Ask,
    /// An environment variable.
    Variable(String),
    /// The keyring of the desktop.
    Keyring,
    /// What a command prints.
    Command(String),
    /// It stands in the connections file.
    Plain,
}

impl SecretSource {
    /// What the profile says. Two sources in one profile are a mistake.
    pub fn of(profile: &Profile) -> Result<SecretSource, EngineError> {
        let mut sources = Vec::new();
        if let Some(word) = profile.text("secret") {
            sources.push(match word.split_once(':') {
                _ if word == "ask" => SecretSource::Ask,
                _ if word == "keyring" => SecretSource::Keyring,
                Some(("env", name)) if !name.is_empty() => SecretSource::Variable(name.to_owned()),
                // The word may be the secret itself, put in the wrong place: it is not repeated.
                _ => {
                    return Err(EngineError::connecting(Step::Profile, "secret is not a known source")
                        .remedy("Write secret = \"ask\", \"keyring\" or \"env:NAME\". A password in plain text goes under password."));
                }
            });
        }
        if let Some(command) = profile.text("secret_command") {
            sources.push(SecretSource::Command(command.to_owned()));
        }
        if profile.text("password").is_some() {
            sources.push(SecretSource::Plain);
        }
        match sources.len() {
            0 => Ok(SecretSource::Unsaid),
            1 => Ok(sources.remove(0)),
            _ => Err(EngineError::connecting(Step::Profile, "the profile has more than one source for its secret")
                .remedy("Keep one of secret, secret_command and password.")),
        }
    }
}

/// Finds the secret for a profile. `given` is what a person gave, `on_file` looks in the files of the server's own
/// clients. `None` means that nobody has one.
///
/// An error with [`Step::Secret`] means that a person is to be asked.
pub fn secret_for(
    profile: &Profile,
    given: Option<&Secret>,
    on_file: impl FnOnce(&Profile) -> Option<Secret>,
) -> Result<Option<Secret>, EngineError> {
    if let Some(secret) = given {
        return Ok(Some(secret.clone()));
    }
    match SecretSource::of(profile)? {
        SecretSource::Unsaid => Ok(on_file(profile)),
        SecretSource::Ask => {
            Err(EngineError::connecting(Step::Secret, format!("{} asks for its password each time", profile.name)))
        }
        SecretSource::Variable(name) => match std::env::var(&name) {
            Ok(text) if !text.is_empty() => Ok(Some(Secret::new(text))),
            _ => Err(EngineError::connecting(Step::Profile, format!("the environment variable {name} is not set"))
                .remedy(format!("Set {name} before starting jaunty, or name another source under secret."))),
        },
        SecretSource::Keyring => super::keyring::read(&profile.name).map(Some),
        SecretSource::Command(command) => printed(&command).map(Some),
        SecretSource::Plain => {
            if let Some(file) = profile.file.as_deref() {
                refuse_if_others_can_read(file)?;
            }
            Ok(profile.text("password").map(|text| Secret::new(text.to_owned())))
        }
    }
}

/// A password in plain text counts only in a file that nobody else can read.
fn refuse_if_others_can_read(file: &Path) -> Result<(), EngineError> {
    #[cfg(unix)]
    if let Ok(found) = std::fs::metadata(file) {
        use std::os::unix::fs::PermissionsExt;
        if found.permissions().mode() & 0o077 != 0 {
            let message = format!("{} contains a password and can be read by others", file.display());
            let remedy = format!("Run: chmod 600 {}", file.display());
            return Err(EngineError::connecting(Step::Profile, message).remedy(remedy));
        }
    }
    Ok(())
}

/// The first line that a command prints, as a secret.
pub fn printed(command: &str) -> Result<Secret, EngineError> {
    printed_by(command, COMMAND_TIME)
}

/// The first line that a command prints. Its standard error is not read: a command that fails may repeat there what it
/// was given.
fn printed_by(command: &str, time: Duration) -> Result<Secret, EngineError> {
    let failed = |what: String| {
        EngineError::connecting(Step::Profile, format!("the secret_command {what}"))
            .remedy("Run it in a shell: it must print the password as its first line and exit with status 0.")
    };
    let mut child = Command::new("/bin/sh")
        .args(["-c", command])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .map_err(|error| failed(format!("cannot be started: {error}")))?;
    // Read aside, so that a command that prints much does not wait for us.
    let mut stdout = child.stdout.take();
    let reader = std::thread::spawn(move || {
        let mut text = String::new();
        let read = stdout.as_mut().map(|out| out.take(64 << 10).read_to_string(&mut text));
        read.transpose().map(|_| text)
    });
    let since = Instant::now();
    let status = loop {
        match child.try_wait() {
            Ok(Some(status)) => break status,
            Ok(None) if since.elapsed() < time => std::thread::sleep(Duration::from_millis(10)),
            Ok(None) => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(failed(format!("did not end within {} seconds", time.as_secs())));
            }
            Err(error) => return Err(failed(format!("cannot be waited for: {error}"))),
        }
    };
    if !status.success() {
        return Err(failed(format!(
            "ended with {}; what it wrote to its standard error is not shown, since a secret may stand in it",
            status.code().unwrap_or(-1)
        )));
    }
    let mut text = match reader.join() {
        Ok(Ok(text)) => text,
        _ => return Err(failed("printed something that is not text".into())),
    };
    let first = text.lines().next().unwrap_or_default().to_owned();
    text.zeroize();
    if first.is_empty() {
        return Err(failed("printed nothing".into()));
    }
    Ok(Secret::new(first))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn profile() -> Profile {
        Profile::new("bookings", "quay")
    }

    #[test]
    fn each_source_is_told_from_the_others() {
        for (key, value, source) in [
            ("secret", "ask", SecretSource::Ask),
            ("secret", "keyring", SecretSource::Keyring),
            ("secret", "env:FERRY_PW", SecretSource::Variable("FERRY_PW".into())),
            ("secret_command", "echo x", SecretSource::Command("echo x".into())),
            ("password", "x", SecretSource::Plain),
        ] {
            assert_eq!(SecretSource::of(&profile().with(key, value)), Ok(source));
        }
        assert_eq!(SecretSource::of(&profile()), Ok(SecretSource::Unsaid));
        assert!(SecretSource::of(&profile().with("secret", "ask").with("password", "x")).is_err());
    }

    #[test]
    fn a_secret_in_the_wrong_place_is_not_repeated() {
        let error = SecretSource::of(&profile().with("secret", "tide-table-9")).unwrap_err();
        assert!(!format!("{error:?}").contains("tide"), "{error:?}");
    }

    #[test]
    fn a_command_gives_its_first_line() {
        assert_eq!(printed_by("printf 'tide 9\\nuser: clerk\\n'", COMMAND_TIME).unwrap().reveal(), "tide 9");
    }

    #[test]
    fn a_command_that_fails_says_how() {
        for (command, expected) in [
            (
                "echo tide-table-9 >&2; exit 3",
                "the secret_command ended with 3; what it wrote to its standard error is not shown, since a secret may stand in it",
            ),
            ("true", "the secret_command printed nothing"),
            ("sleep 60", "the secret_command did not end within 0 seconds"),
        ] {
            let time = if command.starts_with("sleep") { Duration::ZERO } else { COMMAND_TIME };
            let error = printed_by(command, time).unwrap_err();
            assert_eq!((error.message.as_str(), error.step), (expected, Some(Step::Profile)));
        }
    }

    #[cfg(unix)]
    #[test]
    fn a_password_in_a_file_that_others_can_read_is_refused() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("connections.toml");
        std::fs::write(&file, "").unwrap();
        for (mode, fine) in [(0o600, true), (0o640, false), (0o604, false)] {
            std::fs::set_permissions(&file, PermissionsExt::from_mode(mode)).unwrap();
            assert_eq!(refuse_if_others_can_read(&file).is_ok(), fine, "{mode:o}");
        }
    }
}
