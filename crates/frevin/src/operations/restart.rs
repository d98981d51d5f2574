//! Restarting a PC, and starting anew what less than a restart makes settings take effect.

use frevin_core::setting::{Address, TakesEffect};
use frevin_pc::{BroughtAbout, PcKind, Restarts};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};

/// What a restart of a PC, or of something of it, did.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct RestartReport {
    pub(crate) restarted: TakesEffect,
    /// Settings that took effect by it.
    pub(crate) took_effect: Vec<Address>,
}

/// Brings about what settings wait for where their writes act after `moment`.
///
/// # Errors
/// Where the PC leaves it to its owner: nothing has happened then.
pub(crate) fn restart(
    context: &Context,
    pc: &mut dyn Restarts,
    moment: TakesEffect,
) -> Result<RestartReport, Failure> {
    let lock = context.lock(pc)?;
    match pc.bring_about(&lock, moment)? {
        BroughtAbout::Done { took_effect } => Ok(RestartReport { restarted: moment, took_effect }),
        BroughtAbout::Begun | BroughtAbout::LeftToOwner => {
            Err(left_to_owner(pc.identity().kind, moment))
        }
    }
}

/// What to do so that settings take effect which wait for a moment, as an instruction.
pub(crate) fn how_to_bring_about(moment: TakesEffect) -> &'static str {
    match moment {
        TakesEffect::Now => "nothing",
        TakesEffect::ProgramRestart => "start the program again",
        TakesEffect::ServiceRestart => "restart the service",
        TakesEffect::DeviceRestart => "switch the device off and on",
        TakesEffect::SignOut => "sign out and in again",
        TakesEffect::Restart => "restart the PC",
    }
}

fn left_to_owner(kind: PcKind, moment: TakesEffect) -> Failure {
    let message = format!("Frevin does no {moment} of a {kind} PC");
    Failure::new(Kind::Usage, message).hint(format!("{} yourself", how_to_bring_about(moment)))
}
