//! Servers that watch others, and know which of them is the primary. Of the documentation of Redis: "High availability with
//! Redis Sentinel".

use jaunty_seam::error::{EngineError, Step};
use redis::{Cmd, Value};

use super::connect::{Door, Link};
use super::errors::failed;
use super::reply::text;
use crate::net::reach::Address;

/// The door to the primary that sentinels call `name`; `door` leads to one of them. They mostly want no login; where one does,
/// it is the primary's.
pub async fn primary(door: Door, name: &str) -> Result<Door, EngineError> {
    let link = match door.clone().without_login().enter().await {
        Err(error) if error.code.as_deref() == Some("NOAUTH") => door.clone().with_database(0).enter().await?,
        entered => entered?,
    };
    let sentinel = door.route.address.clone();
    match ask(&link, &["sentinel", "get-master-addr-by-name", name]).await {
        Ok(Value::Array(place)) if place.len() == 2 => {
            let port = text(&place[1]).parse().map_err(|_| is_none(&sentinel))?;
            door.to(Address::Host(text(&place[0]), port))
        }
        Ok(Value::Nil) => {
            let watched = match ask(&link, &["sentinel", "masters"]).await {
                Ok(Value::Array(all)) => all.iter().filter_map(name_of).collect::<Vec<_>>(),
                _ => Vec::new(),
            };
            let what = format!("the sentinel at {sentinel} watches no primary named \"{name}\"");
            let error = EngineError::connecting(Step::Profile, what);
            Err(match watched.is_empty() {
                true => error.remedy("Correct sentinel in the profile."),
                false => error.remedy(format!("It watches {}.", watched.join(", "))),
            })
        }
        Ok(_) => Err(is_none(&sentinel)),
        // It does not know the command.
        Err(error) if error.code.as_deref() == Some("ERR") => Err(is_none(&sentinel)),
        Err(error) => Err(EngineError { step: Some(Step::Session), ..error }),
    }
}

fn is_none(address: &Address) -> EngineError {
    EngineError::connecting(Step::Profile, format!("the server at {address} is not a sentinel"))
        .remedy("Take sentinel out of the profile, or name sentinels under host, port and others.")
}

async fn ask(link: &Link, words: &[&str]) -> Result<Value, EngineError> {
    let mut command = Cmd::new();
    command.arg(words);
    let reply = link.connection.clone().send_packed_command(&command).await;
    reply.and_then(Value::extract_error).map_err(|error| failed(&error))
}

/// The name in what is told of a primary.
fn name_of(told: &Value) -> Option<String> {
    let is_name = |key: &Value| text(key) == "name";
    match told {
        Value::Map(facts) => facts.iter().find(|(key, _)| is_name(key)).map(|(_, name)| text(name)),
        Value::Array(facts) => facts.chunks_exact(2).find(|fact| is_name(&fact[0])).map(|fact| text(&fact[1])),
        _ => None,
    }
}
