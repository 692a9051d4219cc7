//! `jaunty connections`: all profiles, as a table or as JSON, never a secret.

use jaunty_core::connection::{Profile, Setting};
use jaunty_core::text::clean::{clean, clean_lines, width};
use serde_json::{Value, json};

use crate::args::Connections;
use crate::failure::Failure;

/// Keys whose values may be secrets, or lead to them.
const SECRET: &[&str] = &["secret", "secret_command", "password", "url"];

/// Lists the profiles. What is wrong in the files is told on standard error and is a failure.
pub fn list(args: &Connections) -> Result<(), Failure> {
    let folders = crate::open::folders()?;
    let found = crate::open::connections(&folders);
    if args.json {
        let all: Vec<_> = found.profiles.iter().map(as_json).collect();
        super::print(&format!("{:#}\n", Value::from(all)))?;
    } else if found.profiles.is_empty() && found.problems.is_empty() {
        super::print(
            "No connections. Write them into .jaunty/connections.toml of a project, or into jaunty/connections.toml of the configuration folder.\n",
        )?;
    } else {
        super::print(&table(&found.profiles))?;
    }
    match found.problems.as_slice() {
        [] => Ok(()),
        problems => Err(Failure::Usage(problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))),
    }
}

fn as_json(profile: &Profile) -> Value {
    let settings = profile.settings.iter().filter(|(key, _)| !SECRET.contains(&key.as_str()));
    let settings = settings.map(|(key, setting)| {
        let value = match setting {
            Setting::Text(text) => json!(text),
            Setting::Number(number) => json!(number),
            Setting::Flag(flag) => json!(flag),
        };
        (key.clone(), value)
    });
    json!({
        "name": profile.name,
        "engine": profile.engine,
        "guard": profile.guard.word(),
        "note": profile.note,
        "file": profile.file,
        "line": profile.line,
        "settings": settings.collect::<serde_json::Map<_, _>>(),
    })
}

fn table(profiles: &[Profile]) -> String {
    let head = ["name", "engine", "guard", "note", "file"].map(str::to_owned);
    let rows = profiles.iter().map(|p| {
        let file = p.file.as_ref().map_or_else(String::new, |file| format!("{}:{}", file.display(), p.line));
        let note = p.note.clone().unwrap_or_default();
        [p.name.clone(), p.engine.clone(), p.guard.word().to_owned(), note, file].map(|cell| clean(&cell).into_owned())
    });
    let rows: Vec<_> = [head].into_iter().chain(rows).collect();
    let wide = |column: usize| rows.iter().map(|row| width(&row[column])).max().unwrap_or(0);
    let widths: Vec<_> = (0..5).map(wide).collect();
    let line = |row: &[String; 5]| {
        let cells = row.iter().zip(&widths).map(|(cell, wide)| format!("{cell}{}", " ".repeat(wide - width(cell))));
        format!("{}\n", cells.collect::<Vec<_>>().join("  ").trim_end())
    };
    clean_lines(&rows.iter().map(line).collect::<String>()) + "\n"
}
