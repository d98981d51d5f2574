//! A piece of evidence, and what trials and sifts leave.

use jiff::civil::Date;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::ids::SceneName;
use crate::sift::{Found, Sift, SiftId};
use crate::trial::in_play::Judged;
use crate::trial::{Question, Trial, TrialId};
use crate::tweak::TweakUse;
use crate::verdict::{Decision, Judge, Verdict};

/// A verdict "better" is false with this chance at most: half of the 5 % that both signs have together.
const FALSE_BETTER: f64 = 0.025;

/// What was found of a tweak.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    JsonSchema,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum EvidenceFinding {
    /// It makes it better.
    Helps,
    /// It makes it worse.
    Hurts,
    /// No effect worth having.
    NoEffect,
    /// It is not known.
    Unclear,
}

/// Where evidence comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "origin", rename_all = "kebab-case")]
pub enum Origin {
    /// A trial of this tweak alone.
    Trial {
        /// Its number.
        trial: TrialId,
    },
    /// A sift of several.
    Sift {
        /// Its number.
        sift: SiftId,
    },
    /// Visits that the owner made, of states that differ in this tweak alone.
    Comparison,
}

/// What was measured.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct SceneOfEvidence {
    /// The scene.
    pub scene: SceneName,
    /// The game.
    pub game: String,
    /// The graphics level.
    pub graphics: String,
    /// The resolution.
    pub resolution: String,
}

/// What measuring has told of a tweak with its arguments, on one PC in one scene. The effect is on average FPS.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct EvidenceRecord {
    /// The tweak, with its arguments.
    #[serde(flatten)]
    pub used: TweakUse,
    /// What was measured.
    #[serde(flatten)]
    pub scene: SceneOfEvidence,
    /// Where it comes from.
    #[serde(flatten)]
    pub origin: Origin,
    /// The day that it was measured on.
    pub date: Date,
    /// The build of Windows.
    pub windows_build: Option<u32>,
    /// The version of the graphics driver.
    pub graphics_driver: Option<String>,
    /// The version of the game, where the owner said it.
    pub game_version: Option<String>,
    /// What was found.
    pub finding: EvidenceFinding,
    /// Whether it hurts by a guard alone, like stutters, whatever it does to the frame rate.
    #[serde(default)]
    pub by_guard: bool,
    /// The natural logarithm of the ratio of average FPS, with the tweak to without.
    pub ln_ratio: f64,
    /// Its standard error.
    pub standard_error: f64,
    /// What is reported of the effect, in percent: of a sift drawn to 0 by what is known beforehand.
    pub effect_percent: f64,
    /// The lower end of what is reported, in percent.
    pub low_percent: f64,
    /// The upper end.
    pub high_percent: f64,
    /// The chance that it is false, where it is said to help.
    pub false_chance: f64,
}

/// The figures of evidence, without what they are of.
#[derive(Debug, Clone, PartialEq)]
pub struct EvidenceFigures {
    /// The tweak, with its arguments.
    pub used: TweakUse,
    /// What was found.
    pub finding: EvidenceFinding,
    /// Whether it hurts by a guard alone.
    pub by_guard: bool,
    /// The natural logarithm of the ratio.
    pub ln_ratio: f64,
    /// Its standard error.
    pub standard_error: f64,
    /// What is reported: lower end, effect, upper end, in percent.
    pub percent: [f64; 3],
    /// The chance that it is false, where it is said to help.
    pub false_chance: f64,
}

impl EvidenceFigures {
    /// Of the differences of pairs of visits, with the tweak and without; nothing of fewer than two.
    pub fn of_differences(
        used: TweakUse,
        finding: EvidenceFinding,
        differences: &[f64],
    ) -> Option<Self> {
        let (ln_ratio, standard_error) = mean_and_error(differences)?;
        let percent = |ln: f64| 100.0 * ln.exp_m1();
        let reach = 2.0 * standard_error;
        Some(Self {
            used,
            finding,
            by_guard: false,
            ln_ratio,
            standard_error,
            percent: [ln_ratio - reach, ln_ratio, ln_ratio + reach].map(percent),
            false_chance: FALSE_BETTER,
        })
    }
}

