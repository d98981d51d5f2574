//! What drivers of trials and of sifts share: one at a time, one step from state to state, restarts.

use frevin_core::layers::{ChangeId, Layers, Selection};
use frevin_core::preview::OnOthers;
use frevin_core::setting::{State, TakesEffect};
use frevin_ledger::{ChangeFor, Ledger};
use frevin_pc::{BroughtAbout, PcKind, Restarts};

use super::apply::{self, Order};
use super::rollback;
use super::sign_in::{self, Resumed};
use super::target::Target;
use crate::context::Context;
use crate::failure::{Failure, Kind};

/// The right to drive a trial or a sift with this home, as long as the file lives.
pub(crate) fn alone(context: &Context) -> Result<std::fs::File, Failure> {
    crate::own_home::make(context.home())?;
    let path = context.home().join("trial.lock");
    let file = fs_err::OpenOptions::new().create(true).truncate(false).write(true).open(path)?;
    let file = file.into_file();
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(std::fs::TryLockError::WouldBlock) => {
            Err(Failure::new(Kind::Busy, "another Frevin is driving a trial or a sift")
                .hint("`frevin trial status` and `frevin sift status` show how far it is"))
        }
        Err(std::fs::TryLockError::Error(error)) => Err(error.into()),
    }
}

/// Whether another Frevin drives a trial or a sift with this home.
pub(crate) fn is_driven_elsewhere(context: &Context) -> Result<bool, Failure> {
    match alone(context) {
        Ok(_) => Ok(false),
        Err(failure) if failure.kind == Kind::Busy => Ok(true),
        Err(failure) => Err(failure),
    }
}

/// The first of these changes that still holds something.
pub(crate) fn first_held<T>(
    layers: &Layers,
    changes: impl IntoIterator<Item = (ChangeId, T)>,
) -> Option<(ChangeId, T)> {
    let is_held = |change: ChangeId| {
        layers.iter().any(|(_, stack)| stack.layers.iter().any(|layer| layer.change == change))
    };
    changes.into_iter().find(|(change, _)| is_held(*change))
}

/// Brings a PC from what a change holds to something else, in one step; the change that holds it then.
pub(crate) fn switch(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    to: Option<Target>,
    holder: Option<ChangeId>,
    made_for: ChangeFor,
) -> Result<Option<ChangeId>, Failure> {
    match (to.filter(|target| !target.wishes.is_empty()), holder) {
        (Some(target), holder) => {
            let order = Order::new(&*pc, ledger, target, holder, false)?.made_for(made_for);
            let applied = apply::apply(context, &mut *pc, ledger, order)?;
            Ok(applied.applied.map(|applied| applied.change))
        }
        (None, Some(holder)) => {
            let selection = Selection::Change(holder);
            let on_others = OnOthers::Stop;
            let back = rollback::make_way_back(&*pc, ledger, &selection, on_others)?;
            rollback::roll_back(context, &mut *pc, ledger, &selection, on_others, back)?;
            Ok(None)
        }
        (None, None) => Ok(None),
    }
}

/// Restarts a PC, or leaves that to its owner. `by_itself` is what is to go on after the sign-in, where the owner has
/// agreed; `before_entry` is told what the entry held that Windows goes on by, before it is set.
pub(crate) fn restart(
    context: &Context,
    pc: &mut dyn Restarts,
    by_itself: Option<Resumed>,
    before_entry: &mut dyn FnMut(State) -> Result<(), Failure>,
) -> Result<BroughtAbout, Failure> {
    let is_live = pc.identity().kind == PcKind::Live;
    let lock = context.lock(&mut *pc)?;
    let Some(resumed) = by_itself.filter(|_| is_live) else {
        return Ok(pc.bring_about(&lock, TakesEffect::Restart)?);
    };
    let command = sign_in::command(context, resumed)?;
    before_entry(pc.read(&sign_in::entry()?)?)?;
    sign_in::set(&mut *pc, &command)?;
    match pc.restart_by_itself(&lock) {
        Ok(brought) => Ok(brought),
        // The entry stays: however the PC is restarted, what was begun goes on afterwards.
        Err(error) => {
            tracing::warn!("the PC does not restart by itself: {error}");
            Ok(BroughtAbout::LeftToOwner)
        }
    }
}

/// Takes out the entry that Windows goes on by.
pub(crate) fn take_entry_out(
    context: &Context,
    pc: &mut dyn Restarts,
    before: &State,
) -> Result<(), Failure> {
    let _lock = context.lock(&mut *pc)?;
    sign_in::take_out(&mut *pc, before)
}
