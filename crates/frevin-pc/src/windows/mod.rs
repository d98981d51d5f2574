//! The live PC: the one that Frevin runs on.
//!
//! A file for each kind of object of the operating system holds what settings mean there, over a
//! trait of what Windows offers for it. The crate `frevin-windows` carries those traits out with
//! Windows' own public functions, and is the only place of the program that may. So what this
//! machine's Windows does not have is tested all the same, against recorded answers.
#![allow(
    clippy::missing_errors_doc,
    reason = "Windows may refuse any call: what it answers is the error"
)]

pub mod adapters;
pub mod apis;
pub mod boot;
pub mod devices;
pub mod displays;
mod facts;
mod firmware_tables;
pub mod for_games;
pub mod graphics_use;
pub mod hardware;
pub mod health;
pub mod installed;
mod objects;
pub mod os_error;
pub mod own_pictures;
mod page_file;
pub mod pc;
pub mod power;
pub mod presents;
pub mod protections;
pub mod registry;
pub mod services;
pub mod starts;
pub mod startup;
pub mod tasks;
pub mod visual;

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]
mod tests;
