//! Evidence: what trials, sifts and comparisons in the ledger tell of tweaks on a PC.

use std::collections::BTreeMap;

use frevin_core::evidence::{
    Age, Circumstances, EvidenceFigures, EvidenceFinding, EvidenceRecord, ForeignEvidence, Origin,
    SceneOfEvidence, ages, contradictions, of_sift, of_trial,
};
use frevin_core::ids::{PcId, SceneName};
use frevin_core::preview::Wish;
use frevin_core::profile::without_private;
use frevin_core::trial::in_play::InPlay;
use frevin_core::tweak::{Argument, Catalogue, ParameterKind, TweakId, TweakUse};
use frevin_core::verdict::Verdict;
use frevin_core::visits::{VisitId, VisitRecord, VisitStatus};
use frevin_ledger::{Ledger, VisitFilter};
use frevin_pc::Pc;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::measure::card_of_games;
use crate::measure::compare::{MeasuredUse, measured};

/// Evidence of this PC, with what has become of it.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct ToldEvidence {
    #[serde(flatten)]
    pub(crate) evidence: EvidenceRecord,
    /// Why it has aged.
    pub(crate) aged: Vec<Age>,
    /// Whether other evidence found the opposite.
    pub(crate) contradicted: bool,
    /// What asks the same again.
    pub(crate) ask_again: String,
}

/// All evidence of a PC, or only of some tweaks, the latest first.
pub(crate) fn told(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    only: Option<&[TweakId]>,
) -> Result<Vec<ToldEvidence>, Failure> {
    let mut records = of_pc(ledger, &pc.identity().id, only)?;
    records.retain(|record| only.is_none_or(|only| only.contains(&record.used.tweak)));
    if records.is_empty() {
        return Ok(Vec::new());
    }
    records.sort_by(|a, b| (b.date, &a.used).cmp(&(a.date, &b.used)));
    let facts = context.facts(pc)?;
    let versions = game_versions(ledger, &pc.identity().id)?;
    let contradicted = contradictions(&records);
    let told = records.into_iter().zip(contradicted).map(|(evidence, contradicted)| {
        let now = Circumstances {
            windows_build: Some(facts.windows.build),
            graphics_driver: card_of_games(&facts).and_then(|card| card.driver_version.clone()),
            game_version: versions.get(&evidence.scene.scene).cloned(),
        };
        ToldEvidence {
            aged: ages(&evidence, &now),
            contradicted,
            ask_again: ask_again(&evidence),
            evidence,
        }
    });
    Ok(told.collect())
}

/// The command that asks the same again.
fn ask_again(evidence: &EvidenceRecord) -> String {
    let mut command = format!("frevin trial start --tweak {}", evidence.used.tweak);
    for (name, argument) in evidence.used.arguments.iter().flatten() {
        let value = match argument {
            Argument::Flag(flag) => flag.to_string(),
            Argument::Subset(names) => names.iter().cloned().collect::<Vec<_>>().join(","),
            Argument::Names(names) => names.join(","),
            Argument::Whole(_) | Argument::Choice(_) | Argument::Text(_) => argument.to_string(),
        };
        command.push_str(&if value.contains(|c: char| c.is_whitespace() || c == '"') {
            format!(" --set '{name}={value}'")
        } else {
            format!(" --set {name}={value}")
        });
    }
    command.push_str(&format!(" --scene {}", evidence.scene.scene));
    command
}

/// The version of the game that the latest visit to each scene says.
fn game_versions(ledger: &Ledger, pc: &PcId) -> Result<BTreeMap<SceneName, String>, Failure> {
    let mut versions = BTreeMap::new();
    for visit in ledger.visits(&VisitFilter::default())? {
        if visit.pc.as_ref() == Some(pc)
            && let Some(version) = version_of(&visit)
        {
            versions.insert(visit.scene.clone(), version);
        }
    }
    Ok(versions)
}

fn version_of(visit: &VisitRecord) -> Option<String> {
    visit.counted().find_map(|run| run.conditions.as_ref()?.game_version.clone())
}

