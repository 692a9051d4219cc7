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

/// How names of variables end that hold a part of a connection, and the key that it is.
const PARTS: [(&str, &[&str]); 5] = [
    ("port", &["PORT", "TCP_PORT"]),
    ("user", &["USERNAME", "USER"]),
    ("password", &["PASSWORD", "PASS", "PWD"]),
    ("database", &["DATABASE", "DBNAME", "NAME", "DB"]),
    ("host", &["HOST"]),
];

/// How names of variables end that hold what kind of database it is, in words of whichever library.
const KINDS: [&str; 7] = ["CONNECTION", "ENGINE", "DRIVER", "ADAPTER", "DIALECT", "CLIENT", "TYPE"];

/// The profiles that variables tell of, with the names of those by which they were found: `DATABASE_URL` and others that
/// hold a whole connection, `DB_HOST` and others that hold a part of one.
pub(super) fn profiles(variables: &Variables, engines: &[&dyn Engine]) -> Vec<(String, Profile)> {
    let one = |(name, value): &(String, String)| {
        let plain = plain(name);
        let found = match plain.strip_suffix("HOST") {
            Some(begin) => of_parts(begin, variables, engines),
            None => of_whole(&beginning(&plain)?, value, variables, engines),
        };
        Some((name.clone(), found?))
    };
    variables.iter().filter(|(_, value)| !value.is_empty()).filter_map(one).collect()
}

/// The profile of a whole connection. A user and a password that it does not have may stand in variables beside it.
fn of_whole(begin: &str, value: &str, variables: &Variables, engines: &[&dyn Engine]) -> Option<Profile> {
    let from = url::is_url(value, engines).then(|| url::parse(value, engines).ok())??;
    let engine = engines.iter().find(|engine| engine.name() == from.profile.engine)?;
    let mut profile = from.profile;
    profile.name = named(begin, *engine);
    if let Some(secret) = from.secret {
        profile = profile.with("password", secret.reveal());
    }
    Some(filled(profile, begin, &["user", "password"], variables, *engine))
}

/// The profile of a server whose name stands in one variable, and what else is told of it in others that begin alike.
fn of_parts(begin: &str, variables: &Variables, engines: &[&dyn Engine]) -> Option<Profile> {
    let own = begin.trim_end_matches('_').to_lowercase();
    let of_servers = || engines.iter().copied().filter(|engine| engine.keys().iter().any(|key| key.name == "host"));
    let words = |engine: &dyn Engine| engine.schemes().iter().copied().chain([engine.name()]).collect::<Vec<_>>();
    let said = beside(begin, &KINDS, variables).map(|kind| kind.to_lowercase());
    let port = beside(begin, &["PORT"], variables);
    let engine = match said {
        Some(kind) => of_servers().find(|engine| words(*engine).iter().any(|word| kind.contains(word))),
        None => None,
    };
    // Without a word of what it is, by the name of the variable, or by the usual port. Two letters say something where they
    // stand close to the rest: `PGHOST`.
    let says = own.len() > 2 || (own.len() == 2 && !begin.ends_with('_'));
    let by_name = || of_servers().find(|e| says && words(*e).iter().any(|word| word.starts_with(&own)));
    let usual = |e: &dyn Engine| e.keys().iter().find(|key| key.name == "port").map(|key| key.usual.to_owned());
    let by_port = || of_servers().find(|engine| port.is_some() && usual(*engine) == port);
    let engine = engine.or_else(by_name).or_else(by_port)?;
    let all: Vec<_> = PARTS.iter().map(|(key, _)| *key).collect();
    Some(filled(Profile::new(named(begin, engine), engine.name()), begin, &all, variables, engine))
}

/// The profile with those keys that it does not have and that stand in variables.
fn filled(mut profile: Profile, begin: &str, keys: &[&str], variables: &Variables, engine: &dyn Engine) -> Profile {
    for (name, endings) in PARTS.iter().filter(|(key, _)| keys.contains(key)) {
        let key = engine.keys().iter().find(|key| key.name == *name && !profile.settings.contains_key(*name));
        let setting = key.and_then(|key| url::setting(key, &beside(begin, endings, variables)?).ok());
        profile.settings.extend(setting.map(|setting| ((*name).to_owned(), setting)));
    }
    profile
}

/// The value of the first of these variables that has one.
fn beside(begin: &str, endings: &[&str], variables: &Variables) -> Option<String> {
    let value = |name: String| variables.iter().find(|(other, value)| plain(other) == name && !value.is_empty());
    endings.iter().find_map(|ending| value(format!("{begin}{ending}"))).map(|(_, value)| value.clone())
}

/// A name for the profile of variables that begin so.
fn named(begin: &str, engine: &dyn Engine) -> String {
    let short = begin.trim_end_matches('_').to_lowercase().replace('_', "-");
    if short.is_empty() { engine.name().to_owned() } else { short }
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
