//! What a sift is to be: from what its owner asked for to its design.

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_core::ids::{PcId, SceneName};
use frevin_core::layers::ChangeId;
use frevin_core::preview::{LeftOut, Plan, Wish};
use frevin_core::setting::{Address, ObjectKind, PowerSource, TakesEffect, protection};
use frevin_core::sift::{
    Candidate, Columns, FIRST_LOOK, LOOK_EVERY, MOST_COLUMNS, MOST_ROWS, NotBeside, Pinging, Sift,
    SiftDesign, SiftInPlay, SiftRule, SiftedTweak, Sifting, SmallestEffect, ToCome,
    USUAL_ROW_SPREAD, columns, independent,
};
use frevin_core::trial::in_play::{LEAD_IN_S, MOST_PLAY_S, Settling, why_not};
use frevin_core::trial::{KeepPolicy, Pace};
use frevin_core::tweak::{Catalogue, Risk, TweakId};
use frevin_core::verdict::{Judge, LARGEST_PAIR_COUNTS};
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::sources::NoGame;
use crate::operations::apply::{Order, make_plan};
use crate::operations::network::Target as Pinged;
use crate::operations::target::{Named, Target, Unsaved, load, resolve};
use crate::operations::trial::{AskedInPlay, in_play, pace};
use crate::operations::waiting::waiting;
use crate::view::trial::why_not_in_play as in_words;

/// The pairs of the trial at the end, where no budget says otherwise.
const TRIAL_PAIRS: usize = 12;
/// Runs of a visit of that trial.
const TRIAL_RUNS: u32 = 3;

/// What the owner asked for.
#[derive(Debug, Clone)]
pub(crate) struct SiftRequest {
    pub(crate) profile: String,
    /// What is measured; nothing: what the profile names.
    pub(crate) scene: Option<SceneName>,
    pub(crate) runs: usize,
    pub(crate) run_seconds: u32,
    pub(crate) seed: u64,
    pub(crate) budget: Option<Duration>,
    /// Only these, of the profile's tweaks.
    pub(crate) only: Option<Only>,
    /// Whether there may be fewer than two of them: an evening decides then what to make of it.
    pub(crate) may_be_few: bool,
    /// A change that is to be taken back first: what it holds counts as not in force.
    pub(crate) after_taking_back: Option<ChangeId>,
    pub(crate) keep: KeepPolicy,
    /// Tweaks for experts that the owner agreed to, one by one.
    pub(crate) experts: BTreeSet<TweakId>,
    pub(crate) as_administrator: bool,
    pub(crate) restarts_by_itself: bool,
    /// Whether each run starts what is measured anew.
    pub(crate) runs_start_program: bool,
    /// What configurations are judged by, and whose answers are timed where those are judged.
    pub(crate) judge: Judge,
    pub(crate) ping: Option<Pinging>,
    /// How it is to be played, where it is a sift in play.
    pub(crate) in_play: Option<AskedSiftInPlay>,
}

/// Some of a profile's tweaks.
#[derive(Debug, Clone)]
pub(crate) struct Only {
    pub(crate) tweaks: BTreeSet<TweakId>,
    /// Why the others are left out.
    pub(crate) why: &'static str,
}

/// How a sift in play is to be played.
#[derive(Debug, Clone)]
pub(crate) struct AskedSiftInPlay {
    pub(crate) play: AskedInPlay,
    pub(crate) smallest_effect: SmallestEffect,
    /// Of tweaks that exclude each other, those that are sifted.
    pub(crate) preferred: BTreeSet<TweakId>,
    /// The most play over all sittings, in seconds, where it is less than usual.
    pub(crate) most_play_s: Option<f64>,
}

/// A sift as it would be.
pub(crate) struct SiftedDesign {
    pub(crate) design: SiftDesign,
    /// Tweaks for experts that nobody agreed to yet.
    pub(crate) experts_unasked: Vec<TweakId>,
    pub(crate) starts_before_rows: usize,
    pub(crate) expected: ExpectedSift,
}

