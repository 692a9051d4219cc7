//! Consent to a profile of a project that runs a command, or takes a secret of this machine, before it connects: its file
//! may have come with anybody's repository. A person gives it by naming the connection themselves; where a connection is
//! made because a text lies somewhere or says so, it has to have been given before. It is for the profile as it stands:
//! another command, or another server for the same secret, needs it again.

use std::io;

use jaunty_seam::profile::{Profile, Setting};
use sha2::{Digest as _, Sha256};

use crate::files::{Folders, private_folder, replace};

/// Whether a profile may be connected to unasked.
pub fn is_given(folders: &Folders, profile: &Profile) -> bool {
    !is_needed(profile) || folders.consents().join(name_of(profile)).exists()
}

/// Takes note that a person wants this connection.
pub fn give(folders: &Folders, profile: &Profile) -> io::Result<()> {
    if is_given(folders, profile) {
        return Ok(());
    }
    private_folder(&folders.consents())?;
    replace(&folders.consents().join(name_of(profile)), b"")
}

/// What a person consents to, of a profile that needs it: what it runs, and what it sends. Commands are named by their keys
/// alone, since some have a secret in them.
pub fn subject(profile: &Profile) -> String {
    let runs = ["secret_command", "ssh_secret_command"].iter().filter(|key| profile.settings.contains_key(**key));
    let runs = runs.map(|key| format!("runs its {key}"));
    let source = profile.text("secret").filter(|source| *source != "ask");
    let takes = source.map(|source| format!("takes its secret from {source}"));
    runs.chain(takes).collect::<Vec<_>>().join(", and ")
}

/// Whether a profile stands in a project's connections file.
pub fn is_of_project(profile: &Profile) -> bool {
    let folder = profile.file.as_ref().and_then(|file| file.parent()).and_then(|folder| folder.file_name());
    folder.is_some_and(|name| name == ".jaunty")
}

/// Whether a profile is of a project's file, and runs a command or sends something that it does not hold itself.
fn is_needed(profile: &Profile) -> bool {
    let runs = ["secret_command", "ssh_secret_command"].iter().any(|key| profile.settings.contains_key(*key));
    let elsewhere = match profile.settings.get("secret") {
        Some(Setting::Text(source)) => source != "ask",
        _ => false,
    };
    is_of_project(profile) && (runs || elsewhere)
}

/// The name of the file that stands for it: another profile, or the same with other settings, has another.
pub fn name_of(profile: &Profile) -> String {
    let mut digest = Sha256::new();
    let mut put = |text: &str| {
        digest.update((text.len() as u64).to_le_bytes());
        digest.update(text.as_bytes());
    };
    put(&profile.file.as_ref().map(|file| file.to_string_lossy().into_owned()).unwrap_or_default());
    put(&profile.name);
    put(&profile.engine);
    for (key, setting) in &profile.settings {
        put(key);
        put(&format!("{setting:?}"));
    }
    digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_said_what_it_is_about() {
        let profile = Profile::new("quay", "postgres").with("secret", "env:QUAY").with("ssh_secret_command", "cat key");
        assert_eq!(subject(&profile), "runs its ssh_secret_command, and takes its secret from env:QUAY");
    }

    #[test]
    fn what_comes_with_a_project_is_asked_about_once() {
        let folder = tempfile::tempdir().unwrap();
        let folders = Folders::below(folder.path());
        let of = |file: &str| Profile { file: Some(file.into()), ..Profile::new("quay", "postgres") };
        let plain = of("/x/.jaunty/connections.toml");
        let command = plain.clone().with("secret_command", "pass show quay");
        let variable = plain.clone().with("secret", "env:QUAY");
        let own = of("/clerk/jaunty/connections.toml").with("secret_command", "pass show quay");
        for profile in [&plain, &own, &plain.clone().with("secret", "ask"), &Profile::new("quay", "sqlite")] {
            assert!(is_given(&folders, profile), "{profile:?}");
        }
        for profile in [&command, &variable, &plain.clone().with("ssh_secret_command", "cat key")] {
            assert!(!is_given(&folders, profile), "{profile:?}");
        }
        give(&folders, &command).unwrap();
        assert!(is_given(&folders, &command) && !is_given(&folders, &variable));
        // The file says something else by now.
        for other in [
            command.clone().with("secret_command", "curl quay.example"),
            command.clone().with("host", "reef.example"),
            Profile { name: "reef".into(), ..command.clone() },
            Profile { file: Some("/y/.jaunty/connections.toml".into()), ..command.clone() },
        ] {
            assert!(!is_given(&folders, &other), "{other:?}");
        }
    }
}
