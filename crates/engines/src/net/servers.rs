//! Several servers of one profile, as a cluster has them: the first that can be reached, and is what is asked for.

use jaunty_seam::engine::Stop;
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Profile, Setting};

use super::reach::Address;

/// Words under `target`, as libpq has them under `target_session_attrs`: which of several servers is taken, by what it says of
/// itself.
pub const TARGETS: &[&str] = &["any", "read-write", "read-only", "primary", "standby", "prefer-standby"];

/// What a server says of itself.
#[derive(Debug, Clone, Copy, Default)]
pub struct Bearing {
    /// It follows another one.
    pub standby: bool,
    /// It takes no changes.
    pub read_only: bool,
    /// What it is, in words.
    pub kind: &'static str,
}

impl Bearing {
    /// An error where it is not what `target` asks for.
    pub fn is(self, target: &str, address: &Address) -> Result<(), EngineError> {
        let is = match target {
            "any" => true,
            "primary" => !self.standby,
            "standby" => self.standby,
            "read-only" => self.read_only,
            _ => !self.read_only,
        };
        let what = || format!("{address} is {}, and target is {target}", self.kind);
        is.then_some(())
            .ok_or_else(|| EngineError::connecting(Step::Reach, what()).remedy("Correct target, host and others."))
    }
}

/// Connects to the first server of a profile that can be reached and is what its `target` asks for, which `connect` is told.
pub fn wanted<T>(
    profile: &Profile,
    stop: &Stop,
    mut connect: impl FnMut(&Profile, &str) -> Result<T, EngineError>,
) -> Result<T, EngineError> {
    let mut on = |target: &str| first(profile, stop, |server| connect(server, target));
    match profile.text("target").unwrap_or("any") {
        "prefer-standby" => on("standby").or_else(|error| match error.step {
            Some(Step::Reach | Step::Name) if !stop.is_wished() => on("any"),
            _ => Err(error),
        }),
        target => on(target),
    }
}

/// A profile for each of its servers: the one that it names (or several, as a connection string has them), and those under
/// `others`.
fn each(profile: &Profile) -> Result<Vec<Profile>, EngineError> {
    let named = profile.text("host").and_then(|host| host.split_once(','));
    let (mut all, more) = match named {
        // The session of any of them knows that there are others.
        Some((first, more)) => (vec![profile.clone().with("host", first.trim()).with("others", more)], more),
        None => (vec![profile.clone()], ""),
    };
    let others = more.split(',').chain(profile.text("others").unwrap_or_default().split(','));
    for other in others.map(str::trim).filter(|other| !other.is_empty()) {
        let wrong = || {
            EngineError::connecting(Step::Profile, format!("others: \"{other}\" is not a server"))
                .remedy("Servers are written as host:port, with commas between them.")
        };
        let (host, port) = match other.rsplit_once(':') {
            // An address that has colons itself stands in brackets.
            Some((host, port)) if !host.contains(':') || host.ends_with(']') => (host, Some(port)),
            _ => (other, None),
        };
        let host = host.trim_start_matches('[').trim_end_matches(']');
        let mut server = profile.clone().with("host", host).with("others", other);
        server.settings.remove("port");
        if let Some(port) = port {
            let port: u16 = port.parse().map_err(|_| wrong())?;
            server.settings.insert("port".to_owned(), Setting::Number(i64::from(port)));
        }
        if host.is_empty() {
            return Err(wrong());
        }
        all.push(server);
    }
    Ok(all)
}

/// Whether a profile names several servers. Each of theirs, with one host, says so too.
pub fn are_several(profile: &Profile) -> bool {
    let is_there = |text: &str| !text.trim().is_empty();
    profile.text("others").is_some_and(is_there) || profile.text("host").is_some_and(|host| host.contains(','))
}

/// Connects to the first server of a profile that takes it. One that cannot be reached makes room for the next; anything
/// else, such as a wrong password, would be the same there, and ends it.
fn first<T>(
    profile: &Profile,
    stop: &Stop,
    mut connect: impl FnMut(&Profile) -> Result<T, EngineError>,
) -> Result<T, EngineError> {
    let all = each(profile)?;
    let mut failed: Vec<EngineError> = Vec::new();
    for server in &all {
        match connect(server) {
            Err(error) if goes_on(&error) && !stop.is_wished() => failed.push(error),
            outcome => return outcome,
        }
    }
    Err(none(failed))
}

fn goes_on(error: &EngineError) -> bool {
    error.kind == ErrorKind::Connect && matches!(error.step, Some(Step::Name | Step::Reach))
}

fn none(mut failed: Vec<EngineError>) -> EngineError {
    match failed.len() {
        0 => EngineError::connecting(Step::Profile, "the profile names no server"),
        1 => failed.remove(0),
        several => {
            let all: Vec<_> = failed.iter().map(|error| error.message.as_str()).collect();
            let what = format!("none of {several} servers takes the connection: {}", all.join("; "));
            EngineError::connecting(Step::Reach, what).remedy("Start one of them, or correct host, port and others.")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tried(others: &str, answer: impl Fn(&str) -> Result<(), EngineError>) -> (Vec<String>, Result<String, String>) {
        let mut profile = Profile::new("x", "berth").with("host", "a").with("others", others);
        profile.settings.insert("port".to_owned(), Setting::Number(1));
        let mut asked = Vec::new();
        let found = first(&profile, &Stop::default(), |server| {
            let port = server.number("port").map(|port| format!(":{port}")).unwrap_or_default();
            let place = format!("{}{port}", server.text("host").unwrap());
            asked.push(place.clone());
            answer(&place).map(|()| place)
        });
        (asked, found.map_err(|error| error.message))
    }

    #[test]
    fn the_first_server_that_can_be_reached_is_taken() {
        let refused = |place: &str| EngineError::connecting(Step::Reach, format!("{place} is away"));
        let (asked, found) =
            tried("b:2, [::1]:3,c", |place| if place == "::1:3" { Ok(()) } else { Err(refused(place)) });
        assert_eq!((asked, found), (vec!["a:1".into(), "b:2".into(), "::1:3".into()], Ok("::1:3".into())));
        let (_, found) = tried("b:2", |place| Err(refused(place)));
        assert_eq!(found.unwrap_err(), "none of 2 servers takes the connection: a:1 is away; b:2 is away");
        let (asked, found) = tried("", |place| Err(refused(place)));
        assert_eq!((asked.len(), found.unwrap_err()), (1, "a:1 is away".into()));
        // What one of them says of a password, the others would say too.
        let (asked, found) = tried("b:2", |_| Err(EngineError::connecting(Step::Secret, "wrong password")));
        assert_eq!((asked.len(), found.unwrap_err()), (1, "wrong password".into()));
        for wrong in ["b:x", ":5"] {
            assert!(tried(wrong, |_| Ok(())).1.unwrap_err().contains("is not a server"), "{wrong}");
        }
    }
}
