//! Applying a plan: all of it, or nothing.

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_core::layers::{ChangeId, Layers};
use frevin_core::preview::{
    Action, Denied, Drifted, LeftOut, Plan, Reason, Step, Undoing, Wish, plan, switch, undoing,
};
use frevin_core::profile::ByHand;
use frevin_core::setting::{Address, Holds, State, TakesEffect};
use frevin_core::tweak::TweakUse;
use frevin_ledger::{ChangeFor, Ledger, LedgerError, NewChange, NewStep};
use frevin_pc::{Pc, PcError, PcLock, RestorePoint};
use schemars::JsonSchema;
use serde::Serialize;

use super::readings::PcReadings;
use super::refuse_unfinished;
use super::rollback::moments;
use super::target::Target;
use super::undo_files::{self, UndoFiles};
use super::writing::{FinalState, WriteOutcome, describe, put_back, write_and_read_back};
use crate::context::Context;
use crate::failure::{Failure, Kind};

/// A change that was made.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct Applied {
    pub(crate) change: ChangeId,
    pub(crate) title: String,
    pub(crate) written: usize,
    pub(crate) undo_files: UndoFiles,
    /// What came of asking for a restore point, where this was the PC's first change.
    pub(crate) restore_point: Option<RestorePoint>,
    pub(crate) takes_effect: TakesEffect,
    /// Displays whose new mode nobody could read: it went back alone, and is not held.
    pub(crate) displays_put_back: Vec<Address>,
}

/// What was applied.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct ApplyReport {
    #[serde(flatten)]
    pub(crate) applied: Option<Applied>,
    /// Changes that hold all of it already, where nothing was applied.
    pub(crate) in_force_by: Vec<ChangeId>,
    pub(crate) left_out: Vec<LeftOut>,
    /// Settings of what was applied that this PC does not have.
    pub(crate) parts_left_out: Vec<LeftOut>,
    pub(crate) by_hand: Vec<ByHand>,
    /// Whether nothing was left to be applied.
    #[serde(skip)]
    pub(crate) is_all_left_out: bool,
}

/// What a plan for `wishes` is on this PC now: in the place of a change, or on top of all.
pub(crate) fn make_plan(
    pc: &dyn Pc,
    ledger: &Ledger,
    wishes: &[Wish],
    replaces: Option<ChangeId>,
) -> Result<Plan, Failure> {
    let layers = ledger.layers(&pc.identity().id)?;
    let readings = PcReadings(pc);
    Ok(match replaces {
        None => plan(wishes, &readings, &layers)?,
        Some(change) => {
            let moments = moments(ledger, &layers)?;
            switch(change, wishes, &readings, &layers, &moments)?
        }
    })
}

/// A plan to be applied, with what it was made of.
pub(crate) struct Order {
    /// What is applied.
    pub(crate) target: Target,
    /// The plan that is shown.
    pub(crate) plan: Plan,
    /// The change whose layers it takes the place of.
    replaces: Option<ChangeId>,
    /// Whether to overwrite what others have written since.
    force: bool,
    /// What it is carried out for, where it is a step of something larger.
    made_for: Option<ChangeFor>,
    /// Whether the PC is asked for a restore point before its first change.
    asks_for_restore_point: bool,
}

impl Order {
    /// Plans a target on a PC.
    pub(crate) fn new(
        pc: &dyn Pc,
        ledger: &Ledger,
        target: Target,
        replaces: Option<ChangeId>,
        force: bool,
    ) -> Result<Self, Failure> {
        let plan = make_plan(pc, ledger, &target.wishes, replaces)?;
        Ok(Self { target, plan, replaces, force, made_for: None, asks_for_restore_point: true })
    }

    /// The same as a step of something larger.
    pub(crate) fn made_for(self, made_for: ChangeFor) -> Self {
        Self { made_for: Some(made_for), ..self }
    }

    /// The same for changes that go again at once, as those of a self-test do.
    pub(crate) fn without_restore_point(self) -> Self {
        Self { asks_for_restore_point: false, ..self }
    }

    /// Refuses what a guard of Frevin's own refuses; nothing has changed then.
    pub(crate) fn check(&self) -> Result<(), Failure> {
        refuse_protected(&self.plan)?;
        refuse_denied(&self.plan)?;
        if self.force { Ok(()) } else { refuse_others(&self.plan) }
    }

    /// Whether no guard of Frevin's own refuses it, so that its owner can be asked.
    pub(crate) fn may_be_carried_out(&self) -> bool {
        self.plan.refusals.is_empty()
            && self.plan.denied.is_empty()
            && (self.force || self.plan.changed_by_others.is_empty())
    }