/// How long a sift may take, with the trial at its end.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ExpectedSift {
    pub(crate) least: Duration,
    pub(crate) typical: Duration,
    pub(crate) most: Duration,
}

/// A sift as it would be, with what else is shown before it begins.
pub(crate) struct SiftBeginning<'a> {
    pub(crate) sifted: &'a SiftedDesign,
    pub(crate) recording: Option<String>,
    pub(crate) is_simulated: bool,
    /// Where undo files are written to.
    pub(crate) undo_folder: std::path::PathBuf,
}

/// How long the parts of a sift take.
#[derive(Debug, Clone, Copy)]
struct SiftPace {
    row: Duration,
    start: Duration,
    pair: Duration,
}

impl SiftPace {
    fn of(pace: Pace, restarts: bool, runs: usize) -> Self {
        let start = if restarts { pace.restart } else { Duration::ZERO };
        let warm_up = u32::from(restarts);
        let runs = u32::try_from(runs).unwrap_or(u32::MAX);
        Self {
            row: start + pace.run * (runs + warm_up),
            start,
            pair: (start + pace.run * (TRIAL_RUNS + warm_up)) * 2,
        }
    }

    fn takes(self, starts: usize, rows: usize, pairs: usize) -> Duration {
        let times = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        self.start * times(starts) + self.row * times(rows) + self.pair * times(pairs)
    }

    /// The most rows that fit into a budget, beside the shortest trial; else the time that the fewest need.
    fn rows_within(self, budget: Duration, starts: usize) -> Result<usize, Duration> {
        let pairs = LARGEST_PAIR_COUNTS[0];
        let fit = |rows: &usize| self.takes(starts, *rows, pairs) <= budget;
        let rows = (FIRST_LOOK..=MOST_ROWS).step_by(LOOK_EVERY).filter(fit).last();
        rows.ok_or_else(|| self.takes(starts, FIRST_LOOK, pairs))
    }
}

/// How long a configuration of a sift takes on its PC, and the most that what is still to come of it takes.
pub(super) fn times(
    ledger: &Ledger,
    pc: &PcId,
    sift: &Sift,
) -> Result<(Duration, Duration), Failure> {
    let design = sift.design();
    if let Some(played) = sift.played() {
        let segment = design.in_play.as_ref().map_or(0.0, |in_play| in_play.play.segment_s(0));
        let trial = Duration::from_secs_f64(MOST_PLAY_S);
        let most_s = design.in_play.as_ref().map_or(0.0, SiftInPlay::most_play_s);
        let left = Duration::from_secs_f64((most_s - played.played_s()).max(0.0));
        let still = match sift.to_come() {
            ToCome::Configurations => left + trial,
            ToCome::Trial => trial,
            ToCome::Nothing => Duration::ZERO,
        };
        return Ok((Duration::from_secs_f64(segment), still));
    }
    let pace = pace(&ledger.trials(pc)?, design.run_seconds);
    let pace = SiftPace::of(pace, design.restarts, design.runs);
    let measured = sift.rows_sifted().map_or(0, Sifting::rows_measured);
    let rows = design.rule.most_rows.saturating_sub(measured);
    let still = match sift.to_come() {
        ToCome::Configurations => pace.takes(0, rows, design.trial_pairs),
        ToCome::Trial => pace.takes(0, 0, design.trial_pairs),
        ToCome::Nothing => Duration::ZERO,
    };
    Ok((pace.row, still))
}

