//! Real editors drive `jaunty lsp`: Neovim by its own client, Emacs by eglot, and a client of others that is written
//! from the protocol's published model and takes no message that does not fit it.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::path::Path;
use std::process::Command;

use support::Home;

const STATEMENTS: &str = "-- ports by name\nselect p.name from ports p where p.id > 0 order by p.name;\n\n\
    select nmae from ports where id = 1;\n\n\
    with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) from n;\n";

/// A project with statements, on a connection that is found without being named.
fn home() -> Home {
    let line = "[ferry]\nengine = \"sqlite\"\npath = \"../ferry.db\"\n";
    Home::ferry().file(".jaunty/connections.toml", line).file("statements.sql", STATEMENTS)
}

/// What an editor prints that is driven by a script.
fn driven(home: &Home, program: &str, arguments: &[&str]) -> String {
    let mut command = Command::new(program);
    command.args(arguments).current_dir(home.path("project")).envs(home.environment());
    command.env("JAUNTY", env!("CARGO_BIN_EXE_jaunty")).env("TERM", "dumb");
    let output = command.output().unwrap_or_else(|error| panic!("{program}: {error}"));
    let (out, error) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{program} failed:\n{out}\n{error}");
    // Headless Neovim ends as if all were well.
    assert!(!error.contains("waited in vain"), "{out}\n{error}");
    out.into_owned()
}

fn script(name: &str) -> String {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/editors").join(name).display().to_string()
}

/// What all of them saw.
fn looks_right(seen: &str) {
    let line = |what: &str| {
        let found = seen.lines().find_map(|line| line.strip_prefix(what)?.strip_prefix(": "));
        found.unwrap_or_else(|| panic!("nothing of {what} in:\n{seen}")).to_owned()
    };
    assert!(line("completion").starts_with("id name berths"), "{seen}");
    assert!(line("hover").contains("TEXT"), "{seen}");
    assert!(line("diagnostic").contains("did you mean \"name\"?"), "{seen}");
    assert!(["true", "t", "True"].contains(&line("changed").as_str()), "{seen}");
    let rows = line("rows");
    assert!(rows.contains("ports by name · ferry") && rows.contains("rows 1 to 3 of 3"), "{seen}");
    assert_eq!(line("stopped"), "stopped");
    assert_eq!(line("renamed"), "select quay.name from ports quay where quay.id > 0 order by quay.name;");
}

#[test]
fn neovim_works_with_statements() {
    let home = home();
    let lua = format!("luafile {}", script("neovim.lua"));
    looks_right(&driven(&home, "nvim", &["--headless", "--clean", "-n", "-c", &lua, "-c", "qa!"]));
}

#[test]
fn emacs_works_with_statements() {
    let home = home();
    looks_right(&driven(&home, "emacs", &["--batch", "-q", "-l", &script("eglot.el")]));
}

#[test]
fn a_client_of_others_takes_every_message() {
    let home = home();
    let python = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/python/bin/python");
    let seen = driven(&home, &python.display().to_string(), &[&script("client.py")]);
    looks_right(&seen);
    // By what real editors announce, rows come by the best of three ways.
    let ways: Vec<&str> = seen.lines().filter_map(|line| line.split_once(": ")).map(|(_, way)| way).collect();
    for way in ["showDocument", "applyEdit"] {
        assert!(ways.iter().filter(|one| **one == way).count() >= 2, "{seen}");
    }
    assert_eq!(
        ways.iter().filter(|way| ["showDocument", "applyEdit", "showMessage"].contains(way)).count(),
        8,
        "{seen}"
    );
}
