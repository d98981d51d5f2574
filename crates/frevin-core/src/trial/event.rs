//! What happens in a trial.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::design::{Arm, Place};
use super::ending::Ending;
use super::in_play::Segment;
use crate::ids::BootId;
use crate::layers::ChangeId;
use crate::setting::State;
use crate::verdict::{Verdict, VisitFigures};
use crate::visits::VisitId;

/// What a trial does next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
    /// Play, switching between the states all the while.
    Play {
        /// Which sitting it is, counted from 0.
        sitting: usize,
        /// How often the settling time was doubled.
        doubled: u32,
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
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
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
    /// The entry is about to be set by which Windows goes on with the trial after the next sign-in.
    EntrySet {
        /// What it held.
        before: State,
    },
    /// That entry holds again what it held.
    EntryGone,
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
    /// Segments of a sitting were played.
    Played {
        /// The sitting.
        sitting: usize,
        /// How often the settling time was doubled.
        doubled: u32,
        /// The segments that follow those told before.
        segments: Vec<Segment>,
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

#[cfg(test)]
mod tests {
    use super::super::ending::Reason;
    use super::*;
    use crate::verdict::FrameFigures;

    #[test]
    fn events_are_read_as_they_were_written() {
        let ending = Ending { place: Place::B, kept: true, reason: Reason::Better };
        let boot = BootId::new("7");
        let actions = [
            Action::Switch { to: Place::Neither },
            Action::Restart,
            Action::Visit { pair: 3, arm: Arm::B, warm_up: 1, runs: 3 },
            Action::Play { sitting: 2, doubled: 1 },
            Action::Decide { verdict: Verdict::Same },
            Action::End(ending),
        ];
        let frames = FrameFigures {
            ln_average_fps: 4.443_210_987_654_321,
            ln_low_1_percent_fps: 0.1 + 0.2,
            stutter_events: 7,
            ln_pacing_ms: -1e-300,
        };
        let doubts = vec![
            Doubt::OtherPower { on_battery: true },
            Doubt::CutShort,
            Doubt::Capped,
            Doubt::BrokenOff { reason: "so".to_owned() },
        ];
        let voided = doubts.iter().map(|doubt| Event::Voided {
            pair: 0,
            arm: Arm::A,
            visits: vec![VisitId(1)],
            doubt: doubt.clone(),
        });
        let events = actions
            .map(|action| Event::Began { action, boot: boot.clone() })
            .into_iter()
            .chain(voided)
            .chain([
                Event::Switched { to: Place::A, change: Some(ChangeId(4)) },
                Event::Restarted { boot: boot.clone() },
                Event::EntrySet { before: State::Absent },
                Event::EntryGone,
                Event::Visited {
                    pair: 1,
                    arm: Arm::B,
                    visits: vec![VisitId(5), VisitId(6)],
                    levels: vec![VisitFigures { frames: Some(frames), ..VisitFigures::default() }],
                    doubts: doubts.clone(),
                },
                Event::Played {
                    sitting: 1,
                    doubled: 0,
                    segments: vec![Segment {
                        arm: Arm::B,
                        begin_s: 30.0,
                        end_s: 36.0,
                        frames: None,
                        looks_capped: false,
                        stutters_while_settling: 2,
                    }],
                },
                Event::Paused,
                Event::Resumed,
                Event::Decided { verdict: Verdict::Better },
                Event::NotSettled { reason: "so".to_owned() },
                Event::Ended(ending),
                Event::Abandoned,
            ]);
        for event in events {
            let text = serde_json::to_string(&event).unwrap();
            assert_eq!(serde_json::from_str::<Event>(&text).unwrap(), event, "{text}");
        }
    }
}
