//! From the server's errors to sentences. The numbers are those of its documentation, "Database Engine events and errors".

use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_tds::{Error, Message};

use crate::net::PASSWORD_REQUIRED;
use crate::net::limit::too_long;
use crate::net::reach::Route;

/// The error of a statement, from what the server says of it. `text` is what was sent.
pub fn statement(message: &Message, text: &str) -> EngineError {
    let kind = match message.number {
        1205 | 1222 | 3960 => ErrorKind::Locked,
        823..=825 | 5242 | 5243 | 8909 => ErrorKind::Damaged,
        _ if message.class >= 20 => ErrorKind::Lost,
        _ => ErrorKind::Refused,
    };
    let remedy = match message.number {
        208 => "Check the name, its schema, and the current database.",
        229 | 230 | 262 | 297 | 300 => "Ask for the privilege, or connect as a user who has it.",
        137 => "Declare it in the same batch: a line with GO ends one.",
        1205 => "Deadlock with another session: the transaction was rolled back. Run it again.",
        1222 => "Another session holds a lock. Try again, or find it with exec sp_who2.",
        3960 => "Another session changed the row meanwhile. Run the transaction again.",
        3998 => "An error made the transaction one that can only be rolled back: see SET XACT_ABORT.",
        102 | 156 if message.text.contains("'GO'") => "GO has to stand alone on its line.",
        _ => "",
    };
    let mut what = message.text.trim().trim_end_matches('.').to_owned();
    if !message.procedure.is_empty() {
        what.push_str(&format!(" (in {}, line {})", message.procedure, message.line));
    }
    let told = EngineError::new(kind, what).code(message.number.to_string()).at(place(message, text));
    if remedy.is_empty() { told } else { told.remedy(remedy) }
}

/// Where an error is in a text: at what it quotes in its line or behind, or else where its line begins.
pub fn place(message: &Message, text: &str) -> Option<usize> {
    if !message.procedure.is_empty() || message.line == 0 {
        return None;
    }
    let start = match message.line {
        1 => 0,
        line => text.match_indices('\n').nth(line as usize - 2)?.0 + 1,
    };
    let behind = text.get(start..)?;
    let quoted = message.text.split('\'').nth(1).or_else(|| message.text.split('"').nth(1)).unwrap_or_default();
    // The last part of a name with points is what is written in any case.
    let last = quoted.rsplit('.').next().unwrap_or_default();
    let found = [quoted, last].into_iter().filter(|name| !name.is_empty()).find_map(|name| word(behind, name));
    let blanks = behind.len() - behind.trim_start().len();
    Some(start + found.unwrap_or(blanks)).filter(|at| *at <= text.len())
}

/// Where a name stands in a text, in any case and not within another.
fn word(text: &str, name: &str) -> Option<usize> {
    let (lower, name) = (text.to_ascii_lowercase(), name.to_ascii_lowercase());
    let part = |c: char| c.is_alphanumeric() || c == '_';
    lower.match_indices(&name).map(|(at, _)| at).find(|at| {
        let before = lower.get(..*at).and_then(|text| text.chars().next_back());
        let after = lower.get(at + name.len()..).and_then(|text| text.chars().next());
        let edge = |c: Option<char>, own: Option<char>| !(own.is_some_and(part) && c.is_some_and(part));
        edge(before, name.chars().next()) && edge(after, name.chars().next_back())
    })
}

/// The error of a connection that broke.
pub fn broken(error: &Error) -> EngineError {
    match error {
        Error::TooLong(most) => {
            let what = format!("the server sent a row of more than {} MiB, the limit of this profile", most >> 20);
            too_long(what, *most)
        }
        Error::Closed => EngineError::new(ErrorKind::Lost, "the server closed the connection"),
        other => EngineError::new(ErrorKind::Lost, format!("the connection was lost: {other}")),
    }
}

/// The error of a login that broke.
pub fn while_logging_in(error: &Error, route: &Route) -> EngineError {
    let (what, remedy) = match error {
        Error::Io(error) if error.kind() != std::io::ErrorKind::UnexpectedEof => {
            (format!("the connection to {} broke during the login: {error}", route.address), CLOSED)
        }
        Error::Io(_) | Error::Closed => (format!("{} closed the connection during the login", route.address), CLOSED),
        other => (format!("{}: {other}", route.address), "Is it a SQL Server? Check host and port."),
    };
    EngineError::connecting(Step::Login, what).remedy(remedy)
}

const CLOSED: &str = "Is it a SQL Server? It may expect TLS first (tls_first), or be starting.";

/// The error of a login that was refused. `given` is whether there was a secret.
pub fn login(messages: &[Message], route: &Route, database: &str, given: bool) -> EngineError {
    let number = |wanted: &[i32]| messages.iter().find(|message| wanted.contains(&message.number));
    let Some(last) = messages.last() else {
        return while_logging_in(&Error::Closed, route);
    };
    let (message, step, remedy) = if let Some(message) = number(&[4060, 911, 40532]) {
        (message, Step::Database, "Check how the name is written, and whether the login may use it.")
    } else if let Some(message) = number(&[18487, 18488]) {
        (message, Step::Login, "The password has expired. Set a new one: alter login … with password = '…'.")
    } else if let Some(message) = number(&[18470, 18486]) {
        (message, Step::Login, "The login is locked or disabled. Ask the administrator.")
    } else if let Some(message) = number(&[18452]) {
        (message, Step::Login, "The server accepts only logins of its domain; Kerberos is not supported.")
    } else if let Some(message) = number(&[40615, 40914]) {
        (message, Step::Login, "The server's firewall does not let this machine in.")
    } else if let Some(message) = number(&[18456]) {
        let remedy = if given { "Check user and password." } else { PASSWORD_REQUIRED };
        (message, Step::Secret, remedy)
    } else {
        (last, Step::Login, "The server gave no details.")
    };
    let what = match step {
        Step::Database => format!("{} has no database \"{database}\" for this login", route.address),
        _ => message.text.trim().trim_end_matches('.').to_owned(),
    };
    EngineError::connecting(step, what).code(message.number.to_string()).remedy(remedy)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_found_by_what_is_quoted_behind_the_line() {
        let message = |text: &str, line: u32| Message {
            number: 207,
            state: 1,
            class: 16,
            text: text.into(),
            procedure: String::new(),
            line,
        };
        let text = "select nmae_of,\n  nmae\nfrom dbo.ports\n  where a = 1";
        let at = |told: &str, line| place(&message(told, line), text);
        assert_eq!(at("Invalid column name 'nmae'.", 1), text.find("nmae\n"));
        assert_eq!(at("Invalid object name 'DBO.Ports'.", 1), text.find("dbo.ports"));
        assert_eq!(at("Conversion failed.", 4), text.find("where"));
        assert_eq!(at("Conversion failed.", 9), None);
        assert_eq!(at("Incorrect syntax near ')'.", 3), text.find("from"));
        let inside = Message { procedure: "p".into(), ..message("no", 1) };
        assert_eq!(place(&inside, text), None);
    }
}
