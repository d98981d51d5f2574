//! Bringing about what settings wait for.

use frevin_core::setting::{Address, TakesEffect, WinName};

use crate::contract::{Pc, PcError, PcLock};
use crate::rehearsal::RehearsalPc;

/// A PC that can be asked to restart, and to start anew what less than a restart makes settings take
/// effect.
///
/// It is beside [`Pc`], since a live PC answers differently from all else: the process that asks ends
/// with a restart and a sign-out, and which program a setting belongs to is known to its owner alone.
pub trait Restarts: Pc {
    /// Brings about what settings wait for where their writes act after `moment`: a restart, a sign-out,
    /// a restart of programs, services or devices. Nothing for [`TakesEffect::Now`].
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn bring_about(&mut self, lock: &PcLock, moment: TakesEffect) -> Result<BroughtAbout, PcError>;

    /// Restarts the PC, as its owner has agreed to.
    ///
    /// # Errors
    /// Where it cannot be restarted; nothing has happened then.
    fn restart_by_itself(&mut self, lock: &PcLock) -> Result<BroughtAbout, PcError> {
        self.bring_about(lock, TakesEffect::Restart)
    }

    /// Switches a device off and on, so that its driver reads its settings anew: a network adapter by its
    /// name, or a network or sound device by its instance identifier. Others are left alone, since
    /// without them nobody could go on: what draws, drives, keyboards.
    ///
    /// Should the process end in between, the device is on again after the next start of the PC.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn restart_device(
        &mut self,
        lock: &PcLock,
        device: &WinName,
    ) -> Result<DeviceRestarted, PcError>;

    /// Whether this process has an administrator's rights there.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn has_administrator_rights(&self) -> Result<bool, PcError>;

    /// The PC as a rehearsal PC, which can play; nothing where it is none.
    fn as_rehearsal(&mut self) -> Option<&mut RehearsalPc> {
        None
    }
}

/// What came of asking for a device to start anew.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DeviceRestarted {
    /// It has.
    Done {
        /// Settings that took effect by it, where the PC tells.
        took_effect: Vec<Address>,
    },
    /// There is no such device.
    NotThere,
    /// It is none that could be spared; nothing has happened.
    NotSafe,
    /// This process may not, or the device would not; it is as it was.
    Denied {
        /// Why, in words.
        reason: String,
    },
}

/// What came of asking a PC to restart, or to start something anew.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BroughtAbout {
    /// It has happened.
    Done {
        /// Settings that took effect by it.
        took_effect: Vec<Address>,
    },
    /// It has begun: this process will end with the PC.
    Begun,
    /// The owner has to do it: this PC leaves it to them.
    LeftToOwner,
}
