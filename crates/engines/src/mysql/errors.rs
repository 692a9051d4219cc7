//! From the server's errors to sentences. The numbers are those of the server's error reference.

use std::io;

use jaunty_mysql::{Error, ServerError};
use jaunty_seam::error::{EngineError, ErrorKind, Step};

use crate::net::PASSWORD_REQUIRED;
use crate::net::limit::too_long;
use crate::net::reach::Route;

/// The error of a statement, or of a connection that broke.
pub fn statement(error: &Error, statement: &str) -> EngineError {
    match error {
        Error::Server(server) => of_statement(server, statement),
        Error::TooLong(most) => {
            let what = format!("the server sent a row of more than {} MiB, the limit of this profile", most >> 20);
            too_long(what, *most)
        }
        Error::Closed | Error::Io(_) => EngineError::new(ErrorKind::Lost, "the server closed the connection"),
        other => EngineError::new(ErrorKind::Lost, format!("the connection was lost: {other}")),
    }
}

/// The error of a server that wants a file of this machine.
pub fn asks_for_file(name: &str) -> EngineError {
    let what = format!("the server asks for the file {name} of this machine, and none is sent to a server unasked");
    EngineError::new(ErrorKind::Refused, what)
        .remedy("Nothing of it was loaded. Load it with the action \"Load a file\", or with jaunty load.")
}

/// The error of a statement that the server refuses.
pub fn of_statement(server: &ServerError, statement: &str) -> EngineError {
    let kind = match server.code {
        1317 | 1969 | 3024 => ErrorKind::Stopped,
        1053 | 1077 | 1079 | 1927 | 2006 | 2013 => ErrorKind::Lost,
        1205 | 1213 => ErrorKind::Locked,
        1034 | 1035 | 1194 | 1195 => ErrorKind::Damaged,
        _ => ErrorKind::Refused,
    };
    let told =
        EngineError::new(kind, server.message.clone()).code(server.code.to_string()).at(place(server, statement));
    let remedy = remedy(server.code, &server.message);
    if remedy.is_empty() { told } else { told.remedy(remedy) }
}

/// What to do about an error of a statement, by its number; empty where nothing is known.
pub fn remedy(code: u16, message: &str) -> &'static str {
    match code {
        1366 if message.contains("string value") => {
            "The column's character set has no such character: alter table … convert to character set utf8mb4."
        }
        1792 => "The profile's guard is read-only: the server refuses writes.",
        1205 => "Another session holds a lock. Try again, or find it with show processlist.",
        1213 => "Deadlock or conflict with another session. Run it again.",
        1046 => "Go to a database: use name, or the action \"Switch database\".",
        1142 | 1143 | 1227 | 1044 => "Ask for the privilege, or connect as a user who has it.",
        1820 | 1862 => "The password has expired. Set a new one: set password = password('…').",
        _ => "",
    }
}

/// Where the server says that it stumbled: `near '…' at line 3`.
fn place(server: &ServerError, statement: &str) -> Option<usize> {
    let (before, line) = server.message.rsplit_once("' at line ")?;
    let near = before.split_once("near '")?.1;
    let line: usize = line.trim().parse().ok()?;
    let start = match line.checked_sub(2) {
        None => 0,
        Some(breaks) => statement.match_indices('\n').nth(breaks)?.0 + 1,
    };
    if near.is_empty() {
        return Some(statement.trim_end().len());
    }
    // The server quotes some eighty characters at most.
    let first = near.lines().next().unwrap_or(near);
    statement[start..].find(first).map(|at| start + at)
}

/// The error of a login.
pub fn login(error: &Error, route: &Route, database: &str, given: bool) -> EngineError {
    let told = |what: String| EngineError::connecting(Step::Login, what);
    match error {
        Error::Closed => closed(route),
        Error::Io(error) if matches!(error.kind(), io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe) => {
            closed(route)
        }
        Error::Io(error) => route.unreachable(error),
        Error::Server(server) => refused(server, route, database, given),
        Error::ClearPassword => EngineError::connecting(Step::Tls, error.to_string())
            .remedy("Set tls = \"verify-full\", so that nobody else can read it."),
        Error::UnknownPlugin(_) => told(error.to_string()).remedy(
            "Ask for a user who logs in by password: mysql_native_password, caching_sha2_password, ed25519 or parsec.",
        ),
        other => {
            told(format!("{}: {other}", route.address)).remedy("Is it a MySQL or MariaDB server? Check host and port.")
        }
    }
}

fn closed(route: &Route) -> EngineError {
    EngineError::connecting(Step::Login, format!("{} closed the connection during the login", route.address))
        .remedy("Is it a MySQL or MariaDB server? It may have reached its limit of connections.")
}

fn refused(server: &ServerError, route: &Route, database: &str, given: bool) -> EngineError {
    let (step, remedy) = match server.code {
        1045 if !given => (Step::Secret, PASSWORD_REQUIRED),
        1045 => (Step::Secret, "Check user and password, and whether the server accepts this user from here."),
        1698 => (Step::Login, "This user logs in another way than by password, often through the socket."),
        1049 => (Step::Database, "Check how the name is written."),
        1044 => (Step::Database, "Ask for access to this database."),
        1040 | 1203 | 1226 => (Step::Login, "Close connections that nobody uses, or try again later."),
        1129 | 1130 => {
            (Step::Login, "The server does not accept connections from this machine. Ask its administrator.")
        }
        1820 | 1862 => (Step::Login, "The password has expired. Set a new one with the server's own client."),
        3159 => (Step::Tls, "The server requires an encrypted connection: set tls = \"require\" or \"verify-full\"."),
        _ => (Step::Login, "The server gave no details."),
    };
    let what = match server.code {
        1049 => format!("{} has no database \"{database}\"", route.address),
        _ => server.message.clone(),
    };
    EngineError { code: Some(server.code.to_string()), ..EngineError::connecting(step, what).remedy(remedy) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_place_is_found_by_what_is_quoted() {
        let server = |message: &str| ServerError { code: 1064, message: message.into(), state: "42000".into() };
        let near = |near: &str, line: usize| server(&format!("You have an error near '{near}' at line {line}"));
        let statement = "select 1,\n  2 frm ports\nwhere frm = 1";
        assert_eq!(place(&near("ports\nwhere frm = 1", 2), statement), statement.find("ports"));
        assert_eq!(place(&near("frm = 1", 3), statement), statement.rfind("frm"));
        assert_eq!(place(&near("", 3), statement), Some(statement.len()));
        assert_eq!(place(&near("slect 1", 1), "slect 1"), Some(0));
        assert_eq!(place(&server("no such table"), statement), None);
    }
}
