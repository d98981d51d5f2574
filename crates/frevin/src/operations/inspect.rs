//! Inspecting a PC: facts, findings, and what Frevin has done to it.

use std::collections::BTreeMap;

use frevin_core::facts::Facts;
use frevin_core::findings::{Finding, Findings, Seen, Untold, findings, rules};
use frevin_core::ids::{BootId, PcId, SceneName};
use frevin_core::setting::{Address, State, TakesEffect};
use frevin_core::tweak::{Catalogue, TweakId};
use frevin_core::visits::{FrameLimit, VisitId, VisitRecord, VisitStatus, limit_of_runs};
use frevin_core::waiting::Waiting;
use frevin_ledger::{Ledger, VisitFilter};
use frevin_pc::{Pc, PcIdentity};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;

use super::choices::{Mending, mending};
use super::evidence::{ToldEvidence, measured_worse, told};
use super::name_of_unfinished;
use super::resolve_drift::drifted;
use super::waiting::waiting;
use crate::context::Context;
use crate::failure::Failure;

/// What is known of a PC.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct InspectReport {
    pub(crate) pc: PcIdentity,
    pub(crate) boot: BootId,
    pub(crate) facts: Facts,
    #[serde(flatten)]
    pub(crate) findings: FindingsHere,
    pub(crate) tweaks_in_force: usize,
    pub(crate) settings_held: usize,
    pub(crate) drifted: usize,
    pub(crate) waiting: Vec<Waiting>,
    /// What limits the frames in each scene, by its latest visit.
    pub(crate) frame_limits: Vec<SceneLimit>,
    /// Tweaks in force that were measured to hurt on this PC.
    pub(crate) in_force_measured_worse: Vec<ToldEvidence>,
    /// What was interrupted and is unfinished.
    pub(crate) unfinished: Option<String>,
}

/// What is plainly wrong with a PC, with the commands that mend it.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct FindingsHere {
    pub(crate) found: Vec<FindingHere>,
    pub(crate) worth_knowing: Vec<FindingHere>,
    /// Rules that this PC gives no answer to, and why.
    pub(crate) untold: Vec<Untold>,
}

#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct FindingHere {
    #[serde(flatten)]
    pub(crate) finding: Finding,
    pub(crate) mending: Option<Mending>,
}

impl FindingsHere {
    fn new(catalogue: &Catalogue, findings: Findings) -> Self {
        let with =
            |finding: Finding| FindingHere { mending: mending(catalogue, &finding), finding };
        Self {
            found: findings.found.into_iter().map(with).collect(),
            worth_knowing: findings.worth_knowing.into_iter().map(with).collect(),
            untold: findings.untold,
        }
    }
}

/// What limits the frames of a scene on this PC.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct SceneLimit {
    pub(crate) scene: SceneName,
    /// The visit that it was read from.
    pub(crate) visit: VisitId,
    #[serde(flatten)]
    pub(crate) limit: FrameLimit,
}

/// What limits the frames of each scene, by the latest visit of a PC that counts.
fn frame_limits(ledger: &Ledger, pc: &PcId) -> Result<Vec<SceneLimit>, Failure> {
    let visits = ledger.visits(&VisitFilter::default())?;
    let mut latest: BTreeMap<&SceneName, &VisitRecord> = BTreeMap::new();
    for visit in &visits {
        if visit.pc.as_ref() == Some(pc) && visit.status == VisitStatus::Whole {
            latest.insert(&visit.scene, visit);
        }
    }
    let limit = |(scene, visit): (&SceneName, &VisitRecord)| {
        let limit = limit_of_runs(visit.counted().map(|run| (run, &visit.context)))?;
        Some(SceneLimit { scene: scene.clone(), visit: visit.id, limit })
    };
    Ok(latest.into_iter().filter_map(limit).collect())
}

/// The day that it is where the owner is.
pub(crate) fn today(context: &Context) -> Date {
    context.clock.now().to_zoned(TimeZone::system()).date()
}

/// What is plainly wrong with a PC, on which this waits to take effect.
pub(crate) fn findings_here(
    context: &Context,
    pc: &dyn Pc,
    facts: &Facts,
    waiting: &[Waiting],
) -> Result<FindingsHere, Failure> {
    let seen = Seen {
        facts,
        read: &|address: &Address| {
            pc.read(address).unwrap_or_else(|error| State::Unreadable(error.to_string()))
        },
        values_of: &|key| pc.values_of(key).unwrap_or_default(),
        waiting_for_restart: waiting
            .iter()
            .filter(|one| one.waits_for == TakesEffect::Restart)
            .count(),
        today: today(context),
    };
    Ok(FindingsHere::new(&context.catalogue()?, findings(&rules()?, &seen)))
}

/// Inspects a PC.
pub(crate) fn inspect(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
) -> Result<InspectReport, Failure> {
    let identity = pc.identity().clone();
    let boot = pc.boot()?;
    let layers = ledger.layers(&identity.id)?;
    let facts = context.facts(pc)?;
    let waiting = waiting(pc, ledger)?;
    let findings = findings_here(context, pc, &facts, &waiting)?;
    let uses = layers.uses();
    let ids: Vec<TweakId> = uses.iter().map(|used| used.tweak.clone()).collect();
    let told = if ids.is_empty() { Vec::new() } else { told(context, pc, ledger, Some(&ids))? };
    Ok(InspectReport {
        in_force_measured_worse: measured_worse(&told, &uses).into_iter().cloned().collect(),
        facts,
        findings,
        tweaks_in_force: layers.uses().len(),
        settings_held: layers.iter().count(),
        drifted: drifted(pc, ledger)?.len(),
        waiting,
        frame_limits: frame_limits(ledger, &identity.id)?,
        unfinished: ledger.unfinished(&identity.id)?.as_ref().map(name_of_unfinished),
        pc: identity,
        boot,
    })
}
