//! `frevin play`

mod start;

use std::path::PathBuf;
use std::process::Child;
use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::playing::{
    MemoryPriority, OthersRule, PlayEnding, PlayEvent, PlayId, PriorityClass, ProcessorChoice,
    PurgeRule, TimerPeriod,
};
use frevin_core::profile::USUAL_OTHERS_S;
use frevin_ledger::{PlayRecord, TimedPlayEvent};
use frevin_pc::Pc;

use crate::commands::games::{self, GamesCommand};
use crate::commands::target::TweakArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::play::{PlayFiles, PlayStatus, settle, watch};
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::play::{MemoryReport, PlayDetail, PlayList, PlayReport, StatusReport, Watched};

/// Hold a profile or a tweak only while a game runs, and put all of it back when it ends, whatever ends it
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct PlayArgs {
    #[command(subcommand)]
    command: Option<PlayCommand>,
    #[command(flatten)]
    start: StartArgs,
}

impl PlayArgs {
    /// Whether it is a process of Frevin's own that watches.
    pub(crate) fn is_watcher(&self) -> bool {
        // Nor does whoever only looks for games settle what another left.
        matches!(
            self.command,
            Some(PlayCommand::Watch { .. } | PlayCommand::Games(GamesCommand::Look))
        )
    }
}

#[derive(Debug, Subcommand)]
enum PlayCommand {
    /// Show what is held, and for which game
    Status,
    /// Put back what is held; the game goes on
    Stop,
    /// List the plays of this PC
    List,
    /// Show a play: what was held, what happened meanwhile, and its frames where they were recorded
    Show {
        /// Its number [default: the latest]
        play: Option<i64>,
    },
    /// Show how memory is used
    Memory {
        /// Give standby memory back, once and now
        #[arg(long)]
        purge: bool,
    },
    #[command(subcommand)]
    Games(GamesCommand),
    /// Watch a play that has begun
    #[command(hide = true)]
    Watch {
        /// Its number
        play: i64,
    },
}

#[derive(Debug, Args)]
struct StartArgs {
    /// A scene whose game is started: a rehearsal PC's, or one whose command `frevin scene record-by` knows
    scene: Option<frevin_core::ids::SceneName>,
    /// The program to start; its arguments follow after `--`
    #[arg(long, value_name = "PATH", conflicts_with = "scene")]
    program: Option<String>,
    /// The arguments of the program
    #[arg(last = true, requires = "program")]
    arguments: Vec<String>,
    /// Wait for a game that is started otherwise, by the name of its file
    #[arg(long, value_name = "NAME", conflicts_with_all = ["scene", "program"])]
    attach: Option<String>,
    /// The game's own file, where the program is a launcher that starts it
    #[arg(long, value_name = "NAME")]
    game: Option<String>,
    /// What is held: the `while_playing` list of a saved profile, or its tweaks where it has none
    #[arg(long, value_name = "PROFILE[@REV]", conflicts_with = "tweak")]
    profile: Option<String>,
    #[command(flatten)]
    tweaks: TweakArgs,
    /// Let this tweak touch what is protected
    #[arg(long, value_name = "AREA/NAME")]
    allow_protected: Vec<String>,
    /// The priority class of the game's process
    #[arg(long, value_name = "CLASS", value_parser = parse_priority)]
    priority: Option<PriorityClass>,
    /// The processors that the game may run on: fast-cores, without-first-core, one-thread-a-core, numbers like
    /// 0-3,6, or a mask like 0xff
    #[arg(long, value_name = "PROCESSORS")]
    processors: Option<ProcessorChoice>,
    /// Never run the game slower to save power
    #[arg(long)]
    unthrottled: bool,
    /// How long the game's pages are kept where memory is short
    #[arg(long, value_name = "PRIORITY", value_parser = parse_memory_priority)]
    memory_priority: Option<MemoryPriority>,
    /// The period of the system's timer, in milliseconds, down to 0.5
    #[arg(long, value_name = "MS")]
    timer_ms: Option<TimerPeriod>,
    /// Give standby memory back where less than this is free, in MiB: a number, or a formula like
    /// `facts.memory.size_mib / 16`
    #[arg(long, value_name = "MIB")]
    purge_below: Option<String>,
    /// And only where more than this is on standby
    #[arg(long, value_name = "MIB", requires = "purge_below")]
    purge_above: Option<String>,
    /// No sooner than this after the last time
    #[arg(long, value_name = "SECONDS", requires = "purge_below", default_value_t = PurgeRule::USUAL_PAUSE_S)]
    purge_pause: u32,
    /// Lower other programs in priority that take more than this share of all processors, in percent, for some seconds:
    /// 15, or 15:10 for ten seconds
    #[arg(long, value_name = "PERCENT[:SECONDS]", value_parser = parse_others)]
    lower_others: Option<OthersRule>,
    /// Record its frames, in ordinary play: for looking at, and for no comparison
    #[arg(long)]
    record: bool,
    /// They are rows that another program adds to this log
    #[arg(long, value_name = "FILE", requires = "record")]
    growing: Option<PathBuf>,
    /// How long the made-up game of a rehearsal PC runs, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 60.0, value_parser = parse_seconds)]
    seconds: f64,
}

