//! What Frevin knows and computes.
//!
//! This crate is the heart of Frevin: settings and their exact states, tweaks, profiles, plans,
//! the layers that make any rollback order exact, and verdicts over the figures of runs. It does no
//! input or output, reads no clock, prints nothing and draws no randomness that is not seeded,
//! so every answer is a pure function of what is passed in. Data that leaves it is plain and
//! serialisable; text, JSON and pictures are made of it elsewhere.
#![forbid(unsafe_code)]

pub mod clock_held;
pub mod document;
pub mod environment;
pub mod evidence;
pub mod expression;
pub mod facts;
pub mod figures;
pub mod findings;
pub mod ids;
pub mod layers;
pub mod owner_facts;
pub mod pack;
pub mod plain_text;
pub mod playing;
pub mod preview;
pub mod profile;
pub mod registry_text;
pub mod script_text;
pub mod setting;
pub mod settings_file;
pub mod sift;
pub mod trial;
pub mod tune;
pub mod tweak;
pub mod verdict;
pub mod visits;
pub mod waiting;
