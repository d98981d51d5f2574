//! `frevin tune`

use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::ids::SceneName;
use frevin_core::trial::KeepPolicy;
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::{Pc, PcKind, Restarts};

use crate::commands::trial::{ask_for_rights, keep_window, parse_budget, seed_of_now};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::operations::inspect::findings_here;
use crate::operations::play::refuse_playing;
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::sift::{SiftDriver, SiftRequest};
use crate::operations::target::{Named, find_tweaks};
use crate::operations::trial::{Stopped, refuse_open};
use crate::operations::tune::{prepare, save_kept, told_evening, usual_candidates};
use crate::operations::waiting::waiting;
use crate::outcome::Outcome;
use crate::schemas::Schemas;
use crate::view::Page;
use crate::view::tune::{EveningBeginning, TuneShown, show_beginning};

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
            told(&*pc, &ledger, &record, None)
        }
        Some(TuneCommand::Resume { after_sign_in }) => {
            let record = latest(&ledger, &*pc)?;
            resume(context, pc, &mut ledger, &record, *after_sign_in)
        }
        Some(TuneCommand::Abandon) => {
            let record = latest(&ledger, &*pc)?;
            if record.has_ended() {
                let message = format!("evening {} is over already", record.id);
                return Err(Failure::new(Kind::NotFound, message)
                    .hint("`frevin rollback` takes back what it keeps"));
            }
            let mut driver = SiftDriver::resume(context, pc, &mut ledger, record.id)?;
            driver.give_up()?;
            drive(context, driver)
        }
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
        return told(&*pc, ledger, record, None);
    }
    if after_sign_in && record.design.as_administrator && !pc.has_administrator_rights()? {
        return ask_for_rights();
    }
    let driver = SiftDriver::resume(context, pc, ledger, record.id)?;
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
    stopped: Option<Stopped>,
) -> Result<Outcome, Failure> {
    let Some(evening) = &record.design.evening else {
        return Err(Failure::new(Kind::Internal, "it is no evening"));
    };
    let report = told_evening(pc.identity().kind, ledger, record, evening)?;
    Ok(Outcome::yes(&TuneShown { report, stopped }))
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
    let catalogue = context.catalogue()?;
    let experts = find_tweaks(&catalogue, &args.expert)?;
    let profile = match &args.candidates {
        Some(profile) => profile.clone(),
        None => usual_candidates(context, &*pc)?,
    };
    let only_scene = || -> Result<Option<SceneName>, Failure> {
        let scenes = ledger.scenes()?;
        Ok(match &scenes[..] {
            [only] => Some(only.name.clone()),
            _ => None,
        })
    };
    let mut request = SiftRequest {
        profile: profile.clone(),
        scene: match &args.scene {
            Some(scene) => Some(scene.clone()),
            None => only_scene()?,
        },
        runs: 1,
        run_seconds: 60,
        seed: args.seed.unwrap_or_else(|| seed_of_now(context)),
        budget: None,
        only: None,
        keep: KeepPolicy::Better,
        experts,
        as_administrator: pc.has_administrator_rights()?,
        restarts_by_itself: args.restart_by_itself,
        runs_start_program: false,
        in_play: None,
    };
    keep_ready_made(context, ledger, &Named::Profile(profile))?;
    let (mut sifted, mut evening) = prepare(context, &*pc, ledger, &request, args.budget)?;
    let source = SceneSource::find(context, &*pc, ledger, &sifted.design.scene)?;
    if source.starts_program() {
        // A scene that starts its program anew spares the restart.
        request.runs_start_program = true;
        (sifted, evening) = prepare(context, &*pc, ledger, &request, args.budget)?;
    }
    let begin = EveningBeginning {
        scene: sifted.design.scene.clone(),
        title: sifted.design.title.clone(),
        restarts: sifted.design.restarts,
        evening,
        left_out: sifted.design.left_out.clone(),
        findings: {
            let waits = waiting(&*pc, ledger)?;
            findings_here(context, &*pc, &context.facts(&*pc)?, &waits)?.found.len()
        },
        is_simulated: pc.identity().kind == PcKind::Rehearsal,
    };
    if args.plan {
        return Ok(Outcome::yes(&begin));
    }
    let mut page = Page::default();
    show_beginning(&begin, &mut page);
    context.confirm(&page, "Begin it?")?;
    let driver = SiftDriver::begin(context, pc, ledger, sifted.design)?;
    drive(context, driver)
}

/// Drives an evening and tells where it stopped.
fn drive(context: &Context, mut driver: SiftDriver<'_>) -> Result<Outcome, Failure> {
    let source = driver.source(context)?;
    let stopped = driver.drive(source.as_ref())?;
    let (ledger, pc, record) = driver.done()?;
    save_kept(context, ledger, &record)?;
    told(pc, ledger, &record, Some(stopped))
}

/// What it prints with `--json`.
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<TuneShown>("tune");
    schemas.prints::<EveningBeginning>("tune");
    schemas.prints::<TuneShown>("tune status");
    schemas.prints::<TuneShown>("tune resume");
    schemas.prints::<TuneShown>("tune abandon");
}
