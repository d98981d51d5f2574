//! Cautions: what weakens a comparison of two states, as values that a program can decide by.

use std::collections::BTreeSet;

use frevin_frames::{Levels, LogReadings, RunConditions};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Run, VisitRecord};
use crate::ids::StateName;

/// How much longer the longest run may be than the shortest before the scene was another.
const LENGTHS_APART: f64 = 1.1;
/// So many degrees apart, of Celsius, the PC was warm in one state and not in the other.
const DEGREES_APART: f64 = 8.0;
/// Fewer runs a visit give an odd one too much weight.
const ENOUGH_RUNS: usize = 3;

/// Runs of both states that are under a condition, out of how many.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Shares {
    /// Runs of A under it.
    pub a: usize,
    /// Runs of A.
    pub of_a: usize,
    /// Runs of B under it.
    pub b: usize,
    /// Runs of B.
    pub of_b: usize,
}

impl Shares {
    fn of(a: &[&Run], b: &[&Run], is_so: impl Fn(&RunConditions) -> bool) -> Self {
        let count = |runs: &[&Run]| {
            runs.iter().filter(|run| run.conditions.as_ref().is_some_and(&is_so)).count()
        };
        Self { a: count(a), of_a: a.len(), b: count(b), of_b: b.len() }
    }

    fn is_none(self) -> bool {
        self.a + self.b == 0
    }

    fn is_all(self) -> bool {
        (self.a, self.b) == (self.of_a, self.of_b)
    }
}

/// A part of a PC whose temperature logs tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum WarmPart {
    /// The graphics card.
    GraphicsCard,
    /// The processor.
    Processor,
}

impl WarmPart {
    fn celsius(self, readings: &LogReadings) -> Option<Levels> {
        match self {
            Self::GraphicsCard => readings.graphics_celsius,
            Self::Processor => readings.processor_celsius,
        }
    }
}

/// Something that weakens a comparison of state B with state A.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "caution", rename_all = "kebab-case")]
pub enum Caution {
    /// The visits were not made in turns.
    NotInTurns,
    /// Visits without a partner were left out.
    Unpaired {
        /// How many.
        visits: usize,
    },
    /// Visits that were broken off, or do not count, were left out.
    NotWhole {
        /// How many.
        visits: usize,
    },
    /// Runs were recorded while the PC did not yet behave by what was in force.
    WhileWaiting {
        /// How many.
        runs: usize,
    },
    /// Runs were the first after a restart and count all the same.
    FirstAfterRestart {
        /// How many.
        runs: usize,
    },
    /// Visits have few runs.
    FewRuns {
        /// How many visits.
        visits: usize,
    },
    /// Visits of one name were made in different states of the PC.
    SeveralStates {
        /// The name.
        state: StateName,
    },
    /// It is not known what was in force at visits.
    StateNotKnown {
        /// How many visits.
        visits: usize,
    },
    /// Both names stand for the same state of the PC.
    SameState,
    /// The visits are of several PCs.
    SeveralPcs,
    /// Runs of several sources were compared.
    SeveralSources,
    /// Frames are of the PC that Frevin ran on, not of the rehearsal PC.
    OfHost {
        /// How many runs.
        runs: usize,
    },
    /// Windows or the graphics driver was another for some visits.
    SeveralSystems,
    /// Runs of a state look to be capped.
    Capped {
        /// The state.
        state: StateName,
        /// How many runs.
        runs: usize,
        /// Of how many.
        of: usize,
        /// Frames a second that they are held to.
        fps: f64,
        /// Whether it is the display that they wait for.
        waits_for_display: bool,
    },
    /// Runs of a state hold a stretch unlike the rest.
    Phases {
        /// The state.
        state: StateName,
        /// How many runs.
        runs: usize,
        /// Of how many.
        of: usize,
    },
    /// Runs of a state hold a pause.
    Pauses {
        /// The state.
        state: StateName,
        /// How many runs.
        runs: usize,
        /// Of how many.
        of: usize,
    },
    /// Some runs were on battery and some were not.
    SomeOnBattery(Shares),
    /// All runs were on battery.
    AllOnBattery,
    /// A video was recorded during some runs and not during others.
    SomeWhileRecording(Shares),
    /// The runs are of several versions of the game.
    SeveralVersions {
        /// As the owner wrote them.
        versions: Vec<String>,
    },
    /// Latency was measured between other moments in some runs: it is not compared.
    SeveralLatencies {
        /// The columns that it was read from.
        columns: Vec<String>,
    },
    /// The game was drawn by several graphics cards.
    SeveralGraphicsCards {
        /// Their names.
        cards: Vec<String>,
    },
    /// A part of the PC was warmer in one state than in the other.
    UnlikeTemperatures {
        /// The part.
        part: WarmPart,
        /// The mean of A's runs, in degrees Celsius.
        a_celsius: f64,
        /// The mean of B's runs.
        b_celsius: f64,
    },
    /// The runs differ in length.
    UnlikeLengths {
        /// The shortest, in seconds.
        shortest_s: f64,
        /// The longest, in seconds.
        longest_s: f64,
    },
}

