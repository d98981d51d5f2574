//! `frevin tune`

use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::ids::SceneName;
use frevin_core::sift::SiftDesign;
use frevin_core::trial::KeepPolicy;
use frevin_core::tune::{Evening, Mended};
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::{Pc, PcKind, Restarts};

use crate::commands::inspect::ask;
use crate::commands::trial::{ask_for_rights, keep_window, parse_budget, seed_of_now};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::operations::driving::is_driven_elsewhere;
use crate::operations::pausing;
use crate::operations::play::refuse_playing;
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::self_test::self_test;
use crate::operations::sift::{Only, SiftDriver, SiftRequest};
use crate::operations::target::{Named, find_tweaks};
use crate::operations::trial::refuse_open;
use crate::operations::tune::{
    Again, Asked, Mend, Opening, again, baseline, look, mend, prepare, save_kept,
    take_back_if_held, take_back_mended, told_evening, usual_candidates,
};
use crate::outcome::Outcome;
use crate::schemas::Schemas;
use crate::view::Page;
use crate::view::tune::{EveningBeginning, PauseAsked, Stands, TuneShown, show_beginning};

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

pub(crate) fn run(context: &Context, args: &TuneArgs) -> Result<Outcome, Failure> {
    let mut pc = context.restartable_pc()?;
    let mut ledger = context.ledger()?;
    let pc = &mut *pc;
    match &args.command {
        None => start(context, pc, &mut ledger, &args.start),
        Some(TuneCommand::Status) => {
            let record = latest(&ledger, &*pc)?;
            let stands = match is_driven_elsewhere(context)? {
                true => Stands::InAnotherWindow,
                false => Stands::Waiting,
            };
            told(&*pc, &ledger, &record, stands)
        }
        Some(TuneCommand::Resume { after_sign_in }) => {
            let record = latest(&ledger, &*pc)?;
            resume(context, pc, &mut ledger, &record, *after_sign_in)
        }
        Some(TuneCommand::Pause) => pause(context, pc, &mut ledger),
        Some(TuneCommand::Abandon) => {
            let record = latest(&ledger, &*pc)?;
            if record.has_ended() {
                // What was given up and cut off while the PC was put back goes on.
                if record.sift()?.is_abandoned() && put_back_all(context, pc, &mut ledger, &record)?
                {
                    return told(&*pc, &ledger, &record, Stands::Waiting);
                }
                let message = format!("evening {} is over already", record.id);
                return Err(Failure::new(Kind::NotFound, message)
                    .hint("`frevin rollback` takes back what it keeps"));
            }
            let mut driver = SiftDriver::resume(context, pc, &mut ledger, record.id)?;
            driver.give_up()?;
            drive(context, driver)?;
            let record = ledger.sift(record.id)?;
            put_back_all(context, pc, &mut ledger, &record)?;
            told(&*pc, &ledger, &record, Stands::Waiting)
        }
    }
}

/// Puts the PC back to what it was before an evening that was given up; whether anything was left to do.
fn put_back_all(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    record: &SiftRecord,
) -> Result<bool, Failure> {
    let Some(evening) = &record.design.evening else { return Ok(false) };
    let context = context.clone().with_word_given();
    take_back_mended(&context, &mut *pc, ledger, evening)
}

