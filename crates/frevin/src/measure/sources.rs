//! The sources that there are: a rehearsal PC's scene, a traced program, a watched folder, given files,
//! the test loop.

use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use frevin_core::ids::SceneName;
use frevin_core::visits::{RunSource, Scene};
use frevin_frames::{FrameSeries, LogOptions, LogReading};
use frevin_ledger::Ledger;
use frevin_pc::PcLock;
use frevin_pc::rehearsal::RehearsalPc;

use super::collector::CollectedFrames;
use super::log_file;
use super::source::{FrameSource, SourceRun};
use super::test_loop::{self, Pace};
use super::watched_folder::WatchedFolder;
use crate::context::Context;
use crate::failure::{Failure, Kind};

/// A scene of a rehearsal PC, played by its model.
pub(crate) struct RehearsalScene {
    folder: PathBuf,
    scene: SceneName,
    pc: Option<RehearsalPc>,
}

impl RehearsalScene {
    pub(crate) fn new(pc: &RehearsalPc, scene: &SceneName) -> Self {
        Self { folder: pc.folder().to_owned(), scene: scene.clone(), pc: None }
    }
}

impl FrameSource for RehearsalScene {
    /// Opens the PC now that nobody else changes it: what is played is what it holds.
    fn prepare(&mut self) -> Result<(), Failure> {
        self.pc = Some(RehearsalPc::open(&self.folder)?);
        Ok(())
    }

    fn record(&mut self, lock: Option<&PcLock>, length: Duration) -> Result<SourceRun, Failure> {
        let (Some(pc), Some(lock)) = (&mut self.pc, lock) else {
            return Err(Failure::new(Kind::Internal, "a scene is played on a PC that is locked"));
        };
        let run = pc.record(lock, self.scene.as_str(), length.as_secs_f64())?;
        Ok(SourceRun {
            run_since_boot: Some(run.run_since_boot),
            readings: run.readings,
            ..SourceRun::of(RunSource::Rehearsal, run.series.into())
        })
    }

    fn starts_program(&self) -> bool {
        true
    }
}

/// Makes sure that the ledger has a scene: it has it, or the rehearsal PC that is meant does.
pub(crate) fn know_scene(
    context: &Context,
    ledger: &mut Ledger,
    name: &SceneName,
) -> Result<(), Failure> {
    let unknown = match ledger.scene(name) {
        Ok(_) => return Ok(()),
        Err(unknown) => unknown,
    };
    let of_pc = match context.rehearsal_pc_if_named()? {
        Some(pc) => scenes_of(&pc)?,
        None => Vec::new(),
    };
    match of_pc.iter().find(|scene| scene.name == *name) {
        Some(scene) => Ok(ledger.add_scene(scene)?),
        None => Err(unknown.into()),
    }
}

/// The scenes of a rehearsal PC.
pub(crate) fn scenes_of(pc: &RehearsalPc) -> Result<Vec<Scene>, Failure> {
    let scene = |scene: &frevin_pc::rehearsal::ModelScene| {
        let name = scene.name.parse().map_err(|error: frevin_core::ids::NameError| {
            Failure::new(Kind::BadInput, format!("in the model of this PC: {error}"))
        })?;
        Ok(Scene {
            name,
            game: scene.game.clone(),
            graphics: scene.graphics.clone(),
            resolution: scene.resolution.clone(),
            route: scene.route.clone(),
        })
    };
    pc.model().scenes.iter().map(scene).collect()
}

/// A program that runs on this PC, by what Windows traces of it.
pub(crate) struct TracedProgram {
    pub(crate) file: String,
}

impl FrameSource for TracedProgram {
    fn record(&mut self, _: Option<&PcLock>, length: Duration) -> Result<SourceRun, Failure> {
        let (series, graphics_card) = record_presents(&self.file, length)?;
        let source = RunSource::Program(self.file.clone());
        Ok(SourceRun { graphics_card, ..SourceRun::of(source, series.into()) })
    }

    fn is_of_host(&self) -> bool {
        true
    }
}

