//! What is known of a PC, as it is shown.

use frevin_core::facts::{DriveKind, Facts, FileCheck, Form};
use frevin_core::setting::PowerSource;

use super::cautions::limit_in_words;
use super::evidence::measured_worse_in_words;
use super::{Page, bad, bytes, dim, good, moments_awaited, strong, warn};
use crate::operations::choices::Mending;
use crate::operations::inspect::{FindingHere, InspectReport, SceneLimit};
use crate::outcome::View;

impl View for InspectReport {
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
        if !self.waiting.is_empty() {
            frevin.push(("waiting", warn(moments_awaited(&self.waiting))));
        }
        if let Some(what) = &self.unfinished {
            frevin.push(("unfinished", bad(format_args!("{what}: `frevin recover` finishes it"))));
        }
        page.pairs(frevin);
        for worse in &self.in_force_measured_worse {
            let said = format!("In force, and {}.", measured_worse_in_words(worse));
            page.paragraph_in(2, bad, &said);
            let take_back = format!("frevin rollback --tweak {}", worse.evidence.used.tweak);
            page.pairs([("take it back", take_back)]);
        }
        for SceneLimit { scene, visit, limit } in &self.frame_limits {
            let from = dim(format_args!("(visit {})", visit.0));
            page.paragraph(2, &format!("In {scene}: {} {from}", limit_in_words(limit)));
        }
        if self.findings.found.is_empty() {
            page.line(good("Nothing is plainly wrong with this PC."));
        } else {
            page.heading("Plainly wrong, the most worthwhile first");
        }
        show_findings(&self.findings.found, page);
        if !self.findings.worth_knowing.is_empty() {
            page.heading("Worth knowing: it costs something, and may be wanted so");
            show_findings(&self.findings.worth_knowing, page);
        }
        if !self.facts.unknown.is_empty() {
            page.heading("Not known of this PC");
            for (fact, reason) in &self.facts.unknown {
                page.line(format_args!("  {fact}: {}", dim(reason)));
            }
            page.line(dim("What you know, tell Frevin: `frevin inspect --ask` asks for it."));
        }
        for untold in &self.findings.untold {
            page.line(dim(format_args!("not told: {} ({})", untold.id, untold.reason)));
        }
    }
}

fn show_findings(findings: &[FindingHere], page: &mut Page) {
    for FindingHere { finding, mending } in findings {
        page.line(format_args!("  {}", strong(&finding.title)));
        page.paragraph(4, &finding.evidence);
        page.paragraph(4, &finding.why);
        if let Some(Mending { command, to_choose }) = mending {
            page.line(format_args!("    → {} {command}", dim("mend it:")));
            if let (Some(tweak), false) = (&finding.tweak, to_choose.is_empty()) {
                let names = dim("the names there are:");
                page.line(format_args!("      {names} frevin tweak show {tweak}"));
            }
        }
        if let Some(by_hand) = &finding.by_hand {
            page.paragraph(4, &format!("→ {by_hand}"));
        }
    }
}

