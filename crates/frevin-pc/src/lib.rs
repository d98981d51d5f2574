//! The PC behind one trait.
//!
//! [`Pc`] is what Frevin needs of a PC; its documentation is a contract. `windows` is the PC that
//! Frevin runs on, [`rehearsal`] one that is simulated in a folder, and [`conformance`] checks any
//! implementation against the contract. [`Restarts`] brings about what settings wait for.
#![forbid(unsafe_code)]

mod command_line;
pub mod conformance;
mod contract;
pub mod durable;
mod files;
mod fingerprint;
pub mod limited;
mod registry_parts;
pub mod rehearsal;
mod restarts;
// Elsewhere than on Windows it is there to be tested against recorded answers.
#[cfg(any(windows, test))]
pub mod windows;

pub use command_line::command_line;
pub use contract::{
    CleanContent, Holder, InstalledProgram, LockError, OWN_TASK, Pc, PcError, PcIdentity, PcKind,
    PcLock, ProgramUse, RestorePoint, StartLength, StartupCosts, StartupEntry, WriteError, Written,
};
pub use files::{MoveNew, is_link, link_and_remove};
pub use fingerprint::{Fingerprint, fingerprint};
pub use restarts::{BroughtAbout, DeviceRestarted, Restarts};
