//! The language server: what text editors ask about statements, over the same core as the screen.
//!
//! A message's way goes through these modules: [`wire`] reads it, [`mod@server`] finds what it is about in the [`state`]: the document
//! ([`text`], with [`place`] for lines and columns) and what that is connected to ([`link`]), and a module of `answers`
//! answers it. What runs is in `run`, its rows in `rows`, what is wrong in `troubles`; what is told goes through
//! [`client`], which knows what the editor can do.

mod answers;
pub mod api;
pub mod client;
pub mod link;
pub mod panes;
pub mod place;
mod rows;
mod run;
pub mod server;
pub mod service;
pub mod socket;
pub mod state;
pub mod text;
mod troubles;
pub mod wire;

pub use server::{Ended, serve};
pub use state::Options;
