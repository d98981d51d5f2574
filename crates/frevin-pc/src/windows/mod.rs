//! The live PC: the one that Frevin runs on.
//!
//! A file for each kind of object of the operating system holds what settings mean there, over a
//! trait of what Windows offers for it. [`os`] carries those traits out with Windows' own public
//! functions, and is the only place of the program that may. So what this machine's Windows does
//! not have is tested all the same, against recorded answers.

mod adapters;
mod apis;
mod boot;
mod devices;
mod displays;
mod facts;
mod firmware_tables;
mod installed;
#[cfg(windows)]
mod os;
mod os_error;
mod page_file;
mod pc;
mod power;
mod presents;
mod protections;
mod registry;
mod services;
mod startup;
mod tasks;
mod visual;

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]
mod tests;

#[cfg(windows)]
pub use os::echo::echo;
#[cfg(windows)]
pub use os::own_folder;
#[cfg(windows)]
pub(crate) use os::replace_file;
pub use pc::LivePc;
pub use presents::{RecordError, RecordedPresents};

/// Records the frames that a running program shows, by what Windows itself traces: nothing is put into the
/// program. `program` is the name of its file, with or without `.exe`.
///
/// # Errors
/// [`RecordError`], among them where tracing is not offered or not allowed.
#[cfg(windows)]
pub fn record_presents(
    program: &str,
    length: std::time::Duration,
) -> Result<RecordedPresents, RecordError> {
    presents::record(&os::tracing::EventTracing, program, length)
}
