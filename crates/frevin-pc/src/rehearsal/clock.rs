//! The power-on counter and the time that passes on a rehearsal PC.

use serde::{Deserialize, Serialize};

/// How often the PC has started and what has happened since. Time passes only while it is
/// measured: it is simulated, like everything else.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Clock {
    /// Starts of the PC, from 1.
    pub boots: u64,
    /// Runs recorded since the last start.
    pub runs_since_boot: u64,
    /// Runs recorded ever.
    pub runs: u64,
    /// Seconds of play ever.
    pub played_seconds: f64,
}
