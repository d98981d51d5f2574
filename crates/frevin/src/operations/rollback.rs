//! Taking a way back: all of it, or nothing.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

use frevin_core::layers::{Layers, Selection};
use frevin_core::preview::{BackStep, Changed, OnOthers, WayBack, in_writing_order, way_back};
use frevin_core::setting::{Address, State, TakesEffect};
use frevin_core::waiting::Start;
use frevin_ledger::{Ledger, NewBackStep, NewRollback};
use frevin_pc::{Pc, PcError};
use schemars::JsonSchema;
use serde::Serialize;

use super::apply::unfinished;
use super::readings::PcReadings;
use super::refuse_unfinished;
use super::writing::{
    WriteOutcome, describe, put_back, went_with_its_container, write_and_read_back,
};
use crate::context::Context;
use crate::failure::{Failure, Kind};

/// A rollback that was made.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct RolledBack {
    pub(crate) written: usize,
    /// Keys that should have gone and stay, since others have put something into them.
    pub(crate) left_in_place: Vec<Address>,
    /// Settings that the PC would not put back, and that Frevin lets go of since `--keep` said so.
    pub(crate) refused: Vec<NotTaken>,
    pub(crate) takes_effect: TakesEffect,
}

/// A setting that the PC would not put back.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub(crate) struct NotTaken {
    pub(crate) address: Address,
    /// What it was to go back to.
    pub(crate) was: State,
    /// Why it does not.
    pub(crate) reason: String,
}

impl std::fmt::Display for NotTaken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.address, self.reason)
    }
}

/// What came of a way back.
pub(super) struct CarriedOut {
    pub(super) left_in_place: Vec<Address>,
    pub(super) refused: Vec<NotTaken>,
}

impl RolledBack {
    fn nothing() -> Self {
        Self {
            written: 0,
            left_in_place: Vec::new(),
            refused: Vec::new(),
            takes_effect: TakesEffect::Now,
        }
    }
}

/// What was rolled back.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct RollbackReport {
    pub(crate) way_back: WayBack,
    #[serde(flatten)]
    pub(crate) rolled_back: RolledBack,
    /// Settings of the change that were let go: emptied for good, or kept as others made them.
    pub(crate) let_go: usize,
}

/// What the way back is on this PC now.
pub(crate) fn make_way_back(
    pc: &dyn Pc,
    ledger: &Ledger,
    selection: &Selection,
    on_others: OnOthers,
) -> Result<WayBack, Failure> {
    let layers = ledger.layers(&pc.identity().id)?;
    Ok(way_back(selection, on_others, &PcReadings(pc), &layers)?)
}

/// Takes a way back that was shown.
pub(crate) fn roll_back(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    selection: &Selection,
    on_others: OnOthers,
    shown: WayBack,
) -> Result<RollbackReport, Failure> {
    let let_go = match selection {
        Selection::Change(id) => ledger.change(*id)?.layers_let_go,
        Selection::All
        | Selection::Nothing
        | Selection::Tweak(_)
        | Selection::TweakOfChange(..)
        | Selection::Uses(_) => 0,
    };
    if shown.steps.is_empty() && shown.changed_by_others.is_empty() {
        return Ok(RollbackReport { way_back: shown, rolled_back: RolledBack::nothing(), let_go });
    }
    refuse_others(&shown.changed_by_others)?;
    refuse_denied(pc, &shown.steps)?;
    let _lock = context.lock(pc)?;
    refuse_unfinished(ledger, pc)?;
    if make_way_back(pc, ledger, selection, on_others)? != shown {
        let message = "nothing was changed: the PC is no longer as shown";
        return Err(Failure::new(Kind::ChangedByOthers, message).hint("try it once more"));
    }
    let rolled_back = take_steps(context, pc, ledger, (selection, on_others), &shown.steps)?;
    Ok(RollbackReport { way_back: shown, rolled_back, let_go })
}

/// Carries out the steps of a way back and takes the layers out. The caller holds the PC's lock,
/// and has seen that nothing is unfinished.
pub(super) fn take_steps(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    (selection, on_others): (&Selection, OnOthers),
    back_steps: &[BackStep],
) -> Result<RolledBack, Failure> {
    let id = pc.identity().id.clone();
    let moments = moments(ledger, &ledger.layers(&id)?)?;
    let moment = |step: &BackStep| match step {
        BackStep::Write { address, .. } => {
            moments.get(address).copied().unwrap_or(TakesEffect::Now)
        }
        _ => TakesEffect::Now,
    };
    let steps = back_steps
        .iter()
        .map(|step| {
            let takes_effect = moment(step);
            let start = match step {
                BackStep::Write { address, .. } => pc.start_of(takes_effect, address)?,
                BackStep::Beneath { .. } | BackStep::AlreadySo { .. } | BackStep::Kept { .. } => {
                    Start::NotRunning
                }
            };
            Ok(NewBackStep { step: step.clone(), takes_effect, start })
        })
        .collect::<Result<Vec<_>, PcError>>()?;
    let takes_effect = steps.iter().map(|step| step.takes_effect).max().unwrap_or(TakesEffect::Now);
    let rollback = ledger.begin_rollback(&NewRollback {
        pc: &id,
        selection,
        boot: &pc.boot()?,
        begun_at: context.clock.now(),
        steps: &steps,
    })?;
    match carry_out(context, pc, back_steps, on_others) {
        Ok(CarriedOut { left_in_place, refused }) => {
            ledger.finish_rollback(rollback, context.clock.now()).map_err(unfinished)?;
            let written = writes(back_steps).count() - refused.len();
            Ok(RolledBack { written, left_in_place, refused, takes_effect })
        }
        Err(reason) => {
            // Back to where the rollback began: last writes first.
            let befores: Vec<(Address, State)> = writes(back_steps)
                .map(|(address, before, _)| (address.clone(), before.clone()))
                .collect();
            let befores = in_writing_order(befores, &PcReadings(pc))?;
            let states = put_back(pc, &befores);
            if states.iter().all(|state| state.is_resolved) && pc.flush().is_ok() {
                ledger.abandon_rollback(rollback, context.clock.now())?;
                let message = "the PC did not take the way back; it is as it was before";
                Err(Failure::new(Kind::RefusedAndUndone, message)
                    .details(describe(&states))
                    .detail(reason)
                    .hint("--keep puts back all else, and lets go of what the PC does not take"))
            } else {
                let message = "the PC took neither the way back nor the way forth whole";
                Err(Failure::new(Kind::Unfinished, message)
                    .detail(reason)
                    .details(describe(&states))
                    .hint("`frevin recover` goes on with the way back"))
            }
        }
    }
}

