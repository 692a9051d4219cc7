//! `jaunty connections`: listing, trying and changing profiles, as text or as JSON, never a secret.

use std::path::{Path, PathBuf};
use std::time::Instant;

use clap::CommandFactory;
use jaunty_core::connection::{connections_files, edit, nearby, open, url};
use jaunty_language::text::clean::{clean, clean_lines};
use jaunty_seam::engine::{Key, Stop, Takes};
use jaunty_seam::error::Step;
use jaunty_seam::profile::source::SecretSource;
use jaunty_seam::profile::{Guard, Profile, Setting, path};
use serde_json::{Value, json};

use jaunty_core::connection::Tried;
use jaunty_core::words;
use jaunty_engines::ENGINES;

use crate::args::{Args, Change, Connections, ConnectionsAct};
use crate::failure::Failure;

/// Keys whose values may be secrets, or lead to them.
const SECRET: &[&str] = &["secret", "secret_command", "ssh_secret_command", "password", "url"];

/// Does what the command line says.
pub fn act(args: &Connections) -> Result<(), Failure> {
    match &args.act {
        Some(ConnectionsAct::List { names: true }) => names(),
        None | Some(ConnectionsAct::List { .. }) => list(args.json),
        Some(ConnectionsAct::Try { name }) => attempt(name, args.json),
        Some(ConnectionsAct::Add { name, url, project, change }) => {
            add(name, url.as_deref(), *project, change, args.json)
        }
        Some(ConnectionsAct::Edit { name, rename, change }) => change_one(name, rename.as_deref(), change, args.json),
        Some(ConnectionsAct::Remove { name }) => remove(name, args.json),
    }
}

/// Connects, says what was found, and hangs up.
fn attempt(name: &str, json: bool) -> Result<(), Failure> {
    let folders = crate::open::folders()?;
    let profile = crate::open::profile(name, &crate::open::connections(&folders))?;
    let since = Instant::now();
    let opened = if json {
        let engine = jaunty_engines::by_name(&profile.engine);
        let engine = engine.ok_or_else(|| Failure::Usage(format!("unknown engine {}", profile.engine)))?;
        match open(engine, &profile, None) {
            Ok(opened) => opened,
            Err(error) => {
                let told = json!({
                    "name": profile.name,
                    "connected": false,
                    "step": error.step.map(Step::word),
                    "error": error.to_string(),
                    "remedy": error.remedy,
                });
                super::print(&format!("{told:#}\n"))?;
                return Err(crate::open::refused(&error));
            }
        }
    } else {
        crate::open::session(&profile, &Stop::default())?
    };
    let connecting = since.elapsed();
    let mut session = opened;
    let since = Instant::now();
    let location = session.locate(&Stop::default()).map_err(|error| crate::open::refused(&error))?;
    let found = Tried { location, connecting, round_trip: since.elapsed() };
    if !json {
        return super::print(&format!("{}\n", clean_lines(&words::tried(&found).join("\n"))));
    }
    let Tried { location, connecting, round_trip } = found;
    let told = json!({
        "name": profile.name,
        "connected": true,
        "server": location.server,
        "node": location.node,
        "user": location.user,
        "database": location.database,
        "schema": location.schema,
        "transport": location.transport,
        "connecting_ms": connecting.as_secs_f64() * 1000.0,
        "round_trip_ms": round_trip.as_secs_f64() * 1000.0,
    });
    super::print(&format!("{told:#}\n"))
}

fn add(name: &str, url: Option<&str>, project: bool, change: &Change, json: bool) -> Result<(), Failure> {
    let folders = crate::open::folders()?;
    let known = crate::open::connections(&folders);
    let here = std::env::current_dir().unwrap_or_default();
    let first = || connections_files(&here, &folders).into_iter().next();
    let file = match project {
        true => project_file(&here),
        false => first().unwrap_or_else(|| folders.config.join("connections.toml")),
    };
    // One of your own may have the same name: in the project its own counts.
    if known.find(name).is_some_and(|there| !project || there.file.as_ref() == Some(&file)) {
        return Err(Failure::Usage(format!(
            "a connection named \"{name}\" already exists; use jaunty connections edit to change it"
        )));
    }
    let mut profile = match url {
        Some(text) if let Some(engine) = crate::open::engine_of(Path::new(text)) => {
            Profile::new("", engine.name()).with("path", text)
        }
        Some(text) => {
            // Of several systems whose strings look alike, the one that is named.
            let named: Vec<_> = change.engine.iter().filter_map(|name| jaunty_engines::by_name(name)).collect();
            let engines = if named.is_empty() { ENGINES } else { &named };
            let from = url::parse(text, engines).map_err(|error| Failure::Usage(error.explain("", 1)))?;
            crate::open::tell_left_out(&from);
            // Where a setting says where it comes from, it is not asked for.
            let sources = ["secret=", "secret_command=", "password="];
            let says = |setting: &String| sources.iter().any(|source| setting.starts_with(source));
            let asked = from.secret.is_some() && !change.settings.iter().any(says);
            if asked {
                eprintln!("jaunty: the password is not stored; the profile asks for it each time");
                from.profile.with("secret", "ask")
            } else {
                from.profile
            }
        }
        None => Profile::new("", change.engine.clone().unwrap_or_default()),
    };
    profile.name = name.to_owned();
    profile.file = Some(file);
    for key in jaunty_engines::by_name(&profile.engine).iter().flat_map(|engine| engine.keys()) {
        from_here(&mut profile, key);
    }
    save(None, apply(profile, change)?, json)
}

