//! The most that a message of a server may have: drivers wait until all of it is in memory.

use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::Profile;

/// The longest message, in MiB, that a profile can allow, and that is taken unless it says otherwise: no value of these
/// servers is longer.
pub const MOST_MIB: u64 = 1024;

/// How many bytes a profile lets a message have.
pub fn largest(profile: &Profile) -> u64 {
    profile.number("largest_mib").and_then(|mib| u64::try_from(mib).ok()).unwrap_or(MOST_MIB) << 20
}

/// The error of something that is longer than a profile lets it be; `what` says what it is.
pub fn too_long(what: String, most: u64) -> EngineError {
    let more = if most < MOST_MIB << 20 { ", or allow more with largest_mib in the profile" } else { "" };
    let remedy = format!("Ask for a part of the value{more}. The next run connects again.");
    EngineError::new(ErrorKind::Lost, what).remedy(remedy)
}

/// The most that a message may have, and the length of one that had more.
#[derive(Clone)]
pub struct Limit(Arc<Lengths>);

struct Lengths {
    most: AtomicU64,
    exceeded: AtomicU64,
}

impl Limit {
    /// Messages may have so many bytes.
    pub fn of(most: u64) -> Limit {
        Limit(Arc::new(Lengths { most: AtomicU64::new(most), exceeded: AtomicU64::new(0) }))
    }

    /// From now on messages may have so many bytes.
    pub fn set(&self, most: u64) {
        self.0.most.store(most, Ordering::Relaxed);
    }

    /// Fails if so many bytes are too many.
    pub fn allow(&self, length: u64) -> io::Result<()> {
        if length <= self.0.most.load(Ordering::Relaxed) {
            return Ok(());
        }
        self.0.exceeded.store(length, Ordering::Relaxed);
        Err(io::Error::new(io::ErrorKind::InvalidData, "a message is too long"))
    }

    /// What to say, where a message was too long: the connection has ended with it.
    pub fn exceeded(&self) -> Option<EngineError> {
        let (length, most) = (self.0.exceeded.load(Ordering::Relaxed), self.0.most.load(Ordering::Relaxed));
        (length > 0).then(|| {
            let message = format!(
                "the server sent a message of {} MiB, and at most {} MiB are taken",
                length.div_ceil(1 << 20),
                most >> 20
            );
            too_long(message, most)
        })
    }
}
