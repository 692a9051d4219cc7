//! Waiting for an asynchronous driver on the thread of a session.
//!
//! Each session has a runtime of its own, on its own thread, that runs while something is waited
//! for. While it waits it comes back every [`BATCH_DELAY`], so that rows which are there are not
//! held back, and a person who has had enough is heard.

use std::future::Future;
use std::pin::{Pin, pin};
use std::task::Poll;
use std::time::{Duration, Instant};

use super::reach::in_words;
use jaunty_seam::engine::{Flow, Stop};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::Profile;
use jaunty_seam::rows::BATCH_DELAY;
use tokio::runtime::{Builder, Handle, Runtime};

/// How long a question of our own may take that nobody waits for.
pub const PATIENCE: Duration = Duration::from_secs(3);

/// How long a server may take to end a statement after it was asked to, unless the profile says otherwise: directly,
/// and through an SSH server, where the wish has to log in there first.
const STOP_SECONDS: [i64; 2] = [1, 3];

/// What of that goes by until the wish is heard.
const HEARD: Duration = Duration::from_millis(100);

/// A runtime for the thread that makes it.
pub fn runtime() -> Result<Runtime, EngineError> {
    Builder::new_current_thread().enable_all().build().map_err(|error| {
        EngineError::connecting(Step::Session, format!("the connection could not be started: {error}"))
    })
}

/// A runtime whose tasks have a thread of their own, beside the one that waits: for a driver that may be busy for
/// long with what it has received, and must not keep a person waiting who wants to stop. Dropping it waits for
/// nothing.
pub struct Beside {
    handle: Handle,
    runtime: Option<Runtime>,
}

impl Beside {
    /// Makes one.
    pub fn new() -> Result<Beside, EngineError> {
        let runtime = Builder::new_multi_thread().worker_threads(1).thread_name("driver").enable_all().build();
        let runtime = runtime.map_err(|error| {
            EngineError::connecting(Step::Session, format!("the connection could not be started: {error}"))
        })?;
        Ok(Beside { handle: runtime.handle().clone(), runtime: Some(runtime) })
    }

    /// Waits for something on this thread.
    pub fn block_on<T>(&self, work: impl Future<Output = T>) -> T {
        self.handle.block_on(work)
    }
}

impl Drop for Beside {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// The wish that a session's thread looks out for while it waits, and how long the server has then.
#[derive(Clone)]
pub struct Patience {
    wish: Stop,
    /// How long a server may take to end what runs.
    pub within: Duration,
    /// Until when connecting has to be done, first questions included.
    limit: Option<Instant>,
}

impl Patience {
    /// That of a session with this profile, which has to stand by `limit` unless `wish` comes first.
    pub fn of(profile: &Profile, limit: Instant, wish: &Stop) -> Patience {
        let usual = STOP_SECONDS[usize::from(profile.text("ssh").is_some())];
        let seconds = profile.number("stop_seconds").unwrap_or(usual).max(1) as u64;
        Patience { wish: wish.clone(), within: Duration::from_secs(seconds) - HEARD, limit: Some(limit) }
    }

    /// From now on this wish counts: that of what is asked now.
    pub fn follow(&mut self, wish: &Stop) {
        self.wish = wish.clone();
    }

    /// From now on nobody's wish counts: what has to be put right after a run is not stopped half way, also not by a wish
    /// that comes just then.
    pub fn follow_none(&mut self) {
        self.wish = Stop::default();
    }

    /// The wish that counts now.
    pub fn wish(&self) -> Stop {
        self.wish.clone()
    }

    /// Whether somebody wants to stop.
    pub fn is_over(&self) -> bool {
        self.wish.is_wished()
    }

    /// Whether connecting has taken too long.
    pub fn is_overdue(&self) -> bool {
        self.limit.is_some_and(|limit| Instant::now() >= limit)
    }

    /// The connection is made: nothing has to be done by a certain time any more.
    pub fn is_connected(&mut self) {
        self.limit = None;
    }

