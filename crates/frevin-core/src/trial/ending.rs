//! What is done with a verdict.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::design::{Design, KeepPolicy, Place, Question};
use crate::verdict::Comparison;
use crate::verdict::{Guard, GuardState, Verdict};

/// Why the PC is left as it is at the end of a trial.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// B is better.
    Better,
    /// B is worse.
    Worse,
    /// B is vetoed for its stutters.
    MoreStutters,
    /// B is vetoed for its uneven pacing.
    WorsePacing,
    /// B is vetoed for its ping.
    WorsePing,
    /// B is vetoed for its frame rate, where something else is judged.
    LowerFrameRate,
    /// Frames answer later.
    LongerLatency,
    /// B is vetoed for what is lost of the probes.
    MoreLoss,
    /// There is no difference worth having.
    NothingGained,
    /// Leaving it out costs nothing.
    NothingLost,
    /// It is not known whether there is a difference.
    NotKnown,
    /// The owner gave the trial up.
    Abandoned,
}

/// The end of a trial.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Ending {
    /// What is in force.
    pub place: Place,
    /// Whether that is B.
    pub kept: bool,
    /// Why.
    pub reason: Reason,
}

impl Ending {
    fn new(place: Place, reason: Reason) -> Self {
        Self { place, kept: place == Place::B, reason }
    }

    /// The end of a trial that was given up: the PC is what it was when it began.
    pub fn abandoned(design: &Design) -> Self {
        Self::new(design.first_place(), Reason::Abandoned)
    }
}

/// What a verdict means for the PC. What is tried of a process is in force of no PC: it ends with the process.
pub fn ending(design: &Design, comparison: &Comparison) -> Ending {
    let ending = by_verdict(design, comparison);
    match design.is_of_process() {
        true => Ending::new(design.first_place(), ending.reason),
        false => ending,
    }
}

fn by_verdict(design: &Design, comparison: &Comparison) -> Ending {
    let first = design.first_place();
    let (where_same, where_unknown) = match design.keep {
        KeepPolicy::Better => (first, first),
        KeepPolicy::AsGood => (Place::B, first),
        KeepPolicy::NotWorse => (Place::B, Place::B),
    };
    match (comparison.verdict, design.question) {
        (Verdict::Better, _) => Ending::new(Place::B, Reason::Better),
        // Of two, the other one has won.
        (Verdict::Worse, Question::Against) => Ending::new(Place::A, why_worse(comparison)),
        (Verdict::Worse, Question::Apply | Question::Without) => {
            Ending::new(first, why_worse(comparison))
        }
        (Verdict::Same, Question::Without) => Ending::new(Place::B, Reason::NothingLost),
        (Verdict::Same | Verdict::Undecided, Question::Against) => {
            Ending::new(first, no_winner(comparison.verdict))
        }
        (Verdict::Same, Question::Apply) => Ending::new(where_same, Reason::NothingGained),
        (Verdict::Undecided, Question::Apply | Question::Without) => {
            Ending::new(where_unknown, Reason::NotKnown)
        }
    }
}

fn no_winner(verdict: Verdict) -> Reason {
    if verdict == Verdict::Same { Reason::NothingGained } else { Reason::NotKnown }
}

fn why_worse(comparison: &Comparison) -> Reason {
    let is_worse = comparison
        .findings
        .iter()
        .any(|finding| finding.decision == crate::verdict::Decision::Worse);
    let veto = comparison.guards.iter().find(|guard| guard.state == GuardState::Vetoes);
    match veto {
        Some(veto) if !is_worse => match veto.guard {
            Guard::Stutters => Reason::MoreStutters,
            Guard::Pacing => Reason::WorsePacing,
            Guard::Ping => Reason::WorsePing,
            Guard::AverageFps => Reason::LowerFrameRate,
            Guard::Latency => Reason::LongerLatency,
        },
        None if !is_worse => Reason::MoreLoss,
        _ => Reason::Worse,
    }
}

#[cfg(test)]
mod tests {
    use super::super::design::sample_design;
    use super::super::in_play::{InPlay, PlaySource, Settling};
    use super::*;
    use crate::playing::ProcessHolds;
    use crate::verdict::{Histories, Judge, Margins, PairLimit, compare};

    fn comparison(verdict: Verdict) -> Comparison {
        let nothing = compare(
            Judge::FrameRate,
            &[],
            PairLimit::default(),
            Margins::default(),
            &Histories::default(),
        );
        Comparison { verdict, is_finished: true, ..nothing }
    }

    #[test]
    fn what_is_tried_of_a_process_is_kept_by_no_pc_whatever_the_verdict() {
        let mut design = sample_design();
        assert!(ending(&design, &comparison(Verdict::Better)).kept);
        let process =
            ProcessHolds { processors: Some("0".parse().unwrap()), ..ProcessHolds::default() };
        design.in_play = Some(InPlay {
            settling: Settling::Declared { felt_within_s: 0.0 },
            loop_s: None,
            source: PlaySource::TestLoop,
            sitting_s: None,
            process,
            windows_build: None,
            graphics_driver: None,
        });
        assert!(design.is_of_process());
        for (verdict, reason) in [
            (Verdict::Better, Reason::Better),
            (Verdict::Same, Reason::NothingGained),
            (Verdict::Undecided, Reason::NotKnown),
        ] {
            for keep in [KeepPolicy::Better, KeepPolicy::AsGood, KeepPolicy::NotWorse] {
                design.keep = keep;
                let ending = ending(&design, &comparison(verdict));
                assert_eq!((ending.kept, ending.place), (false, design.first_place()));
                assert_eq!(ending.reason, reason);
            }
        }
    }

    #[test]
    fn a_state_is_kept_where_it_is_better_and_by_policy_where_it_is_not_worse() {
        let mut design = sample_design();
        let kept = |design: &Design, verdict| ending(design, &comparison(verdict)).kept;
        assert!(kept(&design, Verdict::Better) && !kept(&design, Verdict::Same));
        design.keep = KeepPolicy::AsGood;
        assert!(kept(&design, Verdict::Same) && !kept(&design, Verdict::Undecided));
        assert!(!kept(&design, Verdict::Worse) && kept(&design, Verdict::Better));
        design.keep = KeepPolicy::NotWorse;
        assert!(kept(&design, Verdict::Same) && kept(&design, Verdict::Undecided));
        assert!(!kept(&design, Verdict::Worse));
    }
}
