//! `frevin run`

mod from_folder;

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use frevin_core::frames::{
    FrameCap, FrameSeries, Holds, LogError, LogOptions, LogReading, Metrics, TimeUnit, frame_cap,
    read_log,
};
use frevin_core::profile::{ProfileName, SceneName};
use frevin_ledger::{NewVisit, Run, RunFilter, RunId, RunSource, VisitId, VisitRecord};
use serde::Serialize;

use super::output::Output;
use crate::failure::{Failure, Kind};
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, count, dim, fps, frame_line, good, histogram, warn, when};
use crate::workshop::log_file;
use crate::workshop::measure::{self, Recording, imported_run};

/// Recordings of a scene: frame times and the conditions they were taken in
#[derive(Debug, Subcommand)]
pub(crate) enum RunCommand {
    Record(RecordArgs),
    Import(ImportArgs),
    /// List what is recorded
    List {
        /// Only this scene
        #[arg(long)]
        scene: Option<SceneName>,
        /// Only this state
        #[arg(long, value_name = "NAME")]
        state: Option<ProfileName>,
    },
    /// Show every figure of a run
    Show {
        /// The run's number
        run: i64,
    },
    /// Write every frame of a run for other tools
    Export {
        /// The run's number
        run: i64,
        /// How: csv, with a heading, or jsonl, an object on each line
        #[arg(long, default_value = "csv", value_parser = ["csv", "jsonl"])]
        format: String,
        /// Where to write it [default: standard output]
        #[arg(long)]
        file: Option<PathBuf>,
    },
}

/// Record a visit: some runs of a scene in the state that the PC is in
#[derive(Debug, Args)]
pub(crate) struct RecordArgs {
    /// The scene
    #[arg(long, required_unless_present = "test_loop", conflicts_with = "test_loop")]
    scene: Option<SceneName>,
    /// Run a workload of Frevin's own on this PC, paced like a game, and record that: a scene of
    /// its own, `test-loop`
    #[arg(long, conflicts_with = "from_folder")]
    test_loop: bool,
    /// A name for the state that the PC is in, like `before` or `quiet-services`
    #[arg(long, value_name = "NAME")]
    state: ProfileName,
    /// Runs that count
    #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u16).range(1..=50))]
    runs: u16,
    /// Runs before them that do not count [default: 1 after a restart, else 0]
    #[arg(long, value_parser = clap::value_parser!(u16).range(0..=10))]
    warm_up: Option<u16>,
    /// Length of a run
    #[arg(long, default_value_t = 60, value_parser = clap::value_parser!(u16).range(1..=3600))]
    seconds: u16,
    /// Record although something still waits for a restart
    #[arg(long)]
    despite_waiting: bool,
    /// Wait for the logs that another program writes into this folder, each a run, instead of
    /// recording on a rehearsal PC
    #[arg(long, value_name = "FOLDER", conflicts_with = "seconds")]
    from_folder: Option<PathBuf>,
    /// How long a log has not changed when it is finished, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 3, requires = "from_folder")]
    unchanged_for: u16,
    /// How long to wait for all of the logs, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 3600, requires = "from_folder")]
    give_up_after: u32,
    #[command(flatten)]
    log: LogArgs,
}

/// How to read a log, where that is not found by itself.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading logs")]
struct LogArgs {
    /// The heading of the column to read, or its number where there are no headings [default: found by the words in the headings]
    #[arg(long, value_name = "NAME")]
    column: Option<String>,
    /// The unit that its numbers are in [default: found by the heading, or by their size]
    #[arg(long, value_name = "ms|us|ns|s")]
    unit: Option<TimeUnit>,
    /// What it holds: how long each frame took, or when each was shown
    #[arg(long, value_name = "frame-times|time-stamps", value_parser = holds)]
    holds: Option<Holds>,
    /// Only rows that hold this text in this column, where the log is of several programs
    #[arg(long, value_name = "COLUMN=TEXT", value_parser = only)]
    only: Option<(String, String)>,
}

impl LogArgs {
    fn options(&self) -> LogOptions {
        LogOptions {
            column: self.column.clone(),
            unit: self.unit,
            holds: self.holds,
            only: self.only.clone(),
        }
    }
}

/// Import logs of frame times as a visit: each file a run
#[derive(Debug, Args)]
pub(crate) struct ImportArgs {
    /// Logs with a row for each frame, or JSON; packed by gzip or zstd or not
    #[arg(required = true)]
    files: Vec<PathBuf>,
    #[command(flatten)]
    log: LogArgs,
    /// The scene
    #[arg(long)]
    scene: SceneName,
    /// A name for the state that the PC was in
    #[arg(long, value_name = "NAME")]
    state: ProfileName,
    /// How many of the files, from the first, are warm-up and do not count
    #[arg(long, default_value_t = 0)]
    warm_up: usize,
}

