//! Logging in, on the primary of a replica set.

use std::time::{Duration, Instant};

use jaunty_documents::address::{self, Wanted};
use jaunty_documents::bson::field;
use jaunty_documents::message::{Compressor, reply};
use jaunty_documents::scram::{Mechanism, Scram};
use jaunty_documents::{Bson, Document, bson};
use jaunty_seam::engine::Attempt;
use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::{Profile, Secret, Setting};
use tokio::net::UdpSocket;
use tokio::runtime::Runtime;

use super::session::DocumentSession;
use super::wire::Wire;
use super::{errors, members};
use crate::net::limit::largest;
use crate::net::reach::{self, Address, Route};
use crate::net::tls::{self, Mode, Tls};
use crate::net::work;

/// How long the name server is waited for, each of two times.
const NAMES: Duration = Duration::from_millis(1500);

/// What a session needs of its connection.
pub struct Link {
    /// Runs while something is waited for.
    pub runtime: Runtime,
    /// The connection.
    pub wire: Wire,
    /// How to connect once more.
    pub again: Again,
    /// How it is encrypted, in words.
    pub transport: String,
    /// The server's number of the connection.
    pub number: i64,
    /// What the server is in its replica set, if it has one.
    pub role: Option<String>,
}

/// How to connect, once and again.
#[derive(Clone)]
pub struct Again {
    pub route: Route,
    security: Tls,
    profile: Profile,
    secret: Option<Secret>,
    largest: u64,
}

/// A connection that was let in.
pub struct Entered {
    /// The connection.
    pub wire: Wire,
    /// The version of TLS.
    version: Option<String>,
    /// What the server says of itself.
    pub hello: Document,
}

fn pair(name: &str, value: Bson) -> (String, Bson) {
    (name.to_owned(), value)
}

/// Whether a profile has this set.
pub fn flag(profile: &Profile, key: &str) -> bool {
    profile.settings.get(key) == Some(&Setting::Flag(true))
}

/// Opens a session.
pub fn connect(attempt: &Attempt<'_>) -> Result<DocumentSession, EngineError> {
    crate::net::prepare();
    let (since, runtime) = (Instant::now(), work::runtime()?);
    let patience = Route::of(attempt.profile, 27017, |_| None)?.patience;
    let (again, entered) = runtime.block_on(work::unless_stopped(&attempt.stop, async {
        let profile = with_servers(attempt.profile).await?;
        let port = profile.number("port").unwrap_or(27017);
        let route =
            Route::of(&profile, 27017, |_| Some(format!("mongodb-{port}.sock")))?.through_tunnel(&profile).await?;
        let security = Tls::of(&profile, &route)?;
        let again = Again { route, security, secret: attempt.secret.cloned(), largest: largest(&profile), profile };
        let silent = again.route.silent("document database");
        tokio::time::timeout(patience, members::choose(again, attempt.profile)).await.unwrap_or(Err(silent))
    }))?;
    let Entered { wire, version, hello } = entered;
    let number = field(&hello, "connectionId").and_then(Bson::as_i64).unwrap_or_default();
    let words = again.security.in_words(version.as_deref());
    let transport = match &again.route.tunnel {
        Some(tunnel) => format!("{words}, through {}", tunnel.name()),
        None => words,
    };
    let set = field(&hello, "setName").and_then(Bson::as_str);
    let secondary = field(&hello, "secondary") == Some(&Bson::Bool(true));
    let role = set.map(|set| format!("{} of {set}", if secondary { "secondary" } else { "primary" }));
    let link = Link { runtime, wire, again, transport, number, role };
    DocumentSession::begin(link, attempt.profile, since + patience, &attempt.stop)
}

