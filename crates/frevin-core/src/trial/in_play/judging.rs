//! Segments -> pairs -> a verdict.

use frevin_stats::in_play::{InPlayTest, InPlayVeto, SegmentFigures, State, pair_of_segments};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::super::design::Arm;
use super::design::{InPlay, LEAD_IN_S, MOST_PLAY_S, Settling};
use super::segments::{Segment, SegmentFrames};
use crate::verdict::{
    Comparison, Guard, GuardFinding, GuardState, Margins, Measured, MetricFinding, PairsOf,
    Primary, Verdict,
};

/// Why a trial in play ends without a verdict before its time is out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Unjudged {
    /// Over a quarter of the pairs were no play: menus, loading, pauses, caps.
    TooMuchIsNoPlay,
    /// Over a quarter of the pairs were dropped, most of them since frames were capped.
    Capped,
    /// What is tried goes on settling for longer than segments can wait.
    SettlesTooSlowly,
}

/// What the segments of a trial come to.
#[derive(Debug, Clone)]
pub struct Judged {
    /// The test, after every pair that counts.
    pub test: InPlayTest,
    /// Segments that were played since it last began anew.
    pub segments: usize,
    /// Pairs of segments that were played.
    pub pairs_played: usize,
    /// Those that do not count: menus, loading, pauses, caps.
    pub pairs_dropped: usize,
    /// Play over all sittings, in seconds.
    pub played_s: f64,
    /// How often the settling time was doubled: the trial began anew each time.
    pub doubled: u32,
    /// Stutters right after a switch, for each switch.
    pub stutters_a_switch: f64,
    /// Why it ends without a verdict.
    pub unjudged: Option<Unjudged>,
    /// Whether the verdict waits for the first look at whether segments settle.
    waits_for_settling: bool,
    medians: [[f64; 2]; 2],
}

/// Before so many pairs were played, a menu is no reason to give up.
const FEW_PAIRS: usize = 20;
/// The share of pairs that may be dropped.
const MAY_BE_DROPPED: f64 = 0.25;
/// By how many standard errors it has to be exceeded before the end: one menu drops several neighbours.
const CLEARLY: f64 = 3.0;
/// When segments are looked at for whether they begin otherwise than they end, ...
const SETTLING_LOOKS: [usize; 2] = [24, 96];
/// ... and how many standard errors they may: a hundredth of trials where they do not.
const SETTLING_BOUND: f64 = 2.58;
/// The settling time is doubled so often.
const MOST_DOUBLED: u32 = 2;

/// A pair of segments, with those around it.
pub(crate) struct PlayedPair<'a> {
    /// Its number in its sitting.
    pub(crate) number: usize,
    pub(crate) first: &'a Segment,
    pub(crate) second: &'a Segment,
    pub(crate) neighbours: Option<(&'a SegmentFrames, Arm, &'a SegmentFrames, Arm)>,
}

/// The segments of a sitting, in the order in which they were played.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct PlayedSitting {
    /// How often the settling time had been doubled when it began.
    pub doubled: u32,
    /// The segments.
    pub segments: Vec<Segment>,
}

/// Judges the sittings of a trial. The last pair of the last one waits for the segment after it, unless the time is out.
pub fn judge(design: &InPlay, margins: Margins, sittings: &[PlayedSitting]) -> Judged {
    let mut doubled = 0;
    loop {
        match judge_level(design, margins, sittings, doubled) {
            Some(judged) => return judged,
            None => doubled += 1,
        }
    }
}

