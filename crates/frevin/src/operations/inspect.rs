//! Inspecting a PC: facts, findings, and what Frevin has done to it.

use std::collections::BTreeMap;

use frevin_core::facts::Facts;
use frevin_core::findings::{Findings, Seen, findings, rules};
use frevin_core::ids::{BootId, PcId, SceneName};
use frevin_core::setting::{Address, State, TakesEffect};
use frevin_core::tweak::TweakId;
use frevin_core::visits::{FrameLimit, VisitId, VisitRecord, VisitStatus, limit_of_runs};
use frevin_core::waiting::Waiting;
use frevin_ledger::{Ledger, VisitFilter};
use frevin_pc::{Pc, PcIdentity};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Serialize;

use super::evidence::{ToldEvidence, measured_worse, told};
use super::name_of_unfinished;
use super::resolve_drift::drifted;
use super::waiting::waiting;
use crate::context::Context;
use crate::failure::Failure;

/// What is known of a PC.
#[derive(Debug, Serialize)]
pub(crate) struct InspectReport {
    pub(crate) pc: PcIdentity,
    pub(crate) boot: BootId,
    pub(crate) facts: Facts,
    #[serde(flatten)]
    pub(crate) findings: Findings,
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

/// What limits the frames of a scene on this PC.
#[derive(Debug, Serialize)]
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
    let findings = findings(
        &rules()?,
        &Seen {
            facts: &facts,
            read: &|address: &Address| {
                pc.read(address).unwrap_or_else(|error| State::Unreadable(error.to_string()))
            },
            values_of: &|key| pc.values_of(key).unwrap_or_default(),
            waiting_for_restart: waiting
                .iter()
                .filter(|one| one.waits_for == TakesEffect::Restart)
                .count(),
            today: today(context),
        },
    );
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
