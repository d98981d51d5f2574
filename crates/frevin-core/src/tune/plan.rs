//! How a budget is split: the most expected gain for the minutes there are.

use std::time::Duration;

use frevin_stats::LARGEST_PAIR_COUNTS;
use frevin_stats::sift::{FIRST_LOOK, LOOK_EVERY, MOST_COLUMNS, MOST_ROWS};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::belief::Belief;
use super::evening::Goal;
use super::play::PlayPlan;
use crate::tweak::TweakUse;

/// Something that could be asked about.
#[derive(Debug, Clone, PartialEq)]
pub struct TuneCandidate {
    /// The tweak, with its arguments.
    pub used: TweakUse,
    /// What is believed of it.
    pub belief: Belief,
}

/// What the parts of an evening take on a PC, and how much its measurements differ by chance.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct EveningCosts {
    /// A restart, until the next run can begin; none where nothing waits for one.
    pub restart: Duration,
    /// What it takes to begin a run, beside the run itself.
    pub around_a_run: Duration,
    /// The standard deviation of what a configuration measures in a run of a minute, as a natural logarithm; or in one of
    /// the fixed length.
    pub row_spread: f64,
    /// How long a run is, in seconds, where what is asked in it says so: answers of an address without a game.
    pub fixed_run_s: Option<u32>,
}

/// The lengths of a run that are weighed against each other, in seconds.
const RUN_SECONDS: [u32; 4] = [60, 45, 30, 20];
/// A trial at the end: its pairs at the most, and the runs of a visit.
type TrialSize = (usize, u32);
/// The trials that are weighed, the largest first: smaller ones are for evenings that are too short for more.
const TRIALS: [TrialSize; 3] =
    [(LARGEST_PAIR_COUNTS[0], 3), (LARGEST_PAIR_COUNTS[0], 2), (LARGEST_PAIR_COUNTS[0], 1)];
/// The same where no difference has to be shown, which takes more pairs than showing one.
const TRIALS_OF_NO_DIFFERENCE: [TrialSize; 5] = [
    (LARGEST_PAIR_COUNTS[2], 3),
    (LARGEST_PAIR_COUNTS[1], 3),
    (LARGEST_PAIR_COUNTS[0], 3),
    (LARGEST_PAIR_COUNTS[0], 2),
    (LARGEST_PAIR_COUNTS[0], 1),
];
/// Half of the variance of a run of a minute is of the start of the PC and the game, which longer runs do not lessen.
const SHARE_OF_START: f64 = 0.5;
/// Rows beyond the number of columns, without which least squares have nothing left to tell chance by.
const ROWS_TO_SPARE: usize = 4;
/// An effect of so many standard errors is found by four sifts of five: 1.96 for a chance of 5 % to be wrong, and 0.84.
pub(super) const FOUND_FOUR_OF_FIVE: f64 = 2.8;

impl EveningCosts {
    fn run(&self, run_seconds: u32) -> Duration {
        self.around_a_run + Duration::from_secs(run_seconds.into())
    }

    /// Runs before those that count, which a restart makes necessary.
    fn warm_up(&self) -> u32 {
        u32::from(!self.restart.is_zero())
    }

    fn row(&self, run_seconds: u32) -> Duration {
        self.restart + self.run(run_seconds) * (1 + self.warm_up())
    }

    fn trial(&self, run_seconds: u32, (pairs, runs): TrialSize) -> Duration {
        let visit = self.restart + self.run(run_seconds) * (runs + self.warm_up());
        visit * 2 * u32::try_from(pairs).unwrap_or(u32::MAX)
    }

    /// The lengths of a run that are weighed against each other, in seconds, the longest first.
    fn run_lengths(&self) -> &[u32] {
        match &self.fixed_run_s {
            Some(fixed) => std::slice::from_ref(fixed),
            None => &RUN_SECONDS,
        }
    }

    fn shortest_run_s(&self) -> u32 {
        self.run_lengths().last().copied().unwrap_or_default()
    }

    /// The variance of what a configuration measures in a run of this length.
    pub fn row_variance(&self, run_seconds: u32) -> f64 {
        if self.fixed_run_s.is_some() {
            return self.row_spread * self.row_spread;
        }
        let within = (1.0 - SHARE_OF_START) * 60.0 / f64::from(run_seconds);
        self.row_spread * self.row_spread * (SHARE_OF_START + within)
    }

