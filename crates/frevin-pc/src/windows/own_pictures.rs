//! Pictures of Frevin's own, traced: whether what Windows traces of a program is what it showed.

use std::collections::BTreeSet;
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use frevin_frames::presents::{busiest, presented};
use thiserror::Error;

use super::os_error::OsError;
use super::presents::{RecordError, TraceApi};

/// A window of Frevin's own.
pub trait PicturesApi: Sync {
    /// Shows a picture every so long, for so long, in a window that is closed again. When each was handed over, counted from
    /// the first, in order.
    fn show(&self, every: Duration, length: Duration) -> Result<Vec<Duration>, OsError>;
}

/// How long is traced.
pub const TRACED: Duration = Duration::from_secs(5);
/// From one picture to the next: a hundred a second.
const EVERY: Duration = Duration::from_millis(10);
/// From when a session is asked for to the first picture: it runs by then.
const HEAD_START: Duration = Duration::from_millis(800);
/// From the last picture to the end of the session: none is cut off.
const REST: Duration = Duration::from_millis(400);
/// A traced frame is the one that was shown where they differ by less: a thread may be put aside between the two readings of
/// the clock.
const APART_MS: f64 = 1.0;
/// Of the frames that were shown, at least so many have to be traced as they were.
const LEAST_SHARE: f64 = 0.95;

/// What was shown and what was traced of it.
#[derive(Debug, Clone, PartialEq)]
pub struct OwnPictures {
    /// From each picture that was handed over to the next, in milliseconds.
    pub shown_ms: Vec<f64>,
    /// The same by what Windows traced.
    pub traced_ms: Vec<f64>,
    /// Events that Windows could not keep.
    pub lost: u64,
}

impl OwnPictures {
    /// How many of the traced frames are those that were shown: compared from the last one back, since a session may begin
    /// to deliver after the first picture.
    pub fn as_shown(&self) -> usize {
        let pairs = self.shown_ms.iter().rev().zip(self.traced_ms.iter().rev());
        pairs.filter(|(shown, traced)| (*shown - *traced).abs() < APART_MS).count()
    }

    /// Whether nearly all of what was shown was traced, as it was shown, and nothing else.
    pub fn is_as_shown(&self) -> bool {
        let least = LEAST_SHARE * self.shown_ms.len() as f64;
        self.traced_ms.len() <= self.shown_ms.len() && self.as_shown() as f64 >= least
    }
}

/// Why it is not known whether frames are traced as they are shown.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum OwnPicturesError {
    /// No window could show pictures.
    #[error("no window could show pictures: {0}")]
    NotShown(OsError),
    /// They could not be traced.
    #[error(transparent)]
    NotTraced(#[from] RecordError),
}

