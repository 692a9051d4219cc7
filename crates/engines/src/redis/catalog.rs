//! The keys of a database, by their pattern. They are walked with `SCAN`, which holds up nobody
//! else, and only so far; a key of each pattern is asked for its type and how long it lives.

use jaunty_seam::catalog::{Catalog, ObjectKind};
use jaunty_seam::error::EngineError;
use redis::Value;

use super::reply::text;
use super::session::RedisSession;

/// How many parts of a walk there are at most; a part is about so many keys.
const PARTS: usize = 40;
const KEYS: &str = "1000";

/// How many patterns are told apart. A database with more names its keys in another way.
const PATTERNS: usize = 2000;

/// Where the walk goes on stands here between the parts.
const CURSOR: &str = "cursor:";

/// What keys like this one have in common: what looks like a number or a digest is any.
fn pattern(key: &str) -> String {
    let varies = |part: &str| part.bytes().any(|byte| byte.is_ascii_digit());
    let parts: Vec<&str> = key.split(':').map(|part| if varies(part) { "*" } else { part }).collect();
    match parts.as_slice() {
        [_] => key.to_owned(),
        // Names of their own below a common one: people, ports.
        [first, _] if !varies(first) => format!("{first}:*"),
        _ => parts.join(":"),
    }
}

/// Reads a part: some keys, and after the last of them their types.
pub fn read(session: &mut RedisSession, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
    let at = catalog.missing.take().and_then(|at| at.strip_prefix(CURSOR).map(str::to_owned));
    let (server, cursor) = at.as_deref().and_then(|at| at.split_once(':')).unwrap_or(("0", "0"));
    let (servers, mut server) = (session.all()?, server.parse::<usize>().unwrap_or(0));
    let Some(place) = servers.get(server) else { return Ok(false) };
    let scan = ["scan", cursor, "count", KEYS].map(|word| word.as_bytes().to_vec());
    let Value::Array(parts) = session.ask_at(*place, &scan)? else { return Ok(false) };
    let [next, Value::Array(keys)] = parts.as_slice() else { return Ok(false) };
    for key in keys.iter().map(text) {
        let mut pattern = pattern(&key);
        if catalog.objects().len() >= PATTERNS {
            pattern = key.split_once(':').map_or_else(|| "*".to_owned(), |(first, _)| format!("{first}:*"));
        }
        let object = catalog.object("", &pattern, ObjectKind::Keys);
        object.rows = Some(object.rows.unwrap_or(0) + 1);
        if object.signature.is_empty() {
            let kind = session.ask(&["type", &key]).map(|reply| text(&reply)).unwrap_or_default();
            let lives = session.ask(&["ttl", &key]).map(|reply| text(&reply)).unwrap_or_default();
            object.signature = kind;
            object.comment = match lives.parse::<i64>() {
                Ok(seconds) if seconds >= 0 => format!("the one looked at expires in {seconds} s"),
                _ => "the one looked at does not expire".to_owned(),
            };
            object.definition = key;
        }
    }
    let next = text(next);
    server += usize::from(next == "0");
    match (server >= servers.len(), part + 1 >= PARTS) {
        (true, _) => Ok(false),
        (_, true) => {
            catalog.missing = Some(format!("only about {} keys were scanned", PARTS * 1000));
            Ok(false)
        }
        _ => {
            catalog.missing = Some(format!("{CURSOR}{server}:{next}"));
            Ok(true)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_with_numbers_in_them_have_a_pattern_in_common() {
        for (key, wanted) in [
            ("port:1", "port:*"),
            ("port:saltmarsh", "port:*"),
            ("port:1:name", "port:*:name"),
            ("sailing:2031-04-01:seats", "sailing:*:seats"),
            ("tide", "tide"),
            ("a:b:c", "a:b:c"),
            ("9f3c:7", "*:*"),
        ] {
            assert_eq!(pattern(key), wanted, "{key}");
        }
    }
}
