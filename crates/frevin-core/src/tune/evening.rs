//! An evening: the time that there is, what was made of it, and what came before it.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::plan::EveningPlan;
use crate::layers::ChangeId;
use crate::preview::Wish;
use crate::setting::Address;
use crate::visits::VisitId;

/// An evening: the time that there is, and what was made of it.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Evening {
    /// The time that there is, in seconds.
    pub budget_s: u64,
    /// What was planned.
    pub plan: EveningPlan,
    /// What was plainly wrong and was mended before it; it goes with the evening where that is given up, and is tried
    /// together with what helped against the PC as it came.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mended: Vec<Mended>,
    /// What an evening before it kept and was taken back to be asked again; it comes back where this one is given up.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub set_aside: Vec<Wish>,
    /// Whether there is time for a run before all else that tells what limits the frames.
    #[serde(default)]
    pub looks_first: bool,
    /// The visit that told what limits the frames before anything was asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub baseline: Option<VisitId>,
    /// Whether it asked again about what had aged, and about nothing else.
    #[serde(default)]
    pub is_again: bool,
}

impl Evening {
    /// What was mended and is tried together with what helped: all of it that writes nothing which that writes too.
    pub fn tried_with(&self, helping: &[Wish]) -> Vec<&Mended> {
        let addresses = |wish: &Wish| -> BTreeSet<Address> {
            wish.settings.iter().map(|wanted| wanted.address.clone()).collect()
        };
        let taken: BTreeSet<Address> = helping.iter().flat_map(addresses).collect();
        let is_apart = |mended: &&Mended| addresses(&mended.wish).is_disjoint(&taken);
        self.mended.iter().filter(is_apart).collect()
    }
}

/// Something plainly wrong that was mended.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Mended {
    /// What was wrong.
    pub title: String,
    /// What mended it.
    #[serde(flatten)]
    pub wish: Wish,
    /// The change that holds it.
    pub change: ChangeId,
}
