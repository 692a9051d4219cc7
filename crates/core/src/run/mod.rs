//! Runs: one execution of one statement each.
//!
//! [`state`] is what is known of a run while it lives and after (what it gave: [`kept`], what the server said: [`messages`],
//! how far it fetches: [`gate`]); [`execute`] carries one out on a
//! session; [`recording`] keeps its rows in the archive (`archive_writer`) and its facts in the logbook, where
//! [`keeping`] has room; [`connection_worker`] is the thread
//! that owns a session and carries out what it is asked, one run after the other; [`sample`] reads a
//! few rows that are kept nowhere; [`script`] runs a text of any size while it is read; [`out_line`] is where rows are sent by a comment,
//! [`reading`] asks how the server reads one
//! whose end was told without a semicolon, and [`transaction`] knows whose changes a rollback takes.

mod archive_writer;
pub mod connection_worker;
pub mod execute;
pub mod gate;
mod keeping;
pub mod kept;
pub mod loading;
pub mod messages;
pub mod out_line;
pub mod prepare;
pub mod reading;
mod recording;
pub mod sample;
pub mod script;
pub mod state;
pub mod transaction;

pub use connection_worker::{ConnectionWorker, Order, Report, Ticket};
pub use execute::Job;
pub use keeping::Keeping;
pub use kept::RunResult;
pub use state::Run;
