//! Help for keywords, functions and commands: a paragraph and a signature each, in our own words,
//! as data. An entry counts for the dialects of its file.
//!
//! A file holds entries: a line with the signature, and below it, indented, the paragraph.
//! `round(number, digits?) -> number` is a function; `GROUP BY column, …` a keyword, whose capitals
//! are its name; in the file of a server of commands each entry is a command.

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};

use crate::dialect::Dialect;
pub use crate::dialect::HelpKind as Kind;

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

type Known = Mutex<HashMap<&'static str, &'static Help>>;

/// What was read already, by the names of dialects.
static KNOWN: LazyLock<Known> = LazyLock::new(Mutex::default);

/// The help for a dialect.
pub fn of(dialect: &'static Dialect) -> &'static Help {
    let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    known.entry(dialect.name).or_insert_with(|| {
        let mut help = Help { entries: Vec::new(), by_name: HashMap::new() };
        for (kind, text) in dialect.help {
            let lacks = |entry: &Entry| dialect.lacks.contains(&entry.name.as_str());
            entries(*kind, text).filter(|entry| !lacks(entry)).for_each(|entry| help.put(entry));
        }
        Box::leak(Box::new(help))
    })
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
        // Two blanks stand between a name and words in capitals that are none of it.
        let signature = line.trim().replace("  ", " ");
        all.push(Entry { name: name(kind, line), kind, signature, text: String::new() });
    }
    all.into_iter()
}

/// The name in a signature: what stands before a parenthesis, or the words in capitals it begins with.
fn name(kind: Kind, signature: &str) -> String {
    if kind == Kind::Function {
        return signature.split(['(', ' ']).next().unwrap_or_default().to_owned();
    }
    let signs: &[u8] = if kind == Kind::Command { b"_.@-" } else { b"_.@" };
    let capital =
        |word: &&str| word.bytes().all(|b| b.is_ascii_uppercase() || signs.contains(&b) || b.is_ascii_digit());
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
        for dialect in DIALECTS.iter() {
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
        for dialect in DIALECTS.iter() {
            let unknown = dialect.usual.iter().filter(|name| of(dialect).keyword(name).is_none());
            assert_eq!(unknown.collect::<Vec<_>>(), Vec::<&&str>::new(), "{}", dialect.name);
        }
    }

    #[test]
    fn names_are_found_in_any_case() {
        assert_eq!(of(&SQLITE).function("COUNT").unwrap().name, "count");
        assert_eq!(of(&SQLITE).keyword("group by").unwrap().name, "GROUP BY");
        assert_eq!(of(&REDIS).keyword("client list").unwrap().name, "CLIENT LIST");
        assert!(of(&SQLITE).function("no_such").is_none());
    }
}
