//! Sources of frames: where the runs of a visit come from.

use std::time::Duration;

use frevin_core::visits::RunSource;
use frevin_frames::LogReadings;
use frevin_pc::PcLock;

use super::collector::CollectedFrames;
use crate::failure::Failure;

/// A source that records the runs of a visit, one after another.
///
/// A new source implements this and nothing else: locking the PC, what waits, warm-up, conditions and
/// keeping are the same for all ([`super::visit`]).
pub(crate) trait FrameSource {
    /// Gets ready for the visit. The caller holds the PC's lock from now on to the end of the visit.
    fn prepare(&mut self) -> Result<(), Failure> {
        Ok(())
    }

    /// Records the next run, of this length where the source can say how long a run is.
    fn record(&mut self, lock: Option<&PcLock>, length: Duration) -> Result<SourceRun, Failure>;

    /// Whether there are frames at all: where only the network is judged, there are none.
    fn gives_frames(&self) -> bool {
        true
    }

    /// What a run is, for the progress that is shown.
    fn progress(&self) -> &'static str {
        "recording"
    }

    /// Whether each run starts the program that is measured anew, so that nothing has to wait for that.
    fn starts_program(&self) -> bool {
        false
    }

    /// Whether the frames are of the PC that Frevin runs on, whichever PC is meant.
    fn is_of_host(&self) -> bool {
        false
    }

    /// Whether the frames were recorded earlier, so that nothing is known of the PC at that time.
    fn is_of_the_past(&self) -> bool {
        false
    }
}

/// A run as its source gave it.
pub(crate) struct SourceRun {
    pub(crate) source: RunSource,
    pub(crate) frames: CollectedFrames,
    /// Which run it was after the start of the PC, where the source knows.
    pub(crate) run_since_boot: Option<u64>,
    /// What its log told beside the frames.
    pub(crate) readings: LogReadings,
    /// The graphics card that drew it, where that was read.
    pub(crate) graphics_card: Option<String>,
}

impl SourceRun {
    /// A run of which nothing is known but its frames.
    pub(crate) fn of(source: RunSource, frames: CollectedFrames) -> Self {
        let readings = LogReadings::default();
        Self { source, frames, run_since_boot: None, readings, graphics_card: None }
    }
}
