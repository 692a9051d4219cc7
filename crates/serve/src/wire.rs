//! Messages as they travel: JSON-RPC 2.0 after a head that says how long each is
//! (<https://microsoft.github.io/language-server-protocol/specifications/lsp/3.17/specification/#baseProtocol>).
//!
//! What comes is hostile until it is read: a head that makes no sense is skipped up to the next one that does, and a
//! message of more bytes than [`LONGEST`] is read over, never kept.

use std::io::{self, BufRead, Read, Write};

use serde_json::{Value, json};

/// A message of more bytes is not taken.
pub const LONGEST: u64 = 256 << 20;

/// A line of a head of more bytes is none.
const LONGEST_LINE: u64 = 4096;

/// The code of a message that is not JSON.
pub const PARSE_ERROR: i64 = -32700;
/// The code of JSON that is not a message.
pub const INVALID_REQUEST: i64 = -32600;
/// The code of a method that nobody knows.
pub const METHOD_NOT_FOUND: i64 = -32601;
/// The code of parameters that do not fit.
pub const INVALID_PARAMS: i64 = -32602;
/// The code of a request before `initialize`.
pub const NOT_INITIALIZED: i64 = -32002;
/// The code of a request that the editor does not want answered any more.
pub const REQUEST_CANCELLED: i64 = -32800;
/// The code of a request that could not be done, although it was a good one.
pub const REQUEST_FAILED: i64 = -32803;

/// What came.
#[derive(Debug, Clone, PartialEq)]
pub enum Incoming {
    /// Somebody asks, and waits for an answer to this id.
    Request {
        /// A number or a text, to be given back.
        id: Value,
        /// What is asked.
        method: String,
        /// With what.
        params: Value,
    },
    /// Somebody tells.
    Notification {
        /// What.
        method: String,
        /// With what.
        params: Value,
    },
    /// An answer to what was asked of the other side.
    Response {
        /// What that was.
        id: Value,
        /// The answer; what went wrong instead.
        result: Result<Value, Value>,
    },
    /// Something that is none of these: the answer that it gets.
    Garbled(Value),
}

/// Why a request is not answered with a result.
#[derive(Debug, Clone, PartialEq)]
pub struct Refusal {
    /// One of the protocol's codes.
    pub code: i64,
    /// A sentence.
    pub message: String,
}

impl Refusal {
    /// Parameters that do not fit.
    pub fn params(message: impl Into<String>) -> Refusal {
        Refusal { code: INVALID_PARAMS, message: message.into() }
    }

    /// What cannot be done now.
    pub fn failed(message: impl Into<String>) -> Refusal {
        Refusal { code: REQUEST_FAILED, message: message.into() }
    }

    /// The message that says it.
    pub fn to(&self, id: &Value) -> Value {
        json!({"jsonrpc": "2.0", "id": id, "error": {"code": self.code, "message": self.message}})
    }
}

/// Reads the next message; `None` at the end of what comes.
///
/// An error is one of the pipe: whatever stands in the bytes is a [`Incoming::Garbled`] at worst.
pub fn read(input: &mut impl BufRead) -> io::Result<Option<Incoming>> {
    let mut length: Option<u64> = None;
    loop {
        let mut line = Vec::new();
        if input.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line)? == 0 {
            return Ok(None);
        }
        let text = String::from_utf8_lossy(&line);
        let text = text.trim_end_matches(['\r', '\n']);
        if let Some(told) = text.split_once(':').filter(|(name, _)| name.trim().eq_ignore_ascii_case("content-length"))
        {
            length = told.1.trim().parse().ok();
        } else if text.is_empty()
            && let Some(length) = length.take()
        {
            return body(input, length).map(Some);
        }
        // Other lines of a head, and what is none, are passed over.
    }
}

fn body(input: &mut impl BufRead, length: u64) -> io::Result<Incoming> {
    if length > LONGEST {
        io::copy(&mut input.by_ref().take(length), &mut io::sink())?;
        let message = format!("a message of {length} bytes is not taken; at most {LONGEST}");
        return Ok(Incoming::Garbled(Refusal { code: INVALID_REQUEST, message }.to(&Value::Null)));
    }
    let mut bytes = Vec::new();
    input.by_ref().take(length).read_to_end(&mut bytes)?;
    if (bytes.len() as u64) < length {
        return Err(io::ErrorKind::UnexpectedEof.into());
    }
    Ok(match serde_json::from_slice(&bytes) {
        Ok(value) => understood(value),
        Err(error) => {
            let message = format!("the message is not JSON: {error}");
            Incoming::Garbled(Refusal { code: PARSE_ERROR, message }.to(&Value::Null))
        }
    })
}