/// Sets what every profile may have; whether it was one of these keys.
fn set_general(profile: &mut Profile, name: &str, value: &str) -> Result<bool, Failure> {
    let text = Some(value.to_owned()).filter(|value| !value.is_empty());
    match name {
        "guard" if text.is_none() => profile.guard = Guard::Open,
        "guard" => {
            let wrong = || Failure::Usage(format!("guard is open, ask or read-only; \"{}\" is not", clean(value)));
            profile.guard = Guard::from_word(value).ok_or_else(wrong)?;
        }
        "note" => profile.note = text,
        "label" => profile.label = text,
        "group" => profile.group = text,
        _ => return Ok(false),
    }
    Ok(true)
}

/// The connections file of the project that a folder is in, or begins.
fn project_file(here: &Path) -> PathBuf {
    let project = here.ancestors().find(|folder| folder.join(".jaunty").is_dir()).unwrap_or(here);
    project.join(".jaunty").join("connections.toml")
}

fn change_one(name: &str, rename: Option<&str>, change: &Change, json: bool) -> Result<(), Failure> {
    let known = crate::open::connections(&crate::open::folders()?);
    let profile = crate::open::profile(name, &known)?;
    if let Some(taken) = rename.filter(|to| *to != name && known.find(to).is_some()) {
        return Err(Failure::Usage(format!("a connection named \"{taken}\" already exists")));
    }
    let mut changed = apply(profile, change)?;
    if let Some(to) = rename {
        changed.name = to.to_owned();
    }
    save(Some(name), changed, json)
}

/// The profile with what the command line changes.
fn apply(mut profile: Profile, change: &Change) -> Result<Profile, Failure> {
    if let Some(engine) = &change.engine {
        profile.engine.clone_from(engine);
    }
    let Some(engine) = jaunty_engines::by_name(&profile.engine) else {
        let known: Vec<_> = ENGINES.iter().map(|engine| engine.name()).collect();
        let what = if profile.engine.is_empty() {
            "no engine is named".into()
        } else {
            format!("unknown engine {}", profile.engine)
        };
        return Err(Failure::Usage(format!("{what}. Give a URL, or --engine with one of: {}.", known.join(", "))));
    };
    for setting in &change.settings {
        let (name, value) =
            setting.split_once('=').ok_or_else(|| Failure::Usage("a setting is written as --set key=value".into()))?;
        if set_general(&mut profile, name, value)? {
            continue;
        }
        let Some(key) = engine.keys().iter().find(|key| key.name == name) else {
            let own = engine.keys().iter().map(|key| key.name);
            let known: Vec<_> = own.chain(["guard", "note", "label", "group"]).collect();
            return Err(Failure::Usage(format!(
                "{} has no key {name}. Its keys: {}.",
                engine.name(),
                known.join(", ")
            )));
        };
        if value.is_empty() {
            profile.settings.remove(name);
        } else {
            profile.settings.insert(name.to_owned(), url::setting(key, value).map_err(Failure::Usage)?);
            from_here(&mut profile, key);
        }
    }
    if let Some(guard) = change.guard.as_deref().and_then(Guard::from_word) {
        profile.guard = guard;
    }
    for (given, kept) in
        [(&change.note, &mut profile.note), (&change.label, &mut profile.label), (&change.group, &mut profile.group)]
    {
        if let Some(text) = given {
            *kept = Some(text.clone()).filter(|text| !text.is_empty());
        }
    }
    SecretSource::of(&profile).map_err(|error| Failure::Usage(error.explain("", 1)))?;
    if let Some(key) = engine.keys().iter().find(|key| key.required && !profile.settings.contains_key(key.name)) {
        return Err(Failure::Usage(format!("{} is required: {}. Add --set {}=…", key.name, key.help, key.name)));
    }
    Ok(profile)
}