    /// The report that there is nothing to do, where there is not: the PC holds all of it by itself, or
    /// changes that are in force hold all of it already.
    pub(crate) fn nothing_to_do(
        &self,
        pc: &dyn Pc,
        ledger: &Ledger,
    ) -> Result<Option<ApplyReport>, Failure> {
        if !self.plan.refusals.is_empty() || self.replaces.is_some() {
            return Ok(None);
        }
        let in_force_by = self.in_force_by(&ledger.layers(&pc.identity().id)?);
        if !self.plan.is_empty() && in_force_by.is_empty() {
            return Ok(None);
        }
        Ok(Some(ApplyReport {
            applied: None,
            in_force_by,
            left_out: self.left_out(),
            parts_left_out: self.plan.parts_left_out.clone(),
            by_hand: self.target.by_hand.clone(),
            is_all_left_out: self.plan.steps.is_empty(),
        }))
    }

    /// The changes that hold every setting of the plan for the same use of the same tweak, on top.
    fn in_force_by(&self, layers: &Layers) -> Vec<ChangeId> {
        let mut changes = BTreeSet::new();
        for step in &self.plan.steps {
            let top = layers.get(&step.address).and_then(|stack| stack.layers.last());
            match (step.action, top) {
                (Action::AlreadySo, _) => {}
                (Action::Share, Some(top)) if top.used == step.used => {
                    changes.insert(top.change);
                }
                _ => return Vec::new(),
            }
        }
        changes.into_iter().collect()
    }

    fn left_out(&self) -> Vec<LeftOut> {
        self.plan.left_out.iter().chain(&self.target.left_out).cloned().collect()
    }
}

/// Carries out a plan that was shown.
///
/// The ledger has the snapshot, and the undo files are written, before the first write. Every
/// write is read back, and everything once more at the end. A write that fails undoes the others.
pub(crate) fn apply(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    order: Order,
) -> Result<ApplyReport, Failure> {
    order.check()?;
    let _lock = context.lock(pc)?;
    let left_out = order.left_out();
    let asks_for_restore_point = order.asks_for_restore_point;
    let Begun { id, plan, target, back, undo_files, is_first_change } =
        begin(context, pc, ledger, order)?;
    let asks = is_first_change && asks_for_restore_point;
    let restore_point = asks.then(|| restore_point(pc));
    if let Err(reason) = carry_out(context, pc, &plan) {
        return Err(undo(context, pc, ledger, id, &back, reason));
    }
    let modes = unreadable_modes(context, &plan);
    if !modes.is_empty() {
        let before: Vec<(Address, State)> = back
            .iter()
            .filter(|setting| modes.contains(&setting.address))
            .map(|setting| (setting.address.clone(), setting.before.clone()))
            .collect();
        let is_rest = plan.writes().any(|step| !modes.contains(&step.address));
        let is_back =
            put_back(pc, &before).iter().all(|state| state.is_resolved) && pc.flush().is_ok();
        if !is_rest || !is_back {
            let reason = "nobody said that the displays can be read; with --yes nobody is asked";
            return Err(undo(context, pc, ledger, id, &back, reason.to_owned()));
        }
    }
    ledger.finish_change_except(id, &modes, context.clock.now()).map_err(unfinished)?;
    let applied = Applied {
        change: id,
        title: target.title,
        written: plan.writes().filter(|step| !modes.contains(&step.address)).count(),
        undo_files,
        restore_point,
        takes_effect: plan.takes_effect(),
        displays_put_back: modes.into_iter().collect(),
    };
    Ok(ApplyReport {
        applied: Some(applied),
        in_force_by: Vec::new(),
        left_out,
        parts_left_out: plan.parts_left_out,
        by_hand: target.by_hand,
        is_all_left_out: false,
    })
}

/// A change that the ledger and the undo files have, and the PC not yet.
struct Begun {
    id: ChangeId,
    plan: Plan,
    target: Target,
    back: Vec<Undoing>,
    undo_files: UndoFiles,
    is_first_change: bool,
}