/// A profile with the first server that the DNS records of its host list, and what they say of logins.
async fn with_servers(profile: &Profile) -> Result<Profile, EngineError> {
    if !flag(profile, "srv") {
        return Ok(profile.clone());
    }
    let host = profile.text("host").unwrap_or_default().to_owned();
    let lost = |why: String| {
        EngineError::connecting(Step::Name, format!("the servers of {host} are not known: {why}"))
            .remedy("Check the name, and whether a VPN is needed; or set host and port, and leave srv out.")
    };
    let at = match profile.text("name_server") {
        Some(at) => at.to_owned(),
        None => {
            let file = std::fs::read_to_string("/etc/resolv.conf").unwrap_or_default();
            let first = file.lines().find_map(|line| line.strip_prefix("nameserver")).map(str::trim);
            format!("{}:53", first.ok_or_else(|| lost("this machine has no name server".into()))?)
        }
    };
    let ask = async |name: &str, wanted| {
        let socket = UdpSocket::bind("0.0.0.0:0").await?;
        socket.connect(&at).await?;
        let mut answer = vec![0; 1 << 16];
        for _ in 0..2 {
            // A number that nobody can guess, so that nobody answers in the name server's place.
            let [high, low] = random()?;
            socket.send(&address::question(u16::from_be_bytes([high, low]), name, wanted)).await?;
            let ours = async {
                loop {
                    let length = socket.recv(&mut answer).await?;
                    if answer.starts_with(&[high, low]) {
                        return std::io::Result::Ok(length);
                    }
                }
            };
            if let Ok(length) = tokio::time::timeout(NAMES, ours).await {
                answer.truncate(length?);
                return Ok::<_, std::io::Error>(answer);
            }
        }
        Err(std::io::ErrorKind::TimedOut.into())
    };
    let answer =
        ask(&format!("_mongodb._tcp.{host}"), Wanted::Servers).await.map_err(|error| lost(error.to_string()))?;
    let servers = address::servers(&answer).map_err(|error| lost(error.to_string()))?;
    let domain = format!(".{}", domain_of(&host).to_ascii_lowercase());
    let own = |name: &str| name.to_ascii_lowercase().ends_with(&domain);
    let Some((server, port)) = servers.into_iter().find(|(name, _)| own(name)) else {
        return Err(lost("the name server lists none of its domain".into()));
    };
    let mut found = profile.clone().with("host", server);
    found.settings.insert("port".into(), Setting::Number(port.into()));
    if profile.text("tls").is_none() && profile.path("tls_ca").is_none() {
        found = found.with("tls", "verify-full");
    }
    if let Ok(texts) = ask(&host, Wanted::Texts).await.map(|answer| address::texts(&answer).unwrap_or_default())
        && profile.text("auth_source").is_none()
        && let Some(source) =
            texts.iter().flat_map(|text| text.split('&')).find_map(|part| part.strip_prefix("authSource="))
    {
        found = found.with("auth_source", source);
    }
    Ok(found)
}

/// What the servers of a name have to lie in ("Initial DNS Seedlist Discovery"): the domain of the name, or the name itself
/// where that has fewer than three parts.
fn domain_of(host: &str) -> &str {
    host.split_once('.').map(|(_, domain)| domain).filter(|domain| domain.contains('.')).unwrap_or(host)
}

impl Again {
    /// Connects beside what there is.
    pub async fn beside(&self) -> Result<Wire, EngineError> {
        let again = Again { route: self.route.beside().await?, ..self.clone() };
        Ok(again.enter().await?.wire)
    }

