//! SQL Server, over TDS (`jaunty_tds`).
//!
//! [`connect`] logs in and says what is wrong where it cannot, [`session`] is an open connection, [`run`] carries
//! statements out, [`describe`] asks what one would do without carrying it out, [`types`] turns values into columns,
//! [`catalog`] lists objects, [`errors`] turns the server's errors into sentences.

mod catalog;
mod connect;
mod describe;
mod errors;
mod load;
mod run;
mod session;
mod types;

use jaunty_language::dialect::{Dialect, SQLSERVER};
use jaunty_seam::engine::{Attempt, Container, Engine, Key, Says, Session, Strings, Takes};
use jaunty_seam::error::EngineError;

use crate::net::keys::{SHARED, keys};

/// The engine. It has no state of its own.
pub struct SqlServer;

static KEYS: [Key; SHARED.len() + 4] = keys(
    Key::common("port", Takes::Number(1, 65535), "1433, or the one of the instance", "the server's port"),
    [
        Key::rare(
            "login",
            Takes::Word(&["password", "token"]),
            "password",
            "what the secret is: the password of a login, or an access token of a directory",
        ),
        Key::rare("tls_first", Takes::Flag, "false", "begin with TLS, as TDS 8 does; the server has to expect it"),
        Key::rare(
            "browser_port",
            Takes::Number(1, 65535),
            "1434",
            "the UDP port of the browser service, which knows the ports of instances",
        ),
    ],
);

/// Our words for those of `Encrypt`.
const ENCRYPT: &[(&str, &str)] = &[
    ("true", "verify-full"),
    ("yes", "verify-full"),
    ("mandatory", "verify-full"),
    ("strict", "verify-full"),
    ("false", "prefer"),
    ("no", "prefer"),
    ("optional", "prefer"),
];

impl Engine for SqlServer {
    fn name(&self) -> &'static str {
        "sqlserver"
    }

    fn title(&self) -> &'static str {
        "SQL Server"
    }

    fn dialect(&self) -> &'static Dialect {
        &SQLSERVER
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn schemes(&self) -> &'static [&'static str] {
        &["sqlserver", "mssql"]
    }

    fn strings(&self) -> Option<&'static Strings> {
        Some(&Strings {
            words: &[
                ("server", Says::Server),
                ("datasource", Says::Server),
                ("address", Says::Server),
                ("addr", Says::Server),
                ("networkaddress", Says::Server),
                ("portnumber", Says::Key("port")),
                ("database", Says::Key("database")),
                ("initialcatalog", Says::Key("database")),
                ("databasename", Says::Key("database")),
                ("userid", Says::Key("user")),
                ("uid", Says::Key("user")),
                ("user", Says::Key("user")),
                ("username", Says::Key("user")),
                ("password", Says::Key("password")),
                ("pwd", Says::Key("password")),
                ("encrypt", Says::Words("tls", ENCRYPT)),
                // After what it says something about.
                ("trustservercertificate", Says::Words("tls", &[("true", "require"), ("yes", "require")])),
                ("connecttimeout", Says::Key("connect_seconds")),
                ("connectiontimeout", Says::Key("connect_seconds")),
                ("timeout", Says::Key("connect_seconds")),
                ("logintimeout", Says::Key("connect_seconds")),
            ],
            own: &[
                "initialcatalog",
                "databasename",
                "encrypt",
                "trustservercertificate",
                "multipleactiveresultsets",
                "applicationintent",
                "integratedsecurity",
                "trustedconnection",
            ],
            by_blanks: false,
        })
    }

    fn container(&self) -> Container {
        Container {
            variables: &[("MSSQL_SA_PASSWORD", "password"), ("SA_PASSWORD", "password"), ("MSSQL_TCP_PORT", "port")],
            usual: &[("user", "sa")],
        }
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        Ok(Box::new(connect::connect(attempt)?))
    }
}
