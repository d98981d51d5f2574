//! What Frevin works with here: rights, its home, the clock, room, frames.

use std::io::Write as _;
use std::time::{Duration, Instant};

use frevin_pc::{PcKind, Restarts};

use super::Came;
use crate::context::Context;
use crate::measure::test_loop::{self, FRAMES_PER_S, Pace};

pub(super) fn rights(pc: &dyn Restarts) -> Came {
    match pc.has_administrator_rights() {
        Ok(true) => Came::Passed { seen: Some("an administrator's".to_owned()) },
        Ok(false) => Came::NotPossible {
            reason: "not an administrator's: what is of the whole PC can be read and not changed"
                .to_owned(),
        },
        Err(error) => Came::Failed { seen: error.to_string() },
    }
}

pub(super) fn own_folder(context: &Context) -> Came {
    match crate::own_home::check(context.home()) {
        Ok(()) if cfg!(windows) => Came::Passed { seen: None },
        Ok(()) => Came::NotPossible { reason: "access lists are Windows'".to_owned() },
        Err(failure) => Came::Failed { seen: failure.message },
    }
}

/// The clock goes on as a timer does: one that stands or jumps makes evidence look old or new.
pub(super) fn clock(context: &Context) -> Came {
    const LENGTH: Duration = Duration::from_millis(300);
    const MOST_APART_S: f64 = 0.2;
    if std::env::var_os("FREVIN_CLOCK").is_some() {
        return Came::NotPossible { reason: "FREVIN_CLOCK says what the time is".to_owned() };
    }
    let (begun, timer) = (context.clock.now(), Instant::now());
    std::thread::sleep(LENGTH);
    let by_clock =
        begun.until(context.clock.now()).ok().and_then(|span| span.total(jiff::Unit::Second).ok());
    let by_timer = timer.elapsed().as_secs_f64();
    match by_clock {
        Some(by_clock) if (by_clock - by_timer).abs() < MOST_APART_S => Came::Passed { seen: None },
        Some(by_clock) => Came::Failed {
            seen: format!("in {by_timer:.2} s the clock went on by {by_clock:.2} s"),
        },
        None => Came::Failed { seen: "the clock cannot be read".to_owned() },
    }
}

/// As much as the frames of a long trial take.
pub(super) fn free_room(context: &Context) -> Came {
    const BYTES: usize = 32 << 20;
    let write = || -> std::io::Result<()> {
        let mut file = tempfile::NamedTempFile::new_in(context.home())?;
        file.write_all(&vec![0x5A; BYTES])?;
        file.as_file().sync_all()
    };
    match write() {
        Ok(()) => Came::Passed { seen: None },
        Err(error) => Came::Failed { seen: format!("32 MiB beside the ledger: {error}") },
    }
}

/// A second of the test loop.
pub(super) fn frames() -> Came {
    match test_loop::run(Duration::from_secs(1), Pace::Due) {
        Ok(series) => {
            let metrics = frevin_frames::metrics(&series);
            Came::Passed {
                seen: Some(format!(
                    "{:.1} of {FRAMES_PER_S} frames a second, 1% low {:.1}",
                    metrics.average_fps, metrics.low_1_percent_fps
                )),
            }
        }
        Err(seen) => Came::Failed { seen },
    }
}

/// Pictures of a small window, traced for some seconds.
pub(super) fn traced_frames(pc: &dyn Restarts) -> Came {
    match pc.identity().kind {
        PcKind::Live => traced_here(),
        PcKind::Rehearsal => Came::NotPossible {
            reason: "a rehearsal PC makes its frames up: there are no pictures to trace".to_owned(),
        },
    }
}

#[cfg(windows)]
fn traced_here() -> Came {
    use frevin_pc::windows::own_pictures::OwnPicturesError;
    use frevin_pc::windows::presents::RecordError;

    match frevin_windows::trace_own_pictures() {
        Ok(own) => {
            let seen = format!(
                "{} frames shown, {} traced, {} of them within a millisecond of what was shown{}",
                own.shown_ms.len(),
                own.traced_ms.len(),
                own.as_shown(),
                match own.lost {
                    0 => String::new(),
                    lost => format!("; Windows lost {lost} events"),
                }
            );
            match (own.is_as_shown(), own.lost) {
                (true, _) => Came::Passed { seen: Some(seen) },
                (false, 0) => Came::Failed { seen },
                // What was lost on a busy PC is no fault: frames are left out there, and said to be.
                (false, _) => Came::NotPossible { reason: seen },
            }
        }
        Err(error) => {
            let told = error.to_string();
            match error {
                OwnPicturesError::NotShown(_)
                | OwnPicturesError::NotTraced(
                    RecordError::Denied(_) | RecordError::NotOffered(_),
                ) => Came::NotPossible { reason: told },
                OwnPicturesError::NotTraced(
                    RecordError::NotRunning(_)
                    | RecordError::NoFrames { .. }
                    | RecordError::Failed(_),
                ) => Came::Failed { seen: told },
            }
        }
    }
}

#[cfg(not(windows))]
fn traced_here() -> Came {
    Came::NotPossible { reason: "frames are traced by Windows".to_owned() }
}
