//! `frevin play`

use std::process::Child;
use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::playing::{
    GameStart, PlayEnding, PlayId, PlayPlan, PriorityClass, ProcessHolds, ProcessorChoice,
};
use frevin_core::preview::LeftOut;
use frevin_core::setting::TakesEffect;
use frevin_ledger::{Ledger, PlayRecord};
use frevin_pc::{Pc, PcKind};
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::apply::Order;
use crate::operations::play::{
    PlayFiles, PlayStatus, refuse_playing, settle, start_watcher, watch,
};
use crate::operations::refuse_unfinished;
use crate::operations::target::{Named, Target, resolve_playing};
use crate::outcome::{Outcome, View};
use crate::view::plan::with_article;
use crate::view::{Page, count, dim, good, strong, warn};

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
    /// Whether it is the watcher of a play.
    pub(crate) fn is_watcher(&self) -> bool {
        matches!(self.command, Some(PlayCommand::Watch { .. }))
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
    #[arg(long, value_name = "PROFILE[@REV]")]
    profile: Option<String>,
    /// One tweak instead of a profile
    #[arg(long, value_name = "AREA/NAME", conflicts_with = "profile")]
    tweak: Option<String>,
    /// A parameter of that tweak
    #[arg(long = "set", value_name = "NAME=VALUE", requires = "tweak")]
    parameters: Vec<String>,
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
    /// How long the made-up game of a rehearsal PC runs, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 60.0, value_parser = parse_seconds)]
    seconds: f64,
}

fn parse_priority(text: &str) -> Result<PriorityClass, String> {
    use strum::VariantNames as _;
    text.parse().map_err(|_| format!("it is one of {}", PriorityClass::VARIANTS.join(", ")))
}

fn parse_seconds(text: &str) -> Result<f64, String> {
    let seconds: f64 = text.parse().map_err(|_| "write seconds, like 60".to_owned())?;
    (0.0..=36_000.0).contains(&seconds).then_some(seconds).ok_or_else(|| "at most ten hours".into())
}

/// What was held, and how it ended.
#[derive(Debug, Serialize)]
struct PlayReport {
    play: PlayId,
    title: String,
    ending: PlayEnding,
    /// Settings that were held.
    settings: usize,
    process: ProcessHolds,
    problems: Vec<String>,
    left_out: Vec<LeftOut>,
}

/// What is held now.
#[derive(Debug, Serialize)]
struct StatusReport {
    /// The play that goes on, where one does.
    play: Option<PlayRecord>,
    is_watched: bool,
    #[serde(flatten)]
    status: PlayStatus,
}

#[derive(Debug, Serialize)]
struct PlayList {
    plays: Vec<PlayRecord>,
}

/// A watcher's word: it is read by nobody.
#[derive(Debug, Serialize)]
struct Watched {
    ending: PlayEnding,
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
        Some(PlayCommand::List) => {
            let pc = context.pc()?;
            let plays = context.ledger()?.plays(&pc.identity().id)?;
            Ok(Outcome::yes(&PlayList { plays }))
        }
        Some(PlayCommand::Watch { play }) => {
            let (mut pc, mut ledger) = (context.pc()?, context.ledger()?);
            let ending = watch(context, &mut *pc, &mut ledger, PlayId(*play))?;
            Ok(Outcome::yes(&Watched { ending }))
        }
    }
}

fn start(context: &Context, args: &StartArgs) -> Result<Outcome, Failure> {
    let (pc, mut ledger) = (context.pc()?, context.ledger()?);
    refuse_unfinished(&ledger, &*pc)?;
    crate::operations::trial::refuse_open(&ledger, &*pc)?;
    refuse_playing(&ledger, &*pc)?;
    let target = target(context, &*pc, &ledger, args)?;
    let start = game_start(context, &*pc, args)?;
    let process = ProcessHolds { priority: args.priority, processors: args.processors.clone() };
    if target.wishes.is_empty() && process.is_empty() {
        return Err(Failure::new(Kind::Usage, "there is nothing to hold")
            .details(
                target
                    .left_out
                    .iter()
                    .map(|one| format!("{}: {}", one.used, one.reasons.join("; "))),
            )
            .hint("name a --profile or a --tweak, a --priority or --processors"));
    }
    let order = Order::new(&*pc, &ledger, target, None, false)?;
    order.check()?;
    let settings = order.plan.writes().count();
    let plan = PlayPlan {
        title: if order.target.title.is_empty() {
            "the game's process".to_owned()
        } else {
            order.target.title.clone()
        },
        start,
        game_file: args.game.clone(),
        wishes: order.target.wishes.clone(),
        process: process.clone(),
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
        problems: status.problems,
        left_out: Vec::new(),
    }))
}

