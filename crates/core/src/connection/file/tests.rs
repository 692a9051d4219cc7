use super::*;
use jaunty_language::dialect::{Dialect, SQLITE};
use jaunty_seam::engine::{Attempt, Key, Session, Takes};
use jaunty_seam::error::{EngineError, ErrorKind};

/// An engine that can do nothing: files are read without it.
struct Quay;

impl Engine for Quay {
    fn name(&self) -> &'static str {
        "quay"
    }
    fn schemes(&self) -> &'static [&'static str] {
        &["quay"]
    }
    fn dialect(&self) -> &'static Dialect {
        &SQLITE
    }
    fn keys(&self) -> &'static [Key] {
        static KEYS: &[Key] = &[
            Key::needed("path", Takes::Path, "the database's file"),
            Key::rare("create", Takes::Flag, "false", "create the file if it is missing"),
            Key::rare("port", Takes::Number(1, 65535), "5432", "its port"),
        ];
        KEYS
    }
    fn connect(&self, _: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        Err(EngineError::new(ErrorKind::Connect, "there is nothing behind it"))
    }
}

fn read(text: &str) -> Connections {
    parse(text, Path::new("/harbour/.jaunty/connections.toml"), &[&Quay])
}

#[test]
fn a_profile_is_read_whole() {
    let found = read(
        "# two\n\n[telemetry]\nengine = \"quay\"\npath = \"data/telemetry.db\" # here\nguard = \"read-only\"\nnote = \"nightly\"\n\n[scratch]\nengine = \"quay\"\npath = \":memory:\"\ncreate = true\n",
    );
    assert_eq!(found.problems, []);
    let telemetry = found.find("telemetry").unwrap();
    assert_eq!((telemetry.guard, telemetry.line, telemetry.note.as_deref()), (Guard::ReadOnly, 3, Some("nightly")));
    assert_eq!(telemetry.path("path"), Some(PathBuf::from("/harbour/.jaunty/data/telemetry.db")));
    assert!(found.find("scratch").unwrap().flag("create") && !telemetry.flag("create"));
    assert_eq!(found.nearest("telemetri"), Some("telemetry"));
}

#[test]
fn a_file_may_be_given_as_a_url() {
    let found = read(
        "[a]\nurl = \"quay:tides.db?mode=ro\"\n[b]\nurl = \"quay:tides.db?create=true\"\npath = \"other.db\"\n\
         [c]\nengine = \"quay\"\nurl = \"abacus://x\"\n[d]\nurl = \"quay:tides.db?port=x\"\n",
    );
    let a = found.find("a").unwrap();
    assert_eq!(a.path("path"), Some(PathBuf::from("/harbour/.jaunty/tides.db")));
    assert_eq!((a.guard, a.text("url")), (Guard::ReadOnly, None));
    let b = found.find("b").unwrap();
    assert_eq!((b.text("path"), b.flag("create"), b.guard), (Some("other.db"), true, Guard::Open));
    let told: Vec<_> = found.problems.iter().map(ToString::to_string).collect();
    assert_eq!(told.len(), 2, "{told:?}");
    assert!(told[0].contains("line 8: ") && told[0].contains("abacus"), "{told:?}");
    assert!(told[1].contains("line 10: port is not a whole number"), "{told:?}");
}

#[test]
fn every_mistake_names_file_line_and_remedy() {
    for (text, expected) in [
        (
            "[a]\nengine = \"quay\"\npath = \"x\n",
            "line 3: invalid basic string, expected `\"`. Fix the line: the file is TOML, one table per connection.",
        ),
        ("\n[a]\npath = \"x\"\n", "line 2: [a] has no engine. Add engine = \"…\", one of: quay."),
        ("[a]\nengine = \"quai\"\n", "line 2: unknown engine \"quai\". Did you mean \"quay\"?"),
        ("[a]\nengine = \"abacus\"\n", "line 2: unknown engine \"abacus\". Use one of: quay."),
        ("[a]\nengine = 5\n", "line 2: engine is not text. Write engine = \"…\"."),
        ("[a]\nengine = \"quay\"\n", "line 1: [a] has no path. Add path = \"…\": the database's file."),
        (
            "[a]\nengine = \"quay\"\npath = \"x\"\npth = \"y\"\n",
            "line 4: [a] has an unknown key 'pth' for quay. Did you mean path?",
        ),
        ("[a]\nengine = \"quay\"\npath = [1]\n", "line 3: path of [a] is not text. Write path = \"…\"."),
        (
            "[a]\nengine = \"quay\"\npath = \"x\"\nguard = \"careful\"\n",
            "line 4: unknown guard \"careful\". Use one of: open, ask, read-only.",
        ),
        (
            "name = \"x\"\n",
            "line 1: 'name' is outside any connection. Write it under a heading: [name], then name = … below it.",
        ),
    ] {
        let found = read(text);
        let told: Vec<_> = found.problems.iter().map(Problem::to_string).collect();
        assert_eq!(told, [format!("/harbour/.jaunty/connections.toml, {expected}")]);
    }
}

#[test]
fn a_mistake_costs_only_its_own_profile() {
    let found = read("[a]\nengine = \"quay\"\n[b]\nengine = \"quay\"\npath = \"x\"\n");
    assert_eq!((found.problems.len(), found.profiles.len()), (1, 1));
}

#[test]
fn the_projects_files_come_before_the_users() {
    let folder = tempfile::tempdir().unwrap();
    let folders = Folders::below(&folder.path().join("home"));
    let project = folder.path().join("project");
    let deep = project.join("src/deep");
    for (path, profile) in [(project.join(".jaunty"), "a.db"), (folders.config.clone(), "b.db")] {
        std::fs::create_dir_all(&path).unwrap();
        let text = format!(
            "[main]\nengine = \"quay\"\npath = \"{profile}\"\n[{}]\nengine = \"quay\"\npath = \"x\"\n",
            &profile[..1]
        );
        std::fs::write(path.join("connections.toml"), text).unwrap();
    }
    std::fs::create_dir_all(&deep).unwrap();
    let found = load(&connections_files(&deep, &folders), &[&Quay]);
    let names: Vec<_> = found.profiles.iter().map(|p| p.name.as_str()).collect();
    assert_eq!(names, ["main", "a", "b"]);
    assert_eq!(found.find("main").unwrap().path("path"), Some(project.join(".jaunty/a.db")));
    assert_eq!(connections_files(folder.path(), &folders).len(), 1, "no project here");
}
