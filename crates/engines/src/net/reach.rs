//! The way to a server: its address, and a stream to it.

use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::Profile;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpStream, UnixStream};

use super::tunnel::Tunnel;

/// After how long without a word the other side is asked whether it is still there.
const KEEP_ALIVE: Duration = Duration::from_secs(60);

/// The place of a server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Address {
    /// A host, by name or number, and a port.
    Host(String, u16),
    /// A Unix socket.
    Socket(PathBuf),
}

impl Address {
    /// Whether it is on this machine.
    pub fn is_here(&self) -> bool {
        match self {
            Address::Socket(_) => true,
            Address::Host(host, _) => {
                host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
            }
        }
    }

    /// The name that the server's certificate is for.
    pub fn host(&self) -> &str {
        match self {
            Address::Host(host, _) => host,
            Address::Socket(_) => "localhost",
        }
    }
}

impl std::fmt::Display for Address {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Address::Host(host, port) if host.contains(':') => write!(f, "[{host}]:{port}"),
            Address::Host(host, port) => write!(f, "{host}:{port}"),
            Address::Socket(path) => path.display().fmt(f),
        }
    }
}

/// How to get to a server, as its profile says.
#[derive(Clone)]
pub struct Route {
    /// Where it is, as seen from the last machine on the way.
    pub address: Address,
    /// The SSH server in between.
    pub tunnel: Option<Arc<Tunnel>>,
    /// How long it may take.
    pub patience: Duration,
}

impl Route {
    /// The route of a profile. `socket` is the file that an engine's socket has in a folder.
    pub fn of(profile: &Profile, port: u16, socket: impl Fn(u16) -> Option<String>) -> Result<Route, EngineError> {
        let port = profile.number("port").and_then(|port| u16::try_from(port).ok()).unwrap_or(port);
        let host = profile.text("host").unwrap_or("127.0.0.1");
        let address = if host.starts_with('/') || host.starts_with("~/") {
            let mut path = profile.path("host").unwrap_or_else(|| PathBuf::from(host));
            if let (Some(name), true) = (socket(port), path.is_dir()) {
                path.push(name);
            }
            Address::Socket(path)
        } else {
            Address::Host(host.to_owned(), port)
        };
        let patience = Duration::from_secs(profile.number("connect_seconds").unwrap_or(10).max(1) as u64);
        Ok(Route { address, tunnel: None, patience })
    }

    /// The route with the tunnel that its profile asks for.
    pub async fn through_tunnel(mut self, profile: &Profile) -> Result<Route, EngineError> {
        if profile.text("ssh").is_some() {
            let opening = tokio::time::timeout(self.patience, Tunnel::open(profile));
            let tunnel = opening.await.map_err(|_| self.timed_out(Step::Tunnel))??;
            self.tunnel = Some(Arc::new(tunnel));
        }
        Ok(self)
    }

    /// Whether nobody in between could listen.
    pub fn is_private(&self) -> bool {
        self.address.is_here()
    }

    /// The same way once more, beside this one.
    pub async fn beside(&self) -> Result<Route, EngineError> {
        let tunnel = match &self.tunnel {
            Some(tunnel) => Some(Arc::new(tunnel.another().await?)),
            None => None,
        };
        Ok(Route { tunnel, ..self.clone() })
    }

    /// A new stream to the server.
    pub async fn stream(&self) -> Result<Stream, EngineError> {
        if let Some(tunnel) = &self.tunnel {
            return tunnel.stream(&self.address).await;
        }
        match &self.address {
            Address::Socket(path) => {
                let stream = UnixStream::connect(path).await.map_err(|error| self.unreachable(&error))?;
                Ok(Stream::Unix(stream))
            }
            Address::Host(host, port) => {
                let mut last = None;
                for address in addresses(host, *port).await? {
                    match tokio::time::timeout(self.patience, TcpStream::connect(address)).await {
                        Ok(Ok(stream)) => return Ok(Stream::Tcp(kept_alive(stream))),
                        Ok(Err(error)) => last = Some(self.unreachable(&error)),
                        Err(_) => last = Some(self.timed_out(Step::Reach)),
                    }
                }
                Err(last.unwrap_or_else(|| EngineError::connecting(Step::Name, format!("{host} has no address"))))
            }
        }
    }

