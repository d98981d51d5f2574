//! Inspecting a PC: facts, findings, and what Frevin has done to it.

use frevin_core::facts::Facts;
use frevin_core::findings::{Findings, Seen, findings, rules};
use frevin_core::ids::BootId;
use frevin_core::setting::{Address, State, TakesEffect};
use frevin_core::waiting::Waiting;
use frevin_ledger::Ledger;
use frevin_pc::{Pc, PcIdentity};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Serialize;

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
    /// What was interrupted and is unfinished.
    pub(crate) unfinished: Option<String>,
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
    Ok(InspectReport {
        facts,
        findings,
        tweaks_in_force: layers.uses().len(),
        settings_held: layers.iter().count(),
        drifted: drifted(pc, ledger)?.len(),
        waiting,
        unfinished: ledger.unfinished(&identity.id)?.as_ref().map(name_of_unfinished),
        pc: identity,
        boot,
    })
}
