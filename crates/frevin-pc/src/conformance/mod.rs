//! One suite of checks that every implementation of [`Pc`] passes.
//!
//! [`check`] exercises the promises of the contract on settings that the caller names, and puts
//! everything back. It reports what is broken instead of panicking, so that it can be run on a
//! real PC as well as in a test.

use std::fmt;

use frevin_core::setting::{Address, State, TakesEffect};
use strum::IntoEnumIterator as _;

use crate::contract::{Pc, PcError, WriteError, Written};
use crate::fingerprint::fingerprint;

/// A promise of the contract that was not kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Violation {
    /// The number of the promise in the documentation of [`Pc`].
    pub promise: u8,
    /// What was seen.
    pub seen: String,
}

impl fmt::Display for Violation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "promise {}: {}", self.promise, self.seen)
    }
}

/// A setting to exercise, and a state to write to it that it does not hold.
#[derive(Debug, Clone)]
pub struct Sample {
    /// The setting.
    pub address: Address,
    /// A state that it can hold and does not.
    pub other: State,
}

/// What the suite needs to know of a PC.
#[derive(Debug, Clone, Default)]
pub struct Samples {
    /// Settings that can be written; one or more of every kind that the PC has.
    pub writable: Vec<Sample>,
    /// Writes that the PC refuses.
    pub refused: Vec<Sample>,
    /// Registry keys that hold something.
    pub full_keys: Vec<Address>,
}

/// Exercises a PC that nobody else is changing, and puts everything back.
///
/// # Errors
/// Where the PC cannot be asked at all.
pub fn check(pc: &mut dyn Pc, samples: &Samples) -> Result<Vec<Violation>, PcError> {
    let mut found = Vec::new();
    let mut broken = |promise: u8, seen: String| found.push(Violation { promise, seen });
    let first = fingerprint(pc)?;
    if fingerprint(pc)? != first {
        broken(1, "two readings of everything differ".to_owned());
    }
    let addresses = pc.addresses()?;
    if !addresses.is_sorted_by(|a, b| a < b) {
        broken(1, "the list of settings is not in order, or names one twice".to_owned());
    }
    for sample in &samples.writable {
        for moment in TakesEffect::iter() {
            let start = pc.start_of(moment, &sample.address)?;
            if pc.start_of(moment, &sample.address)? != start {
                broken(9, format!("{}: two readings of its {moment} differ", sample.address));
            }
        }
        for (promise, seen) in check_writable(pc, sample)? {
            broken(promise, format!("{}: {seen}", sample.address));
        }
        if fingerprint(pc)? != first {
            broken(4, format!("{}: after putting it back the PC is another", sample.address));
        }
    }
    for sample in &samples.refused {
        match pc.write(&sample.address, &sample.other) {
            Err(WriteError::Refused(_)) => {}
            other => broken(5, format!("{}: was to be refused, gave {other:?}", sample.address)),
        }
        if fingerprint(pc)? != first {
            broken(5, format!("{}: a refused write changed the PC", sample.address));
        }
    }
    for key in &samples.full_keys {
        match pc.write(key, &State::Absent) {
            Ok(Written::LeftInPlace) => {}
            other => broken(8, format!("{key}: was to be left in place, gave {other:?}")),
        }
        if fingerprint(pc)? != first {
            broken(8, format!("{key}: a key that is not empty lost something"));
        }
    }
    pc.flush()?;
    Ok(found)
}

fn check_writable(pc: &mut dyn Pc, sample: &Sample) -> Result<Vec<(u8, String)>, PcError> {
    let Sample { address, other } = sample;
    let mut broken = Vec::new();
    let before = pc.read(address)?;
    if before == *other {
        broken.push((3, format!("the sample says nothing: it holds {other} already")));
    }
    // Twice each: the second write finds the state that it is to bring about.
    for state in [other, other, &before, &before] {
        match pc.write(address, state) {
            Ok(Written::Done) => {}
            Ok(answer) => broken.push((3, format!("writing {state} gave {answer:?}"))),
            Err(WriteError::Refused(reason)) => {
                broken.push((3, format!("writing {state} was refused: {reason}")));
            }
            Err(WriteError::Failed(error)) => return Err(error),
        }
        let held = pc.read(address)?;
        if held != *state {
            broken.push((2, format!("{state} was written and {held} read back")));
        }
    }
    Ok(broken)
}
