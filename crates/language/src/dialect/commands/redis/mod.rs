//! Commands of Redis, as its protocol's inline form and its own command-line client take them:
//! <https://redis.io/docs/latest/develop/reference/protocol-spec/#inline-commands>. One command a line; an argument in
//! quotes may go over several. A line that begins with `#` is a comment of ours.

pub mod arguments;
mod elements;
pub mod filling;

use crate::dialect::{Dialect, Family, HelpKind, PLAIN, Quote, QuoteKind, TransactionWords};

const TEXT: Quote =
    Quote { prefix: None, open: b'"', close: b'"', doubled: false, backslash: true, kind: QuoteKind::Text };

const USUAL: &[&str] = &[
    "CLIENT LIST",
    "CONFIG GET",
    "DBSIZE",
    "DECR",
    "DEL",
    "EXISTS",
    "EXPIRE",
    "GET",
    "HDEL",
    "HGET",
    "HGETALL",
    "HKEYS",
    "HSET",
    "INCR",
    "INCRBY",
    "INFO",
    "KEYS",
    "LLEN",
    "LPOP",
    "LPUSH",
    "LRANGE",
    "MEMORY USAGE",
    "MGET",
    "MSET",
    "OBJECT ENCODING",
    "PERSIST",
    "PING",
    "PUBLISH",
    "RENAME",
    "RPOP",
    "RPUSH",
    "SADD",
    "SCAN",
    "SCARD",
    "SELECT",
    "SET",
    "SISMEMBER",
    "SLOWLOG GET",
    "SMEMBERS",
    "SREM",
    "SUBSCRIBE",
    "TTL",
    "TYPE",
    "XADD",
    "XLEN",
    "XRANGE",
    "ZADD",
    "ZCARD",
    "ZRANGE",
    "ZREM",
    "ZSCORE",
];

/// The commands of Redis.
pub static REDIS: Dialect = Dialect {
    name: "redis",
    extension: "redis",
    quotes: &[TEXT, Quote { open: b'\'', close: b'\'', ..TEXT }],
    family: Family::Commands,
    help: &[(HelpKind::Command, include_str!("commands.txt"))],
    ends_with_line: true,
    line_comments: &["#"],
    usual: USUAL,
    elements: Some(&elements::Keys),
    transaction: TransactionWords {
        begin: "multi",
        commit: "exec",
        roll_back: "discard",
        savepoint: "",
        back_to_savepoint: "",
    },
    ..PLAIN
};
