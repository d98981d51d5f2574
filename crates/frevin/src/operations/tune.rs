//! An evening: from the candidates for a PC to what is proven to help, within the time there is.
//!
//! It is a sift with a trial at its end, over those candidates of which most is expected, and what that keeps as a profile
//! with the figure of each line. What is in force, what was cut off and how it goes on are the sift's.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use frevin_core::facts::Form;
use frevin_core::ids::{ProfileName, SceneName};
use frevin_core::layers::ChangeId;
use frevin_core::preview::LeftOut;
use frevin_core::profile::{Entry, Playing, Profile, Revision};
use frevin_core::sift::{Evening, FoundTweak, SiftId, SiftProgress};
use frevin_core::trial::{Reason, TrialId};
use frevin_core::tune::{EveningCosts, EveningPlan, NoEvening, TuneCandidate, belief, plan};
use frevin_core::tweak::{Standing, TweakUse};
use frevin_core::verdict::{LARGEST_PAIR_COUNTS, Verdict};
use frevin_ledger::{Ledger, LedgerError, SiftRecord};
use frevin_pc::{Pc, PcKind};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::driving::first_held;
use crate::operations::evidence::{ToldEvidence, told};
use crate::operations::profiles::save_text;
use crate::operations::sift::{SiftReport, SiftRequest, SiftedDesign, design, report};
use crate::operations::target::ReadDocument;
use crate::operations::trial::pace;
use crate::view::percent;

/// Settles an evening on a PC. Nothing is written.
pub(crate) fn prepare(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    request: &SiftRequest,
    budget: Duration,
) -> Result<(SiftedDesign, Evening), Failure> {
    let request =
        |run_seconds: u32, only| SiftRequest { run_seconds, budget: None, only, ..request.clone() };
    let whole = design(context, pc, ledger, &request(MINUTE_S, None))?;
    let pace = pace(&ledger.trials(&pc.identity().id)?, MINUTE_S);
    let costs = EveningCosts {
        restart: if whole.design.restarts { pace.restart } else { Duration::ZERO },
        around_a_run: pace.run - Duration::from_secs(MINUTE_S.into()),
        row_spread: whole.design.rule.row_variance.sqrt(),
    };
    // Tweaks for experts are switched on for the first time a few a start, before anything is measured.
    let introductions = u32::try_from(whole.starts_before_rows).unwrap_or(u32::MAX);
    let for_answers = budget.saturating_sub(costs.restart * introductions);
    let candidates = candidates(context, pc, ledger, &whole)?;
    let plan = plan(candidates, &costs, for_answers).map_err(no_evening)?;
    let only = plan.asked.iter().map(|question| question.used.tweak.clone()).collect();
    let mut sifted = design(context, pc, ledger, &request(plan.run_seconds, Some(only)))?;
    sifted.design.rule.most_rows = plan.rows;
    sifted.design.rule.row_variance = costs.row_variance(plan.run_seconds);
    sifted.design.trial_pairs = LARGEST_PAIR_COUNTS[0];
    // What time does not reach for is no fault of it, and stands in the plan.
    sifted.design.left_out = whole.design.left_out;
    let evening = Evening { budget_s: budget.as_secs(), plan };
    sifted.design.evening = Some(evening.clone());
    Ok((sifted, evening))
}

/// The length of the runs that a PC's own spread is known for.
const MINUTE_S: u32 = 60;

