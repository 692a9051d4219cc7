//! Logging in: TDS 7.4 with TLS inside its packets, or TDS 8 with TLS first.

use std::time::{Duration, Instant};

use jaunty_seam::engine::Attempt;
use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_tds::carried::Carried;
use jaunty_tds::login::{Login, Who};
use jaunty_tds::packet::{self, Kind};
use jaunty_tds::prelogin::{Answer, Encryption, Prelogin};
use jaunty_tds::{Client, Environment, Message, Pace, Token, browser};
use tokio::net::UdpSocket;
use tokio::runtime::Runtime;

use super::errors;
use super::session::SqlServerSession;
use crate::net::limit::largest;
use crate::net::reach::{self, Route};
use crate::net::tls::{self, Mode, Tls};
use crate::net::work;

/// How large packets may be: what fits into a record of TLS.
const PACKET: u32 = 16_000;

/// The protocol that a server of TDS 8 is asked for inside TLS.
const TDS_8: &[u8] = b"tds/8.0";

/// How often a server may send us to another one.
const MOST_ROUTES: usize = 4;

/// How long the browser service is waited for, each of two times.
const BROWSER: Duration = Duration::from_millis(1500);

/// Bytes to and from a server, encrypted or not.
pub type Way = Box<dyn reach::Carried>;

/// What a session needs of its connection.
pub struct Link {
    /// Runs while something is waited for.
    pub runtime: Runtime,
    /// The connection.
    pub client: Client<Way>,
    /// How it is reached.
    pub route: Route,
    /// How it is encrypted, in words.
    pub transport: String,
    /// The server's version.
    pub version: String,
    /// The database that it begins in.
    pub database: String,
}

/// What a login gave.
struct LoggedIn {
    client: Client<Way>,
    route: Route,
    transport: String,
    version: String,
    database: String,
}

/// Opens a session.
pub fn connect(attempt: &Attempt<'_>) -> Result<SqlServerSession, EngineError> {
    crate::net::prepare();
    let (since, runtime) = (Instant::now(), work::runtime()?);
    let (profile, instance) = instance_of(attempt.profile);
    let patience = Route::of(&profile, 1433, |_| None)?.patience;
    let LoggedIn { client, route, transport, version, database } =
        runtime.block_on(work::unless_stopped(&attempt.stop, async {
            let profile = match &instance {
                Some(instance) => with_port(profile.clone(), instance).await?,
                None => profile.clone(),
            };
            let route = Route::of(&profile, 1433, |_| None)?.through_tunnel(&profile).await?;
            let silent = route.silent("SQL Server");
            let logging_in = log_in(&profile, attempt.secret, route, instance.as_deref().unwrap_or_default());
            tokio::time::timeout(patience, logging_in).await.unwrap_or(Err(silent))
        }))?;
    let link = Link { runtime, client, route, transport, version, database };
    SqlServerSession::begin(link, &profile, since + patience, &attempt.stop)
}

/// A profile whose host is a machine, and the instance on it that is meant where no port is given.
fn instance_of(profile: &Profile) -> (Profile, Option<String>) {
    let Some((host, instance)) = profile.text("host").and_then(|host| host.split_once('\\')) else {
        return (profile.clone(), None);
    };
    let instance = Some(instance.to_owned()).filter(|name| !name.is_empty() && profile.number("port").is_none());
    (profile.clone().with("host", host), instance)
}

