//! What can go wrong with a database, as sentences.

use std::fmt;

use jaunty_language::statement::parameters::Numbered;
use jaunty_language::text::clean;

/// An error of an engine: what happened, where, and what to try.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EngineError {
    /// The kind, by which the program decides how to go on.
    pub kind: ErrorKind,
    /// What happened, as a sentence without a full stop. Server text is cleaned where it is shown.
    pub message: String,
    /// The server's own code, as `SQLITE_BUSY` or an SQLSTATE.
    pub code: Option<String>,
    /// The byte of the statement that the server points at.
    pub at: Option<usize>,
    /// What to do about it.
    pub remedy: Option<String>,
    /// The step of connecting that failed.
    pub step: Option<Step>,
}

/// The steps of connecting, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Step {
    /// Reading the profile.
    Profile,
    /// Through the SSH server in between.
    Tunnel,
    /// Finding the address of a name.
    Name,
    /// Reaching the address.
    Reach,
    /// Agreeing on encryption, and checking who is there.
    Tls,
    /// Being let in.
    Login,
    /// Being let in, for want of a secret. A secret may be asked for.
    Secret,
    /// Going to the database.
    Database,
    /// Setting the session up.
    Session,
}

impl EngineError {
    /// The step that failed, to stand before the message; nothing where the message says it.
    pub fn step_words(&self) -> String {
        match self.step {
            None | Some(Step::Reach | Step::Name) => String::new(),
            Some(step) => format!("failed at {}: ", step.word()),
        }
    }
}

impl Step {
    /// The step in a few words, for `failed at: …`.
    pub fn word(self) -> &'static str {
        match self {
            Step::Profile => "profile",
            Step::Tunnel => "tunnel",
            Step::Name => "host name",
            Step::Reach => "connecting to the server",
            Step::Tls => "TLS",
            Step::Login => "login",
            Step::Secret => "password",
            Step::Database => "database",
            Step::Session => "session",
        }
    }
}

/// Kinds of errors.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErrorKind {
    /// The connection could not be made.
    Connect,
    /// The server refused the statement.
    Refused,
    /// Another one holds a lock.
    Locked,
    /// The database is damaged or not a database.
    Damaged,
    /// The statement was stopped.
    Stopped,
    /// The connection is gone.
    Lost,
    /// Something on this side of the connection failed: a full disk, a file.
    Local,
}

impl EngineError {
    /// An error with a message and nothing else.
    pub fn new(kind: ErrorKind, message: impl Into<String>) -> Self {
        EngineError { kind, message: message.into(), code: None, at: None, remedy: None, step: None }
    }

    /// An error of connecting, at this step.
    pub fn connecting(step: Step, message: impl Into<String>) -> Self {
        EngineError { step: Some(step), ..EngineError::new(ErrorKind::Connect, message) }
    }

    /// The error of a statement that was stopped.
    pub fn stopped() -> Self {
        EngineError::new(ErrorKind::Stopped, "the statement was cancelled")
    }

    /// Adds the server's own code.
    pub fn code(mut self, code: impl Into<String>) -> Self {
        self.code = Some(code.into());
        self
    }

    /// Adds the place in the statement.
    pub fn at(mut self, at: Option<usize>) -> Self {
        self.at = at;
        self
    }

    /// The error with its place in the statement as a person wrote it, where parameters were numbered on the way.
    pub fn as_written(self, numbered: &Numbered) -> Self {
        let at = self.at.map(|at| numbered.written(at));
        self.at(at)
    }

    /// Adds what to do.
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    /// The error with the line of the statement it points at, a caret under the place, and what to
    /// do. `first_line` is the number that the statement's first line has in its file.
    ///
    /// ```text
    /// no such column: nmae
    ///   12 | select nmae from ports
    ///      |        ^
    /// ```
    pub fn explain(&self, statement: &str, first_line: usize) -> String {
        self.explain_within(statement, first_line, 100)
    }

    /// [`EngineError::explain`] for lines of so many cells: of a longer line, the part around the
    /// place is quoted.
    pub fn explain_within(&self, statement: &str, first_line: usize, width: usize) -> String {
        let mut text = self.to_string();
        if let Some(at) = self.at.filter(|at| statement.is_char_boundary(*at)) {
            let before = &statement[..at];
            let start = before.rfind('\n').map_or(0, |i| i + 1);
            let line = statement[start..].lines().next().unwrap_or_default();
            let number = (first_line + before.matches('\n').count()).to_string();
            let gutter = " ".repeat(number.len());
            let (line, indent) = around(line, at - start, width.saturating_sub(number.len() + 5).max(20));
            text.push_str(&format!("\n  {number} | {line}\n  {gutter} | {}^", " ".repeat(indent)));
        }
        if let Some(remedy) = &self.remedy {
            text.push_str(&format!("\n{remedy}"));
        }
        text
    }
}

/// As much of `line` around byte `at` as fits into `room` cells, cleaned; and the cell of that byte.
fn around(line: &str, at: usize, room: usize) -> (String, usize) {
    let (before, after) = line.split_at(at.min(line.len()));
    let shown = |text: &str| clean::clean(&text.replace('\t', "    ")).into_owned();
    let (mut before, after) = (shown(before), shown(after));
    if clean::width(&before) + clean::width(&after) > room {
        let most = room * 2 / 3;
        if clean::width(&before) > most {
            while clean::width(&before) >= most {
                before.remove(0);
            }
            before.insert(0, '…');
        }
    }
    let indent = clean::width(&before);
    let fitted = clean::fit(&after, room - indent.min(room));
    (format!("{before}{}{}", fitted.text, if fitted.cut { "…" } else { "" }), indent)
}

impl fmt::Display for EngineError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&clean::clean_lines(&self.message))?;
        if let Some(code) = &self.code {
            write!(f, " [{code}]")?;
        }
        Ok(())
    }
}

impl std::error::Error for EngineError {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_a_long_line_the_part_around_the_place_is_quoted() {
        let statement = format!("select {}nmae, {}", "a, ".repeat(60), "b, ".repeat(60));
        let error = EngineError::new(ErrorKind::Refused, "no").at(statement.find("nmae"));
        let told = error.explain_within(&statement, 1, 45);
        insta::assert_snapshot!(told, @r"
        no
          1 | … a, a, a, a, a, a, a, a, nmae, b, b, …
            |                           ^
        ");
    }

    #[test]
    fn the_caret_stands_under_the_place() {
        let statement = "select id,\n  'é', nmae\nfrom ports";
        let at = statement.find("nmae");
        let error = EngineError::new(ErrorKind::Refused, "no such column: nmae\x1b[2J")
            .code("SQLITE_ERROR")
            .at(at)
            .remedy("Look at the columns of ports.");
        insta::assert_snapshot!(error.explain(statement, 9), @r"
        no such column: nmae␛[2J [SQLITE_ERROR]
          10 |   'é', nmae
             |        ^
        Look at the columns of ports.
        ");
    }
}
