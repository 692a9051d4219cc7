//! Paths as people write them.

use std::path::{Component, Path, PathBuf};

/// A path as a person writes it: `~/` is the home folder, and what is relative is relative to `base`.
pub fn written(text: &Path, base: &Path) -> PathBuf {
    match (text.strip_prefix("~"), etcetera::home_dir()) {
        (Ok(rest), Ok(home)) => home.join(rest),
        _ => base.join(text),
    }
}

/// The same file as `text` means in the folder `here`, as it is written in the connections file `file`: where that lies
/// in a project's `.jaunty` folder and the file in the project, from there on, so that the project can be moved; else
/// in full. What is no file's name stays as it is.
pub fn seen_from(file: &Path, text: &str, here: &Path) -> String {
    let path = Path::new(text);
    if text.is_empty() || text == ":memory:" || path.is_absolute() || path.starts_with("~") {
        return text.to_owned();
    }
    let whole = std::path::absolute(here.join(path)).unwrap_or_else(|_| here.join(path));
    let project = file.parent().filter(|folder| folder.ends_with(".jaunty")).and_then(Path::parent);
    let goes_up = whole.components().any(|part| part == Component::ParentDir);
    match project.and_then(|project| whole.strip_prefix(project).ok()) {
        Some(inside) if !goes_up => Path::new("..").join(inside).to_string_lossy().into_owned(),
        _ => whole.to_string_lossy().into_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_the_same_one_from_another_folder() {
        let seen = |file: &str, text: &str| seen_from(Path::new(file), text, Path::new("/harbour/data"));
        let (own, project) = ("/home/clerk/.config/jaunty/connections.toml", "/harbour/.jaunty/connections.toml");
        assert_eq!(seen(own, "ferry.db"), "/harbour/data/ferry.db");
        assert_eq!(seen(own, "./ferry.db"), "/harbour/data/ferry.db");
        assert_eq!(seen(project, "ferry.db"), "../data/ferry.db");
        assert_eq!(seen(project, "../../ferry.db"), "/harbour/data/../../ferry.db");
        for same in [":memory:", "", "/srv/ferry.db", "~/ferry.db"] {
            assert_eq!(seen(own, same), same);
        }
        let written = written(Path::new(&seen(project, "ferry.db")), Path::new("/harbour/.jaunty"));
        assert_eq!(written, Path::new("/harbour/.jaunty/../data/ferry.db"));
    }
}