/// A profile with the port of an instance, asked of the browser service of its machine.
async fn with_port(mut profile: Profile, instance: &str) -> Result<Profile, EngineError> {
    let host = profile.text("host").unwrap_or("127.0.0.1").to_owned();
    if profile.text("ssh").is_some() {
        let what = format!("the port of {host}\\{instance} cannot be asked for through an SSH server");
        return Err(EngineError::connecting(Step::Profile, what).remedy("Set port in the profile."));
    }
    let at = profile.number("browser_port").and_then(|port| u16::try_from(port).ok()).unwrap_or(browser::PORT);
    let lost = |why: String| {
        let what = format!("the instance {instance} was not found on {host}: {why}");
        EngineError::connecting(Step::Reach, what).remedy(format!(
            "Check its name, and that the browser service runs there (UDP port {at}), or set port in the profile."
        ))
    };
    let address = *reach::addresses(&host, at)
        .await?
        .first()
        .ok_or_else(|| EngineError::connecting(Step::Name, format!("{host} has no address")))?;
    let local = if address.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
    let asked = async {
        let socket = UdpSocket::bind(local).await?;
        socket.connect(address).await?;
        let mut answer = vec![0; 1 << 16];
        for _ in 0..2 {
            socket.send(&browser::question(instance)).await?;
            if let Ok(length) = tokio::time::timeout(BROWSER, socket.recv(&mut answer)).await {
                answer.truncate(length?);
                return Ok::<_, std::io::Error>(answer);
            }
        }
        Err(std::io::ErrorKind::TimedOut.into())
    };
    let answer = asked.await.map_err(|error| {
        lost(match error.kind() {
            std::io::ErrorKind::TimedOut => "its browser service did not answer".into(),
            std::io::ErrorKind::ConnectionRefused => "it has no browser service".into(),
            _ => error.to_string(),
        })
    })?;
    let port =
        browser::port(&answer, instance).ok_or_else(|| lost("the browser service knows no TCP port of it".into()))?;
    profile.settings.insert("port".into(), Setting::Number(port.into()));
    Ok(profile)
}

async fn log_in(
    profile: &Profile,
    secret: Option<&Secret>,
    mut route: Route,
    instance: &str,
) -> Result<LoggedIn, EngineError> {
    let user = profile.text("user").map(str::to_owned).or_else(|| std::env::var("USER").ok()).unwrap_or_default();
    let database = profile.text("database").unwrap_or_default().to_owned();
    let machine = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let by_token = profile.text("login") == Some("token");
    let tls_first = profile.settings.get("tls_first") == Some(&Setting::Flag(true));
    for _ in 0..MOST_ROUTES {
        let security = Tls::of(profile, &route)?;
        let host = route.address.host().to_owned();
        let (way, answer, version) = if tls_first {
            begin_with_tls(&route, &security, &host, by_token).await?
        } else {
            begin(&route, &security, &host, by_token, instance).await?
        };
        let password = secret.map(Secret::reveal).unwrap_or_default();
        let who = match by_token {
            true => Who::Token { token: password, told: answer.token },
            false => Who::Password { user: &user, password },
        };
        let login = Login {
            who,
            machine: machine.trim(),
            program: "jaunty",
            server: &host,
            database: &database,
            packet: PACKET,
            reads: profile.guard == Guard::ReadOnly,
            tls_first,
        };
        let mut client = Client::new(way, largest(profile));
        let said = greet(&mut client, &login, &route).await?;
        if let Some((host, port)) = said.route {
            tracing::debug!(host, port, "the server sends us on");
            route.address = reach::Address::Host(host, port);
            continue;
        }
        let Some(version_of) = said.version else {
            return Err(errors::login(&said.errors, &route, &database, secret.is_some()));
        };
        let words = security.in_words(version.as_deref());
        let transport = match &route.tunnel {
            Some(tunnel) => format!("{words}, through {}", tunnel.name()),
            None => words,
        };
        return Ok(LoggedIn { client, route, transport, version: version_of, database: said.database });
    }
    Err(EngineError::connecting(Step::Reach, "the servers send each login on to another one, without an end")
        .remedy("Ask their administrator about the routing of sessions that only read."))
}

/// What a server says of a login.
#[derive(Default)]
struct Said {
    version: Option<String>,
    database: String,
    route: Option<(String, u16)>,
    errors: Vec<Message>,
}

