//! A wish to stop.

use std::fmt;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// A wish to stop, held by whoever waits and seen by whoever works.
///
/// There is one for each thing that is asked for, and once wished it stays wished: a wish that comes late cannot meet
/// what is asked next. Copies are of the same wish.
#[derive(Clone, Default)]
pub struct Stop(Arc<Inner>);

#[derive(Default)]
struct Inner {
    wished: AtomicBool,
    next: AtomicU64,
    hooks: Mutex<Vec<(u64, Hook)>>,
}

type Hook = Arc<dyn Fn() + Send + Sync>;

impl Stop {
    /// Wishes it. Returns at once; does nothing the second time.
    ///
    /// There is no guarantee that a server hears of it in time: what ends before it does has ended as it will.
    pub fn wish(&self) {
        if self.0.wished.swap(true, Ordering::SeqCst) {
            return;
        }
        let hooks = self.0.hooks.lock().unwrap_or_else(PoisonError::into_inner).clone();
        hooks.iter().for_each(|(_, hook)| hook());
    }

    /// Whether somebody wishes it.
    pub fn is_wished(&self) -> bool {
        self.0.wished.load(Ordering::Relaxed)
    }

    /// Whether it is the same wish.
    pub fn is(&self, other: &Stop) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }

    /// Calls `hook` when it is wished, on the thread that does so, as long as what is returned lives; at once where
    /// it is wished already. For work that cannot look: `hook` must not wait.
    #[must_use = "dropping it takes the hook away"]
    pub fn arm(&self, hook: impl Fn() + Send + Sync + 'static) -> Armed {
        let hook: Hook = Arc::new(hook);
        let number = self.0.next.fetch_add(1, Ordering::Relaxed);
        self.0.hooks.lock().unwrap_or_else(PoisonError::into_inner).push((number, Arc::clone(&hook)));
        // A wish between the two is heard twice, and never not at all.
        if self.0.wished.load(Ordering::SeqCst) {
            hook();
        }
        Armed { stop: self.clone(), number }
    }
}

impl fmt::Debug for Stop {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Stop").field(&self.is_wished()).finish()
    }
}

/// A hook that is called when a [`Stop`] is wished, for as long as this lives.
pub struct Armed {
    stop: Stop,
    number: u64,
}

impl Drop for Armed {
    fn drop(&mut self) {
        self.stop.0.hooks.lock().unwrap_or_else(PoisonError::into_inner).retain(|(number, _)| *number != self.number);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::AtomicUsize;

    #[test]
    fn a_hook_hears_of_a_wish_once_while_it_is_armed() {
        let (stop, heard) = (Stop::default(), Arc::<AtomicUsize>::default());
        let hook = |heard: &Arc<AtomicUsize>| {
            let heard = Arc::clone(heard);
            move || {
                heard.fetch_add(1, Ordering::SeqCst);
            }
        };
        drop(stop.arm(hook(&heard)));
        let armed = stop.clone().arm(hook(&heard));
        stop.wish();
        stop.wish();
        assert!(stop.is_wished());
        assert_eq!(heard.load(Ordering::SeqCst), 1);
        drop(armed);
        let _late = stop.arm(hook(&heard));
        assert_eq!(heard.load(Ordering::SeqCst), 2, "what is wished already is heard at once");
    }
}
