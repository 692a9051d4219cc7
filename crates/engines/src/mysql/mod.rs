//! MySQL and MariaDB, over their own protocol.
//!
//! [`connect`] logs in and says what is wrong where it cannot, [`session`] runs statements, [`results`] takes in what they give,
//! [`types`] turns values into columns, [`catalog`] lists objects, [`access`] who may do what with them, [`errors`] turns the server's
//! errors into sentences, [`files`] reads the files of the server's own clients.

mod access;
mod catalog;
mod connect;
mod errors;
mod files;
mod load;
mod results;
mod session;
mod types;

use jaunty_language::dialect::{Dialect, MYSQL};
use jaunty_seam::engine::{Attempt, Container, Engine, Key, Says, Session, Strings, Takes};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::{Profile, Secret};

use crate::net::keys::{OTHERS, SHARED, TARGET, keys};

/// The engine. It has no state of its own.
pub struct Mysql;

static KEYS: [Key; SHARED.len() + 3] =
    keys(Key::common("port", Takes::Number(1, 65535), "3306", "the server's port"), [OTHERS, TARGET]);

impl Engine for Mysql {
    fn name(&self) -> &'static str {
        "mysql"
    }

    fn title(&self) -> &'static str {
        "MySQL and MariaDB"
    }

    fn dialect(&self) -> &'static Dialect {
        &MYSQL
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn schemes(&self) -> &'static [&'static str] {
        &["mysql", "mariadb"]
    }

    fn strings(&self) -> Option<&'static Strings> {
        Some(&Strings {
            words: &[
                ("server", Says::Key("host")),
                ("host", Says::Key("host")),
                ("datasource", Says::Key("host")),
                ("port", Says::Key("port")),
                ("database", Says::Key("database")),
                ("initialcatalog", Says::Key("database")),
                ("userid", Says::Key("user")),
                ("uid", Says::Key("user")),
                ("user", Says::Key("user")),
                ("username", Says::Key("user")),
                ("password", Says::Key("password")),
                ("pwd", Says::Key("password")),
                ("sslmode", Says::Key("tls")),
                ("sslca", Says::Key("tls_ca")),
                ("connectiontimeout", Says::Key("connect_seconds")),
                ("connecttimeout", Says::Key("connect_seconds")),
            ],
            own: &["allowuservariables", "allowzerodatetime", "convertzerodatetime", "treattinyasboolean"],
            by_blanks: false,
        })
    }

    fn secret_on_file(&self, profile: &Profile) -> Option<Secret> {
        files::password(profile)
    }

    fn profiles_on_file(&self) -> Vec<(Profile, String)> {
        files::client().into_iter().collect()
    }

    fn container(&self) -> Container {
        Container {
            variables: &[
                ("MYSQL_USER", "user"),
                ("MARIADB_USER", "user"),
                ("MYSQL_DATABASE", "database"),
                ("MARIADB_DATABASE", "database"),
                ("MYSQL_PASSWORD", "password"),
                ("MARIADB_PASSWORD", "password"),
            ],
            usual: &[],
        }
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        Ok(Box::new(connect::connect(attempt)?))
    }
}