/// The writes of a way back: setting, what it holds, what it goes back to.
pub(super) fn writes(steps: &[BackStep]) -> impl Iterator<Item = (&Address, &State, &State)> {
    steps.iter().filter_map(|step| match step {
        BackStep::Write { address, before, after } => Some((address, before, after)),
        _ => None,
    })
}

/// Carries out the writes of a way back. With [`OnOthers::Keep`] it goes on where the PC does not
/// take one, and says so; otherwise the first such ends it, with the reason.
pub(super) fn carry_out(
    context: &Context,
    pc: &mut dyn Pc,
    steps: &[BackStep],
    on_others: OnOthers,
) -> Result<CarriedOut, String> {
    let progress = context.progress(writes(steps).count() as u64, "rolling back");
    let mut left_in_place = Vec::new();
    let mut refused: Vec<NotTaken> = Vec::new();
    let not_taken = |refused: &mut Vec<NotTaken>, address: &Address, was: &State, reason| {
        let not_taken = NotTaken { address: address.clone(), was: was.clone(), reason };
        match on_others {
            OnOthers::Keep => {
                refused.push(not_taken);
                Ok(())
            }
            OnOthers::Stop | OnOthers::Force => Err(not_taken.to_string()),
        }
    };
    for (address, _, after) in writes(steps) {
        match write_and_read_back(pc, address, after) {
            WriteOutcome::Held => {}
            WriteOutcome::LeftInPlace => left_in_place.push(address.clone()),
            WriteOutcome::Failed(reason) => not_taken(&mut refused, address, after, reason)?,
        }
        progress.inc(1);
    }
    pc.flush().map_err(|error| error.to_string())?;
    for (address, _, after) in writes(steps) {
        let held = pc.read(address).map_err(|error| error.to_string())?;
        let is_resolved = left_in_place.contains(address) || went_with_its_container(pc, address);
        let is_told = refused.iter().any(|one| one.address == *address);
        if held != *after && !is_resolved && !is_told {
            let reason = format!("it was {after} for a moment and is {held} again");
            not_taken(&mut refused, address, after, reason)?;
        }
    }
    progress.finish_and_clear();
    Ok(CarriedOut { left_in_place, refused })
}

/// Nothing is begun that this process could not finish.
fn refuse_denied(pc: &dyn Pc, steps: &[BackStep]) -> Result<(), Failure> {
    let mut denied = Vec::new();
    for (address, ..) in writes(steps) {
        denied.extend(pc.obstacle(address)?.map(|reason| format!("{address}: {reason}")));
    }
    if denied.is_empty() {
        return Ok(());
    }
    let message = "nothing was changed: Frevin may not write these settings back";
    Err(Failure::new(Kind::Guarded, message)
        .details(denied)
        .hint("start it as an administrator")
        .taking_administrator())
}

fn refuse_others(changed: &[Changed]) -> Result<(), Failure> {
    if changed.is_empty() {
        return Ok(());
    }
    let line = |changed: &Changed| {
        let expected = &changed.expected;
        format!(
            "{}: Frevin left {}, it holds {}, it would go back to {}",
            expected.address, expected.from, changed.actual, expected.to
        )
    };
    let message = "nothing was changed: somebody else has changed these settings since";
    Err(Failure::new(Kind::ChangedByOthers, message)
        .details(changed.iter().map(line))
        .hint("--keep leaves what they wrote and lets go of the setting")
        .hint("--force puts back what was there before Frevin"))
}

/// What the latest write to each setting waited for.
pub(super) fn moments(
    ledger: &Ledger,
    layers: &Layers,
) -> Result<BTreeMap<Address, TakesEffect>, Failure> {
    let mut moments = BTreeMap::new();
    let mut changes = BTreeMap::new();
    for (address, stack) in layers.iter() {
        for layer in &stack.layers {
            let change = match changes.entry(layer.change) {
                Entry::Occupied(known) => known.into_mut(),
                Entry::Vacant(unknown) => unknown.insert(ledger.change(layer.change)?),
            };
            for step in change.steps.iter().filter(|step| step.address == *address) {
                let moment = moments.entry(address.clone()).or_insert(step.takes_effect);
                *moment = (*moment).max(step.takes_effect);
            }
        }
    }
    Ok(moments)
}
