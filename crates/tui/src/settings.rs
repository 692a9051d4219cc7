//! `settings.toml`: theme, keys, and how much is kept. A mistake is told with its line and costs
//! only its own setting.

use std::collections::HashMap;
use std::path::Path;

use jaunty_core::archive::Retention;
use jaunty_core::run::state::Ahead;
use toml_edit::{Document, Item};

use crate::action::by_name;
use crate::keys::Key;
use crate::theme;

/// What a person has set.
#[derive(Debug)]
pub struct Settings {
    /// The theme.
    pub theme: theme::Name,
    /// Keys that differ from the defaults, by action.
    pub keys: HashMap<&'static str, Vec<Key>>,
    /// How much is kept.
    pub retention: Retention,
    /// How far runs fetch ahead of whoever reads.
    pub ahead: Ahead,
    /// A command that prints profiles.
    pub profiles_from: Option<String>,
    /// What could not be used.
    pub problems: Vec<String>,
}

/// Further than this nobody reads without knowing where to.
const AHEAD: Ahead = Ahead { rows: 1_000_000, bytes: 1 << 30 };

impl Default for Settings {
    fn default() -> Self {
        Settings {
            theme: theme::Name::Lamplight,
            keys: HashMap::new(),
            retention: Retention::default(),
            ahead: AHEAD,
            profiles_from: None,
            problems: Vec::new(),
        }
    }
}

/// Reads the settings; without a file, all is as by default.
pub fn load(file: &Path) -> Settings {
    match std::fs::read_to_string(file) {
        Ok(text) => parse(&text, file),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Settings::default(),
        Err(error) => {
            Settings { problems: vec![format!("{} cannot be read: {error}", file.display())], ..Settings::default() }
        }
    }
}

/// Reads the text of a settings file.
pub fn parse(text: &str, file: &Path) -> Settings {
    let mut settings = Settings::default();
    let line = |span: Option<std::ops::Range<usize>>| {
        span.map_or(1, |span| 1 + text[..span.start.min(text.len())].matches('\n').count())
    };
    let mut problem = |item: &Item, what: String| {
        settings.problems.push(format!("{}, line {}: {what}", file.display(), line(item.span())));
    };
    let document = match Document::parse(text) {
        Ok(document) => document,
        Err(error) => {
            let what = error.message().trim().replace('\n', ", ");
            settings.problems.push(format!(
                "{}, line {}: {what}. The file is TOML.",
                file.display(),
                line(error.span())
            ));
            return settings;
        }
    };
    for (section, item) in document.as_table().iter() {
        match section {
            "theme" => match theme::Name::ALL.iter().find(|name| item.as_str() == Some(name.word())) {
                Some(name) => settings.theme = *name,
                None => problem(item, "unknown theme. Use lamplight or foolscap.".into()),
            },
            "archives" => {
                for (name, item) in item.as_table_like().into_iter().flat_map(|table| table.iter()) {
                    let number = item.as_integer().and_then(|n| u64::try_from(n).ok()).filter(|n| *n > 0);
                    match (name, number) {
                        ("limit_gib", Some(gib)) => settings.retention = Retention { bytes: gib << 30 },
                        ("ahead_rows", Some(rows)) => settings.ahead.rows = rows,
                        ("ahead_mib", Some(mib)) => settings.ahead.bytes = mib << 20,
                        _ => problem(
                            item,
                            "[archives] takes limit_gib, ahead_rows and ahead_mib, each a whole number from 1.".into(),
                        ),
                    }
                }
            }
            "keys" => {
                for (name, item) in item.as_table_like().into_iter().flat_map(|table| table.iter()) {
                    let Some(action) = by_name(name) else {
                        problem(item, format!("unknown action \"{name}\". docs/keys.md lists them all."));
                        continue;
                    };
                    let names = item.as_array().map(|keys| keys.iter().map(|key| key.as_str().and_then(Key::parse)));
                    match names.and_then(|keys| keys.collect::<Option<Vec<_>>>()) {
                        Some(keys) => {
                            settings.keys.insert(action.name, keys);
                        }
                        None => {
                            problem(item, format!("{name} is not a list of keys. Write {name} = [\"ctrl-g\", \"f4\"]."))
                        }
                    }
                }
            }
            "profiles_from" => match item.as_str() {
                Some(command) => settings.profiles_from = Some(command.to_owned()),
                None => problem(item, "profiles_from must be a command in quotes.".into()),
            },
            other => problem(
                item,
                format!("unknown setting \"{other}\". The settings are theme, profiles_from, [archives] and [keys]."),
            ),
        }
    }
    settings
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_read() {
        let text = "theme = \"foolscap\"\n[archives]\nlimit_gib = 2\nahead_rows = 7\n[keys]\nrun-statement = [\"ctrl-g\", \"f4\"]\n";
        let settings = parse(text, Path::new("settings.toml"));
        assert_eq!(settings.problems, [] as [String; 0]);
        assert_eq!((settings.theme, settings.retention.bytes), (theme::Name::Foolscap, 2 << 30));
        assert_eq!((settings.ahead.rows, settings.ahead.bytes), (7, 1 << 30));
        assert_eq!(settings.keys["run-statement"].len(), 2);
    }

    #[test]
    fn every_mistake_has_its_line() {
        for (text, expected) in [
            ("theme = \"dusk\"", "line 1: unknown theme. Use lamplight or foolscap."),
            ("\n[keys]\nrun = [\"x\"]", "line 3: unknown action \"run\". docs/keys.md lists them all."),
            ("[keys]\nsave = \"x\"", "line 2: save is not a list of keys. Write save = [\"ctrl-g\", \"f4\"]."),
            ("[keys]\nsave = [\"hyper-x\"]", "line 2: save is not a list of keys. Write save = [\"ctrl-g\", \"f4\"]."),
            (
                "[archives]\nlimit_gib = -1",
                "line 2: [archives] takes limit_gib, ahead_rows and ahead_mib, each a whole number from 1.",
            ),
            (
                "colour = 1",
                "line 1: unknown setting \"colour\". The settings are theme, profiles_from, [archives] and [keys].",
            ),
        ] {
            let settings = parse(text, Path::new("s.toml"));
            assert_eq!(settings.problems, [format!("s.toml, {expected}")]);
        }
        assert!(parse("theme = ", Path::new("s.toml")).problems[0].starts_with("s.toml, line 1: "));
    }
}