/// Settles a sift on a PC. Nothing is written.
pub(crate) fn design(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    request: &SiftRequest,
) -> Result<SiftedDesign, Failure> {
    if let Some(ping) = &request.ping {
        // An address that is none is refused before anything is begun.
        Pinged::find(&ping.address)?;
    }
    let catalogue = context.catalogue()?;
    let facts = context.facts(pc)?;
    let named = Named::Profile(request.profile.clone());
    let target = resolve(&named, &[], &catalogue, ledger, &facts, Unsaved::Refused)?;
    let Target { title, revision, wishes, mut left_out, by_hand } = target;
    left_out.extend(by_hand.iter().map(|by_hand| LeftOut {
        used: frevin_core::tweak::TweakUse::plain(by_hand.tweak.clone()),
        reasons: vec!["it is done by hand".to_owned()],
    }));
    let (mut candidates, mut plans, mut experts_unasked) = (Vec::new(), Vec::new(), Vec::new());
    for wish in wishes {
        let Some(tweak) = catalogue.get(&wish.used.tweak) else { continue };
        if let Some(only) = request.only.as_ref().filter(|only| !only.tweaks.contains(&tweak.id)) {
            let reasons = vec![only.why.to_owned()];
            left_out.push(LeftOut { used: wish.used, reasons });
            continue;
        }
        if tweak.risk == Risk::Expert && !request.experts.contains(&tweak.id) {
            experts_unasked.push(tweak.id.clone());
            let reasons =
                vec![format!("it is for experts, and nobody agreed to it: --expert {}", tweak.id)];
            left_out.push(LeftOut { used: wish.used, reasons });
            continue;
        }
        if request.in_play.is_some()
            && let Some(reason) = why_not_in_play(&catalogue, &wish)
        {
            left_out.push(LeftOut { used: wish.used, reasons: vec![reason] });
            continue;
        }
        match column_of(pc, ledger, &wish, request.after_taking_back)? {
            Ok(plan) => {
                plans.push(plan);
                candidates.push(Candidate {
                    tweak: SiftedTweak { wish, risk: tweak.risk },
                    conflicts: tweak.conflicts.clone(),
                    needs: tweak.needs.clone(),
                });
            }
            Err(reason) => left_out.push(LeftOut { used: wish.used, reasons: vec![reason] }),
        }
    }
    let mut columns = columns(candidates);
    if let Some(asked) = &request.in_play {
        let (tweaks, others) = independent(columns, &asked.preferred);
        left_out.extend(others.into_iter().map(|(tweak, why)| LeftOut {
            used: tweak.wish.used,
            reasons: vec![not_beside_in_words(&why)],
        }));
        columns = Columns { tweaks, exclusive: Vec::new(), needs: Vec::new() };
    }
    let Columns { tweaks, exclusive, needs } = columns;
    if !request.may_be_few {
        refuse_few(tweaks.len(), &left_out)?;
    }
    if tweaks.len() > MOST_COLUMNS {
        let message = format!(
            "{} tweaks are too many to sift at once; {MOST_COLUMNS} are the most",
            tweaks.len()
        );
        return Err(Failure::new(Kind::Usage, message));
    }
    let felt_late = |moment: TakesEffect| !moment.is_felt_in_a_run(request.runs_start_program);
    let waits = waiting(pc, ledger)?;
    let moments = plans.iter().flat_map(Plan::writes).map(|step| step.takes_effect);
    let restarts = request.in_play.is_none()
        && moments.chain(waits.iter().map(|waiting| waiting.waits_for)).any(felt_late);
    let in_play = match &request.in_play {
        None => None,
        Some(asked) => {
            let felt = |tweak: &SiftedTweak| {
                catalogue.get(&tweak.wish.used.tweak).and_then(|tweak| tweak.felt_within_seconds)
            };
            let felt_within_s = tweaks.iter().filter_map(felt).fold(0.0, f64::max);
            let play = in_play(&facts, Settling::Declared { felt_within_s }, &asked.play)?;
            let AskedSiftInPlay { smallest_effect, most_play_s, .. } = *asked;
            Some(SiftInPlay { play, smallest_effect, most_play_s })
        }
    };
    let (profile, _) = load(&request.profile, &catalogue, ledger, Unsaved::Refused)?;
    // Without a scene a ping is judged without a game.
    let without_game = match request.judge {
        Judge::Ping => Some(NoGame::scene()?.name),
        Judge::FrameRate | Judge::Latency => None,
    };
    let scene = request.scene.clone().or(without_game).or(profile.scene).ok_or_else(|| {
        Failure::new(Kind::Usage, "say what is to be measured: --scene NAME")
            .hint("`frevin scene list` shows the scenes there are")
    })?;
    let known = row_variance(ledger, pc, &scene, request, restarts)?;
    let mut design = SiftDesign {
        title,
        revision,
        tweaks,
        left_out,
        exclusive,
        needs,
        others: ledger.layers(&pc.identity().id)?.digest(),
        boot: pc.boot()?,
        scene,
        runs: request.runs,
        warm_up: usize::from(restarts),
        run_seconds: request.run_seconds,
        restarts,
        restarts_by_itself: restarts && request.restarts_by_itself,
        as_administrator: request.as_administrator,
        rule: SiftRule {
            seed: request.seed,
            row_variance: known.unwrap_or(USUAL_ROW_SPREAD * USUAL_ROW_SPREAD),
            most_rows: MOST_ROWS,
        },
        with_history: known.is_some(),
        trial_pairs: TRIAL_PAIRS,
        keep: request.keep,
        on_battery: facts.power_source == PowerSource::Battery,
        judge: request.judge,
        ping: request.ping.clone(),
        in_play,
        evening: None,
    };
    let impossible = |error: frevin_core::sift::FactorsError| {
        Failure::new(Kind::Usage, format!("this profile cannot be sifted: {error}"))
    };
    let starts = match design.tweaks.is_empty() {
        true => 0,
        false => Sift::replay(design.clone(), &[]).map_err(impossible)?.introduction_starts(),
    };
    let trials = ledger.trials(&pc.identity().id)?;
    let pace = SiftPace::of(pace(&trials, design.run_seconds), restarts, design.runs);
    if let Some(budget) = request.budget {
        design.rule.most_rows = pace.rows_within(budget, starts).map_err(|needed| {
            let minutes = needed.as_secs().div_ceil(60);
            let message = format!("a sift of this takes up to {minutes} min at least");
            Failure::new(Kind::Usage, message)
                .detail(format!("{FIRST_LOOK} configurations and the shortest trial are the least"))
                .hint(format!("give it --budget {minutes}min, or shorter runs with --seconds"))
        })?;
        design.trial_pairs = LARGEST_PAIR_COUNTS[0];
    }
    if design.in_play.is_some() {
        let expected = expected_in_play(&design);
        return Ok(SiftedDesign { design, experts_unasked, starts_before_rows: 0, expected });
    }
    // Of many made-up PCs with 10, 20 and 40 tweaks, sifts took 19, 22 and 24 configurations (docs/measuring.md).
    let typical = (18 + design.tweaks.len() / 6).min(design.rule.most_rows);
    let expected = ExpectedSift {
        least: pace.takes(starts, FIRST_LOOK, 0),
        typical: pace.takes(starts, typical, design.trial_pairs * 3 / 4),
        most: pace.takes(starts, design.rule.most_rows, design.trial_pairs),
    };
    Ok(SiftedDesign { design, experts_unasked, starts_before_rows: starts, expected })
}

