//! Applying a plan: all of it, or nothing.

use std::time::Duration;

use frevin_core::layers::ChangeId;
use frevin_core::preview::{Denied, Drifted, Plan, PlanError, Step, Undoing, Wish, plan, undoing};
use frevin_core::profile::ProfileName;
use frevin_core::setting::{Address, Holds, State, TakesEffect};
use frevin_ledger::{Ledger, LedgerError, NewChange};
use frevin_pc::{Pc, PcError, RestorePoint};
use serde::Serialize;

use super::readings::PcReadings;
use super::refuse_unfinished;
use super::undo_files::{self, UndoFiles};
use super::writing::{Outcome, describe, put_back, write_and_read_back};
use crate::failure::{Failure, Kind};
use crate::session::Session;

/// A plan to be applied, with what it was made of.
pub(crate) struct Order<'a> {
    /// What the change is, for people.
    pub(crate) title: &'a str,
    /// The revision that it applies, if it applies one.
    pub(crate) revision: Option<(&'a ProfileName, u32)>,
    /// What the tweaks want.
    pub(crate) wishes: &'a [Wish],
    /// The plan that was shown.
    pub(crate) plan: Plan,
    /// Whether to overwrite what others have written since.
    pub(crate) force: bool,
}

/// A change that was made.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct Applied {
    pub(crate) change: ChangeId,
    pub(crate) title: String,
    pub(crate) written: usize,
    pub(crate) undo_files: UndoFiles,
    /// What came of asking for a restore point, where this was the PC's first change.
    #[serde(flatten)]
    pub(crate) restore_point: Option<RestorePoint>,
    pub(crate) takes_effect: TakesEffect,
}

/// What a plan for `wishes` is on this PC now.
pub(crate) fn make_plan(
    pc: &dyn Pc,
    ledger: &Ledger,
    wishes: &[Wish],
) -> Result<Plan, PlanError<PcError>> {
    let layers = ledger
        .layers(&pc.identity().id)
        .map_err(|error| PlanError::Pc(PcError::Io(std::io::Error::other(error.to_string()))))?;
    plan(wishes, &PcReadings(pc), &layers)
}

/// Carries out a plan that was shown.
///
/// The ledger has the snapshot, and the undo files are written, before the first write. Every
/// write is read back, and everything once more at the end. A write that fails undoes the others.
pub(crate) fn apply(
    session: &Session,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    order: Order<'_>,
) -> Result<Applied, Failure> {
    refuse_protected(&order.plan)?;
    refuse_denied(&order.plan)?;
    if !order.force {
        refuse_others(&order.plan)?;
    }
    let _lock = session.lock(pc)?;
    refuse_unfinished(ledger, pc)?;
    let mut now = make_plan(pc, ledger, order.wishes)?;
    // What never became part of the plan is known from the facts and does not move.
    now.left_out.clone_from(&order.plan.left_out);
    refuse_moved(&order.plan, &now)?;

    let plan = order.plan;
    let boot = pc.boot()?;
    let back = undoing(&plan.steps, &PcReadings(pc))?;
    let is_first_change = !ledger.has_applied_change(&pc.identity().id)?;
    let id = ledger.begin_change(&NewChange {
        pc: &pc.identity().id,
        title: order.title,
        revision: order.revision,
        boot: &boot.0,
        begun_at: session.clock.now(),
        steps: &plan.steps,
    })?;
    let undo_files = undo_files::write(&session.undo_folder(pc), id, order.title, &back);
    let undo_files = match undo_files {
        Ok(files) => files,
        Err(error) => {
            ledger.abandon_change(id, session.clock.now())?;
            let message = format!("the undo files could not be written: {error}");
            return Err(Failure::new(Kind::RefusedAndUndone, message)
                .hint("nothing was changed; is there room on the disk?"));
        }
    };
    let restore_point = is_first_change.then(|| restore_point(pc));
    let carried_out = carry_out(session, pc, &plan).and_then(|()| readable(session, &plan));
    if let Err(reason) = carried_out {
        return Err(undo(session, pc, ledger, id, &back, reason));
    }
    ledger.finish_change(id, session.clock.now()).map_err(unfinished)?;
    Ok(Applied {
        change: id,
        title: order.title.to_owned(),
        written: plan.writes().count(),
        undo_files,
        restore_point,
        takes_effect: plan.takes_effect(),
    })
}

/// The PC has taken everything, and the ledger cannot say so.
pub(super) fn unfinished(error: LedgerError) -> Failure {
    let message = "the PC has taken it, but the ledger could not be written: it is unfinished";
    Failure::new(Kind::Unfinished, message)
        .detail(error.to_string())
        .hint("once the ledger can be written again, `frevin recover` settles it")
}

fn refuse_protected(plan: &Plan) -> Result<(), Failure> {
    if plan.refusals.is_empty() {
        return Ok(());
    }
    let line = |refusal: &frevin_core::preview::Refusal| {
        format!("`{}` wants {}, which {}", refusal.tweak, refusal.address, refusal.reason)
    };
    let tweak = &plan.refusals[0].tweak;
    Err(Failure::new(Kind::Guarded, "nothing was changed: what this touches is protected")
        .details(plan.refusals.iter().map(line))
        .hint(format!("if you are sure, allow each tweak by name: --allow-protected {tweak}")))
}

