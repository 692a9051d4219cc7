//! Databases that lie near: profiles that nobody wrote into a connections file, offered with where
//! they come from, and never opened unasked.
//!
//! They come from [`variables`] in the environment and in files of settings, from the services of `compose.yaml`,
//! from database files in the working folder, from the files of servers' own clients, and from a
//! command of the user's own.

mod compose;
mod variables;

use std::fs::File;
use std::io::Read;
use std::net::{IpAddr, TcpStream, ToSocketAddrs};
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::connection::{Connections, file, parse};
use jaunty_seam::engine::Engine;
use jaunty_seam::profile::{Guard, Profile, Setting};

/// How long is waited for a server to take a connection.
const PROBE: Duration = Duration::from_millis(300);

/// How many files of a folder are looked at.
const MOST_FILES: usize = 500;

/// A profile that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The profile. A password that was found with it is in it, and in memory only.
    pub profile: Profile,
    /// Where it comes from, as `.env, DATABASE_URL`.
    pub from: String,
    /// Whether something answers there, if that was tried; nothing is sent to find out.
    pub answers: Option<bool>,
}

/// Looks around. `variables` is the environment, `command` prints profiles as a connections file
/// or as JSON of the same shape.
pub fn look(
    folder: &Path,
    variables: impl Iterator<Item = (String, String)>,
    command: Option<&str>,
    engines: &[&dyn Engine],
) -> Vec<Found> {
    let mut found = Vec::new();
    let mut add = |mut profile: Profile, from: String| {
        // Nobody has said how careful to be with it, and it may be what others work with.
        if profile.guard == Guard::Open && !from.starts_with(OF_COMMAND) && is_elsewhere(&profile) {
            profile.guard = Guard::Ask;
        }
        let same = |other: &Found| other.profile.settings == profile.settings && other.profile.engine == profile.engine;
        if !found.iter().any(same) {
            found.push(Found { profile, from, answers: None });
        }
    };
    for (name, profile) in variables::profiles(&variables.collect(), engines) {
        add(profile, format!("environment, {name}"));
    }
    // From the working folder up to the project's root.
    for folder in folder.ancestors() {
        for (file, read) in variables::FILES {
            let text = std::fs::read_to_string(folder.join(file)).unwrap_or_default();
            for (name, profile) in variables::profiles(&read(&text), engines) {
                add(profile, format!("{file}, {name}"));
            }
        }
        for file in ["compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml"] {
            if let Ok(text) = std::fs::read_to_string(folder.join(file)) {
                for profile in compose::services(&text, engines) {
                    let from = format!("{file}, {}", profile.name);
                    add(profile, from);
                }
            }
        }
        if folder.join(".git").exists() || folder.join(".jaunty").exists() {
            break;
        }
    }
    for (path, engine) in database_files(folder, engines) {
        let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let from = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        add(Profile::new(name, engine.name()).with("path", path.to_string_lossy()), from);
    }
    for engine in engines {
        for (profile, from) in engine.profiles_on_file() {
            add(profile, from);
        }
    }
    for profile in command.map(|command| printed(command, folder, engines)).unwrap_or_default() {
        add(profile, OF_COMMAND.to_owned());
    }
    found
}

/// Where a profile of the user's own command comes from.
const OF_COMMAND: &str = "profiles_from";

/// Whether a profile leads to another machine.
fn is_elsewhere(profile: &Profile) -> bool {
    let is_here = |host: &str| {
        let host = host.trim();
        let address = host.trim_matches(['[', ']']).parse::<IpAddr>();
        host.is_empty() || host == "localhost" || host.starts_with(['/', '~']) || address.is_ok_and(|a| a.is_loopback())
    };
    let hosts = ["host", "others"].iter().filter_map(|key| profile.text(key)).flat_map(|hosts| hosts.split(','));
    let mut hosts = hosts.map(|host| match host.rsplit_once(':') {
        Some((name, port)) if !name.contains(':') && port.bytes().all(|byte| byte.is_ascii_digit()) => name,
        _ => host,
    });
    profile.text("ssh").is_some() || hosts.any(|host| !is_here(host))
}

