//! What limits the frames of a run, as far as its log and its frames tell.

use frevin_frames::FrameCap;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Run, VisitContext};

/// A graphics card that is busy for this share of the time has nothing to spare.
const BUSY: f64 = 0.95;
/// One that is busy for less than this share waits for something else. In between, both are near.
const WAITS: f64 = 0.90;
/// Graphics memory that is used to this share is full: drivers keep some for themselves.
const FULL: f64 = 0.97;
/// Graphics levels that differ by less than this, as a share of the frame rate, cost the card nothing that counts.
const LEVELS_ALIKE: f64 = 0.03;

/// What limits the frames.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "limited_by", rename_all = "kebab-case")]
pub enum FrameLimit {
    /// A cap, or the display that frames wait for.
    Cap(FrameCap),
    /// Graphics memory, which is full.
    GraphicsMemory {
        /// The most that was in use, in mebibytes.
        used_mib: f64,
        /// What the card has, in mebibytes.
        has_mib: u64,
    },
    /// The graphics card.
    GraphicsCard {
        /// The share of the time in which it was busy.
        busy_share: f64,
    },
    /// The thread of the processor that makes frames.
    Processor {
        /// The share of the time in which it was busy.
        busy_share: f64,
    },
    /// Not the graphics card: the processor, memory, a drive, or the network.
    NotGraphicsCard {
        /// The share of the time in which the card was busy, where a log tells it; else the levels told.
        busy_share: Option<f64>,
    },
}

/// What limits the frames of a run; nothing where nothing tells, or where several are near.
pub fn frame_limit(run: &Run, context: &VisitContext) -> Option<FrameLimit> {
    let conditions = run.conditions.as_ref()?;
    if let Some(cap) = conditions.detected.frame_cap {
        return Some(FrameLimit::Cap(cap));
    }
    let readings = &conditions.readings;
    if let (Some(used_mib), Some(has_mib)) =
        (readings.graphics_memory_mib, context.graphics_memory_mib)
        && used_mib >= FULL * has_mib as f64
    {
        return Some(FrameLimit::GraphicsMemory { used_mib, has_mib });
    }
    let graphics = readings.graphics_busy_share?;
    if graphics >= BUSY {
        return Some(FrameLimit::GraphicsCard { busy_share: graphics });
    }
    if graphics >= WAITS {
        return None;
    }
    Some(match readings.processor_busy_share.filter(|share| *share >= WAITS) {
        Some(busy_share) => FrameLimit::Processor { busy_share },
        None => FrameLimit::NotGraphicsCard { busy_share: Some(graphics) },
    })
}

/// What limits the frames of runs that were recorded in one state: what most of them say.
pub fn limit_of_runs<'a>(
    runs: impl Iterator<Item = (&'a Run, &'a VisitContext)>,
) -> Option<FrameLimit> {
    let found: Vec<Option<FrameLimit>> =
        runs.map(|(run, context)| frame_limit(run, context)).collect();
    let kind = |limit: &FrameLimit| std::mem::discriminant(limit);
    let most = found.iter().flatten().find(|limit| {
        let alike = found.iter().flatten().filter(|other| kind(other) == kind(limit)).count();
        2 * alike > found.len()
    });
    most.copied()
}

/// Whether the graphics card does not limit the frames, as graphics levels tell whose average FPS hardly differ.
/// Nothing where they do differ, or where there is one level.
pub fn limit_by_levels(average_fps: &[f64]) -> Option<FrameLimit> {
    let highest = average_fps.iter().copied().fold(0.0, f64::max);
    let lowest = average_fps.iter().copied().fold(f64::INFINITY, f64::min);
    let is_alike = average_fps.len() > 1 && highest < lowest * (1.0 + LEVELS_ALIKE);
    is_alike.then_some(FrameLimit::NotGraphicsCard { busy_share: None })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::visits::{RunId, RunSource};
    use frevin_frames::{FrameSeries, LogReadings, RunConditions, metrics};

    fn run(readings: LogReadings) -> Run {
        Run {
            id: RunId(1),
            is_warm_up: false,
            source: RunSource::LogFile("a.csv".to_owned()),
            boot: None,
            run_since_boot: None,
            was_waiting: false,
            conditions: Some(RunConditions { readings, ..RunConditions::default() }),
            metrics: metrics(&FrameSeries::new(vec![10.0; 9]).unwrap()),
        }
    }

    fn limit(
        graphics: Option<f64>,
        processor: Option<f64>,
        memory: Option<f64>,
    ) -> Option<FrameLimit> {
        let readings = LogReadings {
            graphics_busy_share: graphics,
            processor_busy_share: processor,
            graphics_memory_mib: memory,
            ..LogReadings::default()
        };
        let context = VisitContext { graphics_memory_mib: Some(8192), ..VisitContext::default() };
        frame_limit(&run(readings), &context)
    }

    #[test]
    fn busy_times_tell_what_limits_frames() {
        let card = limit(Some(0.98), Some(0.99), Some(6000.0));
        assert_eq!(card, Some(FrameLimit::GraphicsCard { busy_share: 0.98 }));
        let processor = limit(Some(0.7), Some(0.95), None);
        assert_eq!(processor, Some(FrameLimit::Processor { busy_share: 0.95 }));
        let other = limit(Some(0.7), None, None);
        assert_eq!(other, Some(FrameLimit::NotGraphicsCard { busy_share: Some(0.7) }));
        let full = limit(Some(0.98), None, Some(8000.0));
        assert_eq!(full, Some(FrameLimit::GraphicsMemory { used_mib: 8000.0, has_mib: 8192 }));
        assert_eq!(limit(Some(0.92), Some(0.95), None), None, "both are near");
        assert_eq!(limit(None, Some(0.99), None), None, "nothing tells of the card");
    }

    #[test]
    fn a_cap_comes_first_and_most_runs_decide() {
        let busy =
            |share| LogReadings { graphics_busy_share: Some(share), ..LogReadings::default() };
        let mut capped = run(busy(0.6));
        let cap =
            FrameCap { frame_ms: 1000.0 / 60.0, fps: 60.0, share: 0.9, waits_for_display: false };
        capped.conditions.as_mut().unwrap().detected.frame_cap = Some(cap);
        let context = VisitContext::default();
        assert_eq!(frame_limit(&capped, &context), Some(FrameLimit::Cap(cap)));
        let (busy, idle) = (run(busy(0.99)), run(busy(0.5)));
        let of = |runs: &[&Run]| limit_of_runs(runs.iter().map(|run| (*run, &context)));
        assert_eq!(of(&[&busy, &busy, &idle]), Some(FrameLimit::GraphicsCard { busy_share: 0.99 }));
        assert_eq!(of(&[&busy, &idle]), None);
        assert_eq!(of(&[]), None);
    }

    #[test]
    fn levels_that_cost_nothing_tell_that_the_card_has_time_left() {
        let alike = limit_by_levels(&[100.0, 102.0]);
        assert_eq!(alike, Some(FrameLimit::NotGraphicsCard { busy_share: None }));
        assert_eq!(limit_by_levels(&[100.0, 130.0]), None);
        assert_eq!(limit_by_levels(&[100.0]), None);
    }
}