/// What a message is.
pub fn understood(mut value: Value) -> Incoming {
    let id = value.get("id").cloned().filter(|id| id.is_number() || id.is_string());
    let mut part = |name: &str| value.get_mut(name).map(Value::take);
    let method = part("method");
    match (method, id) {
        (Some(Value::String(method)), Some(id)) => {
            Incoming::Request { id, method, params: part("params").unwrap_or_default() }
        }
        (Some(Value::String(method)), None) => {
            Incoming::Notification { method, params: part("params").unwrap_or_default() }
        }
        (None, Some(id)) => {
            let result = match part("error") {
                Some(error) if !error.is_null() => Err(error),
                _ => Ok(part("result").unwrap_or_default()),
            };
            Incoming::Response { id, result }
        }
        (_, id) => {
            let message = "that is neither a request, a notification nor a response of JSON-RPC 2.0".to_owned();
            Incoming::Garbled(Refusal { code: INVALID_REQUEST, message }.to(&id.unwrap_or_default()))
        }
    }
}

/// Writes a message.
pub fn write(output: &mut impl Write, message: &Value) -> io::Result<()> {
    let body = message.to_string();
    write!(output, "Content-Length: {}\r\n\r\n{body}", body.len())?;
    output.flush()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn all(bytes: &[u8]) -> Vec<Incoming> {
        let mut input = bytes;
        std::iter::from_fn(|| read(&mut input).ok().flatten()).collect()
    }

    fn framed(body: &str) -> Vec<u8> {
        format!("Content-Length: {}\r\n\r\n{body}", body.len()).into_bytes()
    }

    #[test]
    fn messages_are_what_they_say() {
        let asked = Incoming::Request { id: json!(7), method: "m".into(), params: json!({"a": 1}) };
        assert_eq!(all(&framed(r#"{"jsonrpc":"2.0","id":7,"method":"m","params":{"a":1}}"#)), [asked]);
        let told = Incoming::Notification { method: "m".into(), params: Value::Null };
        assert_eq!(all(&framed(r#"{"method":"m"}"#)), [told]);
        let answered = Incoming::Response { id: json!("x"), result: Ok(json!([])) };
        assert_eq!(all(&framed(r#"{"id":"x","result":[]}"#)), [answered]);
        for (body, code) in [("{", PARSE_ERROR), ("[]", INVALID_REQUEST), ("7", INVALID_REQUEST), ("", PARSE_ERROR)] {
            let came = all(&framed(body));
            let [Incoming::Garbled(answer)] = came.as_slice() else { panic!("{body}: {came:?}") };
            assert_eq!(answer["error"]["code"], code, "{body}");
        }
    }

    #[test]
    fn what_makes_no_sense_is_passed_over() {
        let good = framed(r#"{"method":"m"}"#);
        let told = Incoming::Notification { method: "m".into(), params: Value::Null };
        let before: [&[u8]; 5] =
            [b"\r\n\r\n", b"nonsense\r\n", b"Content-Length: many\r\n\r\n", b"\xff\xfe\n", b"Content-Type: x\r\n"];
        for before in before {
            assert_eq!(all(&[before, &good].concat()), std::slice::from_ref(&told), "{before:?}");
        }
        // A length that no message has ends with what comes.
        assert_eq!(all(b"Content-Length: 99999999999999\r\n\r\n{}").len(), 1);
    }

    proptest! {
        #[test]
        fn bytes_are_never_a_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            all(&bytes);
            let head = [b"Content-Length: 20\r\n\r\n".as_slice(), &bytes].concat();
            all(&head);
        }

        #[test]
        fn what_is_written_is_read(method in "[a-z/$]{1,12}", id in 0..9999) {
            let mut bytes = Vec::new();
            write(&mut bytes, &json!({"jsonrpc": "2.0", "id": id, "method": method, "params": {"t": "é\u{1f6a2}"}})).unwrap();
            let asked = Incoming::Request { id: json!(id), method, params: json!({"t": "é\u{1f6a2}"}) };
            prop_assert_eq!(all(&bytes), [asked]);
        }
    }
}
