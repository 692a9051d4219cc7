//! Document databases of the open wire protocol (`jaunty_documents`).
//!
//! [`wire`] carries commands and replies, [`members`] chooses a server of a replica set, [`connect`] logs in, [`session`] runs commands, [`transactions`] holds some together, [`effect`] tells what one would do, [`value`] turns what a person
//! writes into values, [`rows`] documents into rows, [`catalog`] lists collections and their shape, [`errors`] turns the
//! server's errors into sentences.

mod catalog;
mod connect;
mod effect;
mod errors;
mod load;
mod members;
mod rows;
mod session;
mod transactions;
mod value;
mod wire;

use jaunty_language::dialect::{DOCUMENTS, Dialect};
use jaunty_seam::engine::{Attempt, Container, Engine, Key, Session, Takes};
use jaunty_seam::error::EngineError;

use crate::net::keys::{SHARED, keys};

/// The engine. It has no state of its own.
pub struct Mongodb;

static KEYS: [Key; SHARED.len() + 10] = keys(
    Key::common("port", Takes::Number(1, 65535), "27017", "the server's port"),
    [
        Key::rare("auth_source", Takes::Text, "admin", "the database that knows the user"),
        Key::rare(
            "auth_mechanism",
            Takes::Word(&["scram-sha-256", "scram-sha-1", "x509", "mongodb-x509", "plain"]),
            "what the server has, the strongest first",
            "how to log in; x509 takes tls_cert, plain needs TLS",
        ),
        Key::rare("others", Takes::Text, "", "other members of the replica set, host:port, separated by commas"),
        Key::rare(
            "read_preference",
            Takes::Word(&["primary", "primary-preferred", "secondary", "secondary-preferred", "nearest"]),
            "primary",
            "which member of the replica set to read from",
        ),
        Key::rare(
            "compressor",
            Takes::Word(&["snappy", "zlib", "none"]),
            "what the server takes, unless it is on this machine",
            "the compression of messages",
        ),
        Key::rare("direct", Takes::Flag, "false", "stay on this server of a replica set, primary or not"),
        Key::rare("srv", Takes::Flag, "false", "host is a name whose DNS records list the servers"),
        Key::rare(
            "name_server",
            Takes::Text,
            "the one in /etc/resolv.conf",
            "where to ask for those records, address:port",
        ),
        Key::rare(
            "sample",
            Takes::Number(1, 100_000),
            "200",
            "how many documents are sampled for the shape of a collection",
        ),
    ],
);

impl Engine for Mongodb {
    fn name(&self) -> &'static str {
        "mongodb"
    }

    fn title(&self) -> &'static str {
        "Document databases (MongoDB's protocol)"
    }

    fn dialect(&self) -> &'static Dialect {
        &DOCUMENTS
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn schemes(&self) -> &'static [&'static str] {
        &["mongodb", "mongodb+srv"]
    }

    fn container(&self) -> Container {
        Container {
            variables: &[
                ("MONGO_INITDB_ROOT_USERNAME", "user"),
                ("MONGO_INITDB_ROOT_PASSWORD", "password"),
                ("MONGO_INITDB_DATABASE", "database"),
            ],
            usual: &[],
        }
    }

    fn preview_statement(&self, _schema: &str, name: &str, _here: &str) -> String {
        self.dialect().name_as_written(name)
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        Ok(Box::new(connect::connect(attempt)?))
    }
}
