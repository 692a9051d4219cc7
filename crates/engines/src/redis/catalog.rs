//! The keys of a database, by what they begin with. They are walked with `SCAN`, which holds up
//! nobody else, and only so far.

use std::collections::BTreeMap;

use jaunty_core::engine::{Column, EngineError, Flow, Object, ObjectKind};
use redis::Value;

use super::reply::text;
use super::session::RedisSession;

/// How many keys are looked at.
const MOST: usize = 20_000;

/// Lists the beginnings of keys, up to the first colon, with how many keys each has.
pub fn list(session: &mut RedisSession, found: &mut dyn FnMut(Object) -> Flow) -> Result<(), EngineError> {
    let mut groups: BTreeMap<String, usize> = BTreeMap::new();
    let (mut cursor, mut seen) = ("0".to_owned(), 0);
    loop {
        let reply = session.ask(&["scan", &cursor, "count", "1000"])?;
        let Value::Array(parts) = reply else { break };
        let [next, Value::Array(keys)] = parts.as_slice() else { break };
        for key in keys.iter().map(text) {
            let pattern = key.split_once(':').map_or_else(|| key.clone(), |(prefix, _)| format!("{prefix}:*"));
            *groups.entry(pattern).or_default() += 1;
        }
        seen += keys.len();
        cursor = text(next);
        if cursor == "0" || seen >= MOST {
            break;
        }
    }
    let more = if cursor == "0" { "" } else { " or more" };
    for (pattern, keys) in groups {
        let count = format!("{keys}{more} {}", if keys == 1 { "key" } else { "keys" });
        let column = Column { name: count, db_type: String::new(), nullable: false, key: false };
        let object = Object { schema: String::new(), name: pattern, kind: ObjectKind::Keys, columns: vec![column] };
        if found(object) == Flow::Stop {
            break;
        }
    }
    Ok(())
}