    /// Whether a question of our own is still waited for.
    pub fn look(&self) -> Flow {
        if self.is_over() || self.is_overdue() { Flow::Stop } else { Flow::Continue }
    }
}

/// Waits for a connection to be made, and drops it when that is no longer wanted.
pub async fn unless_stopped<T>(
    stop: &Stop,
    work: impl Future<Output = Result<T, EngineError>>,
) -> Result<T, EngineError> {
    let mut work = pin!(work);
    loop {
        match tokio::time::timeout(BATCH_DELAY, &mut work).await {
            Ok(done) => return done,
            Err(_) if stop.is_wished() => return Err(EngineError::stopped()),
            Err(_) => {}
        }
    }
}

/// Waits for `work`. `look` is called every now and then while it is not done; when it answers
/// [`Flow::Stop`], `cancel` is carried out, and `work` gets a last chance to end as it will: so long as `within`
/// says, whatever arrives meanwhile.
pub async fn with_cancel<T>(
    work: impl Future<Output = T>,
    mut look: impl FnMut() -> Flow,
    cancel: impl Future<Output = ()>,
    within: Duration,
) -> Result<T, EngineError> {
    let mut work = pin!(work);
    // What is there already costs no clock.
    if let Poll::Ready(done) = there(work.as_mut()).await {
        return Ok(done);
    }
    loop {
        match tokio::time::timeout(BATCH_DELAY, &mut work).await {
            Ok(done) => return Ok(done),
            Err(_) if look() != Flow::Stop => {}
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
    let _ = tokio::time::timeout(within, ended).await;
    done.ok_or_else(|| cancel_timeout(within))
}

/// What `work` has come to, without waiting.
pub async fn there<T>(mut work: Pin<&mut impl Future<Output = T>>) -> Poll<T> {
    std::future::poll_fn(|cx| Poll::Ready(work.as_mut().poll(cx))).await
}

/// After a wish to stop: carries out `cancel`, and passes over what is still on its way. `next` tells whether there
/// is more. The wish goes first: while nobody takes rows the server waits, and the wish has the way to itself. A
/// server that has no end within this time, whatever it sends, is given up.
pub async fn end(
    cancel: impl Future<Output = ()>,
    mut next: impl AsyncFnMut() -> bool,
    within: Duration,
) -> Result<(), EngineError> {
    let ended = async {
        cancel.await;
        let mut passed = 0_u32;
        while next().await {
            // A server that always has something would never let the clock be looked at.
            passed += 1;
            if passed.is_multiple_of(256) {
                tokio::task::yield_now().await;
            }
        }
    };
    tokio::time::timeout(within, ended).await.map_err(|_| cancel_timeout(within))
}

/// The error of what is asked on a connection that was given up.
pub fn given_up() -> EngineError {
    EngineError::new(ErrorKind::Lost, "the connection was closed: the server did not answer")
}

/// The error of a server that does not end a statement.
pub fn cancel_timeout(within: Duration) -> EngineError {
    let time = in_words((within + HEARD).max(Duration::from_secs(1)));
    let message = format!(
        "the server did not end the statement within {time} after the cancel request; the connection was closed"
    );
    EngineError::new(ErrorKind::Lost, message).remedy(
        "The next run reconnects, and the server rolls the statement back. For a slow server raise stop_seconds in the profile.",
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicBool, Ordering};

    #[test]
    fn work_that_is_told_to_stop_may_still_end_as_it_will() {
        let runtime = runtime().unwrap();
        let (tell, told) = tokio::sync::oneshot::channel();
        let cancel = async { tell.send("cancelled").unwrap() };
        let ended = runtime.block_on(with_cancel(told, || Flow::Stop, cancel, PATIENCE));
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
            with_cancel(told, || Flow::Stop, cancel, PATIENCE).await.unwrap().unwrap();
            assert!(arrived.load(Ordering::Relaxed));
        });
    }

    /// Bytes that trickle keep no connection: the time is that of all of it.
    #[test]
    fn what_trickles_without_an_end_is_given_up() {
        let runtime = runtime().unwrap();
        runtime.block_on(async {
            tokio::time::pause();
            let began = tokio::time::Instant::now();
            let trickle = async || {
                tokio::time::sleep(Duration::from_millis(1)).await;
                true
            };
            let error = end(std::future::ready(()), trickle, Duration::from_millis(900)).await.unwrap_err();
            assert_eq!(error.kind, ErrorKind::Lost);
            assert!(began.elapsed() < Duration::from_secs(1));
        });
    }

    /// Nor does what is always there: the clock is looked at all the same.
    #[test]
    fn a_flood_without_an_end_is_given_up() {
        let runtime = runtime().unwrap();
        let ended = runtime.block_on(end(std::future::ready(()), async || true, Duration::from_millis(1)));
        assert_eq!(ended.unwrap_err().kind, ErrorKind::Lost);
    }

    #[test]
    fn work_that_never_ends_is_given_up() {
        let runtime = runtime().unwrap();
        runtime.block_on(async {
            tokio::time::pause();
            let never = std::future::pending::<()>();
            let error = with_cancel(never, || Flow::Stop, std::future::ready(()), PATIENCE).await.unwrap_err();
            assert_eq!(error.kind, ErrorKind::Lost);
        });
    }
}
