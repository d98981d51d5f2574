//! Frevin's command line: commands, views of what they find, errors and exit codes.
//!
//! `commands` has a file for each command; `operations` is what they share: how a change is
//! applied, rolled back and recovered with a PC and a ledger at hand; `measure` makes visits over any
//! source of frames. `view` turns what they return into text; JSON is made of the same data.
#![forbid(unsafe_code)]

mod as_administrator;
mod cli;
mod clock;
mod commands;
mod context;
mod failure;
mod fault;
mod logging;
mod measure;
mod operations;
mod options;
mod outcome;
mod own_home;
mod own_tweaks;
mod schemas;
mod strangers_file;
mod view;
mod welcome;

pub use cli::main;

/// Reads bytes as a stranger's file of evidence: for fuzzing, which finds what no file should do.
#[cfg(fuzzing)]
pub fn read_evidence_bytes(bytes: &[u8]) {
    drop(operations::evidence_file::of_bytes("bytes", bytes.to_vec()));
}
