//! `frevin tune`

use std::collections::BTreeSet;
use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::ids::SceneName;
use frevin_core::trial::in_play::PlaySource;
use frevin_core::tune::Goal;
use frevin_core::tweak::TweakId;
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::{Pc, PcKind, Restarts};

use crate::commands::in_play::{parse_minutes, parse_seconds};
use crate::commands::inspect::ask;
use crate::commands::sift::PingArgs;
use crate::commands::trial::{JudgeName, ask_for_rights, keep_window, parse_budget, seed_of_now};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::driving::is_driven_elsewhere;
use crate::operations::pausing;
use crate::operations::play::refuse_playing;
use crate::operations::refuse_unfinished;
use crate::operations::self_test::self_test;
use crate::operations::sift::SiftDriver;
use crate::operations::target::find_tweaks;
use crate::operations::trial::{AskedInPlay, refuse_open};
#[cfg(test)]
use crate::operations::tune::EveningBeginning;
use crate::operations::tune::{
    WantedEvening, begin, find, go_on_in_runs, put_back_before, save_kept, settle, told_evening_of,
};
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::Page;
use crate::view::tune::{PauseAsked, Stands, TuneShown, show_beginning};

/// Spend an evening: find out which of many tweaks help on this PC within the time there is, keep what is proven, and take
/// back all else
///
/// Most is asked about what is most expected to help, by how well founded it is and by what was measured on this PC. What
/// helps is tried together against the PC as it was, and kept only where it is better. Cut off or stopped at any moment,
/// `frevin tune resume` goes on and `frevin tune abandon` puts the PC back.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct TuneArgs {
    #[command(subcommand)]
    command: Option<TuneCommand>,
    #[command(flatten)]
    start: TuneStartArgs,
}

#[derive(Debug, Subcommand)]
enum TuneCommand {
    /// Show how far the evening is that is going on, or what the latest one came to
    Status,
    /// Go on with it: after a restart, or whatever cut it off
    Resume {
        /// Windows has started it after a sign-in
        #[arg(long, hide = true)]
        after_sign_in: bool,
    },
    /// Put it off: nothing stays in force that is not proven, until `tune resume`
    Pause,
    /// Give it up, and put the PC back to what it was before it
    Abandon,
}

#[derive(Debug, Args)]
struct TuneStartArgs {
    /// What is measured [default: the only scene there is, or the one that the profile names]
    #[arg(long, value_name = "SCENE")]
    scene: Option<SceneName>,
    /// The time that there is, like 90min or 3h
    #[arg(long, value_name = "TIME", default_value = "3h", value_parser = parse_budget)]
    budget: Duration,
    /// The profile whose tweaks may be asked about [default: a ready-made one for this kind of PC]
    #[arg(long, value_name = "PROFILE[@REV]")]
    candidates: Option<String>,
    /// Ask again about what has aged since the evening before, after an update of Windows, the graphics driver or the
    /// game: the largest effects first, and nothing else
    #[arg(long, conflicts_with = "candidates")]
    again: bool,
    /// Ask about what acts at once while you play, before the rest is asked about in runs without you: no restarts, and a
    /// few minutes for many tweaks
    #[arg(long, conflicts_with_all = ["again", "quiet_pc"])]
    in_play: bool,
    /// What is played is a benchmark that repeats after so many seconds: the same place of two passes is compared
    #[arg(long = "loop", value_name = "SECONDS", requires = "in_play", value_parser = parse_seconds)]
    loop_seconds: Option<f64>,
    /// The most that is played in one go, in minutes; `tune resume` plays on [default: until there is a result]
    #[arg(long, value_name = "MINUTES", requires = "in_play", value_parser = parse_minutes)]
    minutes: Option<f64>,
    /// Ask for less power and noise instead: what is shown to cost no frames is kept [default candidates: quiet]
    #[arg(long, conflicts_with = "again")]
    quiet_pc: bool,
    /// What decides: frame rate, how fast the address of --ping answers, or how late frames answer to their player
    #[arg(long, value_enum, default_value_t = JudgeName::FrameRate, conflicts_with_all = ["again", "quiet_pc", "in_play"])]
    judge: JudgeName,
    #[command(flatten)]
    ping: PingArgs,
    /// Mend nothing of what is plainly wrong with the PC; else each thing that can be taken back is mended first
    #[arg(long)]
    as_it_is: bool,
    /// Go on although frames are capped, where little of what is asked can be seen
    #[arg(long)]
    despite_cap: bool,
    /// Ask about this tweak too, although it is for experts
    #[arg(long, value_name = "AREA/NAME")]
    expert: Vec<String>,
    /// Show what the evening would be, and begin nothing
    #[arg(long)]
    plan: bool,
    /// What chance in it comes from [default: another each time]
    #[arg(long)]
    seed: Option<u64>,
    /// Let Frevin restart the PC itself where that is needed, each time after half a minute, and go on after you have
    /// signed in [live PCs; else it says when to restart]
    #[arg(long)]
    restart_by_itself: bool,
}