/// All evidence of a PC in the ledger.
fn of_pc(
    ledger: &Ledger,
    pc: &PcId,
    only: Option<&[TweakId]>,
) -> Result<Vec<EvidenceRecord>, Failure> {
    let mut records = Vec::new();
    for record in ledger.trials(pc)? {
        let trial = record.trial();
        let Some(figures) = trial.ended().and_then(|_| of_trial(&trial)) else { continue };
        let visit = trial.pairs().last().and_then(|pair| pair.b.visits.first()).copied();
        let Some(scene) = record.design.levels.first() else { continue };
        let at = record.events.last().map_or(record.begun_at, |event| event.at);
        let origin = Origin::Trial { trial: record.id };
        let system = match (&record.design.in_play, visit) {
            (Some(played), _) => System::from(played),
            (None, Some(visit)) => System::of_visit(ledger, visit)?,
            (None, None) => continue,
        };
        records.push(whole(ledger, scene, origin, at, system, figures)?);
    }
    for record in ledger.sifts(pc)?.into_iter().filter(frevin_ledger::SiftRecord::has_ended) {
        let sift = record.sift()?;
        let visit = sift.rows().last().and_then(|row| row.last()).map(|(visit, _)| *visit);
        let at = record.events.last().map_or(record.begun_at, |event| event.at);
        let origin = Origin::Sift { sift: record.id };
        let played = record.design.in_play.as_ref().map(|in_play| &in_play.play);
        for figures in of_sift(&sift) {
            let system = match (played, visit) {
                (Some(played), _) => System::from(played),
                (None, Some(visit)) => System::of_visit(ledger, visit)?,
                (None, None) => continue,
            };
            records.push(whole(ledger, &record.design.scene, origin, at, system, figures)?);
        }
    }
    let tweaks: std::collections::BTreeSet<TweakId> = ledger
        .visits(&VisitFilter { is_the_owners: true, ..VisitFilter::default() })?
        .iter()
        .filter(|visit| visit.pc.as_ref() == Some(pc) && visit.status == VisitStatus::Whole)
        .flat_map(|visit| visit.in_force.iter().flat_map(|in_force| in_force.uses.clone()))
        .map(|used| used.tweak)
        .filter(|tweak| only.is_none_or(|only| only.contains(tweak)))
        .collect();
    for tweak in tweaks {
        for MeasuredUse { of, compared } in measured(ledger, pc, &tweak)?.comparisons {
            let Some(figures) = of_comparison(ledger, &of, &compared.comparison, &compared.visits)?
            else {
                continue;
            };
            let Some((_, visit)) = compared.visits.last() else { continue };
            let at = ledger.visit(*visit)?.recorded_at;
            let (scene, system) = (&compared.scene, System::of_visit(ledger, *visit)?);
            records.push(whole(ledger, scene, Origin::Comparison, at, system, figures)?);
        }
    }
    Ok(records)
}

/// Evidence of a comparison that the owner's own visits have decided; nothing while it is undecided.
fn of_comparison(
    ledger: &Ledger,
    of: &TweakUse,
    comparison: &frevin_core::verdict::Comparison,
    visits: &[(VisitId, VisitId)],
) -> Result<Option<EvidenceFigures>, Failure> {
    let finding = match comparison.verdict {
        Verdict::Better => EvidenceFinding::Helps,
        Verdict::Worse => EvidenceFinding::Hurts,
        Verdict::Same => EvidenceFinding::NoEffect,
        Verdict::Undecided => return Ok(None),
    };
    let mut differences = Vec::new();
    for (without, with) in visits {
        let of = |visit: &VisitId| -> Result<Option<f64>, Failure> {
            let figures = crate::measure::compare::counted(&ledger.visit(*visit)?)?;
            Ok(figures.frames.map(|frames| frames.ln_average_fps))
        };
        if let (Some(a), Some(b)) = (of(without)?, of(with)?) {
            differences.push(b - a);
        }
    }
    let reported = comparison.findings.first().and_then(|finding| finding.difference);
    let figures = EvidenceFigures::of_differences(of.clone(), finding, &differences);
    Ok(figures.zip(reported).map(|(figures, reported)| EvidenceFigures {
        percent: [reported.low, reported.estimate, reported.high].map(|share| 100.0 * share),
        ..figures
    }))
}

