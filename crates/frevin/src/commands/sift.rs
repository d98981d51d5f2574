//! `frevin sift`

use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use frevin_core::ids::SceneName;
use frevin_core::sift::{Pinging, SiftId, SmallestEffect};
use frevin_core::trial::KeepPolicy;
use frevin_core::trial::in_play::PlaySource;
use frevin_core::verdict::Judge;
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::{PcKind, Restarts};

use crate::commands::in_play::InPlayArgs;
use crate::commands::trial::{
    JudgeName, Keep, ask_for_rights, keep_window, parse_budget, seed_of_now,
};
use crate::commands::tune;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::operations::play::refuse_playing;
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::sift::{
    AskedSiftInPlay, SiftBeginning, SiftDriver, SiftList, SiftRequest, design, find, open, report,
};
use crate::operations::target::{Named, find_tweaks};
use crate::operations::trial::{Stopped, refuse_open};
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::Page;
use crate::view::sift::{SiftStatus, show_beginning};
#[cfg(test)]
use crate::view::tune::TuneShown;

/// Find out which tweaks of a profile matter: about half of them on at a time, in turns, until each is known to help, to
/// hurt, or not to matter
#[derive(Debug, Subcommand)]
pub(crate) enum SiftCommand {
    Start(Box<SiftStartArgs>),
    /// Go on with a sift: after a restart, or whatever cut it off
    Resume {
        /// Windows has started it after a sign-in
        #[arg(long, hide = true)]
        after_sign_in: bool,
    },
    /// Show how far the sift that is going on is
    Status {
        /// Show what the latest look says too; it is no reason to stop
        #[arg(long)]
        peek: bool,
    },
    /// Give the sift up, and put the PC back to what it was before it
    Abandon,
    /// List the sifts of this PC
    List,
    /// Show what a sift found of each tweak
    Show {
        /// Its number [default: the latest]
        sift: Option<i64>,
    },
}

/// Begin a sift of a profile's tweaks; what helps is tried against the PC as it is, and kept if it is better
#[derive(Debug, Args)]
pub(crate) struct SiftStartArgs {
    /// A saved profile: NAME, NAME@3, or NAME@ and the beginning of a hash
    #[arg(value_name = "PROFILE[@REV]")]
    profile: String,
    /// What is measured [default: what the profile names]
    #[arg(long, value_name = "SCENE")]
    scene: Option<SceneName>,
    #[command(flatten)]
    in_play: InPlayArgs,
    /// The smallest effect that a sift in play has to be sure about: 5 in free play, 3 in a benchmark that repeats or in
    /// calm play, 2 where nothing happens [default: 5, or 3 with --loop]
    #[arg(long, value_enum, value_name = "PERCENT", requires = "in_play")]
    smallest_effect: Option<Smallest>,
    /// In play, sift this one of tweaks that exclude each other
    #[arg(long, value_name = "AREA/NAME", requires = "in_play")]
    prefer: Vec<String>,
    /// Runs of a configuration that count, after one that does not: with two, fewer restarts are needed
    #[arg(long, value_name = "RUNS", default_value_t = 1, conflicts_with = "in_play", value_parser = clap::value_parser!(u16).range(1..=20))]
    runs_per_restart: u16,
    /// Length of a run
    #[arg(long, default_value_t = 60, conflicts_with = "in_play", value_parser = clap::value_parser!(u16).range(5..=3600))]
    seconds: u16,
    /// What chance in it comes from [default: another each time]
    #[arg(long)]
    seed: Option<u64>,
    /// The most time that it may take, with the trial at its end, like 90min or 3h: it stops at a look with what is known
    #[arg(long, value_name = "TIME", conflicts_with = "in_play", value_parser = parse_budget)]
    budget: Option<Duration>,
    /// What decides: frame rate, how fast the address of --ping answers, or how late frames answer to their player
    #[arg(long, value_enum, default_value_t = JudgeName::FrameRate, conflicts_with = "in_play")]
    judge: JudgeName,
    #[command(flatten)]
    ping: PingArgs,
    /// What of that trial stays in force where no difference is shown
    #[arg(long, value_enum, default_value_t = Keep::Better)]
    keep: Keep,
    /// Sift this tweak too, although it is for experts; else each is asked for
    #[arg(long, value_name = "AREA/NAME")]
    expert: Vec<String>,
    /// Let Frevin restart the PC itself where that is needed, each time after half a minute, and go on after you have
    /// signed in [live PCs; else it says when to restart]
    #[arg(long, conflicts_with = "in_play")]
    restart_by_itself: bool,
}

