//! Through an SSH server, by RFC 4254: a channel of one connection carries another.
//!
//! The server's key has to be known: it is looked up in the file of known hosts, and a key that is
//! not there, or is another one, is refused with its fingerprint. We log in with the keys of the
//! agent, a key from a file, or a password.

use std::borrow::Cow;
use std::io;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::{Profile, Secret, source};
use russh::ChannelStream;
use russh::client::{self, AuthResult, Handle, KeyboardInteractiveAuthResponse, Msg, Prompt};
use russh::keys::PublicKeyOrCertificate;
use russh::keys::agent::client::AgentClient;
use russh::keys::known_hosts::check_known_hosts_path;
use russh::keys::{HashAlg, PrivateKeyWithHashAlg, PublicKey, load_secret_key};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use super::reach::{Address, Stream};

/// How many bytes may be on their way at once. The wish to stop a statement waits behind them.
const WINDOW: u32 = 512 << 10;

/// A connection to an SSH server, which carries others.
pub struct Tunnel {
    handle: Handle<Known>,
    name: String,
    profile: Profile,
    /// The server before it, which carries this connection.
    _jump: Option<Arc<Handle<Known>>>,
}

/// An SSH server and who logs in there.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Gate {
    user: String,
    host: String,
    port: u16,
}

impl Gate {
    /// Reads `user@host:port`; the user and the port may be left out.
    fn read(text: &str) -> Result<Gate, EngineError> {
        let wrong = || {
            EngineError::connecting(Step::Profile, format!("\"{text}\" is not an SSH server address"))
                .remedy("Write it as user@host, or user@host:port.")
        };
        let (user, rest) = text.rsplit_once('@').map_or((None, text), |(user, rest)| (Some(user), rest));
        let (host, port) = match rest.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            Some((host, port)) => (host, port.strip_prefix(':')),
            None => rest.rsplit_once(':').map_or((rest, None), |(host, port)| (host, Some(port))),
        };
        let port = port.map_or(Ok(22), str::parse).map_err(|_| wrong())?;
        let user = user.map(str::to_owned).or_else(|| std::env::var("USER").ok()).unwrap_or_else(|| "root".into());
        if host.is_empty() || user.is_empty() { Err(wrong()) } else { Ok(Gate { user, host: host.to_owned(), port }) }
    }
}

/// What a client does when it meets the server: it looks the key up.
struct Known {
    host: String,
    port: u16,
    file: PathBuf,
    /// Why the key was refused.
    refused: Arc<std::sync::Mutex<Option<EngineError>>>,
}

impl client::Handler for Known {
    type Error = russh::Error;

    async fn check_server_key(&mut self, shown: &PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        let key = &match shown {
            PublicKeyOrCertificate::PublicKey { key, .. } => key.clone(),
            PublicKeyOrCertificate::Certificate(certificate) => PublicKey::new(certificate.public_key().clone(), ""),
        };
        let fingerprint = key.fingerprint(HashAlg::Sha256);
        let (file, gate) = (self.file.display(), format!("{}:{}", self.host, self.port));
        let refusal = match check_known_hosts_path(&self.host, self.port, key, &self.file) {
            Ok(true) => return Ok(true),
            Ok(false) => EngineError::connecting(
                Step::Tunnel,
                format!("the SSH server {gate} is not known; its key is {fingerprint}"),
            )
            .remedy(format!(
                "Ask its administrator whether that is its key, then log in once with ssh so that {file} has it."
            )),
            Err(russh::keys::Error::KeyChanged { line }) => {
                let what = format!(
                    "the SSH server {gate} shows another key than the one in {file}, line {line}: {fingerprint}"
                );
                EngineError::connecting(Step::Tunnel, what)
                    .remedy("The connection may be intercepted. Ask its administrator; if the key was changed, remove that line.")
            }
            Err(error) => EngineError::connecting(Step::Tunnel, format!("{file} cannot be read: {error}"))
                .remedy("It has to hold the file of known SSH servers, as ssh writes it."),
        };
        *self.refused.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(refusal);
        Ok(false)
    }
}

