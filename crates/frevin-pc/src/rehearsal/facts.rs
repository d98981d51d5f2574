//! Facts of a rehearsal PC that follow its settings: what a display shows, what runs, what starts.

use frevin_core::facts::{Display, Load};
use frevin_core::setting::{Address, State, Value};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The part of a PC's load that is simulated: beside it, as much runs and starts as ever.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct SimulatedLoad {
    /// Services that run.
    pub(super) services_running: u32,
    /// Entries that start with the PC.
    pub(super) starts_with_pc: u32,
}

impl SimulatedLoad {
    /// Brings a load that was counted with this one up to what it is `now`. A service is a process, and so
    /// is what starts with the PC.
    pub(super) fn bring_up_to_date(self, load: &mut Load, now: Self) {
        let moved = |count: &mut Option<u32>, from: u32, to: u32| {
            if let Some(count) = count {
                *count = (*count + to).saturating_sub(from);
            }
        };
        moved(&mut load.services_running, self.services_running, now.services_running);
        moved(&mut load.starts_with_pc, self.starts_with_pc, now.starts_with_pc);
        moved(&mut load.processes, self.services_running, now.services_running);
        moved(&mut load.processes, self.starts_with_pc, now.starts_with_pc);
    }
}

/// Lets a display be as its settings in effect say.
pub(super) fn follow_settings(display: &mut Display, in_effect: impl Fn(&Address) -> State) {
    let held = |part: &str| {
        let address = format!("display:{}#{part}", display.name).parse().ok()?;
        match in_effect(&address) {
            State::Value(value) => Some(value),
            State::Absent | State::Unreadable(_) => None,
        }
    };
    let (mode, scaling) = (held("mode"), held("scaling-percent"));
    if let Some(Value::Mode(mode)) = mode {
        (display.width_px, display.height_px) = (mode.width_px, mode.height_px);
        display.refresh_hz = mode.refresh_hz;
    }
    if let Some(Value::Number(percent)) = scaling {
        display.scaling_percent = Some(percent);
    }
}
