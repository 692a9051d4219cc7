//! The first keys of a pattern with what they hold, each by the command of its type, and of each only a little.

use jaunty_seam::engine::{Event, Flow, Sink};
use jaunty_seam::error::EngineError;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value as Cell};
use redis::Value;

use super::reply::{deep, text};
use super::session::RedisSession;
use super::wire::Place;
use crate::net::feed::local;

/// How many keys are shown.
const KEYS: usize = 20;
/// How often the server is asked for more of them: a pattern may fit few of many.
const ROUNDS: usize = 10;

/// Pushes a row a key: the key, its type, how many seconds it lives, and the beginning of its value.
pub fn push(session: &mut RedisSession, pattern: &str, sink: &mut dyn Sink) -> Result<(), EngineError> {
    let announced = ["key", "type", "seconds left", "value"].map(|name| Announced {
        name: name.to_owned(),
        db_type: String::new(),
        ..Announced::default()
    });
    let mut assembler = Assembler::new(announced.into());
    for key in keys(session, pattern)? {
        if sink.wanted() == Flow::Stop {
            return Err(EngineError::stopped());
        }
        let kind = text(&session.ask(&["type", &key])?);
        let seconds = text(&session.ask(&["ttl", &key])?);
        let value = value(session, &kind, &key)?;
        let whole = deep(&value).unwrap_or_else(|| text(&value));
        let row = [
            Cell::Text(&key),
            Cell::Text(&kind),
            seconds.parse().ok().filter(|seconds| *seconds >= 0).map_or(Cell::Null, Cell::Int),
            if value == Value::Nil { Cell::Null } else { Cell::Text(&whole) },
        ];
        assembler.push_row(|column| row.get(column).copied().unwrap_or(Cell::Null)).map_err(|error| local(&error))?;
    }
    let batch = assembler.take().map_err(|error| local(&error))?;
    if sink.take(Event::Begins { schema: batch.schema(), name: None }) == Flow::Continue && batch.num_rows() > 0 {
        sink.take(Event::Rows(batch));
    }
    sink.take(Event::Ends { affected: None });
    Ok(())
}

/// Some keys that fit a pattern.
fn keys(session: &mut RedisSession, pattern: &str) -> Result<Vec<String>, EngineError> {
    let mut found = Vec::new();
    for server in session.all()? {
        keys_of(session, server, pattern, &mut found)?;
    }
    // A scan may tell of a key twice.
    found.sort();
    found.dedup();
    found.truncate(KEYS);
    Ok(found)
}

/// Some of them that one server has.
fn keys_of(
    session: &mut RedisSession,
    server: Place,
    pattern: &str,
    found: &mut Vec<String>,
) -> Result<(), EngineError> {
    let mut cursor = "0".to_owned();
    for _ in 0..ROUNDS {
        let scan = ["scan", &cursor, "match", pattern, "count", "1000"].map(|word| word.as_bytes().to_vec());
        let Value::Array(parts) = session.ask_at(server, &scan)? else { break };
        let [next, Value::Array(keys)] = parts.as_slice() else { break };
        // Names that are no text cannot be asked for by one.
        let named =
            keys.iter().filter(|key| matches!(key, Value::BulkString(bytes) if std::str::from_utf8(bytes).is_ok()));
        found.extend(named.map(text));
        cursor = text(next);
        if cursor == "0" || found.len() >= KEYS {
            break;
        }
    }
    Ok(())
}

/// The beginning of what a key holds. A key that is gone meanwhile, or of a type of a module, holds nothing.
fn value(session: &mut RedisSession, kind: &str, key: &str) -> Result<Value, EngineError> {
    let part = |reply: Value, at: usize| match reply {
        Value::Array(mut parts) if at < parts.len() => parts.swap_remove(at),
        other => other,
    };
    match kind {
        "string" => session.ask(&["getrange", key, "0", "199"]),
        "list" => session.ask(&["lrange", key, "0", "9"]),
        "set" => Ok(part(session.ask(&["sscan", key, "0", "count", "10"])?, 1)),
        "hash" => {
            let fields = part(session.ask(&["hscan", key, "0", "count", "10"])?, 1);
            let Value::Array(fields) = fields else { return Ok(fields) };
            let pair = |pair: &[Value]| match pair {
                [field, value] => Some((field.clone(), value.clone())),
                _ => None,
            };
            Ok(Value::Map(fields.chunks(2).filter_map(pair).collect()))
        }
        "zset" => session.ask(&["zrange", key, "0", "9", "withscores"]),
        "stream" => session.ask(&["xrevrange", key, "+", "-", "count", "3"]),
        _ => Ok(Value::Nil),
    }
}
