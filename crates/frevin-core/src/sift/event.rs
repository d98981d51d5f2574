//! What happens in a sift.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::design::Configuration;
use crate::ids::BootId;
use crate::layers::ChangeId;
use crate::setting::State;
use crate::trial::in_play::Segment;
use crate::trial::{Doubt, Ending, TrialId};
use crate::verdict::Verdict;
use crate::visits::VisitId;

/// What a sift does next.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "action", rename_all = "kebab-case")]
pub enum SiftAction {
    /// Bring the PC to a configuration.
    Switch {
        /// What is to be in force.
        to: Configuration,
    },
    /// Restart the PC, or wait until its owner has.
    Restart,
    /// See that the PC has started with some tweaks on that had never been on before.
    Introduce {
        /// Which group of them, counted from 0.
        group: usize,
    },
    /// Measure a configuration.
    Measure {
        /// The row of the design, counted from 0.
        row: usize,
    },
    /// Play a sitting of a sift in play.
    Play {
        /// Its number, counted from 0.
        sitting: usize,
    },
    /// Write down that enough is known.
    Decide,
    /// Begin the trial of what helped.
    BeginTrial,
    /// Go on with it.
    GoOnWithTrial {
        /// Its number.
        trial: TrialId,
    },
    /// Let the part of its evening follow that is asked about in runs.
    GoOnInRuns,
    /// Write down the end.
    End,
    /// Nothing, until its owner goes on with it: the PC is as it was.
    Rest,
    /// Nothing: other changes hold something else than when it began.
    Blocked,
    /// Nothing: it has ended.
    Nothing,
}

/// What a configuration gave. Logarithms are natural ones, and means over the runs that count.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct RowFigures {
    /// ln(average FPS): what is sifted by where no other judge is.
    pub ln_average_fps: f64,
    /// ln(1% low FPS), for reading.
    pub ln_low_1_percent_fps: f64,
    /// ln(stutters of all runs together + 0.5), for reading.
    pub ln_stutters: f64,
    /// What is sifted by instead, where the judge is another: a natural logarithm, the larger the better.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub judged: Option<f64>,
}

/// Something that happened in a sift, in the order in which it did.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum SiftEvent {
    /// An action is about to be done.
    Began {
        /// The action.
        #[serde(flatten)]
        action: SiftAction,
        /// The start of the PC in which it was begun.
        boot: BootId,
    },
    /// What is in force of the sift was changed.
    Switched {
        /// What is in force now.
        to: Configuration,
        /// The change that holds it, where one does.
        change: Option<ChangeId>,
    },
    /// The PC was restarted.
    Restarted {
        /// Its present start.
        boot: BootId,
    },
    /// The entry is about to be set by which Windows goes on with the sift after the next sign-in.
    EntrySet {
        /// What it held.
        before: State,
    },
    /// That entry holds again what it held.
    EntryGone,
    /// The PC has started with tweaks on that had never been on before.
    Introduced {
        /// Which group of them.
        group: usize,
    },
    /// A configuration was measured, and counts.
    Measured {
        /// The row.
        row: usize,
        /// The visit.
        visit: VisitId,
        /// What it gave.
        figures: RowFigures,
        /// What was doubtful about it all the same.
        doubts: Vec<Doubt>,
    },
    /// Segments of a sift in play were played, after those before them.
    Played {
        /// The sitting.
        sitting: usize,
        /// The segments.
        segments: Vec<Segment>,
    },
    /// A configuration was measured, and does not count.
    Voided {
        /// The row.
        row: usize,
        /// What was recorded of it.
        visit: Option<VisitId>,
        /// Why.
        #[serde(flatten)]
        doubt: Doubt,
    },
    /// Enough is known, or there may be no more rows.
    Decided,
    /// The trial of what helped has begun.
    TrialBegun {
        /// Its number.
        trial: TrialId,
    },
    /// It is over.
    Ended {
        /// The verdict of the trial; nothing where nothing helped.
        verdict: Option<Verdict>,
        /// How that trial ended.
        ending: Option<Ending>,
    },
    /// The owner gave it up; the PC goes back to what it was when the sift began.
    Abandoned,
    /// The owner put it off; the PC goes back to what it was until they go on with it.
    Paused,
    /// The owner goes on with it.
    Resumed,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_read_as_they_were_written() {
        let boot = BootId::new("7");
        let to = Configuration::of([3, 1, 3]);
        assert_eq!(to.columns(), [1, 3]);
        let figures = RowFigures {
            ln_average_fps: 0.1 + 0.2,
            ln_low_1_percent_fps: 4.0,
            ln_stutters: -1e-300,
            judged: None,
        };
        let actions = [
            SiftAction::Switch { to: to.clone() },
            SiftAction::Restart,
            SiftAction::Introduce { group: 1 },
            SiftAction::Measure { row: 9 },
            SiftAction::Play { sitting: 1 },
            SiftAction::Decide,
            SiftAction::BeginTrial,
            SiftAction::GoOnWithTrial { trial: TrialId(4) },
            SiftAction::GoOnInRuns,
            SiftAction::End,
            SiftAction::Rest,
        ];
        let events = actions.map(|action| SiftEvent::Began { action, boot: boot.clone() });
        let more = [
            SiftEvent::Switched { to, change: Some(ChangeId(4)) },
            SiftEvent::Restarted { boot },
            SiftEvent::EntrySet { before: State::Absent },
            SiftEvent::EntryGone,
            SiftEvent::Introduced { group: 0 },
            SiftEvent::Measured { row: 2, visit: VisitId(5), figures, doubts: vec![Doubt::Capped] },
            SiftEvent::Voided { row: 2, visit: None, doubt: Doubt::CutShort },
            SiftEvent::Played { sitting: 0, segments: Vec::new() },
            SiftEvent::Decided,
            SiftEvent::TrialBegun { trial: TrialId(1) },
            SiftEvent::Ended { verdict: Some(Verdict::Better), ending: None },
            SiftEvent::Abandoned,
            SiftEvent::Paused,
            SiftEvent::Resumed,
        ];
        for event in events.into_iter().chain(more) {
            let text = serde_json::to_string(&event).unwrap();
            assert_eq!(serde_json::from_str::<SiftEvent>(&text).unwrap(), event, "{text}");
        }
    }
}
