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