/// Judges the sittings whose settling time was doubled so often; nothing where it has to be doubled once more.
fn judge_level(
    design: &InPlay,
    margins: Margins,
    sittings: &[PlayedSitting],
    doubled: u32,
) -> Option<Judged> {
    let limits = [margins.average_fps, margins.low_1_percent_fps];
    let mut judged = Judged {
        test: InPlayTest::new(design.limit(doubled), limits),
        segments: 0,
        pairs_played: 0,
        pairs_dropped: 0,
        played_s: 0.0,
        doubled,
        stutters_a_switch: 0.0,
        unjudged: None,
        waits_for_settling: design.settling == Settling::Tested,
        medians: [[f64::NAN; 2]; 2],
    };
    let played_s = |sitting: &PlayedSitting| sitting.segments.last().map_or(LEAD_IN_S, |s| s.end_s);
    judged.played_s = sittings.iter().map(played_s).sum();
    let is_over = judged.played_s >= MOST_PLAY_S;
    let mut halves = Vec::new();
    let mut capped = 0;
    let mut dropped = 0;
    let mut values: [[Vec<f64>; 2]; 2] = Default::default();
    for (at, sitting) in sittings.iter().enumerate() {
        let segments = &sitting.segments;
        if sitting.doubled != doubled {
            continue;
        }
        let is_last = at + 1 == sittings.len();
        judged.segments += segments.len();
        let is_whole = is_over || !is_last;
        for played in pairs_of(design, doubled, segments, is_whole) {
            judged.pairs_played += 1;
            judged.stutters_a_switch += f64::from(
                played.first.stutters_while_settling + played.second.stutters_while_settling,
            );
            let is_capped = played.first.looks_capped || played.second.looks_capped;
            let frames = played.first.frames.as_ref().zip(played.second.frames.as_ref());
            let Some((first, second)) = frames.filter(|_| !is_capped) else {
                dropped += 1;
                capped += usize::from(is_capped);
                continue;
            };
            if judged.is_finished() {
                continue;
            }
            let neighbours = played.neighbours.map(|(before, arm_before, after, arm_after)| {
                (figures(before, arm_before), figures(after, arm_after))
            });
            let neighbours = neighbours.as_ref().map(|(before, after)| (before, after));
            let (of_first, of_second) =
                (figures(first, played.first.arm), figures(second, played.second.arm));
            let Some(pair) = pair_of_segments(&of_first, &of_second, neighbours) else { continue };
            let is_taken = !judged.test.is_finished();
            judged.test.push(&pair);
            for (frames, arm) in [(first, played.first.arm), (second, played.second.arm)] {
                if !is_taken {
                    break;
                }
                let side = usize::from(arm == Arm::B);
                values[0][side].push(-frames.ln_mean_ms);
                values[1][side].push(-frames.ln_slow_ms);
            }
            let sign = if played.second.arm == Arm::B { 1.0 } else { -1.0 };
            halves.push(sign * (second.ln_halves - first.ln_halves));
            judged.waits_for_settling &= halves.len() < SETTLING_LOOKS[0];
            let is_tested = design.settling == Settling::Tested
                && SETTLING_LOOKS.contains(&halves.len())
                && standardised(&halves).abs() > SETTLING_BOUND;
            if is_tested && doubled < MOST_DOUBLED {
                return None;
            }
            if is_tested {
                judged.unjudged = Some(Unjudged::SettlesTooSlowly);
            }
        }
    }
    if judged.pairs_played > 0 {
        judged.stutters_a_switch /= 2.0 * judged.pairs_played as f64;
    }
    judged.pairs_dropped = dropped;
    let is_end = is_over || judged.test.pairs() >= design.limit(doubled).pairs();
    if !judged.is_finished() && are_too_many(dropped, judged.pairs_played, is_end) {
        judged.unjudged.get_or_insert(match 2 * capped > dropped {
            true => Unjudged::Capped,
            false => Unjudged::TooMuchIsNoPlay,
        });
    }
    if judged.unjudged.is_some() || is_over {
        judged.test.time_is_out();
        judged.waits_for_settling = false;
    }
    judged.medians =
        values.map(|sides| sides.map(|values| frevin_stats::median(values).unwrap_or(f64::NAN)));
    Some(judged)
}

/// Whether too many of the pairs were dropped: at the end more than a quarter, before it so many that a quarter cannot be
/// all that will be.
pub(crate) fn are_too_many(dropped: usize, played: usize, is_end: bool) -> bool {
    let (dropped, n) = (dropped as f64, played as f64);
    let slack = CLEARLY * (n * MAY_BE_DROPPED * (1.0 - MAY_BE_DROPPED)).sqrt();
    let most = n * MAY_BE_DROPPED + if is_end { 0.0 } else { slack };
    played >= FEW_PAIRS && dropped > most
}

