//! The part of an evening that is played: what acts at once is asked about in play, and the rest in runs after it.
//!
//! Each is a sift of its own. The second begins in the same write to the ledger in which the first ends.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use frevin_core::sift::{Effect, Found, SiftDesign, SmallestEffect};
use frevin_core::trial::in_play::{LEAD_IN_S, MOST_PLAY_S};
use frevin_core::tune::{
    AskedInRuns, Evening, EveningPart, EveningPlan, Goal, NoEvening, PlayCosts, PlayedFirst,
    plan_play, plan_proof,
};
use frevin_core::tweak::{TweakId, TweakUse};
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::{Pc, Restarts};

use super::opening::BASELINE_S;
use super::{Asked, InRuns, MINUTE_S, Prepared, candidates, evening, no_evening, of_length};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::operations::sift::{AskedSiftInPlay, Only, SiftDriver, SiftRequest, design};
use crate::operations::trial::{AskedInPlay, pace};

/// What the seed of the sift in runs differs by from the one of the sift in play.
const SEED_IN_RUNS: u64 = 0x0E7E;

/// Settles an evening that begins with play. Nothing is written.
pub(super) fn prepare(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    request: &SiftRequest,
    asked: &Asked,
    play: &AskedInPlay,
    mending: &BTreeSet<TweakId>,
) -> Result<Prepared, Failure> {
    let smallest_effect = match play.loop_s {
        Some(_) => SmallestEffect::ThreePercent,
        None => SmallestEffect::FivePercent,
    };
    let in_play = |most_play_s| AskedSiftInPlay {
        play: play.clone(),
        smallest_effect,
        preferred: BTreeSet::new(),
        most_play_s,
    };
    let mut rest = InRuns::of(context, pc, ledger, request, asked.is_again, mending)?;
    let played = SiftRequest { in_play: Some(in_play(None)), ..request.clone() };
    let at_once = design(context, pc, ledger, &of_length(&played, MINUTE_S, None))?;
    let mut playable = candidates(context, pc, ledger, &at_once, asked.is_again)?;
    playable.retain(|candidate| {
        !mending.contains(&candidate.used.tweak)
            && stands_alone(&rest.whole.design, &candidate.used)
    });
    let segment_s = at_once.design.in_play.as_ref().map_or(0.0, |one| one.play.segment_s(0));
    let costs = PlayCosts {
        lead_in_s: LEAD_IN_S,
        segment_s,
        most_play_s: MOST_PLAY_S,
        smallest_effect: smallest_effect.share(),
    };
    let plan = plan_play(&playable, &costs, asked.budget).ok_or_else(|| {
        let message = "fewer than two of these tweaks can be asked about in play";
        Failure::new(Kind::Usage, message)
            .detail("that needs tweaks that act at once, and of which it is known how soon they are felt")
            .hint("leave --in-play out, and all is asked about in runs")
    })?;
    let first: BTreeSet<TweakId> =
        plan.asked.iter().map(|question| question.used.tweak.clone()).collect();
    let only = Only { tweaks: first.clone(), why: "it is asked about in runs" };
    let played = SiftRequest { in_play: Some(in_play(Some(plan.most_play_s))), ..played };
    let mut sifted = design(context, pc, ledger, &of_length(&played, MINUTE_S, Some(only)))?;
    sifted.design.left_out = rest.whole.design.left_out.clone();
    sifted.experts_unasked = rest.whole.experts_unasked.clone();

    rest.candidates.retain(|candidate| !first.contains(&candidate.used.tweak));
    let left = asked.budget.saturating_sub(Duration::from_secs_f64(plan.most_play_s));
    let after = rest.after_a_look(rest.for_answers(left));
    let in_runs = plan_rest(&rest, asked.goal, after);
    if in_runs.trial_s > after.as_secs() {
        let least = asked.budget - after + Duration::from_secs(in_runs.trial_s);
        return Err(no_evening(NoEvening::TooShort { least }));
    }
    let then = AskedInRuns {
        experts: request.experts.clone(),
        restarts_by_itself: request.restarts_by_itself,
    };
    let evening = Evening {
        part: EveningPart::InPlay { then },
        ..evening(asked, EveningPlan { in_play: Some(plan), ..in_runs }, true)
    };
    Ok(Prepared { sifted, evening, restarts: rest.whole.design.restarts })
}