    /// The standard error of an effect after so many rows, half of which have it.
    fn standard_error(&self, run_seconds: u32, rows: usize) -> f64 {
        2.0 * (self.row_variance(run_seconds) / rows as f64).sqrt()
    }

    /// The shortest evening that there can be.
    fn least(&self) -> Duration {
        let shortest = self.shortest_run_s();
        let fewest = TRIALS[TRIALS.len() - 1];
        let rows = self.row(shortest) * u32::try_from(FIRST_LOOK).unwrap_or(u32::MAX);
        rows + self.trial(shortest, fewest)
    }
}

/// A candidate that is asked about.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct EveningQuestion {
    /// The tweak, with its arguments.
    #[serde(flatten)]
    pub used: TweakUse,
    /// What is believed of it.
    pub belief: Belief,
    /// What is expected to be gained by asking, as a natural logarithm.
    pub expected_gain: f64,
}

/// What an evening will be.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct EveningPlan {
    /// The candidates that are asked about, those first of which most is expected.
    pub asked: Vec<EveningQuestion>,
    /// Those that time does not reach for, or of which nothing is expected, in the same order.
    pub not_asked: Vec<EveningQuestion>,
    /// How long a run is.
    pub run_seconds: u32,
    /// Runs of a visit of the trial at the end.
    pub trial_runs: u32,
    /// The most pairs of that trial.
    pub trial_pairs: usize,
    /// The most configurations of the sift.
    pub rows: usize,
    /// How long the sift takes at the most, in seconds, and the trial at its end.
    pub sift_s: u64,
    /// How long that trial takes at the most, in seconds.
    pub trial_s: u64,
    /// The smallest effect that four evenings of five find, in percent.
    pub smallest_effect_percent: f64,
    /// What is asked about in play before all that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub in_play: Option<PlayPlan>,
}

/// Why there is no evening to plan.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoEvening {
    /// Nothing is expected of any candidate.
    NothingToAsk,
    /// The budget is shorter than the shortest.
    TooShort {
        /// How long that is.
        least: Duration,
    },
}

/// Splits a budget: of the lengths of a run and the numbers of candidates that fit, those with the most expected gain,
/// `sum(E[max(m, 0)])` over the candidates that are asked about, where `m` is what would be believed of each afterwards.
/// More rows make the answers surer, longer runs too; both take time. Ties are for the longer run. Only where nothing fits
/// beside a trial of three runs a visit, it has two, or one; and where no
/// difference has to be shown, as many pairs as fit.
///
/// # Errors
/// [`NoEvening`].
pub fn plan(
    candidates: Vec<TuneCandidate>,
    goal: Goal,
    costs: &EveningCosts,
    budget: Duration,
) -> Result<EveningPlan, NoEvening> {
    let with_trial = |trial: &TrialSize| best(&candidates, goal, costs, budget, *trial);
    let best = match goal {
        Goal::Frames | Goal::Ping | Goal::Latency => TRIALS.iter().find_map(with_trial),
        Goal::Quiet => TRIALS_OF_NO_DIFFERENCE.iter().find_map(with_trial),
    };
    match best {
        Some(plan) => Ok(plan),
        None if budget < costs.least() => Err(NoEvening::TooShort { least: costs.least() }),
        None => Err(NoEvening::NothingToAsk),
    }
}

/// The split with the most expected gain beside a trial of this size; nothing where none fits.
fn best(
    candidates: &[TuneCandidate],
    goal: Goal,
    costs: &EveningCosts,
    budget: Duration,
    trial_size: TrialSize,
) -> Option<EveningPlan> {
    let mut best: Option<(f64, EveningPlan)> = None;
    for run_seconds in costs.run_lengths().iter().copied() {
        let trial = costs.trial(run_seconds, trial_size);
        let Some(for_rows) = budget.checked_sub(trial) else { continue };
        let row = costs.row(run_seconds);
        let fit = (for_rows.as_secs_f64() / row.as_secs_f64()) as usize;
        let rows = (FIRST_LOOK..=fit.min(MOST_ROWS)).step_by(LOOK_EVERY).last();
        let Some(rows) = rows else { continue };
        let standard_error = costs.standard_error(run_seconds, rows);
        let mut questions = questions(candidates, goal, standard_error);
        let most = rows.saturating_sub(ROWS_TO_SPARE).min(MOST_COLUMNS);
        let worth = questions.iter().take_while(|one| one.expected_gain >= WORTH_ASKING).count();
        let not_asked = questions.split_off(worth.min(most));
        let gain: f64 = questions.iter().map(|one| one.expected_gain).sum();
        if questions.is_empty() || best.as_ref().is_some_and(|(most, _)| gain <= *most) {
            continue;
        }
        let plan = EveningPlan {
            asked: questions,
            not_asked,
            run_seconds,
            trial_runs: trial_size.1,
            trial_pairs: trial_size.0,
            rows,
            sift_s: (row * u32::try_from(rows).unwrap_or(u32::MAX)).as_secs(),
            trial_s: trial.as_secs(),
            smallest_effect_percent: 100.0
                * (FOUND_FOUR_OF_FIVE * goal.judge().scale() * standard_error).exp_m1(),
            in_play: None,
        };
        best = Some((gain, plan));
    }
    best.map(|(_, plan)| plan)
}