/// How long a sift in play takes: at most as long as it may, and as long a trial at its end.
fn expected_in_play(design: &SiftDesign) -> ExpectedSift {
    let most = Duration::from_secs_f64(MOST_PLAY_S);
    let segment_s = design.in_play.as_ref().map_or(0.0, |in_play| in_play.play.segment_s(0));
    let first_look = (design.tweaks.len() + 4).next_multiple_of(LOOK_EVERY);
    let least = Duration::from_secs_f64(LEAD_IN_S + 2.0 * segment_s * first_look as f64);
    // Twice the fewest pairs is what the study has in free play, and a trial of what helped takes a quarter of an hour.
    ExpectedSift {
        least,
        typical: (2 * least).min(most) + Duration::from_secs(15 * 60),
        most: 2 * most,
    }
}

/// Why a tweak is not sifted in play, in words.
fn why_not_in_play(catalogue: &Catalogue, wish: &Wish) -> Option<String> {
    let found = why_not(catalogue, wish);
    let is_declared =
        catalogue.get(&wish.used.tweak).is_some_and(|tweak| tweak.felt_within_seconds.is_some());
    match found.first() {
        Some(first) => Some(format!("it {}", in_words(first))),
        None if !is_declared => Some(
            "nothing says how soon it is felt: try it alone, `trial start --in-play`".to_owned(),
        ),
        None => None,
    }
}

