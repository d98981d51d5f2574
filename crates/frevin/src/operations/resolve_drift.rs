//! Resolving drift: letting go of what others have changed, or putting back what Frevin left.

use frevin_core::layers::Selection;
use frevin_core::preview::{Drifted, OnOthers, back_to_ours, drift};
use frevin_core::setting::Address;
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use super::readings::PcReadings;
use super::{refuse_unfinished, rollback};
use crate::context::Context;
use crate::failure::Failure;

/// The settings of a PC that are no longer what Frevin left them at.
pub(crate) fn drifted(pc: &dyn Pc, ledger: &Ledger) -> Result<Vec<Drifted>, Failure> {
    let layers = ledger.layers(&pc.identity().id)?;
    Ok(drift(&PcReadings(pc), &layers)?)
}

/// Resolves all drift, and gives the settings that had drifted.
///
/// Kept settings are let go: they stay as others made them, and are not Frevin's from then on.
/// Forced ones are written as a rollback is, so that a crash in the middle is recovered from.
pub(crate) fn resolve_drift(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    on_others: OnOthers,
) -> Result<Vec<Drifted>, Failure> {
    let _lock = context.lock(pc)?;
    refuse_unfinished(ledger, pc)?;
    let found = drifted(pc, ledger)?;
    match on_others {
        OnOthers::Stop => {}
        OnOthers::Keep => {
            let addresses: Vec<Address> = found.iter().map(|one| one.address.clone()).collect();
            ledger.let_go(&pc.identity().id.clone(), &addresses)?;
        }
        OnOthers::Force => {
            let steps = back_to_ours(&found, &PcReadings(pc))?;
            rollback::take_steps(
                context,
                pc,
                ledger,
                (&Selection::Nothing, OnOthers::Stop),
                &steps,
            )?;
        }
    }
    Ok(found)
}