/// Whose answers are timed, where those are judged.
#[derive(Debug, Args)]
pub(crate) struct PingArgs {
    /// The address whose answers --judge ping times, 200 of them during each run: NAME, NAME:PORT or an address
    #[arg(long, value_name = "ADDRESS", required_if_eq("judge", "ping"))]
    ping: Option<String>,
    /// The time between two of those questions, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 50, requires = "ping", value_parser = clap::value_parser!(u64).range(0..=10_000))]
    ping_pause_ms: u64,
}

impl PingArgs {
    /// What is asked for; nothing where something else is judged.
    pub(crate) fn asked(&self, judge: JudgeName) -> Result<Option<Pinging>, Failure> {
        match (&self.ping, judge.judge()) {
            (None, _) => Ok(None),
            (Some(address), Judge::Ping) => {
                Ok(Some(Pinging { address: address.clone(), pause_ms: self.ping_pause_ms }))
            }
            (Some(_), Judge::FrameRate | Judge::Latency) => {
                Err(Failure::new(Kind::Usage, "--ping goes with --judge ping")
                    .hint("`frevin trial start` takes it as a guard of frame rates, too"))
            }
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Smallest {
    #[value(name = "5")]
    Five,
    #[value(name = "3")]
    Three,
    #[value(name = "2")]
    Two,
}

impl From<Smallest> for SmallestEffect {
    fn from(smallest: Smallest) -> Self {
        match smallest {
            Smallest::Five => Self::FivePercent,
            Smallest::Three => Self::ThreePercent,
            Smallest::Two => Self::TwoPercent,
        }
    }
}

pub(crate) fn run(context: &Context, command: &SiftCommand) -> Result<Outcome, Failure> {
    let mut pc = context.restartable_pc()?;
    let mut ledger = context.ledger()?;
    let pc = &mut *pc;
    match command {
        SiftCommand::Start(args) => start(context, pc, &mut ledger, args),
        SiftCommand::Resume { after_sign_in } => {
            let record = open(&ledger, &*pc)?;
            if record.design.evening.is_some() {
                return tune::resume(context, pc, &mut ledger, &record, *after_sign_in);
            }
            if *after_sign_in && record.design.as_administrator && !pc.has_administrator_rights()? {
                return ask_for_rights();
            }
            let mut driver = SiftDriver::resume(context, pc, &mut ledger, record.id)?;
            driver.go_on()?;
            let outcome = drive(context, driver)?;
            if *after_sign_in { keep_window(context, outcome) } else { Ok(outcome) }
        }
        SiftCommand::Abandon => {
            let record = open(&ledger, &*pc)?;
            if record.design.evening.is_some() {
                return tune::abandon(context, pc, &mut ledger, &record);
            }
            let mut driver = SiftDriver::resume(context, pc, &mut ledger, record.id)?;
            driver.give_up()?;
            drive(context, driver)
        }
        SiftCommand::Status { peek } => {
            let record = find(&ledger, &*pc, None)?;
            status(&ledger, &record, *peek)
        }
        SiftCommand::List => {
            let records = ledger.sifts(&pc.identity().id)?;
            let sifts = records.iter().map(|record| report(&ledger, record, false));
            Ok(Outcome::yes(&SiftList { sifts: sifts.collect::<Result<_, _>>()? }))
        }
        SiftCommand::Show { sift } => {
            let record = find(&ledger, &*pc, sift.map(SiftId))?;
            if record.has_ended() {
                Ok(Outcome::yes(&report(&ledger, &record, false)?))
            } else {
                status(&ledger, &record, false)
            }
        }
    }
}

fn status(ledger: &Ledger, record: &SiftRecord, peek: bool) -> Result<Outcome, Failure> {
    Ok(Outcome::yes(&SiftStatus { report: report(ledger, record, peek)?, stopped: None }))
}

fn start(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    args: &SiftStartArgs,
) -> Result<Outcome, Failure> {
    refuse_unfinished(ledger, &*pc)?;
    refuse_open(ledger, &*pc)?;
    refuse_playing(ledger, &*pc)?;
    let catalogue = context.catalogue()?;
    let experts = find_tweaks(&catalogue, &args.expert)?;
    let mut scene = args.scene.clone();
    let in_play = match args.in_play.asked() {
        None => None,
        Some(play) => {
            if let Some(played) = args.in_play.scene()? {
                ledger.add_scene(&played)?;
                scene = Some(played.name);
            }
            let usual = match play.loop_s {
                Some(_) => SmallestEffect::ThreePercent,
                None => SmallestEffect::FivePercent,
            };
            let smallest_effect = args.smallest_effect.map_or(usual, SmallestEffect::from);
            Some(AskedSiftInPlay {
                play,
                smallest_effect,
                preferred: find_tweaks(&catalogue, &args.prefer)?,
                most_play_s: None,
            })
        }
    };
    let mut request = SiftRequest {
        profile: args.profile.clone(),
        scene,
        runs: args.runs_per_restart.into(),
        run_seconds: args.seconds.into(),
        seed: args.seed.unwrap_or_else(|| seed_of_now(context)),
        budget: args.budget,
        only: None,
        may_be_few: false,
        after_taking_back: None,
        keep: match args.keep {
            Keep::Better => KeepPolicy::Better,
            Keep::AsGood => KeepPolicy::AsGood,
            Keep::NotWorse => KeepPolicy::NotWorse,
        },
        experts,
        as_administrator: pc.has_administrator_rights()?,
        restarts_by_itself: args.restart_by_itself,
        runs_start_program: false,
        judge: args.judge.judge(),
        ping: args.ping.asked(args.judge)?,
        in_play,
    };
    keep_ready_made(context, ledger, &Named::Profile(request.profile.clone()))?;
    let mut sifted = design(context, &*pc, ledger, &request)?;
    let is_recorded = match &sifted.design.in_play {
        None => true,
        Some(in_play) => in_play.play.source == PlaySource::Scene,
    };
    let source = match is_recorded {
        true => Some(SceneSource::find(context, &*pc, ledger, &sifted.design.scene)?),
        false => None,
    };
    // A scene that starts its program anew spares the restart.
    request.runs_start_program = source.as_ref().is_some_and(SceneSource::starts_program);
    // Each tweak for experts is a question of its own; where nobody can be asked, it is left out.
    for expert in &sifted.experts_unasked {
        let tweak = catalogue.get(expert);
        let may_break = tweak.map(|tweak| tweak.may_break.clone()).unwrap_or_default();
        if context.asks_owner(&format!("Sift {expert} too? It is for experts. {may_break}"))? {
            request.experts.insert(expert.clone());
        }
    }
    sifted = design(context, &*pc, ledger, &request)?;
    let mut page = Page::default();
    let begin = SiftBeginning {
        sifted: &sifted,
        recording: source.as_ref().and_then(SceneSource::in_words),
        is_simulated: pc.identity().kind == PcKind::Rehearsal,
        undo_folder: context.undo_folder(&*pc),
    };
    show_beginning(&begin, &mut page);
    context.confirm(&page, "Begin it?")?;
    let driver = SiftDriver::begin(context, pc, ledger, sifted.design)?;
    drive(context, driver)
}

/// Drives a sift and tells where it stopped.
fn drive(context: &Context, mut driver: SiftDriver<'_>) -> Result<Outcome, Failure> {
    let source = driver.source(context)?;
    let stopped = driver.drive(source.as_ref())?;
    let (ledger, _, record) = driver.done()?;
    let report = report(ledger, &record, false)?;
    match stopped {
        Stopped::Ended => Ok(Outcome::yes(&report)),
        Stopped::ForRestart | Stopped::Restarting | Stopped::Resting => {
            Ok(Outcome::yes(&SiftStatus { report, stopped: Some(stopped) }))
        }
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<SiftList>("sift list");
    schemas.prints::<SiftStatus>("sift status");
    schemas.prints::<crate::operations::sift::SiftReport>("sift show");
    schemas.prints::<SiftStatus>("sift show");
    schemas.prints::<crate::operations::sift::SiftReport>("sift start");
    schemas.prints::<SiftStatus>("sift start");
    schemas.prints::<crate::operations::sift::SiftReport>("sift resume");
    schemas.prints::<SiftStatus>("sift resume");
    schemas.prints::<TuneShown>("sift resume");
    schemas.prints::<crate::operations::sift::SiftReport>("sift abandon");
    schemas.prints::<SiftStatus>("sift abandon");
    schemas.prints::<TuneShown>("sift abandon");
}
