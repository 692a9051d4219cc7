//! Logging in.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, TrySendError, sync_channel};
use std::time::Instant;

use futures_util::future::poll_fn;
use jaunty_seam::engine::Attempt;
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile, Secret};
use tokio::runtime::Runtime;
use tokio_postgres::config::SslMode;
use tokio_postgres::tls::MakeTlsConnect;
use tokio_postgres::{AsyncMessage, Client, Config};
use tokio_postgres_rustls::MakeRustlsConnect;

use super::bounded::{Bounded, BoundedTls};
use super::overheard::Overheard;
use super::session::PostgresSession;
use super::{errors, files};
use crate::net::limit::{Limit, largest};
use crate::net::reach::{Address, Route, Stream};
use crate::net::servers::{self, Bearing};
use crate::net::tls::{Mode, Tls};
use crate::net::work;

/// The longest message before a person is let in: there are no rows yet.
const LONGEST_OF_LOGIN: u64 = 1 << 20;

/// So many messages of the server may wait to be told; what comes on top is left out.
const MOST_SAID: usize = 1000;

/// What the server says beside its answers, until it is told.
pub struct Said {
    messages: Receiver<AsyncMessage>,
    /// How many came while too many waited.
    left_out: Arc<AtomicU64>,
}

impl Said {
    /// What waits to be told.
    pub fn waiting(&self) -> impl Iterator<Item = AsyncMessage> + '_ {
        self.messages.try_iter()
    }

    /// How many were left out since this was asked last.
    pub fn left_out(&self) -> u64 {
        self.left_out.swap(0, Ordering::Relaxed)
    }
}

/// What a session needs of its connection.
pub struct Link {
    /// Runs the driver while something is waited for.
    pub runtime: Runtime,
    /// The driver.
    pub client: Client,
    /// What the server says beside its answers.
    pub said: Said,
    /// Where the server is, for a second connection that stops what runs on the first.
    pub route: Route,
    /// How both are encrypted.
    pub tls: MakeRustlsConnect,
    /// What is asked of the encryption.
    pub security: Tls,
    /// The server's version.
    pub version: String,
    /// What it says between its answers.
    pub overheard: Overheard,
    /// How long its messages may be.
    pub limit: Limit,
}

/// Opens a session, on the first of the profile's servers that can be reached and is what is asked for.
pub fn connect(attempt: &Attempt<'_>) -> Result<PostgresSession, EngineError> {
    let profile = files::with_service(attempt.profile)?;
    servers::wanted(&profile, &attempt.stop, |server, target| connect_to(server, target, attempt))
}

/// Whether a server is what is asked for, by what it says of itself: libpq's documentation, "target_session_attrs".
async fn is_wanted(client: &Client, target: &str, route: &Route, profile: &Profile) -> Result<(), EngineError> {
    if target == "any" {
        return Ok(());
    }
    let asked = client.simple_query("select pg_is_in_recovery(), current_setting('transaction_read_only')").await;
    let asked = asked.map_err(|error| EngineError::connecting(Step::Session, error.to_string()))?;
    let row = asked.iter().find_map(|message| match message {
        tokio_postgres::SimpleQueryMessage::Row(row) => Some((row.get(0) == Some("t"), row.get(1) == Some("on"))),
        _ => None,
    });
    let (standby, read_only) = row.unwrap_or_default();
    // On a read-only profile the session is so by our own word.
    let read_only = if profile.guard == Guard::ReadOnly { standby } else { read_only };
    let kind = match (standby, read_only) {
        (true, _) => "a standby",
        (_, true) => "read-only",
        _ => "a primary",
    };
    Bearing { standby, read_only, kind }.is(target, &route.address)
}

