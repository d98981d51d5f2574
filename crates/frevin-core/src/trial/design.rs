//! The design of a trial: all that is settled before its first visit.

use std::fmt;

use rand::{RngExt as _, SeedableRng as _};
use rand_pcg::Pcg64;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::doubts::Circumstances;
use super::in_play::InPlay;
use crate::ids::{BootId, ProfileName, SceneName, StateDigest};
use crate::layers::ChangeId;
use crate::preview::Wish;
use crate::sift::SiftId;
use crate::verdict::{Histories, Judge, Margins, PairLimit};

/// The number of a trial in its ledger, counted from 1.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct TrialId(pub i64);

impl fmt::Display for TrialId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// One of the two states that are compared. B is measured by A.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    JsonSchema,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Arm {
    /// The state that is the measure.
    A,
    /// The state that is measured by it.
    B,
}

impl Arm {
    /// The other one.
    #[must_use]
    pub fn other(self) -> Self {
        match self {
            Self::A => Self::B,
            Self::B => Self::A,
        }
    }
}

/// What of a trial is in force on the PC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// What A wants.
    A,
    /// What B wants.
    B,
    /// Neither: the state before a trial of two profiles.
    Neither,
}

impl From<Arm> for Place {
    fn from(arm: Arm) -> Self {
        match arm {
            Arm::A => Self::A,
            Arm::B => Self::B,
        }
    }
}

/// What a trial is to find out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Question {
    /// Whether B is worth applying: A is what was in force when the trial began.
    Apply,
    /// Which of two is better; neither was in force.
    Against,
    /// Whether B, which leaves something out, is no worse than A, which was in force.
    Without,
}

/// What is kept where a trial shows no gain.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeepPolicy {
    /// Only what is better stays: what gains nothing is not worth its risk.
    #[default]
    Better,
    /// What was shown to make no difference stays too: it is wanted for something else.
    AsGood,
    /// What was not shown to be worse stays too.
    NotWorse,
}

/// One of the two states as it was when the trial began: a catalogue or a profile that changes later
/// changes nothing here.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct ArmDesign {
    /// What it is, for people.
    pub title: String,
    /// The revision of a profile that it is, where it is one.
    pub revision: Option<(ProfileName, u32)>,
    /// What it wants. Nothing: what is in force without the trial.
    pub wishes: Vec<Wish>,
}

/// The design of a trial.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Design {
    /// What is to be found out.
    pub question: Question,
    /// The state that is the measure.
    pub a: ArmDesign,
    /// The state that is measured by it.
    pub b: ArmDesign,
    /// The change that held A when the trial began, where one did.
    pub holder: Option<ChangeId>,
    /// What other changes held when the trial began, and have to hold while it goes on.
    pub others: StateDigest,
    /// The start of the PC in which the trial began.
    pub boot: BootId,
    /// What is measured: one scene, or the same at several graphics levels, each a scene of its own. Never
    /// empty.
    pub levels: Vec<SceneName>,
    /// Runs of a visit that count.
    pub runs: usize,
    /// Runs before them that do not; also the first runs after each restart.
    pub warm_up: usize,
    /// How long a run is, in seconds, where its source can say.
    pub run_seconds: u32,
    /// Whether the PC restarts before every visit, of either state.
    pub restarts: bool,
    /// Whether Frevin restarts the PC itself and goes on after its owner has signed in, as the owner agreed to when
    /// the trial began.
    #[serde(default)]
    pub restarts_by_itself: bool,
    /// Whether the trial was begun with an administrator's rights.
    #[serde(default)]
    pub as_administrator: bool,
    /// What the coin comes from.
    pub seed: u64,
    /// The most pairs.
    pub limit: PairLimit,
    /// What difference is worth having.
    pub margins: Margins,
    /// How much pairs differed by chance in earlier trials.
    pub histories: Histories,
    /// What is kept where nothing is gained.
    pub keep: KeepPolicy,
    /// What decides.
    pub judge: Judge,
    /// What is asked how fast it answers, as a guard or as the judge.
    pub ping: Option<String>,
    /// The time between two questions, in milliseconds.
    pub ping_pause_ms: u64,
    /// Whether runs are recorded on the battery, which has to stay so.
    pub on_battery: bool,
    /// How it is played, where the states are switched while somebody plays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub in_play: Option<InPlay>,
    /// The sift whose findings it proves, if it is one of a sift.
    #[serde(default)]
    pub of_sift: Option<SiftId>,
}

impl Design {
    /// Whether something of the process that is played is tried, and no setting.
    pub fn is_of_process(&self) -> bool {
        self.in_play.as_ref().is_some_and(|in_play| !in_play.process.is_empty())
    }

    /// What is measured, in words: the scenes of all levels.
    pub fn scene(&self) -> String {
        let names: Vec<&str> = self.levels.iter().map(SceneName::as_str).collect();
        names.join(", ")
    }

    /// Under what its visits are to be made.
    pub fn circumstances(&self) -> Circumstances {
        Circumstances { on_battery: self.on_battery, run_seconds: self.run_seconds }
    }

    /// A state that is compared.
    pub fn arm(&self, arm: Arm) -> &ArmDesign {
        match arm {
            Arm::A => &self.a,
            Arm::B => &self.b,
        }
    }

    /// What a place of the PC wants.
    pub fn wishes_at(&self, place: Place) -> &[Wish] {
        match place {
            Place::A => &self.a.wishes,
            Place::B => &self.b.wishes,
            Place::Neither => &[],
        }
    }

    /// What is in force where no change of the trial is.
    pub fn place_without(&self) -> Place {
        if self.a.wishes.is_empty() {
            Place::A
        } else if self.b.wishes.is_empty() {
            Place::B
        } else {
            Place::Neither
        }
    }

    /// What was in force when the trial began.
    pub fn first_place(&self) -> Place {
        match self.question {
            Question::Apply | Question::Without => Place::A,
            Question::Against => Place::Neither,
        }
    }

    /// The order of the visits of a pair, counted from 0: a coin for the first of every two, and the
    /// reverse of it for the second.
    pub fn order(&self, pair: usize) -> [Arm; 2] {
        let mut coins = Pcg64::seed_from_u64(self.seed);
        let coin = (0..=pair / 2).map(|_| coins.random::<bool>()).last().unwrap_or(false);
        let first = if coin == pair.is_multiple_of(2) { Arm::B } else { Arm::A };
        [first, first.other()]
    }
}

/// A trial of one state against the PC as it is, as small as one can be.
#[cfg(test)]
pub(crate) fn sample_design() -> Design {
    let arm = |title: &str| ArmDesign { title: title.into(), revision: None, wishes: Vec::new() };
    Design {
        question: Question::Apply,
        a: arm("the PC as it is"),
        b: arm("evening@1"),
        holder: None,
        others: StateDigest::new("none"),
        boot: BootId::new("0"),
        levels: vec!["canyon".parse().unwrap()],
        runs: 3,
        warm_up: 0,
        run_seconds: 60,
        restarts: false,
        restarts_by_itself: false,
        as_administrator: false,
        seed: 1,
        limit: PairLimit::default(),
        margins: Margins::default(),
        histories: Histories::default(),
        keep: KeepPolicy::Better,
        judge: Judge::FrameRate,
        ping: None,
        ping_pause_ms: 50,
        on_battery: false,
        in_play: None,
        of_sift: None,
    }
}
