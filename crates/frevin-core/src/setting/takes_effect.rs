//! When a write is felt.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

/// What has to happen after a write before the PC behaves by it, from least to most disruptive.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    JsonSchema,
    Serialize,
    Deserialize,
    strum::EnumIter,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum TakesEffect {
    /// Nothing: the write acts at once.
    Now,
    /// The program concerned has to be started again.
    ProgramRestart,
    /// The service concerned has to be started again.
    ServiceRestart,
    /// The device concerned has to be switched off and on.
    DeviceRestart,
    /// The owner has to sign out and in.
    SignOut,
    /// The PC has to restart.
    Restart,
}

impl TakesEffect {
    /// Whether a program that is started afterwards feels it.
    pub fn is_felt_by_the_next_program(self) -> bool {
        match self {
            Self::Now | Self::ProgramRestart => true,
            Self::ServiceRestart | Self::DeviceRestart | Self::SignOut | Self::Restart => false,
        }
    }

    /// Whether a run that is recorded right after the write feels it; runs may start their program anew.
    pub fn is_felt_in_a_run(self, runs_start_program: bool) -> bool {
        self == Self::Now || (runs_start_program && self.is_felt_by_the_next_program())
    }

    /// Whether a restart of the PC is what the write waits for.
    pub fn waits_for_restart(self) -> bool {
        self == Self::Restart
    }
}

impl fmt::Display for TakesEffect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Now => "now",
            Self::ProgramRestart => "program restart",
            Self::ServiceRestart => "service restart",
            Self::DeviceRestart => "device restart",
            Self::SignOut => "sign-out",
            Self::Restart => "restart",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_that_starts_its_program_feels_what_waits_for_that_and_no_more() {
        let felt = |starts_program: bool| {
            [
                TakesEffect::Now,
                TakesEffect::ProgramRestart,
                TakesEffect::ServiceRestart,
                TakesEffect::DeviceRestart,
                TakesEffect::SignOut,
                TakesEffect::Restart,
            ]
            .map(|moment| moment.is_felt_in_a_run(starts_program))
        };
        assert_eq!(felt(false), [true, false, false, false, false, false]);
        assert_eq!(felt(true), [true, true, false, false, false, false]);
    }
}
