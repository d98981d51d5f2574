//! Sifts as they are shown.

use std::time::Duration;

use frevin_core::sift::{Effect, Found, FoundTweak, SiftProgress};
use frevin_core::verdict::Verdict;
use serde::Serialize;

use super::trial::reason_in_words;
use super::verdict::verdict_in_words;
use super::{Page, Table, bad, count, dim, duration, good, percent, strong, warn, when};
use crate::operations::sift::{SiftBeginning, SiftList, SiftReport};
use crate::operations::trial::Stopped;
use crate::outcome::View;

/// How far a sift is.
#[derive(Debug, Serialize)]
pub(crate) struct SiftStatus {
    #[serde(flatten)]
    pub(crate) report: SiftReport,
    #[serde(skip)]
    pub(crate) stopped: Option<Stopped>,
}

impl View for SiftStatus {
    fn show(&self, page: &mut Page) {
        let report = &self.report;
        let SiftReport { sift, title, scene, .. } = report;
        page.heading(format_args!("Sift {sift}: which of {title} matter in {scene}?"));
        let far = match report.progress {
            SiftProgress::Introducing => {
                "tweaks for experts are switched on for the first time, a few a start".to_owned()
            }
            SiftProgress::Measuring => "configurations are measured".to_owned(),
            SiftProgress::Decided => "it is decided; what helped is tried next".to_owned(),
            SiftProgress::InTrial => "what helped is tried against the PC as it was".to_owned(),
            SiftProgress::GivenUp => warn("it is given up, and the PC is not yet put back"),
            SiftProgress::Ended => "it is over: `frevin sift show`".to_owned(),
        };
        let next = match self.stopped {
            Some(Stopped::Restarting) => {
                "the PC restarts within a minute (`shutdown /a` stops that); sign in, and it goes on by itself"
            }
            Some(Stopped::ForRestart) => "restart the PC, then `frevin sift resume`",
            Some(Stopped::Resting | Stopped::Ended) | None => "`frevin sift resume`",
        };
        let mut pairs = vec![
            ("it", far),
            (
                "measured",
                format!("{} of at most {}", report.configurations, report.most_configurations),
            ),
        ];
        if report.progress != SiftProgress::Ended {
            pairs.push(("next", next.to_owned()));
            let still = duration(Duration::from_secs(report.most_seconds_still));
            pairs.push(("takes", format!("{still} more at most, with the trial at its end")));
        }
        page.pairs(pairs);
        if !report.tweaks.is_empty() && report.progress == SiftProgress::Measuring {
            page.heading("So far: no reason to stop");
            show_tweaks(&report.tweaks, page);
        }
    }
}

impl View for SiftReport {
    fn show(&self, page: &mut Page) {
        let Self { sift, title, scene, .. } = self;
        page.heading(format_args!("Sift {sift}: which of {title} matter in {scene}?"));
        if self.is_given_up {
            page.line("It was given up; the PC is what it was before it.");
            return;
        }
        let of = |found: Found| self.tweaks.iter().filter(|tweak| tweak.found == found).count();
        let counts = format!(
            "{} of {} help, {} hurt, {} have no effect worth having, {} unclear.",
            of(Found::Helps),
            self.tweak_count,
            of(Found::Hurts),
            of(Found::NoEffect),
            of(Found::Unclear)
        );
        page.line(strong(counts));
        let takes = |configurations: usize| {
            let each = Duration::from_secs(self.seconds_a_configuration);
            duration(each * u32::try_from(configurations).unwrap_or(u32::MAX))
        };
        // A rehearsal PC plays in no time what takes a real one hours.
        let took = match self.seconds {
            0..60 => format!("{} on a real PC", takes(self.configurations)),
            seconds => duration(Duration::from_secs(seconds)),
        };
        page.line(dim(format_args!(
            "{}, {took}; one tweak at a time would have taken about {}, {}.",
            count(self.configurations, "configuration"),
            self.one_at_a_time,
            takes(self.one_at_a_time),
        )));
        page.blank();
        show_tweaks(&self.tweaks, page);
        let unclear = of(Found::Unclear);
        if unclear > 0 && self.configurations >= self.most_configurations {
            page.paragraph(
                2,
                "Unclear: neither sure to matter nor sure not to, after as many configurations as there may be. \
                 A trial of it alone tells more.",
            );
        }
        show_readings(&self.tweaks, page);
        if !self.together.is_empty() {
            page.heading("Together they do something else than their effects added up");
            for pair in &self.together {
                page.line(format_args!(
                    "  {} and {}: {} more",
                    pair.first,
                    pair.second,
                    percent(pair.effect_percent / 100.0)
                ));
            }
        }
        page.heading("And now");
        self.show_end(page);
    }
}