    /// Connects and logs in; what the server says of itself.
    pub async fn enter(&self) -> Result<Entered, EngineError> {
        let host = self.route.address.host().to_owned();
        let socket = matches!(self.route.address, Address::Socket(_));
        let stream = self.route.stream().await?;
        // The protocol does not say whether a port speaks TLS: where none is asked for, none is tried.
        let (stream, version): (Box<dyn reach::Carried>, _) = match self.security.mode {
            Mode::Off | Mode::Prefer => (Box::new(stream), None),
            _ if socket => (Box::new(stream), None),
            Mode::Require | Mode::VerifyFull => {
                let config = self.security.client()?;
                let way = tls::shake_hands(stream, config, &host, || {
                    EngineError::connecting(Step::Tls, format!("{} does not support TLS", self.route.address))
                        .remedy("Enable it on the server, or set tls = \"prefer\" if the network is trusted.")
                });
                let way = way.await?;
                let version = tls::version(&way);
                (Box::new(way), version)
            }
        };
        let mut wire = Wire::new(stream, self.largest);
        let user = self.profile.text("user");
        let source = self.profile.text("auth_source").unwrap_or("admin");
        let mut question = vec![
            pair("hello", Bson::Int32(1)),
            pair(
                "client",
                Bson::Document(vec![
                    pair("application", Bson::Document(vec![pair("name", Bson::text("jaunty"))])),
                    pair(
                        "driver",
                        Bson::Document(vec![
                            pair("name", Bson::text("jaunty")),
                            pair("version", Bson::text(env!("CARGO_PKG_VERSION"))),
                        ]),
                    ),
                    pair("os", Bson::Document(vec![pair("type", Bson::text(std::env::consts::OS))])),
                ]),
            ),
        ];
        let compressors = self.compressors();
        if !compressors.is_empty() {
            question
                .push(pair("compression", Bson::Array(compressors.iter().map(|one| Bson::text(one.name())).collect())));
        }
        if let Some(user) = user {
            question.push(pair("saslSupportedMechs", Bson::Text(format!("{source}.{user}"))));
        }
        question.push(pair("$db", Bson::text("admin")));
        let hello = self.ask(&mut wire, &question).await?;
        if let Some(user) = user {
            self.log_in(&mut wire, user, source, &hello).await?;
        } else if matches!(self.profile.text("auth_mechanism"), Some("x509" | "mongodb-x509")) {
            self.by_certificate(&mut wire).await?;
        }
        if let Some(Bson::Array(taken)) = field(&hello, "compression") {
            wire.compressor = taken.iter().filter_map(Bson::as_str).find_map(Compressor::named);
        }
        Ok(Entered { wire, version, hello })
    }

    /// The compressors that are offered: none to a server that is near.
    fn compressors(&self) -> Vec<Compressor> {
        match self.profile.text("compressor") {
            Some("none") => Vec::new(),
            Some(name) => Compressor::named(name).into_iter().collect(),
            None if self.route.is_private() => Vec::new(),
            None => vec![Compressor::Snappy, Compressor::Zlib],
        }
    }

    /// A question and its answer, before anybody is let in; a refusal is an error of the login.
    async fn ask(&self, wire: &mut Wire, question: &[(String, Bson)]) -> Result<Document, EngineError> {
        let failed = |error: super::wire::WireError| errors::while_connecting(&error, &self.route);
        let body = wire.ask(question).await.map_err(failed)?;
        let raw = reply(&body).map_err(|error| failed(error.into()))?;
        if let Some(refusal) = errors::refusal(&raw) {
            let user = self.profile.text("user").unwrap_or("this certificate");
            let source = self.profile.text("auth_source").unwrap_or("admin");
            return Err(errors::login(&refusal, user, source, self.secret.is_some()));
        }
        bson::decoded(raw.as_bytes()).map_err(|error| failed(error.into()))
    }

