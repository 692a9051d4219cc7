//! Logging in.

use std::time::Instant;

use jaunty_mysql::{Client, Error, Handshake, Login};
use jaunty_seam::engine::Attempt;
use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::{Guard, Profile, Secret};
use tokio::runtime::Runtime;

use super::errors;
use super::session::MysqlSession;
use crate::net::limit::largest;
use crate::net::reach::{self, Address, Route};
use crate::net::servers;
use crate::net::tls::{self, Mode, Tls};
use crate::net::work;

/// Bytes to and from a server, encrypted or not.
pub type Way = Box<dyn reach::Carried>;

/// What a session needs of its connection.
pub struct Link {
    /// Runs while something is waited for.
    pub runtime: Runtime,
    /// The connection.
    pub client: Client<Way>,
    /// How it was connected, for a second connection that stops what runs on the first.
    pub again: Again,
    /// How it is encrypted, in words.
    pub transport: String,
}

/// How to connect once more.
#[derive(Clone)]
pub struct Again {
    profile: Profile,
    secret: Option<Secret>,
    pub route: Route,
}

impl Again {
    /// Connects, on its own transport to the server, which has to be kept as long as the connection.
    pub async fn connect(&self) -> Result<(Client<Way>, Route), EngineError> {
        let route = self.route.beside().await?;
        let (client, _) = log_in(&self.profile, self.secret.as_ref(), &route).await?;
        Ok((client, route))
    }
}

/// Opens a session.
pub fn connect(attempt: &Attempt<'_>) -> Result<MysqlSession, EngineError> {
    servers::wanted(attempt.profile, &attempt.stop, |server, target| connect_to(server, target, attempt))
}

fn connect_to(profile: &Profile, target: &str, attempt: &Attempt<'_>) -> Result<MysqlSession, EngineError> {
    let secret = attempt.secret;
    crate::net::prepare();
    let (since, runtime) = (Instant::now(), work::runtime()?);
    let route = Route::of(profile, 3306, |_| None)?;
    let patience = route.patience;
    let (client, transport, route) = runtime.block_on(work::unless_stopped(&attempt.stop, async {
        let route = route.through_tunnel(profile).await?;
        let logged_in = tokio::time::timeout(patience, log_in(profile, secret, &route)).await;
        let (client, transport) = logged_in.unwrap_or_else(|_| Err(route.silent("MySQL or MariaDB server")))?;
        Ok::<_, EngineError>((client, transport, route))
    }))?;
    let again = Again { profile: profile.clone(), secret: secret.cloned(), route };
    let link = Link { runtime, client, again, transport };
    MysqlSession::begin(link, (profile, target), since + patience, &attempt.stop)
}

async fn log_in(
    profile: &Profile,
    secret: Option<&Secret>,
    route: &Route,
) -> Result<(Client<Way>, String), EngineError> {
    let security = Tls::of(profile, route)?;
    let user = profile.text("user").map(str::to_owned).or_else(|| std::env::var("USER").ok()).unwrap_or_default();
    let database = profile.text("database");
    let failed = |error: Error| errors::login(&error, route, database.unwrap_or_default(), secret.is_some());
    let socket = matches!(route.address, Address::Socket(_));
    let mut stream = route.stream().await?;
    let mut handshake = Handshake::receive(&mut stream).await.map_err(failed)?;
    let mut login = Login {
        user: &user,
        password: secret.map(Secret::reveal).unwrap_or_default(),
        database,
        program: "jaunty",
        // Whatever the server takes as one packet, we take too, unless the profile says otherwise.
        largest: largest(profile),
        encrypted: false,
        private: socket,
    };
    let mut version = None;
    // What goes through a socket does not leave the machine.
    let way: Way = if socket || security.mode == Mode::Off {
        Box::new(stream)
    } else if handshake.has_tls() {
        // Before anything is said: what is wrong with our files is told.
        let config = security.client()?;
        handshake.ask_for_tls(&mut stream, &login).await.map_err(failed)?;
        let encrypted = tls::shake_hands(stream, config, route.address.host(), || {
            let what = format!("{} closed the connection during the TLS handshake", route.address);
            EngineError::connecting(Step::Tls, what)
                .remedy("Check the keys that begin with tls_, and the server's log.")
        });
        let encrypted = encrypted.await?;
        version = tls::version(&encrypted);
        login.encrypted = true;
        login.private = security.mode == Mode::VerifyFull || route.is_private();
        Box::new(encrypted)
    } else if security.mode == Mode::Prefer {
        Box::new(stream)
    } else {
        let what = format!("{} does not support TLS", route.address);
        return Err(EngineError::connecting(Step::Tls, what)
            .remedy("Enable it on the server, or set tls = \"prefer\" if the network is trusted."));
    };
    let client = login.on(way, &handshake).await.map_err(failed)?;
    let words = if socket { "socket".to_owned() } else { security.in_words(version.as_deref()) };
    let transport = match &route.tunnel {
        Some(tunnel) => format!("{words}, through {}", tunnel.name()),
        None => words,
    };
    Ok((client, transport))
}

/// What a new session is set up with.
pub fn setup(profile: &Profile, is_mariadb: bool) -> Vec<&'static str> {
    // Rows that are held are not read for as long as a person likes; the server would give up after a minute. How far a
    // long statement is would be told every five seconds.
    let held = match is_mariadb {
        true => "set session net_write_timeout = 31536000, progress_report_time = 1",
        false => "set session net_write_timeout = 31536000",
    };
    match profile.guard {
        Guard::ReadOnly => vec![held, "set session transaction read only"],
        Guard::Open | Guard::Ask => vec![held],
    }
}
