//! `settings.toml`: how much is kept, and what belongs to the screen. A mistake is told with its line and costs only
//! its own setting.
//!
//! Theme and keys are read here as text, and understood by the screen, which alone knows its themes and actions.

use std::ops::Range;
use std::path::{Path, PathBuf};

use toml_edit::{Document, Item};

use crate::archive::Retention;
use crate::run::gate::Ahead;

/// What a person has set.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The name of the theme.
    pub theme: Option<Placed<Option<String>>>,
    /// Keys by the name of their action, each as it is written; none where it is not a list of texts.
    pub keys: Vec<(String, Placed<Option<Vec<String>>>)>,
    /// How much is kept.
    pub retention: Retention,
    /// How far runs fetch ahead of whoever reads.
    pub ahead: Ahead,
    /// A command that prints profiles.
    pub profiles_from: Option<String>,
    /// What could not be used, with file and line.
    pub problems: Vec<String>,
    /// The file.
    file: PathBuf,
}

/// Something of a file, with the number of its line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placed<T> {
    /// What stands there.
    pub value: T,
    /// The line, from 1.
    pub line: usize,
}

/// Further than this nobody reads without knowing where to.
const AHEAD: Ahead = Ahead { rows: 1_000_000, bytes: 1 << 30 };

impl Default for Settings {
    fn default() -> Self {
        Settings {
            theme: None,
            keys: Vec::new(),
            retention: Retention::default(),
            ahead: AHEAD,
            profiles_from: None,
            problems: Vec::new(),
            file: PathBuf::new(),
        }
    }
}

impl Settings {
    /// Notes that what stands in a line cannot be used.
    pub fn problem(&mut self, line: usize, what: &str) {
        self.problems.push(format!("{}, line {line}: {what}", self.file.display()));
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
    let mut settings = Settings { file: file.to_owned(), ..Settings::default() };
    let line = |span: Option<Range<usize>>| {
        span.map_or(1, |span| 1 + text[..span.start.min(text.len())].matches('\n').count())
    };
    let document = match Document::parse(text) {
        Ok(document) => document,
        Err(error) => {
            let what = error.message().trim().replace('\n', ", ");
            settings.problem(line(error.span()), &format!("{what}. The file is TOML."));
            return settings;
        }
    };
    let entries = |item: &Item| -> Vec<(String, Item)> {
        let table = item.as_table_like().into_iter().flat_map(|table| table.iter());
        table.map(|(name, item)| (name.to_owned(), item.clone())).collect()
    };
    for (section, item) in document.as_table().iter() {
        let at = line(item.span());
        match section {
            "theme" => settings.theme = Some(Placed { value: item.as_str().map(str::to_owned), line: at }),
            "archives" => {
                for (name, item) in entries(item) {
                    let number = item.as_integer().and_then(|n| u64::try_from(n).ok()).filter(|n| *n > 0);
                    match (name.as_str(), number) {
                        ("limit_gib", Some(gib)) => settings.retention = Retention { bytes: gib << 30 },
                        ("ahead_rows", Some(rows)) => settings.ahead.rows = rows,
                        ("ahead_mib", Some(mib)) => settings.ahead.bytes = mib << 20,
                        _ => settings.problem(
                            line(item.span()),
                            "[archives] takes limit_gib, ahead_rows and ahead_mib, each a whole number from 1.",
                        ),
                    }
                }
            }
            "keys" => {
                for (name, item) in entries(item) {
                    let texts = item.as_array().map(|keys| keys.iter().map(|key| key.as_str().map(str::to_owned)));
                    let value = texts.and_then(|texts| texts.collect::<Option<Vec<_>>>());
                    settings.keys.push((name, Placed { value, line: line(item.span()) }));
                }
            }
            "profiles_from" => match item.as_str() {
                Some(command) => settings.profiles_from = Some(command.to_owned()),
                None => settings.problem(at, "profiles_from must be a command in quotes."),
            },
            other => settings.problem(
                at,
                &format!("unknown setting \"{other}\". The settings are theme, profiles_from, [archives] and [keys]."),
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
        let text = "theme = \"foolscap\"\n[archives]\nlimit_gib = 2\nahead_rows = 7\n[keys]\nsave = [\"ctrl-g\"]\n";
        let settings = parse(text, Path::new("settings.toml"));
        assert_eq!(settings.problems, [] as [String; 0]);
        assert_eq!(settings.theme, Some(Placed { value: Some("foolscap".to_owned()), line: 1 }));
        assert_eq!(settings.retention.bytes, 2 << 30);
        assert_eq!((settings.ahead.rows, settings.ahead.bytes), (7, 1 << 30));
        assert_eq!(settings.keys, [("save".to_owned(), Placed { value: Some(vec!["ctrl-g".to_owned()]), line: 6 })]);
    }

    #[test]
    fn every_mistake_has_its_line() {
        for (text, expected) in [
            (
                "[archives]\nlimit_gib = -1",
                "line 2: [archives] takes limit_gib, ahead_rows and ahead_mib, each a whole number from 1.",
            ),
            ("\nprofiles_from = 1", "line 2: profiles_from must be a command in quotes."),
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
