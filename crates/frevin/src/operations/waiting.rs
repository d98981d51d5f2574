//! What waits on a PC, by the ledger's order of writes and what the PC tells of its starts.

use frevin_core::waiting::{self, Waiting};
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use crate::failure::Failure;

/// The settings that a PC does not yet behave by, with what each waits for.
pub(crate) fn waiting(pc: &dyn Pc, ledger: &Ledger) -> Result<Vec<Waiting>, Failure> {
    let writes = ledger.past_writes(&pc.identity().id, &pc.boot()?)?;
    Ok(waiting::waiting(writes, |moment, address| pc.start_of(moment, address))?)
}