/// What is asked about in runs in this time: nothing, where only the proof of what helped in play fits, or nothing is
/// expected of the rest.
fn plan_rest(rest: &InRuns, goal: Goal, time: Duration) -> EveningPlan {
    rest.plan(goal, time).unwrap_or_else(|_| plan_proof(&rest.costs, time))
}

/// Whether a tweak neither excludes nor needs another that is asked about, or is needed by one: only such can be asked
/// about apart from the rest.
fn stands_alone(whole: &SiftDesign, used: &TweakUse) -> bool {
    let column = whole.tweaks.iter().position(|tweak| tweak.wish.used == *used);
    column.is_some_and(|column| {
        whole.exclusive.iter().all(|group| !group.contains(&column))
            && whole
                .needs
                .iter()
                .all(|(dependent, needed)| *dependent != column && *needed != column)
    })
}

/// Lets the part in runs follow the one that was played: about all that is not known by now, within the time that is left.
pub(crate) fn go_on_in_runs<'a>(
    context: &Context,
    pc: &'a mut dyn Restarts,
    ledger: &'a mut Ledger,
    record: &SiftRecord,
) -> Result<SiftDriver<'a>, Failure> {
    let internal = || Failure::new(Kind::Internal, "no evening was played");
    let before = record.design.evening.as_ref().ok_or_else(internal)?;
    let EveningPart::InPlay { then } = &before.part else { return Err(internal()) };
    let sift = record.sift()?;
    // Play clears what has no effect as large as it can tell; a smaller one may be worth asking about, as what was measured
    // says.
    let found = sift.found();
    let known = found.iter().filter(|tweak| match tweak.found {
        Found::Helps | Found::Hurts => true,
        Found::NoEffect | Found::Unclear => false,
    });
    let mended = before.mended.iter().map(|mended| mended.wish.used.tweak.clone());
    let not_asked: BTreeSet<TweakId> =
        known.map(|tweak| tweak.used.tweak.clone()).chain(mended).collect();
    let source = SceneSource::find(context, &*pc, ledger, &record.design.scene)?;
    let request = SiftRequest {
        profile: match &record.design.revision {
            Some((name, number)) => format!("{name}@{number}"),
            None => record.design.title.clone(),
        },
        scene: Some(record.design.scene.clone()),
        runs: 1,
        run_seconds: MINUTE_S,
        seed: record.design.rule.seed ^ SEED_IN_RUNS,
        budget: None,
        only: None,
        may_be_few: true,
        after_taking_back: None,
        keep: record.design.keep,
        experts: then.experts.clone(),
        as_administrator: record.design.as_administrator,
        restarts_by_itself: then.restarts_by_itself,
        runs_start_program: source.starts_program(),
        judge: record.design.judge,
        ping: record.design.ping.clone(),
        in_play: None,
    };
    let mut rest = InRuns::of(context, &*pc, ledger, &request, before.is_again, &not_asked)?;
    let measured: BTreeMap<TweakUse, Effect> =
        found.into_iter().filter_map(|tweak| Some((tweak.used, tweak.least_squares?))).collect();
    for candidate in &mut rest.candidates {
        if let Some(effect) = measured.get(&candidate.used) {
            candidate.belief = candidate.belief.after(effect.estimate, effect.standard_error);
        }
    }
    let played = Duration::from_secs_f64(sift.played().map_or(0.0, |played| played.played_s()));
    let looked = match before.baseline {
        Some(_) => pace(&ledger.trials(&record.pc)?, BASELINE_S).run,
        None => Duration::ZERO,
    };
    let left = Duration::from_secs(before.budget_s).saturating_sub(played + looked);
    let plan = plan_rest(&rest, before.goal, rest.for_answers(left));
    let mut design = rest.design(context, &*pc, ledger, &request, &plan)?.design;
    // What was mended is tried with the rest, and may wait for a start that has come since.
    let is_felt_late = before
        .mended
        .iter()
        .flat_map(|mended| &mended.wish.settings)
        .any(|wanted| !wanted.takes_effect.is_felt_in_a_run(request.runs_start_program));
    if is_felt_late && !design.restarts {
        design.restarts = true;
        design.warm_up = 1;
        design.restarts_by_itself = then.restarts_by_itself;
    }
    let helped = record.design.wishes(&sift.helping());
    design.evening = Some(Evening {
        part: EveningPart::InRuns,
        played_first: Some(PlayedFirst { sift: record.id, helped }),
        plan: EveningPlan { in_play: before.plan.in_play.clone(), ..plan },
        ..before.clone()
    });
    SiftDriver::begin_after(context, pc, ledger, design, Some(record.id))
}
