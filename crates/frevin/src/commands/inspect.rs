//! `frevin inspect`

use clap::Args;
use frevin_core::facts::{DriveKind, Facts, Form};
use frevin_core::setting::PowerSource;
use frevin_ledger::{Ledger, Unfinished, Waiting};
use frevin_pc::{BootId, Pc, PcIdentity};
use serde::Serialize;

use crate::failure::Failure;
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, bad, count, dim, warn};
use crate::workshop::measure::tweaks_in_force;
use crate::workshop::settle::drifted;

/// Show what is known of the PC, and what Frevin has done to it
#[derive(Debug, Args)]
pub(crate) struct InspectArgs {}

/// What is known of a PC.
#[derive(Debug, Serialize)]
pub(crate) struct InspectReport {
    pc: PcIdentity,
    boot: BootId,
    facts: Facts,
    tweaks_in_force: usize,
    settings_held: usize,
    drifted: usize,
    waiting_for_restart: Vec<Waiting>,
    /// What was interrupted and is unfinished.
    unfinished: Option<String>,
}

pub(crate) fn run(session: &Session, _args: &InspectArgs) -> Result<Answer, Failure> {
    Ok(Answer::yes(&inspect(&*session.pc()?, &session.ledger()?)?))
}

/// Inspects a PC.
pub(crate) fn inspect(pc: &dyn Pc, ledger: &Ledger) -> Result<InspectReport, Failure> {
    let identity = pc.identity().clone();
    let boot = pc.boot()?;
    let layers = ledger.layers(&identity.id)?;
    Ok(InspectReport {
        facts: pc.facts()?,
        tweaks_in_force: tweaks_in_force(ledger, &identity.id)?.len(),
        settings_held: layers.iter().count(),
        drifted: drifted(pc, ledger)?.len(),
        waiting_for_restart: ledger.waiting_for_restart(&identity.id, &boot.0)?,
        unfinished: ledger.unfinished(&identity.id)?.map(|unfinished| match unfinished {
            Unfinished::Change(change) => format!("change {} ({})", change.id, change.title),
            Unfinished::Rollback(_) => "a rollback".to_owned(),
        }),
        pc: identity,
        boot,
    })
}

impl Report for InspectReport {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!("{} ({} PC)", self.pc.name, self.pc.kind));
        page.pairs(fact_lines(&self.facts));
        page.blank();
        let mut frevin = vec![
            ("tweaks in force", self.tweaks_in_force.to_string()),
            ("settings held", self.settings_held.to_string()),
        ];
        if self.drifted > 0 {
            frevin.push(("drifted", warn(format_args!("{}, see `frevin drift`", self.drifted))));
        }
        if !self.waiting_for_restart.is_empty() {
            let waiting = count(self.waiting_for_restart.len(), "setting");
            frevin.push(("waiting for a restart", warn(waiting)));
        }
        if let Some(what) = &self.unfinished {
            frevin.push(("unfinished", bad(format_args!("{what}: `frevin recover` settles it"))));
        }
        page.pairs(frevin);
    }
}

fn fact_lines(facts: &Facts) -> Vec<(&'static str, String)> {
    let form = match facts.form {
        Form::Desktop => "desktop",
        Form::Laptop => "laptop",
        Form::Handheld => "handheld",
    };
    let power = match facts.power_source {
        PowerSource::Mains => "on mains",
        PowerSource::Battery => "on battery",
    };
    let windows = &facts.windows;
    let processor = &facts.processor;
    let memory = &facts.memory;
    let mut lines = vec![
        ("form", format!("{form}, {power}")),
        (
            "system",
            format!("Windows {} {}, build {}", windows.release, windows.edition, windows.build),
        ),
        (
            "processor",
            format!("{}, {} cores, {} threads", processor.name, processor.cores, processor.threads),
        ),
        (
            "memory",
            format!(
                "{} GiB, {} MT/s of {} MT/s rated",
                memory.size_mib / 1024,
                memory.actual_mt_s,
                memory.rated_mt_s
            ),
        ),
    ];
    lines.extend(facts.graphics.iter().map(|card| {
        let kind = if card.is_discrete { "discrete" } else { "integrated" };
        let memory = card.video_memory_mib / 1024;
        let driver = format!("driver {} of {}", card.driver_version, card.driver_date);
        ("graphics", format!("{}, {kind}, {memory} GiB, {driver}", card.name))
    }));
    lines.extend(facts.displays.iter().map(|display| {
        let mode =
            format!("{}x{} at {} Hz", display.width_px, display.height_px, display.refresh_hz);
        let highest = dim(format_args!("of {} Hz offered", display.highest_refresh_hz));
        ("display", format!("{}, {mode} {highest}", display.name))
    }));
    lines.extend(facts.drives.iter().map(|drive| {
        let kind = match drive.kind {
            DriveKind::SolidState => "solid-state",
            DriveKind::Spinning => "spinning",
        };
        let system = if drive.is_system { ", system" } else { "" };
        let space = format!("{} of {} GiB free", drive.free_gib, drive.size_gib);
        ("drive", format!("{} {kind}{system}, {space}", drive.letter))
    }));
    lines.extend(facts.adapters.iter().map(|adapter| {
        let kind = if adapter.is_wireless { "wireless" } else { "cable" };
        ("network", format!("{}, {kind}, {} Mbit/s", adapter.name, adapter.link_mbit_s))
    }));
    let used = [
        ("printer", facts.uses.printer),
        ("virtual machines", facts.uses.virtual_machines),
        ("recording", facts.uses.recording),
        ("file search", facts.uses.file_search),
    ];
    let used: Vec<_> = used.iter().filter(|(_, is_used)| *is_used).map(|(name, _)| *name).collect();
    lines.push(("owner uses", used.join(", ")));
    lines
}
