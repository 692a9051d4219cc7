//! A stream from a server whose messages have a limit: a row, or whatever else comes, is held in memory whole.
//!
//! Each message begins with a byte for its kind and four for its length (PostgreSQL's documentation, section 55.2.1).
//! The driver waits until all of it is there; here its length is looked at as soon as that has come.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio_postgres::tls::{ChannelBinding, TlsConnect, TlsStream};

use super::overheard::Overheard;
use crate::net::limit::Limit;
use crate::net::reach::Stream;

/// The stream.
pub struct Bounded<S> {
    inner: S,
    limit: Limit,
    /// Bytes before the first message: the answer to the wish for TLS.
    skip: u64,
    head: [u8; 5],
    /// How much of the head has come.
    filled: usize,
    overheard: Overheard,
    /// The body that is being overheard.
    body: Vec<u8>,
    listening: bool,
}

impl<S> Bounded<S> {
    /// Looks at what comes through `inner`, whose first `skip` bytes are no message.
    pub fn new(inner: S, limit: Limit, skip: u64, overheard: Overheard) -> Bounded<S> {
        Bounded { inner, limit, skip, head: [0; 5], filled: 0, overheard, body: Vec::new(), listening: false }
    }

    fn look(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            if self.skip > 0 {
                let passed = bytes.len().min(usize::try_from(self.skip).unwrap_or(usize::MAX));
                self.skip -= passed as u64;
                let (body, rest) = bytes.split_at(passed);
                bytes = rest;
                if self.listening {
                    self.body.extend_from_slice(body);
                    if self.skip == 0 {
                        self.overheard.hear(self.head[0], &self.body);
                        self.body.clear();
                        self.listening = false;
                    }
                }
                continue;
            }
            let taken = bytes.len().min(self.head.len() - self.filled);
            let (head, rest) = bytes.split_at(taken);
            self.head[self.filled..self.filled + taken].copy_from_slice(head);
            self.filled += taken;
            bytes = rest;
            if self.filled == self.head.len() {
                let [kind, length @ ..] = self.head;
                // It counts itself.
                let length = u64::from(u32::from_be_bytes(length));
                self.limit.allow(length)?;
                (self.filled, self.skip) = (0, length.saturating_sub(4));
                self.listening = self.overheard.wants(kind, usize::try_from(self.skip).unwrap_or(usize::MAX));
            }
        }
        Ok(())
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Bounded<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = into.filled().len();
        ready!(Pin::new(&mut self.inner).poll_read(cx, into))?;
        Poll::Ready(self.look(into.filled().get(before..).unwrap_or_default()))
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Bounded<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }
}

impl<S: TlsStream + Unpin> TlsStream for Bounded<S> {
    fn channel_binding(&self) -> ChannelBinding {
        self.inner.channel_binding()
    }
}

/// Encrypts a stream, and looks at what is inside.
pub struct BoundedTls<T> {
    /// What encrypts.
    pub tls: T,
    /// The limit of the messages inside.
    pub limit: Limit,
    /// What is heard inside.
    pub overheard: Overheard,
}

impl<T> TlsConnect<Bounded<Stream>> for BoundedTls<T>
where
    T: TlsConnect<Stream>,
    T::Future: Send + 'static,
    T::Stream: 'static,
{
    type Stream = Bounded<T::Stream>;
    type Error = T::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Stream, T::Error>> + Send>>;

    fn connect(self, stream: Bounded<Stream>) -> Self::Future {
        let work = self.tls.connect(stream.inner);
        Box::pin(async move { work.await.map(|inner| Bounded::new(inner, self.limit, 0, self.overheard)) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_seam::engine::Transaction;

    #[test]
    fn a_message_that_is_too_long_is_told_by_its_head_wherever_that_is_cut() {
        let mut bytes = vec![b'S'];
        for length in [4_u32, 10, 100] {
            bytes.push(b'D');
            bytes.extend(length.to_be_bytes());
            bytes.resize(bytes.len() + length as usize - 4, 7);
        }
        let whole = bytes.len();
        bytes.extend([b'D', 0x7f, 0xff, 0xff, 0xff]);
        for piece in [1, 2, 3, 5, 64, 1000] {
            let limit = Limit::of(1 << 20);
            let mut stream = Bounded::new((), limit.clone(), 1, Overheard::new());
            assert!(bytes[..whole].chunks(piece).all(|piece| stream.look(piece).is_ok()));
            assert!(limit.exceeded().is_none());
            assert!(bytes[whole..].chunks(piece).any(|piece| stream.look(piece).is_err()));
            let told = limit.exceeded().unwrap().message;
            assert_eq!(told, "the server sent a message of 2048 MiB, and at most 1 MiB are taken");
        }
    }

    #[test]
    fn what_the_server_says_of_itself_is_heard_wherever_it_is_cut() {
        let message = |kind: u8, body: &[u8]| {
            let length = u32::try_from(body.len() + 4).unwrap();
            [&[kind][..], &length.to_be_bytes(), body].concat()
        };
        let all = [
            message(b'S', b"TimeZone\0Etc/GMT-3\0"),
            message(b'D', b"TimeZone\0no setting\0"),
            message(b'S', b"DateStyle\0SQL, DMY\0"),
            message(b'Z', b"T"),
            message(b'E', b"SERROR\0\0"),
        ];
        for piece in [1, 2, 3, 7, 1000] {
            let overheard = Overheard::new();
            let mut stream = Bounded::new((), Limit::of(1 << 20), 0, overheard.clone());
            all.concat().chunks(piece).for_each(|piece| stream.look(piece).unwrap());
            assert_eq!((overheard.zone().as_str(), overheard.iso_dates()), ("Etc/GMT-3", false));
            assert_eq!((overheard.transaction(), overheard.is_settled()), (Some(Transaction::Open), false));
            stream.look(&message(b'Z', b"E")).unwrap();
            assert_eq!((overheard.transaction(), overheard.is_settled()), (Some(Transaction::Failed), true));
        }
    }
}
