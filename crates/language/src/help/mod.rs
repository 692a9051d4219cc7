//! Help for keywords, functions and commands: a paragraph and a signature each, in our own words,
//! as data. An entry counts for the dialects of its file.
//!
//! A file holds entries: a line with the signature, and below it, indented, the paragraph.
//! `round(number, digits?) -> number` is a function; `GROUP BY column, …` a keyword, whose capitals
//! are its name; in the file of a server of commands each entry is a command.

use std::collections::HashMap;
use std::sync::LazyLock;

use crate::dialect::Dialect;

/// What an entry is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A function.
    Function,
    /// A keyword or a clause.
    Keyword,
    /// A command of a server of commands.
    Command,
}

/// Help for one thing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its name: of a function in lower case, of a keyword or command in capitals.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// How it is written.
    pub signature: String,
    /// What it does, in a paragraph.
    pub text: String,
}

/// All help for a dialect.
pub struct Help {
    entries: Vec<Entry>,
    by_name: HashMap<String, usize>,
}

const FUNCTIONS: &str = include_str!("data/functions.txt");
const KEYWORDS: &str = include_str!("data/keywords.txt");

/// The files of each dialect; a later entry stands before an earlier one of the same name.
static FILES: &[(&str, &[(Kind, &str)])] = &[
    (
        "sqlite",
        &[
            (Kind::Keyword, KEYWORDS),
            (Kind::Keyword, include_str!("data/sqlite-keywords.txt")),
            (Kind::Function, FUNCTIONS),
            (Kind::Function, include_str!("data/sqlite-functions.txt")),
        ],
    ),
    (
        "postgres",
        &[
            (Kind::Keyword, KEYWORDS),
            (Kind::Keyword, include_str!("data/postgres-keywords.txt")),
            (Kind::Function, FUNCTIONS),
            (Kind::Function, include_str!("data/postgres-functions.txt")),
        ],
    ),
    (
        "mysql",
        &[
            (Kind::Keyword, KEYWORDS),
            (Kind::Keyword, include_str!("data/mysql-keywords.txt")),
            (Kind::Function, FUNCTIONS),
            (Kind::Function, include_str!("data/mysql-functions.txt")),
        ],
    ),
    ("redis", &[(Kind::Command, include_str!("data/redis-commands.txt"))]),
];

static ALL: LazyLock<HashMap<&'static str, Help>> = LazyLock::new(|| {
    let help = |files: &&[(Kind, &str)]| {
        let mut help = Help { entries: Vec::new(), by_name: HashMap::new() };
        for (kind, text) in *files {
            entries(*kind, text).for_each(|entry| help.put(entry));
        }
        help
    };
    FILES.iter().map(|(dialect, files)| (*dialect, help(files))).collect()
});

static NONE: LazyLock<Help> = LazyLock::new(|| Help { entries: Vec::new(), by_name: HashMap::new() });

/// The help for a dialect.
pub fn of(dialect: &Dialect) -> &'static Help {
    ALL.get(dialect.name).unwrap_or(&NONE)
}

impl Help {
    fn put(&mut self, entry: Entry) {
        let key = entry.name.to_uppercase();
        // A function and a keyword may have one name: `REPLACE`, `LEFT`.
        let key = if entry.kind == Kind::Function { format!("{key}(") } else { key };
        match self.by_name.get(&key).and_then(|at| self.entries.get_mut(*at)) {
            Some(known) => *known = entry,
            None => {
                self.by_name.insert(key, self.entries.len());
                self.entries.push(entry);
            }
        }
    }

    /// All of it.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// The help for a function.
    pub fn function(&self, name: &str) -> Option<&Entry> {
        self.entries.get(*self.by_name.get(&format!("{}(", name.to_uppercase()))?)
    }

    /// The help for a keyword or a command of one or several words.
    pub fn keyword(&self, words: &str) -> Option<&Entry> {
        self.entries.get(*self.by_name.get(&words.to_uppercase())?)
    }
}

fn entries(kind: Kind, text: &str) -> impl Iterator<Item = Entry> {
    let mut all: Vec<Entry> = Vec::new();
    for line in text.lines().filter(|line| !line.trim().is_empty()) {
        if line.starts_with(char::is_whitespace) {
            if let Some(last) = all.last_mut() {
                if !last.text.is_empty() {
                    last.text.push(' ');
                }
                last.text.push_str(line.trim());
            }
            continue;
        }
        all.push(Entry { name: name(kind, line), kind, signature: line.trim().to_owned(), text: String::new() });
    }
    all.into_iter()
}

/// The name in a signature: what stands before a parenthesis, or the words in capitals it begins with.
fn name(kind: Kind, signature: &str) -> String {
    if kind == Kind::Function {
        return signature.split(['(', ' ']).next().unwrap_or_default().to_owned();
    }
    let capital =
        |word: &&str| word.bytes().all(|b| b.is_ascii_uppercase() || b == b'_' || b == b'.' || b.is_ascii_digit());
    let capital = |word: &&str| !word.is_empty() && capital(word);
    signature.split([' ', '(', '[']).take_while(capital).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{DIALECTS, REDIS, SQLITE};

    #[test]
    fn every_entry_has_a_name_a_signature_and_a_sentence() {
        let mut all = 0;
        for dialect in DIALECTS {
            for entry in of(dialect).entries() {
                all += 1;
                assert!(!entry.name.is_empty(), "{}: {}", dialect.name, entry.signature);
                let sentence = entry.text.ends_with('.') && entry.text.len() > 5;
                assert!(sentence, "{}: {}: {:?}", dialect.name, entry.name, entry.text);
                let function = entry.kind == Kind::Function;
                assert!(
                    !function || entry.signature.contains('(') || entry.signature.contains(" -> "),
                    "{}",
                    entry.signature
                );
            }
        }
        assert!(all >= 600, "there are {all} entries");
    }

    #[test]
    fn names_are_found_in_any_case() {
        assert_eq!(of(&SQLITE).function("COUNT").unwrap().name, "count");
        assert_eq!(of(&SQLITE).keyword("group by").unwrap().name, "GROUP BY");
        assert_eq!(of(&REDIS).keyword("client list").unwrap().name, "CLIENT LIST");
        assert!(of(&SQLITE).function("no_such").is_none());
    }
}
