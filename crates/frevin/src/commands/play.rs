//! `frevin play`

use std::path::{Path, PathBuf};
use std::process::Child;
use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::expression::Expression;
use frevin_core::playing::{
    GameStart, MemoryPriority, OthersRule, PcHolds, PlayEnding, PlayEvent, PlayId, PlayPlan,
    PlayRecording, PriorityClass, ProcessHolds, ProcessorChoice, PurgeRule, TimerPeriod,
};
use frevin_core::preview::LeftOut;
use frevin_core::profile::{Playing, PurgeFormulas, USUAL_OTHERS_S};
use frevin_core::trial::in_play::PlaySource;
use frevin_core::visits::Scene;
use frevin_ledger::{Ledger, PlayRecord, TimedPlayEvent};
use frevin_pc::{Pc, PcKind};

use crate::commands::games::{self, GamesCommand};
use crate::commands::in_play::ordinary_play;
use crate::commands::target::TweakArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::apply::Order;
use crate::operations::play::{
    PlayFiles, PlayStatus, refuse_playing, settle, start_watcher, watch,
};
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::target::{Named, Target, Unsaved, load, resolve_playing};
use crate::outcome::Outcome;
use crate::schemas::Schemas;
use crate::view::Page;
use crate::view::plan::with_article;
use crate::view::play::{
    MemoryReport, PlayDetail, PlayList, PlayReport, StatusReport, Watched, show_beginning,
};

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
        None => start(context, &args.start),
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

