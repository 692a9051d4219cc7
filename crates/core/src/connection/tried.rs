//! A profile that was tried.

use std::time::Duration;

use jaunty_seam::engine::Location;

/// What trying a profile found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tried {
    /// Where it led.
    pub location: Location,
    /// How long connecting took.
    pub connecting: Duration,
    /// How long the server takes to answer.
    pub round_trip: Duration,
}
