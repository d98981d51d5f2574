//! Recording the pictures that a running program shows.

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_frames::FrameSeries;
use frevin_frames::presents::{
    EventRecord, Presented, PresentsError, TraceClock, busiest, presented,
};
use thiserror::Error;

use super::graphics_use::{GraphicsUseApi, card_of, uses};
use super::os_error::OsError;

/// What Windows offers for tracing.
pub trait TraceApi {
    /// The programs that run now: number and the name of the file.
    fn processes(&self) -> Result<Vec<(u32, String)>, OsError>;

    /// Traces what graphics runtimes and the kernel say of some processes, for so long.
    fn trace(&self, processes: &BTreeSet<u32>, length: Duration) -> Result<Traced, OsError>;
}

/// What a session of tracing brought.
pub struct Traced {
    /// The events, as they came.
    pub records: Vec<EventRecord>,
    /// What their times count.
    pub clock: TraceClock,
    /// Events that Windows could not keep.
    pub lost: u64,
}

/// The frames of a program that was running.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordedPresents {
    /// Its frames.
    pub series: FrameSeries,
    /// Which program, and who announced its pictures; without the frames.
    pub presented: Presented,
    /// Events of all programs that Windows could not keep.
    pub lost: u64,
    /// The graphics card that drew it, where Windows tells that.
    pub graphics_card: Option<String>,
}

/// Why a program's frames could not be recorded.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum RecordError {
    /// No program of that name runs.
    #[error("no program called `{0}` runs")]
    NotRunning(String),
    /// Its pictures could not be told.
    #[error("{name}: {reason}")]
    NoFrames {
        /// The program.
        name: String,
        /// Why.
        reason: PresentsError,
    },
    /// Windows does not trace for this user.
    #[error(
        "Windows lets only administrators, and members of its group for performance logs, trace: {0}"
    )]
    Denied(String),
    /// Windows does not trace at all: the function that says so.
    #[error("this PC offers no event tracing ({0})")]
    NotOffered(&'static str),
    /// Windows failed otherwise.
    #[error("event tracing failed: {0}")]
    Failed(String),
}

impl From<OsError> for RecordError {
    fn from(error: OsError) -> Self {
        let told = error.to_string();
        match error {
            OsError::NotOffered { call } => Self::NotOffered(call),
            error if error.is_denial() => Self::Denied(told),
            _ => Self::Failed(told),
        }
    }
}

/// Records what a running program shows, for so long; of the processes of it that run when this begins.
///
/// # Errors
/// [`RecordError`].
pub fn record(
    api: &dyn TraceApi,
    graphics: &dyn GraphicsUseApi,
    program: &str,
    length: Duration,
) -> Result<RecordedPresents, RecordError> {
    let is_meant = |name: &str| {
        let bare = |name: &str| {
            let name = name.to_lowercase();
            name.strip_suffix(".exe").map(str::to_owned).unwrap_or(name)
        };
        bare(name) == bare(program)
    };
    let running = |api: &dyn TraceApi| -> Result<BTreeSet<u32>, RecordError> {
        let processes = api.processes()?.into_iter();
        Ok(processes.filter(|(_, name)| is_meant(name)).map(|(id, _)| id).collect())
    };
    let ids = running(api)?;
    if ids.is_empty() {
        return Err(RecordError::NotRunning(program.to_owned()));
    }
    let traced = api.trace(&ids, length)?;
    let mut of_program = presented(&traced.records, traced.clock);
    of_program.retain(|chain| ids.contains(&chain.process));
    let no_frames = |reason| RecordError::NoFrames { name: program.to_owned(), reason };
    let mut presented = busiest(&of_program).map_err(no_frames)?.clone();
    let series = FrameSeries::new(std::mem::take(&mut presented.frame_ms))
        .map_err(|_| no_frames(PresentsError::None))?;
    // The game still draws, just after its recording.
    let graphics_card = uses(graphics)
        .and_then(|uses| Ok(card_of(&uses, presented.process, &graphics.cards()?)))
        .unwrap_or_default();
    Ok(RecordedPresents { series, presented, lost: traced.lost, graphics_card })
}

#[cfg(test)]
mod tests {
    use super::*;
    use frevin_frames::presents::DXGI;

    struct Recorded {
        processes: Vec<(u32, &'static str)>,
        pictures: Vec<(u32, i64)>,
        fails: Option<OsError>,
    }

    impl TraceApi for Recorded {
        fn processes(&self) -> Result<Vec<(u32, String)>, OsError> {
            Ok(self.processes.iter().map(|(id, name)| (*id, (*name).to_owned())).collect())
        }

        fn trace(&self, _: &BTreeSet<u32>, _: Duration) -> Result<Traced, OsError> {
            if let Some(error) = &self.fails {
                return Err(error.clone());
            }
            let record = |(process, ticks): &(u32, i64)| EventRecord {
                provider: DXGI,
                event: 42,
                process: *process,
                ticks: *ticks,
                is_64_bit: true,
                payload: vec![0; 16],
            };
            let records = self.pictures.iter().map(record).collect();
            Ok(Traced { records, clock: TraceClock::SystemTime, lost: 3 })
        }
    }

    impl GraphicsUseApi for Recorded {
        fn engines(&self) -> Result<Vec<(String, f64)>, OsError> {
            let name = "pid_7_luid_0x00000001_0x000000FF_phys_0_eng_0_engtype_3D";
            Ok(vec![(name.to_owned(), 91.0)])
        }

        fn cards(&self) -> Result<Vec<super::super::graphics_use::NamedCard>, OsError> {
            Ok(vec![((1, 255), "The fast one".to_owned())])
        }
    }

    fn recorded(pictures: Vec<(u32, i64)>, fails: Option<OsError>) -> Recorded {
        let processes = vec![(4, "other.exe"), (7, "Gorse.exe"), (9, "gorse.exe")];
        Recorded { processes, pictures, fails }
    }

    fn run(api: &Recorded, program: &str) -> Result<RecordedPresents, RecordError> {
        record(api, api, program, Duration::from_secs(1))
    }

    #[test]
    fn the_frames_are_those_of_the_program_that_is_meant() {
        let pictures = vec![(7, 0), (4, 1), (4, 2), (7, 100_000), (4, 3), (7, 250_000)];
        let found = run(&recorded(pictures, None), "GORSE").unwrap();
        assert_eq!(found.series.frame_ms(), [10.0, 15.0]);
        assert_eq!((found.presented.process, found.lost), (7, 3));
        assert_eq!(found.graphics_card.as_deref(), Some("The fast one"));
    }

    #[test]
    fn what_cannot_be_recorded_is_told() {
        let none = run(&recorded(Vec::new(), None), "gorse.exe").unwrap_err();
        assert_eq!(none.to_string(), "gorse.exe: it showed no pictures in that time");
        let missing = run(&recorded(Vec::new(), None), "heath.exe").unwrap_err();
        assert_eq!(missing, RecordError::NotRunning("heath.exe".to_owned()));
        let both = vec![(7, 0), (7, 10), (9, 0), (9, 10)];
        let several = run(&recorded(both, None), "gorse.exe").unwrap_err().to_string();
        assert!(several.contains("process 7") && several.contains("process 9"), "{several}");
        let fails = |code| {
            let error = OsError::code("StartTraceW", code);
            run(&recorded(Vec::new(), Some(error)), "gorse.exe").unwrap_err()
        };
        assert!(matches!(fails(5), RecordError::Denied(_)));
        assert!(matches!(fails(120), RecordError::NotOffered(_)));
        assert!(matches!(fails(1450), RecordError::Failed(_)));
    }
}
