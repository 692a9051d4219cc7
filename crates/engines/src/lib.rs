//! Database engines, one module each, behind the seam of `jaunty_seam::engine`.
//!
//! [`ENGINES`] is the table of them. Adding one means writing its module and a line there.

mod client_line;
mod mongodb;
mod mysql;
mod net;
mod postgres;
mod redis;
mod sqlite;
mod sqlserver;

use jaunty_seam::engine::Engine;

pub use mongodb::Mongodb;
pub use mysql::Mysql;
pub use postgres::Postgres;
pub use redis::Redis;
pub use sqlite::Sqlite;
pub use sqlserver::SqlServer;

/// All engines.
pub static ENGINES: &[&dyn Engine] = &[&Sqlite, &Postgres, &Mysql, &Redis, &SqlServer, &Mongodb];

/// An engine by the name that profiles use.
pub fn by_name(name: &str) -> Option<&'static dyn Engine> {
    ENGINES.iter().copied().find(|engine| engine.name() == name)
}

#[cfg(test)]
mod tests {
    use jaunty_seam::engine::{Says, Takes};

    use super::*;

    #[test]
    fn words_of_connection_strings_fill_keys_that_there_are() {
        for engine in ENGINES {
            let Some(strings) = engine.strings() else { continue };
            let key = |name: &str| engine.keys().iter().find(|key| key.name == name);
            for (word, says) in strings.words {
                assert!(word.chars().all(|c| c.is_ascii_lowercase()), "{word}");
                match says {
                    Says::Key(name) => assert!(key(name).is_some(), "{} of {}", name, engine.name()),
                    Says::Server => assert!(key("host").is_some() && key("port").is_some(), "{}", engine.name()),
                    Says::Words(name, words) => {
                        let Some(Takes::Word(known)) = key(name).map(|key| key.takes) else { panic!("{name}") };
                        assert!(words.iter().all(|(_, ours)| known.contains(ours)), "{word} of {}", engine.name());
                    }
                }
            }
            assert!(strings.own.iter().all(|word| word.chars().all(|c| c.is_ascii_lowercase())), "{}", engine.name());
        }
    }
}