fn start(context: &Context, args: &StartArgs) -> Result<Outcome, Failure> {
    let (pc, mut ledger) = (context.pc()?, context.ledger()?);
    refuse_unfinished(&ledger, &*pc)?;
    crate::operations::trial::refuse_open(&ledger, &*pc)?;
    refuse_playing(&ledger, &*pc)?;
    if let Some(profile) = &args.profile {
        keep_ready_made(context, &mut ledger, &Named::Profile(profile.clone()))?;
    }
    let target = target(context, &*pc, &ledger, args)?;
    let start = game_start(context, &*pc, args)?;
    let playing = playing(context, &ledger, args)?;
    let facts = context.facts(&*pc)?;
    let around = playing.around(&facts).map_err(|error| {
        Failure::new(Kind::Usage, format!("when memory is given back: {error}"))
    })?;
    refuse_untold_memory(&*pc, &around)?;
    let process = playing.process;
    if target.wishes.is_empty() && process.is_empty() && around.is_empty() {
        return Err(Failure::new(Kind::Usage, "there is nothing to hold")
            .details(
                target
                    .left_out
                    .iter()
                    .map(|one| format!("{}: {}", one.used, one.reasons.join("; "))),
            )
            .hint("name a --profile or a --tweak, a --priority or --processors; `frevin play --help` lists what else"));
    }
    let order = Order::new(&*pc, &ledger, target, None, false)?;
    order.check()?;
    let settings = order.plan.writes().count();
    let plan = PlayPlan {
        title: if order.target.title.is_empty() {
            if process.is_empty() { "the PC" } else { "the game's process" }.to_owned()
        } else {
            order.target.title.clone()
        },
        start,
        game_file: args.game.clone(),
        wishes: order.target.wishes.clone(),
        process: process.clone(),
        pc: around,
        recording: recording(context, &*pc, args)?,
    };
    let mut page = Page::default();
    show_beginning(&plan, settings, &order.target.left_out, &mut page);
    context.confirm(&page, "Begin it?")?;
    let files = PlayFiles::of(context);
    let busy = || {
        Failure::new(Kind::Busy, "another game is being played: `frevin play status` tells which")
    };
    let Some(beginning) = files.wait_for_begin_lock()? else { return Err(busy()) };
    if files.is_watched()? {
        return Err(busy());
    }
    files.prepare()?;
    if let Some(recording) = &plan.recording {
        add_scene(context, &*pc, &mut ledger, args, recording)?;
    }
    let id = ledger.begin_play(&pc.identity().id, context.clock.now(), &plan)?;
    let left_out = order.target.left_out;
    drop(ledger);
    let watcher = start_watcher(context, id)?;
    context.say_on_terminal(
        "Held until the game ends, also where this window is closed. `frevin play stop` puts it back before.",
    );
    let (ending, status) = wait(context, &*pc, id, beginning, Some(watcher))?;
    let report = PlayReport {
        play: id,
        title: plan.title,
        ending,
        settings,
        process,
        events: events_of(context, id)?,
        problems: status.problems,
        left_out,
    };
    let is_yes = !matches!(ending, PlayEnding::NoGame | PlayEnding::NotHeld);
    Ok(Outcome::with(&report, is_yes))
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

/// What is held of the game's process and around it: what the profile says, and what was asked for above that.
fn playing(context: &Context, ledger: &Ledger, args: &StartArgs) -> Result<Playing, Failure> {
    let formula = |written: &String| {
        Expression::parse(written).map_err(|error| Failure::new(Kind::Usage, error.to_string()))
    };
    let purge = match &args.purge_below {
        None => None,
        Some(below) => Some(PurgeFormulas {
            free_below_mib: formula(below)?,
            standby_above_mib: args.purge_above.as_ref().map(formula).transpose()?,
            pause_s: args.purge_pause,
        }),
    };
    let asked = Playing {
        process: ProcessHolds {
            priority: args.priority,
            processors: args.processors.clone(),
            unthrottled: args.unthrottled,
            memory_priority: args.memory_priority,
        },
        timer: args.timer_ms,
        purge,
        others: args.lower_others.clone(),
    };
    let of_profile = match &args.profile {
        None => Playing::default(),
        Some(profile) => load(profile, &context.catalogue()?, ledger, Unsaved::Refused)?.0.playing,
    };
    Ok(asked.over(of_profile))
}

/// What takes an administrator is said before the game starts.
fn refuse_untold_memory(pc: &dyn Pc, around: &PcHolds) -> Result<(), Failure> {
    if around.purge.is_none() || pc.memory()?.is_some() {
        return Ok(());
    }
    let message = "this PC does not tell this user how its memory is used";
    Err(Failure::new(Kind::Guarded, message)
        .hint("on Windows, start it as an administrator; or leave what purges memory out"))
}

/// What is to be held, of what acts at once: the rest would be felt when the game has long ended.
fn target(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    args: &StartArgs,
) -> Result<Target, Failure> {
    let Some(named) = args.tweaks.or_profile(args.profile.as_ref()) else {
        return Ok(Target::nothing());
    };
    let (catalogue, facts) = (context.catalogue()?, context.facts(pc)?);
    let mut target = resolve_playing(&named, &args.allow_protected, &catalogue, ledger, &facts)?;
    let acts_late = |wish: &frevin_core::preview::Wish| {
        let moments = wish.settings.iter().map(|one| one.takes_effect);
        moments.into_iter().find(|moment| !moment.is_felt_by_the_next_program())
    };
    let (now, late): (Vec<_>, Vec<_>) =
        target.wishes.into_iter().partition(|wish| acts_late(wish).is_none());
    target.wishes = now;
    target.left_out.extend(late.into_iter().map(|wish| {
        LeftOut {
            reasons: acts_late(&wish)
                .map(|moment| format!("it acts after {}: apply it instead", with_article(moment)))
                .into_iter()
                .collect(),
            used: wish.used,
        }
    }));
    Ok(target)
}

/// How its frames are recorded, where that is asked for.
fn recording(
    context: &Context,
    pc: &dyn Pc,
    args: &StartArgs,
) -> Result<Option<PlayRecording>, Failure> {
    if !args.record {
        return Ok(None);
    }
    let file_of = |program: &str| {
        let name = Path::new(program).file_name();
        name.map_or_else(|| program.to_owned(), |name| name.to_string_lossy().into_owned())
    };
    let program =
        args.game.clone().or(args.attach.clone()).or(args.program.as_deref().map(file_of));
    let is_rehearsed = pc.identity().kind == PcKind::Rehearsal;
    let known = args.scene.as_ref().map(|scene| context.scene_recording(scene)).transpose()?;
    let traced = known.flatten().and_then(|recording| recording.program).or(program);
    let source = match (&args.growing, &args.scene, traced) {
        (Some(file), _, _) => PlaySource::GrowingLog { file: std::path::absolute(file)? },
        (None, Some(_), None) if is_rehearsed => PlaySource::Scene,
        (None, _, Some(file)) => PlaySource::Program { file },
        (None, _, None) => {
            let message = "it is not known where the game's frames come from";
            return Err(Failure::new(Kind::Usage, message)
                .hint("name its --game, or a log with --growing FILE"));
        }
    };
    if matches!(source, PlaySource::Program { .. }) && !cfg!(windows) {
        let message = "frames of a program are traced on Windows only";
        return Err(Failure::new(Kind::Usage, message)
            .hint("let the game write a log, and follow it with --growing FILE"));
    }
    let game = match (&source, &args.scene) {
        (_, Some(scene)) => scene.to_string(),
        (PlaySource::Program { file }, None) => file.clone(),
        (PlaySource::GrowingLog { file }, None) => {
            file.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default()
        }
        (PlaySource::Scene | PlaySource::TestLoop, None) => "game".to_owned(),
    };
    let scene = ordinary_play(&game)?;
    let plays = args.scene.clone().unwrap_or_else(|| scene.name.clone());
    Ok(Some(PlayRecording { scene: scene.name, plays, source }))
}

/// The scene that stands for playing a game as one likes has to be known before something is recorded of it.
fn add_scene(
    context: &Context,
    pc: &dyn Pc,
    ledger: &mut Ledger,
    args: &StartArgs,
    recording: &PlayRecording,
) -> Result<(), Failure> {
    let known = match (&args.scene, pc.identity().kind) {
        (Some(scene), PcKind::Rehearsal) => {
            let scenes = context.rehearsal_pc()?;
            let scene = scenes.model().scenes.iter().find(|one| one.name == scene.as_str());
            scene.map(|one| (one.game.clone(), one.graphics.clone(), one.resolution.clone()))
        }
        _ => None,
    };
    let (game, graphics, resolution) = known.unwrap_or_else(|| {
        let as_played = || "as played".to_owned();
        (recording.plays.to_string(), as_played(), as_played())
    });
    let name = recording.scene.clone();
    let route = "ordinary play".to_owned();
    Ok(ledger.add_scene(&Scene { name, game, graphics, resolution, route })?)
}

fn game_start(context: &Context, pc: &dyn Pc, args: &StartArgs) -> Result<GameStart, Failure> {
    if let Some(file) = &args.attach {
        return Ok(GameStart::Attach { file: file.clone() });
    }
    if let Some(program) = &args.program {
        let command = std::iter::once(program.clone()).chain(args.arguments.iter().cloned());
        return Ok(GameStart::Start { command: command.collect() });
    }
    let Some(scene) = &args.scene else {
        return Err(Failure::new(
            Kind::Usage,
            "name a scene, a --program, or a game to --attach to",
        ));
    };
    if let Some(recording) = context.scene_recording(scene)? {
        return match (recording.command, recording.program) {
            (command, _) if !command.is_empty() => Ok(GameStart::Start { command }),
            (_, Some(file)) => Ok(GameStart::Attach { file }),
            (_, None) => Err(Failure::new(
                Kind::Usage,
                format!("it is not known how the game of `{scene}` is started"),
            )
            .hint("name it with --program PATH, or --attach NAME")),
        };
    }
    match pc.identity().kind {
        PcKind::Rehearsal => {
            let known = context.rehearsal_pc()?;
            if !known.model().scenes.iter().any(|known| known.name == scene.as_str()) {
                return Err(Failure::new(
                    Kind::NotFound,
                    format!("this PC has no scene `{scene}`"),
                ));
            }
            let program = std::env::current_exe()?.display().to_string();
            let seconds = args.seconds.to_string();
            let words = ["rehearsal", "game", "--seconds", &seconds].map(ToOwned::to_owned);
            Ok(GameStart::Start { command: std::iter::once(program).chain(words).collect() })
        }
        PcKind::Live => Err(Failure::new(
            Kind::Usage,
            format!("it is not known how the game of `{scene}` is started"),
        )
        .hint(format!(
            "say it once: frevin scene record-by {scene} --program GAME.EXE -- COMMAND"
        ))),
    }
}

fn events_of(context: &Context, id: PlayId) -> Result<Vec<TimedPlayEvent>, Failure> {
    Ok(context.ledger()?.play(id)?.map(|play| play.events).unwrap_or_default())
}

/// What it prints with `--json`.
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<StatusReport>("play status");
    schemas.prints::<PlayList>("play list");
    schemas.prints::<PlayDetail>("play show");
    schemas.prints::<MemoryReport>("play memory");
    schemas.prints::<PlayReport>("play");
    schemas.prints::<PlayReport>("play stop");
}