/// The pairs of a sitting of which both segments were played; the last one waits for the segment after it, unless the
/// sitting is over.
pub(crate) fn pairs_of<'a>(
    design: &'a InPlay,
    doubled: u32,
    segments: &'a [Segment],
    is_whole: bool,
) -> impl Iterator<Item = PlayedPair<'a>> {
    let is_loop = design.loop_s.is_some();
    let firsts = (0..segments.len()).filter(move |at| design.partner(*at, doubled).0 == *at);
    firsts.filter_map(move |first| {
        let (_, second) = design.partner(first, doubled);
        let is_known = is_loop || is_whole || second + 1 < segments.len();
        let pair = (segments.get(first)?, segments.get(second)?);
        let around = || {
            let before = segments.get(first.checked_sub(1)?)?;
            let after = segments.get(second + 1)?;
            let is_sound = |segment: &Segment| !segment.looks_capped;
            let both = is_sound(before) && is_sound(after);
            let frames = before.frames.as_ref().zip(after.frames.as_ref()).filter(|_| both)?;
            Some((frames.0, before.arm, frames.1, after.arm))
        };
        let neighbours = if is_loop { None } else { around() };
        let number = design.pair_number(first, doubled);
        is_known.then_some(PlayedPair { number, first: pair.0, second: pair.1, neighbours })
    })
}

fn figures(frames: &SegmentFrames, arm: Arm) -> SegmentFigures {
    SegmentFigures {
        state: match arm {
            Arm::A => State::A,
            Arm::B => State::B,
        },
        primaries: [-frames.ln_mean_ms, -frames.ln_slow_ms],
        stutters: frames.stutters,
        pacing: frames.ln_pacing_ms,
    }
}

/// The mean of values over its standard error; 0 of fewer than two.
fn standardised(values: &[f64]) -> f64 {
    let n = values.len() as f64;
    let mean = values.iter().sum::<f64>() / n;
    let variance = values.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / (n - 1.0);
    if variance > 0.0 { mean / (variance / n).sqrt() } else { 0.0 }
}

impl Judged {
    /// What it says, as comparisons of visits do.
    pub fn comparison(&self, margins: Margins, limit: usize) -> Comparison {
        let primaries = [
            (Primary::AverageFps, margins.average_fps),
            (Primary::Low1PercentFps, margins.low_1_percent_fps),
        ];
        let findings = primaries.into_iter().zip(self.test.primaries()).zip(self.medians);
        // What is kept are logarithms of milliseconds with the sign turned.
        let fps = |ln: f64| Some(1000.0 * ln.exp()).filter(|fps| fps.is_finite());
        let findings = findings.map(|(((primary, margin), of), [a, b])| MetricFinding {
            primary,
            measured: Measured::Fps { a_fps: fps(a), b_fps: fps(b) },
            difference: of.interval(),
            margin,
            decision: of.decision(),
            decided_after_pairs: of.decided_after_pairs(),
        });
        let veto = self.test.veto();
        let guard = |guard, kind: InPlayVeto| GuardFinding {
            guard,
            // It is looked at by signs alone, which give no interval.
            difference: None,
            state: if veto == Some(kind) { GuardState::Vetoes } else { GuardState::Quiet },
            vetoed_after_pairs: (veto == Some(kind)).then(|| self.test.pairs()),
        };
        Comparison {
            verdict: self.verdict(),
            pairs_are_of: PairsOf::Segments,
            pairs: self.test.pairs(),
            pairs_after_verdict: 0,
            pair_limit: limit,
            is_finished: self.is_finished(),
            findings: findings.collect(),
            guards: vec![
                guard(Guard::Stutters, InPlayVeto::Stutters),
                guard(Guard::Pacing, InPlayVeto::Pacing),
            ],
            loss: None,
        }
    }

    /// The verdict; undecided while it goes on, and where it was given up.
    pub fn verdict(&self) -> Verdict {
        let is_given = self.is_finished() && self.unjudged.is_none();
        if is_given { self.test.verdict() } else { Verdict::Undecided }
    }

    /// Whether more play can no longer change the verdict.
    pub fn is_finished(&self) -> bool {
        self.test.is_finished() && !self.waits_for_settling
    }

    /// Whether what there is shows in some scenes only.
    pub fn is_uneven(&self) -> bool {
        self.test.pairs() > 1 && self.test.primaries().iter().any(|primary| primary.is_uneven())
    }
}

#[cfg(test)]
mod tests;
