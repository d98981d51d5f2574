//! What is doubtful about a visit of a trial.

use super::event::Doubt;
use crate::visits::{RunSource, VisitRecord};

/// A run shorter than this share of what was asked for was cut short.
const CUT_SHORT_BELOW: f64 = 0.9;

/// Under what visits are to be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Circumstances {
    /// Whether the PC is to run on its battery.
    pub on_battery: bool,
    /// How long a run is to be, in seconds, where its source can say.
    pub run_seconds: u32,
}

/// What is doubtful about a visit, by itself and beside earlier visits that should be like it.
pub fn doubts(
    circumstances: Circumstances,
    visit: &VisitRecord,
    earlier: &[VisitRecord],
) -> Vec<Doubt> {
    let mut doubts = Vec::new();
    let power = visit.counted().filter_map(|run| run.conditions().on_battery);
    if let Some(on_battery) = power.into_iter().find(|power| *power != circumstances.on_battery) {
        doubts.push(Doubt::OtherPower { on_battery });
    }
    let is_short = visit.counted().any(|run| {
        let expected = match run.source {
            RunSource::Rehearsal | RunSource::Program(_) | RunSource::TestLoop => {
                f64::from(circumstances.run_seconds)
            }
            // How long its runs are is the other program's business: they are held against each other.
            RunSource::LogFile(_) => {
                let seconds = earlier.iter().flat_map(VisitRecord::counted);
                seconds.map(|run| run.metrics.seconds).fold(0.0, f64::max)
            }
        };
        run.metrics.seconds < CUT_SHORT_BELOW * expected
    });
    if is_short {
        doubts.push(Doubt::CutShort);
    }
    let is_capped = |visit: &VisitRecord| {
        visit.counted().any(|run| run.conditions().detected.frame_cap.is_some())
    };
    if is_capped(visit) && !earlier.is_empty() && !earlier.iter().any(is_capped) {
        doubts.push(Doubt::Capped);
    }
    doubts
}
