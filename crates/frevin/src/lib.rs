//! Frevin's command line: commands, views of what they find, errors and exit codes.
//!
//! `commands` has a file for each command; `operations` is what they share: how a change is
//! applied, rolled back and recovered with a PC and a ledger at hand; `measure` makes visits over any
//! source of frames. `view` turns what they return into text; JSON is made of the same data.
#![forbid(unsafe_code)]

mod cli;
mod clock;
mod commands;
mod context;
mod failure;
mod logging;
mod measure;
mod operations;
mod options;
mod outcome;
mod own_home;
mod own_tweaks;
mod strangers_file;
mod view;

pub use cli::main;