fn not_beside_in_words(why: &NotBeside) -> String {
    match why {
        NotBeside::Excludes(other) => {
            format!("it excludes {other}; --prefer sifts it in its place")
        }
        NotBeside::Needs(other) => format!("it does nothing without {other}"),
        NotBeside::WritesTheSame(other, address) => format!("{other} writes {address} too"),
    }
}

fn refuse_few(columns: usize, left_out: &[LeftOut]) -> Result<(), Failure> {
    if columns >= 2 {
        return Ok(());
    }
    let why = left_out
        .iter()
        .map(|left_out| format!("{} is left out: {}", left_out.used, left_out.reasons.join("; ")));
    let message = "there is nothing to sift: fewer than two tweaks change something here";
    let failure = Failure::new(Kind::Usage, message).details(why);
    Err(if columns == 1 {
        failure.hint("one tweak is tried by itself: `frevin trial start --tweak AREA/NAME`")
    } else {
        failure
    })
}

/// The plan that switches a tweak on alone; or why it is no column of a sift.
pub(crate) fn column_of(
    pc: &dyn Pc,
    ledger: &Ledger,
    wish: &Wish,
    after_taking_back: Option<ChangeId>,
) -> Result<Result<Plan, String>, Failure> {
    for wanted in &wish.settings {
        let one_way = match &wanted.address {
            Address::Clean(_) => Some("what is cleaned away is not switched back and forth"),
            Address::Object(object) => match object.kind() {
                ObjectKind::App => Some("an app is not taken off and put on again and again"),
                ObjectKind::Feature => Some("a feature of Windows is not switched back and forth"),
                _ => None,
            },
            _ => None,
        };
        if let Some(reason) = one_way {
            return Ok(Err(reason.to_owned()));
        }
        if protection(&wanted.address).is_some() {
            return Ok(Err("it touches what is protected".to_owned()));
        }
    }
    let plan = make_plan(pc, ledger, std::slice::from_ref(wish), after_taking_back)?;
    if !plan.steps.iter().any(|step| step.action.writes()) {
        return Ok(Err("it changes nothing on this PC".to_owned()));
    }
    let target = Target {
        title: wish.used.to_string(),
        revision: None,
        wishes: vec![wish.clone()],
        left_out: Vec::new(),
        by_hand: Vec::new(),
    };
    let order = Order::new(pc, ledger, target, after_taking_back, after_taking_back.is_some())?;
    Ok(order.check().map(|()| plan).map_err(|failure| failure.message))
}

/// The variance of a row beside the effects, as earlier sifts of the PC showed it in this scene, with as many runs.
fn row_variance(
    ledger: &Ledger,
    pc: &dyn Pc,
    scene: &SceneName,
    request: &SiftRequest,
    restarts: bool,
) -> Result<Option<f64>, Failure> {
    let mut known = Vec::new();
    for record in ledger.sifts(&pc.identity().id)? {
        let design = &record.design;
        let is_alike = design.scene == *scene
            && (design.judge, &design.ping) == (request.judge, &request.ping)
            && (design.runs, design.run_seconds, design.restarts)
                == (request.runs, request.run_seconds, restarts);
        if is_alike && record.has_ended() {
            known.extend(record.sift()?.rows_sifted().and_then(Sifting::row_variance));
        }
    }
    Ok((!known.is_empty()).then(|| known.iter().sum::<f64>() / known.len() as f64))
}