/// What a sift would ask about, with what is believed of each: by its standing, and by what was measured of it in the scene
/// and has not aged.
fn candidates(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    whole: &SiftedDesign,
) -> Result<Vec<TuneCandidate>, Failure> {
    let catalogue = context.catalogue()?;
    let scene = &whole.design.scene;
    let told = told(context, pc, ledger, None)?;
    let counts = |one: &&ToldEvidence, used: &TweakUse| {
        let in_scene = one.evidence.scene.scene == *scene && one.evidence.used == *used;
        in_scene && one.aged.is_empty() && one.evidence.standard_error > 0.0
    };
    let candidate = |used: &TweakUse| {
        let measured: Vec<(f64, f64)> = told
            .iter()
            .filter(|one| counts(one, used))
            .map(|one| (one.evidence.ln_ratio, one.evidence.standard_error))
            .collect();
        let standing = catalogue.get(&used.tweak).map_or(Standing::Contested, |one| one.standing);
        let belief = belief(standing, used.tweak.area(), &measured);
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
pub(crate) fn usual_candidates(context: &Context, pc: &dyn Pc) -> Result<String, Failure> {
    let facts = context.facts(pc)?;
    Ok(match facts.form {
        Some(Form::Laptop) => "laptop-at-the-wall",
        Some(Form::Handheld) => "handheld-in-the-hand",
        Some(Form::Desktop) | None => "all-out",
    }
    .to_owned())
}

/// A kept tweak and what it was measured to give.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct KeptTweak {
    #[serde(flatten)]
    pub(crate) used: TweakUse,
    /// On average FPS, in percent.
    pub(crate) effect_percent: f64,
    pub(crate) low_percent: f64,
    pub(crate) high_percent: f64,
}

/// What all that is kept gives together, on average FPS, in percent.
#[derive(Debug, Clone, Copy, JsonSchema, Serialize)]
pub(crate) struct Gain {
    pub(crate) low: f64,
    pub(crate) estimate: f64,
    pub(crate) high: f64,
}

/// An evening that has ended, or as far as it is.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct TuneReport {
    pub(crate) tune: SiftId,
    pub(crate) begun_at: Timestamp,
    pub(crate) scene: SceneName,
    pub(crate) title: String,
    pub(crate) budget_minutes: f64,
    /// What it took so far: on a rehearsal PC, what it would have taken on a real one.
    pub(crate) spent_minutes: f64,
    pub(crate) progress: SiftProgress,
    pub(crate) plan: EveningPlan,
    /// The tweaks that are in force by it.
    pub(crate) kept: Vec<KeptTweak>,
    /// What was found of each tweak that was asked about.
    pub(crate) found: Vec<FoundTweak>,
    pub(crate) left_out: Vec<LeftOut>,
    /// The profile that what is kept was saved as.
    pub(crate) profile: Option<String>,
    /// The trial of what helped together.
    pub(crate) trial: Option<TrialId>,
    /// The change that holds what is kept.
    pub(crate) change: Option<ChangeId>,
    pub(crate) verdict: Option<Verdict>,
    pub(crate) reason: Option<Reason>,
    pub(crate) gain_percent: Option<Gain>,
    pub(crate) is_given_up: bool,
    pub(crate) is_taken_back_since: bool,
}

/// Tells an evening.
pub(crate) fn told_evening(
    pc_kind: PcKind,
    ledger: &Ledger,
    record: &SiftRecord,
    evening: &Evening,
) -> Result<TuneReport, Failure> {
    let sift = report(ledger, record, false)?;
    let kept = if sift.kept { kept(&sift) } else { Vec::new() };
    let profile = saved(ledger, &sift)?.map(|revision| revision.name().to_string());
    let change = match sift.trial {
        Some(trial) if sift.kept => {
            let layers = ledger.layers(&record.pc)?;
            first_held(&layers, ledger.changes_of_trial(trial)?).map(|(change, _)| change)
        }
        _ => None,
    };
    let gain_percent = match sift.trial {
        Some(trial) => gain(ledger, trial)?,
        None => None,
    };
    Ok(TuneReport {
        tune: sift.sift,
        begun_at: sift.begun_at,
        scene: sift.scene.clone(),
        title: sift.title.clone(),
        budget_minutes: evening.budget_s as f64 / 60.0,
        spent_minutes: spent(pc_kind, ledger, record, &sift, evening)?.as_secs_f64() / 60.0,
        progress: sift.progress,
        plan: evening.plan.clone(),
        kept,
        found: sift.tweaks,
        left_out: sift.left_out,
        profile,
        trial: sift.trial,
        change,
        verdict: sift.verdict,
        reason: sift.reason,
        gain_percent,
        is_given_up: sift.is_given_up,
        is_taken_back_since: sift.is_taken_back_since,
    })
}

fn kept(sift: &SiftReport) -> Vec<KeptTweak> {
    let found: BTreeMap<&TweakUse, &FoundTweak> =
        sift.tweaks.iter().map(|found| (&found.used, found)).collect();
    let helped: BTreeSet<&TweakUse> = sift.helped.iter().collect();
    helped
        .into_iter()
        .filter_map(|used| {
            let found = found.get(used)?;
            Some(KeptTweak {
                used: used.clone(),
                effect_percent: found.effect_percent,
                low_percent: found.low_percent,
                high_percent: found.high_percent,
            })
        })
        .collect()
}

