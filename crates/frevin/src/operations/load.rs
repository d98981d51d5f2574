//! The clock that a processor holds under load.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use frevin_core::clock_held::ClockHeld;
use frevin_pc::{Pc, PcKind};

use crate::context::Context;
use crate::failure::{Failure, Kind};

/// How often the clock is read.
const EVERY: Duration = Duration::from_secs(1);

/// Loads all threads of the processor for so many seconds, and reads its clock meanwhile.
///
/// A rehearsal PC's processor is not the one that this program runs on: nothing is loaded, and nobody waits.
pub(crate) fn under_load(
    context: &Context,
    pc: &dyn Pc,
    seconds: u32,
) -> Result<ClockHeld, Failure> {
    let progress = context.progress(seconds.into(), "under load");
    let is_live = pc.identity().kind == PcKind::Live;
    let read = || -> Result<Vec<f64>, Failure> {
        let mut readings = Vec::new();
        for _ in 0..seconds {
            if is_live {
                std::thread::sleep(EVERY);
            }
            readings.extend(pc.processor_mhz()?);
            progress.inc(1);
        }
        Ok(readings)
    };
    let readings = if is_live { while_loaded(read)? } else { read()? };
    progress.finish_and_clear();
    let base_mhz = context.facts(pc)?.processor.base_mhz;
    ClockHeld::of(&readings, base_mhz).ok_or_else(|| {
        Failure::new(Kind::NotFound, "this PC does not tell the clock of its processor").hint(
            "watch it in the firmware maker's own program, and tell it: `frevin inspect --ask`",
        )
    })
}

/// Does something while every thread of the processor computes.
fn while_loaded<T>(work: impl FnOnce() -> T) -> T {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let is_over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                let mut value = 1.000_000_1_f64;
                while !is_over.load(Ordering::Relaxed) {
                    for _ in 0..10_000 {
                        value = std::hint::black_box(value.mul_add(1.000_000_1, 1e-9)) % 1e6;
                    }
                }
            });
        }
        // Ends the load where the work panics too: else the threads would never be joined.
        let _end = End(&is_over);
        work()
    })
}

struct End<'a>(&'a AtomicBool);

impl Drop for End<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}