pub(crate) fn parse_priority(text: &str) -> Result<PriorityClass, String> {
    use strum::VariantNames as _;
    text.parse().map_err(|_| format!("it is one of {}", PriorityClass::VARIANTS.join(", ")))
}

fn parse_memory_priority(text: &str) -> Result<MemoryPriority, String> {
    use strum::VariantNames as _;
    text.parse().map_err(|_| format!("it is one of {}", MemoryPriority::VARIANTS.join(", ")))
}

fn parse_others(text: &str) -> Result<OthersRule, String> {
    let (percent, seconds) = text.split_once(':').unwrap_or((text, ""));
    let for_s = match seconds {
        "" => Some(USUAL_OTHERS_S),
        _ => seconds.parse().ok().filter(|seconds| (1..=600).contains(seconds)),
    };
    let above_percent = percent.parse().ok().filter(|percent| (1..=99).contains(percent));
    let rule = above_percent.zip(for_s);
    rule.map(|(above_percent, for_s)| OthersRule { above_percent, for_s })
        .ok_or_else(|| "write a share in percent, like 15, or 15:10 for ten seconds".to_owned())
}

fn parse_seconds(text: &str) -> Result<f64, String> {
    let seconds: f64 = text.parse().map_err(|_| "write seconds, like 60".to_owned())?;
    (0.0..=36_000.0).contains(&seconds).then_some(seconds).ok_or_else(|| "at most ten hours".into())
}

pub(crate) fn run(context: &Context, args: &PlayArgs) -> Result<Outcome, Failure> {
    match &args.command {
        None => start::start(context, &args.start),
        Some(PlayCommand::Status) => {
            let pc = context.pc()?;
            let files = PlayFiles::of(context);
            let play = context.ledger()?.open_plays(&pc.identity().id)?.into_iter().next();
            let is_watched = files.is_watched()?;
            // What the last watcher told is of the last play.
            let status = if play.is_some() { files.status() } else { PlayStatus::default() };
            Ok(Outcome::yes(&StatusReport { play, is_watched, status }))
        }
        Some(PlayCommand::Stop) => stop(context),
        Some(PlayCommand::Memory { purge }) => memory(context, *purge),
        Some(PlayCommand::Games(command)) => games::run(context, command),
        Some(PlayCommand::List) => {
            let pc = context.pc()?;
            let plays = context.ledger()?.plays(&pc.identity().id)?;
            Ok(Outcome::yes(&PlayList { plays }))
        }
        Some(PlayCommand::Show { play }) => {
            let ledger = context.ledger()?;
            let plays = ledger.plays(&context.pc()?.identity().id)?;
            let is_meant = |one: &PlayRecord| play.is_none_or(|play| one.id == PlayId(play));
            let play = plays.into_iter().rfind(is_meant);
            let play = play.ok_or_else(|| {
                Failure::new(Kind::NotFound, "there is no such play of this PC")
                    .hint("`frevin play list` shows those there are")
            })?;
            let recorded = play.events.iter().find_map(|timed| match timed.event {
                PlayEvent::Recorded { visit } => Some(visit),
                _ => None,
            });
            let visit = recorded.map(|visit| ledger.visit(visit)).transpose()?;
            Ok(Outcome::yes(&PlayDetail { play, visit }))
        }
        Some(PlayCommand::Watch { play }) => {
            let (mut pc, mut ledger) = (context.pc()?, context.ledger()?);
            let ending = watch(context, &mut *pc, &mut ledger, PlayId(*play))?;
            Ok(Outcome::yes(&Watched { ending }))
        }
    }
}