/// What lies near a folder under names that no connections file has. Files and variables are looked at, and nothing else: no
/// server is tried, and no command carried out.
pub fn beside(known: &Connections, folder: &Path, engines: &[&dyn Engine]) -> Vec<Found> {
    let mut found = look(folder, std::env::vars(), None, engines);
    found.retain(|found| known.find(&found.profile.name).is_none());
    found
}

/// The name of what lies near that is nearest to one that is not known.
pub fn nearest<'f>(found: &'f [Found], name: &str) -> Option<&'f str> {
    file::nearest(name, found.iter().map(|found| found.profile.name.as_str()))
}

/// Whether something answers where a profile leads: a file is there, a server takes a connection.
pub fn answers(profile: &Profile, engines: &[&dyn Engine]) -> bool {
    if let Some(path) = profile.path("path") {
        return path.exists();
    }
    let host = profile.text("host").unwrap_or("127.0.0.1");
    if host.starts_with('/') {
        return Path::new(host).exists();
    }
    let engine = engines.iter().find(|engine| engine.name() == profile.engine);
    let usual = engine.and_then(|engine| engine.keys().iter().find(|key| key.name == "port")).map(|key| key.usual);
    let port = profile.number("port").or_else(|| usual?.parse().ok()).and_then(|port| u16::try_from(port).ok());
    let Some(port) = port else { return false };
    let addresses = (host, port).to_socket_addrs();
    addresses.into_iter().flatten().any(|address| TcpStream::connect_timeout(&address, PROBE).is_ok())
}

fn database_files<'e>(folder: &Path, engines: &[&'e dyn Engine]) -> Vec<(std::path::PathBuf, &'e dyn Engine)> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten().take(MOST_FILES);
    let mut files: Vec<_> = entries
        .filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file()))
        .filter_map(|entry| {
            let mut head = Vec::new();
            File::open(entry.path()).ok()?.take(64).read_to_end(&mut head).ok()?;
            let engine = engines.iter().copied().find(|engine| engine.sniff(&head))?;
            Some((entry.path(), engine))
        })
        .collect();
    files.sort_by(|a, b| a.0.cmp(&b.0));
    files
}

/// The profiles that a command prints, as TOML or as JSON.
fn printed(command: &str, folder: &Path, engines: &[&dyn Engine]) -> Vec<Profile> {
    let output =
        Command::new("/bin/sh").args(["-c", command]).current_dir(folder).stdin(std::process::Stdio::null()).output();
    let text = match output {
        Ok(output) if output.status.success() => String::from_utf8_lossy(&output.stdout).into_owned(),
        Ok(output) => {
            tracing::warn!(status = ?output.status, "profiles_from failed");
            return Vec::new();
        }
        Err(error) => {
            tracing::warn!(%error, "profiles_from cannot be started");
            return Vec::new();
        }
    };
    let toml = if text.trim_start().starts_with('{') { toml_of(&text) } else { Some(text) };
    let Connections { profiles, problems } = parse(&toml.unwrap_or_default(), Path::new(OF_COMMAND), engines);
    for problem in problems {
        tracing::warn!(%problem, "profiles_from");
    }
    profiles.into_iter().map(|profile| Profile { file: None, line: 0, ..profile }).collect()
}

/// JSON of profiles as TOML.
fn toml_of(json: &str) -> Option<String> {
    let json: serde_json::Value = serde_json::from_str(json).ok()?;
    let mut document = toml_edit::DocumentMut::new();
    for (name, keys) in json.as_object()? {
        let mut table = toml_edit::Table::new();
        for (key, value) in keys.as_object()? {
            let value: toml_edit::Value = match value {
                serde_json::Value::String(text) => text.as_str().into(),
                serde_json::Value::Number(number) => number.as_i64()?.into(),
                serde_json::Value::Bool(flag) => (*flag).into(),
                _ => return None,
            };
            table.insert(key, toml_edit::value(value));
        }
        document.insert(name, toml_edit::Item::Table(table));
    }
    Some(document.to_string())
}

/// A setting that is a number, for those who build profiles.
fn number(text: &str) -> Option<Setting> {
    text.parse().ok().map(Setting::Number)
}

#[cfg(test)]
mod tests;
