//! Logging in.

use std::time::Instant;

use jaunty_seam::engine::Attempt;
use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::{Guard, Profile, Secret};
use mysql_async::{ClientIdentity, Conn, DriverError, Error, Opts, OptsBuilder, SslOpts};
use tokio::runtime::Runtime;

use super::errors;
use super::session::MysqlSession;
use crate::net::limit::largest;
use crate::net::reach::{Address, Route, addresses};
use crate::net::tls::{Mode, Tls};
use crate::net::work;

/// What a session needs of its connection.
pub struct Link {
    /// Runs the driver while something is waited for.
    pub runtime: Runtime,
    /// The driver.
    pub connection: Conn,
    /// How it was connected, for a second connection that stops what runs on the first.
    pub again: Again,
    /// How it is encrypted, in words.
    pub transport: String,
}

/// How to connect once more.
#[derive(Clone)]
pub struct Again {
    options: Opts,
    pub route: Route,
}

impl Again {
    /// Connects.
    pub async fn connect(self) -> Result<Conn, Error> {
        let Some(tunnel) = &self.route.tunnel else { return Conn::new(self.options).await };
        let carried = async {
            let tunnel = tunnel.another().await?;
            let port = tunnel.forward(self.route.address.clone()).await?;
            Ok::<_, EngineError>((tunnel, port))
        };
        // The other tunnel stays as long as what it forwards.
        let (_tunnel, port) = carried.await.map_err(|error| Error::Other(Box::new(error)))?;
        Conn::new(OptsBuilder::from_opts(self.options).tcp_port(port)).await
    }
}

/// Opens a session.
pub fn connect(attempt: &Attempt<'_>) -> Result<MysqlSession, EngineError> {
    let (profile, secret) = (attempt.profile, attempt.secret);
    crate::net::prepare();
    let (since, runtime) = (Instant::now(), work::runtime()?);
    let route = Route::of(profile, 3306, |_| None)?;
    let patience = route.patience;
    let (connection, again, transport) = runtime.block_on(work::unless_stopped(&attempt.stop, async {
        let route = route.through_tunnel(profile).await?;
        let logged_in = tokio::time::timeout(patience, log_in(profile, secret, &route)).await;
        let (connection, options, transport) =
            logged_in.unwrap_or_else(|_| Err(route.silent("MySQL or MariaDB server")))?;
        Ok::<_, EngineError>((connection, Again { options, route }, transport))
    }))?;
    MysqlSession::begin(Link { runtime, connection, again, transport }, profile, since + patience, &attempt.stop)
}

async fn log_in(
    profile: &Profile,
    secret: Option<&Secret>,
    route: &Route,
) -> Result<(Conn, Opts, String), EngineError> {
    let security = Tls::of(profile, route)?;
    let database = profile.text("database");
    let mut builder = OptsBuilder::default()
        .user(profile.text("user").map(str::to_owned).or_else(|| std::env::var("USER").ok()))
        .pass(secret.map(|secret| secret.reveal().to_owned()))
        .db_name(database.map(str::to_owned))
        .prefer_socket(false)
        .stmt_cache_size(0_usize)
        // Whatever the server takes as one packet, we take too, unless the profile says otherwise.
        .max_allowed_packet(usize::try_from(largest(profile)).ok())
        .wait_timeout(Some(usize::MAX >> 32));
    let carried = route.tunnel.is_some();
    let (socket, host) = match (&route.address, &route.tunnel) {
        (address, Some(tunnel)) => {
            let port = tunnel.forward(address.clone()).await?;
            builder = builder.ip_or_hostname("127.0.0.1").tcp_port(port);
            (false, address.host().to_owned())
        }
        (Address::Socket(path), None) => {
            builder = builder.socket(Some(path.display().to_string()));
            (true, "localhost".to_owned())
        }
        (Address::Host(host, port), None) => {
            // The name is looked up here, so that a name without an address is told as that.
            let found = addresses(host, *port).await?;
            let address =
                found.first().ok_or_else(|| EngineError::connecting(Step::Name, format!("{host} has no address")))?;
            builder = builder.ip_or_hostname(address.ip().to_string()).tcp_port(*port);
            (false, host.clone())
        }
    };
    if socket {
        let options = Opts::from(builder);
        let connection = open(&options, route, profile, secret).await?;
        return Ok((connection, options, "socket".into()));
    }
    let plain = Opts::from(builder.clone());
    let through = |transport: String| match &route.tunnel {
        Some(tunnel) if carried => format!("{transport}, through {}", tunnel.name()),
        _ => transport,
    };
    if security.mode == Mode::Off {
        let connection = open(&plain, route, profile, secret).await?;
        return Ok((connection, plain, through(security.in_words(None))));
    }
    let options = Opts::from(builder.ssl_opts(ssl(&security, &host)?));
    match Conn::new(options.clone()).await {
        Ok(connection) => Ok((connection, options, through(security.in_words(Some("TLS"))))),
        Err(Error::Driver(DriverError::NoClientSslFlagFromServer)) if security.mode == Mode::Prefer => {
            let connection = open(&plain, route, profile, secret).await?;
            Ok((connection, plain, through(security.in_words(None))))
        }
        Err(error) => Err(errors::login(&error, route, database.unwrap_or_default(), secret.is_some())),
    }
}

async fn open(options: &Opts, route: &Route, profile: &Profile, secret: Option<&Secret>) -> Result<Conn, EngineError> {
    let database = profile.text("database").unwrap_or_default();
    Conn::new(options.clone()).await.map_err(|error| errors::login(&error, route, database, secret.is_some()))
}

fn ssl(security: &Tls, host: &str) -> Result<SslOpts, EngineError> {
    let mut options = SslOpts::default().with_danger_tls_hostname_override(Some(host.to_owned()));
    if security.mode == Mode::VerifyFull {
        // The driver's own list of authorities is not this machine's.
        options = options.with_disable_built_in_roots(true).with_root_certs(match &security.ca {
            Some(file) => vec![file.clone().into()],
            None => {
                let system = rustls_native_certs::load_native_certs();
                system.certs.into_iter().map(|certificate| certificate.to_vec().into()).collect()
            }
        });
        // Read here first, since the driver says less of what is wrong with it.
        security.client()?;
    } else {
        options = options.with_danger_accept_invalid_certs(true).with_danger_skip_domain_validation(true);
    }
    if let Some((cert, key)) = &security.identity {
        let identity = ClientIdentity::new(cert.clone().into(), key.clone().into());
        options = options.with_client_identity(Some(identity));
    }
    Ok(options)
}

/// What a new session is set up with.
pub fn setup(profile: &Profile) -> Vec<&'static str> {
    // Rows that are held are not read for as long as a person likes; the server would give up after a minute.
    let held = "set session net_write_timeout = 31536000";
    match profile.guard {
        Guard::ReadOnly => vec![held, "set session transaction read only"],
        Guard::Open | Guard::Ask => vec![held],
    }
}