impl Tunnel {
    /// Opens the one that a profile names.
    pub async fn open(profile: &Profile) -> Result<Tunnel, EngineError> {
        super::prepare();
        let last = Gate::read(profile.text("ssh").unwrap_or_default())?;
        let login = Login::of(profile);
        let (handle, jump) = match profile.text("ssh_jump") {
            None => {
                let address = (last.host.as_str(), last.port);
                let stream =
                    tokio::net::TcpStream::connect(address).await.map_err(|error| unreachable(&last, &error))?;
                (login.enter(&last, stream).await?, None)
            }
            Some(jump) => {
                let jump = Gate::read(jump)?;
                let address = (jump.host.as_str(), jump.port);
                let stream =
                    tokio::net::TcpStream::connect(address).await.map_err(|error| unreachable(&jump, &error))?;
                let before = login.enter(&jump, stream).await?;
                let channel = before.channel_open_direct_tcpip(&last.host, u32::from(last.port), "127.0.0.1", 0).await;
                let channel = channel
                    .map_err(|error| not_carried(&jump.host, &format!("{}:{}", last.host, last.port), &error))?;
                (login.enter(&last, channel.into_stream()).await?, Some(Arc::new(before)))
            }
        };
        let name = match profile.text("ssh_jump") {
            Some(jump) => format!("{} and {}", Gate::read(jump)?.host, last.host),
            None => last.host,
        };
        Ok(Tunnel { handle, name, profile: profile.clone(), _jump: jump })
    }

    /// Another one like it. What a server sends on this one may fill it, and then nothing else gets
    /// through: the wish to stop goes its own way.
    pub async fn another(&self) -> Result<Tunnel, EngineError> {
        Tunnel::open(&self.profile).await
    }

    /// The SSH server.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// A stream to an address as seen from the other end.
    pub async fn stream(&self, to: &Address) -> Result<Stream, EngineError> {
        let channel = match to {
            Address::Host(host, port) => {
                self.handle.channel_open_direct_tcpip(host, u32::from(*port), "127.0.0.1", 0).await
            }
            Address::Socket(path) => self.handle.channel_open_direct_streamlocal(path.to_string_lossy()).await,
        };
        let channel = channel.map_err(|error| not_carried(&self.name, &to.to_string(), &error))?;
        Ok(Stream::Carried(Box::new(Inside::of(channel.into_stream()))))
    }
}

/// A stream through a tunnel, which can be dropped anywhere: where it ends the SSH server is told, and that needs the
/// runtime of its connection.
struct Inside {
    stream: Option<ChannelStream<Msg>>,
    runtime: tokio::runtime::Handle,
}

impl Inside {
    /// One that belongs to the runtime on which it is made.
    fn of(stream: ChannelStream<Msg>) -> Inside {
        Inside { stream: Some(stream), runtime: tokio::runtime::Handle::current() }
    }

    fn stream(&mut self) -> io::Result<Pin<&mut ChannelStream<Msg>>> {
        self.stream.as_mut().map(Pin::new).ok_or_else(|| io::ErrorKind::NotConnected.into())
    }
}

impl Drop for Inside {
    fn drop(&mut self) {
        let _entered = self.runtime.enter();
        self.stream = None;
    }
}

impl AsyncRead for Inside {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        self.stream()?.poll_read(cx, into)
    }
}

impl AsyncWrite for Inside {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        self.stream()?.poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream()?.poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream()?.poll_shutdown(cx)
    }
}

fn not_carried(gate: &str, to: &str, error: &russh::Error) -> EngineError {
    let what = match error {
        russh::Error::ChannelOpenFailure(_) => format!("the SSH server {gate} cannot reach {to}"),
        other => format!("the SSH server {gate} cannot forward to {to}: {other}"),
    };
    EngineError::connecting(Step::Tunnel, what)
        .remedy("Host and port are as seen from the SSH server, and it must allow forwarding.")
}

fn unreachable(gate: &Gate, error: &io::Error) -> EngineError {
    let what = match error.kind() {
        io::ErrorKind::ConnectionRefused => {
            format!("could not connect to the SSH server {}:{}: connection refused", gate.host, gate.port)
        }
        _ => format!("the SSH server {}:{} cannot be reached: {error}", gate.host, gate.port),
    };
    EngineError::connecting(Step::Tunnel, what).remedy("Check ssh: it is user@host:port.")
}

/// How we log in.
struct Login {
    known_hosts: PathBuf,
    key: Option<PathBuf>,
    secret_command: Option<String>,
}

impl Login {
    fn of(profile: &Profile) -> Login {
        let known_hosts = profile.path("ssh_known_hosts").unwrap_or_else(|| {
            std::env::var_os("HOME").map_or_else(PathBuf::new, |home| Path::new(&home).join(".ssh/known_hosts"))
        });
        let secret_command = profile.text("ssh_secret_command").map(str::to_owned);
        Login { known_hosts, key: profile.path("ssh_key"), secret_command }
    }

    fn secret(&self) -> Result<Option<Secret>, EngineError> {
        self.secret_command.as_deref().map(source::printed).transpose()
    }