    async fn log_in(&self, wire: &mut Wire, user: &str, source: &str, hello: &Document) -> Result<(), EngineError> {
        let offered: Vec<&str> = match field(hello, "saslSupportedMechs") {
            Some(Bson::Array(names)) => names.iter().filter_map(Bson::as_str).collect(),
            _ => Vec::new(),
        };
        let mechanism = match self.profile.text("auth_mechanism") {
            Some("scram-sha-1") => Mechanism::Sha1,
            Some("x509" | "mongodb-x509") => return self.by_certificate(wire).await,
            Some("plain") => return self.plainly(wire, user).await,
            Some(_) => Mechanism::Sha256,
            None if offered.contains(&"SCRAM-SHA-1") && !offered.contains(&"SCRAM-SHA-256") => Mechanism::Sha1,
            None => Mechanism::Sha256,
        };
        let Some(secret) = &self.secret else {
            let refusal = errors::Refusal { code: 18, name: String::new(), message: String::new() };
            return Err(errors::login(&refusal, user, source, false));
        };
        let scram = Scram::new(mechanism, user, secret.reveal(), &nonce()?);
        let begin = vec![
            pair("saslStart", Bson::Int32(1)),
            pair("mechanism", Bson::text(mechanism.name())),
            pair("payload", Bson::Binary(0, scram.first())),
            pair("options", Bson::Document(vec![pair("skipEmptyExchange", Bson::Bool(true))])),
            pair("$db", Bson::text(source)),
        ];
        let answer = self.ask(wire, &begin).await?;
        let payload = |answer: &Document| match field(answer, "payload") {
            Some(Bson::Binary(_, bytes)) => bytes.clone(),
            _ => Vec::new(),
        };
        let wrong = |what: String| EngineError::connecting(Step::Login, what).remedy("Is it the server that you mean?");
        let (second, proved) = scram.second(&payload(&answer)).map_err(|error| wrong(error.to_string()))?;
        let mut next = second;
        let mut known = false;
        let mut done = false;
        // One more round, or two with servers that want an empty one.
        for _ in 0..3 {
            let go_on = vec![
                pair("saslContinue", Bson::Int32(1)),
                pair("conversationId", field(&answer, "conversationId").cloned().unwrap_or(Bson::Int32(1))),
                pair("payload", Bson::Binary(0, std::mem::take(&mut next))),
                pair("$db", Bson::text(source)),
            ];
            let last = self.ask(wire, &go_on).await?;
            known |= proved.is_known(&payload(&last));
            done = field(&last, "done") == Some(&Bson::Bool(true));
            if done {
                break;
            }
        }
        if !(known && done) {
            return Err(wrong("the server could not prove that it knows the password".into()));
        }
        Ok(())
    }

    async fn by_certificate(&self, wire: &mut Wire) -> Result<(), EngineError> {
        let question = vec![
            pair("authenticate", Bson::Int32(1)),
            pair("mechanism", Bson::text("MONGODB-X509")),
            pair("$db", Bson::text("$external")),
        ];
        self.ask(wire, &question).await.map(drop)
    }

    async fn plainly(&self, wire: &mut Wire, user: &str) -> Result<(), EngineError> {
        if matches!(self.security.mode, Mode::Off | Mode::Prefer) && !self.route.is_private() {
            let what = "the password would travel in plain text";
            return Err(EngineError::connecting(Step::Profile, what)
                .remedy("Set tls = \"verify-full\" for this way to log in."));
        }
        let password = self.secret.as_ref().map(Secret::reveal).unwrap_or_default();
        let question = vec![
            pair("saslStart", Bson::Int32(1)),
            pair("mechanism", Bson::text("PLAIN")),
            pair("payload", Bson::Binary(0, format!("\0{user}\0{password}").into_bytes())),
            pair("$db", Bson::text("$external")),
        ];
        self.ask(wire, &question).await.map(drop)
    }
}

/// Text that nobody has used before.
fn nonce() -> Result<String, EngineError> {
    let bytes = random::<24>().map_err(|error| EngineError::connecting(Step::Login, error.to_string()))?;
    Ok(jaunty_documents::json::hex(&bytes))
}

/// The same, for a session.
pub fn random_bytes<const N: usize>() -> Result<[u8; N], EngineError> {
    random::<N>().map_err(|error| EngineError::new(jaunty_seam::error::ErrorKind::Refused, error.to_string()))
}

/// Bytes that nobody can guess.
fn random<const N: usize>() -> std::io::Result<[u8; N]> {
    let mut bytes = [0; N];
    let source = rustls::crypto::ring::default_provider().secure_random;
    source.fill(&mut bytes).map_err(|_| std::io::Error::other("the system provides no random numbers"))?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    #[test]
    fn servers_lie_in_the_domain_of_their_name() {
        for (host, domain) in [
            ("sea.quay.example", "quay.example"),
            ("a.sea.quay.example", "sea.quay.example"),
            ("quay.example", "quay.example"),
            ("quay", "quay"),
        ] {
            assert_eq!(super::domain_of(host), domain, "{host}");
        }
    }
}
