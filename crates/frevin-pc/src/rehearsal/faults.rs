//! Faults to be provoked on a rehearsal PC.

use std::collections::BTreeSet;

use frevin_core::setting::Address;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What goes wrong on the writes to come.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Faults {
    /// The power fails before the write after this many: 0 is the next one. Frevin ends on the
    /// spot, as it would with the PC.
    pub power_cut_after_writes: Option<u64>,
    /// Settings whose writes are refused.
    pub refuse: BTreeSet<Address>,
    /// Settings whose writes are accepted and do nothing.
    pub ignore: BTreeSet<Address>,
    /// Frevin runs without an administrator's rights.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub no_administrator: bool,
    /// A program records what is shown: the graphics card encodes video.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recorder: Option<String>,
}
