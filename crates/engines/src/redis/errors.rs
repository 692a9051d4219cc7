//! What the server or the driver says against a command.

use jaunty_seam::error::{EngineError, ErrorKind};
use redis::{RedisError, Value};

/// What the server says against a command, if that is its reply.
pub fn refusal(reply: &Value) -> Option<EngineError> {
    match reply {
        Value::ServerError(error) => Some(refused(error.code(), error.details().unwrap_or_default())),
        _ => None,
    }
}

fn refused(code: &str, said: &str) -> EngineError {
    let kind = match code {
        "UNBLOCKED" => ErrorKind::Stopped,
        _ if said.contains("SCRIPT KILL") || said.contains("killed by user") => ErrorKind::Stopped,
        _ => ErrorKind::Refused,
    };
    let remedy = match code {
        "WRONGTYPE" => Some("Ask for the key's type: type name."),
        "NOPERM" => Some("The user lacks this permission; see acl whoami and acl getuser."),
        "EXECABORT" => Some("A command of the transaction was refused; none of it was run."),
        "READONLY" => Some("This server is a replica: writes go to its primary."),
        "OOM" => Some("The server's memory is full."),
        "CROSSSLOT" => Some("Keys of one command have to be in one slot: the same text in braces, such as {port:7}."),
        "CLUSTERDOWN" => Some("The cluster is not whole: see cluster info."),
        "TRYAGAIN" | "MOVED" | "ASK" => Some("The cluster is moving these keys: run it again."),
        "LOADING" => Some("The server is still reading its data: run it again after a while."),
        "BUSY" => Some("Another client's script runs; script kill ends it."),
        _ => None,
    };
    let text = if said.is_empty() { code.to_owned() } else { said.to_owned() };
    let error = EngineError::new(kind, text).code(code);
    match remedy {
        Some(remedy) => error.remedy(remedy),
        None => error,
    }
}

/// An error of the driver.
pub fn failed(error: &RedisError) -> EngineError {
    if error.is_io_error() || error.is_connection_dropped() {
        return EngineError::new(ErrorKind::Lost, "the server closed the connection");
    }
    // A reply that was cut in the middle, or is no reply at all.
    if matches!(error.kind(), redis::ErrorKind::Parse) {
        return EngineError::new(
            ErrorKind::Lost,
            "the connection was cut in the middle of a reply, or what came is not a Redis reply",
        )
        .remedy("The connection was closed; the next command reconnects.");
    }
    match error.code() {
        Some(code) => refused(code, error.detail().unwrap_or_default()),
        None => EngineError::new(ErrorKind::Refused, error.to_string()),
    }
}