/// What is to be held, of what acts at once: the rest would be felt when the game has long ended.
fn target(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    args: &StartArgs,
) -> Result<Target, Failure> {
    let named = match (&args.profile, &args.tweak) {
        (Some(profile), _) => Named::Profile(profile.clone()),
        (None, Some(id)) => Named::Tweak { id: id.clone(), parameters: args.parameters.clone() },
        (None, None) => return Ok(Target::nothing()),
    };
    let (catalogue, facts) = (context.catalogue()?, context.facts(pc)?);
    let mut target = resolve_playing(&named, &args.allow_protected, &catalogue, ledger, &facts)?;
    let acts_late = |wish: &frevin_core::preview::Wish| {
        let late = |moment: TakesEffect| match moment {
            // The game is started afterwards.
            TakesEffect::Now | TakesEffect::ProgramRestart => false,
            TakesEffect::ServiceRestart
            | TakesEffect::DeviceRestart
            | TakesEffect::SignOut
            | TakesEffect::Restart => true,
        };
        wish.settings.iter().map(|one| one.takes_effect).find(|moment| late(*moment))
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

fn show_beginning(plan: &PlayPlan, settings: usize, left_out: &[LeftOut], page: &mut Page) {
    page.heading(format_args!("Held while a game runs: {}", plan.title));
    let game = match &plan.start {
        GameStart::Start { command } => format!("starts {}", command.join(" ")),
        GameStart::Attach { file } => format!("waits for {file}"),
    };
    let mut lines = vec![("game", game)];
    if settings > 0 {
        lines.push(("holds", count(settings, "setting")));
    }
    lines.extend(holds_in_words(&plan.process));
    page.pairs(lines);
    for left_out in left_out {
        let line = format!("  left out: {} ({})", left_out.used, left_out.reasons.join("; "));
        page.line(dim(line));
    }
    page.line("  All of it is put back when the game ends, whatever ends it.");
}

fn holds_in_words(process: &ProcessHolds) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    if let Some(class) = process.priority {
        let class: &str = class.into();
        lines.push(("priority", class.to_owned()));
    }
    lines.extend(process.processors.as_ref().map(|choice| ("processors", choice.to_string())));
    lines
}

fn ending_in_words(ending: PlayEnding) -> &'static str {
    match ending {
        PlayEnding::GameEnded => "The game has ended.",
        PlayEnding::Stopped => "It was stopped; the game goes on.",
        PlayEnding::NoGame => "The game did not come.",
        PlayEnding::NotHeld => "The PC did not take what was to be held.",
        PlayEnding::Settled => "Its watcher was gone.",
    }
}

impl View for PlayReport {
    fn show(&self, page: &mut Page) {
        let said = ending_in_words(self.ending);
        match self.ending {
            PlayEnding::GameEnded | PlayEnding::Stopped => page.line(good(said)),
            PlayEnding::NoGame | PlayEnding::NotHeld | PlayEnding::Settled => page.line(warn(said)),
        }
        if self.settings > 0 {
            page.line(format_args!(
                "{} of {} put back.",
                count(self.settings, "setting"),
                strong(&self.title)
            ));
        }
        for problem in &self.problems {
            page.line(warn(format_args!("  not held: {problem}")));
        }
        for left_out in &self.left_out {
            page.line(dim(format_args!(
                "  left out: {} ({})",
                left_out.used,
                left_out.reasons.join("; ")
            )));
        }
    }
}

impl View for StatusReport {
    fn show(&self, page: &mut Page) {
        let Some(play) = &self.play else {
            page.line("Nothing is held for a game.");
            return;
        };
        page.heading(format_args!("Play {}: {}", play.id, play.plan.title));
        let game = match &self.status.processes[..] {
            [] => "it has not come yet".to_owned(),
            [id] => format!("runs, as process {id}"),
            ids => format!("runs, as {} processes", ids.len()),
        };
        let mut lines = vec![("game", game)];
        lines.extend(holds_in_words(&play.plan.process));
        page.pairs(lines);
        for problem in &self.status.problems {
            page.line(warn(format_args!("  not held: {problem}")));
        }
        page.pairs([("put it back now", "frevin play stop")]);
    }
}

impl View for PlayList {
    fn show(&self, page: &mut Page) {
        if self.plays.is_empty() {
            page.line("Nothing was held for a game on this PC yet.");
            return;
        }
        let mut table = crate::view::Table::new([">play", "held", "came of it"]);
        for play in &self.plays {
            let came = play.ended.map_or("goes on", |(_, ending)| ending_in_words(ending));
            table.row([play.id.to_string(), play.plan.title.clone(), came.to_owned()]);
        }
        page.table(table);
    }
}

impl View for Watched {
    fn show(&self, page: &mut Page) {
        page.line(ending_in_words(self.ending));
    }
}
