//! An evening: the time that there is, what was made of it, and what came before it.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::plan::EveningPlan;
use crate::layers::ChangeId;
use crate::preview::Wish;
use crate::setting::Address;
use crate::sift::SiftId;
use crate::tweak::TweakId;
use crate::verdict::Judge;
use crate::visits::VisitId;

/// What an evening is for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Goal {
    /// More frames: what helps is kept.
    #[default]
    Frames,
    /// Less power and noise: what costs no frames is kept.
    Quiet,
    /// Answers of an address that come sooner.
    Ping,
    /// Frames that answer sooner to their player.
    Latency,
}

impl Goal {
    /// What is judged for it.
    pub fn judge(self) -> Judge {
        match self {
            Self::Frames | Self::Quiet => Judge::FrameRate,
            Self::Ping => Judge::Ping,
            Self::Latency => Judge::Latency,
        }
    }
}

/// Which part of an evening a sift is.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "asks")]
pub enum EveningPart {
    /// What acts at once is asked about while somebody plays; another sift asks about the rest and tries what helped.
    InPlay {
        /// How that one is to be made.
        then: AskedInRuns,
    },
    /// What is asked about in runs, and the trial of all that helped.
    #[default]
    InRuns,
}

/// What is settled before play of the part of an evening that comes after it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct AskedInRuns {
    /// Tweaks for experts that the owner agreed to.
    pub experts: BTreeSet<TweakId>,
    /// Whether Frevin restarts the PC itself.
    pub restarts_by_itself: bool,
}

/// The part of an evening that was played.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct PlayedFirst {
    /// The sift in play that it is.
    pub sift: SiftId,
    /// What it found to help: not asked about again, and tried with what helps of the rest.
    pub helped: Vec<Wish>,
}

/// An evening: the time that there is, and what was made of it.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Evening {
    /// Which part of it this is.
    #[serde(default)]
    pub part: EveningPart,
    /// The part that was played before this one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub played_first: Option<PlayedFirst>,
    /// What it is for.
    #[serde(default)]
    pub goal: Goal,
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
    /// Nothing of it where the frames have to stay the same, since what it gives would hide what the rest costs; and
    /// nothing where answers of the network are judged, which it does nothing to.
    pub fn tried_with(&self, helping: &[Wish]) -> Vec<&Mended> {
        match self.goal {
            Goal::Frames | Goal::Latency => {}
            Goal::Quiet | Goal::Ping => return Vec::new(),
        }
        let addresses = |wish: &Wish| -> BTreeSet<Address> {
            wish.settings.iter().map(|wanted| wanted.address.clone()).collect()
        };
        let taken: BTreeSet<Address> =
            helping.iter().chain(self.helped_in_play()).flat_map(addresses).collect();
        let is_apart = |mended: &&Mended| addresses(&mended.wish).is_disjoint(&taken);
        self.mended.iter().filter(is_apart).collect()
    }

    /// What helped in play and is tried with what helps of the rest.
    pub fn helped_in_play(&self) -> &[Wish] {
        self.played_first.as_ref().map_or(&[], |played| &played.helped)
    }

    /// Whether it is the part that is played, after which another follows.
    pub fn is_played(&self) -> bool {
        matches!(self.part, EveningPart::InPlay { .. })
    }

    /// All that is tried against the PC as it came, beside what this part of it found to help.
    pub fn tried_beside(&self, helping: &[Wish]) -> Vec<Wish> {
        let mended = self.tried_with(helping).into_iter().map(|mended| mended.wish.clone());
        mended.chain(self.helped_in_play().iter().cloned()).collect()
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

/// An evening in which nothing is asked, for tests.
#[cfg(test)]
pub(crate) fn sample_evening(goal: Goal) -> Evening {
    let plan = EveningPlan {
        asked: Vec::new(),
        not_asked: Vec::new(),
        run_seconds: 60,
        trial_runs: 3,
        trial_pairs: 8,
        rows: 64,
        sift_s: 1,
        trial_s: 1,
        smallest_effect_percent: 1.0,
        in_play: None,
    };
    Evening {
        part: EveningPart::InRuns,
        played_first: None,
        goal,
        budget_s: 2,
        plan,
        mended: Vec::new(),
        set_aside: Vec::new(),
        looks_first: false,
        baseline: None,
        is_again: false,
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;
    use crate::setting::{State, TakesEffect};
    use crate::tweak::{TweakUse, Wanted};

    fn wish(tweak: &str, value: &str) -> Wish {
        let wanted = Wanted {
            address: format!(r"registry:HKCU\Software\A#{value}").parse().unwrap(),
            state: State::Absent,
            takes_effect: TakesEffect::Now,
        };
        let used = TweakUse::plain(tweak.parse().unwrap());
        Wish { used, settings: vec![wanted], consented: false }
    }

    #[test]
    fn what_was_mended_is_tried_with_the_rest_where_both_are_apart_and_frames_are_the_goal() {
        let mended = |tweak: &str, value: &str, change: i64| Mended {
            title: tweak.to_owned(),
            wish: wish(tweak, value),
            change: ChangeId(change),
        };
        let mut evening = sample_evening(Goal::Frames);
        evening.mended = vec![mended("knobs/one", "One", 1), mended("knobs/two", "Two", 2)];
        let tried = |evening: &Evening, helping: &[Wish]| -> Vec<i64> {
            evening.tried_with(helping).iter().map(|mended| mended.change.0).collect()
        };
        assert_eq!(tried(&evening, &[]), [1, 2]);
        // What writes the same as something that helps stays where it is.
        assert_eq!(tried(&evening, &[wish("knobs/other", "Two")]), [1]);
        evening.goal = Goal::Quiet;
        assert_eq!(tried(&evening, &[]), [0_i64; 0]);
        // An evening of before there were goals is one for frames.
        let mut told = serde_json::to_value(&evening).unwrap();
        told.as_object_mut().unwrap().remove("goal");
        evening.goal = Goal::Frames;
        assert_eq!(serde_json::from_value::<Evening>(told).unwrap(), evening);
    }
}
