//! What shells complete: each script in its own shell.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::path::Path;
use std::process::Command;

use support::{Home, Screen};

fn home() -> Home {
    Home::ferry().file(".jaunty/buffers/ferry/fares.sql", "").file(".jaunty/buffers/ferry/tides.sql", "")
}

/// Writes the script of a shell into a file of this name.
fn script(home: &Home, shell: &str, name: &str) -> String {
    let path = home.path(name);
    std::fs::write(&path, home.call(&["completions", shell]).gives()).unwrap();
    path.display().to_string()
}

/// The search path of programs with this one in it.
fn path() -> String {
    let folder = Path::new(env!("CARGO_BIN_EXE_jaunty")).parent().unwrap().display().to_string();
    format!("{folder}:{}", std::env::var("PATH").unwrap())
}

fn said_by(home: &Home, shell: &str, arguments: &[&str]) -> String {
    let mut command = Command::new(shell);
    command.args(arguments).current_dir(home.path("project")).envs(home.environment()).env("PATH", path());
    let output = command.output().unwrap_or_else(|error| panic!("{shell}: {error}; scripts/test installs it"));
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap().trim().to_owned()
}

#[test]
fn bash_completes_names() {
    let home = home();
    assert_eq!(home.call(&["connections", "list", "--names"]).gives(), "ferry\ncareful\nmuseum\n");
    let script = script(&home, "bash", "complete.bash");
    let complete = |words: &str| {
        let ask = format!(
            "source '{script}'; COMP_WORDS=({words}); COMP_CWORD=$((${{#COMP_WORDS[@]}}-1)); _jaunty_with_names jaunty \
             \"${{COMP_WORDS[COMP_CWORD]}}\" \"${{COMP_WORDS[COMP_CWORD-1]}}\"; echo \"${{COMPREPLY[@]}}\""
        );
        said_by(&home, "bash", &["--norc", "-c", &ask])
    };
    assert_eq!(complete("jaunty run -c m"), "museum");
    assert_eq!(complete("jaunty -c m"), "museum");
    assert_eq!(complete("jaunty conn"), "connections");
    assert_eq!(complete("jaunty run -c ferry ferry/f"), "ferry/fares.sql");
    assert_eq!(complete("jaunty fer"), "ferry/fares.sql ferry/tides.sql ferry");
    assert_eq!(complete("jaunty log ferry/f"), "");
    assert_eq!(complete("jaunty schema m"), "museum");
    assert_eq!(complete("jaunty schema museum m"), "", "a table comes next");
    assert_eq!(complete("jaunty compare structure ferry c"), "careful");
    assert_eq!(complete("jaunty compare rows --table ports --right c"), "careful");
    assert_eq!(complete("jaunty connections try m"), "museum");
    assert_eq!(complete("jaunty connections add m"), "");
}

#[test]
fn fish_completes_names() {
    let home = home();
    let script = script(&home, "fish", "complete.fish");
    let complete = |words: &str| {
        let said = said_by(&home, "fish", &["--no-config", "-c", &format!("source '{script}'; complete -C '{words}'")]);
        // Each with what it is, after a tab.
        said.lines().map(|line| line.split('\t').next().unwrap_or_default().to_owned()).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(complete("jaunty run -c m"), "museum");
    assert_eq!(complete("jaunty conn"), "connections");
    assert_eq!(complete("jaunty run ferry/f"), "ferry/fares.sql");
    assert_eq!(complete("jaunty fer"), "ferry ferry.db ferry/fares.sql ferry/tides.sql");
    assert_eq!(complete("jaunty schema m"), "museum");
    assert_eq!(complete("jaunty compare structure --left m"), "museum");
    assert_eq!(complete("jaunty connections try m"), "museum");
    assert_eq!(complete("jaunty connections add m"), "");
}

#[test]
fn zsh_completes_names() {
    let home = home();
    script(&home, "zsh", "project/_jaunty");
    let screen = Screen::of_program("zsh", &home, &["-f"], &[("PATH", &path()), ("PS1", "> ")]);
    let folder = home.path("project").display().to_string();
    screen
        .shows(">")
        .types(&format!("fpath=({folder} $fpath)"))
        .press(&["Enter"])
        .types("autoload -Uz compinit; compinit -u -d ../dumped; clear; echo ready");
    screen.press(&["Enter"]).until("a clear screen", |text| text.starts_with("ready"));
    let completes = |typed: &str, whole: &str| {
        screen.types(typed).press(&["Tab"]).until(whole, |text| text.lines().any(|line| line.trim_end() == whole));
        screen.press(&["C-u"]).loses(whole);
    };
    completes("jaunty run -c m", "> jaunty run -c museum");
    completes("jaunty conn", "> jaunty connections");
    completes("jaunty run ferry/f", "> jaunty run ferry/fares.sql");
    completes("jaunty mus", "> jaunty museum");
    completes("jaunty schema m", "> jaunty schema museum");
    completes("jaunty compare structure --left m", "> jaunty compare structure --left museum");
    completes("jaunty connections try m", "> jaunty connections try museum");
    // After a command come its own words, and no commands.
    screen.types("jaunty log --out").press(&["Tab"]).shows("> jaunty log --outcome");
    screen.press(&["C-u"]).types("jaunty dump ").press(&["Tab", "Tab"]).shows("careful  ferry    museum");
    assert!(!screen.text().contains("Run statements"), "{}", screen.text());
    // The script was read, and nothing in it complained.
    assert!(!screen.text().contains("_jaunty:"), "{}", screen.text());
}
