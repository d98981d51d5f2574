//! Evenings as they are shown.

use std::collections::BTreeMap;
use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_core::preview::LeftOut;
use frevin_core::sift::{Evening, Found, SiftProgress};
use frevin_core::tune::EveningPlan;
use schemars::JsonSchema;
use serde::Serialize;

use super::trial::reason_in_words;
use super::{Page, Table, count, dim, duration, good, percent, strong, warn};
use crate::operations::trial::Stopped;
use crate::operations::tune::{KeptTweak, TuneReport};
use crate::outcome::View;

/// An evening before it begins.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct EveningBeginning {
    pub(crate) scene: SceneName,
    pub(crate) title: String,
    pub(crate) restarts: bool,
    #[serde(flatten)]
    pub(crate) evening: Evening,
    pub(crate) left_out: Vec<LeftOut>,
    /// What is plainly wrong with the PC, which is mended first.
    pub(crate) findings: usize,
    #[serde(skip)]
    pub(crate) is_simulated: bool,
}

impl View for EveningBeginning {
    fn show(&self, page: &mut Page) {
        show_beginning(self, page);
    }
}

/// An evening that is going on, or has ended.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct TuneShown {
    #[serde(flatten)]
    pub(crate) report: TuneReport,
    #[serde(skip)]
    pub(crate) stopped: Option<Stopped>,
}

fn minutes(minutes: f64) -> String {
    duration(Duration::from_secs_f64(60.0 * minutes))
}

/// What will be done, how long each part takes, and how small an effect it finds.
pub(crate) fn show_beginning(begin: &EveningBeginning, page: &mut Page) {
    let EveningBeginning { scene, title, .. } = begin;
    let evening = &begin.evening;
    let EveningPlan { asked, not_asked, run_seconds, rows, sift_s, trial_s, .. } = &evening.plan;
    page.heading(format_args!(
        "An evening of {}: what of {title} helps in {scene}?",
        duration(Duration::from_secs(evening.budget_s))
    ));
    if begin.findings > 0 {
        page.line(warn(format_args!(
            "{} plainly wrong with this PC: `frevin inspect` says how to mend that first.",
            match begin.findings {
                1 => "1 thing is".to_owned(),
                several => format!("{several} things are"),
            }
        )));
        page.blank();
    }
    let each = match begin.restarts {
        true => format!("a restart, a run to warm up and one of {run_seconds} s"),
        false => format!("a run of {run_seconds} s"),
    };
    page.pairs([
        (
            "first",
            format!(
                "{} asked about at once, in at most {rows} configurations ({each}): {} at most",
                match asked.len() {
                    1 => "1 tweak is".to_owned(),
                    several => format!("{several} tweaks are"),
                },
                duration(Duration::from_secs(*sift_s))
            ),
        ),
        (
            "then",
            format!(
                "what helped is tried together against the PC as it is: {} at most",
                duration(Duration::from_secs(*trial_s))
            ),
        ),
        (
            "finds",
            format!(
                "effects of {} and more, in four of five cases",
                percent(evening.plan.smallest_effect_percent / 100.0).trim_start_matches('+')
            ),
        ),
        ("keeps", "what is better, as a profile; all else is taken back exactly".to_owned()),
    ]);
    if begin.is_simulated {
        page.line(dim(
            "A rehearsal PC plays all of it in a moment; the times are those of a real one.",
        ));
    }
    page.blank();
    let mut table = Table::new(["asked about", ">expected", ">may be"]);
    for question in asked {
        let belief = question.belief;
        table.row([
            question.used.to_string(),
            percent(question.expected_gain.exp_m1()),
            format!(
                "{} to {}",
                percent((belief.mean - 2.0 * belief.spread).exp_m1()),
                percent((belief.mean + 2.0 * belief.spread).exp_m1())
            ),
        ]);
    }
    page.table(table);
    if !not_asked.is_empty() {
        let names: Vec<String> = not_asked.iter().map(|one| one.used.to_string()).collect();
        page.paragraph(
            2,
            &dim(format_args!("not this time ({}): {}", names.len(), names.join(", "))),
        );
    }
    let mut left_out: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for LeftOut { used, reasons } in &begin.left_out {
        left_out.entry(reasons.join("; ")).or_default().push(used.to_string());
    }
    for (reason, names) in left_out {
        page.paragraph(2, &dim(format_args!("left out: {} ({reason})", names.join(", "))));
    }
}

