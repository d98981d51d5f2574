//! A workload of Frevin's own, paced like a game: so that frame pacing can be measured with no game.
//!
//! Four threads do the same fixed work for every frame, over memory that does not fit into a core's
//! own cache; then the loop sleeps until the frame is due, by the operating system's timer. What is
//! measured is real: how evenly this PC starts, finishes and wakes.

use std::hint::black_box;
use std::sync::Barrier;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use frevin_frames::FrameSeries;

/// Frames that are due in a second.
pub(crate) const FRAMES_PER_S: u32 = 120;
/// Threads that share a frame's work, on every PC.
pub(crate) const THREADS: usize = 4;
/// Numbers of 8 bytes that each thread goes through, a part in each frame: 4 MiB.
const NUMBERS: usize = 512 * 1024;
/// Numbers that each thread goes through in a frame.
const NUMBERS_PER_FRAME: usize = 32 * 1024;
const SEED: u64 = 0x5EED_0FF2;

/// One thread's part of the work: the same numbers in the same order in every run.
struct Work {
    numbers: Vec<u64>,
    at: usize,
    sum: u64,
}

impl Work {
    fn new(thread: usize) -> Self {
        let mut state = SEED.wrapping_add(thread as u64);
        let numbers = std::iter::repeat_with(|| {
            state = mix(state);
            state
        });
        Self { numbers: numbers.take(NUMBERS).collect(), at: 0, sum: 0 }
    }

    /// The work of one frame: reads and writes memory far apart.
    fn frame(&mut self) {
        for _ in 0..NUMBERS_PER_FRAME {
            let number = mix(self.numbers[self.at] ^ self.sum);
            self.numbers[self.at] = number;
            self.sum = self.sum.wrapping_add(number);
            self.at = (self.at + 8191) % NUMBERS;
        }
        black_box(self.sum);
    }
}

/// Mixes a number so that every bit of it moves (the finalizer of MurmurHash3).
fn mix(number: u64) -> u64 {
    let number = (number ^ (number >> 33)).wrapping_mul(0xff51_afd7_ed55_8ccd);
    let number = (number ^ (number >> 33)).wrapping_mul(0xc4ce_b9fe_1a85_ec53);
    (number ^ (number >> 33)).wrapping_add(1)
}

/// Whether frames wait until they are due.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Pace {
    /// So many a second: what is measured is how evenly they come.
    Due,
    /// As fast as they are done: what is measured is how fast that is.
    Free,
}

/// Runs the loop for so long, and gives the time from each frame to the next.
pub(crate) fn run(length: Duration, pace: Pace) -> Result<FrameSeries, String> {
    let period = Duration::from_secs(1) / FRAMES_PER_S;
    let (begin, end) = (Barrier::new(THREADS + 1), Barrier::new(THREADS + 1));
    let is_over = AtomicBool::new(false);
    let mut frame_ms = Vec::new();
    std::thread::scope(|threads| {
        for thread in 0..THREADS {
            let (begin, end, is_over) = (&begin, &end, &is_over);
            threads.spawn(move || {
                let mut work = Work::new(thread);
                loop {
                    begin.wait();
                    if is_over.load(Ordering::Acquire) {
                        return;
                    }
                    work.frame();
                    end.wait();
                }
            });
        }
        let frame = || {
            begin.wait();
            end.wait();
        };
        // The first frame waits for the threads to start: it is nobody's frame.
        frame();
        let begun = Instant::now();
        let (mut shown, mut due) = (begun, begun + period);
        // By the frames themselves: between the last one and a look at the clock a busy machine may do something else.
        while shown - begun < length {
            frame();
            if pace == Pace::Due {
                std::thread::sleep(due.saturating_duration_since(Instant::now()));
            }
            let now = Instant::now();
            frame_ms.push((now - shown).as_secs_f64() * 1000.0);
            shown = now;
            // Who comes late is not late for ever.
            due = (due + period).max(now);
        }
        is_over.store(true, Ordering::Release);
        begin.wait();
    });
    FrameSeries::new(frame_ms).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_work_is_the_same_in_every_run() {
        let sums = || {
            let mut work = Work::new(2);
            let sums: Vec<u64> = (0..3)
                .map(|_| {
                    work.frame();
                    work.sum
                })
                .collect();
            sums
        };
        assert_eq!(sums(), sums());
        let mut other = Work::new(3);
        other.frame();
        assert_ne!(other.sum, sums()[0], "each thread has work of its own");
    }

    #[test]
    fn frames_follow_each_other_for_as_long_as_was_asked() {
        let series = run(Duration::from_millis(200), Pace::Due).unwrap();
        // However slow the machine: frames do not come before they are due, but for the first after
        // a late one.
        assert!(series.total_ms() >= 200.0);
        assert!(series.frame_ms().len() <= 26, "{}", series.frame_ms().len());
    }
}
