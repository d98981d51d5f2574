//! An evening: from the candidates for a PC to what is proven to help, within the time there is.
//!
//! It is a sift with a trial at its end, over those candidates of which most is expected, and what that keeps as a profile
//! with the figure of each line. What is in force, what was cut off and how it goes on are the sift's.

mod again;
mod begin;
mod keep;
mod opening;
mod played;
mod report;

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_core::facts::Form;
use frevin_core::sift::SiftDesign;
use frevin_core::tune::{
    Evening, EveningCosts, EveningPart, EveningPlan, Goal, NoEvening, TuneCandidate, belief, plan,
};
use frevin_core::tweak::{Standing, TweakId, TweakUse};
use frevin_core::verdict::Judge;
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::sources::NoGame;
use crate::operations::evidence::{ToldEvidence, told};
use crate::operations::sift::{Only, SiftRequest, SiftedDesign, design};
use crate::operations::trial::{AskedInPlay, PROBES_A_RUN, pace};

pub(crate) use begin::{EveningBeginning, WantedEvening, begin, settle};
pub(crate) use keep::save_kept;
pub(crate) use opening::{Mend, Opening, mend, put_back_before, take_back_if_held};
pub(crate) use played::go_on_in_runs;
pub(crate) use report::{KeptTweak, TuneReport, find, told_evening_of};

/// What is asked for, beside what a sift is asked for.
#[derive(Debug, Clone)]
struct Asked {
    /// The time that there is.
    budget: Duration,
    /// Whether it asks again about what has aged: then that counts as what was measured.
    is_again: bool,
    goal: Goal,
    /// How it is played, where what acts at once is asked about in play first.
    in_play: Option<AskedInPlay>,
}

/// An evening, or the first part of one, as it would be.
struct Prepared {
    sifted: SiftedDesign,
    evening: Evening,
    /// Whether the PC restarts before what is asked about in runs.
    restarts: bool,
}

/// Settles an evening on a PC, of which `mending` is mended before it. Nothing is written.
fn prepare(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    request: &SiftRequest,
    asked: &Asked,
    mending: &BTreeSet<TweakId>,
) -> Result<Prepared, Failure> {
    if let Some(play) = &asked.in_play {
        return played::prepare(context, pc, ledger, request, asked, play, mending);
    }
    let runs = InRuns::of(context, pc, ledger, request, asked.is_again, mending)?;
    let for_answers = runs.for_answers(asked.budget);
    let (plan, looks_first) = match runs.plan(asked.goal, runs.after_a_look(for_answers)) {
        // Without a game there are no frames to be limited.
        Ok(plan) => (plan, asked.goal != Goal::Ping),
        // The shortest evening has no time for it.
        Err(_) => (runs.plan(asked.goal, for_answers).map_err(no_evening)?, false),
    };
    let sifted = runs.design(context, pc, ledger, request, &plan)?;
    let restarts = sifted.design.restarts;
    Ok(Prepared { sifted, evening: evening(asked, plan, looks_first), restarts })
}

/// An evening before anything of it is done.
fn evening(asked: &Asked, plan: EveningPlan, looks_first: bool) -> Evening {
    Evening {
        part: EveningPart::InRuns,
        played_first: None,
        goal: asked.goal,
        budget_s: asked.budget.as_secs(),
        plan,
        mended: Vec::new(),
        set_aside: Vec::new(),
        looks_first,
        baseline: None,
        is_again: asked.is_again,
    }
}

/// What could be asked about in runs, and what they take.
struct InRuns {
    /// A sift of all of it, in runs of a minute.
    whole: SiftedDesign,
    candidates: Vec<TuneCandidate>,
    costs: EveningCosts,
    run: Duration,
}

impl InRuns {
    fn of(
        context: &Context,
        pc: &dyn Pc,
        ledger: &Ledger,
        request: &SiftRequest,
        is_again: bool,
        not_asked: &BTreeSet<TweakId>,
    ) -> Result<Self, Failure> {
        let request = of_length(request, MINUTE_S, request.only.clone());
        let whole = design(context, pc, ledger, &request)?;
        let pace = pace(&ledger.trials(&pc.identity().id)?, MINUTE_S);
        let without_game = whole.design.scene == NoGame::scene()?.name;
        let probing_ms = whole.design.ping.as_ref().map_or(0, |ping| ping.pause_ms);
        let probing_s = (u64::from(PROBES_A_RUN) * probing_ms).div_ceil(1000).max(1);
        let costs = EveningCosts {
            fixed_run_s: without_game.then(|| u32::try_from(probing_s).unwrap_or(u32::MAX)),
            restart: if whole.design.restarts { pace.restart } else { Duration::ZERO },
            around_a_run: pace.run - Duration::from_secs(MINUTE_S.into()),
            row_spread: whole.design.rule.row_variance.sqrt(),
        };
        let mut candidates = candidates(context, pc, ledger, &whole, is_again)?;
        candidates.retain(|candidate| !not_asked.contains(&candidate.used.tweak));
        Ok(Self { whole, candidates, costs, run: pace.run })
    }

