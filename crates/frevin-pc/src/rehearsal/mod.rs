//! The rehearsal PC: a PC simulated in a folder.
//!
//! The folder holds everything: facts, settings by kind, rules of behaviour, a performance model,
//! a clock, an event log. The PC behaves: some writes wait for a restart, stopping a service stops
//! what depends on it, some keys refuse, faults can be provoked. docs/rehearsal.md documents the
//! files.

mod behaviour;
mod by_hand;
mod clock;
mod events;
mod facts;
mod faults;
mod folder;
mod frames;
mod memory;
mod model;
mod objects;
mod pc;
mod play;
mod power;
mod programs;
pub(crate) mod registry;
mod restore_points;
mod services;
mod settings;
mod startup;
mod template;
mod visual;

pub use by_hand::Mend;
pub use clock::Clock;
pub use events::Event;
pub use faults::Faults;
pub use frames::RecordedRun;
pub use model::{Model, ModelScene};
pub use pc::{RehearsalPc, StartedAnew};
pub use play::Play;
pub use template::{Template, TemplateError, create};
