//! What PCs were like around visits, as figures that can be put side by side.

use std::collections::BTreeSet;

use frevin_core::environment::{BeforeAndAfter, Environment};
use schemars::JsonSchema;
use serde::Serialize;

/// A figure of what a PC was like, and how it is written.
struct Figure {
    what: &'static str,
    unit: &'static str,
    digits: usize,
    of: fn(&Environment) -> Option<f64>,
}

const FIGURES: [Figure; 10] = [
    Figure {
        what: "ping, average",
        unit: " ms",
        digits: 2,
        of: |s| Some(s.ping?.times?.average_ms),
    },
    Figure { what: "ping, spread", unit: " ms", digits: 2, of: |s| Some(s.ping?.times?.spread_ms) },
    Figure { what: "ping, lost", unit: " %", digits: 0, of: |s| Some(100.0 * s.ping?.loss()) },
    Figure { what: "processes", unit: "", digits: 0, of: |s| s.processes.map(f64::from) },
    Figure {
        what: "services that run",
        unit: "",
        digits: 0,
        of: |s| s.services_running.map(f64::from),
    },
    Figure {
        what: "memory available",
        unit: " MiB",
        digits: 0,
        of: |s| Some(s.available_memory_mib? as f64),
    },
    Figure {
        what: "processor clock, average",
        unit: " MHz",
        digits: 0,
        of: |s| Some(s.processor_mhz?.average_mhz),
    },
    Figure {
        what: "processor clock, lowest",
        unit: " MHz",
        digits: 0,
        of: |s| Some(s.processor_mhz?.lowest_mhz),
    },
    Figure {
        what: "threads of it that rest",
        unit: "",
        digits: 0,
        of: |s| s.parked_threads.map(f64::from),
    },
    Figure {
        what: "free on all drives",
        unit: " GiB",
        digits: 0,
        of: |s| (!s.free_gib.is_empty()).then(|| s.free_gib.values().sum::<u64>() as f64),
    },
];

/// A figure in two places: before and after, or of two states.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub(crate) struct SideBySide {
    pub(crate) what: String,
    pub(crate) first: Option<f64>,
    pub(crate) second: Option<f64>,
    #[serde(skip)]
    unit: &'static str,
    #[serde(skip)]
    digits: usize,
}

impl SideBySide {
    /// A row of a table.
    pub(crate) fn row(&self) -> [String; 3] {
        let written = |value: Option<f64>| {
            value.map_or_else(String::new, |value| format!("{value:.*}{}", self.digits, self.unit))
        };
        [self.what.clone(), written(self.first), written(self.second)]
    }
}

/// Before a visit and after it.
pub(crate) fn before_and_after(around: &BeforeAndAfter) -> Vec<SideBySide> {
    side_by_side(&[&around.before], &[&around.after])
}

/// The means of two states, over what was before and after each of their visits.
pub(crate) fn of_states(a: &[BeforeAndAfter], b: &[BeforeAndAfter]) -> Vec<SideBySide> {
    let all = |visits: &[BeforeAndAfter]| -> Vec<Environment> {
        visits.iter().flat_map(|around| [around.before.clone(), around.after.clone()]).collect()
    };
    let (a, b) = (all(a), all(b));
    side_by_side(&a.iter().collect::<Vec<_>>(), &b.iter().collect::<Vec<_>>())
}

fn side_by_side(first: &[&Environment], second: &[&Environment]) -> Vec<SideBySide> {
    let mean = |of: &dyn Fn(&Environment) -> Option<f64>, all: &[&Environment]| {
        let values: Vec<f64> = all.iter().filter_map(|surroundings| of(surroundings)).collect();
        (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64)
    };
    let row = |what: String, unit, digits, of: &dyn Fn(&Environment) -> Option<f64>| SideBySide {
        what,
        first: mean(of, first),
        second: mean(of, second),
        unit,
        digits,
    };
    let all = || first.iter().chain(second);
    let displays: BTreeSet<&String> = all().flat_map(|s| s.refresh_hz.keys()).collect();
    let services: BTreeSet<&String> = all().flat_map(|s| s.services.keys()).collect();
    let is_told = |of: &dyn Fn(&Environment) -> bool| all().any(|s| of(s));
    let figures = FIGURES.iter().map(|f| row(f.what.to_owned(), f.unit, f.digits, &f.of));
    let of_displays = displays.into_iter().map(|name| {
        let hz = |s: &Environment| s.refresh_hz.get(name).copied().map(f64::from);
        row(format!("refresh rate of {name}"), " Hz", 0, &hz)
    });
    // A share of the looks: with one look on each side, all or nothing.
    let share = |is_so: bool| if is_so { 100.0 } else { 0.0 };
    let of_services = services.into_iter().map(|name| {
        row(format!("{name} runs"), " % of looks", 0, &|s| {
            s.services.get(name).map(|runs| share(*runs))
        })
    });
    let recorder =
        row("a recorder runs".to_owned(), " % of looks", 0, &|s| s.is_recording().map(share));
    let recorder = is_told(&|s| s.is_recording() == Some(true)).then_some(recorder);
    let rows = figures.chain(of_displays).chain(of_services).chain(recorder);
    rows.filter(|row| row.first.is_some() || row.second.is_some()).collect()
}
