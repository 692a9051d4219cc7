//! Reading connections files. A mistake in one profile costs that profile and is told with its
//! file, its line and the remedy; the others can be used.

use std::fmt;
use std::ops::Range;
use std::path::{Path, PathBuf};

use toml_edit::{Document, Item, TableLike, Value};

use super::url::{self, engine_named_by, engine_of};
use crate::files::Folders;
use jaunty_seam::engine::{Engine, Key, Takes};
use jaunty_seam::profile::{Guard, Profile, Setting};

/// Keys that every engine's profiles may have.
pub(super) const GENERAL: &[&str] = &["engine", "guard", "note", "label", "group"];

/// All profiles that were found, and what was wrong.
#[derive(Debug, Default)]
pub struct Connections {
    /// The profiles: the project's before the user's. A name that both have is the project's.
    pub profiles: Vec<Profile>,
    /// What could not be used.
    pub problems: Vec<Problem>,
}

impl Connections {
    /// A profile by its name.
    pub fn find(&self, name: &str) -> Option<&Profile> {
        self.profiles.iter().find(|profile| profile.name == name)
    }

    /// The known name that is nearest to one that is not known.
    pub fn nearest(&self, name: &str) -> Option<&str> {
        nearest(name, self.profiles.iter().map(|profile| profile.name.as_str()))
    }
}

/// Something wrong in a connections file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// The file.
    pub file: PathBuf,
    /// The line, from 1; 0 for the file as a whole.
    pub line: usize,
    /// The profile that cannot be used; `None` where none of the file can.
    pub profile: Option<String>,
    /// What is wrong.
    pub what: String,
    /// What to do.
    pub remedy: String,
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.file.display())?;
        if self.line > 0 {
            write!(f, ", line {}", self.line)?;
        }
        write!(f, ": {}. {}", self.what, self.remedy)
    }
}

impl std::error::Error for Problem {}

/// The connections files that count when working in `folder`: the project's, found by walking up,
/// and the user's.
pub fn connections_files(folder: &Path, folders: &Folders) -> Vec<PathBuf> {
    let project = folder.ancestors().map(|f| f.join(".jaunty").join("connections.toml")).find(|f| f.is_file());
    let user = Some(folders.config.join("connections.toml")).filter(|f| f.is_file());
    project.into_iter().chain(user).collect()
}

/// Reads these files; of profiles with the same name the first counts.
pub fn load(files: &[PathBuf], engines: &[&dyn Engine]) -> Connections {
    let mut all = Connections::default();
    for file in files {
        let read = match std::fs::read_to_string(file) {
            Ok(text) => parse(&text, file, engines),
            Err(error) => Connections {
                profiles: Vec::new(),
                problems: vec![Problem {
                    file: file.clone(),
                    line: 0,
                    profile: None,
                    what: format!("the file cannot be read ({error})"),
                    remedy: "Check its permissions and that it is UTF-8 text.".into(),
                }],
            },
        };
        all.problems.extend(read.problems);
        for profile in read.profiles {
            if all.find(&profile.name).is_none() {
                all.profiles.push(profile);
            }
        }
    }
    all
}

/// Reads the text of a connections file.
pub fn parse(text: &str, file: &Path, engines: &[&dyn Engine]) -> Connections {
    let reader = Reader { text, file, engines };
    let mut found = Connections::default();
    let document = match Document::parse(text) {
        Ok(document) => document,
        Err(error) => {
            let what = error.message().trim().replace('\n', ", ");
            found.problems.push(reader.problem(
                error.span(),
                what,
                "Fix the line: the file is TOML, one table per connection.",
            ));
            return found;
        }
    };
    for (name, item) in document.as_table().iter() {
        match reader.profile(name, item) {
            Ok(profile) => found.profiles.push(profile),
            Err(problem) => found.problems.push(Problem { profile: Some(name.to_owned()), ..problem }),
        }
    }
    found
}

struct Reader<'a> {
    text: &'a str,
    file: &'a Path,
    engines: &'a [&'a dyn Engine],
}

