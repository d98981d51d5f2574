//! The commands, a file each: arguments, one function, and the report that it gives.

pub(crate) mod app;
pub(crate) mod apply;
pub(crate) mod compare;
pub(crate) mod demo;
pub(crate) mod device;
pub(crate) mod drift;
pub(crate) mod evidence;
mod in_play;
pub(crate) mod inspect;
pub(crate) mod ledger;
pub(crate) mod log;
pub(crate) mod network;
mod output;
pub(crate) mod play;
pub(crate) mod preview;
pub(crate) mod profile;
pub(crate) mod quarantine;
pub(crate) mod recover;
pub(crate) mod rehearsal;
pub(crate) mod rollback;
pub(crate) mod run;
pub(crate) mod scene;
pub(crate) mod sift;
pub(crate) mod snapshot;
mod target;
pub(crate) mod trial;
pub(crate) mod tweak;
