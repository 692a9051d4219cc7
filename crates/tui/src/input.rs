//! The thread that reads what a person does, and how it is held while another program has the
//! terminal.

use std::io;
use std::process::Command;
use std::sync::mpsc::Sender;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use crate::app::Message;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stand {
    Reading,
    /// It is to stop reading with the next event.
    Asked,
    Held,
}

/// The thread, as others see it.
pub struct Input {
    stand: Arc<(Mutex<Stand>, Condvar)>,
}

fn lock(stand: &Mutex<Stand>) -> MutexGuard<'_, Stand> {
    stand.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Input {
    /// Starts reading.
    pub fn start(post: Sender<Message>) -> io::Result<Input> {
        let stand = Arc::new((Mutex::new(Stand::Reading), Condvar::new()));
        let shared = Arc::clone(&stand);
        let read = move || {
            while let Ok(event) = crossterm::event::read() {
                let (stand, changed) = &*shared;
                let mut now = lock(stand);
                if *now == Stand::Asked {
                    *now = Stand::Held;
                    changed.notify_all();
                    // The event is the one that woke it.
                    while *now != Stand::Reading {
                        now = changed.wait(now).unwrap_or_else(PoisonError::into_inner);
                    }
                    continue;
                }
                drop(now);
                if post.send(Message::Input(event)).is_err() {
                    break;
                }
            }
        };
        std::thread::Builder::new().name("input".into()).spawn(read)?;
        Ok(Input { stand })
    }

    /// Runs a program that has the terminal for itself.
    pub fn lend(&self, program: &mut Command) -> io::Result<std::process::ExitStatus> {
        let (stand, changed) = &*self.stand;
        *lock(stand) = Stand::Asked;
        // Reading waits for an event; a change of the window's size is one that does no harm.
        let woken = Command::new("kill").args(["-WINCH", &std::process::id().to_string()]).status();
        let held = lock(stand);
        let patience = Duration::from_secs(2);
        let (held, _) = changed
            .wait_timeout_while(held, patience, |now| *now != Stand::Held)
            .unwrap_or_else(PoisonError::into_inner);
        drop(held);
        let outcome = woken.and_then(|_| {
            crate::terminal::give_back();
            program.status()
        });
        let taken = crate::terminal::enter();
        *lock(stand) = Stand::Reading;
        changed.notify_all();
        taken.and(outcome)
    }
}
