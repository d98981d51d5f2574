//! The power-on counter and the time that passes on a rehearsal PC.

use frevin_core::ids::StartId;
use frevin_core::setting::TakesEffect;
use frevin_core::waiting::Start;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How often the PC has started and what has happened since. Time passes only while it is
/// measured: it is simulated, like everything else.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Clock {
    /// Starts of the PC, from 1.
    pub boots: u64,
    /// Sign-ins ever, beside those that came with a start of the PC.
    #[serde(default)]
    pub sign_ins: u64,
    /// Times that programs were started anew while the owner stayed signed in.
    #[serde(default)]
    pub program_starts: u64,
    /// Times that services were started anew while the PC ran.
    #[serde(default)]
    pub service_starts: u64,
    /// Times that devices were switched off and on while the PC ran.
    #[serde(default)]
    pub device_starts: u64,
    /// Runs recorded since the last start.
    pub runs_since_boot: u64,
    /// Runs recorded ever.
    pub runs: u64,
    /// Seconds of play ever.
    pub played_seconds: f64,
}

impl Clock {
    /// The present start of what writes wait for that act after `moment`.
    pub fn start_of(&self, moment: TakesEffect) -> Start {
        let Self { boots, sign_ins, program_starts, service_starts, device_starts, .. } = self;
        Start::Since(StartId::new(match moment {
            TakesEffect::Now | TakesEffect::Restart => boots.to_string(),
            TakesEffect::SignOut => format!("{boots}.{sign_ins}"),
            // Signing out ends the owner's programs.
            TakesEffect::ProgramRestart => format!("{boots}.{sign_ins}.{program_starts}"),
            TakesEffect::ServiceRestart => format!("{boots}.{service_starts}"),
            TakesEffect::DeviceRestart => format!("{boots}.{device_starts}"),
        }))
    }
}
