//! `frevin trial`

use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use frevin_core::ids::SceneName;
use frevin_core::playing::{PriorityClass, ProcessHolds, ProcessorChoice};
use frevin_core::trial::in_play::PlaySource;
use frevin_core::trial::{KeepPolicy, TrialId};
use frevin_core::verdict::{Judge, Margins, PairLimit, Verdict};
use frevin_ledger::{Ledger, TrialRecord};
use frevin_pc::{PcKind, Restarts};

use crate::as_administrator;
use crate::commands::in_play::InPlayArgs;
use crate::commands::play::parse_priority;
use crate::commands::target::TweakArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::operations::play::refuse_playing;
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::target::Named;
use crate::operations::trial::{
    Arms, Beginning, Driver, PROBES_A_RUN, Request, Stopped, TrialList, design, find, open,
    refuse_open, report, status,
};
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::Page;
use crate::view::trial::show_beginning;

/// Find out whether a change helps: both states visited in turns until the difference is clear of chance, and what is worse rolled back
#[derive(Debug, Subcommand)]
pub(crate) enum TrialCommand {
    Start(Box<StartArgs>),
    /// Go on with a trial: after a restart, a pause, or whatever cut it off
    Resume {
        /// Windows has started it after a sign-in
        #[arg(long, hide = true)]
        after_sign_in: bool,
    },
    /// Show how far the trial that is going on is
    Status {
        /// Show the figures so far too; they are no reason to stop
        #[arg(long)]
        peek: bool,
    },
    /// Put the PC back for now; `resume` goes on
    Pause,
    /// Give the trial up, and put the PC back to what it was before it
    Abandon,
    /// List the trials of this PC
    List,
    /// Show a trial whole, with the pairs in the order in which they were made
    Show {
        /// Its number [default: the latest]
        trial: Option<i64>,
    },
}

/// Begin a trial of a profile or a tweak, against what is in force. Exit code 1 if it is worse
#[derive(Debug, Args)]
pub(crate) struct StartArgs {
    /// A saved profile: NAME, NAME@3, or NAME@ and the beginning of a hash
    #[arg(value_name = "PROFILE[@REV]", required_unless_present_any = ["tweak", "without", "priority", "processors", "unthrottled"], conflicts_with = "tweak")]
    profile: Option<String>,
    #[command(flatten)]
    tweaks: TweakArgs,
    /// Compare with this profile, instead of with what is in force
    #[arg(long, value_name = "PROFILE[@REV]", conflicts_with_all = ["without", "in_play"])]
    against: Option<String>,
    /// Judge a tweak or a change that is in force by leaving it out
    #[arg(long, value_name = "AREA/NAME|CHANGE", conflicts_with_all = ["profile", "tweak", "in_play"])]
    without: Option<String>,
    /// Let this tweak touch what is protected
    #[arg(long, value_name = "AREA/NAME")]
    allow_protected: Vec<String>,
    /// What is measured; several where it is measured at several graphics levels, each a scene of its own
    /// [default: what the profile names]
    #[arg(long, value_name = "SCENE")]
    scene: Vec<SceneName>,
    #[command(flatten)]
    in_play: InPlayArgs,
    /// In play, try this priority class of the program that is played
    #[arg(long, value_name = "CLASS", requires = "in_play", conflicts_with_all = ["profile", "tweak"], value_parser = parse_priority)]
    priority: Option<PriorityClass>,
    /// In play, try these processors for it: fast-cores, without-first-core, one-thread-a-core, numbers like 0-3,6, or a
    /// mask like 0xff
    #[arg(long, value_name = "PROCESSORS", requires = "in_play", conflicts_with_all = ["profile", "tweak"])]
    processors: Option<ProcessorChoice>,
    /// In play, try never running it slower to save power
    #[arg(long, requires = "in_play", conflicts_with_all = ["profile", "tweak"])]
    unthrottled: bool,
    /// Runs of a visit that count
    #[arg(long, default_value_t = 3, conflicts_with = "in_play", value_parser = clap::value_parser!(u16).range(1..=50))]
    runs: u16,
    /// Length of a run
    #[arg(long, default_value_t = 60, conflicts_with = "in_play", value_parser = clap::value_parser!(u16).range(5..=3600))]
    seconds: u16,
    /// Let Frevin restart the PC itself where that is needed, each time after half a minute, and go on after you
    /// have signed in [live PCs; else it says when to restart]
    #[arg(long, conflicts_with = "in_play")]
    restart_by_itself: bool,
    /// What the order of the visits comes from [default: another each time]
    #[arg(long)]
    seed: Option<u64>,
    /// The difference worth having in average FPS, or in the median ping or latency where that is judged, in
    /// percent [default: 1, or 5 of a ping, 2 of a latency]
    #[arg(long, value_name = "PERCENT")]
    average_margin: Option<f64>,
    /// The difference worth having in 1% low, or in the slowest twentieth of pings or latencies, in percent
    /// [default: 3, or 10 of a ping, 5 of a latency]
    #[arg(long, value_name = "PERCENT")]
    low_margin: Option<f64>,
    /// The most time that it may take, like 90min or 3h: it chooses how many pairs there may be
    #[arg(long, value_name = "TIME", conflicts_with = "in_play", value_parser = parse_budget)]
    budget: Option<Duration>,
    /// What stays in force where no difference is shown
    #[arg(long, value_enum, default_value_t = Keep::Better)]
    keep: Keep,
    /// What decides
    #[arg(long, value_enum, default_value_t = JudgeName::FrameRate)]
    judge: JudgeName,
    /// Also time how this address answers, around each visit: a ping that grows longer vetoes. With --judge ping
    /// it is asked 200 times during each run, and needs no game
    #[arg(
        long,
        value_name = "ADDRESS",
        conflicts_with = "in_play",
        required_if_eq("judge", "ping")
    )]
    ping: Option<String>,
    /// The time between two of those questions, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 50, value_parser = clap::value_parser!(u64).range(0..=10_000))]
    ping_pause_ms: u64,
}

