//! The PC behind one trait.
//!
//! [`Pc`] is what Frevin needs of a PC; its documentation is a contract. [`rehearsal`] is a PC
//! simulated in a folder, and [`conformance`] checks any implementation against the contract.
#![forbid(unsafe_code)]

pub mod conformance;
mod contract;
mod files;
mod fingerprint;
pub mod rehearsal;

pub use contract::{
    BootId, CleanContent, Holder, LockError, Pc, PcError, PcIdentity, PcKind, PcLock, RestorePoint,
    WriteError, Written,
};
pub use fingerprint::{Fingerprint, fingerprint};