impl TuneStartArgs {
    fn wanted(&self, context: &Context) -> Result<WantedEvening, Failure> {
        Ok(WantedEvening {
            scene: self.scene.clone(),
            budget: self.budget,
            goal: match self.judge {
                JudgeName::FrameRate if self.quiet_pc => Goal::Quiet,
                JudgeName::FrameRate => Goal::Frames,
                JudgeName::Ping => Goal::Ping,
                JudgeName::Latency => Goal::Latency,
            },
            ping: self.ping.asked(self.judge)?,
            candidates: self.candidates.clone(),
            is_again: self.again,
            in_play: self.in_play.then(|| AskedInPlay {
                source: PlaySource::Scene,
                loop_s: self.loop_seconds,
                sitting_s: self.minutes.map(|minutes| 60.0 * minutes),
            }),
            as_it_is: self.as_it_is,
            not_mended: BTreeSet::new(),
            despite_cap: self.despite_cap,
            experts: find_tweaks(&context.catalogue()?, &self.expert)?,
            seed: self.seed.unwrap_or_else(|| seed_of_now(context)),
            restarts_by_itself: self.restart_by_itself,
        })
    }
}

pub(crate) fn run(context: &Context, args: &TuneArgs) -> Result<Outcome, Failure> {
    let mut pc = context.restartable_pc()?;
    let mut ledger = context.ledger()?;
    let pc = &mut *pc;
    match &args.command {
        None => start(context, pc, &mut ledger, &args.start),
        Some(TuneCommand::Status) => {
            let record = find(&ledger, &*pc, None)?;
            let stands = match is_driven_elsewhere(context)? {
                true => Stands::InAnotherWindow,
                false => Stands::Waiting,
            };
            told(&*pc, &ledger, &record, stands)
        }
        Some(TuneCommand::Resume { after_sign_in }) => {
            let record = find(&ledger, &*pc, None)?;
            resume(context, pc, &mut ledger, &record, *after_sign_in)
        }
        Some(TuneCommand::Pause) => pause(context, pc, &mut ledger),
        Some(TuneCommand::Abandon) => {
            let record = find(&ledger, &*pc, None)?;
            abandon(context, pc, &mut ledger, &record)
        }
    }
}

/// Gives an evening up. Of one that was given up and cut off while the PC was put back, that goes on.
pub(crate) fn abandon(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    record: &SiftRecord,
) -> Result<Outcome, Failure> {
    if record.has_ended() {
        let is_given_up = record.sift()?.is_given_up();
        if is_given_up && put_back_before(context, &mut *pc, ledger, record)? {
            return told(&*pc, ledger, record, Stands::Waiting);
        }
        let message = format!("evening {} is over already", record.id);
        return Err(Failure::new(Kind::NotFound, message)
            .hint("`frevin rollback` takes back what it keeps"));
    }
    let mut driver = SiftDriver::resume(context, pc, ledger, record.id)?;
    driver.give_up()?;
    drive(context, driver)
}

/// Puts an evening off, or asks whoever drives it in another window to.
fn pause(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
) -> Result<Outcome, Failure> {
    let record = find(ledger, &*pc, None)?;
    if record.has_ended() {
        let message = format!("evening {} is over already", record.id);
        return Err(Failure::new(Kind::NotFound, message).hint("`frevin tune status` tells it"));
    }
    match SiftDriver::resume(context, pc, ledger, record.id) {
        Ok(mut driver) => {
            driver.pause()?;
            drive(context, driver)
        }
        Err(failure) if failure.kind == Kind::Busy => {
            pausing::ask(context, &record.pc, record.id)?;
            Ok(Outcome::yes(&PauseAsked { tune: record.id }))
        }
        Err(failure) => Err(failure),
    }
}

/// Goes on with an evening; of one that has ended, what it keeps is saved where that was cut off.
pub(crate) fn resume(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    record: &SiftRecord,
    after_sign_in: bool,
) -> Result<Outcome, Failure> {
    if record.has_ended() {
        save_kept(context, ledger, record)?;
        return told(&*pc, ledger, record, Stands::Waiting);
    }
    if after_sign_in && record.design.as_administrator && !pc.has_administrator_rights()? {
        return ask_for_rights();
    }
    let mut driver = SiftDriver::resume(context, pc, ledger, record.id)?;
    driver.go_on()?;
    let outcome = drive(context, driver)?;
    if after_sign_in { keep_window(context, outcome) } else { Ok(outcome) }
}