/// A visit that was recorded.
#[derive(Debug, Serialize)]
pub(crate) struct VisitReport {
    pub(crate) visit: VisitRecord,
}

#[derive(Debug, Serialize)]
struct ImportReport {
    visit: VisitRecord,
    files: Vec<ImportedFile>,
    /// Files that came and are no logs, each with the reason.
    passed_over: Vec<String>,
}

#[derive(Debug, Serialize)]
struct ImportedFile {
    file: String,
    separator: Option<char>,
    /// What was taken for what, and why.
    taken: Vec<String>,
    rows: u64,
    rejected: u64,
    rejected_rows: Vec<frevin_core::frames::RejectedRow>,
}

#[derive(Debug, Serialize)]
struct ExportReport {
    run: i64,
    frames: usize,
    #[serde(flatten)]
    output: Output,
}

#[derive(Debug, Serialize)]
struct RunList {
    visits: Vec<VisitRecord>,
}

#[derive(Debug, Serialize)]
struct RunReport {
    scene: SceneName,
    state_name: ProfileName,
    visit: VisitId,
    #[serde(flatten)]
    run: Run,
    /// The cap that it looks to have been under.
    frame_cap: Option<FrameCap>,
    #[serde(skip)]
    series: FrameSeries,
}

pub(crate) fn run(session: &Session, command: &RunCommand) -> Result<Answer, Failure> {
    match command {
        RunCommand::Record(args) => {
            let scene = match &args.scene {
                Some(scene) => scene.clone(),
                None => measure::test_loop_scene()?.name,
            };
            if let Some(folder) = &args.from_folder {
                return from_folder::record(session, args, &scene, folder);
            }
            let mut ledger = session.ledger()?;
            let recording = Recording {
                scene: &scene,
                state_name: &args.state,
                runs: args.runs.into(),
                warm_up: args.warm_up.map(usize::from),
                seconds: args.seconds.into(),
                despite_waiting: args.despite_waiting,
            };
            let id = if args.test_loop {
                measure::record_test_loop(session, &mut ledger, &recording)?
            } else {
                measure::record(session, &mut session.rehearsal_pc()?, &mut ledger, &recording)?
            };
            Ok(Answer::done(&VisitReport { visit: ledger.visit(id)? }))
        }
        RunCommand::Import(args) => import(session, args),
        RunCommand::Export { run, format, file } => export(session, *run, format, file.as_deref()),
        RunCommand::List { scene, state } => {
            let filter = RunFilter { scene: scene.clone(), state_name: state.clone() };
            Ok(Answer::yes(&RunList { visits: session.ledger()?.visits(&filter)? }))
        }
        RunCommand::Show { run } => {
            let ledger = session.ledger()?;
            let id = RunId(*run);
            let (visit, run) = ledger.run(id)?;
            let series = ledger.frames(id)?;
            Ok(Answer::yes(&RunReport {
                frame_cap: frame_cap(&series),
                scene: visit.scene,
                state_name: visit.state_name,
                visit: visit.id,
                run,
                series,
            }))
        }
    }
}

fn export(
    session: &Session,
    run: i64,
    format: &str,
    file: Option<&Path>,
) -> Result<Answer, Failure> {
    let series = session.ledger()?.frames(RunId(run))?;
    let text = match format {
        "jsonl" => rows(&series, "", |frame, shown_ms, frame_ms| {
            format!("{{\"frame\":{frame},\"shown_ms\":{shown_ms},\"frame_ms\":{frame_ms}}}\n")
        }),
        _ => rows(&series, "frame,shown_ms,frame_ms\n", |frame, shown_ms, frame_ms| {
            format!("{frame},{shown_ms},{frame_ms}\n")
        }),
    };
    let bytes = text.clone().into_bytes();
    let output = Output::write(file, text, &bytes)?;
    Ok(Answer::yes(&ExportReport { run, frames: series.frame_ms().len(), output }))
}

/// A row for each frame: its number from 1, when it had been shown for its whole time, counted from
/// the beginning of the run, and how long that was. Numbers are written so that they read back the same.
fn rows(series: &FrameSeries, heading: &str, row: impl Fn(usize, f64, f64) -> String) -> String {
    let mut text = heading.to_owned();
    let mut shown_ms = 0.0;
    for (index, frame_ms) in series.frame_ms().iter().enumerate() {
        shown_ms += frame_ms;
        text.push_str(&row(index + 1, shown_ms, *frame_ms));
    }
    text
}

