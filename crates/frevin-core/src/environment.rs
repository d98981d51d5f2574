//! What a PC is like around a visit, beside its settings.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

use frevin_stats::probes::ProbeStats;

use crate::facts::Facts;

/// What a PC is like at a moment. What it does not tell is nothing.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(default)]
pub struct Environment {
    /// Processes that run.
    pub processes: Option<u32>,
    /// Services that run.
    pub services_running: Option<u32>,
    /// Memory that programs could have at once, in mebibytes.
    pub available_memory_mib: Option<u64>,
    /// The processor's clock over some looks at it, in MHz.
    pub processor_mhz: Option<ClockReadings>,
    /// What is free on each drive, in gibibytes.
    pub free_gib: BTreeMap<String, u64>,
    /// How an address answers that the owner gave.
    pub ping: Option<ProbeStats>,
    /// The refresh rate in use of each display, in hertz.
    pub refresh_hz: BTreeMap<String, u32>,
    /// Threads of the processor that Windows lets rest.
    pub parked_threads: Option<u32>,
    /// Programs that encode video on the graphics card, as recorders do, by the names of their files; nothing where the
    /// PC does not tell.
    pub encoders: Option<Vec<String>>,
    /// Whether each service runs that what is in force speaks of.
    pub services: BTreeMap<String, bool>,
}

/// Looks at a clock, in MHz.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct ClockReadings {
    /// Their mean.
    pub average_mhz: f64,
    /// The lowest.
    pub lowest_mhz: f64,
    /// The highest.
    pub highest_mhz: f64,
}

impl ClockReadings {
    /// Over these looks; nothing of none.
    pub fn of(mhz: &[f64]) -> Option<Self> {
        if mhz.is_empty() {
            return None;
        }
        Some(Self {
            average_mhz: mhz.iter().sum::<f64>() / mhz.len() as f64,
            lowest_mhz: mhz.iter().copied().fold(f64::INFINITY, f64::min),
            highest_mhz: mhz.iter().copied().fold(0.0, f64::max),
        })
    }
}

/// What a PC was like before a visit and after it.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct BeforeAndAfter {
    /// Before the first run.
    pub before: Environment,
    /// After the last.
    pub after: Environment,
    /// How an address answered during each run, where it was asked meanwhile.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ping_runs: Vec<ProbeStats>,
}

impl Environment {
    /// Whether a program records, as far as the PC tells: nothing where it does not.
    pub fn is_recording(&self) -> Option<bool> {
        self.encoders.as_ref().map(|encoders| !encoders.is_empty())
    }

    /// What follows from the facts of a PC that were just asked for.
    pub fn of(facts: &Facts) -> Self {
        Self {
            processes: facts.load.processes,
            services_running: facts.load.services_running,
            free_gib: facts.drives.iter().map(|d| (d.letter.clone(), d.free_gib)).collect(),
            refresh_hz: facts.displays.iter().map(|d| (d.name.clone(), d.refresh_hz)).collect(),
            ..Self::default()
        }
    }
}