fn told(
    pc: &dyn Pc,
    ledger: &Ledger,
    record: &SiftRecord,
    stands: Stands,
) -> Result<Outcome, Failure> {
    let report = told_evening_of(pc.identity().kind, ledger, record)?;
    Ok(Outcome::yes(&TuneShown { report, stands }))
}

fn start(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    args: &TuneStartArgs,
) -> Result<Outcome, Failure> {
    // What goes on is gone on with, and settles what was cut off.
    refuse_open(ledger, &*pc)?;
    refuse_unfinished(ledger, &*pc)?;
    refuse_playing(ledger, &*pc)?;
    if !args.plan {
        test_first(context, &*pc)?;
        if context.can_ask() && !context.has_word() {
            ask(context, &*pc)?;
        }
    }
    let mut wanted = args.wanted(context)?;
    let mut settled = settle(context, pc, ledger, &wanted)?;
    if args.plan {
        return Ok(Outcome::yes(&settled.begin));
    }
    // Each tweak for experts is a question of its own; where nobody can be asked, it is left out.
    wanted.experts.extend(agreed_experts(context, &settled.experts_unasked)?);
    // So is each thing to mend, but one word for everything is one for each of them.
    if context.can_ask() && !context.has_word() {
        for mend in &settled.begin.opening.mends {
            let question = format!("{} {} Mend it first ({})?", mend.evidence, mend.why, mend.used);
            if !context.asks_owner(&question)? {
                wanted.not_mended.insert(mend.used.tweak.clone());
            }
        }
        settled = settle(context, pc, ledger, &wanted)?;
    }
    let mut page = Page::default();
    show_beginning(&settled.begin, &mut page);
    context.confirm(&page, "Begin it?")?;
    let driver = begin(context, pc, ledger, settled)?;
    drive(context, driver)
}

/// Those of some tweaks for experts that their owner agrees to ask about.
fn agreed_experts(context: &Context, unasked: &[TweakId]) -> Result<Vec<TweakId>, Failure> {
    let catalogue = context.catalogue()?;
    let mut agreed = Vec::new();
    for expert in unasked {
        let may_break = catalogue.get(expert).map_or("", |tweak| tweak.may_break.as_str());
        if context.asks_owner(&format!("Ask about {expert} too? It is for experts. {may_break}"))? {
            agreed.push(expert.clone());
        }
    }
    Ok(agreed)
}

/// Tests Frevin itself on a live PC on which no self-test has passed since Windows was updated.
fn test_first(context: &Context, pc: &dyn Pc) -> Result<(), Failure> {
    let build = context.facts(pc)?.windows.build;
    if pc.identity().kind != PcKind::Live || context.has_passed_self_test(pc, build)? {
        return Ok(());
    }
    context.say_on_terminal("Frevin tests itself on this PC first; it takes less than a minute");
    if self_test(context)?.has_passed {
        return Ok(());
    }
    Err(Failure::new(Kind::Guarded, "nothing was begun: the self-test did not pass on this PC")
        .hint("`frevin self-test` says what failed"))
}

/// Drives an evening and tells where it stopped.
fn drive(context: &Context, mut driver: SiftDriver<'_>) -> Result<Outcome, Failure> {
    let (stopped, ledger, pc, record) = loop {
        let source = driver.source(context)?;
        let stopped = driver.drive(source.as_ref())?;
        let (ledger, pc, record) = driver.done()?;
        if !record.sift()?.is_played_out() {
            break (stopped, ledger, pc, record);
        }
        context.say_on_terminal(
            "what was played is known; the rest is asked about in runs, without you",
        );
        driver = go_on_in_runs(context, pc, ledger, &record)?;
    };
    if record.has_ended() && record.sift()?.is_given_up() {
        put_back_before(context, pc, ledger, &record)?;
    }
    save_kept(context, ledger, &record)?;
    told(&*pc, ledger, &record, Stands::Stopped(stopped))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<TuneShown>("tune");
    schemas.prints::<EveningBeginning>("tune");
    schemas.prints::<TuneShown>("tune status");
    schemas.prints::<TuneShown>("tune resume");
    schemas.prints::<TuneShown>("tune pause");
    schemas.prints::<PauseAsked>("tune pause");
    schemas.prints::<TuneShown>("tune abandon");
}
