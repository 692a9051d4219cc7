//! What a server says where it cannot do what is asked ("Error Codes" of its documentation).

use super::value::{Document, Value, document};

/// A refusal.
#[derive(Debug, Clone)]
pub struct Failure {
    pub code: i32,
    pub name: &'static str,
    pub message: String,
    /// What else the reply has.
    pub more: Document,
}

impl Failure {
    pub fn new(code: i32, name: &'static str, message: impl Into<String>) -> Failure {
        Failure { code, name, message: message.into(), more: Document::new() }
    }

    pub fn bad(message: impl Into<String>) -> Failure {
        Failure::new(2, "BadValue", message)
    }

    pub fn parse(message: impl Into<String>) -> Failure {
        Failure::new(9, "FailedToParse", message)
    }

    pub fn type_of(message: impl Into<String>) -> Failure {
        Failure::new(14, "TypeMismatch", message)
    }

    /// Another member takes writes.
    pub fn not_primary() -> Failure {
        let labels = Value::Array(vec![Value::text("RetryableWriteError")]);
        let more = document([("errorLabels", labels)]);
        Failure { more, ..Failure::new(10107, "NotWritablePrimary", "not primary") }
    }

    /// It was ended by somebody.
    pub fn ended() -> Failure {
        Failure::new(11601, "Interrupted", "operation was interrupted")
    }

    /// The reply of a command.
    pub fn reply(&self) -> Document {
        let mut reply = document([
            ("ok", Value::Double(0.0)),
            ("errmsg", Value::text(&*self.message)),
            ("code", Value::Int(self.code)),
            ("codeName", Value::text(self.name)),
        ]);
        reply.extend(self.more.iter().cloned());
        reply
    }

    /// A part of the reply of a write: which of its statements it was.
    pub fn of_write(&self, number: usize) -> Value {
        let mut error = document([
            ("index", Value::Int(i32::try_from(number).unwrap_or(i32::MAX))),
            ("code", Value::Int(self.code)),
            ("errmsg", Value::text(&*self.message)),
        ]);
        error.extend(self.more.iter().cloned());
        Value::Document(error)
    }
}
