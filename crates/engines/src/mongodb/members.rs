//! Which server of a replica set is spoken to ("Server Selection", "Server Discovery and Monitoring" of the protocol's
//! specifications).

use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::Duration;

use jaunty_documents::bson::field;
use jaunty_documents::{Bson, Document};
use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::Profile;

use super::connect::{Again, Entered, flag};
use crate::net::reach::Address;

/// Which members may be read from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wish {
    /// The primary and no other.
    Primary,
    /// A secondary and no other.
    Secondary,
    /// A secondary, or the primary where there is none.
    SecondaryIfThere,
    /// The primary, or a secondary where there is none.
    PrimaryIfThere,
    /// The first that answers.
    Nearest,
}

impl Wish {
    /// That of a profile.
    pub fn of(profile: &Profile) -> Wish {
        match profile.text("read_preference") {
            Some("secondary") => Wish::Secondary,
            Some("secondary-preferred") => Wish::SecondaryIfThere,
            Some("primary-preferred") => Wish::PrimaryIfThere,
            Some("nearest") => Wish::Nearest,
            _ => Wish::Primary,
        }
    }

    /// As commands say it; nothing where only a primary is read.
    pub fn mode(self) -> Option<&'static str> {
        match self {
            Wish::Primary => None,
            Wish::Secondary => Some("secondary"),
            Wish::SecondaryIfThere => Some("secondaryPreferred"),
            Wish::PrimaryIfThere => Some("primaryPreferred"),
            Wish::Nearest => Some("nearest"),
        }
    }
}

/// How often a new primary is waited for, and how long each time: an election takes a second or two.
const ROUNDS: u32 = 12;
const PAUSE: Duration = Duration::from_millis(250);

/// No replica set has more members.
const MOST: usize = 50;

/// A replica set that was met, by its name, and its members: one of them may be there when the server of the profile is
/// not.
#[derive(Debug, Clone, Default)]
struct Known {
    set: String,
    members: Vec<String>,
}

/// Those that were met, by what leads there. Addresses alone do not: behind a tunnel they mean other servers.
static KNOWN: LazyLock<Mutex<HashMap<String, Known>>> = LazyLock::new(Mutex::default);

fn known(way: &str) -> Option<Known> {
    KNOWN.lock().unwrap_or_else(PoisonError::into_inner).get(way).cloned()
}

fn set_of(hello: &Document) -> &str {
    field(hello, "setName").and_then(Bson::as_str).unwrap_or_default()
}

fn flagged(hello: &Document, name: &str) -> bool {
    field(hello, name) == Some(&Bson::Bool(true))
}

fn is_primary(hello: &Document) -> bool {
    flagged(hello, "isWritablePrimary") || flagged(hello, "ismaster")
}

/// Whether a server is what is wished for: one without a replica set always is.
fn suits(hello: &Document, wish: Wish) -> bool {
    let alone = field(hello, "setName").is_none();
    match wish {
        _ if alone => true,
        Wish::Primary => is_primary(hello),
        Wish::Secondary => flagged(hello, "secondary"),
        _ => is_primary(hello) || flagged(hello, "secondary"),
    }
}

fn address(text: &str) -> Option<Address> {
    let text = text.trim();
    let (host, port) = text.rsplit_once(':').unwrap_or((text, "27017"));
    let host = host.trim_matches(['[', ']']);
    (!host.is_empty()).then_some(())?;
    Some(Address::Host(host.to_owned(), port.parse().ok()?))
}

/// The members that a server names: the primary first, or last where a secondary is wished for.
fn named(hello: &Document, wish: Wish) -> Vec<String> {
    let primary = field(hello, "primary").and_then(Bson::as_str).map(str::to_owned);
    let hosts = match field(hello, "hosts") {
        Some(Bson::Array(hosts)) => hosts.iter().filter_map(Bson::as_str).map(str::to_owned).collect(),
        _ => Vec::new(),
    };
    let mut all: Vec<String> = hosts.into_iter().filter(|host| Some(host) != primary.as_ref()).collect();
    let at = if matches!(wish, Wish::Secondary | Wish::SecondaryIfThere) { all.len() } else { 0 };
    if let Some(primary) = primary {
        all.insert(at, primary);
    }
    all
}

/// Connects to the member that the profile wishes.
pub async fn choose(again: Again, profile: &Profile) -> Result<(Again, Entered), EngineError> {
    let wish = Wish::of(profile);
    let own = again.route.address.to_string();
    if flag(profile, "direct") || matches!(again.route.address, Address::Socket(_)) {
        let entered = again.enter().await?;
        return Ok((again, entered));
    }
    let way = [profile.name.as_str(), &own, profile.text("ssh").unwrap_or_default()].join("\n");
    let met = known(&way);
    let mut candidates = vec![again.route.address.clone()];
    candidates.extend(profile.text("others").unwrap_or_default().split(',').filter_map(address));
    candidates.extend(met.iter().flat_map(|met| &met.members).filter_map(|name| address(name)));
    // Whoever answers has to be of the set that was met here before.
    let mut set = met.map(|met| met.set).unwrap_or_default();
    let mut first_error = None;
    let mut second_best = None;
    for round in 0..ROUNDS {
        let mut tried: Vec<Address> = Vec::new();
        let mut waiting: Vec<Address> = candidates.iter().rev().cloned().collect();
        while let Some(at) = waiting.pop() {
            if tried.contains(&at) || tried.len() >= MOST {
                continue;
            }
            tried.push(at.clone());
            let mut to = again.clone();
            to.route.address = at;
            let entered = match to.enter().await {
                Ok(entered) => entered,
                // Nobody is there, or it goes away: another may be there. A login that is refused is refused everywhere.
                Err(error)
                    if matches!(error.step, Some(Step::Reach | Step::Name))
                        || error.step == Some(Step::Login) && error.code.is_none() =>
                {
                    first_error.get_or_insert(error);
                    continue;
                }
                Err(error) => return Err(error),
            };
            let is_own = tried.len() == 1;
            if !is_own && !set.is_empty() && set_of(&entered.hello) != set {
                tracing::warn!(address = %to.route.address, "a server of another replica set was left out");
                continue;
            }
            if is_own || set.is_empty() {
                set_of(&entered.hello).clone_into(&mut set);
            }
            let members = named(&entered.hello, wish);
            if !members.is_empty() {
                let met = Known { set: set.clone(), members: members.clone() };
                KNOWN.lock().unwrap_or_else(PoisonError::into_inner).insert(way.clone(), met);
            }
            if suits(&entered.hello, wish) {
                let prefers = matches!(wish, Wish::SecondaryIfThere) && !flagged(&entered.hello, "secondary")
                    || wish == Wish::PrimaryIfThere && !is_primary(&entered.hello);
                if !prefers || field(&entered.hello, "setName").is_none() {
                    return Ok((to, entered));
                }
                second_best = Some((to, entered));
            }
            // Those that it names are asked next, in their order.
            waiting.extend(members.iter().rev().filter_map(|name| address(name)));
        }
        if let Some(found) = second_best.take() {
            return Ok(found);
        }
        // Nobody answered at all: waiting does not help.
        if known(&way).is_none() {
            break;
        }
        tracing::debug!(round, "no member of the replica set is what is wished for");
        tokio::time::sleep(PAUSE).await;
    }
    match first_error {
        Some(error) if known(&way).is_none() => Err(error),
        _ => {
            let what = if wish == Wish::Secondary { "secondary" } else { "primary" };
            Err(EngineError::connecting(Step::Reach, format!("the replica set of {own} has no {what} now"))
                .remedy("Wait for its election, or read from another member with read_preference or direct."))
        }
    }
}
