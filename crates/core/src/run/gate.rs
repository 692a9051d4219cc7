//! How far a run may fetch ahead of whoever reads its rows.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// How often a run that is held looks whether it was asked to stop.
const LOOK_EVERY: Duration = Duration::from_millis(200);

/// How far a run fetches ahead of whoever reads: until one of the two is reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ahead {
    /// Rows.
    pub rows: u64,
    /// Bytes in memory.
    pub bytes: u64,
}

impl Ahead {
    /// As far as there are rows.
    pub const ALL: Ahead = Ahead { rows: u64::MAX, bytes: u64::MAX };
}

/// What a run waits at.
#[derive(Debug, Default)]
pub(super) struct Gate {
    allowed: Mutex<Allowed>,
    opened: Condvar,
}

#[derive(Debug, Clone, Copy)]
struct Allowed {
    each: Ahead,
    rows: u64,
    bytes: u64,
    held: bool,
}

impl Allowed {
    fn is_full(&self, rows: u64, bytes: u64) -> bool {
        rows >= self.rows || bytes >= self.bytes
    }
}

impl Default for Allowed {
    fn default() -> Self {
        Allowed { each: Ahead::ALL, rows: u64::MAX, bytes: u64::MAX, held: false }
    }
}

impl Gate {
    fn lock(&self) -> MutexGuard<'_, Allowed> {
        self.allowed.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets how far is fetched at a time.
    pub(super) fn set(&self, ahead: Ahead) {
        *self.lock() = Allowed { each: ahead, rows: ahead.rows, bytes: ahead.bytes, held: false };
    }

    /// Whether something waits at it.
    pub(super) fn is_held(&self) -> bool {
        self.lock().held
    }

    /// Lets what waits go on for as much again.
    pub(super) fn open(&self) {
        let mut allowed = self.lock();
        if allowed.held {
            allowed.rows = allowed.rows.saturating_add(allowed.each.rows);
            allowed.bytes = allowed.bytes.saturating_add(allowed.each.bytes);
            self.opened.notify_all();
        }
    }

    /// Lets everything through.
    pub(super) fn remove(&self) {
        let mut allowed = self.lock();
        (allowed.rows, allowed.bytes) = (u64::MAX, u64::MAX);
        self.opened.notify_all();
    }

    /// Has what waits look whether it was asked to stop.
    pub(super) fn look(&self) {
        self.opened.notify_all();
    }

    /// Whether more than these rows and bytes have to wait.
    pub(super) fn holds(&self, rows: u64, bytes: u64, is_stopped: impl Fn() -> bool) -> bool {
        let mut allowed = self.lock();
        allowed.held = allowed.is_full(rows, bytes) && !is_stopped();
        allowed.held
    }

    /// Waits until more than these are wanted, or none at all, but no longer than `at_most`. Whether they wait still.
    pub(super) fn wait(&self, rows: u64, bytes: u64, at_most: Duration, is_stopped: impl Fn() -> bool) -> bool {
        let until = Instant::now() + at_most;
        let mut allowed = self.lock();
        while allowed.is_full(rows, bytes) && !is_stopped() {
            let left = until.saturating_duration_since(Instant::now()).min(LOOK_EVERY);
            if left.is_zero() {
                return true;
            }
            allowed = self.opened.wait_timeout(allowed, left).unwrap_or_else(PoisonError::into_inner).0;
        }
        allowed.held = false;
        false
    }
}