/// What weakens a comparison of these pairs of visits, A first. `unpaired` and `not_whole` are visits
/// that were left out.
pub fn cautions(
    (a, b): (&StateName, &StateName),
    pairs: &[(&VisitRecord, &VisitRecord)],
    unpaired: usize,
    not_whole: usize,
) -> Vec<Caution> {
    let visits = || pairs.iter().flat_map(|(a, b)| [*a, *b]);
    let of_a: Vec<&VisitRecord> = pairs.iter().map(|(a, _)| *a).collect();
    let of_b: Vec<&VisitRecord> = pairs.iter().map(|(_, b)| *b).collect();
    let mut found = of_order(pairs, unpaired, not_whole);
    let waiting = visits().flat_map(|visit| &visit.runs).filter(|run| run.was_waiting).count();
    if waiting > 0 {
        found.push(Caution::WhileWaiting { runs: waiting });
    }
    let first = |run: &&Run| run.run_since_boot == Some(1);
    let first_runs = visits().flat_map(VisitRecord::counted).filter(first).count();
    if first_runs > 0 {
        found.push(Caution::FirstAfterRestart { runs: first_runs });
    }
    let few = visits().filter(|visit| visit.counted().count() < ENOUGH_RUNS).count();
    if few > 0 {
        found.push(Caution::FewRuns { visits: few });
    }
    found.extend(of_states((a, &of_a), (b, &of_b)));
    let pcs: BTreeSet<_> = visits().map(|visit| &visit.pc).collect();
    if pcs.len() > 1 {
        found.push(Caution::SeveralPcs);
    }
    let system =
        |visit: &VisitRecord| (visit.context.windows_build, visit.context.graphics_driver.clone());
    let systems: BTreeSet<_> =
        visits().map(system).filter(|system| *system != (None, None)).collect();
    if systems.len() > 1 {
        found.push(Caution::SeveralSystems);
    }
    let runs = |visits: &[&VisitRecord]| -> Vec<Run> {
        visits.iter().flat_map(|visit| visit.counted()).cloned().collect()
    };
    let (runs_a, runs_b) = (runs(&of_a), runs(&of_b));
    found.extend(of_runs(
        (a, &runs_a.iter().collect::<Vec<_>>()),
        (b, &runs_b.iter().collect::<Vec<_>>()),
    ));
    found
}

fn of_order(
    pairs: &[(&VisitRecord, &VisitRecord)],
    unpaired: usize,
    not_whole: usize,
) -> Vec<Caution> {
    let mut found = Vec::new();
    let in_turns = pairs.windows(2).all(|two| {
        let ((a, b), (c, d)) = (two[0], two[1]);
        a.operation.max(b.operation) < c.operation.min(d.operation)
    });
    if !in_turns {
        found.push(Caution::NotInTurns);
    }
    if unpaired > 0 {
        found.push(Caution::Unpaired { visits: unpaired });
    }
    if not_whole > 0 {
        found.push(Caution::NotWhole { visits: not_whole });
    }
    found
}

fn of_states(
    (a, of_a): (&StateName, &[&VisitRecord]),
    (b, of_b): (&StateName, &[&VisitRecord]),
) -> Vec<Caution> {
    let mut found = Vec::new();
    let known = |visits: &[&VisitRecord]| -> BTreeSet<_> {
        visits.iter().filter_map(|visit| Some(visit.in_force.as_ref()?.digest.clone())).collect()
    };
    let (states_a, states_b) = (known(of_a), known(of_b));
    for (state, states) in [(a, &states_a), (b, &states_b)] {
        if states.len() > 1 {
            found.push(Caution::SeveralStates { state: state.clone() });
        }
    }
    let unknown =
        of_a.iter().chain(of_b).filter(|visit| visit.pc.is_some() && visit.in_force.is_none());
    let unknown = unknown.count();
    if unknown > 0 {
        found.push(Caution::StateNotKnown { visits: unknown });
    }
    if states_a.len() == 1 && states_a == states_b {
        found.push(Caution::SameState);
    }
    found
}

