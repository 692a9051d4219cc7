//! From the server's errors to sentences.

use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::Secret;
use tokio_postgres::error::{DbError, ErrorPosition, SqlState};

use crate::net::GIVE_PASSWORD;
use crate::net::reach::Route;
use crate::net::tls;

/// The error of a statement.
pub fn statement(error: &tokio_postgres::Error, statement: &str) -> EngineError {
    let Some(db) = error.as_db_error() else {
        let kind = if error.is_closed() || is_io(error) { ErrorKind::Lost } else { ErrorKind::Refused };
        let what = match kind {
            ErrorKind::Lost => "the server closed the connection".to_owned(),
            _ => with_causes(error),
        };
        return EngineError::new(kind, what);
    };
    let kind = match db.code() {
        &SqlState::QUERY_CANCELED => ErrorKind::Stopped,
        &SqlState::ADMIN_SHUTDOWN | &SqlState::CRASH_SHUTDOWN | &SqlState::CANNOT_CONNECT_NOW => ErrorKind::Lost,
        &SqlState::LOCK_NOT_AVAILABLE => ErrorKind::Locked,
        &SqlState::DATA_CORRUPTED | &SqlState::INDEX_CORRUPTED => ErrorKind::Damaged,
        _ => ErrorKind::Refused,
    };
    let at = match db.position() {
        Some(ErrorPosition::Original(position)) => byte_of(statement, *position as usize),
        _ => None,
    };
    EngineError {
        code: Some(db.code().code().to_owned()),
        remedy: remedy(db),
        ..EngineError::new(kind, said(db)).at(at)
    }
}

/// What the server says, with its detail.
fn said(db: &DbError) -> String {
    match db.detail() {
        Some(detail) => format!("{} ({})", db.message(), detail.trim_end_matches('.')),
        None => db.message().to_owned(),
    }
}

fn remedy(db: &DbError) -> Option<String> {
    if let Some(hint) = db.hint() {
        return Some(hint.to_owned());
    }
    let remedy = match db.code() {
        &SqlState::IN_FAILED_SQL_TRANSACTION => {
            "A statement in this transaction failed. Run rollback, then start again; or roll back to a savepoint."
        }
        &SqlState::READ_ONLY_SQL_TRANSACTION => "The profile's guard is read-only: the server refuses writes.",
        &SqlState::T_R_DEADLOCK_DETECTED => "Deadlock or conflict with another session. Run it again.",
        &SqlState::LOCK_NOT_AVAILABLE => "Another session holds a lock. Try again, or find it in pg_stat_activity.",
        &SqlState::DISK_FULL => "The server's disk is full.",
        &SqlState::INSUFFICIENT_PRIVILEGE => "Ask for the privilege, or switch to a role that has it.",
        &SqlState::ADMIN_SHUTDOWN | &SqlState::CRASH_SHUTDOWN => "The next run connects again.",
        _ => return None,
    };
    Some(remedy.to_owned())
}

/// The byte of a character counted from 1.
fn byte_of(statement: &str, position: usize) -> Option<usize> {
    let index = position.checked_sub(1)?;
    statement.char_indices().map(|(at, _)| at).chain([statement.len()]).nth(index)
}

/// The error of a login.
pub fn login(error: &tokio_postgres::Error, route: &Route, secret: Option<&Secret>, database: &str) -> EngineError {
    let host = route.address.host();
    if let Some(failure) = tls::failure(error, host) {
        return failure;
    }
    let Some(db) = error.as_db_error() else {
        let text = with_causes(error);
        if text.contains("server does not support TLS") {
            return EngineError::connecting(Step::Tls, format!("{} does not support TLS", route.address))
                .remedy("Enable it on the server, or set tls = \"prefer\" if the network is trusted.");
        }
        if text.contains("password missing") {
            return EngineError::connecting(Step::Secret, format!("{} requires a password", route.address))
                .remedy(super::files::passed_over().unwrap_or_else(|| GIVE_PASSWORD.to_owned()));
        }
        if text.contains("invalid password") || text.contains("empty password") {
            return EngineError::connecting(Step::Secret, "the password cannot be used");
        }
        if error.is_closed() || is_io(error) {
            let remedy =
                "Is it a PostgreSQL server? It may have reached its limit of connections, or refuse this address.";
            return EngineError::connecting(
                Step::Login,
                format!("{} closed the connection during the login", route.address),
            )
            .remedy(remedy);
        }
        return EngineError::connecting(Step::Login, text);
    };
    let (step, remedy) = match *db.code() {
        SqlState::INVALID_PASSWORD => (Step::Secret, "Check user and password."),
        SqlState::INVALID_AUTHORIZATION_SPECIFICATION if secret.is_none() && db.message().contains("password") => {
            (Step::Secret, "Check user and password.")
        }
        SqlState::INVALID_AUTHORIZATION_SPECIFICATION if db.message().contains("no encryption") => {
            (Step::Tls, "The server requires an encrypted connection: set tls = \"require\" or \"verify-full\".")
        }
        SqlState::INVALID_AUTHORIZATION_SPECIFICATION if db.message().contains("client certificate") => {
            (Step::Tls, "Set tls_cert and tls_key in the profile.")
        }
        SqlState::INVALID_AUTHORIZATION_SPECIFICATION => {
            (Step::Login, "Check the user, and whether the server's pg_hba.conf allows it from here.")
        }
        SqlState::INVALID_CATALOG_NAME => (Step::Database, "Check how the name is written."),
        SqlState::TOO_MANY_CONNECTIONS => (Step::Login, "Close connections that nobody uses, or try again later."),
        SqlState::CANNOT_CONNECT_NOW => (Step::Login, "The server is starting or stopping. Try again in a moment."),
        SqlState::INSUFFICIENT_PRIVILEGE => (Step::Database, "Ask for access to this database."),
        _ => (Step::Login, "The server gave no details."),
    };
    let what = match step {
        Step::Database if db.code() == &SqlState::INVALID_CATALOG_NAME => {
            format!("{} has no database \"{database}\"", route.address)
        }
        _ => said(db),
    };
    // It may be up soon, and another of the cluster's servers is.
    let step = if db.code() == &SqlState::CANNOT_CONNECT_NOW { Step::Reach } else { step };
    EngineError { code: Some(db.code().code().to_owned()), ..EngineError::connecting(step, what).remedy(remedy) }
}

fn is_io(error: &tokio_postgres::Error) -> bool {
    std::error::Error::source(error).is_some_and(|source| source.is::<std::io::Error>())
}

/// An error with what it came from.
fn with_causes(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        let more = error.to_string();
        if !text.contains(&more) {
            text.push_str(": ");
            text.push_str(&more);
        }
        cause = error.source();
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_count_characters() {
        assert_eq!(byte_of("é select", 3), Some(3));
        assert_eq!(byte_of("abc", 4), Some(3), "the end");
        assert_eq!((byte_of("abc", 0), byte_of("abc", 9)), (None, None));
    }
}
