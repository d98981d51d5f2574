//! `frevin run`

mod export;
mod from_folder;
mod import;
mod show;

use std::path::PathBuf;

use clap::{Args, Subcommand};
use frevin_core::frames::Metrics;
use frevin_core::profile::{ProfileName, SceneName};
use frevin_ledger::{Run, RunFilter, RunId, VisitRecord};
use serde::Serialize;

use self::export::ExportArgs;
use self::import::{FiguresArgs, ImportArgs, LogArgs};
use crate::failure::Failure;
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, count, dim, fps, good, warn, when};
use crate::workshop::around::before_and_after;
use crate::workshop::measure::{self, Recording, ToldConditions, marks};
use crate::workshop::network::Target;

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
    Figures(FiguresArgs),
    Export(ExportArgs),
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
    /// Record a running program on this PC, by what Windows itself traces of it: its file's name, like
    /// `game.exe`. Nothing is put into the program
    #[arg(long, value_name = "NAME", conflicts_with_all = ["from_folder", "test_loop"])]
    process: Option<String>,
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
    /// Also time how this address answers, before and after; with :PORT a connection is timed, else an
    /// echo
    #[arg(long, value_name = "ADDRESS")]
    ping: Option<String>,
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
    #[command(flatten)]
    told: ConditionArgs,
}

/// Under what a run is recorded, where nothing else can tell.
#[derive(Debug, Args)]
#[command(next_help_heading = "Conditions, marked on the runs")]
struct ConditionArgs {
    /// The PC runs on its battery [default: what the PC says, where it is known]
    #[arg(long)]
    on_battery: bool,
    /// A video is being recorded
    #[arg(long)]
    while_recording: bool,
    /// The version of the game
    #[arg(long, value_name = "TEXT")]
    game_version: Option<String>,
}

impl ConditionArgs {
    fn told(&self) -> ToldConditions {
        ToldConditions {
            on_battery: self.on_battery.then_some(true),
            while_recording: self.while_recording.then_some(true),
            game_version: self.game_version.clone(),
        }
    }
}

/// A visit that was recorded.
#[derive(Debug, Serialize)]
pub(crate) struct VisitReport {
    pub(crate) visit: VisitRecord,
}

#[derive(Debug, Serialize)]
struct RunList {
    visits: Vec<VisitRecord>,
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
            let ping = args.ping.as_deref().map(Target::find).transpose()?;
            let recording = Recording {
                scene: &scene,
                state_name: &args.state,
                runs: args.runs.into(),
                warm_up: args.warm_up.map(usize::from),
                seconds: args.seconds.into(),
                despite_waiting: args.despite_waiting,
                told: &args.told.told(),
                ping: ping.as_ref(),
            };
            let id = if args.test_loop {
                measure::record_test_loop(session, &mut ledger, &recording)?
            } else if let Some(process) = &args.process {
                measure::record_process(session, &mut ledger, &recording, process)?
            } else {
                measure::record(session, &mut session.rehearsal_pc()?, &mut ledger, &recording)?
            };
            Ok(Answer::done(&VisitReport { visit: ledger.visit(id)? }))
        }
        RunCommand::Import(args) => import::import(session, args),
        RunCommand::Figures(args) => import::figures(session, args),
        RunCommand::Export(args) => export::export(session, args),
        RunCommand::List { scene, state } => {
            let filter = RunFilter { scene: scene.clone(), state_name: state.clone() };
            Ok(Answer::yes(&RunList { visits: session.ledger()?.visits(&filter)? }))
        }
        RunCommand::Show { run } => show::show(session, RunId(*run)),
    }
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

/// What the PC was like around a visit, and under what its runs were recorded.
fn show_conditions(page: &mut Page, visit: &VisitRecord) {
    if let Some(around) = &visit.surroundings {
        page.heading("The PC around it");
        let mut table = Table::new(["", ">before", ">after"]);
        before_and_after(around).iter().for_each(|row| table.row(row.row()));
        page.table(table);
    }
    let marked = visit.runs.iter().filter(|run| !run.is_warm_up);
    for (run, mark) in marked
        .flat_map(|run| run.conditions.iter().flat_map(marks).map(move |mark| (run.id.0, mark)))
    {
        page.paragraph(0, &warn(format_args!("run {run}: {mark}")));
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
        show_conditions(page, visit);
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