/// A path on the command line is relative to the working folder, and one in a connections file to that file.
fn from_here(profile: &mut Profile, key: &Key) {
    if let (Takes::Path, Some(file), Some(Setting::Text(path))) =
        (key.takes, &profile.file, profile.settings.get_mut(key.name))
    {
        *path = path::seen_from(file, path, &std::env::current_dir().unwrap_or_default());
    }
}

fn save(before: Option<&str>, profile: Profile, json: bool) -> Result<(), Failure> {
    let Some(file) = profile.file.clone() else {
        return Err(Failure::Usage(format!("{} is not in a connections file", profile.name)));
    };
    let renamed = match before {
        Some(before) if before != profile.name => edit::rename(&file, before, &profile.name),
        _ => Ok(()),
    };
    renamed.and_then(|()| edit::put(&file, &profile)).map_err(|error| Failure::Usage(error.to_string()))?;
    if json {
        return super::print(&format!("{:#}\n", as_json(&profile)));
    }
    let name = clean(&profile.name);
    super::print(&format!("{name} is saved in {}\n", file.display()))?;
    // A command comes first on the command line.
    if Args::command().find_subcommand(&profile.name).is_some() {
        super::print(&format!("`jaunty {name}` is a command: open the connection with `jaunty -c {name}`\n"))?;
    }
    Ok(())
}

fn remove(name: &str, json: bool) -> Result<(), Failure> {
    let known = crate::open::connections(&crate::open::folders()?);
    let profile = crate::open::profile(name, &known)?;
    let Some(file) = &profile.file else {
        return Err(Failure::Usage(format!("{name} is not in a connections file")));
    };
    edit::remove(file, name).map_err(|error| Failure::Usage(error.to_string()))?;
    if json {
        return super::print(&format!("{:#}\n", json!({ "removed": name, "file": file })));
    }
    super::print(&format!("{} removed from {}\n", clean(name), file.display()))
}

/// Prints the names alone, for shells.
fn names() -> Result<(), Failure> {
    let found = crate::open::connections(&crate::open::folders()?);
    let near = nearby::beside(&found, &std::env::current_dir().unwrap_or_default(), ENGINES);
    let all = found.profiles.iter().chain(near.iter().map(|found| &found.profile));
    let lines: String = all.map(|profile| format!("{}\n", profile.name)).collect();
    super::print(&lines)
}

/// Lists the profiles. What is wrong in the files is told on standard error and is a failure.
fn list(json: bool) -> Result<(), Failure> {
    let folders = crate::open::folders()?;
    let found = crate::open::connections(&folders);
    let near = nearby::beside(&found, &std::env::current_dir().unwrap_or_default(), ENGINES);
    if json {
        let near = near.iter().map(|found| {
            let mut told = as_json(&found.profile);
            told["from"] = Value::from(found.from.as_str());
            told
        });
        let all: Vec<_> = found.profiles.iter().map(as_json).chain(near).collect();
        super::print(&format!("{:#}\n", Value::from(all)))?;
    } else {
        if !found.profiles.is_empty() {
            super::print(&table(&found.profiles))?;
        } else if found.problems.is_empty() {
            super::print(
                "No connections yet. `jaunty connections add NAME URL` saves one of your own, and with --project one of the project in this folder.\n",
            )?;
        }
        if !near.is_empty() {
            let rows = near.into_iter().map(|found| [found.profile.name, found.profile.engine, found.from]);
            super::print(&format!(
                "\nNear this folder, by these names too:\n{}",
                super::aligned(&rows.collect::<Vec<_>>())
            ))?;
        }
    }
    match found.problems.as_slice() {
        [] => Ok(()),
        problems => Err(Failure::Usage(problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))),
    }
}

fn as_json(profile: &Profile) -> Value {
    let settings = profile.settings.iter().filter(|(key, _)| !SECRET.contains(&key.as_str()));
    let settings = settings.map(|(key, setting)| {
        let value = match setting {
            Setting::Text(text) => json!(text),
            Setting::Number(number) => json!(number),
            Setting::Flag(flag) => json!(flag),
        };
        (key.clone(), value)
    });
    json!({
        "name": profile.name,
        "engine": profile.engine,
        "guard": profile.guard.word(),
        "note": profile.note,
        "label": profile.label,
        "group": profile.group,
        "file": profile.file,
        "line": profile.line,
        "settings": settings.collect::<serde_json::Map<_, _>>(),
    })
}

fn table(profiles: &[Profile]) -> String {
    let head = ["name", "engine", "guard", "note", "file"].map(str::to_owned);
    let rows = profiles.iter().map(|p| {
        let file = p.file.as_ref().map_or_else(String::new, |file| format!("{}:{}", file.display(), p.line));
        let note = p.note.clone().unwrap_or_default();
        [p.name.clone(), p.engine.clone(), p.guard.word().to_owned(), note, file]
    });
    super::aligned(&[head].into_iter().chain(rows).collect::<Vec<_>>())
}