/// Puts an evening off, or asks whoever drives it in another window to.
fn pause(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
) -> Result<Outcome, Failure> {
    let record = latest(ledger, &*pc)?;
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
            pausing::ask(context)?;
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

/// The latest evening of a PC.
fn latest(ledger: &Ledger, pc: &dyn Restarts) -> Result<SiftRecord, Failure> {
    let evenings = ledger.sifts(&pc.identity().id)?;
    evenings.into_iter().rfind(|record| record.design.evening.is_some()).ok_or_else(|| {
        Failure::new(Kind::NotFound, "there was no evening on this PC yet")
            .hint("`frevin tune` begins one")
    })
}

fn told(
    pc: &dyn Pc,
    ledger: &Ledger,
    record: &SiftRecord,
    stands: Stands,
) -> Result<Outcome, Failure> {
    let Some(evening) = &record.design.evening else {
        return Err(Failure::new(Kind::Internal, "it is no evening"));
    };
    let report = told_evening(pc.identity().kind, ledger, record, evening)?;
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
    let again = match args.again {
        true => Some(again(context, &*pc, ledger, args.scene.as_ref())?),
        false => None,
    };
    let mut opening = match args.as_it_is {
        true => Opening::default(),
        false => agreed(context, look(context, &*pc, ledger)?, args.plan)?,
    };
    if let Some(again) = &again {
        opening.mends.extend(again.mended.iter().map(Mend::again));
    }
    let (mut request, asked) = request(context, &*pc, ledger, args, again.as_ref())?;
    keep_ready_made(context, ledger, &Named::Profile(request.profile.clone()))?;
    // What is mended is not asked about.
    let mending = opening.mending();
    let planned = |ledger: &Ledger, request: &SiftRequest| {
        prepare(context, &*pc, ledger, request, asked, &mending)
    };
    let (mut sifted, mut evening) = planned(ledger, &request)?;
    let source = SceneSource::find(context, &*pc, ledger, &sifted.design.scene)?;
    if source.starts_program() {
        // A scene that starts its program anew spares the restart.
        request.runs_start_program = true;
        (sifted, evening) = planned(ledger, &request)?;
    }
    let begin = EveningBeginning {
        scene: sifted.design.scene.clone(),
        title: sifted.design.title.clone(),
        restarts: sifted.design.restarts,
        evening,
        left_out: sifted.design.left_out.clone(),
        opening,
        because: again.as_ref().map(|again| again.because.clone()).unwrap_or_default(),
        taken_back_first: again.as_ref().and_then(|again| again.held.as_ref()).map(|held| held.0),
        is_simulated: pc.identity().kind == PcKind::Rehearsal,
    };
    if args.plan {
        return Ok(Outcome::yes(&begin));
    }
    let mut page = Page::default();
    show_beginning(&begin, &mut page);
    context.confirm(&page, "Begin it?")?;
    let mut before = begin.evening;
    if let Some((change, wishes)) = again.and_then(|again| again.held) {
        take_back_if_held(context, &mut *pc, ledger, change)?;
        before.set_aside = wishes;
        request.after_taking_back = None;
    }
    before.mended = mend_all(context, pc, ledger, &begin.opening.mends)?;
    let settled =
        prepare(context, &*pc, ledger, &request, asked, &mending).and_then(|(sifted, evening)| {
            let visit = baseline(context, pc, ledger, &sifted.design, &source, args.despite_cap)?;
            let Evening { mended, set_aside, .. } = before.clone();
            let evening = Evening { mended, set_aside, baseline: Some(visit), ..evening };
            Ok(SiftDesign { evening: Some(evening), ..sifted.design })
        });
    match settled {
        Ok(design) => {
            let driver = SiftDriver::begin(context, pc, ledger, design)?;
            drive(context, driver)
        }
        Err(failure) => {
            take_back_mended(context, &mut *pc, ledger, &before)?;
            Err(failure)
        }
    }
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

/// What of a PC's faults its owner agrees to have mended, each with a word of its own; all of it where one word was given
/// for everything, or where only the plan is wanted.
fn agreed(context: &Context, opening: Opening, is_plan: bool) -> Result<Opening, Failure> {
    if is_plan || context.has_word() || !context.can_ask() {
        return Ok(opening);
    }
    let mut mends = Vec::new();
    for mend in opening.mends {
        let question = format!("{} {} Mend it first ({})?", mend.evidence, mend.why, mend.used);
        if context.asks_owner(&question)? {
            mends.push(mend);
        }
    }
    Ok(Opening { mends, ..opening })
}

/// Mends what its owner agreed to. What does not hold is put back, said, and left.
fn mend_all(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    mends: &[Mend],
) -> Result<Vec<Mended>, Failure> {
    let mut mended = Vec::new();
    for one in mends {
        match mend(context, &mut *pc, ledger, one) {
            Ok(done) => mended.extend(done),
            Err(failure) if failure.kind == Kind::RefusedAndUndone => {
                context.say_on_terminal(format_args!("{} stays: {}", one.title, failure.message));
            }
            Err(failure) => return Err(failure),
        }
    }
    Ok(mended)
}

/// What is asked of whom, in which scene.
fn request(
    context: &Context,
    pc: &dyn Restarts,
    ledger: &Ledger,
    args: &TuneStartArgs,
    again: Option<&Again>,
) -> Result<(SiftRequest, Asked), Failure> {
    let profile = match (again, &args.candidates) {
        (Some(again), _) => again.profile.clone(),
        (None, Some(profile)) => profile.clone(),
        (None, None) => usual_candidates(context, pc)?,
    };
    let scenes = ledger.scenes()?;
    let only_scene = match &scenes[..] {
        [only] => Some(only.name.clone()),
        _ => None,
    };
    let request = SiftRequest {
        profile,
        scene: again.map(|again| again.scene.clone()).or(args.scene.clone()).or(only_scene),
        runs: 1,
        run_seconds: 60,
        seed: args.seed.unwrap_or_else(|| seed_of_now(context)),
        budget: None,
        only: again.map(|again| Only { tweaks: again.aged.clone(), why: "it has not aged" }),
        after_taking_back: again.and_then(|again| again.held.as_ref()).map(|held| held.0),
        keep: KeepPolicy::Better,
        experts: find_tweaks(&context.catalogue()?, &args.expert)?,
        as_administrator: pc.has_administrator_rights()?,
        restarts_by_itself: args.restart_by_itself,
        runs_start_program: false,
        in_play: None,
    };
    Ok((request, Asked { budget: args.budget, is_again: args.again }))
}

/// Drives an evening and tells where it stopped.
fn drive(context: &Context, mut driver: SiftDriver<'_>) -> Result<Outcome, Failure> {
    let source = driver.source(context)?;
    let stopped = driver.drive(source.as_ref())?;
    let (ledger, pc, record) = driver.done()?;
    save_kept(context, ledger, &record)?;
    told(pc, ledger, &record, Stands::Stopped(stopped))
}

/// What it prints with `--json`.
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<TuneShown>("tune");
    schemas.prints::<EveningBeginning>("tune");
    schemas.prints::<TuneShown>("tune status");
    schemas.prints::<TuneShown>("tune resume");
    schemas.prints::<TuneShown>("tune pause");
    schemas.prints::<PauseAsked>("tune pause");
    schemas.prints::<TuneShown>("tune abandon");
}