impl Reader<'_> {
    fn line(&self, span: Option<Range<usize>>) -> usize {
        span.map_or(0, |span| 1 + self.text[..span.start.min(self.text.len())].matches('\n').count())
    }

    fn problem(&self, span: Option<Range<usize>>, what: impl Into<String>, remedy: impl Into<String>) -> Problem {
        let (line, what, remedy) = (self.line(span), what.into(), remedy.into());
        Problem { file: self.file.to_owned(), line, profile: None, what, remedy }
    }

    fn profile(&self, name: &str, item: &Item) -> Result<Profile, Problem> {
        let Some(table) = item.as_table_like() else {
            let remedy = format!("Write it under a heading: [name], then {name} = … below it.");
            return Err(self.problem(item.span(), format!("'{name}' is outside any connection"), remedy));
        };
        let heading = item.span();
        let engines = || self.engines.iter().map(|e| e.name()).collect::<Vec<_>>().join(", ");
        // The word that URLs begin with names an engine, too, and a URL says which one it is for.
        let named = match self.text_of(table, "engine")? {
            Some(name) => Some(engine_of(&name, self.engines).map_or(name, |engine| engine.name().to_owned())),
            None => self.text_of(table, "url")?.and_then(|url| engine_named_by(&url, self.engines)),
        };
        let Some(engine_name) = named else {
            let remedy = format!("Add engine = \"…\", one of: {}.", engines());
            return Err(self.problem(heading, format!("[{name}] has no engine"), remedy));
        };
        let Some(engine) = self.engines.iter().find(|e| e.name() == engine_name) else {
            let words = self.engines.iter().flat_map(|e| e.schemes().iter().copied().chain([e.name()]));
            let near = nearest(&engine_name, words);
            let remedy =
                near.map_or_else(|| format!("Use one of: {}.", engines()), |n| format!("Did you mean \"{n}\"?"));
            return Err(self.problem(
                table.get("engine").and_then(Item::span),
                format!("unknown engine \"{engine_name}\""),
                remedy,
            ));
        };
        let mut profile = Profile::new(name, engine_name);
        profile.file = Some(self.file.to_owned());
        profile.line = self.line(heading.clone());
        profile.note = self.text_of(table, "note")?;
        profile.label = self.text_of(table, "label")?;
        profile.group = self.text_of(table, "group")?;
        if let Some(word) = self.text_of(table, "guard")? {
            profile.guard = Guard::from_word(&word).ok_or_else(|| {
                let words = Guard::ALL.map(Guard::word).join(", ");
                self.problem(
                    table.get("guard").and_then(Item::span),
                    format!("unknown guard \"{word}\""),
                    format!("Use one of: {words}."),
                )
            })?;
        }
        let known = engine.keys();
        // A file has no more to it than its URL says: that is taken apart at once, and what stands beside it counts before.
        let has_url = known.iter().any(|key| key.name == "url");
        let url = if has_url { None } else { self.text_of(table, "url")? };
        let is_setting = |key: &str| !GENERAL.contains(&key) && (has_url || key != "url");
        for (key, item) in table.iter().filter(|(key, _)| is_setting(key)) {
            let Some(declared) = known.iter().find(|k| k.name == key) else {
                let all = || GENERAL.iter().copied().chain(known.iter().map(|k| k.name));
                let remedy = match nearest(key, all()) {
                    Some(near) => format!("Did you mean {near}?"),
                    None => format!("Keys of this engine: {}.", all().collect::<Vec<_>>().join(", ")),
                };
                let what = format!("[{name}] has an unknown key '{key}' for {}", engine.name());
                return Err(self.problem(item.span(), what, remedy));
            };
            profile.settings.insert(key.to_owned(), self.setting(name, declared, item)?);
        }
        if let Some(url) = url {
            profile = url::settled(&profile.with("url", url), self.engines).map_err(|error| {
                let remedy = error.remedy.clone().unwrap_or_default();
                self.problem(table.get("url").and_then(Item::span), error.message, remedy)
            })?;
        }
        let missing = known.iter().find(|k| k.required && !profile.settings.contains_key(k.name));
        if let Some(key) = missing {
            let what = format!("[{name}] has no {}", key.name);
            return Err(self.problem(heading, what, format!("Add {} = \"…\": {}.", key.name, key.help)));
        }
        Ok(profile)
    }

    fn text_of(&self, table: &dyn TableLike, key: &str) -> Result<Option<String>, Problem> {
        let Some(item) = table.get(key) else { return Ok(None) };
        match item.as_str() {
            Some(text) => Ok(Some(text.to_owned())),
            None => Err(self.problem(item.span(), format!("{key} is not text"), format!("Write {key} = \"…\"."))),
        }
    }

    fn setting(&self, name: &str, key: &Key, item: &Item) -> Result<Setting, Problem> {
        let setting = match (item.as_value(), key.takes) {
            (Some(Value::String(text)), Takes::Word(words)) if !words.contains(&text.value().as_str()) => None,
            (Some(Value::String(text)), Takes::Text | Takes::Path | Takes::Word(_)) => {
                Some(Setting::Text(text.value().clone()))
            }
            (Some(Value::Integer(number)), Takes::Number(least, most)) => {
                Some(Setting::Number(*number.value())).filter(|_| (least..=most).contains(number.value()))
            }
            (Some(Value::Boolean(flag)), Takes::Flag) => Some(Setting::Flag(*flag.value())),
            _ => None,
        };
        let wanted = match key.takes {
            Takes::Text | Takes::Path => ("not text".to_owned(), "= \"…\"".to_owned()),
            Takes::Number(least, most) => (format!("not a whole number from {least} to {most}"), format!("= {most}")),
            Takes::Flag => ("not true or false".to_owned(), "= true".to_owned()),
            Takes::Word(words) => {
                (format!("not one of {}", words.join(", ")), format!("= \"{}\"", words.first().unwrap_or(&"")))
            }
        };
        setting.ok_or_else(|| {
            let (wrong, right) = wanted;
            let remedy = format!("Write {} {right}.", key.name);
            self.problem(item.span(), format!("{} of [{name}] is {wrong}", key.name), remedy)
        })
    }
}

/// The word nearest to `wanted`, if one is near enough to be meant.
pub(crate) fn nearest<'a>(wanted: &str, words: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    words
        .map(|word| (strsim::damerau_levenshtein(wanted, word), word))
        .filter(|(distance, word)| *distance <= 1 + word.len() / 4)
        .min()
        .map(|(_, word)| word)
}

#[cfg(test)]
mod tests;
