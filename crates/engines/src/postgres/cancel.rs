//! Asking the server to end a statement, on a connection of its own.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio_postgres::tls::MakeTlsConnect;
use tokio_postgres_rustls::MakeRustlsConnect;

use super::connect::Link;
use crate::net::reach::Stream;

/// Asks the server to end what runs. It is asked in vain if it could not be reached; when this returns, the
/// wish has arrived otherwise, and does not meet a statement that comes later.
pub(super) async fn cancel(link: &Link) {
    let Ok(route) = link.route.beside().await else { return };
    let Ok(stream) = route.stream().await else { return };
    let stream = UntilClosed(stream);
    let mut tls = link.tls.clone();
    let connect =
        <MakeRustlsConnect as MakeTlsConnect<UntilClosed>>::make_tls_connect(&mut tls, link.route.address.host());
    if let Ok(connect) = connect
        && let Err(error) = link.client.cancel_token().cancel_query_raw(stream, connect).await
    {
        tracing::warn!(%error, "a statement could not be cancelled");
    }
}

/// A stream that is shut down once the other side has closed it too. The server closes it when the signal to
/// the process of the statement is sent (PostgreSQL's documentation, section 55.2.9); the driver would not wait.
struct UntilClosed(Stream);

impl AsyncRead for UntilClosed {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_read(cx, into)
    }
}

impl AsyncWrite for UntilClosed {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.0).poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        loop {
            let mut space = [0; 64];
            let mut into = ReadBuf::new(&mut space);
            // A connection that is torn down is closed as well.
            match ready!(Pin::new(&mut self.0).poll_read(cx, &mut into)) {
                Ok(()) if !into.filled().is_empty() => {}
                Ok(()) | Err(_) => return Pin::new(&mut self.0).poll_shutdown(cx),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    #[test]
    fn it_is_shut_down_once_the_other_side_is() {
        let runtime = crate::net::work::runtime().unwrap();
        runtime.block_on(async {
            let (here, mut there) = tokio::io::duplex(64);
            let mut stream = UntilClosed(Stream::Carried(Box::new(here)));
            stream.write_all(b"stop").await.unwrap();
            let patience = Duration::from_millis(50);
            assert!(tokio::time::timeout(patience, stream.shutdown()).await.is_err(), "it is open still");
            let mut heard = [0; 4];
            there.read_exact(&mut heard).await.unwrap();
            there.write_all(b"what nobody asked for").await.unwrap();
            drop(there);
            stream.shutdown().await.unwrap();
        });
    }
}