#[cfg(windows)]
pub(super) fn record_presents(
    program: &str,
    length: Duration,
) -> Result<(FrameSeries, Option<String>), Failure> {
    use frevin_pc::windows::presents::RecordError;

    let recorded = frevin_windows::record_presents(program, length).map_err(|error| {
        let kind = match error {
            RecordError::Denied(_) => Kind::Guarded,
            RecordError::Failed(_) => Kind::Files,
            RecordError::NotRunning(_)
            | RecordError::NoFrames { .. }
            | RecordError::NotOffered(_) => Kind::NotFound,
        };
        let failure = Failure::new(kind, error.to_string());
        match error {
            RecordError::NotRunning(_) => failure.hint("start it, and write the name of its file"),
            RecordError::NoFrames { .. } => {
                failure.hint("is it the program that shows the game, and not one that starts it?")
            }
            RecordError::Denied(_) => failure.hint("run Frevin as administrator"),
            RecordError::NotOffered(_) | RecordError::Failed(_) => {
                failure.hint("`frevin run record --from-folder` takes logs of other programs")
            }
        }
    })?;
    if recorded.lost > 0 {
        tracing::warn!("Windows lost {} events: frames they lay in are left out", recorded.lost);
    }
    Ok((recorded.series, recorded.graphics_card))
}

#[cfg(not(windows))]
pub(super) fn record_presents(
    _program: &str,
    _length: Duration,
) -> Result<(FrameSeries, Option<String>), Failure> {
    let message = "programs can only be recorded on Windows";
    Err(Failure::new(Kind::Usage, message)
        .hint("`frevin run record --from-folder` takes logs of other programs")
        .hint("`frevin run record --test-loop` measures frame pacing on any PC"))
}

/// A log that was taken for a run, and how it was read.
pub(crate) struct TakenLog {
    pub(crate) file: PathBuf,
    pub(crate) reading: LogReading,
}

/// The name of a log alone: the path to it is the owner's own business.
fn bare_name(file: &Path) -> String {
    file.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// A folder that another program writes its logs into, each a run when it is finished.
pub(crate) struct LogsToCome<'a> {
    context: &'a Context,
    options: LogOptions,
    folder: PathBuf,
    unchanged_for: Duration,
    give_up_after: Duration,
    watched: Option<(WatchedFolder, Instant)>,
    pub(crate) taken: Vec<TakenLog>,
    /// Files that came and are no logs, each with the reason.
    pub(crate) passed_over: Vec<String>,
}

impl<'a> LogsToCome<'a> {
    pub(crate) fn new(
        context: &'a Context,
        folder: &Path,
        options: LogOptions,
        unchanged_for: Duration,
        give_up_after: Duration,
    ) -> Self {
        Self {
            context,
            options,
            folder: folder.to_owned(),
            unchanged_for,
            give_up_after,
            watched: None,
            taken: Vec::new(),
            passed_over: Vec::new(),
        }
    }
}

impl FrameSource for LogsToCome<'_> {
    fn prepare(&mut self) -> Result<(), Failure> {
        let deadline = Instant::now() + self.give_up_after;
        self.watched = Some((WatchedFolder::new(&self.folder)?, deadline));
        Ok(())
    }

    fn record(&mut self, _: Option<&PcLock>, _: Duration) -> Result<SourceRun, Failure> {
        let Some((watched, deadline)) = &mut self.watched else {
            return Err(Failure::new(Kind::Internal, "the folder is not watched yet"));
        };
        loop {
            let Some(file) = watched.next(self.unchanged_for, *deadline)? else {
                let seconds = self.give_up_after.as_secs();
                let came = self.taken.len();
                let message = format!("{came} finished logs came within {seconds} s");
                return Err(Failure::new(Kind::TimeRanOut, message)
                    .details(self.passed_over.iter().map(|file| format!("passed over {file}")))
                    .hint("`frevin run import` takes the logs that are there")
                    .hint("--give-up-after SECONDS waits longer"));
            };
            match log_file::read(self.context, &file, &self.options) {
                // Other things are written into such folders too: one of them does not end the waiting.
                Err(failure) if failure.kind == Kind::BadInput => {
                    self.passed_over.push(failure.message);
                }
                read => {
                    let (frames, reading) = read?;
                    let source = RunSource::LogFile(bare_name(&file));
                    let readings = reading.readings.clone();
                    self.taken.push(TakenLog { file, reading });
                    return Ok(SourceRun { readings, ..SourceRun::of(source, frames) });
                }
            }
        }
    }

    fn progress(&self) -> &'static str {
        "logs that are finished"
    }
}