fn holds(text: &str) -> Result<Holds, String> {
    match text {
        "frame-times" => Ok(Holds::FrameTimes),
        "time-stamps" => Ok(Holds::TimeStamps),
        _ => Err("write frame-times or time-stamps".to_owned()),
    }
}

fn only(text: &str) -> Result<(String, String), String> {
    let (column, text) = text.split_once('=').ok_or("write COLUMN=TEXT")?;
    Ok((column.to_owned(), text.to_owned()))
}

fn import(session: &Session, args: &ImportArgs) -> Result<Answer, Failure> {
    let mut ledger = session.ledger()?;
    ledger.scene(&args.scene)?;
    if args.warm_up >= args.files.len() {
        let message = "all files are warm-up: at least one run has to count";
        return Err(Failure::new(Kind::Usage, message));
    }
    let options = args.log.options();
    // Every file is read before anything is kept: one bad file keeps nothing of the visit.
    let readings = args
        .files
        .iter()
        .map(|file| Ok((file.display().to_string(), read(file, &options)?)))
        .collect::<Result<Vec<_>, Failure>>()?;
    let runs: Vec<_> = readings
        .iter()
        .enumerate()
        .map(|(index, (file, reading))| {
            // The name alone: the path to it is the owner's own business.
            let name = Path::new(file).file_name().unwrap_or_default().to_string_lossy();
            imported_run(name.into_owned(), reading.series.clone(), index < args.warm_up)
        })
        .collect();
    let id = ledger.add_visit(&NewVisit {
        scene: &args.scene,
        pc: None,
        state_name: &args.state,
        recorded_at: session.clock.now(),
        tweaks: &[],
        runs: &runs,
    })?;
    let files = readings.into_iter().map(|(file, reading)| ImportedFile::new(file, reading));
    let (visit, files) = (ledger.visit(id)?, files.collect());
    Ok(Answer::done(&ImportReport { visit, files, passed_over: Vec::new() }))
}

impl ImportedFile {
    fn new(file: String, reading: LogReading) -> Self {
        Self {
            file,
            separator: reading.separator,
            taken: reading.taken,
            rows: reading.rows,
            rejected: reading.rejected,
            rejected_rows: reading.rejected_rows,
        }
    }
}

fn read(file: &Path, options: &LogOptions) -> Result<LogReading, Failure> {
    let name = file.display();
    let bytes = log_file::read(file)?;
    read_log(&bytes, options).map_err(|error| {
        let failure = Failure::new(Kind::BadInput, format!("{name}: {error}"));
        match error {
            LogError::NoSuchColumn { .. }
            | LogError::SeveralColumns { .. }
            | LogError::UnknownColumn { .. } => failure.hint("name one of them with --column"),
            LogError::SeveralPrograms { column, .. } => {
                failure.hint(format!("choose one: --only \"{column}=TEXT\""))
            }
            LogError::UnknownUnit { .. } => failure.hint("say --unit ms, us, ns or s"),
            LogError::UnclearComma { .. } => {
                failure.hint("say --column 1 or --column 2 where it separates; else write points")
            }
            LogError::NoTable { .. } | LogError::NoNumbers => {
                failure.hint("a log has a row for each frame, with its time in it")
            }
            LogError::TooManyRejected { .. } => {
                failure.hint("is that the right column, and the right --unit?")
            }
            LogError::Empty | LogError::NoFrames => failure.hint("was the recording ever stopped?"),
            _ => failure,
        }
        .hint("nothing was imported")
    })
}

/// The rows of a table of runs.
const RUN_HEADINGS: [&str; 8] =
    [">run", "", ">average", ">1% low", ">0.1% low", ">longest", ">stutters", ">length"];

fn run_row(run: &Run) -> [String; 8] {
    let Metrics { average_fps, low_1_percent_fps, low_01_percent_fps, .. } = run.metrics;
    let row = [
        run.id.0.to_string(),
        if run.is_warm_up { "warm-up".to_owned() } else { String::new() },
        fps(average_fps),
        fps(low_1_percent_fps),
        fps(low_01_percent_fps),
        format!("{:.0} ms", run.metrics.longest_frame_ms),
        format!("{:.1}/min", run.metrics.stutter.events_per_minute),
        format!("{:.0} s", run.metrics.seconds),
    ];
    if run.is_warm_up {
        row.map(|cell| if cell.is_empty() { cell } else { dim(cell) })
    } else {
        row
    }
}

impl Report for VisitReport {
    fn show(&self, page: &mut Page) {
        let visit = &self.visit;
        let counted = visit.runs.iter().filter(|run| !run.is_warm_up).count();
        page.line(format_args!(
            "{} Visit {} of `{}` in {}: {} in FPS.",
            good("Recorded."),
            visit.id.0,
            visit.state_name,
            visit.scene,
            count(counted, "run"),
        ));
        let mut table = Table::new(RUN_HEADINGS);
        visit.runs.iter().for_each(|run| table.row(run_row(run)));
        page.table(table);
    }
}