fn of_runs((name_a, a): (&StateName, &[&Run]), (name_b, b): (&StateName, &[&Run])) -> Vec<Caution> {
    let mut found = Vec::new();
    for (state, runs) in [(name_a, a), (name_b, b)] {
        found.extend(of_frames(state, runs));
    }
    let battery = Shares::of(a, b, |conditions| conditions.on_battery == Some(true));
    if !battery.is_none() {
        let is_all = battery.is_all();
        found.push(if is_all { Caution::AllOnBattery } else { Caution::SomeOnBattery(battery) });
    }
    let recording = Shares::of(a, b, |conditions| conditions.while_recording == Some(true));
    if !recording.is_none() && !recording.is_all() {
        found.push(Caution::SomeWhileRecording(recording));
    }
    let of_host = Shares::of(a, b, |conditions| conditions.is_of_host);
    if !of_host.is_none() {
        found.push(Caution::OfHost { runs: of_host.a + of_host.b });
    }
    let all = || a.iter().chain(b);
    let versions: BTreeSet<String> =
        all().filter_map(|run| run.conditions.as_ref()?.game_version.clone()).collect();
    if versions.len() > 1 {
        found.push(Caution::SeveralVersions { versions: versions.into_iter().collect() });
    }
    let conditions = || all().filter_map(|run| run.conditions.as_ref());
    let columns: BTreeSet<&String> = conditions()
        .filter_map(|conditions| Some(&conditions.readings.latency.as_ref()?.column))
        .collect();
    if columns.len() > 1 {
        let columns = columns.into_iter().cloned().collect();
        found.push(Caution::SeveralLatencies { columns });
    }
    let cards: BTreeSet<&String> =
        conditions().filter_map(|conditions| conditions.graphics_card.as_ref()).collect();
    if cards.len() > 1 {
        let cards = cards.into_iter().cloned().collect();
        found.push(Caution::SeveralGraphicsCards { cards });
    }
    let kinds: BTreeSet<_> = all().map(|run| super::evidence::kind_of(&run.source)).collect();
    if kinds.len() > 1 {
        found.push(Caution::SeveralSources);
    }
    let parts = [WarmPart::GraphicsCard, WarmPart::Processor];
    found.extend(parts.into_iter().filter_map(|part| {
        let mean = |runs: &[&Run]| {
            let told =
                runs.iter().filter_map(|run| part.celsius(&run.conditions.as_ref()?.readings));
            let told: Vec<f64> = told.map(|levels| levels.average).collect();
            (!told.is_empty()).then(|| told.iter().sum::<f64>() / told.len() as f64)
        };
        let (a_celsius, b_celsius) = (mean(a)?, mean(b)?);
        let is_apart = (a_celsius - b_celsius).abs() >= DEGREES_APART;
        is_apart.then_some(Caution::UnlikeTemperatures { part, a_celsius, b_celsius })
    }));
    let lengths = || all().map(|run| run.metrics.seconds);
    let shortest_s = lengths().fold(f64::INFINITY, f64::min);
    let longest_s = lengths().fold(0.0, f64::max);
    if longest_s > LENGTHS_APART * shortest_s {
        found.push(Caution::UnlikeLengths { shortest_s, longest_s });
    }
    found
}

/// What the frames of a state's runs show.
fn of_frames(state: &StateName, runs: &[&Run]) -> Vec<Caution> {
    let of = runs.len();
    let detected = || runs.iter().filter_map(|run| Some(&run.conditions.as_ref()?.detected));
    let mut found = Vec::new();
    let caps: Vec<_> = detected().filter_map(|detected| detected.frame_cap).collect();
    if let Some(cap) = caps.first() {
        found.push(Caution::Capped {
            state: state.clone(),
            runs: caps.len(),
            of,
            fps: cap.fps,
            waits_for_display: cap.waits_for_display,
        });
    }
    let phases = detected().filter(|detected| !detected.phases.is_empty()).count();
    if phases > 0 {
        found.push(Caution::Phases { state: state.clone(), runs: phases, of });
    }
    let pauses = detected().filter(|detected| !detected.pauses.is_empty()).count();
    if pauses > 0 {
        found.push(Caution::Pauses { state: state.clone(), runs: pauses, of });
    }
    found
}

#[cfg(test)]
mod tests;
