//! `frevin run import` and `frevin run figures`: logs of frame times.

use std::path::{Path, PathBuf};

use clap::Args;
use frevin_core::frames::{
    Holds, LogError, LogOptions, LogReading, Metrics, RunConditions, TimeUnit, read_log,
};
use frevin_core::profile::{ProfileName, SceneName};
use frevin_ledger::{FrameCollector, NewVisit, RunSource, VisitRecord};
use serde::Serialize;

use super::show::show_figures;
use super::{ConditionArgs, RUN_HEADINGS, run_row, show_conditions};
use crate::failure::{Failure, Kind};
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, dim, good, warn};
use crate::workshop::log_file;
use crate::workshop::measure::{TalliedFrames, ToldConditions, run_of};

/// How to read a log, where that is not found by itself.
#[derive(Debug, Args)]
#[command(next_help_heading = "Reading logs")]
pub(super) struct LogArgs {
    /// The heading of the column to read, or its number where there are no headings [default: found by the words in the headings]
    #[arg(long, value_name = "NAME")]
    column: Option<String>,
    /// The unit that its numbers are in [default: found by the heading, or by their size]
    #[arg(long, value_name = "ms|us|ns|s")]
    unit: Option<TimeUnit>,
    /// What it holds: how long each frame took, or when each was shown
    #[arg(long, value_name = "frame-times|time-stamps", value_parser = holds)]
    holds: Option<Holds>,
    /// Only rows that hold this text in this column, where the log is of several programs or displays; may be given several times
    #[arg(long, value_name = "COLUMN=TEXT", value_parser = only)]
    only: Vec<(String, String)>,
}

impl LogArgs {
    pub(super) fn options(&self) -> LogOptions {
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
    #[command(flatten)]
    told: ConditionArgs,
}

/// Show every figure of logs of frame times, and keep nothing
#[derive(Debug, Args)]
pub(crate) struct FiguresArgs {
    /// Logs with a row for each frame, or JSON; packed by gzip or zstd or not
    #[arg(required = true)]
    files: Vec<PathBuf>,
    #[command(flatten)]
    log: LogArgs,
}

#[derive(Debug, Serialize)]
struct FiguresReport {
    logs: Vec<LogFigures>,
}

#[derive(Debug, Serialize)]
struct LogFigures {
    #[serde(flatten)]
    log: ImportedFile,
    metrics: Metrics,
    conditions: RunConditions,
}

#[derive(Debug, Serialize)]
pub(super) struct ImportReport {
    pub(super) visit: VisitRecord,
    pub(super) files: Vec<ImportedFile>,
    /// Files that came and are no logs, each with the reason.
    pub(super) passed_over: Vec<String>,
}

#[derive(Debug, Serialize)]
pub(super) struct ImportedFile {
    file: String,
    separator: Option<char>,
    /// What was taken for what, and why.
    taken: Vec<String>,
    rows: u64,
    rejected: u64,
    rejected_rows: Vec<frevin_core::frames::RejectedRow>,
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

pub(super) fn import(session: &Session, args: &ImportArgs) -> Result<Answer, Failure> {
    let mut ledger = session.ledger()?;
    ledger.scene(&args.scene)?;
    if args.warm_up >= args.files.len() {
        let message = "all files are warm-up: at least one run has to count";
        return Err(Failure::new(Kind::Usage, message));
    }
    let options = args.log.options();
    let told = args.told.told();
    let (mut runs, mut files) = (Vec::new(), Vec::new());
    // Every file is read before anything is kept: one bad file keeps nothing of the visit.
    for file in &args.files {
        let (frames, reading) = read(session, file, &options)?;
        // The name alone: the path to it is the owner's own business.
        let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
        runs.push(run_of(RunSource::LogFile(name), frames, runs.len() < args.warm_up, &told));
        files.push(ImportedFile::new(file.display().to_string(), reading));
    }
    let id = ledger.add_visit(&NewVisit {
        scene: &args.scene,
        pc: None,
        state_name: &args.state,
        recorded_at: session.clock.now(),
        tweaks: &[],
        surroundings: None,
        runs: &runs,
    })?;
    Ok(Answer::done(&ImportReport { visit: ledger.visit(id)?, files, passed_over: Vec::new() }))
}

impl ImportedFile {
    pub(super) fn new(file: String, reading: LogReading) -> Self {
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

/// Reads a log file: its frames, and what was taken for what.
pub(super) fn read(
    session: &Session,
    file: &Path,
    options: &LogOptions,
) -> Result<(TalliedFrames, LogReading), Failure> {
    let name = file.display();
    let (source, progress) = log_file::open(session, file)?;
    let mut collector = FrameCollector::new(session.home());
    let reading = read_log(source, options, &mut |frames| collector.push(frames));
    progress.finish_and_clear();
    let reading = reading.map_err(|error| {
        let failure = Failure::new(Kind::BadInput, format!("{name}: {error}"));
        let is_unclear = matches!(
            error,
            LogError::SeveralColumns { .. }
                | LogError::UnknownColumn { .. }
                | LogError::NoHeadings { .. }
                | LogError::UnknownUnit { .. }
        );
        let failure = if is_unclear {
            let shown = log_file::first_lines(session, file);
            failure.details(shown.into_iter().map(|line| format!("it begins: {line}")))
        } else {
            failure
        };
        match error {
            LogError::NoSuchColumn { .. }
            | LogError::SeveralColumns { .. }
            | LogError::UnknownColumn { .. } => failure.hint("name one of them with --column"),
            LogError::NoHeadings { .. } => {
                failure.hint("give the number of the one that is meant: --column 1 is the first")
            }
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
            LogError::Unreadable { .. } => failure.hint("was it written to its end?"),
            LogError::SeveralLists { .. } => {
                failure.hint("name the list that holds frame times with --column")
            }
            LogError::DocumentTooLong { .. } => {
                failure.hint("write it as JSON Lines, an object on each line")
            }
            LogError::OnlyRates { .. } => failure.hint("record frame times"),
            _ => failure,
        }
        .hint("nothing was kept")
    })?;
    let (frames, metrics, shown) = collector.finish()?;
    Ok((TalliedFrames { frames, metrics, shown }, reading))
}

pub(super) fn figures(session: &Session, args: &FiguresArgs) -> Result<Answer, Failure> {
    let options = args.log.options();
    let mut logs = Vec::new();
    for file in &args.files {
        let (frames, reading) = read(session, file, &options)?;
        let name = file.display().to_string();
        let run =
            run_of(RunSource::LogFile(name.clone()), frames, false, &ToldConditions::default());
        let log = ImportedFile::new(name, reading);
        logs.push(LogFigures { log, metrics: run.metrics, conditions: run.conditions });
    }
    Ok(Answer::yes(&FiguresReport { logs }))
}

impl ImportedFile {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("{}: {} rows", self.file, self.rows));
        self.taken.iter().for_each(|taken| page.line(dim(format_args!("  {taken}"))));
        if self.rejected > 0 {
            page.line(warn(format_args!("  {} without a frame time, left out:", self.rejected)));
            for row in &self.rejected_rows {
                page.line(format_args!("    line {}: {}", row.line, row.reason));
            }
        }
    }
}

impl Report for FiguresReport {
    fn show(&self, page: &mut Page) {
        for figures in &self.logs {
            figures.log.show(page);
            show_figures(page, &figures.metrics, Some(&figures.conditions));
            page.blank();
        }
    }
}

impl Report for ImportReport {
    fn show(&self, page: &mut Page) {
        self.files.iter().for_each(|file| file.show(page));
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
        show_conditions(page, visit);
    }
}
