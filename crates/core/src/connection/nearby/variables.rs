//! Connections that programs are told by variables, in the environment and in files of settings.

use jaunty_seam::engine::Engine;
use jaunty_seam::profile::Profile;

use crate::connection::url;

/// Names and values, in the order in which they stand.
pub(super) type Variables = Vec<(String, String)>;

/// How a kind of file is read.
type Read = fn(&str) -> Variables;

/// How names of variables end that hold a connection.
const ENDINGS: [&str; 5] = ["URL", "URI", "DSN", "CONNECTION_STRING", "CONNECTIONSTRING"];

/// The files of settings that programs have beside them, and how each is read.
pub(super) const FILES: [(&str, Read); 7] = [
    (".env", dotenv),
    (".env.local", dotenv),
    ("application.properties", properties),
    ("src/main/resources/application.properties", properties),
    ("appsettings.json", json),
    ("appsettings.Development.json", json),
    ("appsettings.Production.json", json),
];

/// The profiles of variables that hold a connection and are named like one, with the names of the variables. A user and
/// a password that the connection does not have may stand in variables beside it.
pub(super) fn profiles(variables: &Variables, engines: &[&dyn Engine]) -> Vec<(String, Profile)> {
    let one = |(name, value): &(String, String)| {
        let begin = beginning(&plain(name))?;
        let from = url::is_url(value, engines).then(|| url::parse(value, engines).ok())??;
        let beside = |endings: &[&str]| {
            let mut names = endings.iter().map(|ending| format!("{begin}{ending}"));
            let found = names.find_map(|name| variables.iter().find(|(other, _)| plain(other) == name));
            found.map(|(_, value)| value.clone()).filter(|value| !value.is_empty())
        };
        let mut profile = from.profile;
        let has =
            |key: &str| engines.iter().any(|e| e.name() == profile.engine && e.keys().iter().any(|k| k.name == key));
        let (takes_user, takes_password) = (has("user") && profile.text("user").is_none(), has("password"));
        let short = begin.trim_end_matches('_').trim_end_matches("__").to_lowercase().replace('_', "-");
        profile.name = if short.is_empty() { profile.engine.clone() } else { short };
        if takes_user && let Some(user) = beside(&["USERNAME", "USER"]) {
            profile = profile.with("user", user);
        }
        let secret = from.secret.map(|secret| secret.reveal().to_owned());
        if takes_password && let Some(password) = secret.or_else(|| beside(&["PASSWORD", "PASS"])) {
            profile = profile.with("password", password);
        }
        Some((name.clone(), profile))
    };
    variables.iter().filter_map(one).collect()
}

/// What stands before the ending of a name that is one of a connection; or, for names in a group of such, all after the
/// name of the group.
fn beginning(name: &str) -> Option<String> {
    if let Some(own) = name.strip_prefix("CONNECTIONSTRINGS__") {
        return Some(format!("{own}_"));
    }
    let ending = ENDINGS.iter().find(|ending| name.ends_with(**ending))?;
    Some(name[..name.len() - ending.len()].to_owned())
}

/// A name in capitals, with underscores between its parts.
fn plain(name: &str) -> String {
    name.to_ascii_uppercase().replace(['.', '-'], "_")
}

/// The variables of a `.env` file: `NAME=value`, perhaps after `export`, perhaps in quotes.
fn dotenv(text: &str) -> Variables {
    let lines = text.lines().map(str::trim).filter(|line| !line.starts_with('#'));
    let pairs = lines.filter_map(|line| line.strip_prefix("export ").unwrap_or(line).split_once('='));
    pairs
        .map(|(name, value)| {
            let value = value.trim();
            let quoted = ['"', '\''].iter().find_map(|q| value.strip_prefix(*q)?.split(*q).next());
            // Without quotes a comment may follow.
            let value = quoted.unwrap_or_else(|| value.split(" #").next().unwrap_or(value).trim());
            (name.trim().to_owned(), value.to_owned())
        })
        .collect()
}

/// The lines of a file of properties, `name = value` or `name: value`, a backslash before what would end the name.
fn properties(text: &str) -> Variables {
    let lines = text.lines().map(str::trim).filter(|line| !line.starts_with(['#', '!']));
    let pairs = lines.filter_map(|line| line.split_once(['=', ':']));
    pairs.map(|(name, value)| (name.trim().to_owned(), value.trim().replace("\\:", ":").replace("\\=", "="))).collect()
}

/// All texts of a JSON document, each named by its path: `ConnectionStrings__bookings`.
fn json(text: &str) -> Variables {
    fn walk(name: &str, value: &serde_json::Value, found: &mut Variables) {
        match value {
            serde_json::Value::String(text) => found.push((name.to_owned(), text.clone())),
            serde_json::Value::Object(parts) => {
                for (part, value) in parts {
                    let name = if name.is_empty() { part.clone() } else { format!("{name}__{part}") };
                    walk(&name, value, found);
                }
            }
            _ => {}
        }
    }
    let mut found = Vec::new();
    if let Ok(value) = serde_json::from_str(text.trim_start_matches('\u{feff}')) {
        walk("", &value, &mut found);
    }
    found
}
