//! What happens in a trial.

use serde::{Deserialize, Serialize};

use super::design::{Arm, Place};
use super::ending::Ending;
use crate::ids::BootId;
use crate::layers::ChangeId;
use crate::verdict::{Verdict, VisitFigures};
use crate::visits::VisitId;

/// What a trial does next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "action", rename_all = "kebab-case")]
pub enum Action {
    /// Bring the PC from what is in force of the trial to this.
    Switch {
        /// What is to be in force.
        to: Place,
    },
    /// Restart the PC, or wait until its owner has.
    Restart,
    /// Visit a state.
    Visit {
        /// The pair, counted from 0.
        pair: usize,
        /// The state.
        arm: Arm,
        /// Runs that do not count.
        warm_up: usize,
        /// Runs that do.
        runs: usize,
    },
    /// Write down the verdict, which the visits give.
    Decide {
        /// The verdict.
        verdict: Verdict,
    },
    /// Write down the end: the PC is where the verdict wants it.
    End(Ending),
    /// Nothing: it waits for its owner to go on.
    Rest,
    /// Nothing: other changes than those of the trial hold something else than when it began.
    Blocked,
    /// Nothing: it has ended.
    Nothing,
}

/// Why a visit is made again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "doubt", rename_all = "kebab-case")]
pub enum Doubt {
    /// The PC ran on another source of power than when the trial began.
    OtherPower {
        /// Whether it ran on its battery.
        on_battery: bool,
    },
    /// A run was cut short.
    CutShort,
    /// Frames were capped, and those of other visits to this state were not.
    Capped,
    /// It could not be recorded to its end.
    BrokenOff {
        /// Why.
        reason: String,
    },
}

/// Something that happened in a trial, in the order in which it did.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// An action is about to be done.
    Began {
        /// The action.
        #[serde(flatten)]
        action: Action,
        /// The start of the PC in which it was begun.
        boot: BootId,
    },
    /// What is in force of the trial was changed.
    Switched {
        /// What is in force now.
        to: Place,
        /// The change that holds it, where one does.
        change: Option<ChangeId>,
    },
    /// The PC was restarted.
    Restarted {
        /// Its present start.
        boot: BootId,
    },
    /// A visit was made and counts.
    Visited {
        /// The pair.
        pair: usize,
        /// The state.
        arm: Arm,
        /// The visit of each graphics level, in their order.
        visits: Vec<VisitId>,
        /// The figures of each.
        levels: Vec<VisitFigures>,
        /// What was doubtful about it all the same.
        doubts: Vec<Doubt>,
    },
    /// A visit was made and does not count.
    Voided {
        /// The pair.
        pair: usize,
        /// The state.
        arm: Arm,
        /// What was recorded of it, of each graphics level.
        visits: Vec<VisitId>,
        /// Why.
        #[serde(flatten)]
        doubt: Doubt,
    },
    /// The owner put it off. A visit without its partner does not count.
    Paused,
    /// The owner went on with it.
    Resumed,
    /// The verdict was given.
    Decided {
        /// The verdict.
        verdict: Verdict,
    },
    /// The PC could not be brought to where it should be at the end; the way stays open.
    NotSettled {
        /// Why.
        reason: String,
    },
    /// It is over.
    Ended(Ending),
    /// The owner gave it up; the PC goes back to what it was when the trial began.
    Abandoned,
}