fn gain(ledger: &Ledger, trial: TrialId) -> Result<Option<Gain>, Failure> {
    let trial = ledger.trial(trial)?.trial();
    if trial.ended().is_none() {
        return Ok(None);
    }
    let comparison = trial.comparison();
    let difference = comparison.findings.first().and_then(|finding| finding.difference);
    Ok(difference.map(|difference| Gain {
        low: 100.0 * difference.low,
        estimate: 100.0 * difference.estimate,
        high: 100.0 * difference.high,
    }))
}

/// How long it took: by the clock, or by what its parts take where a rehearsal PC plays them in no time.
fn spent(
    pc_kind: PcKind,
    ledger: &Ledger,
    record: &SiftRecord,
    sift: &SiftReport,
    evening: &Evening,
) -> Result<Duration, Failure> {
    let last = record.events.last().map_or(record.begun_at, |event| event.at);
    if pc_kind == PcKind::Live {
        return Ok(
            Duration::try_from(record.begun_at.until(last).unwrap_or_default()).unwrap_or_default()
        );
    }
    let rows = u32::try_from(sift.configurations).unwrap_or(u32::MAX);
    let of_rows = Duration::from_secs(sift.seconds_a_configuration) * rows;
    let pairs = match sift.trial {
        Some(trial) => ledger.trial(trial)?.trial().pairs().len(),
        None => 0,
    };
    let share = pairs as f64 / LARGEST_PAIR_COUNTS[0] as f64;
    Ok(of_rows + Duration::from_secs(evening.plan.trial_s).mul_f64(share))
}

/// The profile that evenings in a scene are saved as.
fn profile_of(scene: &SceneName) -> Result<ProfileName, Failure> {
    format!("tuned-{scene}")
        .parse()
        .map_err(|error| Failure::new(Kind::Internal, format!("{error}")))
}

/// What a revision that an evening saved says of itself.
fn message_of(sift: SiftId) -> String {
    format!("evening {sift}")
}

/// The revision that an evening saved, if it has: known also where its profile was deleted since.
fn saved(ledger: &Ledger, sift: &SiftReport) -> Result<Option<Revision>, Failure> {
    match ledger.revisions(&profile_of(&sift.scene)?) {
        Ok(revisions) => {
            let message = message_of(sift.sift);
            Ok(revisions.into_iter().rfind(|revision| revision.message == message))
        }
        Err(LedgerError::NoProfile(_)) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// Saves what an evening that has ended keeps as a profile, each line with what it was measured to give; once.
pub(crate) fn save_kept(
    context: &Context,
    ledger: &mut Ledger,
    record: &SiftRecord,
) -> Result<(), Failure> {
    let sift = &report(ledger, record, false)?;
    if !sift.kept || saved(ledger, sift)?.is_some() {
        return Ok(());
    }
    let kept = kept(sift);
    let name = profile_of(&sift.scene)?;
    let day = sift.begun_at.to_zoned(jiff::tz::TimeZone::system()).date();
    let share = |of: f64| percent(of / 100.0);
    let entries = kept.iter().map(|kept| Entry {
        tweak: kept.used.tweak.clone(),
        arguments: kept.used.arguments.clone().unwrap_or_default(),
        when: None,
        note: Some(format!(
            "{} average FPS ({} to {}), by evening {} of {day}",
            share(kept.effect_percent),
            share(kept.low_percent),
            share(kept.high_percent),
            sift.sift
        )),
        span: 0..0,
    });
    let profile = Profile {
        name: name.clone(),
        purpose: format!("What evening {} proved to help in {}", sift.sift, sift.scene),
        scene: Some(sift.scene.clone()),
        builds_on: Vec::new(),
        without: Vec::new(),
        entries: entries.collect(),
        while_playing: Vec::new(),
        playing: Playing::default(),
    };
    let text = profile.to_document();
    let catalogue = context.catalogue()?;
    let document = ReadDocument::parse(&format!("{name}.toml"), text, &catalogue, ledger)?;
    save_text(context, ledger, &document, &message_of(sift.sift)).map(drop)
}
