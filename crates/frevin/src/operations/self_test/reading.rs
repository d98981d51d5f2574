//! Every setting that the catalogue names and that fits, read.

use std::collections::{BTreeMap, BTreeSet};

use frevin_core::facts::Facts;
use frevin_core::setting::{Address, State};
use frevin_core::tweak::Arguments;
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;

/// How the settings of a kind could be read.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub(crate) struct KindRead {
    /// As addresses begin: `registry`, `service`.
    pub(crate) kind: String,
    /// Those that hold something.
    pub(crate) present: usize,
    /// Those that could be read, and are not there.
    pub(crate) absent: usize,
    /// Those that could not be read, with the reason.
    pub(crate) unreadable: Vec<Unread>,
}

/// A setting that could not be read.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub(crate) struct Unread {
    pub(crate) address: Address,
    pub(crate) reason: String,
}

/// Reads what every tweak that fits names where nothing is chosen of it.
pub(super) fn read_all(
    context: &Context,
    pc: &dyn Pc,
    facts: &Facts,
) -> Result<Vec<KindRead>, Failure> {
    let catalogue = context.catalogue()?;
    let mut addresses = BTreeSet::new();
    for tweak in catalogue.iter().filter(|tweak| tweak.misfits(facts).is_empty()) {
        // What has to be chosen, or hangs on what the PC does not tell, names nothing yet.
        let wanted = tweak.resolve(&tweak.complete(&Arguments::new()), facts);
        addresses.extend(wanted.into_iter().flatten().map(|wanted| wanted.address));
    }
    let mut kinds: BTreeMap<&'static str, KindRead> = BTreeMap::new();
    for address in addresses {
        let kind = kinds
            .entry(address.kind())
            .or_insert_with(|| KindRead { kind: address.kind().to_owned(), ..KindRead::default() });
        let state = pc.read(&address).unwrap_or_else(|error| State::Unreadable(error.to_string()));
        match state {
            State::Unreadable(reason) => kind.unreadable.push(Unread { address, reason }),
            State::Absent => kind.absent += 1,
            State::Value(_) => kind.present += 1,
        }
    }
    Ok(kinds.into_values().collect())
}
