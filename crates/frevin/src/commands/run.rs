//! `frevin run`

mod export;
mod import;
mod show;

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::ids::{SceneName, StateName};
use frevin_core::visits::{RunId, VisitId};
use frevin_ledger::VisitFilter;
use frevin_pc::Pc;

use self::export::ExportArgs;
use self::import::{FiguresArgs, ImportArgs, ImportReport, ImportedFile, LogArgs};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::sources::{LogsToCome, RehearsalScene, TestLoop, TracedProgram, scenes_of};
use crate::measure::{DeclaredConditions, VisitPlan, visit};
use crate::operations::network::Target;
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::visits::{RunList, VisitReport};

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
        state: Option<StateName>,
        /// Each run of each visit
        #[arg(long)]
        runs: bool,
    },
    /// Show every figure of a run
    Show {
        /// The run's number
        run: i64,
    },
    /// Say that a visit does not count: it is left out of every comparison, and stays to be looked at
    Void {
        /// The visit's number
        visit: i64,
        /// Why
        #[arg(long, value_name = "TEXT", default_value = "the owner said so")]
        reason: String,
    },
    /// Give the state of a visit another name
    Label {
        /// The visit's number
        visit: i64,
        /// The name
        state: StateName,
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
    #[arg(long, value_name = "NAME", alias = "process", conflicts_with_all = ["from_folder", "test_loop"])]
    program: Option<String>,
    /// A name for the state that the PC is in, like `before` or `quiet-services`
    #[arg(long, value_name = "NAME")]
    state: StateName,
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
    /// Record although the PC does not yet behave by all that is in force; the runs are marked
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
    fn declared(&self) -> DeclaredConditions {
        DeclaredConditions {
            on_battery: self.on_battery.then_some(true),
            while_recording: self.while_recording.then_some(true),
            game_version: self.game_version.clone(),
        }
    }
}

pub(crate) fn run(context: &Context, command: &RunCommand) -> Result<Outcome, Failure> {
    match command {
        RunCommand::Record(args) => record(context, args),
        RunCommand::Import(args) => import::import(context, args),
        RunCommand::Figures(args) => import::figures(context, args),
        RunCommand::Export(args) => export::export(context, args),
        RunCommand::List { scene, state, runs } => {
            let filter = VisitFilter {
                scene: scene.clone(),
                state_name: state.clone(),
                is_the_owners: false,
            };
            let visits = context.ledger()?.visits(&filter)?;
            Ok(Outcome::yes(&RunList { visits, every_run: *runs }))
        }
        RunCommand::Show { run } => show::show(context, RunId(*run)),
        RunCommand::Void { visit, reason } => {
            let mut ledger = context.ledger()?;
            ledger.void_visit(VisitId(*visit), reason)?;
            Ok(Outcome::done(&RunList {
                visits: vec![ledger.visit(VisitId(*visit))?],
                every_run: true,
            }))
        }
        RunCommand::Label { visit, state } => {
            let mut ledger = context.ledger()?;
            ledger.label_visit(VisitId(*visit), state)?;
            Ok(Outcome::done(&RunList {
                visits: vec![ledger.visit(VisitId(*visit))?],
                every_run: true,
            }))
        }
    }
}

fn record(context: &Context, args: &RecordArgs) -> Result<Outcome, Failure> {
    let mut ledger = context.ledger()?;
    let ping = args.ping.as_deref().map(Target::find).transpose()?;
    let declared = args.told.declared();
    let test_loop = TestLoop::scene()?;
    let scene = args.scene.as_ref().unwrap_or(&test_loop.name);
    let plan = VisitPlan {
        scene,
        state_name: &args.state,
        runs: args.runs.into(),
        warm_up: args.warm_up.map(usize::from),
        length: Duration::from_secs(args.seconds.into()),
        despite_waiting: args.despite_waiting,
        declared: &declared,
        ping: ping.as_ref(),
        ping_runs: None,
        made_for: None,
    };
    if let Some(folder) = &args.from_folder {
        ledger.scene(scene)?;
        let mut logs = LogsToCome::new(
            context,
            folder,
            args.log.options(),
            Duration::from_secs(args.unchanged_for.into()),
            Duration::from_secs(args.give_up_after.into()),
        );
        let mut pc = context.pc_if_named()?;
        let id = visit(context, &mut ledger, meant(&mut pc), &mut logs, &plan)?;
        let files = logs.taken.into_iter().map(ImportedFile::new).collect();
        let visit = ledger.visit(id)?;
        return Ok(Outcome::done(&ImportReport { visit, files, passed_over: logs.passed_over }));
    }
    let id = if args.test_loop {
        ledger.add_scene(&test_loop)?;
        let mut pc = context.pc_if_named()?;
        visit(context, &mut ledger, meant(&mut pc), &mut TestLoop, &plan)?
    } else if let Some(program) = &args.program {
        ledger.scene(scene)?;
        let mut pc = context.pc_if_named()?;
        let mut source = TracedProgram { file: program.clone() };
        visit(context, &mut ledger, meant(&mut pc), &mut source, &plan)?
    } else {
        let mut pc = context.rehearsal_pc()?;
        let scenes = scenes_of(&pc)?;
        let Some(known) = scenes.iter().find(|known| known.name == *scene) else {
            let known: Vec<_> = scenes.iter().map(|scene| scene.name.as_str()).collect();
            let message = format!("this PC has no scene `{scene}`");
            return Err(
                Failure::new(Kind::NotFound, message).hint(format!("it has {}", known.join(", ")))
            );
        };
        ledger.add_scene(known)?;
        let mut source = RehearsalScene::new(&pc, scene);
        visit(context, &mut ledger, Some(&mut pc), &mut source, &plan)?
    };
    Ok(Outcome::done(&VisitReport { visit: ledger.visit(id)? }))
}

/// The PC that is meant, if one is.
fn meant(pc: &mut Option<Box<dyn Pc>>) -> Option<&mut dyn Pc> {
    match pc {
        Some(pc) => Some(&mut **pc),
        None => None,
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<RunList>("run list");
    schemas.prints::<RunList>("run void");
    schemas.prints::<RunList>("run label");
    schemas.prints::<VisitReport>("run record");
    export::schemas(schemas);
    show::schemas(schemas);
    import::schemas(schemas);
}