/// The part of an evening in which nothing more is asked and what helped in play is proven: the largest trial that fits,
/// in runs as long as fit; the smallest where none does.
pub fn plan_proof(costs: &EveningCosts, budget: Duration) -> EveningPlan {
    let lengths = costs.run_lengths();
    let mut sizes =
        TRIALS.iter().flat_map(|trial| lengths.iter().map(|seconds| (*trial, *seconds)));
    let fits =
        |(trial, run_seconds): &(TrialSize, u32)| costs.trial(*run_seconds, *trial) <= budget;
    let least = (TRIALS[TRIALS.len() - 1], costs.shortest_run_s());
    let (trial, run_seconds) = sizes.find(fits).unwrap_or(least);
    EveningPlan {
        asked: Vec::new(),
        not_asked: Vec::new(),
        run_seconds,
        trial_runs: trial.1,
        trial_pairs: trial.0,
        rows: 0,
        sift_s: 0,
        trial_s: costs.trial(run_seconds, trial).as_secs(),
        smallest_effect_percent: 0.0,
        in_play: None,
    }
}

/// What is expected of each candidate, the most first.
pub(super) fn questions(
    candidates: &[TuneCandidate],
    goal: Goal,
    standard_error: f64,
) -> Vec<EveningQuestion> {
    let question = |candidate: &TuneCandidate| EveningQuestion {
        used: candidate.used.clone(),
        belief: candidate.belief,
        expected_gain: candidate.belief.worth(goal, standard_error),
    };
    let mut questions: Vec<EveningQuestion> = candidates.iter().map(question).collect();
    questions.sort_by(|a, b| {
        b.expected_gain.total_cmp(&a.expected_gain).then_with(|| a.used.cmp(&b.used))
    });
    questions
}

