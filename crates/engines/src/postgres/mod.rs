//! PostgreSQL, over its own protocol.
//!
//! [`connect`] logs in and says what is wrong where it cannot, [`session`] is what stands open, [`run`] runs a
//! statement, [`cancel`] ends one, [`bounded`] bounds what the server may send at once,
//! [`types`] turns values into columns, [`copy`] carries `COPY`, [`catalog`] lists objects,
//! [`errors`] turns the server's errors into sentences, [`files`] reads the files of the server's
//! own clients.

mod belongings;
mod bounded;
mod cancel;
mod catalog;
mod connect;
mod copy;
mod errors;
mod files;
mod forms;
mod load;
mod origins;
mod overheard;
mod run;
mod session;
mod types;

use jaunty_language::dialect::{Dialect, POSTGRES};
use jaunty_seam::engine::{Attempt, Container, Engine, Key, Says, Session, Strings, Takes};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::{Profile, Secret};

use crate::net::keys::{OTHERS, SHARED, TARGET, keys};

/// The engine. It has no state of its own.
pub struct Postgres;

static KEYS: [Key; SHARED.len() + 6] = keys(
    Key::common("port", Takes::Number(1, 65535), "5432", "the server's port"),
    [
        OTHERS,
        TARGET,
        Key::rare("role", Takes::Text, "", "a role to switch to after the login"),
        Key::rare("schema", Takes::Text, "", "the search path: schemas with commas between them"),
        Key::rare("service", Takes::Text, "", "a section of pg_service.conf for settings that are missing here"),
    ],
);

impl Engine for Postgres {
    fn name(&self) -> &'static str {
        "postgres"
    }

    fn title(&self) -> &'static str {
        "PostgreSQL"
    }

    fn dialect(&self) -> &'static Dialect {
        &POSTGRES
    }

    fn keys(&self) -> &'static [Key] {
        &KEYS
    }

    fn schemes(&self) -> &'static [&'static str] {
        &["postgresql", "postgres", "pgsql"]
    }

    fn strings(&self) -> Option<&'static Strings> {
        Some(&Strings {
            words: &[
                ("host", Says::Key("host")),
                ("server", Says::Key("host")),
                ("hostaddr", Says::Key("host")),
                ("port", Says::Key("port")),
                ("dbname", Says::Key("database")),
                ("database", Says::Key("database")),
                ("user", Says::Key("user")),
                ("username", Says::Key("user")),
                ("userid", Says::Key("user")),
                ("password", Says::Key("password")),
                ("sslmode", Says::Key("tls")),
                ("sslrootcert", Says::Key("tls_ca")),
                ("rootcertificate", Says::Key("tls_ca")),
                ("sslcert", Says::Key("tls_cert")),
                ("sslkey", Says::Key("tls_key")),
                ("searchpath", Says::Key("schema")),
                ("service", Says::Key("service")),
                ("connecttimeout", Says::Key("connect_seconds")),
                ("targetsessionattrs", Says::Key("target")),
                ("timeout", Says::Key("connect_seconds")),
            ],
            own: &["dbname", "username", "searchpath", "hostaddr", "targetsessionattrs", "passfile", "service"],
            by_blanks: true,
        })
    }

    fn secret_on_file(&self, profile: &Profile) -> Option<Secret> {
        files::password(profile)
    }

    fn profiles_on_file(&self) -> Vec<(Profile, String)> {
        files::services()
    }

    fn container(&self) -> Container {
        Container {
            variables: &[("POSTGRES_USER", "user"), ("POSTGRES_DB", "database"), ("POSTGRES_PASSWORD", "password")],
            usual: &[("user", "postgres")],
        }
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        Ok(Box::new(connect::connect(attempt)?))
    }
}