/// Shows pictures at a known pace and traces them for [`TRACED`]. `process` is the number of this program. Where nothing can
/// be traced, no window opens.
///
/// # Errors
/// [`OwnPicturesError`].
pub fn trace_own_pictures(
    api: &dyn TraceApi,
    pictures: &dyn PicturesApi,
    process: u32,
) -> Result<OwnPictures, OwnPicturesError> {
    let (traces_still, stops_tracing) = mpsc::channel::<()>();
    let (traced, shown) = thread::scope(|scope| {
        let showing = scope.spawn(move || match stops_tracing.recv_timeout(HEAD_START) {
            Err(mpsc::RecvTimeoutError::Timeout) => {
                pictures.show(EVERY, TRACED.saturating_sub(HEAD_START + REST))
            }
            // Tracing failed at once, which is what is told.
            Ok(()) | Err(mpsc::RecvTimeoutError::Disconnected) => Ok(Vec::new()),
        });
        let traced = api.trace(&BTreeSet::from([process]), TRACED);
        drop(traces_still);
        (traced, showing.join())
    });
    let traced = traced.map_err(RecordError::from)?;
    let shown = shown
        .map_err(|_| OsError::Said("the thread that shows them stopped".to_owned()))
        .and_then(|shown| shown)
        .map_err(OwnPicturesError::NotShown)?;
    let name = || "Frevin's own window".to_owned();
    let chains = presented(&traced.records, traced.clock);
    let own = busiest(&chains).map_err(|reason| RecordError::NoFrames { name: name(), reason })?;
    let apart = shown.iter().zip(shown.iter().skip(1)).map(|(one, next)| next.saturating_sub(*one));
    Ok(OwnPictures {
        shown_ms: apart.map(|apart| 1000.0 * apart.as_secs_f64()).collect(),
        traced_ms: own.frame_ms.clone(),
        lost: traced.lost,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::windows::presents::Traced;
    use frevin_frames::presents::{DXGI, EventRecord, TraceClock};

    const PROCESS: u32 = 7;

    /// A Windows whose pictures come at these times, in tenths of a millisecond, and whose trace tells of them after a while.
    struct Recorded {
        shown: Result<Vec<u64>, OsError>,
        traced: Result<Vec<u64>, OsError>,
    }

    impl PicturesApi for Recorded {
        fn show(&self, _: Duration, _: Duration) -> Result<Vec<Duration>, OsError> {
            let times = self.shown.clone()?;
            Ok(times.into_iter().map(|at| Duration::from_micros(100 * at)).collect())
        }
    }

    impl TraceApi for Recorded {
        fn processes(&self) -> Result<Vec<(u32, String)>, OsError> {
            Ok(Vec::new())
        }

        fn trace(&self, processes: &BTreeSet<u32>, length: Duration) -> Result<Traced, OsError> {
            assert_eq!((processes, length), (&BTreeSet::from([PROCESS]), TRACED));
            let times = self.traced.clone()?;
            thread::sleep(HEAD_START + Duration::from_millis(100));
            let record = |at: u64| EventRecord {
                provider: DXGI,
                event: 42,
                process: PROCESS,
                ticks: i64::try_from(at * 1000).unwrap(),
                is_64_bit: true,
                payload: vec![0; 16],
            };
            let records = times.into_iter().map(record).collect();
            Ok(Traced { records, clock: TraceClock::SystemTime, lost: 0 })
        }
    }

    /// Pictures about ten milliseconds apart, of which none is as far from the next as another.
    fn pictures(count: u64) -> Vec<u64> {
        (0..count).map(|at| 100 * at + at * at % 7 * 9).collect()
    }

    fn run(
        shown: Result<Vec<u64>, OsError>,
        traced: Result<Vec<u64>, OsError>,
    ) -> Result<OwnPictures, OwnPicturesError> {
        let recorded = Recorded { shown, traced };
        trace_own_pictures(&recorded, &recorded, PROCESS)
    }

    #[test]
    fn frames_are_traced_as_they_were_shown_or_it_is_told() {
        let shown = pictures(200);
        let late = shown.iter().map(|at| at + 3).skip(4).collect();
        let as_shown = run(Ok(shown.clone()), Ok(late)).unwrap();
        assert_eq!((as_shown.shown_ms.len(), as_shown.traced_ms.len()), (199, 195));
        assert_eq!((as_shown.as_shown(), as_shown.is_as_shown()), (195, true));

        let half: Vec<u64> = shown.iter().copied().step_by(2).collect();
        assert!(!run(Ok(shown.clone()), Ok(half)).unwrap().is_as_shown());
        let slower: Vec<u64> = shown.iter().map(|at| at * 5 / 4).collect();
        assert!(!run(Ok(shown.clone()), Ok(slower)).unwrap().is_as_shown());
        let more: Vec<u64> = pictures(300);
        assert!(!run(Ok(shown), Ok(more)).unwrap().is_as_shown());
    }

    #[test]
    fn no_window_opens_where_nothing_is_traced() {
        let denied = OsError::code("StartTraceW", 5);
        let unshown = Err(OsError::Said("a window opened".to_owned()));
        let error = run(unshown, Err(denied)).unwrap_err();
        assert!(matches!(error, OwnPicturesError::NotTraced(RecordError::Denied(_))), "{error}");
    }

    #[test]
    fn a_window_that_cannot_be_and_pictures_that_nobody_traced_are_told_apart() {
        let no_window = OsError::code("CreateWindowExW", 5);
        let error = run(Err(no_window), Ok(Vec::new())).unwrap_err().to_string();
        assert!(error.starts_with("no window could show pictures: "), "{error}");
        let error = run(Ok(pictures(9)), Ok(Vec::new())).unwrap_err().to_string();
        assert_eq!(error, "Frevin's own window: it showed no pictures in that time");
    }
}