/// A tenth of a percent: of less, nobody would notice that it was found.
pub(super) const WORTH_ASKING: f64 = 0.001;

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, clippy::panic, reason = "a test may fail")]
    use super::super::belief::belief;
    use super::super::play::{PlayCosts, plan_play};
    use super::*;
    use crate::tweak::Standing;
    use crate::verdict::Judge;

    const COSTS: EveningCosts = EveningCosts {
        restart: Duration::from_secs(90),
        around_a_run: Duration::from_secs(10),
        row_spread: 0.01,
        fixed_run_s: None,
    };

    fn candidates(count: usize) -> Vec<TuneCandidate> {
        let standings = [Standing::Sound, Standing::Plausible, Standing::Contested];
        (0..count)
            .map(|number| TuneCandidate {
                used: TweakUse::plain(format!("knobs/knob-{number:02}").parse().unwrap()),
                belief: belief(standings[number % 3], "knobs", Judge::FrameRate, &[]),
            })
            .collect()
    }

    fn hours(hours: f64) -> Duration {
        Duration::from_secs_f64(3600.0 * hours)
    }

    #[test]
    fn a_longer_evening_asks_more_and_sees_smaller_effects() {
        let plans: Vec<EveningPlan> = [3.0, 6.0, 20.0]
            .map(|budget| plan(candidates(30), Goal::Frames, &COSTS, hours(budget)).unwrap())
            .into();
        for (plan, budget) in plans.iter().zip([3.0, 6.0, 20.0]) {
            assert!(hours(budget).as_secs() >= plan.sift_s + plan.trial_s, "{plan:?}");
            assert_eq!(plan.asked.len() + plan.not_asked.len(), 30);
        }
        for two in plans.windows(2) {
            assert!(two[0].asked.len() <= two[1].asked.len());
            assert!(two[0].smallest_effect_percent >= two[1].smallest_effect_percent);
        }
        assert!(plans[0].run_seconds < plans[2].run_seconds);
        assert_eq!(plans[2].asked.len(), 30);
    }

    #[test]
    fn what_is_well_founded_comes_first_and_what_is_known_to_do_nothing_not_at_all() {
        let mut all = candidates(12);
        let named = |name: &str| TweakUse::plain(name.parse().unwrap());
        let useless = belief(Standing::Sound, "knobs", Judge::FrameRate, &[(0.0, 0.002); 3]);
        all.push(TuneCandidate { used: named("knobs/useless"), belief: useless });
        let proven = belief(Standing::Contested, "knobs", Judge::FrameRate, &[(0.05, 0.004)]);
        all.push(TuneCandidate { used: named("knobs/proven"), belief: proven });
        let harmful = belief(Standing::Harmful, "knobs", Judge::FrameRate, &[]);
        all.push(TuneCandidate { used: named("knobs/harmful"), belief: harmful });
        let plan = plan(all, Goal::Frames, &COSTS, hours(4.0)).unwrap();
        assert_eq!(plan.asked[0].used, named("knobs/proven"));
        let order: Vec<&TweakUse> =
            plan.asked.iter().chain(&plan.not_asked).map(|one| &one.used).collect();
        let place = |name: &str| order.iter().position(|used| **used == named(name)).unwrap();
        assert!(place("knobs/knob-00") < place("knobs/knob-01"));
        assert!(place("knobs/knob-01") < place("knobs/knob-02"));
        assert!(place("knobs/useless") > place("knobs/knob-11"));
        assert!(plan.not_asked.iter().any(|one| one.used == named("knobs/harmful")));
    }

    #[test]
    fn beliefs_add_up_by_their_precision() {
        let once = belief(Standing::Plausible, "knobs", Judge::FrameRate, &[(0.04, 0.0)]);
        // 1/0.018^2 for what is believed of it, 1/0.01^2 for what was measured some time ago.
        let (first, more) = (1.0 / (0.018 * 0.018), 1.0 / (0.01 * 0.01));
        assert!((once.mean - (0.003 * first + 0.04 * more) / (first + more)).abs() < 1e-12);
        assert!((once.spread - (first + more).recip().sqrt()).abs() < 1e-12);
        let elsewhere = belief(Standing::Sound, "privacy", Judge::FrameRate, &[]);
        assert!(
            elsewhere.expected_gain(0.005)
                < belief(Standing::Contested, "cpu", Judge::FrameRate, &[]).expected_gain(0.005)
        );
        // An answer that says nothing gains what is believed already; a sure one all of the half that helps.
        let even = Belief { mean: 0.0, spread: 0.02 };
        assert!(even.expected_gain(1e6) < 1e-6);
        assert!(
            (even.expected_gain(0.0) - 0.02 / (2.0 * std::f64::consts::PI).sqrt()).abs() < 1e-12
        );
    }

    #[test]
    fn for_a_quiet_pc_what_is_likely_to_cost_nothing_comes_first() {
        let mut all = candidates(3);
        let harmful = belief(Standing::Harmful, "knobs", Judge::FrameRate, &[]);
        let named = |name: &str| TweakUse::plain(name.parse().unwrap());
        all.push(TuneCandidate { used: named("knobs/harmful"), belief: harmful });
        let still = belief(Standing::NoEffect, "knobs", Judge::FrameRate, &[]);
        all.push(TuneCandidate { used: named("knobs/still"), belief: still });
        let plan = plan(all, Goal::Quiet, &COSTS, hours(3.0)).unwrap();
        let asked: Vec<String> = plan.asked.iter().map(|one| one.used.to_string()).collect();
        assert_eq!(asked[0], "knobs/still");
        assert!(plan.trial_pairs > LARGEST_PAIR_COUNTS[0], "no difference takes more: {plan:?}");
        assert_eq!(asked.len(), 4, "what is known to cost is not asked about: {asked:?}");
        assert!(plan.asked.windows(2).all(|two| two[0].expected_gain >= two[1].expected_gain));
        // Nobody expects frames of any of it.
        assert!(still.expected_gain(0.005) < still.worth(Goal::Quiet, 0.005));
    }

    const PLAY: PlayCosts =
        PlayCosts { lead_in_s: 30.0, segment_s: 6.0, most_play_s: 2400.0, smallest_effect: 0.05 };

    #[test]
    fn as_many_are_asked_in_play_as_a_quarter_of_the_time_is_for() {
        let counts = [0.2, 1.0, 3.0].map(|budget| {
            let plan = plan_play(&candidates(60), &PLAY, hours(budget));
            plan.map_or(0, |plan| {
                assert!(plan.most_play_s <= 900.0 * budget, "{plan:?}");
                assert!(
                    plan.asked.windows(2).all(|two| two[0].expected_gain >= two[1].expected_gain)
                );
                plan.asked.len()
            })
        });
        assert_eq!(counts[0], 0, "three minutes are for none");
        assert!(counts[1] >= 10 && counts[2] > counts[1], "{counts:?}");
        assert!(plan_play(&candidates(1), &PLAY, hours(3.0)).is_none(), "one is a trial");
        let harmful = belief(Standing::Harmful, "knobs", Judge::FrameRate, &[]);
        let named = |name: &str| TweakUse::plain(name.parse().unwrap());
        let harmful =
            ["knobs/a", "knobs/b"].map(|name| TuneCandidate { used: named(name), belief: harmful });
        assert!(plan_play(&harmful, &PLAY, hours(3.0)).is_none(), "nothing is expected of them");
    }

    #[test]
    fn a_run_whose_length_is_fixed_is_as_long_as_it_is() {
        let costs = EveningCosts { fixed_run_s: Some(10), ..COSTS };
        let quick = plan(candidates(6), Goal::Ping, &costs, hours(1.0)).unwrap();
        assert_eq!((quick.run_seconds, plan_proof(&costs, hours(1.0)).run_seconds), (10, 10));
        let usual = plan(candidates(6), Goal::Ping, &COSTS, hours(1.0)).unwrap();
        let has_more = (quick.trial_runs, quick.rows) > (usual.trial_runs, usual.rows);
        assert!(has_more, "shorter runs leave time for more of them: {quick:?}");
        assert!((costs.row_variance(10) - 1e-4).abs() < 1e-12);
    }

    #[test]
    fn a_proof_is_as_long_as_fits() {
        let proofs = [0.1, 1.0, 3.0].map(|budget| plan_proof(&COSTS, hours(budget)));
        for (proof, budget) in proofs.iter().zip([0.1, 1.0, 3.0]) {
            let fits = hours(budget).as_secs() >= proof.trial_s;
            assert_eq!(fits, budget > 0.1, "the smallest where none fits: {proof:?}");
            assert_eq!((proof.rows, proof.asked.len()), (0, 0));
        }
        assert!(proofs[1].trial_s < proofs[2].trial_s);
        assert_eq!((proofs[2].run_seconds, proofs[2].trial_runs), (60, 3));
    }

    #[test]
    fn what_a_tweak_is_about_depends_on_what_is_judged() {
        let spread = |area: &str, judge| belief(Standing::Sound, area, judge, &[]).spread;
        assert!(spread("network", Judge::Ping) > spread("graphics", Judge::Ping));
        assert!(spread("network", Judge::FrameRate) < spread("graphics", Judge::FrameRate));
        assert!(spread("input", Judge::Latency) > spread("input", Judge::FrameRate));
        // Twice the difference in latency is worth as much as one in frame rate.
        let smallest = |goal| {
            let plan = plan(candidates(6), goal, &COSTS, hours(3.0)).unwrap();
            (plan.smallest_effect_percent / 100.0).ln_1p()
        };
        let ratio = smallest(Goal::Latency) / smallest(Goal::Frames);
        assert!((ratio - 2.0).abs() < 1e-9, "{ratio}");
    }

    #[test]
    fn no_evening_says_why() {
        let hour = plan(candidates(5), Goal::Frames, &COSTS, hours(1.0)).unwrap();
        assert_eq!((hour.trial_runs, hour.rows), (1, FIRST_LOOK), "{hour:?}");
        assert_eq!(plan(candidates(5), Goal::Frames, &COSTS, hours(4.0)).unwrap().trial_runs, 3);
        let too_short = plan(candidates(5), Goal::Frames, &COSTS, hours(0.5));
        let Err(NoEvening::TooShort { least }) = too_short else { panic!("{too_short:?}") };
        assert!(plan(candidates(5), Goal::Frames, &COSTS, least).is_ok());
        assert!(plan(candidates(5), Goal::Frames, &COSTS, least - Duration::from_secs(1)).is_err());
        assert_eq!(
            plan(Vec::new(), Goal::Frames, &COSTS, hours(3.0)),
            Err(NoEvening::NothingToAsk)
        );
    }
}
