//! Frevin's command line: commands, views of what they find, errors and exit codes.
//!
//! [`commands`] has a file for each command; [`workshop`] is what they share: how a change is
//! applied, rolled back and recovered with a PC and a ledger at hand. [`view`] turns what they
//! return into text; JSON is made of the same data.
#![forbid(unsafe_code)]

mod cli;
mod clock;
mod commands;
mod failure;
mod logging;
mod options;
mod own_home;
mod own_tweaks;
mod report;
mod session;
mod view;
mod workshop;

pub use cli::main;
