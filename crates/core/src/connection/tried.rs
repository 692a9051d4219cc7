//! A profile that was tried.

use std::time::Duration;

use jaunty_seam::engine::Place;

/// What trying a profile found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tried {
    /// Where it led.
    pub place: Place,
    /// How long connecting took.
    pub connecting: Duration,
    /// How long the server takes to answer.
    pub round_trip: Duration,
}
