//! A stream from a server whose replies have a limit: the driver holds a reply in memory whole, and gets room for as
//! many elements as an aggregate announces.
//!
//! Replies are those of RESP2 and RESP3 (the protocol's specification, version 3): a line that begins with a sign for
//! its kind; behind a bulk's line so many bytes and a line end; behind an aggregate's line so many elements.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use crate::net::limit::Limit;

/// What an element of an aggregate takes in memory, beside its bytes.
const ELEMENT: u64 = 64;

/// A line that announces a length is not longer.
const ANNOUNCED: usize = 32;

/// The stream.
pub struct Bounded<S> {
    inner: S,
    limit: Limit,
    /// How many elements each aggregate that is open still has to come.
    open: Vec<u64>,
    /// What the reply that is coming takes so far.
    taken: u64,
    /// The beginning of the line that is coming.
    line: Vec<u8>,
    /// Bytes of a bulk that are still to come, with its line end.
    skip: u64,
}

impl<S> Bounded<S> {
    /// Looks at what comes through `inner`.
    pub fn new(inner: S, limit: Limit) -> Bounded<S> {
        Bounded { inner, limit, open: Vec::new(), taken: 0, line: Vec::new(), skip: 0 }
    }

    fn look(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            if self.skip > 0 {
                let passed = bytes.len().min(usize::try_from(self.skip).unwrap_or(usize::MAX));
                self.skip -= passed as u64;
                bytes = bytes.get(passed..).unwrap_or_default();
                if self.skip == 0 {
                    self.end_element();
                }
                continue;
            }
            let end = bytes.iter().position(|byte| *byte == b'\n');
            let part = bytes.get(..end.map_or(bytes.len(), |end| end + 1)).unwrap_or_default();
            let room = ANNOUNCED.saturating_sub(self.line.len()).min(part.len());
            self.line.extend_from_slice(part.get(..room).unwrap_or_default());
            self.take(part.len() as u64)?;
            bytes = bytes.get(part.len()..).unwrap_or_default();
            if end.is_some() {
                self.end_line()?;
            }
        }
        Ok(())
    }

    fn take(&mut self, bytes: u64) -> io::Result<()> {
        self.taken = self.taken.saturating_add(bytes);
        self.limit.allow(self.taken)
    }

    fn end_line(&mut self) -> io::Result<()> {
        let line = std::mem::take(&mut self.line);
        // A length of -1 is a missing value, and what is no number is for the driver to refuse.
        let announced = || {
            let digits = std::str::from_utf8(line.get(1..).unwrap_or_default()).unwrap_or_default();
            digits.trim_end().parse::<u64>().ok()
        };
        match line.first() {
            Some(b'$' | b'!' | b'=') if let Some(length) = announced() => {
                self.take(length)?;
                self.skip = length.saturating_add(2);
            }
            Some(kind @ (b'*' | b'~' | b'>' | b'%' | b'|')) if let Some(count) = announced() => {
                let count = if matches!(kind, b'%' | b'|') { count.saturating_mul(2) } else { count };
                self.take(count.saturating_mul(ELEMENT))?;
                // Attributes stand before what they belong to, which is still to come.
                self.open.push(count.saturating_add(u64::from(*kind == b'|')));
                if count == 0 && *kind != b'|' {
                    self.open.pop();
                    self.end_element();
                }
            }
            _ => self.end_element(),
        }
        Ok(())
    }

    fn end_element(&mut self) {
        while let Some(left) = self.open.last_mut() {
            *left = left.saturating_sub(1);
            if *left > 0 {
                return;
            }
            self.open.pop();
        }
        self.taken = 0;
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

#[cfg(test)]
mod tests {
    use super::*;

    fn looked_at(replies: &[u8], most: u64, piece: usize) -> Result<Bounded<()>, String> {
        let limit = Limit::of(most);
        let mut stream = Bounded::new((), limit.clone());
        match replies.chunks(piece).try_for_each(|piece| stream.look(piece)) {
            Ok(()) => Ok(stream),
            Err(_) => Err(limit.exceeded().unwrap().message),
        }
    }

    #[test]
    fn replies_within_the_limit_pass_however_many_there_are() {
        let replies = b"+OK\r\n$5\r\n*9\r\n$\r\n$-1\r\n*-1\r\n_\r\n*3\r\n:1\r\n$2\r\nab\r\n*2\r\n#t\r\n,1.5\r\n%1\r\n+k\r\n*0\r\n|1\r\n+ttl\r\n:3\r\n$1\r\nx\r\n>2\r\n+message\r\n=7\r\ntxt:abc\r\n~1\r\n(123456789012345678901234567890123456789\r\n-ERR no\r\n";
        for piece in [1, 2, 3, 7, 1000] {
            let stream = looked_at(&replies.repeat(50), 500, piece).unwrap();
            assert!(stream.open.is_empty() && stream.taken == 0 && stream.skip == 0 && stream.line.is_empty());
        }
    }

    #[test]
    fn what_is_announced_or_comes_beyond_it_ends_the_connection() {
        let mib = |mib: u64| format!("the server sent a message of {mib} MiB, and at most 1 MiB are taken");
        let long_line = [b"+".to_vec(), vec![b'x'; (1 << 20) + 1]].concat();
        let many =
            [b"*3\r\n".to_vec(), b"$500000\r\n".to_vec(), vec![0; 500_000], b"\r\n$600000\r\n".to_vec()].concat();
        for (reply, most) in [
            (b"$4294967296\r\n".to_vec(), 4097),
            (b"*1000000000\r\n".to_vec(), 61_036),
            (b"%18446744073709551615\r\n".to_vec(), u64::MAX.div_ceil(1 << 20)),
            (long_line, 2),
            (many, 2),
            (b"*1\r\n".repeat(20_000), 2),
        ] {
            for piece in [1, 5, 1 << 16] {
                let told = looked_at(&reply, 1 << 20, piece).err();
                assert_eq!(told, Some(mib(most)), "{}", String::from_utf8_lossy(&reply[..10]));
            }
        }
    }
}