/// Makes the way back of a change durable. The caller holds the PC's lock.
fn begin(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    order: Order,
) -> Result<Begun, Failure> {
    refuse_unfinished(ledger, pc)?;
    let now = make_plan(pc, ledger, &order.target.wishes, order.replaces)?;
    refuse_moved(&order.plan, &now)?;
    let Order { target, plan, replaces, made_for, .. } = order;
    // Starts are asked for before the ledger is written: what a write waits for is known with it.
    let steps = plan
        .steps
        .iter()
        .map(|step| {
            let start = pc.start_of(step.takes_effect, &step.address)?;
            Ok(NewStep { step: step.clone(), start })
        })
        .collect::<Result<Vec<_>, PcError>>()?;
    let boot = pc.boot()?;
    let back = undoing(&plan.steps, &PcReadings(pc))?;
    let is_first_change = !ledger.has_applied_change(&pc.identity().id)?;
    let id = ledger.begin_change(&NewChange {
        pc: &pc.identity().id,
        title: &target.title,
        revision: target.revision.as_ref().map(|(name, number)| (name, *number)),
        boot: &boot,
        begun_at: context.clock.now(),
        replaces,
        made_for: made_for.as_ref(),
        steps: &steps,
    })?;
    let undo_files = undo_files::write(&context.undo_folder(pc), pc, id, &target.title, &back);
    let undo_files = match undo_files {
        Ok(files) => files,
        Err(error) => {
            ledger.abandon_change(id, context.clock.now())?;
            let message = format!("the undo files could not be written: {error}");
            return Err(Failure::new(Kind::RefusedAndUndone, message)
                .hint("nothing was changed; is there room on the disk?"));
        }
    };
    Ok(Begun { id, plan, target, back, undo_files, is_first_change })
}

/// A change that is held open while its settings go to and fro, for as long as the PC's lock is held.
///
/// The ledger and the undo files have the way back from the beginning, and the change has no end before all of it is
/// taken back: whatever cuts it off, the next command finds it unfinished, and recovering puts the PC back.
pub(crate) struct Switching {
    id: ChangeId,
    plan: Plan,
    back: Vec<Undoing>,
    pub(crate) lock: PcLock,
}

impl Switching {
    /// Begins with the PC as it is. Nothing is written to it yet.
    pub(crate) fn begin(
        context: &Context,
        pc: &mut dyn Pc,
        ledger: &mut Ledger,
        order: Order,
    ) -> Result<Self, Failure> {
        order.check()?;
        let lock = context.lock(pc)?;
        let Begun { id, plan, back, is_first_change, .. } = begin(context, pc, ledger, order)?;
        if is_first_change {
            restore_point(pc);
        }
        Ok(Self { id, plan, back, lock })
    }

    /// Lets the PC hold what some of its tweaks want, and of the others what it held before; each write is read back.
    /// What others need to be there at all stays there from the first time on.
    ///
    /// # Errors
    /// The first setting that does not hold it, with why.
    pub(crate) fn to(
        &self,
        pc: &mut dyn Pc,
        is_on: &dyn Fn(&TweakUse) -> bool,
    ) -> Result<(), String> {
        let is_held = |step: &&Step| step.reason != Reason::Wanted || is_on(&step.used);
        let held: BTreeSet<&Address> =
            self.plan.writes().filter(is_held).map(|step| &step.address).collect();
        let gone = self.before().into_iter().filter(|(address, _)| !held.contains(address));
        all_back(&put_back(pc, &gone.collect::<Vec<_>>()))?;
        for step in self.plan.writes().filter(is_held) {
            match write_and_read_back(pc, &step.address, &step.after) {
                WriteOutcome::Held => {}
                WriteOutcome::LeftInPlace => {
                    return Err(format!("{}: it holds something else", step.address));
                }
                WriteOutcome::Failed(reason) => return Err(format!("{}: {reason}", step.address)),
            }
        }
        Ok(())
    }

    /// Lets the PC hold what it held before.
    ///
    /// # Errors
    /// The settings that do not go back.
    pub(crate) fn off(&self, pc: &mut dyn Pc) -> Result<(), String> {
        all_back(&put_back(pc, &self.before()))
    }

    fn before(&self) -> Vec<(Address, State)> {
        self.back.iter().map(|one| (one.address.clone(), one.before.clone())).collect()
    }

    /// Ends it with the PC as it was before.
    ///
    /// # Errors
    /// Where a setting does not go back: it is unfinished then.
    pub(crate) fn end(
        self,
        context: &Context,
        pc: &mut dyn Pc,
        ledger: &mut Ledger,
    ) -> Result<(), Failure> {
        let gone_back = self.off(pc).and_then(|()| pc.flush().map_err(|error| error.to_string()));
        gone_back.map_err(|reason| {
            let message = "what was switched on and off did not go back";
            Failure::new(Kind::Unfinished, message)
                .detail(reason)
                .hint("`frevin recover` tries the way back again")
        })?;
        Ok(ledger.abandon_change(self.id, context.clock.now())?)
    }
}

