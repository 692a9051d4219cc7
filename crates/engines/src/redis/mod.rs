//! Redis, over its own protocol, RESP3:
//! <https://redis.io/docs/latest/develop/reference/protocol-spec/>.
//!
//! [`connect`] logs in and says what is wrong where it cannot, [`sentinel`] asks where the primary is, [`wire`] sends what
//! a session has to say, in a [`cluster`] to the server that holds its key, [`errors`] says what is wrong with it,
//! [`session`] runs commands,
//! [`arguments`] takes a command's line apart, [`reply`] turns replies into rows, [`shaped`] those that have columns of their own, [`catalog`] walks
//! the keys, [`preview`] shows the values of a few, [`load`] puts rows into keys, and [`copy`] writes keys as
//! commands.

mod arguments;
mod bounded;
mod catalog;
mod cluster;
mod connect;
mod copy;
mod errors;
mod load;
mod preview;
mod reads;
mod reply;
mod sentinel;
mod session;
mod shaped;
mod wire;

use jaunty_language::dialect::commands::arguments::written;
use jaunty_language::dialect::{Dialect, REDIS};
use jaunty_seam::engine::{Attempt, Container, Engine, Key, Session, Takes};
use jaunty_seam::error::EngineError;

use crate::net::keys::{OTHERS, SHARED, keys};

/// The engine. It has no state of its own.
pub struct Redis;

static KEYS: [Key; SHARED.len() + 3] = keys(
    Key::common("port", Takes::Number(1, 65535), "6379", "the server's port"),
    [
        OTHERS,
        Key::rare(
            "sentinel",
            Takes::Text,
            "",
            "the name under which sentinels watch the primary; host, port and others are then theirs",
        ),
    ],
);

impl Engine for Redis {
    fn name(&self) -> &'static str {
        "redis"
    }

    fn title(&self) -> &'static str {
        "Redis"
    }

    fn dialect(&self) -> &'static Dialect {
        &REDIS
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn schemes(&self) -> &'static [&'static str] {
        &["redis", "rediss"]
    }

    fn preview_statement(&self, _: &str, name: &str, _: &str) -> String {
        format!("scan 0 match {} count 1000", written(name.as_bytes()))
    }

    fn container(&self) -> Container {
        Container { variables: &[("REDIS_PASSWORD", "password")], usual: &[] }
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        Ok(Box::new(connect::connect(attempt)?))
    }
}
