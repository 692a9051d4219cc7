//! The statements in the files of MariaDB's own tests, which Debian packages (`mariadb-test-data`).

use std::path::{Path, PathBuf};

/// The files of such tests below a folder.
pub fn tests_of(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        match path.extension().and_then(|e| e.to_str()) {
            _ if path.is_dir() => found.extend(tests_of(&path)),
            Some("test" | "inc") => found.push(path),
            _ => {}
        }
    }
    found
}

/// Commands of the program that runs those tests, as far as they could pass for statements.
const COMMANDS: &[&str] = &[
    "connect",
    "connection",
    "disconnect",
    "source",
    "let",
    "echo",
    "error",
    "exec",
    "send",
    "reap",
    "perl",
    "eof",
    "sleep",
    "real_sleep",
    "query_vertical",
    "query_horizontal",
    "eval_vertical",
    "sync_slave_with_master",
    "die",
];

/// The statements of one such test. The rules are those of its own runner: a statement ends at the delimiter
/// outside quotes and comments.
pub fn statements_of(file: &Path) -> Vec<String> {
    let text = String::from_utf8_lossy(&std::fs::read(file).unwrap_or_default()).into_owned();
    let (mut found, mut delimiter) = (Vec::new(), ";".to_owned());
    let mut rest = text.as_str();
    loop {
        rest = rest.trim_start_matches(|c: char| c.is_whitespace() || matches!(c, '{' | '}'));
        if rest.is_empty() {
            return found;
        }
        let line_end = rest.find('\n').unwrap_or(rest.len());
        let line = &rest[..line_end];
        let command = line.trim_start_matches("--").trim_start();
        let word = command.split(|c: char| !c.is_alphanumeric() && c != '_').next().unwrap_or_default();
        if word.eq_ignore_ascii_case("delimiter") {
            let named = command[word.len()..].split_whitespace().next().unwrap_or(";");
            let bare = named.strip_suffix(delimiter.as_str()).filter(|bare| !bare.is_empty());
            delimiter = bare.unwrap_or(named).to_owned();
            rest = &rest[line_end..];
        } else if line.starts_with('#') || line.starts_with("--") {
            rest = &rest[line_end..];
        } else {
            let end = end_of(rest, &delimiter);
            let statement = rest[..end].trim();
            // Variables of the runner stand for anything.
            let variables = statement.as_bytes().windows(2).any(|two| two[0] == b'$' && two[1].is_ascii_alphabetic());
            if !variables && !COMMANDS.contains(&word.to_lowercase().as_str()) && statement.len() < 20_000 {
                found.push(statement.to_owned());
            }
            rest = rest.get(end + delimiter.len()..).unwrap_or_default();
        }
    }
}

/// The first delimiter outside quotes and comments, or the end.
fn end_of(text: &str, delimiter: &str) -> usize {
    let bytes = text.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        if bytes[at..].starts_with(delimiter.as_bytes()) {
            return at;
        }
        let skip_to = |end: &str| {
            text.get(at + 1..).and_then(|rest| rest.find(end)).map_or(bytes.len(), |n| at + 1 + n + end.len())
        };
        match bytes[at] {
            quote @ (b'\'' | b'"' | b'`') => {
                at += 1;
                while at < bytes.len() && bytes[at] != quote {
                    at += 1 + usize::from(bytes[at] == b'\\' && quote != b'`');
                }
                at += 1;
            }
            b'#' => at = skip_to("\n"),
            b'-' if bytes[at..].starts_with(b"-- ") => at = skip_to("\n"),
            b'/' if bytes[at..].starts_with(b"/*") => at = skip_to("*/"),
            _ => at += 1,
        }
    }
    bytes.len()
}