/// What a trial of frame rates tells of one tweak; nothing where it compared more than one, or was not ended by its
/// verdict.
pub fn of_trial(trial: &Trial) -> Option<EvidenceFigures> {
    let design = trial.design();
    // Evidence is of frame rates.
    if design.judge != Judge::FrameRate {
        return None;
    }
    let (wishes, sign) = match design.question {
        Question::Apply => (design.b.wishes.clone(), 1.0),
        // What was judged is the leaving out.
        Question::Without => {
            let kept = |wish: &&crate::preview::Wish| !design.b.wishes.contains(wish);
            (design.a.wishes.iter().filter(kept).cloned().collect(), -1.0)
        }
        Question::Against => return None,
    };
    let [wish] = &wishes[..] else { return None };
    let verdict = trial.verdict()?;
    let finding = match (verdict, sign > 0.0) {
        (Verdict::Better, true) | (Verdict::Worse, false) => EvidenceFinding::Helps,
        (Verdict::Worse, true) | (Verdict::Better, false) => EvidenceFinding::Hurts,
        (Verdict::Same, _) => EvidenceFinding::NoEffect,
        (Verdict::Undecided, _) => EvidenceFinding::Unclear,
    };
    let by_play = trial.judged().map(|judged| of_play(&judged, wish.used.clone(), finding));
    let differences: Vec<f64> = trial
        .pairs()
        .iter()
        .filter_map(|pair| {
            let (a, b) = (pair.a.figures.frames?, pair.b.figures.frames?);
            Some(sign * (b.ln_average_fps - a.ln_average_fps))
        })
        .collect();
    let figures = match by_play {
        Some(figures) => figures?,
        None => EvidenceFigures::of_differences(wish.used.clone(), finding, &differences)?,
    };
    let comparison = trial.comparison();
    let reported = comparison.findings.first().and_then(|finding| finding.difference)?;
    let percent = match sign > 0.0 {
        true => [reported.low, reported.estimate, reported.high].map(|share| 100.0 * share),
        // The ratio the other way round.
        false => [reported.high, reported.estimate, reported.low]
            .map(|share| 100.0 * (1.0 / (1.0 + share) - 1.0)),
    };
    let is_worse = |finding: &crate::verdict::MetricFinding| finding.decision == Decision::Worse;
    let by_guard = verdict == Verdict::Worse && !comparison.findings.iter().any(is_worse);
    Some(EvidenceFigures { percent, by_guard, ..figures })
}

/// What play tells: the estimate of the sign test and its standard error; nothing before its first look.
fn of_play(judged: &Judged, used: TweakUse, finding: EvidenceFinding) -> Option<EvidenceFigures> {
    let [average, _] = judged.test.primaries();
    let (interval, standard_error) = (average.interval()?, average.standard_error()?);
    Some(EvidenceFigures {
        used,
        finding,
        by_guard: false,
        ln_ratio: interval.estimate.ln_1p(),
        standard_error,
        percent: [interval.low, interval.estimate, interval.high].map(|share| 100.0 * share),
        false_chance: FALSE_BETTER,
    })
}

/// The mean of differences and its standard error; nothing of fewer than two.
fn mean_and_error(differences: &[f64]) -> Option<(f64, f64)> {
    let count = differences.len() as f64;
    if differences.len() < 2 {
        return None;
    }
    let mean = differences.iter().sum::<f64>() / count;
    let squares: f64 = differences.iter().map(|one| (one - mean).powi(2)).sum();
    Some((mean, (squares / (count - 1.0) / count).sqrt()))
}

