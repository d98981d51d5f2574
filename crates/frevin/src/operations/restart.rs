//! Restarting a rehearsal PC.

use frevin_core::setting::Address;
use frevin_pc::rehearsal::RehearsalPc;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;

/// A restart.
#[derive(Debug, Serialize)]
pub(crate) struct RestartReport {
    pub(crate) boots: u64,
    /// Settings that took effect by it.
    pub(crate) took_effect: Vec<Address>,
}

/// Restarts a rehearsal PC.
pub(crate) fn restart(context: &Context, pc: &mut RehearsalPc) -> Result<RestartReport, Failure> {
    let lock = context.lock(pc)?;
    let took_effect = pc.waiting().into_iter().map(|(address, _)| address).collect();
    let boots = pc.restart(&lock)?.boots;
    Ok(RestartReport { boots, took_effect })
}