fn all_back(states: &[FinalState]) -> Result<(), String> {
    match states.iter().all(|state| state.is_resolved) {
        true => Ok(()),
        false => Err(describe(states).collect::<Vec<_>>().join("; ")),
    }
}

/// The PC has taken everything, and the ledger cannot say so.
pub(super) fn unfinished(error: LedgerError) -> Failure {
    let message = "the PC has taken it, but the ledger could not be written: it is unfinished";
    Failure::new(Kind::Unfinished, message)
        .detail(error.to_string())
        .hint("once the ledger can be written again, `frevin recover` finishes it")
}

fn refuse_protected(plan: &Plan) -> Result<(), Failure> {
    if plan.refusals.is_empty() {
        return Ok(());
    }
    let line = |refusal: &frevin_core::preview::Refusal| {
        format!("`{}` wants {}, which {}", refusal.used, refusal.address, refusal.reason)
    };
    let tweak = &plan.refusals[0].used;
    Err(Failure::new(Kind::Guarded, "nothing was changed: what this touches is protected")
        .details(plan.refusals.iter().map(line))
        .hint(format!("if you are sure, allow each tweak by name: --allow-protected {tweak}")))
}

/// Nothing is begun that this process could not finish.
fn refuse_denied(plan: &Plan) -> Result<(), Failure> {
    if plan.denied.is_empty() {
        return Ok(());
    }
    let line =
        |denied: &Denied| format!("`{}` writes {}: {}", denied.used, denied.address, denied.reason);
    let message = "nothing was changed: Frevin may not write these settings";
    Err(Failure::new(Kind::Guarded, message)
        .details(plan.denied.iter().map(line))
        .hint("start it as an administrator, or take these tweaks out of the profile")
        .taking_administrator())
}

fn refuse_others(plan: &Plan) -> Result<(), Failure> {
    let Some(first) = plan.changed_by_others.first() else { return Ok(()) };
    let line = |drifted: &Drifted| {
        let Drifted { address, left, actual, .. } = drifted;
        format!("{address}: change {} left {}, it holds {actual}", left.change, left.state)
    };
    let message = "nothing was changed: somebody else has changed these settings since";
    let let_go = format!("frevin rollback --tweak {} --keep", first.left.used);
    Err(Failure::new(Kind::ChangedByOthers, message)
        .details(plan.changed_by_others.iter().map(line))
        .hint(format!("`{let_go}` leaves what they wrote and holds the setting no longer"))
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

fn carry_out(context: &Context, pc: &mut dyn Pc, plan: &Plan) -> Result<(), String> {
    let progress = context.progress(plan.writes().count() as u64, "applying");
    for step in plan.writes() {
        match write_and_read_back(pc, &step.address, &step.after) {
            WriteOutcome::Held => progress.inc(1),
            WriteOutcome::LeftInPlace => {
                return Err(format!("{}: it holds something else", step.address));
            }
            WriteOutcome::Failed(reason) => return Err(format!("{}: {reason}", step.address)),
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

/// The display modes of a plan that nobody said can be read. A display that was given another mode may
/// show nothing; the change has no end before somebody says that it can be read. Should the PC be
/// switched off instead, it is unfinished and goes back.
fn unreadable_modes(context: &Context, plan: &Plan) -> BTreeSet<Address> {
    let is_mode = |address: &Address| matches!(address, Address::Object(setting) if setting.part().holds() == Holds::Mode);
    let modes: BTreeSet<Address> =
        plan.writes().map(|step| step.address.clone()).filter(is_mode).collect();
    let question = "Can you read this on every display?";
    if modes.is_empty() || context.is_readable(question, READABLE_WITHIN) {
        return BTreeSet::new();
    }
    modes
}

fn last_states(plan: &Plan) -> impl Iterator<Item = (&Address, &State)> {
    plan.steps.iter().enumerate().filter_map(|(index, step)| {
        let later = plan.steps[index + 1..].iter().any(|other| other.address == step.address);
        (!later).then_some((&step.address, &step.after))
    })
}

/// Undoes the change so far, in reverse, and says each setting's final state.
fn undo(
    context: &Context,
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
    let all_back = states.iter().all(|state| state.is_resolved) && flushed.is_ok();
    let ended = all_back.then(|| ledger.abandon_change(id, context.clock.now()));
    match ended {
        Some(Ok(())) => Failure::new(
            Kind::RefusedAndUndone,
            "the PC did not take the change; all of it was undone",
        )
        .detail(format!("all {} settings are as before", states.len()))
        .detail(reason)
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