impl SiftReport {
    fn show_end(&self, page: &mut Page) {
        let helped = count(self.helped.len(), "tweak");
        match (self.verdict, self.reason, self.trial) {
            (Some(verdict), Some(reason), Some(trial)) => {
                let said = verdict_in_words(verdict);
                let why = reason_in_words(reason);
                page.line(format_args!(
                    "What helped ({helped}) was tried against the PC as it was, in trial {trial}: {said}."
                ));
                page.line(if self.kept {
                    let is = if self.is_taken_back_since { "was" } else { "is" };
                    good(format_args!("It {is} kept: {why}."))
                } else {
                    strong(format_args!("It is taken back, exactly: {why}."))
                });
                if self.is_taken_back_since {
                    page.line(warn("It was taken back since then."));
                }
                if verdict == Verdict::Better {
                    page.pairs([(
                        "as a profile",
                        format!("frevin profile new NAME --from-evidence --scene {}", self.scene),
                    )]);
                }
            }
            (_, _, Some(trial)) => {
                page.line(format_args!("What helped ({helped}) is tried in trial {trial}."));
                page.pairs([("go on", "frevin sift resume")]);
            }
            (_, _, None) => page.line("Nothing helped, and nothing is in force of it."),
        }
    }
}

fn found_in_words(found: Found) -> String {
    match found {
        Found::Helps => good("helps"),
        Found::Hurts => bad("hurts"),
        Found::NoEffect => dim("no effect worth having"),
        Found::Unclear => warn("unclear"),
    }
}

/// What was found of each tweak, the most helpful first.
fn show_tweaks(tweaks: &[FoundTweak], page: &mut Page) {
    let mut in_order: Vec<&FoundTweak> = tweaks.iter().collect();
    in_order.sort_by(|a, b| b.effect_percent.total_cmp(&a.effect_percent));
    let mut table = Table::new(["tweak", ">average FPS", ">interval", ">sure", "found"]);
    for tweak in in_order {
        let share = |percent_: f64| percent(percent_ / 100.0);
        table.row([
            tweak.used.to_string(),
            share(tweak.effect_percent),
            format!("{} to {}", share(tweak.low_percent), share(tweak.high_percent)),
            match tweak.found {
                Found::NoEffect => {
                    format!("{:.0} %", 100.0 * (1.0 - tweak.probability_worth_having))
                }
                Found::Helps | Found::Hurts | Found::Unclear => {
                    format!("{:.0} %", 100.0 * tweak.probability)
                }
            },
            found_in_words(tweak.found),
        ]);
    }
    page.table(table);
}

/// Effects on the 1% low and on stutters, where their intervals are clear of none: for reading alone.
fn show_readings(tweaks: &[FoundTweak], page: &mut Page) {
    let clear = |effect: &Option<Effect>| effect.filter(|one| one.low > 0.0 || one.high < 0.0);
    let rows: Vec<_> = tweaks
        .iter()
        .flat_map(|tweak| {
            let low = clear(&tweak.on_low_1_percent).map(|effect| ("1% low FPS", effect));
            let stutters = clear(&tweak.on_stutters).map(|effect| ("stutters", effect));
            low.into_iter().chain(stutters).map(move |(what, effect)| (tweak, what, effect))
        })
        .collect();
    if rows.is_empty() {
        return;
    }
    page.heading("Also seen, by least squares: for reading, it decides nothing");
    let mut table = Table::new(["tweak", "", ">effect", ">95 % interval"]);
    let share = |ln: f64| percent(ln.exp_m1());
    for (tweak, what, effect) in rows {
        table.row([
            tweak.used.to_string(),
            what.to_owned(),
            share(effect.estimate),
            format!("{} to {}", share(effect.low), share(effect.high)),
        ]);
    }
    page.table(table);
}

