//! What the server says between its answers, heard on the way: whether a transaction is open, and the settings that
//! it reports by itself. So nobody has to ask after each statement.
//!
//! `ReadyForQuery` carries the state of the transaction, and `ParameterStatus` a setting that has changed
//! (PostgreSQL's documentation, sections 55.2.2 and 55.2.7).

use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use jaunty_seam::engine::Transaction;

/// Longer settings are not listened to.
const LONGEST: usize = 1024;

/// What was heard. Copies share it.
#[derive(Clone)]
pub struct Overheard(Arc<Heard>);

struct Heard {
    /// As the server writes it: `I` for none, `T` for an open one, `E` for a failed one.
    transaction: AtomicU8,
    /// An error has come, and not yet the end of what it belongs to.
    unsettled: AtomicBool,
    iso_dates: AtomicBool,
    zone: Mutex<String>,
}

impl Overheard {
    /// Nothing was heard yet.
    pub fn new() -> Overheard {
        Overheard(Arc::new(Heard {
            transaction: AtomicU8::new(b'I'),
            unsettled: AtomicBool::new(false),
            iso_dates: AtomicBool::new(true),
            zone: Mutex::default(),
        }))
    }

    /// The open transaction, if there is one.
    pub fn transaction(&self) -> Option<Transaction> {
        match self.0.transaction.load(Ordering::Relaxed) {
            b'T' => Some(Transaction::Open),
            b'E' => Some(Transaction::Failed),
            _ => None,
        }
    }

    /// Whether the state is that of the last answer: behind an error it comes a moment later.
    pub fn is_settled(&self) -> bool {
        !self.0.unsettled.load(Ordering::Relaxed)
    }

    /// Whether dates are written in the ISO style.
    pub fn iso_dates(&self) -> bool {
        self.0.iso_dates.load(Ordering::Relaxed)
    }

    /// The zone that the server's clocks are shown in.
    pub fn zone(&self) -> String {
        self.0.zone.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Whether the body of such a message is to be given to [`Overheard::hear`].
    pub fn wants(&self, kind: u8, length: usize) -> bool {
        match kind {
            b'E' => {
                self.0.unsettled.store(true, Ordering::Relaxed);
                false
            }
            b'Z' | b'S' => length <= LONGEST,
            _ => false,
        }
    }

    /// Takes in the body of a message.
    pub fn hear(&self, kind: u8, body: &[u8]) {
        if let (b'Z', Some(state)) = (kind, body.first()) {
            self.0.transaction.store(*state, Ordering::Relaxed);
            self.0.unsettled.store(false, Ordering::Relaxed);
            return;
        }
        let mut texts = body.split(|byte| *byte == 0).map(String::from_utf8_lossy);
        match (texts.next().as_deref(), texts.next()) {
            (Some("TimeZone"), Some(zone)) => {
                *self.0.zone.lock().unwrap_or_else(PoisonError::into_inner) = zone.into_owned();
            }
            (Some("DateStyle"), Some(style)) => {
                self.0.iso_dates.store(style.starts_with("ISO"), Ordering::Relaxed);
            }
            _ => {}
        }
    }
}