/// What a sift tells of each of its tweaks, by least squares; nothing where it was given up.
pub fn of_sift(sift: &Sift) -> Vec<EvidenceFigures> {
    if sift.is_abandoned() || sift.ended().is_none() {
        return Vec::new();
    }
    let figures = sift.found().into_iter().filter_map(|found| {
        let squares = found.least_squares?;
        let share = |ln: f64| 100.0 * ln.exp_m1();
        // In play, smaller effects than the sift was about may be there: the interval must not be drawn to none.
        let percent = match sift.played() {
            None => [found.low_percent, found.effect_percent, found.high_percent],
            Some(_) => [share(squares.low), share(squares.estimate), share(squares.high)],
        };
        Some(EvidenceFigures {
            used: found.used,
            finding: match found.found {
                Found::Helps => EvidenceFinding::Helps,
                Found::Hurts => EvidenceFinding::Hurts,
                Found::NoEffect => EvidenceFinding::NoEffect,
                Found::Unclear => EvidenceFinding::Unclear,
            },
            by_guard: false,
            ln_ratio: squares.estimate,
            standard_error: squares.standard_error,
            percent,
            false_chance: 1.0 - found.probability,
        })
    });
    figures.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::{BootId, StateDigest};
    use crate::preview::Wish;
    use crate::trial::{
        Arm, ArmDesign, Design, Ending, Event, KeepPolicy, Place, Reason, Trial as Replayed,
    };
    use crate::verdict::{FrameFigures, Histories, Judge, Margins, PairLimit, VisitFigures};
    use crate::visits::VisitId;

    fn wish(id: &str) -> Wish {
        let used = TweakUse::plain(id.parse().unwrap());
        Wish { used, settings: Vec::new(), consented: false }
    }

    fn arm(wishes: Vec<Wish>) -> ArmDesign {
        ArmDesign { title: "x".to_owned(), revision: None, wishes }
    }

    /// A trial whose B has so many times the frames of A, or stutters so often as much.
    fn trial(question: Question, a: Vec<Wish>, b: Vec<Wish>, ratio: f64, stutters: u64) -> Trial {
        let design = Design {
            question,
            a: arm(a),
            b: arm(b),
            holder: None,
            others: StateDigest::new("d"),
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
            ping_pause_ms: 0,
            on_battery: false,
            in_play: None,
            of_sift: None,
        };
        let mut trial = Replayed::replay(design, &[]);
        let mut visits = 0;
        while !trial.comparison().is_finished {
            let (pair, arm) = trial.due();
            let wobble = [0.0, 0.002, -0.001, 0.0015][pair % 4];
            let (ln, events) = match arm {
                Arm::A => (0.0, 6),
                Arm::B => (ratio.ln(), 6 * stutters),
            };
            visits += 1;
            let frames = FrameFigures {
                ln_average_fps: 4.5 + ln + if arm == Arm::B { wobble } else { 0.0 },
                ln_low_1_percent_fps: 4.2 + ln + if arm == Arm::B { wobble } else { 0.0 },
                stutter_events: events,
                ln_pacing_ms: 0.0,
            };
            let levels = vec![VisitFigures { frames: Some(frames), ..VisitFigures::default() }];
            let visits = vec![VisitId(visits)];
            trial.take(&Event::Visited { pair, arm, visits, levels, doubts: Vec::new() });
        }
        let verdict = trial.comparison().verdict;
        trial.take(&Event::Decided { verdict });
        let ending = Ending { place: Place::A, kept: false, reason: Reason::Worse };
        trial.take(&Event::Ended(ending));
        trial
    }

    #[test]
    fn a_trial_of_one_tweak_tells_its_effect() {
        let of = |ratio| {
            let trial = trial(Question::Apply, Vec::new(), vec![wish("a/b")], ratio, 1);
            of_trial(&trial).unwrap()
        };
        let helps = of(1.05);
        assert_eq!(helps.finding, EvidenceFinding::Helps);
        assert!((helps.ln_ratio - 1.05_f64.ln()).abs() < 0.002, "{helps:?}");
        assert!(helps.percent[0] < helps.percent[1] && helps.percent[1] < helps.percent[2]);
        assert!(helps.standard_error > 0.0);
        let hurts = of(0.95);
        assert_eq!((hurts.finding, hurts.by_guard), (EvidenceFinding::Hurts, false));
        assert_eq!(of(1.0).finding, EvidenceFinding::NoEffect);
    }

    #[test]
    fn leaving_out_turns_the_effect_round() {
        // Without the tweak there are 5 % fewer frames: it helps.
        let kept = vec![wish("a/b"), wish("a/c")];
        let trial = trial(Question::Without, kept, vec![wish("a/c")], 1.0 / 1.05, 1);
        let helps = of_trial(&trial).unwrap();
        assert_eq!(helps.used.tweak.as_str(), "a/b");
        assert_eq!(helps.finding, EvidenceFinding::Helps);
        assert!((helps.ln_ratio - 1.05_f64.ln()).abs() < 0.002, "{helps:?}");
        assert!((helps.percent[1] - 5.0).abs() < 0.3, "{helps:?}");
        assert!(helps.percent[0] < helps.percent[2], "{helps:?}");
    }

    #[test]
    fn a_veto_is_said_to_be_one_and_several_tweaks_are_evidence_of_none() {
        let one = trial(Question::Apply, Vec::new(), vec![wish("a/b")], 1.05, 4);
        let vetoed = of_trial(&one).unwrap();
        assert_eq!((vetoed.finding, vetoed.by_guard), (EvidenceFinding::Hurts, true));
        assert!(vetoed.ln_ratio > 0.0);
        let both = vec![wish("a/b"), wish("a/c")];
        assert_eq!(of_trial(&trial(Question::Apply, Vec::new(), both, 1.05, 1)), None);
        let against = trial(Question::Against, vec![wish("a/b")], vec![wish("a/c")], 1.05, 1);
        assert_eq!(of_trial(&against), None);
    }

    #[test]
    fn differences_have_a_mean_and_an_error() {
        let used = TweakUse::plain("a/b".parse().unwrap());
        let of = |differences: &[f64]| {
            EvidenceFigures::of_differences(used.clone(), EvidenceFinding::Helps, differences)
        };
        let figures = of(&[0.01, 0.03]).unwrap();
        assert!((figures.ln_ratio - 0.02).abs() < 1e-12);
        assert!((figures.standard_error - 0.01).abs() < 1e-12);
        assert_eq!(of(&[0.01]), None);
    }
}
