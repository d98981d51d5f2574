//! The design of a sift: all that is settled before its first configuration.

use std::fmt;

use frevin_stats::sift::{Factors, FactorsError, SiftRule};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::in_play::SiftInPlay;
use crate::ids::{BootId, ProfileName, SceneName, StateDigest};
use crate::preview::{LeftOut, Wish};
use crate::trial::KeepPolicy;
use crate::tune::Evening;
use crate::tweak::Risk;
use crate::verdict::Judge;

/// The number of a sift in its ledger, counted from 1.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct SiftId(pub i64);

impl fmt::Display for SiftId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// What of a sift is in force: the columns that are on, in ascending order, each once. None: the PC as it was.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Configuration(Vec<usize>);

impl Configuration {
    /// Of these columns.
    pub fn of(columns: impl IntoIterator<Item = usize>) -> Self {
        let mut on: Vec<usize> = columns.into_iter().collect();
        on.sort_unstable();
        on.dedup();
        Self(on)
    }

    /// Of a row of a design.
    pub(super) fn of_row(row: &[bool]) -> Self {
        Self(row.iter().enumerate().filter(|(_, on)| **on).map(|(column, _)| column).collect())
    }

    /// The columns that are on.
    pub fn columns(&self) -> &[usize] {
        &self.0
    }
}

/// A tweak that is sifted, as it was when the sift began.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct SiftedTweak {
    /// What it wants.
    pub wish: Wish,
    /// What it can cost.
    pub risk: Risk,
}

/// An address whose answers are timed during each run.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Pinging {
    /// The address, as its owner wrote it.
    pub address: String,
    /// The time between two questions, in milliseconds.
    pub pause_ms: u64,
}

/// The design of a sift.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct SiftDesign {
    /// What is sifted, for people.
    pub title: String,
    /// The revision of a profile that it is.
    pub revision: Option<(ProfileName, u32)>,
    /// The columns.
    pub tweaks: Vec<SiftedTweak>,
    /// Tweaks of the profile that are not sifted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<LeftOut>,
    /// Groups of columns of which at most one is on.
    pub exclusive: Vec<Vec<usize>>,
    /// Pairs of columns of which the first does nothing without the second.
    pub needs: Vec<(usize, usize)>,
    /// What other changes held when the sift began, and have to hold while it goes on.
    pub others: StateDigest,
    /// The start of the PC in which the sift began.
    pub boot: BootId,
    /// What is measured.
    pub scene: SceneName,
    /// Runs of a configuration that count; its value is their mean.
    pub runs: usize,
    /// Runs before them that do not.
    pub warm_up: usize,
    /// How long a run is, in seconds, where its source can say.
    pub run_seconds: u32,
    /// Whether the PC restarts before every configuration.
    pub restarts: bool,
    /// Whether Frevin restarts the PC itself.
    pub restarts_by_itself: bool,
    /// Whether the sift was begun with an administrator's rights.
    pub as_administrator: bool,
    /// Seed, expected variance of a row, and the most rows.
    pub rule: SiftRule,
    /// Whether earlier sifts told that variance.
    pub with_history: bool,
    /// The most pairs of the trial at the end.
    pub trial_pairs: usize,
    /// What that trial keeps.
    pub keep: KeepPolicy,
    /// Whether runs are recorded on the battery, which has to stay so.
    pub on_battery: bool,
    /// What configurations are judged by.
    #[serde(default)]
    pub judge: Judge,
    /// Whose answers are timed, where those are judged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ping: Option<Pinging>,
    /// How it is played, where it is a sift in play.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub in_play: Option<SiftInPlay>,
    /// The evening that it is of, where it is of one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub evening: Option<Evening>,
}

impl SiftDesign {
    /// What is sifted, as the statistics take it.
    ///
    /// # Errors
    /// [`FactorsError`] where it cannot be sifted.
    pub fn factors(&self) -> Result<Factors, FactorsError> {
        Factors::new(self.tweaks.len(), self.exclusive.clone(), self.needs.clone())
    }

    /// What a configuration wants.
    pub fn wishes(&self, configuration: &Configuration) -> Vec<Wish> {
        let of = |column: &usize| Some(self.tweaks.get(*column)?.wish.clone());
        configuration.columns().iter().filter_map(of).collect()
    }

    /// Columns that only somebody who knows them should switch on.
    pub(super) fn experts(&self) -> impl Iterator<Item = usize> {
        let experts = self.tweaks.iter().enumerate().filter(|(_, one)| one.risk == Risk::Expert);
        experts.map(|(column, _)| column)
    }
}