impl View for SiftList {
    fn show(&self, page: &mut Page) {
        if self.sifts.is_empty() {
            page.line("No sifts of this PC yet.");
            return;
        }
        let mut table = Table::new([
            ">sift",
            "begun",
            "of",
            "scene",
            ">tweaks",
            ">configurations",
            "came of it",
        ]);
        for sift in &self.sifts {
            let came = match (sift.progress, sift.is_given_up, sift.verdict) {
                (_, true, _) => dim("given up"),
                (SiftProgress::Ended, _, Some(verdict)) => format!(
                    "{}: {}",
                    verdict_in_words(verdict),
                    match (sift.kept, sift.is_taken_back_since) {
                        (true, true) => "taken back since",
                        (true, false) => "kept",
                        (false, _) => "not kept",
                    }
                ),
                (SiftProgress::Ended, _, None) => "nothing helps".to_owned(),
                _ => warn("not over"),
            };
            table.row([
                sift.sift.to_string(),
                when(sift.begun_at),
                sift.title.clone(),
                sift.scene.to_string(),
                sift.tweak_count.to_string(),
                sift.configurations.to_string(),
                came,
            ]);
        }
        page.table(table);
    }
}

/// What a sift will do, before it begins.
pub(crate) fn show_beginning(begin: &SiftBeginning<'_>, page: &mut Page) {
    let sifted = begin.sifted;
    let design = &sifted.design;
    page.heading(format_args!("A sift: which of {} matter in {}?", design.title, design.scene));
    for left_out in &sifted.left_out {
        page.line(dim(format_args!(
            "  left out: {} ({})",
            left_out.used,
            left_out.reasons.join("; ")
        )));
    }
    let each = if design.restarts {
        format!(
            "a restart, one run to warm up, {} of {} s",
            count(design.runs, "run"),
            design.run_seconds
        )
    } else {
        format!("{} of {} s, without restarts", count(design.runs, "run"), design.run_seconds)
    };
    let expected = sifted.expected;
    let mut pairs = vec![
        ("tweaks", format!("{}, about half of them on at a time", design.tweaks.len())),
        ("each configuration", each),
        ("configurations", format!("8 at least, {} at most", design.rule.most_rows)),
        ("then", "a trial of what helped against the PC as it is; better stays".to_owned()),
        (
            "takes",
            format!(
                "{} at least, {} as most sifts do, {} at most",
                duration(expected.least),
                duration(expected.typical),
                duration(expected.most)
            ),
        ),
    ];
    let exclusive = design.exclusive.len();
    if exclusive > 0 {
        pairs.push(("never together", format!("{} of tweaks", count(exclusive, "group"))));
    }
    if sifted.starts_before_rows > 0 {
        pairs.push((
            "for experts",
            format!(
                "{} first, to see that the PC starts with them, at most three new ones in each",
                count(sifted.starts_before_rows, "restart")
            ),
        ));
    }
    if design.restarts_by_itself {
        pairs.push((
            "restarts",
            "by itself: close what you have open; after each, you sign in, and it goes on"
                .to_owned(),
        ));
    }
    if let Some(recording) = &begin.recording {
        pairs.push(("each run", recording.clone()));
    }
    page.pairs(pairs);
    if begin.is_simulated {
        page.line(dim("  Times are those of a real PC; a rehearsal PC plays them at once."));
    }
    if design.restarts {
        page.line(strong("If the PC should not start with one of them:"));
        page.paragraph(
            2,
            &format!(
                "Switch it off while it starts, three times: Windows then offers repair. There choose Troubleshoot, \
                 Advanced options, Startup Settings, and safe mode. In safe mode open the file with the highest number \
                 that ends in .reg in {}, restart, and type `frevin sift abandon`. Write this down now.",
                begin.undo_folder.display()
            ),
        );
    }
}