impl JudgeName {
    pub(crate) fn judge(self) -> Judge {
        match self {
            Self::FrameRate => Judge::FrameRate,
            Self::Ping => Judge::Ping,
            Self::Latency => Judge::Latency,
        }
    }
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Keep {
    /// Only what is better
    Better,
    /// What was shown to make no difference too
    AsGood,
    /// What was not shown to be worse
    NotWorse,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum JudgeName {
    /// Average FPS and 1% low
    FrameRate,
    /// How fast the address of --ping answers
    Ping,
    /// How late frames answer, where the logs of the scene have a column of latency
    Latency,
}

/// A length of time as people write it: `90min`, `3h`, `1h30min`.
pub(crate) fn parse_budget(text: &str) -> Result<Duration, String> {
    let length: jiff::SignedDuration =
        text.parse().map_err(|_| "write it like 90min or 3h".to_owned())?;
    Duration::try_from(length).map_err(|_| "a budget is no less than nothing".to_owned())
}

pub(crate) fn run(context: &Context, command: &TrialCommand) -> Result<Outcome, Failure> {
    let mut pc = context.restartable_pc()?;
    let mut ledger = context.ledger()?;
    let pc = &mut *pc;
    match command {
        TrialCommand::Start(args) => start(context, pc, &mut ledger, args),
        TrialCommand::Resume { after_sign_in } => {
            let record = open(&ledger, &*pc)?;
            if *after_sign_in && record.design.as_administrator && !pc.has_administrator_rights()? {
                return ask_for_rights();
            }
            let mut driver = Driver::resume(context, pc, &mut ledger, record.id)?;
            driver.go_on()?;
            let outcome = drive(context, driver, &record)?;
            if *after_sign_in { keep_window(context, outcome) } else { Ok(outcome) }
        }
        TrialCommand::Pause => {
            let record = open(&ledger, &*pc)?;
            let mut driver = Driver::resume(context, pc, &mut ledger, record.id)?;
            driver.pause()?;
            drive(context, driver, &record)
        }
        TrialCommand::Abandon => {
            let record = open(&ledger, &*pc)?;
            let mut driver = Driver::resume(context, pc, &mut ledger, record.id)?;
            driver.give_up()?;
            drive(context, driver, &record)
        }
        TrialCommand::Status { peek } => {
            let record = find(&ledger, &*pc, None)?;
            Ok(Outcome::yes(&status(&ledger, &*pc, &record, *peek)?))
        }
        TrialCommand::List => {
            let records = ledger.trials(&pc.identity().id)?;
            let trials = records.iter().map(|record| report(&ledger, None, record));
            Ok(Outcome::yes(&TrialList { trials: trials.collect::<Result<_, _>>()? }))
        }
        TrialCommand::Show { trial } => {
            let record = find(&ledger, &*pc, trial.map(TrialId))?;
            if record.trial().ended().is_none() {
                return Ok(Outcome::yes(&status(&ledger, &*pc, &record, false)?));
            }
            Ok(Outcome::yes(&report(&ledger, Some(&*pc), &record)?))
        }
    }
}

fn start(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    args: &StartArgs,
) -> Result<Outcome, Failure> {
    refuse_unfinished(ledger, &*pc)?;
    refuse_open(ledger, &*pc)?;
    refuse_playing(ledger, &*pc)?;
    let mut request = request(context, args)?;
    if let Some(asked) = args.in_play.asked() {
        if let Some(scene) = args.in_play.scene()? {
            ledger.add_scene(&scene)?;
            request.scenes = vec![scene.name];
        }
        request.in_play = Some(asked);
    }
    for named in request.arms.named() {
        keep_ready_made(context, ledger, named)?;
    }
    request.as_administrator = pc.has_administrator_rights()?;
    let designed = design(context, &*pc, ledger, &request)?;
    if designed.design.in_play.is_some() && designed.design.levels.len() != 1 {
        return Err(Failure::new(
            Kind::Usage,
            "in play one scene is played: name one with --scene",
        ));
    }
    let plays_scene =
        designed.design.in_play.as_ref().is_none_or(|in_play| in_play.source == PlaySource::Scene);
    let find = |scene| SceneSource::find(context, &*pc, ledger, scene);
    let scenes = designed.design.levels.iter().filter(|_| plays_scene);
    let sources: Vec<SceneSource> = scenes.map(find).collect::<Result<_, _>>()?;
    // A scene that starts its program anew spares the restart.
    let designed = if sources.iter().all(SceneSource::starts_program) {
        request.runs_start_program = true;
        design(context, &*pc, ledger, &request)?
    } else {
        designed
    };
    let mut page = Page::default();
    let is_simulated = pc.identity().kind == PcKind::Rehearsal;
    let recording: Vec<String> = sources.iter().filter_map(SceneSource::in_words).collect();
    show_beginning(&Beginning { designed: &designed, recording, is_simulated }, &mut page);
    context.confirm(&page, "Begin it?")?;
    let driver = Driver::begin(context, pc, ledger, designed.design)?;
    let record = driver.record()?;
    drive(context, driver, &record)
}

fn request(context: &Context, args: &StartArgs) -> Result<Request, Failure> {
    for margin in [args.average_margin, args.low_margin].into_iter().flatten() {
        if !(margin > 0.0 && margin <= 50.0) {
            let message = format!("a margin of {margin} % is none; write one above 0, up to 50");
            return Err(Failure::new(Kind::Usage, message));
        }
    }
    let defaults = Margins::default();
    let [average, low] = [args.average_margin, args.low_margin].map(|m| m.map(|m| m / 100.0));
    let (judge, margins) = match args.judge {
        JudgeName::FrameRate => (
            Judge::FrameRate,
            Margins {
                average_fps: average.unwrap_or(defaults.average_fps),
                low_1_percent_fps: low.unwrap_or(defaults.low_1_percent_fps),
                ..defaults
            },
        ),
        JudgeName::Latency => (
            Judge::Latency,
            Margins {
                latency_median: average.unwrap_or(defaults.latency_median),
                latency_percentile_95: low.unwrap_or(defaults.latency_percentile_95),
                ..defaults
            },
        ),
        JudgeName::Ping => (
            Judge::Ping,
            Margins {
                ping_median: average.unwrap_or(defaults.ping_median),
                ping_percentile_95: low.unwrap_or(defaults.ping_percentile_95),
                ..defaults
            },
        ),
    };
    let probing_ms = u64::from(PROBES_A_RUN) * args.ping_pause_ms;
    let run_seconds = match judge {
        // Without a game a run is as long as its questions take.
        Judge::Ping if args.scene.is_empty() => {
            u32::try_from(probing_ms.div_ceil(1000)).unwrap_or(u32::MAX)
        }
        Judge::Ping | Judge::FrameRate | Judge::Latency => args.seconds.into(),
    };
    let named = args.tweaks.or_profile(args.profile.as_ref());
    let holds = ProcessHolds {
        priority: args.priority,
        processors: args.processors.clone(),
        unthrottled: args.unthrottled,
        memory_priority: None,
    };
    let arms = match (named, &args.against, &args.without) {
        (Some(named), None, _) => Arms::Apply(named),
        (Some(named), Some(other), _) => Arms::Against(Named::Profile(other.clone()), named),
        (None, _, Some(what)) => Arms::Without(what.clone()),
        (None, _, None) if !holds.is_empty() => Arms::Process(holds),
        (None, _, None) => {
            let message =
                "name a profile, a tweak with --tweak, or what is in force with --without";
            return Err(Failure::new(Kind::Usage, message));
        }
    };
    let seed = args.seed.unwrap_or_else(|| seed_of_now(context));
    Ok(Request {
        arms,
        consents: args.allow_protected.clone(),
        scenes: args.scene.clone(),
        runs: args.runs.into(),
        run_seconds,
        seed,
        margins,
        limit: PairLimit::default(),
        budget: args.budget,
        keep: match args.keep {
            Keep::Better => KeepPolicy::Better,
            Keep::AsGood => KeepPolicy::AsGood,
            Keep::NotWorse => KeepPolicy::NotWorse,
        },
        judge,
        ping: args.ping.clone(),
        ping_pause_ms: args.ping_pause_ms,
        runs_start_program: false,
        in_play: None,
        restarts_by_itself: args.restart_by_itself,
        as_administrator: false,
    })
}

/// Starts Frevin anew with an administrator's rights, which Windows asks its user for: the trial was begun with them.
pub(crate) fn ask_for_rights() -> Result<Outcome, Failure> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    as_administrator::start(&words).map_err(|error| {
        let message = format!("it was begun with an administrator's rights: {error}");
        Failure::new(Kind::Guarded, message)
            .hint("as administrator, `frevin trial resume` or `frevin sift resume` goes on with it")
    })?;
    Ok(Outcome::done(&RightsAsked { goes_on_as_administrator: true }))
}

/// It goes on elsewhere.
#[derive(Debug, schemars::JsonSchema, serde::Serialize)]
struct RightsAsked {
    goes_on_as_administrator: bool,
}

impl crate::outcome::View for RightsAsked {
    fn show(&self, page: &mut Page) {
        page.line("It goes on in a window of its own, with an administrator's rights.");
    }
}

/// Shows what came of it, and waits: the window that Windows opened for it would close at once.
pub(crate) fn keep_window(context: &Context, outcome: Outcome) -> Result<Outcome, Failure> {
    outcome.page.print()?;
    // Where nobody is there to press it, there is nobody to read it either.
    let _ = context.wait_for_owner("Press Enter to close this window");
    Ok(Outcome { page: Page::default(), ..outcome })
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<TrialList>("trial list");
    schemas.prints::<crate::operations::trial::StatusReport>("trial status");
    schemas.prints::<crate::operations::trial::TrialReport>("trial show");
    schemas.prints::<crate::operations::trial::StatusReport>("trial show");
    schemas.prints::<crate::operations::trial::TrialReport>("trial start");
    schemas.prints::<crate::operations::trial::StatusReport>("trial start");
    schemas.prints::<crate::operations::trial::TrialReport>("trial resume");
    schemas.prints::<crate::operations::trial::StatusReport>("trial resume");
    schemas.prints::<RightsAsked>("trial resume");
    schemas.prints::<RightsAsked>("sift resume");
    schemas.prints::<crate::operations::trial::StatusReport>("trial pause");
    schemas.prints::<crate::operations::trial::TrialReport>("trial abandon");
    schemas.prints::<crate::operations::trial::StatusReport>("trial abandon");
}

/// A seed that is another each time: the moment to the nanosecond, of which the lower half changes.
pub(crate) fn seed_of_now(context: &Context) -> u64 {
    let nanoseconds = context.clock.now().as_nanosecond();
    u64::try_from(nanoseconds & i128::from(u64::MAX)).unwrap_or_default()
}

/// Drives a trial and tells where it stopped.
fn drive(
    context: &Context,
    mut driver: Driver<'_>,
    record: &TrialRecord,
) -> Result<Outcome, Failure> {
    // What is played is found when play begins.
    let levels: &[SceneName] =
        if record.design.in_play.is_some() { &[] } else { &record.design.levels };
    let sources = driver.sources(context, levels)?;
    let stopped = driver.drive(&mut |level| sources[level].make(context))?;
    let (ledger, pc, record) = driver.done()?;
    match stopped {
        Stopped::Ended => {
            let report = report(ledger, Some(pc), &record)?;
            let is_yes = report.comparison.verdict != Verdict::Worse;
            Ok(Outcome::with(&report, is_yes))
        }
        Stopped::ForRestart | Stopped::Restarting | Stopped::Resting => {
            Ok(Outcome::yes(&status(ledger, pc, &record, false)?))
        }
    }
}
