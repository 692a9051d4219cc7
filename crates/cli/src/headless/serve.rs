//! The interface for programs, without a screen: `jaunty serve`, `jaunty call` and `jaunty send`.

use std::io::{self, BufReader};
use std::path::Path;
use std::sync::Arc;

use jaunty_core::run::Keeping;
use jaunty_core::settings;
use jaunty_engines::ENGINES;
use jaunty_language::text::rope;
use jaunty_serve::Options;
use jaunty_serve::api;
use jaunty_serve::place::Encoding;
use jaunty_serve::service::Service;
use jaunty_serve::socket::{Answer, Tell, ask, each_told, serve_lines};
use jaunty_serve::text::{Text, language_of, uri_of};
use serde_json::{Value, json};

use super::tasks::file_and_line;
use crate::failure::Failure;

pub fn service() -> Result<Service, Failure> {
    let folders = crate::open::folders()?;
    crate::log::begin(&folders);
    let settings = settings::load(&folders.settings());
    let keeping = Keeping::open(&folders, settings.retention).ahead(settings.ahead);
    Ok(Service::new(Options { folders, engines: ENGINES, keeping }, None))
}

/// Answers programs until they end, or describes how.
pub fn serve(describe: bool, markdown: bool) -> Result<(), Failure> {
    if describe {
        let text = serde_json::to_string_pretty(&api::described()).unwrap_or_default();
        return super::print(&format!("{text}\n"));
    }
    if markdown {
        return super::print(&api::markdown());
    }
    let service = service()?;
    let answer: Answer = Arc::new(move |method, params, tell| service.answer(method, params, tell));
    serve_lines(BufReader::new(io::stdin()), io::stdout(), &answer);
    Ok(())
}

/// Asks one thing, and prints the answer as JSON.
pub fn call(method: &str, params: Option<&str>) -> Result<(), Failure> {
    let params: Value = match params {
        Some(text) => serde_json::from_str(text)
            .map_err(|error| Failure::Usage(format!("the parameters are not JSON: {error}")))?,
        None => json!({}),
    };
    // A mistake is told whoever would answer.
    api::checked(method, &params).map_err(|refusal| Failure::Usage(refusal.message))?;
    let folders = crate::open::folders()?;
    let here = std::env::current_dir().unwrap_or_default();
    let silent = |error: io::Error| Failure::Database(format!("the screen does not answer: {error}"));
    let answer = match crate::screen::reach(&folders, &here) {
        Some(stream) if method == "screen.watch" => {
            let mut stream = BufReader::new(stream);
            let first = ask(&mut stream, method, &params, |_| {}).map_err(silent)?.map_err(Failure::Database)?;
            super::print(&format!("{first}\n"))?;
            return each_told(stream, |state| super::print(&format!("{state}\n")));
        }
        Some(stream) => ask(&mut BufReader::new(stream), method, &params, |_| {}).map_err(silent)?,
        None => {
            let tell: Tell = Arc::new(|_| true);
            service()?.answer(method, &params, &tell).map_err(|refusal| refusal.message)
        }
    };
    let answer = answer.map_err(Failure::Database)?;
    super::print(&format!("{answer}\n"))
}

/// Runs the statement at a line of a file on the screen.
pub fn send(place: &str, connection: Option<String>) -> Result<(), Failure> {
    let (path, line) = file_and_line(place);
    let line = line.ok_or_else(|| Failure::Usage("name the line, as in statements.sql:12".to_owned()))?;
    let text = super::read(&path)?;
    let lines = rope(&text);
    if line == 0 || line > lines.len_lines() {
        return Err(Failure::Usage(format!("no line {line}; the file has {}", lines.len_lines())));
    }
    let path = std::path::absolute(&path).map_err(|error| Failure::Usage(error.to_string()))?;
    let uri = uri_of(&path);
    let document = Text::new(&uri, 0, &text, language_of(&uri, ""), Encoding::Utf8);
    let bytes = document.line(line - 1);
    let begins = document.outline.statements().iter().map(|statement| statement.start);
    let at = begins.into_iter().find(|start| bytes.contains(start)).unwrap_or(bytes.start);
    if document.is_code() && document.statement_at(at).is_none() {
        return Err(Failure::Usage(format!("no statement at line {line}")));
    }
    let shown = document.written().to_string();
    let mut params = json!({"path": path, "at": at, "version": version(&shown), "text": shown});
    if let Some(code) = document.code() {
        params["host"] = json!(code.host().name);
    }
    if let Some(connection) = connection.or_else(|| document.connection_line()) {
        params["connection"] = json!(connection);
    }
    let folders = crate::open::folders()?;
    let here = path.parent().unwrap_or(Path::new("."));
    let stream = crate::screen::reach(&folders, here).ok_or_else(|| {
        Failure::Usage("no jaunty is running for this project; start one in another terminal: jaunty --pane".to_owned())
    })?;
    let answer = ask(&mut BufReader::new(stream), "screen.run", &params, |_| {});
    let answer = answer.map_err(|error| Failure::Database(format!("the screen does not answer: {error}")))?;
    answer.map(drop).map_err(Failure::Database)
}

/// A number that tells this text from others of the file.
fn version(text: &str) -> u64 {
    use std::hash::{DefaultHasher, Hash, Hasher};
    let mut hasher = DefaultHasher::new();
    text.hash(&mut hasher);
    // As editors count: never below zero, and small enough for any of them.
    hasher.finish() >> 12
}
