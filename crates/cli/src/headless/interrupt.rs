//! `ctrl-c` where there is no screen, and the request to end that other programs send. The first one stops
//! what is being done, as Escape does on the screen: the server stops too, what was fetched is kept, no part
//! of a file stays behind. The second one ends the program at once.

use std::io::IsTerminal;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The exit code of a program that was interrupted: 128 and the number of the signal.
pub const EXIT_CODE: u8 = 130;

type Stop = Box<dyn Fn() + Send>;

/// Whether an end was asked for, and how to stop what is being done.
#[derive(Clone, Default)]
pub struct Interrupt(Arc<Mutex<State>>);

#[derive(Default)]
struct State {
    asked: bool,
    /// How to stop what is being done, innermost last.
    stops: Vec<Stop>,
}

impl Interrupt {
    /// Takes `ctrl-c` from now on. Where that cannot be had it ends the program as ever.
    pub fn listen() -> Interrupt {
        let interrupt = Interrupt::default();
        let state = interrupt.clone();
        let listening = ctrlc::set_handler(move || {
            let stops = state.ask();
            if std::io::stderr().is_terminal() {
                // Below what the terminal shows for the key.
                eprintln!(
                    "\n{}",
                    if stops { "cancelling; press ctrl-c again to end the program at once" } else { "ended" }
                );
            }
            if !stops {
                std::process::exit(EXIT_CODE.into());
            }
        });
        if let Err(error) = listening {
            tracing::warn!(%error, "ctrl-c is not taken");
        }
        interrupt
    }

    /// Asks for an end; false if it was asked for already, or if nothing is being done.
    fn ask(&self) -> bool {
        let mut state = self.lock();
        let Some(stop) = state.stops.last().filter(|_| !state.asked) else { return false };
        stop();
        state.asked = true;
        true
    }

    /// Whether an end was asked for.
    pub fn was_asked(&self) -> bool {
        self.lock().asked
    }

    /// Does something that `stop` stops.
    pub fn around<T>(&self, stop: impl Fn() + Send + 'static, act: impl FnOnce() -> T) -> T {
        {
            let mut state = self.lock();
            if state.asked {
                stop();
            }
            state.stops.push(Box::new(stop));
        }
        let outcome = act();
        self.lock().stops.pop();
        outcome
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[test]
    fn the_first_request_stops_what_is_innermost_and_the_second_ends_the_program() {
        let interrupt = Interrupt::default();
        assert!(!interrupt.ask(), "nothing is being done");
        assert!(!interrupt.was_asked());
        let [outer, inner] = [(); 2].map(|()| Arc::new(AtomicUsize::new(0)));
        let counting = |count: &Arc<AtomicUsize>| {
            let count = Arc::clone(count);
            move || {
                count.fetch_add(1, Ordering::Relaxed);
            }
        };
        interrupt.around(counting(&outer), || {
            interrupt.around(counting(&inner), || assert!(interrupt.ask()));
            assert!(interrupt.was_asked() && !interrupt.ask());
            // What begins after it is stopped at once.
            interrupt.around(counting(&inner), || ());
        });
        assert_eq!((outer.load(Ordering::Relaxed), inner.load(Ordering::Relaxed)), (0, 2));
    }
}