fn connect_to(profile: &Profile, target: &str, attempt: &Attempt<'_>) -> Result<PostgresSession, EngineError> {
    let secret = attempt.secret;
    let from_service = profile.text("password").filter(|_| secret.is_none()).map(|text| Secret::new(text.to_owned()));
    let secret = secret.or(from_service.as_ref());
    let (since, runtime) = (Instant::now(), work::runtime()?);
    let route = Route::of(profile, 5432, |port| Some(format!(".s.PGSQL.{port}")))?;
    let bound = Limit::of(LONGEST_OF_LOGIN);
    let link = runtime.block_on(work::unless_stopped(&attempt.stop, async {
        let route = route.through_tunnel(profile).await?;
        let (patience, silent) = (route.patience, route.silent("PostgreSQL server"));
        let logged_in = tokio::time::timeout(patience, log_in(profile, secret, route, &bound)).await;
        let failed = |error| match bound.exceeded() {
            Some(long) => EngineError { kind: ErrorKind::Connect, step: Some(Step::Login), ..long },
            None => error,
        };
        let link = logged_in.unwrap_or(Err(silent)).map_err(failed)?;
        let silent = link.2.silent_after();
        tokio::time::timeout(patience, is_wanted(&link.0, target, &link.2, profile)).await.unwrap_or(Err(silent))?;
        Ok(link)
    }))?;
    bound.set(largest(profile));
    let (client, said, route, tls, security, version, overheard) = link;
    let limit = since + route.patience;
    PostgresSession::begin(
        Link { runtime, client, said, route, tls, security, version, overheard, limit: bound },
        profile,
        limit,
        &attempt.stop,
    )
}

type LoggedIn = (Client, Said, Route, MakeRustlsConnect, Tls, String, Overheard);

async fn log_in(
    profile: &Profile,
    secret: Option<&Secret>,
    route: Route,
    limit: &Limit,
) -> Result<LoggedIn, EngineError> {
    let security = Tls::of(profile, &route)?;
    let mut tls = MakeRustlsConnect::new(security.client()?);
    let user = profile.text("user").map_or_else(files::user_of_system, str::to_owned);
    let database = profile.text("database").unwrap_or(&user).to_owned();
    let stream = route.stream().await?;
    let mut config = Config::new();
    config.user(&user).dbname(&database).application_name("jaunty");
    let mode = match (security.mode, &route.address) {
        // The protocol knows no TLS over Unix sockets.
        (Mode::Off, _) | (_, Address::Socket(_)) => SslMode::Disable,
        (Mode::Prefer, _) => SslMode::Prefer,
        (Mode::Require | Mode::VerifyFull, _) => SslMode::Require,
    };
    config.ssl_mode(mode);
    // The server answers a wish for TLS with one byte.
    let overheard = Overheard::new();
    let stream = Bounded::new(stream, limit.clone(), u64::from(mode != SslMode::Disable), overheard.clone());
    if let Some(secret) = secret {
        config.password(secret.reveal());
    }
    if profile.guard == Guard::ReadOnly {
        // As a start-up option it is what the session goes back to when its settings are reset.
        config.options("-c default_transaction_read_only=on");
    }
    let host = route.address.host();
    let connect = <MakeRustlsConnect as MakeTlsConnect<Stream>>::make_tls_connect(&mut tls, host)
        .map_err(|error| EngineError::connecting(Step::Tls, format!("{host} is not a valid name for TLS: {error}")))?;
    let connect = BoundedTls { tls: connect, limit: limit.clone(), overheard: overheard.clone() };
    let logged_in = config.connect_raw(stream, connect).await;
    let (client, mut connection) = logged_in.map_err(|error| errors::login(&error, &route, secret, &database))?;
    let version = connection.parameter("server_version").unwrap_or_default().to_owned();
    let (post, messages) = sync_channel(MOST_SAID);
    let left_out = Arc::new(AtomicU64::new(0));
    let said = Said { messages, left_out: Arc::clone(&left_out) };
    tokio::spawn(async move {
        while let Some(message) = poll_fn(|cx| connection.poll_message(cx)).await {
            match message {
                // A server that says more than anybody could read is only counted.
                Ok(message) => {
                    if matches!(post.try_send(message), Err(TrySendError::Full(_))) {
                        left_out.fetch_add(1, Ordering::Relaxed);
                    }
                }
                Err(error) => {
                    tracing::debug!(%error, "the connection ended");
                    break;
                }
            }
        }
    });
    Ok((client, said, route, tls, security, version, overheard))
}
