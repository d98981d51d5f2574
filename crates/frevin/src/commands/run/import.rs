//! `frevin run import` and `frevin run figures`: logs of frame times.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::Args;
use frevin_core::ids::{SceneName, StateName};
use frevin_core::visits::VisitRecord;
use frevin_frames::{ColumnKind, LogOptions, Metrics, RunConditions, TimeUnit};
use schemars::JsonSchema;
use serde::Serialize;

use super::ConditionArgs;
use super::show::show_figures;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::sources::{GivenLogs, TakenLog, know_scene};
use crate::measure::{DeclaredConditions, VisitPlan, log_file, refuse_known_frames, visit};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::visits::{RUN_HEADINGS, run_row, show_conditions};
use crate::view::{Page, Table, dim, good, warn};

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
    holds: Option<ColumnKind>,
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
    state: StateName,
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

#[derive(Debug, JsonSchema, Serialize)]
struct FiguresReport {
    logs: Vec<LogFigures>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct LogFigures {
    #[serde(flatten)]
    log: ImportedFile,
    metrics: Metrics,
    conditions: RunConditions,
}

#[derive(Debug, JsonSchema, Serialize)]
pub(super) struct ImportReport {
    pub(super) visit: VisitRecord,
    pub(super) files: Vec<ImportedFile>,
    /// Files that came and are no logs, each with the reason.
    pub(super) passed_over: Vec<String>,
}

#[derive(Debug, JsonSchema, Serialize)]
pub(super) struct ImportedFile {
    file: String,
    separator: Option<char>,
    /// What was taken for what, and why.
    taken: Vec<String>,
    rows: u64,
    rejected: u64,
    rejected_rows: Vec<frevin_frames::RejectedRow>,
}

fn holds(text: &str) -> Result<ColumnKind, String> {
    match text {
        "frame-times" => Ok(ColumnKind::FrameTimes),
        "time-stamps" => Ok(ColumnKind::TimeStamps),
        _ => Err("write frame-times or time-stamps".to_owned()),
    }
}

fn only(text: &str) -> Result<(String, String), String> {
    let (column, text) = text.split_once('=').ok_or("write COLUMN=TEXT")?;
    Ok((column.to_owned(), text.to_owned()))
}

pub(super) fn import(context: &Context, args: &ImportArgs) -> Result<Outcome, Failure> {
    let mut ledger = context.ledger()?;
    know_scene(context, &mut ledger, &args.scene)?;
    if args.warm_up >= args.files.len() {
        let message = "all files are warm-up: at least one run has to count";
        return Err(Failure::new(Kind::Usage, message));
    }
    // Every file is read, and known not to be a copy, before anything is kept.
    let mut logs = GivenLogs::read(context, &args.files, &args.log.options())
        .map_err(|failure| failure.hint("nothing was kept"))?;
    let mut seen: BTreeMap<&str, &Path> = BTreeMap::new();
    for (digest, file) in logs.digests()?.into_iter().zip(&args.files) {
        if let Some((visit, run)) = ledger.run_with_frames(digest)? {
            return Err(refuse_known_frames(&visit.state_name, visit.id, run.0)
                .detail(format!("they are read from {}", file.display())));
        }
        if let Some(first) = seen.insert(digest, file) {
            let message =
                format!("{} holds the same frames as {}", file.display(), first.display());
            return Err(Failure::new(Kind::BadInput, message).hint("nothing was kept"));
        }
    }
    let declared = args.told.declared();
    let plan = VisitPlan {
        scene: &args.scene,
        state_name: &args.state,
        runs: args.files.len() - args.warm_up,
        warm_up: Some(args.warm_up),
        length: Duration::ZERO,
        despite_waiting: false,
        declared: &declared,
        ping: None,
        ping_runs: None,
        made_for: None,
    };
    let id = visit(context, &mut ledger, None, &mut logs, &plan)?;
    let files = logs.taken.into_iter().map(ImportedFile::new).collect();
    Ok(Outcome::done(&ImportReport { visit: ledger.visit(id)?, files, passed_over: Vec::new() }))
}

impl ImportedFile {
    pub(super) fn new(log: TakenLog) -> Self {
        let reading = log.reading;
        Self {
            file: log.file.display().to_string(),
            separator: reading.separator,
            taken: reading.taken,
            rows: reading.rows,
            rejected: reading.rejected,
            rejected_rows: reading.rejected_rows,
        }
    }
}

pub(super) fn figures(context: &Context, args: &FiguresArgs) -> Result<Outcome, Failure> {
    let options = args.log.options();
    let mut logs = Vec::new();
    for file in &args.files {
        let (frames, reading) = log_file::read(context, file, &options)?;
        let readings = reading.readings.clone();
        let conditions = DeclaredConditions::default().with(frames.detected, readings, None, false);
        let log = ImportedFile::new(TakenLog { file: file.clone(), reading });
        logs.push(LogFigures { log, metrics: frames.metrics, conditions });
    }
    Ok(Outcome::yes(&FiguresReport { logs }))
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

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<ImportReport>("run import");
    schemas.prints::<ImportReport>("run record");
    schemas.prints::<FiguresReport>("run figures");
}

impl View for FiguresReport {
    fn show(&self, page: &mut Page) {
        for figures in &self.logs {
            figures.log.show(page);
            show_figures(page, &figures.metrics, Some(&figures.conditions));
            page.blank();
        }
    }
}

impl View for ImportReport {
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