/// How memory is used, and what giving standby memory back makes of it. No setting moves: what is given back fills again.
fn memory(context: &Context, purge: bool) -> Result<Outcome, Failure> {
    let mut pc = context.pc()?;
    let untold = || {
        Failure::new(Kind::Guarded, "this PC does not tell this user how its memory is used")
            .hint("on Windows, start it as an administrator")
    };
    let before = pc.memory()?.ok_or_else(untold)?;
    let after = match purge {
        false => None,
        true => {
            pc.purge_standby()?;
            Some(pc.memory()?.ok_or_else(untold)?)
        }
    };
    Ok(Outcome::yes(&MemoryReport { before, after }))
}

/// Waits until a play has ended; settles it where its watcher is gone.
fn wait(
    context: &Context,
    pc: &dyn Pc,
    id: PlayId,
    beginning: std::fs::File,
    mut watcher: Option<Child>,
) -> Result<(PlayEnding, PlayStatus), Failure> {
    const LOOK_EVERY: Duration = Duration::from_millis(50);
    let files = PlayFiles::of(context);
    let mut beginning = Some(beginning);
    loop {
        let plays = context.ledger()?.plays(&pc.identity().id)?;
        let Some(play) = plays.into_iter().find(|play| play.id == id) else {
            return Err(Failure::new(Kind::Internal, "the ledger no longer tells of this play"));
        };
        let is_watched = files.is_watched()?;
        let ended = play.ended;
        // Its watcher tidies up after the end: whoever begins another has to find it gone.
        if let Some((_, ending)) = ended.filter(|_| !is_watched) {
            return Ok((ending, files.status()));
        }
        if is_watched {
            drop(beginning.take());
        }
        // Of one that this process did not start, the lock alone tells.
        let is_gone = match &mut watcher {
            Some(watcher) => watcher.try_wait()?.is_some(),
            None => true,
        };
        let is_lost = !is_watched && (beginning.is_none() || is_gone);
        if is_lost && ended.is_none() {
            drop(beginning.take());
            settle(context)?;
        }
        std::thread::sleep(LOOK_EVERY);
    }
}

fn stop(context: &Context) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    let open = context.ledger()?.open_plays(&pc.identity().id)?;
    let Some(play) = open.into_iter().next() else {
        return Err(Failure::new(Kind::NotFound, "nothing is held for a game"));
    };
    let files = PlayFiles::of(context);
    files.ask_to_stop()?;
    // Whoever begins it lets its watcher begin first.
    let beginning = files.wait_for_begin_lock()?.ok_or_else(|| {
        Failure::new(Kind::Busy, "it is only being begun").hint("try it once more")
    })?;
    let (ending, status) = wait(context, &*pc, play.id, beginning, None)?;
    Ok(Outcome::done(&PlayReport {
        play: play.id,
        title: play.plan.title,
        ending,
        settings: play.plan.wishes.iter().map(|wish| wish.settings.len()).sum(),
        process: play.plan.process,
        events: events_of(context, play.id)?,
        problems: status.problems,
        left_out: Vec::new(),
    }))
}

fn events_of(context: &Context, id: PlayId) -> Result<Vec<TimedPlayEvent>, Failure> {
    Ok(context.ledger()?.play(id)?.map(|play| play.events).unwrap_or_default())
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<StatusReport>("play status");
    schemas.prints::<PlayList>("play list");
    schemas.prints::<PlayDetail>("play show");
    schemas.prints::<MemoryReport>("play memory");
    schemas.prints::<PlayReport>("play");
    schemas.prints::<PlayReport>("play stop");
}