/// Logs that are there already, each a run. All are read before any is kept.
pub(crate) struct GivenLogs {
    runs: std::vec::IntoIter<SourceRun>,
    pub(crate) taken: Vec<TakenLog>,
}

impl GivenLogs {
    pub(crate) fn read(
        context: &Context,
        files: &[PathBuf],
        options: &LogOptions,
    ) -> Result<Self, Failure> {
        let (mut runs, mut taken) = (Vec::new(), Vec::new());
        for file in files {
            let (frames, reading) = log_file::read(context, file, options)?;
            let source = RunSource::LogFile(bare_name(file));
            let readings = reading.readings.clone();
            runs.push(SourceRun { readings, ..SourceRun::of(source, frames) });
            taken.push(TakenLog { file: file.clone(), reading });
        }
        Ok(Self { runs: runs.into_iter(), taken })
    }

    pub(crate) fn digests(&self) -> io::Result<Vec<&str>> {
        self.runs.as_slice().iter().map(|run| run.frames.digest()).collect()
    }
}

impl FrameSource for GivenLogs {
    fn record(&mut self, _: Option<&PcLock>, _: Duration) -> Result<SourceRun, Failure> {
        self.runs.next().ok_or_else(|| Failure::new(Kind::Internal, "there are no more logs"))
    }

    fn is_of_the_past(&self) -> bool {
        true
    }
}

/// Frevin's own workload, paced like a game, on the PC that Frevin runs on.
pub(crate) struct TestLoop;

impl TestLoop {
    /// Its scene: the same work everywhere, so that runs of it can be compared.
    pub(crate) fn scene() -> Result<Scene, Failure> {
        let name = "test-loop".parse().map_err(|error: frevin_core::ids::NameError| {
            Failure::new(Kind::Internal, error.to_string())
        })?;
        Ok(Scene {
            name,
            game: "Frevin's test loop".to_owned(),
            graphics: "none".to_owned(),
            resolution: "none".to_owned(),
            route: format!(
                "fixed work on {} threads, {} frames a second",
                test_loop::THREADS,
                test_loop::FRAMES_PER_S
            ),
        })
    }
}

/// No game: nothing is recorded, and an address alone is asked meanwhile.
pub(crate) struct NoGame;

impl NoGame {
    /// What it stands for in the ledger.
    pub(crate) fn scene() -> Result<Scene, Failure> {
        let name = "network".parse();
        Ok(Scene {
            name: name.map_err(|error: frevin_core::ids::NameError| {
                Failure::new(Kind::Internal, error.to_string())
            })?,
            game: "none".to_owned(),
            graphics: "none".to_owned(),
            resolution: "none".to_owned(),
            route: "an address is asked how fast it answers".to_owned(),
        })
    }
}

impl FrameSource for NoGame {
    fn record(&mut self, _: Option<&PcLock>, _: Duration) -> Result<SourceRun, Failure> {
        Err(Failure::new(Kind::Internal, "without a game there are no frames"))
    }

    fn gives_frames(&self) -> bool {
        false
    }

    fn progress(&self) -> &'static str {
        "asking"
    }

    fn starts_program(&self) -> bool {
        true
    }
}

impl FrameSource for TestLoop {
    fn record(&mut self, _: Option<&PcLock>, length: Duration) -> Result<SourceRun, Failure> {
        let series = test_loop::run(length, Pace::Due)
            .map_err(|reason| Failure::new(Kind::Internal, reason))?;
        Ok(SourceRun::of(RunSource::TestLoop, CollectedFrames::from(series)))
    }

    fn progress(&self) -> &'static str {
        "running the test loop"
    }

    fn starts_program(&self) -> bool {
        true
    }

    fn is_of_host(&self) -> bool {
        true
    }
}