impl View for TuneShown {
    fn show(&self, page: &mut Page) {
        let TuneReport { tune, scene, title, budget_minutes, spent_minutes, .. } = &self.report;
        page.heading(format_args!("Evening {tune}: what of {title} helps in {scene}?"));
        if self.report.is_given_up {
            page.line("It was given up; the PC is what it was before it.");
            return;
        }
        let time = format!("{} of {}", minutes(*spent_minutes), minutes(*budget_minutes));
        if self.report.progress == SiftProgress::Ended {
            self.show_end(page, &time);
        } else {
            self.show_progress(page, time);
        }
    }
}

impl TuneShown {
    fn show_progress(&self, page: &mut Page, time: String) {
        let far = match self.report.progress {
            SiftProgress::Introducing | SiftProgress::Measuring => {
                "configurations are measured".to_owned()
            }
            SiftProgress::Decided | SiftProgress::InTrial => {
                "what helped is tried together against the PC as it was".to_owned()
            }
            SiftProgress::GivenUp => warn("it is given up, and the PC is not yet put back"),
            SiftProgress::Ended => String::new(),
        };
        let next = match self.stopped {
            Some(Stopped::Restarting) => {
                "the PC restarts within a minute (`shutdown /a` stops that); sign in, and it goes on by itself"
            }
            Some(Stopped::ForRestart) => "restart the PC, then `frevin tune resume`",
            Some(Stopped::Resting | Stopped::Ended) | None => "`frevin tune resume`",
        };
        page.pairs([
            ("it", far),
            ("spent", time),
            ("next", next.to_owned()),
            ("or", "`frevin tune abandon` puts the PC back to what it was".to_owned()),
        ]);
    }

    fn show_end(&self, page: &mut Page, time: &str) {
        let report = &self.report;
        match (&report.gain_percent, report.kept.is_empty()) {
            (Some(gain), false) => page.line(good(format_args!(
                "{} average FPS in {} ({} to {}), proven in turns against the PC as it was.",
                percent(gain.estimate / 100.0),
                report.scene,
                percent(gain.low / 100.0),
                percent(gain.high / 100.0)
            ))),
            (_, _) => page.line(strong(match report.reason {
                Some(reason) => {
                    format!(
                        "Nothing is kept, and all is taken back exactly: {}.",
                        reason_in_words(reason)
                    )
                }
                None => "Nothing helped, and nothing is in force of it.".to_owned(),
            })),
        }
        if report.is_taken_back_since {
            page.line(warn("It was taken back since then."));
        }
        page.line(dim(format_args!("It took {time}.")));
        if !report.kept.is_empty() {
            page.blank();
            let mut table = Table::new(["kept", ">average FPS", ">interval"]);
            let share = |of: f64| percent(of / 100.0);
            for KeptTweak { used, effect_percent, low_percent, high_percent } in &report.kept {
                table.row([
                    used.to_string(),
                    share(*effect_percent),
                    format!("{} to {}", share(*low_percent), share(*high_percent)),
                ]);
            }
            page.table(table);
        }
        page.blank();
        let of = |found: Found| {
            let of: Vec<String> = report
                .found
                .iter()
                .filter(|tweak| tweak.found == found)
                .map(|tweak| tweak.used.to_string())
                .collect();
            (!of.is_empty()).then(|| format!("{}: {}", of.len(), of.join(", ")))
        };
        let mut pairs: Vec<(&str, String)> = Vec::new();
        pairs.extend(of(Found::Hurts).map(|of| ("hurt", of)));
        pairs.extend(of(Found::NoEffect).map(|of| ("did nothing", of)));
        pairs.extend(of(Found::Unclear).map(|of| ("unclear", of)));
        let not_asked = report.plan.not_asked.len();
        if not_asked > 0 {
            let tweaks = count(not_asked, "tweak");
            pairs.push(("not asked", format!("{tweaks}, of which less was expected")));
        }
        page.pairs(pairs);
        page.heading("And now");
        let mut next: Vec<(&str, String)> = Vec::new();
        if let Some(profile) = &report.profile {
            next.push(("its profile", format!("frevin profile show {profile}")));
        }
        if let Some(trial) = report.trial {
            next.push(("a page to show", format!("frevin report trial {trial}")));
        }
        next.push(("each tweak", format!("frevin sift show {}", report.tune)));
        if let Some(change) = report.change {
            next.push(("take it back", format!("frevin rollback {change}")));
        }
        page.pairs(next);
    }
}