    /// What is left of a time for what can be told from: tweaks for experts are switched on for the first time a few a
    /// start, before anything is measured.
    fn for_answers(&self, budget: Duration) -> Duration {
        let introductions = u32::try_from(self.whole.starts_before_rows).unwrap_or(u32::MAX);
        budget.saturating_sub(self.costs.restart * introductions)
    }

    fn after_a_look(&self, budget: Duration) -> Duration {
        budget.saturating_sub(self.run)
    }

    fn plan(&self, goal: Goal, budget: Duration) -> Result<EveningPlan, NoEvening> {
        plan(self.candidates.clone(), goal, &self.costs, budget)
    }

    /// The sift that a plan comes to.
    fn design(
        &self,
        context: &Context,
        pc: &dyn Pc,
        ledger: &Ledger,
        request: &SiftRequest,
        plan: &EveningPlan,
    ) -> Result<SiftedDesign, Failure> {
        let tweaks = plan.asked.iter().map(|question| question.used.tweak.clone()).collect();
        let only = Only { tweaks, why: "the evening does not reach for it" };
        let request = of_length(request, plan.run_seconds, Some(only));
        let mut sifted = design(context, pc, ledger, &request)?;
        sifted.design.rule.most_rows = plan.rows;
        sifted.design.rule.row_variance = self.costs.row_variance(plan.run_seconds);
        sifted.design.trial_pairs = plan.trial_pairs;
        // What time does not reach for is no fault of it, and stands in the plan.
        sifted.design.left_out = self.whole.design.left_out.clone();
        sifted.experts_unasked = self.whole.experts_unasked.clone();
        Ok(sifted)
    }
}

/// The same of these tweaks only, in runs of this length.
fn of_length(request: &SiftRequest, run_seconds: u32, only: Option<Only>) -> SiftRequest {
    SiftRequest { run_seconds, budget: None, only, ..request.clone() }
}

/// The length of the runs that a PC's own spread is known for.
const MINUTE_S: u32 = 60;

/// What a sift would ask about, with what is believed of each: by its standing, and by what was measured of it in the scene
/// and has not aged, or with what has, where just that is asked again.
fn candidates(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    whole: &SiftedDesign,
    is_again: bool,
) -> Result<Vec<TuneCandidate>, Failure> {
    let catalogue = context.catalogue()?;
    let SiftDesign { scene, judge, .. } = &whole.design;
    let judge = *judge;
    // Evidence is of frame rates.
    let told = match judge {
        Judge::FrameRate => told(context, pc, ledger, None)?,
        Judge::Ping | Judge::Latency => Vec::new(),
    };
    let counts = |one: &&ToldEvidence, used: &TweakUse| {
        let in_scene = one.evidence.scene.scene == *scene && one.evidence.used == *used;
        in_scene && (is_again || one.aged.is_empty()) && one.evidence.standard_error > 0.0
    };
    let candidate = |used: &TweakUse| {
        let measured: Vec<(f64, f64)> = told
            .iter()
            .filter(|one| counts(one, used))
            .map(|one| (one.evidence.ln_ratio, one.evidence.standard_error))
            .collect();
        let standing = catalogue.get(&used.tweak).map_or(Standing::Contested, |one| one.standing);
        let belief = belief(standing, used.tweak.area(), judge, &measured);
        TuneCandidate { used: used.clone(), belief }
    };
    Ok(whole.design.tweaks.iter().map(|tweak| candidate(&tweak.wish.used)).collect())
}

fn no_evening(why: NoEvening) -> Failure {
    match why {
        NoEvening::NothingToAsk => Failure::new(
            Kind::Usage,
            "nothing is expected to help of what is not known already",
        )
        .hint("`frevin evidence list` shows what is known; --candidates takes another profile"),
        NoEvening::TooShort { least } => {
            let minutes = least.as_secs().div_ceil(60);
            let message = format!("the shortest evening takes {minutes} min");
            Failure::new(Kind::Usage, message).hint(format!("give it --budget {minutes}min"))
        }
    }
}

/// The profile whose tweaks are asked about where nobody names one: a ready-made one for the kind of PC.
fn usual_candidates(context: &Context, pc: &dyn Pc) -> Result<String, Failure> {
    let facts = context.facts(pc)?;
    Ok(match facts.form {
        Some(Form::Laptop) => "laptop-at-the-wall",
        Some(Form::Handheld) => "handheld-in-the-hand",
        Some(Form::Desktop) | None => "all-out",
    }
    .to_owned())
}