/// Nothing is begun that this process could not finish.
fn refuse_denied(plan: &Plan) -> Result<(), Failure> {
    if plan.denied.is_empty() {
        return Ok(());
    }
    let line = |denied: &Denied| {
        format!("`{}` writes {}: {}", denied.tweak, denied.address, denied.reason)
    };
    let message = "nothing was changed: Frevin may not write these settings";
    Err(Failure::new(Kind::Guarded, message)
        .details(plan.denied.iter().map(line))
        .hint("start it as an administrator, or take these tweaks out of the profile"))
}

fn refuse_others(plan: &Plan) -> Result<(), Failure> {
    let Some(first) = plan.changed_by_others.first() else { return Ok(()) };
    let line = |drifted: &Drifted| {
        let Drifted { address, left, actual, .. } = drifted;
        format!("{address}: change {} left {}, it holds {actual}", left.change, left.state)
    };
    let message = "nothing was changed: somebody else has changed these settings since";
    let let_go = format!("frevin rollback --tweak {} --keep", first.left.tweak);
    Err(Failure::new(Kind::ChangedByOthers, message)
        .details(plan.changed_by_others.iter().map(line))
        .hint(format!("`{let_go}` leaves what they wrote and lets go of the setting"))
        .hint("--force overwrites it"))
}

fn refuse_moved(shown: &Plan, now: &Plan) -> Result<(), Failure> {
    if shown == now {
        return Ok(());
    }
    let moved = |step: &&Step| !now.steps.contains(step);
    let line = |step: &Step| {
        let held = now.steps.iter().find(|other| other.address == step.address);
        match held {
            Some(other) => {
                format!("{} held {} and now holds {}", step.address, step.before, other.before)
            }
            None => format!("{} is no longer part of the plan", step.address),
        }
    };
    Err(Failure::new(Kind::ChangedByOthers, "nothing was changed: the PC is no longer as shown")
        .details(shown.steps.iter().filter(moved).map(line))
        .hint("look at the preview again"))
}

/// The way back does not depend on a restore point: what goes wrong is told, and the change goes on.
fn restore_point(pc: &mut dyn Pc) -> RestorePoint {
    let made = pc.restore_point("Before the first change by Frevin");
    made.unwrap_or_else(|error| RestorePoint::Refused { reason: error.to_string() })
}

fn carry_out(session: &Session, pc: &mut dyn Pc, plan: &Plan) -> Result<(), String> {
    let progress = session.progress(plan.writes().count() as u64, "applying");
    for step in plan.writes() {
        match write_and_read_back(pc, &step.address, &step.after) {
            Outcome::Held => progress.inc(1),
            Outcome::LeftInPlace => {
                return Err(format!("{}: it holds something else", step.address));
            }
            Outcome::Failed(reason) => return Err(format!("{}: {reason}", step.address)),
        }
    }
    pc.flush().map_err(|error| error.to_string())?;
    // Once more at the end: a later write may have moved an earlier one.
    for (address, wanted) in last_states(plan) {
        let held = pc.read(address).map_err(|error| error.to_string())?;
        if held != *wanted {
            return Err(format!("{address}: it was {wanted} for a moment and is {held} again"));
        }
    }
    progress.finish_and_clear();
    Ok(())
}

/// As long as Windows' own settings wait for an answer before a display goes back.
const READABLE_WITHIN: Duration = Duration::from_secs(15);

/// A display that was given another mode may show nothing. The change has no end before somebody
/// says that it can be read: should the PC be switched off instead, it is unfinished and goes back.
fn readable(session: &Session, plan: &Plan) -> Result<(), String> {
    let is_mode = |step: &Step| matches!(&step.address, Address::Thing(setting) if setting.part().holds == Holds::Mode);
    let question = "Can you read this on every display?";
    if !plan.writes().any(is_mode) || session.is_readable(question, READABLE_WITHIN) {
        return Ok(());
    }
    Err("nobody said that the displays can be read; with --yes nobody is asked".to_owned())
}

fn last_states(plan: &Plan) -> impl Iterator<Item = (&Address, &State)> {
    plan.steps.iter().enumerate().filter_map(|(index, step)| {
        let later = plan.steps[index + 1..].iter().any(|other| other.address == step.address);
        (!later).then_some((&step.address, &step.after))
    })
}

/// Undoes the change so far, in reverse, and says each setting's final state.
fn undo(
    session: &Session,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    id: ChangeId,
    back: &[Undoing],
    reason: String,
) -> Failure {
    let settings: Vec<_> =
        back.iter().map(|setting| (setting.address.clone(), setting.before.clone())).collect();
    let states = put_back(pc, &settings);
    let flushed = pc.flush();
    let all_back = states.iter().all(|state| state.is_settled) && flushed.is_ok();
    let ended = all_back.then(|| ledger.abandon_change(id, session.clock.now()));
    match ended {
        Some(Ok(())) => Failure::new(
            Kind::RefusedAndUndone,
            "the PC did not take the change; all of it was undone",
        )
        .detail(reason)
        .details(describe(&states))
        .hint("take the tweak concerned out of the profile, or find out what keeps the setting"),
        _ => Failure::new(
            Kind::Unfinished,
            "the PC did not take the change, nor all of the way back",
        )
        .detail(reason)
        .details(describe(&states))
        .hint("`frevin recover` tries the way back again"),
    }
}
