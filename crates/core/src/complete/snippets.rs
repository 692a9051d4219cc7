//! Snippets: a name, a text with places, and the dialect it is for. They stand in TOML files, a table
//! each; those of a person add to the ones that ship, or take their place.

use std::path::Path;

use toml_edit::{DocumentMut, Item, Table, value};

use crate::files;

/// One snippet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Snippet {
    /// What is typed for it.
    pub name: String,
    /// Its text, in the notation of [`jaunty_language::edit::snippet`].
    pub text: String,
    /// The dialect that it is for; none is for every one.
    pub dialect: Option<String>,
}

/// Something in a file of snippets that is not as it should be.
#[derive(Debug, thiserror::Error)]
pub enum SnippetError {
    /// The file.
    #[error("{file} cannot be {act}: {source}")]
    File {
        /// Which.
        file: String,
        /// `read` or `written`.
        act: &'static str,
        /// Why.
        source: std::io::Error,
    },
    /// It is not TOML.
    #[error("{file} cannot be read as TOML: {why}")]
    Toml {
        /// Which.
        file: String,
        /// Why, with the line.
        why: String,
    },
    /// A snippet is not as it should be.
    #[error("{file}: [{name}] needs a text, as text = \"select 1\"")]
    NoText {
        /// Which file.
        file: String,
        /// Which snippet.
        name: String,
    },
    /// There is one of that name.
    #[error("snippet {0} already exists; take another name, or change it in the file")]
    Taken(String),
}

/// The snippets that ship.
pub fn shipped() -> Vec<Snippet> {
    read(include_str!("snippets.toml"), "snippets.toml").unwrap_or_default()
}

fn read(text: &str, file: &str) -> Result<Vec<Snippet>, SnippetError> {
    let toml = |error: toml_edit::TomlError| {
        let why = error.to_string();
        SnippetError::Toml { file: file.to_owned(), why: why.lines().next().unwrap_or_default().to_owned() }
    };
    let document: DocumentMut = text.parse().map_err(toml)?;
    let mut all = Vec::new();
    for (name, item) in document.iter() {
        let wrong = || SnippetError::NoText { file: file.to_owned(), name: name.to_owned() };
        let text = item.get("text").and_then(Item::as_str).ok_or_else(wrong)?;
        let dialect = item.get("dialect").and_then(Item::as_str).map(str::to_owned);
        // Two dialects may have one of the same name; the name that is typed leaves the dialect out.
        let typed = dialect.as_ref().and_then(|dialect| name.strip_suffix(&format!("-{dialect}"))).unwrap_or(name);
        all.push(Snippet { name: typed.to_owned(), text: text.trim_matches('\n').to_owned(), dialect });
    }
    Ok(all)
}

/// The snippets that ship, with those of a person's files before them.
pub fn all(files: &[&Path]) -> (Vec<Snippet>, Vec<SnippetError>) {
    let (mut all, mut problems) = (Vec::new(), Vec::new());
    for file in files {
        let name = file.display().to_string();
        let text = match std::fs::read_to_string(file) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => continue,
            Err(source) => {
                problems.push(SnippetError::File { file: name, act: "read", source });
                continue;
            }
        };
        match read(&text, &name) {
            Ok(found) => all.extend(found),
            Err(error) => problems.push(error),
        }
    }
    let own: Vec<String> = all.iter().map(|snippet: &Snippet| snippet.name.clone()).collect();
    all.extend(shipped().into_iter().filter(|snippet| !own.contains(&snippet.name)));
    (all, problems)
}

/// Adds a snippet to a file; what stands there stays as it is.
pub fn add(file: &Path, snippet: &Snippet) -> Result<(), SnippetError> {
    let name = file.display().to_string();
    let failed = |act| move |source| SnippetError::File { file: file.display().to_string(), act, source };
    let before = match std::fs::read_to_string(file) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(failed("read")(error)),
    };
    read(&before, &name)?;
    let mut document: DocumentMut = before.parse().unwrap_or_default();
    if document.contains_key(&snippet.name) {
        return Err(SnippetError::Taken(snippet.name.clone()));
    }
    let mut table = Table::new();
    if let Some(dialect) = &snippet.dialect {
        table.insert("dialect", value(dialect));
    }
    table.insert("text", value(&snippet.text));
    document.insert(&snippet.name, Item::Table(table));
    if let Some(folder) = file.parent() {
        std::fs::create_dir_all(folder).map_err(failed("written"))?;
    }
    files::replace(file, document.to_string().as_bytes()).map_err(failed("written"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect;

    #[test]
    fn those_that_ship_are_whole() {
        let all = shipped();
        assert!(all.len() >= 12);
        for snippet in all {
            let places = jaunty_language::edit::snippet::Snippet::read(&snippet.text);
            assert!(!places.text.contains("${"), "{}", snippet.name);
            assert!(snippet.dialect.is_none_or(|name| dialect::by_name(&name).is_some()), "{}", snippet.name);
        }
    }

    #[test]
    fn a_persons_own_add_to_them_and_take_their_place() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("config/snippets.toml");
        let snippet = |name: &str, text: &str| Snippet { name: name.into(), text: text.into(), dialect: None };
        add(&file, &snippet("top", "select 'mine'")).unwrap();
        std::fs::write(&file, format!("# a remark\n{}", std::fs::read_to_string(&file).unwrap())).unwrap();
        add(&file, &snippet("two", "select\n  2")).unwrap();
        assert!(std::fs::read_to_string(&file).unwrap().starts_with("# a remark\n[top]"));
        assert_eq!(
            add(&file, &snippet("two", "x")).unwrap_err().to_string(),
            "snippet two already exists; take another name, or change it in the file"
        );
        let (found, problems) = all(&[&file, &folder.path().join("none.toml")]);
        assert!(problems.is_empty());
        assert_eq!(
            found.iter().filter(|s| s.name == "top").map(|s| s.text.as_str()).collect::<Vec<_>>(),
            ["select 'mine'"]
        );
        assert!(found.contains(&snippet("two", "select\n  2")) && found.iter().any(|s| s.name == "cte"));
        std::fs::write(&file, "[a]\nb = 1").unwrap();
        assert!(all(&[&file]).1[0].to_string().ends_with("[a] needs a text, as text = \"select 1\""));
        std::fs::write(&file, "[a").unwrap();
        assert!(all(&[&file]).1[0].to_string().contains("cannot be read as TOML"));
    }
}