impl Report for ImportReport {
    fn show(&self, page: &mut Page) {
        for file in &self.files {
            page.line(format_args!("{}: {} rows", file.file, file.rows));
            file.taken.iter().for_each(|taken| page.line(dim(format_args!("  {taken}"))));
            if file.rejected > 0 {
                page.line(warn(format_args!(
                    "  {} without a frame time, left out:",
                    file.rejected
                )));
                for row in &file.rejected_rows {
                    page.line(format_args!("    line {}: {}", row.line, row.reason));
                }
            }
        }
        for file in &self.passed_over {
            page.line(warn(format_args!("passed over {file}")));
        }
        let mut table = Table::new(RUN_HEADINGS);
        self.visit.runs.iter().for_each(|run| table.row(run_row(run)));
        let visit = &self.visit;
        page.line(format_args!(
            "{} Visit {} of `{}` in {}, in FPS:",
            good("Imported."),
            visit.id.0,
            visit.state_name,
            visit.scene
        ));
        page.table(table);
    }
}

impl Report for ExportReport {
    fn show(&self, page: &mut Page) {
        self.output.show(page);
    }
}

impl Report for RunList {
    fn show(&self, page: &mut Page) {
        if self.visits.is_empty() {
            page.line("Nothing is recorded: `frevin run record` or `frevin run import` does.");
            return;
        }
        for visit in &self.visits {
            page.heading(format_args!(
                "Visit {} of `{}` in {}  {}",
                visit.id.0,
                visit.state_name,
                visit.scene,
                dim(when(visit.recorded_at)),
            ));
            let mut table = Table::new(RUN_HEADINGS);
            visit.runs.iter().for_each(|run| table.row(run_row(run)));
            page.table(table);
        }
    }
}

impl Report for RunReport {
    fn show(&self, page: &mut Page) {
        const PLOT_COLUMNS: usize = 80;
        let m = &self.run.metrics;
        let warm_up = if self.run.is_warm_up { ", a warm-up" } else { "" };
        let (id, visit) = (self.run.id.0, self.visit.0);
        page.heading(format_args!(
            "Run {id} of `{}` in {} (visit {visit}{warm_up})",
            self.state_name, self.scene
        ));
        let source = match &self.run.source {
            RunSource::Rehearsal => "recorded on a rehearsal PC".to_owned(),
            RunSource::TestLoop => "Frevin's own test loop".to_owned(),
            RunSource::LogFile(name) => format!("imported from {name}"),
        };
        page.pairs([("source", source), ("frames", format!("{} in {:.1} s", m.frames, m.seconds))]);
        if let Some(cap) = &self.frame_cap {
            let (cap_fps, share) = (cap.fps, cap.share * 100.0);
            page.line(warn(format_args!(
                "It looks to have been under a frame cap: {share:.0} % of the frames make just {cap_fps:.1} a second."
            )));
        }
        page.blank();
        page.pairs([("average FPS", fps(m.average_fps)), ("1% low FPS", fps(m.low_1_percent_fps))]);
        page.blank();
        page.pairs([
            ("median FPS", fps(m.median_fps)),
            (
                "0.1% low FPS",
                format!("{}  {}", fps(m.low_01_percent_fps), dim("unstable from run to run")),
            ),
            ("average of the slowest 1 %", fps(m.slowest_1_percent_average_fps)),
            ("average of the slowest 0.1 %", fps(m.slowest_01_percent_average_fps)),
            ("1% low by time", fps(m.time_weighted_low_1_percent_fps)),
            ("longest frame", format!("{:.1} ms", m.longest_frame_ms)),
            ("standard deviation", format!("{:.2} ms", m.standard_deviation_ms)),
            (
                "pacing",
                format!("{:.3}  {}", m.pacing, dim("change from frame to frame, of the mean")),
            ),
            (
                "stutters",
                format!(
                    "{} ({:.1} a minute), {:.2} % of the time",
                    m.stutter.events,
                    m.stutter.events_per_minute,
                    100.0 * m.stutter.excess_share
                ),
            ),
        ]);
        page.heading("Longest frames over time");
        page.line(format_args!("  {}", frame_line(self.series.frame_ms(), PLOT_COLUMNS)));
        let label = format!("0 to {:.0} s, highest {:.0} ms", m.seconds, m.longest_frame_ms);
        page.line(format_args!("  {}", dim(label)));
        page.heading("Frames by length");
        let rows = histogram(self.series.frame_ms(), 10, 50);
        page.pairs(rows);
    }
}