/// A piece of evidence with what it is of.
fn whole(
    ledger: &Ledger,
    scene: &SceneName,
    origin: Origin,
    at: Timestamp,
    system: System,
    figures: EvidenceFigures,
) -> Result<EvidenceRecord, Failure> {
    let scene = ledger.scene(scene)?;
    Ok(EvidenceRecord {
        used: figures.used,
        scene: SceneOfEvidence {
            scene: scene.name,
            game: scene.game,
            graphics: scene.graphics,
            resolution: scene.resolution,
        },
        origin,
        date: at.to_zoned(TimeZone::system()).date(),
        windows_build: system.windows_build,
        graphics_driver: system.graphics_driver,
        game_version: system.game_version,
        finding: figures.finding,
        by_guard: figures.by_guard,
        ln_ratio: figures.ln_ratio,
        standard_error: figures.standard_error,
        effect_percent: figures.percent[1],
        low_percent: figures.percent[0],
        high_percent: figures.percent[2],
        false_chance: figures.false_chance,
    })
}

/// What a measurement was made with.
struct System {
    windows_build: Option<u32>,
    graphics_driver: Option<String>,
    game_version: Option<String>,
}

impl System {
    fn of_visit(ledger: &Ledger, visit: VisitId) -> Result<Self, Failure> {
        let visit = ledger.visit(visit)?;
        Ok(Self {
            windows_build: visit.context.windows_build,
            graphics_driver: visit.context.graphics_driver.clone(),
            game_version: version_of(&visit),
        })
    }
}

impl From<&InPlay> for System {
    fn from(played: &InPlay) -> Self {
        Self {
            windows_build: played.windows_build,
            graphics_driver: played.graphics_driver.clone(),
            game_version: None,
        }
    }
}

/// How many of the findings "helps" are expected to be false.
pub(crate) fn expected_false(told: &[ToldEvidence]) -> f64 {
    told.iter()
        .filter(|one| one.evidence.finding == EvidenceFinding::Helps)
        .map(|one| one.evidence.false_chance)
        // The sum of none would be written as -0.
        .fold(0.0, |sum, chance| sum + chance)
}

/// Uses of tweaks that were measured to hurt on this PC, and not found to help since.
pub(crate) fn measured_worse<'a>(
    told: &'a [ToldEvidence],
    uses: &[TweakUse],
) -> Vec<&'a ToldEvidence> {
    let mut worse: Vec<&ToldEvidence> = Vec::new();
    for used in uses {
        // The latest comes first.
        let latest = told.iter().find(|one| {
            one.evidence.used == *used && one.evidence.finding != EvidenceFinding::Unclear
        });
        worse.extend(latest.filter(|one| one.evidence.finding == EvidenceFinding::Hurts));
    }
    worse
}

/// What is known on this PC of the tweaks that are about to be applied.
pub(crate) fn of_wishes(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    wishes: &[Wish],
) -> Result<(Vec<ToldEvidence>, Vec<TweakUse>), Failure> {
    let uses: Vec<TweakUse> = wishes.iter().map(|wish| wish.used.clone()).collect();
    let ids: Vec<TweakId> = uses.iter().map(|used| used.tweak.clone()).collect();
    Ok((told(context, pc, ledger, Some(&ids))?, uses))
}

/// Evidence for others, with nothing private in it; and what was left out, each with why.
pub(crate) fn for_others(
    pc: &PcId,
    catalogue: &Catalogue,
    told: &[ToldEvidence],
    words: &[String],
) -> (Vec<ForeignEvidence>, Vec<(TweakUse, &'static str)>) {
    let hash = blake3::hash(format!("evidence of {pc}").as_bytes()).to_hex();
    let name = format!("pc-{}", &hash[..16]);
    let (mut rows, mut left_out) = (Vec::new(), Vec::new());
    for one in told {
        let used = &one.evidence.used;
        let Some(tweak) = catalogue.get(&used.tweak).filter(|tweak| !tweak.is_own) else {
            left_out.push((used.clone(), "it is a tweak of your own"));
            continue;
        };
        let is_private = |kind: &ParameterKind| {
            matches!(kind, ParameterKind::Text { .. } | ParameterKind::Names { .. })
        };
        if tweak.parameters.values().any(|parameter| is_private(&parameter.kind)) {
            left_out.push((used.clone(), "a name or a path may stand in what is chosen of it"));
            continue;
        }
        let mut row = ForeignEvidence::of(&name, &one.evidence);
        for text in [&mut row.game, &mut row.graphics, &mut row.resolution, &mut row.game_version] {
            *text = without_private(text, words).0;
        }
        match row.check() {
            Ok(()) => rows.push(row),
            Err(_) => left_out.push((used.clone(), "it has no figure that others can use")),
        }
    }
    (rows, left_out)
}
