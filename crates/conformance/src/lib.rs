//! The contracts of the seam as cases, which every engine runs; and a scripted engine that does all of it, also what
//! no server here does yet.
//!
//! [`CASES`] is the table. A [`Subject`] is an engine with a server, and the statements of its language that a case
//! needs; where its server cannot do something it says why, and [`report`] lists that, so that a test can compare.
//!
//! **To add a case**: a function in one of the modules of `cases`, and a line in the table. **To add an engine**: a
//! [`Subject`] in `crates/engines/tests/conformance.rs`.
//!
//! Everything here panics when a contract is broken, as tests do. Nothing asserts how long something takes; what
//! hangs is given up after a minute.

#![allow(clippy::expect_used, clippy::unwrap_used, clippy::panic)]

mod cases;
pub mod scripted;
mod seen;
mod subject;

use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

pub use cases::CASES;
pub use seen::{Seen, Watch};
pub use subject::{Cannot, Subject, Wanted};

/// A case: a contract in a few words, and what shows that it is kept.
pub struct Case {
    /// The contract.
    pub name: &'static str,
    /// Panics where it is broken; tells where the server cannot show it.
    pub run: fn(&dyn Subject) -> Result<(), Cannot>,
}

/// What hangs so long is not waited for: a busy machine with a slow server takes a while for large values.
const PATIENCE: Duration = Duration::from_secs(180);

/// Runs all cases. Each line is a case that the server cannot show, with the reason; the last says how many were
/// shown. Panics with all contracts that are broken.
pub fn report(subject: &'static dyn Subject) -> String {
    let (mut lines, mut broken, mut shown) = (Vec::new(), Vec::new(), 0);
    for case in CASES {
        let (tell, told) = channel();
        let worker = std::thread::Builder::new().name(case.name.to_owned()).spawn(move || {
            let _ = tell.send((case.run)(subject));
        });
        match told.recv_timeout(PATIENCE) {
            Ok(Ok(())) => shown += 1,
            Ok(Err(Cannot(why))) => lines.push(format!("{}: {why}", case.name)),
            Err(RecvTimeoutError::Timeout) => broken.push(format!("{}: it hangs", case.name)),
            Err(RecvTimeoutError::Disconnected) => {
                let _ = worker.map(std::thread::JoinHandle::join);
                broken.push(format!("{}: see above", case.name));
            }
        }
    }
    assert!(broken.is_empty(), "{} breaks {} contracts:\n{}", subject.name(), broken.len(), broken.join("\n"));
    lines.push(format!("{shown} of {} cases shown", CASES.len()));
    lines.join("\n")
}