    /// Greets a server over a stream and logs in.
    async fn enter<S>(&self, gate: &Gate, stream: S) -> Result<Handle<Known>, EngineError>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let refused = Arc::default();
        let known = Known {
            host: gate.host.clone(),
            port: gate.port,
            file: self.known_hosts.clone(),
            refused: Arc::clone(&refused),
        };
        let config = Arc::new(client::Config { window_size: WINDOW, ..client::Config::default() });
        let mut handle = client::connect_stream(config, stream, known).await.map_err(|error| {
            let refused = refused.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take();
            refused.unwrap_or_else(|| {
                EngineError::connecting(
                    Step::Tunnel,
                    format!("{}:{} does not answer like an SSH server: {error}", gate.host, gate.port),
                )
                .remedy("Check ssh: it is user@host:port.")
            })
        })?;
        let mut tried = Vec::new();
        if let Some(file) = &self.key {
            tried.push(format!("the key {}", file.display()));
            let key = self.load(file)?;
            let key = PrivateKeyWithHashAlg::new(Arc::new(key), best_hash(&handle).await);
            if is_in(handle.authenticate_publickey(&gate.user, key).await) {
                return Ok(handle);
            }
        } else {
            tried.push("the agent's keys".to_owned());
            if by_agent(&mut handle, &gate.user).await {
                return Ok(handle);
            }
            if let Some(secret) = self.secret()? {
                tried.push("the password".to_owned());
                if is_in(handle.authenticate_password(&gate.user, secret.reveal()).await)
                    || answers(&mut handle, &gate.user, &secret).await
                {
                    return Ok(handle);
                }
            }
        }
        let what =
            format!("the SSH server {} refused the login of {} with {}", gate.host, gate.user, tried.join(", nor "));
        Err(EngineError::connecting(Step::Tunnel, what)
            .remedy("Name a key under ssh_key, add one to the agent, or give a password with ssh_secret_command."))
    }

    fn load(&self, file: &Path) -> Result<russh::keys::PrivateKey, EngineError> {
        let unusable = |error: &dyn std::fmt::Display| {
            EngineError::connecting(Step::Tunnel, format!("the key {} cannot be used: {error}", file.display()))
        };
        match load_secret_key(file, None) {
            Err(russh::keys::Error::KeyIsEncrypted) => {
                let secret = self.secret()?.ok_or_else(|| {
                    unusable(&"it has a passphrase")
                        .remedy("Add it to the agent with ssh-add, or give the passphrase with ssh_secret_command.")
                })?;
                load_secret_key(file, Some(secret.reveal())).map_err(|_| {
                    unusable(&"ssh_secret_command printed the wrong passphrase").remedy("Check the command.")
                })
            }
            loaded => loaded.map_err(|error| unusable(&error)),
        }
    }
}

/// The hash that the server wants RSA keys to sign with.
async fn best_hash(handle: &Handle<Known>) -> Option<HashAlg> {
    handle.best_supported_rsa_hash().await.ok().flatten().flatten()
}

fn is_in(result: Result<AuthResult, russh::Error>) -> bool {
    matches!(result, Ok(AuthResult::Success))
}

/// Logs in where the server asks its questions itself, which for many is the only way to give a
/// password (RFC 4256). A question that may be seen while it is answered is none for a password.
async fn answers(handle: &mut Handle<Known>, user: &str, secret: &Secret) -> bool {
    let Ok(mut asked) = handle.authenticate_keyboard_interactive_start(user, None).await else { return false };
    // A server may greet, ask and warn, each in a round of its own.
    for _ in 0..4 {
        let KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } = asked else { break };
        let answer = |prompt: &Prompt| if prompt.echo { String::new() } else { secret.reveal().to_owned() };
        let answers = prompts.iter().map(answer).collect();
        let Ok(next) = handle.authenticate_keyboard_interactive_respond(answers).await else { return false };
        asked = next;
    }
    matches!(asked, KeyboardInteractiveAuthResponse::Success)
}

/// Tries the keys of the agent, where there is one.
async fn by_agent(handle: &mut Handle<Known>, user: &str) -> bool {
    let Ok(mut agent) = AgentClient::connect_env().await else { return false };
    let Ok(identities) = agent.request_identities().await else { return false };
    for identity in identities {
        let hash = best_hash(handle).await;
        let key = Cow::into_owned(identity.public_key());
        if matches!(handle.authenticate_publickey_with(user, key, hash, &mut agent).await, Ok(AuthResult::Success)) {
            return true;
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn servers_are_written_with_or_without_user_and_port() {
        let gate = |user: &str, host: &str, port| Gate { user: user.into(), host: host.into(), port };
        assert_eq!(Gate::read("clerk@quay.example:2222"), Ok(gate("clerk", "quay.example", 2222)));
        assert_eq!(Gate::read("clerk@quay.example"), Ok(gate("clerk", "quay.example", 22)));
        assert_eq!(Gate::read("clerk@[::1]:2222"), Ok(gate("clerk", "::1", 2222)));
        assert!(Gate::read("clerk@").is_err() && Gate::read("clerk@quay:ferry").is_err());
    }
}
