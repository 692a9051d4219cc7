//! Logging in.

use std::sync::Arc;
use std::time::Instant;

use jaunty_seam::engine::Attempt;
use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::Profile;
use redis::aio::MultiplexedConnection;
use redis::{AsyncConnectionConfig, ProtocolVersion, PushInfo, RedisConnectionInfo, RedisError};
use tokio::sync::mpsc::{UnboundedReceiver, unbounded_channel};

use super::bounded::Bounded;
use super::sentinel;
use super::session::RedisSession;
use crate::net::GIVE_PASSWORD;
use crate::net::limit::{Limit, largest};
use crate::net::reach::{Address, Route, Stream};
use crate::net::servers;
use crate::net::tls::{self, Mode, Tls};
use crate::net::work::{self, Beside};

/// How to connect, once and again.
#[derive(Clone)]
pub struct Door {
    pub(super) route: Route,
    security: Tls,
    profile: Arc<Profile>,
    login: RedisConnectionInfo,
    has_secret: bool,
    database: i64,
    /// How much of a reply is taken.
    pub(super) bound: Limit,
}

/// A connection as it was made.
pub struct Link {
    /// The driver.
    pub connection: MultiplexedConnection,
    /// What the server sends unasked.
    pub pushed: UnboundedReceiver<PushInfo>,
    /// How it is encrypted, in words.
    pub transport: String,
}

/// Opens a session.
pub fn connect(attempt: &Attempt<'_>) -> Result<RedisSession, EngineError> {
    servers::wanted(attempt.profile, &attempt.stop, |server, _| connect_to(server, attempt))
}

fn connect_to(profile: &Profile, attempt: &Attempt<'_>) -> Result<RedisSession, EngineError> {
    let secret = attempt.secret;
    let (since, runtime) = (Instant::now(), Beside::new()?);
    let route = Route::of(profile, 6379, |_| None)?;
    let database = profile.text("database").unwrap_or("0");
    let database: i64 = database.parse().map_err(|_| {
        EngineError::connecting(Step::Profile, format!("\"{database}\" is not a Redis database"))
            .remedy("Databases are numbered from 0.")
    })?;
    let mut login = RedisConnectionInfo::default().set_protocol(ProtocolVersion::RESP3).set_db(database);
    login = login.set_skip_set_lib_name();
    if let Some(user) = profile.text("user") {
        login = login.set_username(user);
    }
    if let Some(secret) = secret {
        login = login.set_password(secret.reveal());
    }
    let (door, link) = runtime.block_on(work::unless_stopped(&attempt.stop, async {
        let route = route.through_tunnel(profile).await?;
        let security = Tls::of(profile, &route)?;
        let bound = Limit::of(largest(profile));
        let of = Arc::new(profile.clone());
        let door = Door { route, security, profile: of, login, has_secret: secret.is_some(), database, bound };
        let door = match profile.text("sentinel") {
            Some(name) => sentinel::primary(door, name).await?,
            None => door,
        };
        let link = door.enter().await?;
        Ok::<_, EngineError>((door, link))
    }))?;
    let limit = since + door.route.patience;
    RedisSession::begin(runtime, door, link, profile, limit, &attempt.stop)
}

impl Door {
    /// The same, into another database.
    pub fn with_database(mut self, number: i64) -> Door {
        self.login = self.login.set_db(number);
        self.database = number;
        self
    }

    /// The same without a login.
    pub fn without_login(mut self) -> Door {
        self.login = RedisConnectionInfo::default().set_protocol(ProtocolVersion::RESP3).set_skip_set_lib_name();
        self.has_secret = false;
        self
    }

    /// The same, to another server; how it is encrypted depends on where that one is.
    pub fn to(mut self, address: Address) -> Result<Door, EngineError> {
        self.route.address = address;
        self.security = Tls::of(&self.profile, &self.route)?;
        Ok(self)
    }

    /// Connects, on its own transport to the server.
    pub async fn enter_beside(&self) -> Result<Link, EngineError> {
        Door { route: self.route.beside().await?, ..self.clone() }.enter().await
    }

    /// Connects.
    pub async fn enter(&self) -> Result<Link, EngineError> {
        let entering = tokio::time::timeout(self.route.patience, self.try_to_enter());
        entering.await.unwrap_or_else(|_| Err(self.route.silent("Redis server")))
    }

    async fn try_to_enter(&self) -> Result<Link, EngineError> {
        let stream = self.route.stream().await?;
        let socket = matches!(self.route.address, Address::Socket(_));
        let through = |transport: String| match &self.route.tunnel {
            Some(tunnel) => format!("{transport}, through {}", tunnel.name()),
            None => transport,
        };
        // The protocol does not say whether a port speaks TLS: where none is asked for, none is tried.
        if matches!(self.security.mode, Mode::Off | Mode::Prefer) || socket {
            let transport = if socket { "socket".to_owned() } else { self.security.in_words(None) };
            return self.log_in(stream, through(transport)).await;
        }
        let host = self.route.address.host().to_owned();
        let stream = tls::shake_hands(stream, self.security.client()?, &host, || {
            EngineError::connecting(Step::Tls, format!("{} does not support TLS", self.route.address))
                .remedy("Use the server's TLS port, or set tls = \"off\" if the network is trusted.")
        });
        let stream = stream.await?;
        let transport = through(self.security.in_words(tls::version(&stream).as_deref()));
        self.log_in(Stream::Carried(Box::new(stream)), transport).await
    }

    async fn log_in(&self, stream: Stream, transport: String) -> Result<Link, EngineError> {
        let (post, pushed) = unbounded_channel();
        // A command may wait for as long as it likes: a person stops it.
        let config = AsyncConnectionConfig::new().set_response_timeout(None).set_push_sender(post);
        let entered = {
            let stream = Bounded::new(stream, self.bound.clone());
            MultiplexedConnection::new_with_config(&self.login, stream, config).await
        };
        let (connection, driver) = entered.map_err(|error| self.refused(&error))?;
        tokio::spawn(driver);
        Ok(Link { connection, pushed, transport })
    }

    fn refused(&self, error: &RedisError) -> EngineError {
        let said = [error.code().unwrap_or_default(), error.detail().unwrap_or_default()].join(" ");
        let all = format!("{said} {error}");
        let address = &self.route.address;
        if all.contains("WRONGPASS") || all.contains("invalid username-password") || all.contains("invalid password") {
            return EngineError::connecting(Step::Secret, "wrong user name or password")
                .code("WRONGPASS")
                .remedy("Check user and password.");
        }
        if all.contains("NOAUTH") || (!self.has_secret && all.to_lowercase().contains("auth")) {
            let error = EngineError::connecting(Step::Secret, format!("{address} requires a password")).code("NOAUTH");
            return error.remedy(GIVE_PASSWORD);
        }
        if all.contains("DB index") || all.contains("database number") || all.contains("establishing redis database") {
            return EngineError::connecting(Step::Database, format!("{address} has no database {}", self.database))
                .remedy("Most servers have databases 0 to 15.");
        }
        // With TLS 1.3 the server says so only after the handshake.
        if all.contains("CertificateRequired") {
            return tls::wants_certificate(self.route.address.host());
        }
        if error.is_io_error() || error.is_connection_dropped() {
            return EngineError::connecting(Step::Login, format!("{address} closed the connection during the login"))
                .remedy("Is it a Redis server? A port for TLS wants tls = \"require\" or \"verify-full\".");
        }
        EngineError::connecting(Step::Login, all.trim().to_owned())
    }
}