async fn greet(client: &mut Client<Way>, login: &Login<'_>, route: &Route) -> Result<Said, EngineError> {
    let failed = |error: jaunty_tds::Error| errors::while_logging_in(&error, route);
    client.send(Kind::Login, &login.written()).await.map_err(failed)?;
    let mut said = Said::default();
    loop {
        let token = match client.token() {
            Ok(Pace::Token(token)) => token,
            Ok(Pace::Wait) => match client.fill().await {
                Ok(()) => continue,
                // A server that has said why it refuses need not end it well.
                Err(_) if !said.errors.is_empty() => return Ok(said),
                Err(error) => return Err(failed(error)),
            },
            Err(error) => return Err(failed(error)),
        };
        match token {
            Token::Error(message) => said.errors.push(message),
            Token::LoggedIn { version: (major, minor, build), .. } => {
                said.version = Some(format!("{major}.{minor}.{build}"));
            }
            Token::Environment(Environment::Database(name)) => said.database = name,
            Token::Environment(Environment::Route { host, port }) => said.route = Some((host, port)),
            Token::End => return Ok(said),
            _ => {}
        }
    }
}

/// TDS 7: both sides tell what they wish, and TLS is agreed on inside their packets.
async fn begin(
    route: &Route,
    security: &Tls,
    host: &str,
    by_token: bool,
    instance: &str,
) -> Result<(Way, Answer, Option<String>), EngineError> {
    let mut stream = route.stream().await?;
    let encryption = if security.mode == Mode::Off { Encryption::NotSupported } else { Encryption::On };
    let failed = |error: jaunty_tds::Error| errors::while_logging_in(&error, route);
    let told = Prelogin { encryption, instance, token: by_token }.written();
    let answer = packet::exchange(&mut stream, Kind::Prelogin, &told).await.map_err(failed)?;
    let answer = Answer::read(&answer).map_err(failed)?;
    if !answer.right_instance {
        let what = format!("{} is another instance than {instance}", route.address);
        return Err(EngineError::connecting(Step::Reach, what).remedy("Set the port of the instance in the profile."));
    }
    match (security.mode, answer.encryption) {
        (Mode::Off, Encryption::Required) => {
            let what = format!("{} requires an encrypted connection", route.address);
            Err(EngineError::connecting(Step::Tls, what).remedy("Set tls = \"require\" or \"verify-full\"."))
        }
        (Mode::Off, _) | (Mode::Prefer, Encryption::NotSupported) => Ok((Box::new(stream), answer, None)),
        (_, Encryption::NotSupported) => {
            Err(EngineError::connecting(Step::Tls, format!("{} does not support TLS", route.address))
                .remedy("Enable it on the server, or set tls = \"prefer\" if the network is trusted."))
        }
        _ => {
            // The packets of the handshake end with it: in 1.3 the server would say more later.
            let config = security.client_of(&[&rustls::version::TLS12])?;
            let mut way = tls::shake_hands(Carried::new(stream), config, host, || without_tls(route)).await?;
            way.get_mut().0.bare();
            let version = tls::version(&way);
            Ok((Box::new(way), answer, version))
        }
    }
}

/// TDS 8: TLS, and all of the rest inside it.
async fn begin_with_tls(
    route: &Route,
    security: &Tls,
    host: &str,
    by_token: bool,
) -> Result<(Way, Answer, Option<String>), EngineError> {
    if security.mode == Mode::Off {
        return Err(EngineError::connecting(Step::Profile, "tls_first needs TLS, and tls is off")
            .remedy("Leave one of them out."));
    }
    let mut config = security.client()?;
    config.alpn_protocols = vec![TDS_8.to_vec()];
    let mut way = tls::shake_hands(route.stream().await?, config, host, || without_tls(route)).await?;
    let failed = |error: jaunty_tds::Error| errors::while_logging_in(&error, route);
    let told = Prelogin { encryption: Encryption::On, instance: "", token: by_token }.written();
    let answer = packet::exchange(&mut way, Kind::Prelogin, &told).await.map_err(failed)?;
    let version = tls::version(&way);
    Ok((Box::new(way), Answer::read(&answer).map_err(failed)?, version))
}

/// The error of a server that does not answer with TLS where it should.
fn without_tls(route: &Route) -> EngineError {
    let what = format!("{} closed the connection during the TLS handshake", route.address);
    EngineError::connecting(Step::Tls, what)
        .remedy("The server may expect TLS at another time: see tls_first, or have no certificate.")
}
