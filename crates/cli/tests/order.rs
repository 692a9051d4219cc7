//! The order of crates and modules, as `ARCHITECTURE.md` states it: each uses only what stands before it. And nobody
//! but the folders of engines and languages, and their tables, names one.

#![allow(clippy::unwrap_used)] // A test fails by panicking.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

fn read(name: impl AsRef<Path>) -> String {
    let path = root().join(name);
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

/// The modules of a crate in their order: a line `core: files → layout → …` of the document.
fn order(package: &str) -> Vec<String> {
    let document = read("ARCHITECTURE.md");
    let line = document.lines().find_map(|line| line.strip_prefix(&format!("{package}: ")));
    let line = line.unwrap_or_else(|| panic!("ARCHITECTURE.md has no line that begins with \"{package}: \""));
    line.split('→').map(|name| name.trim().to_owned()).collect()
}

/// All files of a folder that are not tests, with their code: no comments, no tests.
fn sources(folder: &Path, found: &mut Vec<(PathBuf, String)>) {
    let mut entries: Vec<_> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    entries.sort();
    for path in entries {
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        if path.is_dir() && name != "tests" {
            sources(&path, found);
        } else if name.ends_with(".rs") && name != "tests.rs" {
            let text = std::fs::read_to_string(&path).unwrap();
            let text = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default();
            let code = text.lines().map(|line| line.split("//").next().unwrap_or_default());
            found.push((path, code.collect::<Vec<_>>().join("\n")));
        }
    }
}

fn sources_of(package: &str) -> Vec<(PathBuf, String)> {
    let mut found = Vec::new();
    sources(&root().join("crates").join(package).join("src"), &mut found);
    found
}

/// The modules that a file names by a path from the root of its crate.
fn named(code: &str) -> BTreeSet<String> {
    let name = |text: &str| text.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect::<String>();
    let mut all = BTreeSet::new();
    for (at, _) in code.match_indices("crate::") {
        let rest = &code[at + "crate::".len()..];
        match rest.strip_prefix('{') {
            // Only the first name of each path in the braces.
            Some(list) => {
                let mut depth = 0;
                let mut first = true;
                for (at, c) in list.char_indices() {
                    match c {
                        '{' => depth += 1,
                        '}' if depth == 0 => break,
                        '}' => depth -= 1,
                        ',' if depth == 0 => first = true,
                        c if first && !c.is_whitespace() => {
                            all.insert(name(&list[at..]));
                            first = false;
                        }
                        _ => {}
                    }
                }
            }
            None => {
                all.insert(name(rest));
            }
        }
    }
    all
}

#[test]
fn modules_use_only_what_stands_before_them() {
    for package in ["language", "seam", "picture", "tds", "mysql", "documents", "core", "engines", "serve"] {
        let order = order(package);
        let place = |module: &str| order.iter().position(|known| known == module);
        let folder = root().join("crates").join(package).join("src");
        let mut wrong = Vec::new();
        for (path, code) in sources_of(package) {
            let inside = path.strip_prefix(&folder).unwrap().to_string_lossy().into_owned();
            let module = inside.split('/').next().unwrap().trim_end_matches(".rs");
            if module == "lib" {
                continue;
            }
            let own = place(module)
                .unwrap_or_else(|| panic!("ARCHITECTURE.md does not say where {package}::{module} stands"));
            for used in named(&code) {
                // What is no module is reached through one.
                if let Some(at) = place(&used).filter(|at| *at > own) {
                    wrong.push(format!("{package}/{inside} uses {}, which stands after {module}", order[at]));
                }
            }
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    }
}

/// The packages of ours that a manifest depends on, not for tests.
fn depends_on(package: &str) -> Vec<String> {
    let manifest = read(format!("crates/{package}/Cargo.toml"));
    let section = manifest.split("[dependencies]").nth(1).unwrap_or_default().split("\n[").next().unwrap_or_default();
    let ours = section.lines().filter_map(|line| line.strip_prefix("jaunty-"));
    ours.map(|line| line.split(['.', ' ', '=']).next().unwrap_or_default().to_owned()).collect()
}

#[test]
fn crates_depend_only_on_what_lies_below() {
    for (package, expected) in [
        ("language", &[][..]),
        ("seam", &["language"]),
        ("picture", &[]),
        ("core", &["language", "picture", "seam"]),
        ("engines", &["documents", "language", "mysql", "seam", "tds"]),
        ("tds", &[]),
        ("mysql", &[]),
        ("documents", &[]),
        ("standins", &[]),
        ("conformance", &["language", "seam"]),
        ("serve", &["core", "language", "seam"]),
        ("tui", &["core", "language", "picture", "seam"]),
        ("testservers", &[]),
    ] {
        assert_eq!(depends_on(package), expected, "{package}");
    }
}

#[test]
fn nobody_else_names_an_engine_or_a_language() {
    const NAMES: &[&str] = &["sqlite", "postgres", "postgresql", "mysql", "mariadb", "redis", "sqlserver", "mongodb"];
    let mut found = Vec::new();
    for package in ["language", "seam", "picture", "core", "tui", "serve", "conformance"] {
        for (path, code) in sources_of(package) {
            let inside = path.strip_prefix(root()).unwrap().to_string_lossy().into_owned();
            // The folders of the languages, and the tables of them.
            if inside.starts_with("crates/language/src/dialect/") {
                continue;
            }
            for (number, line) in code.lines().enumerate() {
                let mut words = line.split(|c: char| !c.is_alphanumeric() && c != '_').map(str::to_lowercase);
                if let Some(word) = words.find(|word| NAMES.contains(&word.as_str())) {
                    found.push(format!("{inside}:{}: {word}", number + 1));
                }
            }
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
}