fn fact_lines(facts: &Facts) -> Vec<(&'static str, String)> {
    let form = match facts.form {
        Some(Form::Desktop) => "desktop",
        Some(Form::Laptop) => "laptop",
        Some(Form::Handheld) => "handheld",
        None => "a PC of unknown form",
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
            format!(
                "Windows {} {}, build {}",
                windows.release,
                windows.edition.as_deref().unwrap_or("of an unknown edition"),
                windows.build
            ),
        ),
        ("processor", {
            let mixed = if processor.mixed_cores == Some(true) { ", fast and frugal" } else { "" };
            let held = processor
                .sustained_mhz
                .map_or_else(String::new, |mhz| format!(", holds {mhz} MHz"));
            let (name, cores, threads) = (&processor.name, processor.cores, processor.threads);
            format!("{name}, {cores} cores{mixed}, {threads} threads{held}")
        }),
        (
            "memory",
            match (memory.actual_mt_s, memory.rated_mt_s) {
                (Some(actual), Some(rated)) => {
                    format!("{} GiB, {actual} MT/s of {rated} MT/s rated", memory.size_mib / 1024)
                }
                _ => format!("{} GiB", memory.size_mib / 1024),
            },
        ),
    ];
    lines.extend(windows.file_check.map(|FileCheck { on, repaired, not_repaired }| {
        let found = match (repaired, not_repaired) {
            (0, 0) => "whole".to_owned(),
            _ => format!("{repaired} repaired, {not_repaired} left broken"),
        };
        ("own files", format!("{found}, checked on {on}"))
    }));
    lines.extend(facts.guards.iter().map(|guard| {
        let held = dim("what belongs to it is never switched off");
        ("guarded by", format!("{}, {held}", guard.name))
    }));
    lines.extend(facts.graphics.iter().map(|card| {
        let kind = card.is_discrete.map(|is| if is { "discrete" } else { "integrated" });
        let memory = card.video_memory_mib.map(|mib| bytes(mib << 20));
        let driver = match (&card.driver_version, card.driver_date) {
            (Some(version), Some(date)) => Some(format!("driver {version} of {date}")),
            (Some(version), None) => Some(format!("driver {version}")),
            (None, _) => None,
        };
        let parts = [Some(card.name.clone()), kind.map(str::to_owned), memory, driver];
        ("graphics", parts.into_iter().flatten().collect::<Vec<_>>().join(", "))
    }));
    lines.extend(facts.displays.iter().map(|display| {
        let mode =
            format!("{}x{} at {} Hz", display.width_px, display.height_px, display.refresh_hz);
        let highest = dim(format_args!("of {} Hz offered", display.highest_refresh_hz));
        ("display", format!("{}, {mode} {highest}", display.name))
    }));
    lines.extend(facts.drives.iter().map(|drive| {
        let kind = match drive.kind {
            Some(DriveKind::SolidState) => "solid-state",
            Some(DriveKind::Spinning) => "spinning",
            None => "of unknown kind",
        };
        let system = if drive.is_system { ", system" } else { "" };
        let space = format!("{} of {} GiB free", drive.free_gib, drive.size_gib);
        ("drive", format!("{} {kind}{system}, {space}", drive.letter))
    }));
    lines.extend(facts.adapters.iter().map(|adapter| {
        let kind = if adapter.is_wireless { "wireless" } else { "cable" };
        let link =
            adapter.link_mbit_s.map_or("no link".to_owned(), |speed| format!("{speed} Mbit/s"));
        ("network", format!("{}, {kind}, {link}", adapter.name))
    }));
    if !facts.games.is_empty() {
        let games: Vec<&str> = facts.games.iter().map(|game| game.name.as_str()).collect();
        lines.push(("games", games.join(", ")));
    }
    let load = [
        (facts.load.processes, "processes"),
        (facts.load.services_running, "services"),
        (facts.load.starts_with_pc, "things start with it"),
    ];
    let load: Vec<String> =
        load.into_iter().filter_map(|(number, what)| Some(format!("{} {what}", number?))).collect();
    if !load.is_empty() {
        lines.push(("runs", load.join(", ")));
    }
    let used = [
        ("printer", facts.uses.printer),
        ("virtual machines", facts.uses.virtual_machines),
        ("recording", facts.uses.recording),
        ("file search", facts.uses.file_search),
        ("touch or pen", facts.uses.touch_or_pen),
        ("camera", facts.uses.camera),
        ("Bluetooth", facts.uses.bluetooth),
        ("another anti-virus", facts.uses.other_antivirus),
        ("reaching it from afar", facts.uses.remote_desktop),
        ("file sharing", facts.uses.file_sharing),
        ("scanner", facts.uses.scanner),
        ("face or finger", facts.uses.biometrics),
        ("store games", facts.uses.store_games),
        ("game bar", facts.uses.game_bar),
        ("location", facts.uses.location),
    ];
    let used: Vec<_> =
        used.iter().filter(|(_, is_used)| *is_used == Some(true)).map(|(name, _)| *name).collect();
    lines.push(("owner uses", used.join(", ")));
    lines
}