    fn timed_out(&self, step: Step) -> EngineError {
        let time = in_words(self.patience);
        EngineError::connecting(step, format!("{} did not answer within {time}", self.address))
            .remedy("A firewall may drop the packets. Check host and port, or give it more time with connect_seconds.")
    }

    /// The error of a server that took the connection and then said nothing.
    pub fn silent(&self, kind: &str) -> EngineError {
        let time = in_words(self.patience);
        let what = format!("the server accepted the connection, then sent nothing for {time}");
        EngineError::connecting(Step::Login, what)
            .remedy(format!("It may be overloaded, or not a {kind}. Give it more time with connect_seconds."))
    }

    /// The error of a server that let us in and then said nothing.
    pub fn silent_after(&self) -> EngineError {
        let time = in_words(self.patience);
        let what = format!("the server accepted the login, then did not answer the first queries within {time}");
        EngineError::connecting(Step::Session, what)
            .remedy("It may be overloaded, or hold a lock on its catalog. Give it more time with connect_seconds.")
    }

    /// The error of an address that is not reached.
    pub fn unreachable(&self, error: &io::Error) -> EngineError {
        let (what, remedy) = match (error.kind(), &self.address) {
            (io::ErrorKind::ConnectionRefused, Address::Host(host, port)) => (
                format!("could not connect to {}: connection refused", self.address),
                format!("Start the server on {host}, or check the port ({port})."),
            ),
            (io::ErrorKind::ConnectionRefused | io::ErrorKind::NotFound, Address::Socket(_)) => (
                format!("could not connect to the socket {}: nothing is listening", self.address),
                "Start the server, or check where it keeps its socket.".to_owned(),
            ),
            (io::ErrorKind::PermissionDenied, _) => (
                format!("no permission to open {}", self.address),
                "Ask for access to it, or connect by host and port.".to_owned(),
            ),
            _ => (
                format!("{} cannot be reached: {error}", self.address),
                "Check host and port, and whether a VPN or a tunnel is needed.".to_owned(),
            ),
        };
        EngineError::connecting(Step::Reach, what).remedy(remedy)
    }
}

/// A length of time in whole seconds.
pub fn in_words(time: Duration) -> String {
    match time.as_secs() {
        1 => "1 second".to_owned(),
        seconds => format!("{seconds} seconds"),
    }
}

/// The addresses of a name.
pub async fn addresses(host: &str, port: u16) -> Result<Vec<SocketAddr>, EngineError> {
    let found = tokio::net::lookup_host((host, port)).await;
    found.map(Iterator::collect).map_err(|_| {
        EngineError::connecting(Step::Name, format!("the name {host} has no address"))
            .remedy("Check how it is written, and whether a VPN or a line in the hosts file is needed.")
    })
}

fn kept_alive(stream: TcpStream) -> TcpStream {
    let keep_alive = socket2::TcpKeepalive::new().with_time(KEEP_ALIVE).with_interval(KEEP_ALIVE / 4);
    if let Err(error) = socket2::SockRef::from(&stream).set_tcp_keepalive(&keep_alive) {
        tracing::debug!(%error, "no keep-alive");
    }
    let _ = stream.set_nodelay(true);
    stream
}

/// Bytes to and from a server.
pub enum Stream {
    /// Over TCP.
    Tcp(TcpStream),
    /// Over a Unix socket.
    Unix(UnixStream),
    /// Over another connection.
    Carried(Box<dyn Carried>),
}

/// A stream that another connection carries.
pub trait Carried: AsyncRead + AsyncWrite + Unpin + Send {}

impl<T: AsyncRead + AsyncWrite + Unpin + Send> Carried for T {}

/// Calls the method of the stream that it is.
macro_rules! each {
    ($stream:expr, $inner:ident => $call:expr) => {
        match $stream.get_mut() {
            Stream::Tcp($inner) => $call,
            Stream::Unix($inner) => $call,
            Stream::Carried($inner) => $call,
        }
    };
}

impl AsyncRead for Stream {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        each!(self, inner => Pin::new(inner).poll_read(cx, into))
    }
}

impl AsyncWrite for Stream {
    fn poll_write(self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        each!(self, inner => Pin::new(inner).poll_write(cx, bytes))
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        each!(self, inner => Pin::new(inner).poll_flush(cx))
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        each!(self, inner => Pin::new(inner).poll_shutdown(cx))
    }
}
