//! TLS inside packets: in TDS 7 the handshake travels in the packets of the prelogin, and what comes after it does not
//! ([MS-TDS] 3.2.5.2). A stream that does so below a TLS library.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use crate::packet::{FIRST_SIZE, HEADER, Header, Kind, framed};

/// A stream whose bytes travel in packets until [`Carried::bare`] is called.
#[derive(Debug)]
pub struct Carried<S> {
    stream: S,
    wraps: bool,
    /// What was written and is not in a packet yet.
    flight: Vec<u8>,
    /// Packets on their way.
    sending: Vec<u8>,
    sent: usize,
    head: Vec<u8>,
    /// What is left of the packet that is read.
    left: usize,
}

impl<S> Carried<S> {
    /// A stream for a handshake.
    pub fn new(stream: S) -> Carried<S> {
        Carried { stream, wraps: true, flight: Vec::new(), sending: Vec::new(), sent: 0, head: Vec::new(), left: 0 }
    }

    /// The handshake is done: from now on bytes travel as they are.
    pub fn bare(&mut self) {
        self.wraps = false;
    }
}

impl<S: AsyncWrite + Unpin> Carried<S> {
    fn send(&mut self, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        if !self.flight.is_empty() {
            let flight = std::mem::take(&mut self.flight);
            self.sending.extend(framed(Kind::Prelogin, &flight, FIRST_SIZE));
        }
        while let Some(rest) = self.sending.get(self.sent..).filter(|rest| !rest.is_empty()) {
            match ready!(Pin::new(&mut self.stream).poll_write(cx, rest))? {
                0 => return Poll::Ready(Err(io::ErrorKind::WriteZero.into())),
                count => self.sent += count,
            }
        }
        self.sending.clear();
        self.sent = 0;
        Poll::Ready(Ok(()))
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncRead for Carried<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let this = &mut *self;
        if !this.wraps && this.left == 0 {
            return Pin::new(&mut this.stream).poll_read(cx, into);
        }
        ready!(this.send(cx))?;
        while this.left == 0 {
            let mut byte = [0; HEADER];
            let mut part = ReadBuf::new(&mut byte[..HEADER - this.head.len()]);
            ready!(Pin::new(&mut this.stream).poll_read(cx, &mut part))?;
            if part.filled().is_empty() {
                return Poll::Ready(Ok(()));
            }
            this.head.extend(part.filled());
            if let Ok(head) = <[u8; HEADER]>::try_from(this.head.as_slice()) {
                let header = Header::read(head).ok_or(io::ErrorKind::InvalidData)?;
                (this.left, this.head) = (header.length, Vec::new());
            }
        }
        let room = into.remaining().min(this.left);
        let mut part = into.take(room);
        ready!(Pin::new(&mut this.stream).poll_read(cx, &mut part))?;
        let count = part.filled().len();
        // Both are views of the same bytes; what the smaller one was filled with is there.
        let filled = part.filled().to_vec();
        into.put_slice(&filled);
        this.left -= count;
        Poll::Ready(Ok(()))
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Carried<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        if self.wraps {
            self.flight.extend(bytes);
            return Poll::Ready(Ok(bytes.len()));
        }
        ready!(self.send(cx))?;
        Pin::new(&mut self.stream).poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        ready!(self.send(cx))?;
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        ready!(self.send(cx))?;
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}
