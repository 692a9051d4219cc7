//! Waiting for an asynchronous driver on the thread of a session.
//!
//! Each session has a runtime of its own, on its own thread, that runs while something is waited
//! for. While it waits it comes back every [`BATCH_DELAY`], so that rows which are there are not
//! held back, and a person who has had enough is heard.

use std::future::Future;
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::Poll;
use std::time::Duration;

use jaunty_core::engine::{BATCH_DELAY, Canceller, EngineError, ErrorKind, Flow, Step};
use tokio::runtime::{Builder, Runtime};

/// How long a server may take to end a statement after it was asked to. After that the connection
/// is given up.
pub const PATIENCE: Duration = Duration::from_secs(3);

/// How long what a server has sent already is passed over.
const LAST_PATIENCE: Duration = Duration::from_secs(20);

/// A runtime for the thread that makes it.
pub fn runtime() -> Result<Runtime, EngineError> {
    Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|error| EngineError::connecting(Step::Session, format!("no runtime for the connection: {error}")))
}

/// A wish to stop, seen by the session's thread while it waits.
#[derive(Clone, Default)]
pub struct StopFlag(Arc<AtomicBool>);

impl StopFlag {
    /// Forgets an earlier wish.
    pub fn clear(&self) {
        self.0.store(false, Ordering::Relaxed);
    }

    /// Whether somebody wants to stop.
    pub fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

impl Canceller for StopFlag {
    fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// Waits for `work`. `look` is called every now and then while it is not done; when it answers
/// [`Flow::Stop`], `cancel` is carried out, and `work` gets a last chance to end as it will.
pub async fn watched<T>(
    work: impl Future<Output = T>,
    look: impl FnMut() -> Flow,
    cancel: impl Future<Output = ()>,
) -> Result<T, EngineError> {
    watched_for(work, look, cancel, PATIENCE).await
}

/// [`watched`], with another patience for the last chance.
pub async fn watched_for<T>(
    work: impl Future<Output = T>,
    mut look: impl FnMut() -> Flow,
    cancel: impl Future<Output = ()>,
    patience: Duration,
) -> Result<T, EngineError> {
    let mut work = pin!(work);
    // What is there already costs no clock.
    if let Poll::Ready(done) = there(work.as_mut()).await {
        return Ok(done);
    }
    loop {
        match tokio::time::timeout(BATCH_DELAY, &mut work).await {
            Ok(done) => return Ok(done),
            Err(_) if look() == Flow::GoOn => {}
            Err(_) => break,
        }
    }
    // Both come to their end: a wish that is still on its way would meet what is asked next.
    let (mut done, mut cancelled) = (None, false);
    let ended = async {
        let mut cancel = pin!(cancel);
        std::future::poll_fn(|cx| {
            if !cancelled {
                cancelled = cancel.as_mut().poll(cx).is_ready();
            }
            if done.is_none() {
                done = match work.as_mut().poll(cx) {
                    Poll::Ready(outcome) => Some(outcome),
                    Poll::Pending => None,
                };
            }
            if cancelled && done.is_some() { Poll::Ready(()) } else { Poll::Pending }
        })
        .await;
    };
    // What has ended counts, even if the wish did not get there.
    let _ = tokio::time::timeout(patience, ended).await;
    done.ok_or_else(deaf)
}

/// What `work` has come to, without waiting.
pub async fn there<T>(mut work: Pin<&mut impl Future<Output = T>>) -> Poll<T> {
    std::future::poll_fn(|cx| Poll::Ready(work.as_mut().poll(cx))).await
}

/// Passes over what is still on its way after a wish to stop. `next` tells whether there is more;
/// a server that sends nothing for a while, or has no end, is given up.
pub async fn pass_over(mut next: impl AsyncFnMut() -> bool) -> Result<(), EngineError> {
    let since = tokio::time::Instant::now();
    while tokio::time::timeout(PATIENCE, next()).await.map_err(|_| deaf())? {
        if since.elapsed() > LAST_PATIENCE {
            return Err(deaf());
        }
    }
    Ok(())
}

/// The error of a server that does not end a statement.
pub fn deaf() -> EngineError {
    let seconds = PATIENCE.as_secs();
    let message = format!(
        "the server did not end the statement within {seconds} seconds of being asked; the connection was given up"
    );
    EngineError::new(ErrorKind::Lost, message)
        .remedy("The next run connects again. What the statement had begun, the server undoes by itself.")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn work_that_is_told_to_stop_may_still_end_as_it_will() {
        let runtime = runtime().unwrap();
        let (tell, told) = tokio::sync::oneshot::channel();
        let cancel = async { tell.send("cancelled").unwrap() };
        let ended = runtime.block_on(watched(told, || Flow::Stop, cancel));
        assert_eq!(ended.unwrap(), Ok("cancelled"));
    }

    #[test]
    fn a_wish_has_arrived_before_anything_else_is_asked() {
        let runtime = runtime().unwrap();
        runtime.block_on(async {
            let (tell, told) = tokio::sync::oneshot::channel();
            let arrived = AtomicBool::new(false);
            let cancel = async {
                tell.send(()).unwrap();
                tokio::time::sleep(Duration::from_millis(20)).await;
                arrived.store(true, Ordering::Relaxed);
            };
            watched(told, || Flow::Stop, cancel).await.unwrap().unwrap();
            assert!(arrived.load(Ordering::Relaxed));
        });
    }

    #[test]
    fn work_that_never_ends_is_given_up() {
        let runtime = runtime().unwrap();
        runtime.block_on(async {
            tokio::time::pause();
            let never = std::future::pending::<()>();
            let error = watched(never, || Flow::Stop, std::future::ready(())).await.unwrap_err();
            assert_eq!(error.kind, ErrorKind::Lost);
        });
    }
}
