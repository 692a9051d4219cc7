//! Changing a connections file: what is not touched, comments and order and blanks, stays as it is.

use std::io;
use std::path::Path;

use toml_edit::{DocumentMut, Item, Table, TomlError, value};

use super::file::GENERAL;
use jaunty_seam::profile::{Guard, Profile, Setting};

/// Why a connections file could not be changed. It is as it was.
#[derive(Debug, thiserror::Error)]
pub enum EditError {
    /// It could not be read or written.
    #[error("the connections file cannot be changed: {0}")]
    File(#[from] io::Error),
    /// It is not TOML, and writing would lose what stands in it.
    #[error("the connections file has a mistake; mend it first: {0}")]
    Syntax(#[from] TomlError),
}

/// Puts a profile into the file, with these keys and no others. A new one comes last.
pub fn put(file: &Path, profile: &Profile) -> Result<(), EditError> {
    change(file, |document| {
        let table = document.entry(&profile.name).or_insert_with(|| Item::Table(Table::new()));
        let Some(table) = table.as_table_like_mut() else { return };
        let guard = (profile.guard != Guard::Open).then(|| profile.guard.word());
        let general = [
            ("engine", Some(profile.engine.as_str())),
            ("guard", guard),
            ("note", profile.note.as_deref()),
            ("label", profile.label.as_deref()),
            ("group", profile.group.as_deref()),
        ];
        for (key, text) in general {
            match text {
                Some(text) => set(table, key, text.into()),
                None => {
                    table.remove(key);
                }
            }
        }
        // A key that the profile has no longer goes.
        let gone: Vec<_> = table.iter().map(|(key, _)| key.to_owned()).collect();
        let kept = |key: &String| profile.settings.contains_key(key) || GENERAL.contains(&key.as_str());
        for key in gone.iter().filter(|key| !kept(key)) {
            table.remove(key);
        }
        for (key, setting) in &profile.settings {
            set(
                table,
                key,
                match setting {
                    Setting::Text(text) => text.as_str().into(),
                    Setting::Number(number) => (*number).into(),
                    Setting::Flag(flag) => (*flag).into(),
                },
            );
        }
    })
}

/// Gives a profile another name. It stays where it is, with its comments.
pub fn rename(file: &Path, from: &str, to: &str) -> Result<(), EditError> {
    change(file, |document| {
        let place = position(document, from);
        if document.contains_key(to) {
            return;
        }
        if let Some(item) = document.remove(from) {
            document.insert(to, item);
            if let (Some(place), Some(table)) = (place, document[to].as_table_mut()) {
                table.set_position(Some(place));
            }
        }
    })
}

/// Moves a profile by so many places up (less than 0) or down in the file, with its comments.
pub fn move_by(file: &Path, name: &str, by: isize) -> Result<(), EditError> {
    change(file, |document| {
        let mut tables: Vec<(isize, String)> =
            document.iter().filter_map(|(name, _)| Some((position(document, name)?, name.to_owned()))).collect();
        tables.sort();
        let Some(from) = tables.iter().position(|(_, found)| found == name) else { return };
        let to = from.saturating_add_signed(by).min(tables.len() - 1);
        let places: Vec<_> = tables.iter().map(|(place, _)| *place).collect();
        let moved = tables.remove(from);
        tables.insert(to, moved);
        for (place, (_, name)) in places.into_iter().zip(tables) {
            if let Some(table) = document[&name].as_table_mut() {
                table.set_position(Some(place));
            }
        }
    })
}

fn position(document: &DocumentMut, name: &str) -> Option<isize> {
    document.get(name)?.as_table()?.position()
}

/// Takes a profile out of the file.
pub fn remove(file: &Path, name: &str) -> Result<(), EditError> {
    change(file, |document| {
        document.remove(name);
    })
}

/// Sets a key; a comment behind its old value stays.
fn set(table: &mut dyn toml_edit::TableLike, key: &str, new: toml_edit::Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(old) => {
            let decor = old.decor().clone();
            *old = new;
            *old.decor_mut() = decor;
        }
        None => {
            table.insert(key, value(new));
        }
    }
}

fn change(file: &Path, act: impl FnOnce(&mut DocumentMut)) -> Result<(), EditError> {
    let text = match std::fs::read_to_string(file) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(error.into()),
    };
    let mut document: DocumentMut = text.parse()?;
    act(&mut document);
    if let Some(folder) = file.parent() {
        crate::files::private_folder(folder)?;
    }
    crate::files::replace(file, document.to_string().as_bytes())?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_seam::profile::Guard;

    #[test]
    fn comments_and_order_stay() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("deep/connections.toml");
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(&file, "# ours\n\n[b] # second\nengine = \"sqlite\" # bundled\npath = \"b.db\"   # nightly\n\n# first\n[a]\nengine = \"sqlite\"\npath = \"a.db\"\n").unwrap();
        put(&file, &Profile::new("b", "sqlite").with("path", "c.db").guarded(Guard::Ask)).unwrap();
        put(&file, &Profile::new("new one", "sqlite").with("path", "n.db")).unwrap();
        insta::assert_snapshot!(std::fs::read_to_string(&file).unwrap(), @r#"
        # ours

        [b] # second
        engine = "sqlite" # bundled
        path = "c.db"   # nightly
        guard = "ask"

        # first
        [a]
        engine = "sqlite"
        path = "a.db"

        ["new one"]
        engine = "sqlite"
        path = "n.db"
        "#);
        remove(&file, "a").unwrap();
        assert!(!std::fs::read_to_string(&file).unwrap().contains("a.db"));
    }

    #[test]
    fn profiles_are_renamed_and_moved_with_their_comments() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("connections.toml");
        std::fs::write(&file, "# ours\n\n# first\n[a]\nengine = \"sqlite\"\n\n# second\n[b]\nengine = \"sqlite\"\n\n# third\n[c]\nengine = \"sqlite\"\n").unwrap();
        move_by(&file, "c", -1).unwrap();
        rename(&file, "b", "bookings").unwrap();
        rename(&file, "a", "c").unwrap();
        insta::assert_snapshot!(std::fs::read_to_string(&file).unwrap(), @r#"
        # ours

        # first
        [a]
        engine = "sqlite"

        # third
        [c]
        engine = "sqlite"

        # second
        [bookings]
        engine = "sqlite"
        "#);
    }

    #[test]
    fn a_file_with_a_mistake_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("connections.toml");
        std::fs::write(&file, "[a\n").unwrap();
        assert!(matches!(put(&file, &Profile::new("b", "sqlite")), Err(EditError::Syntax(_))));
        assert_eq!(std::fs::read_to_string(&file).unwrap(), "[a\n");
    }
}
