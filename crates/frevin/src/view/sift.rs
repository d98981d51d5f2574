//! Sifts as they are shown.

use std::time::Duration;

use frevin_core::preview::LeftOut;
use frevin_core::sift::{Effect, Found, FoundTweak, SiftInPlay, SiftProgress};
use frevin_core::trial::in_play::Unjudged;
use frevin_core::verdict::{Judge, Verdict};
use schemars::JsonSchema;
use serde::Serialize;

use super::trial::{PLAY_AS_ALWAYS, reason_in_words};
use super::verdict::{judged_heading, verdict_in_words};
use super::{Page, Table, bad, count, dim, duration, good, percent, strong, warn, when};
use crate::operations::sift::{PlayedReport, SiftBeginning, SiftList, SiftReport};
use crate::operations::trial::Stopped;
use crate::outcome::View;

/// How far a sift is.
#[derive(Debug, JsonSchema, Serialize)]
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
            SiftProgress::Measuring => match report.in_play {
                None => "configurations are measured".to_owned(),
                Some(_) => "it goes on while you play".to_owned(),
            },
            SiftProgress::Decided => "it is decided; what helped is tried next".to_owned(),
            SiftProgress::InTrial => "what helped is tried against the PC as it was".to_owned(),
            SiftProgress::Paused => "it is put off; the PC is what it was".to_owned(),
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
            match &report.in_play {
                None => (
                    "measured",
                    format!("{} of at most {}", report.configurations, report.most_configurations),
                ),
                Some(played) => ("played", played_in_words(played)),
            },
        ];
        if report.progress != SiftProgress::Ended {
            pairs.push(("next", next.to_owned()));
            let still = duration(Duration::from_secs(report.most_seconds_still));
            pairs.push(("takes", format!("{still} more at most, with the trial at its end")));
        }
        page.pairs(pairs);
        if !report.tweaks.is_empty() && report.progress == SiftProgress::Measuring {
            page.heading("So far: no reason to stop");
            show_tweaks(&report.tweaks, report.in_play.as_ref(), report.judge, page);
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
        let none = match &self.in_play {
            None => "worth having".to_owned(),
            Some(played) => format!("of {:.0} %", played.smallest_effect_percent),
        };
        let counts = format!(
            "{} of {} help, {} hurt, {} have no effect {none}, {} unclear.",
            of(Found::Helps),
            self.tweak_count,
            of(Found::Hurts),
            of(Found::NoEffect),
            of(Found::Unclear)
        );
        page.line(strong(counts));
        match &self.in_play {
            None => self.show_cost(page),
            Some(played) => show_play(played, page),
        }
        page.blank();
        show_tweaks(&self.tweaks, self.in_play.as_ref(), self.judge, page);
        let unclear = of(Found::Unclear);
        let is_out = self.in_play.is_none() && self.configurations >= self.most_configurations;
        if unclear > 0 && is_out {
            page.paragraph(
                2,
                "Unclear: neither sure to matter nor sure not to, after as many configurations as there may be. \
                 A trial of it alone tells more.",
            );
        }
        show_left_out(&self.left_out, page);
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
    /// What it took, and what one tweak at a time would have.
    fn show_cost(&self, page: &mut Page) {
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
    }

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
                // What a profile is made from is evidence, which is of frame rates.
                if verdict == Verdict::Better && self.judge == Judge::FrameRate {
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
            // It is the part of an evening that was played.
            (_, _, None) if !self.helped.is_empty() => {
                page.line(format_args!(
                    "What helped ({helped}) is tried with what helps of the rest of its evening."
                ));
                page.pairs([("the evening", "frevin tune status")]);
            }
            (_, _, None) => page.line("Nothing helped, and nothing is in force of it."),
        }
    }
}

fn played_in_words(played: &PlayedReport) -> String {
    let sittings = match played.sittings {
        1 => String::new(),
        several => format!(" in {several} sittings"),
    };
    format!("{:.0} min{sittings}, {}", played.minutes, count(played.segments, "segment"))
}

/// How it was played, and what that leaves open.
fn show_play(played: &PlayedReport, page: &mut Page) {
    let PlayedReport { pairs, pairs_dropped, smallest_effect_percent, settling_s, .. } = played;
    page.line(dim(format_args!(
        "{}, each another configuration; {pairs} pairs of opposite ones, {pairs_dropped} dropped.",
        played_in_words(played)
    )));
    page.line(dim(format_args!(
        "It had to be sure about {smallest_effect_percent:.0} % and more, of what sets in within {settling_s:.0} s."
    )));
    match played.unjudged {
        Some(Unjudged::Capped) => page.line(warn(
            "Nothing is told: frames were capped too often. Take the limit off, and sift again.",
        )),
        Some(Unjudged::TooMuchIsNoPlay | Unjudged::SettlesTooSlowly) => page.line(warn(
            "Nothing is told: over a quarter of the pairs were menus, loading or pauses.",
        )),
        None if !played.is_sorted => page.line(warn(
            "Not all is sorted after as much play as there may be: a trial of what is unclear tells more.",
        )),
        None => {}
    }
}

fn found_in_words(found: Found, played: Option<&PlayedReport>) -> String {
    match found {
        Found::Helps => good("helps"),
        Found::Hurts => bad("hurts"),
        Found::NoEffect => dim(match played {
            None => "no effect worth having".to_owned(),
            Some(played) => format!("no effect of {:.0} %", played.smallest_effect_percent),
        }),
        Found::Unclear => warn("unclear"),
    }
}

/// What of the profile is not sifted.
fn show_left_out(left_out: &[LeftOut], page: &mut Page) {
    for LeftOut { used, reasons } in left_out {
        page.paragraph(2, &dim(format_args!("left out: {used} ({})", reasons.join("; "))));
    }
}

/// What was found of each tweak, the most helpful first.
fn show_tweaks(
    tweaks: &[FoundTweak],
    played: Option<&PlayedReport>,
    judge: Judge,
    page: &mut Page,
) {
    let mut in_order: Vec<&FoundTweak> = tweaks.iter().collect();
    in_order.sort_by(|a, b| b.effect_percent.total_cmp(&a.effect_percent));
    if judge.primaries()[0].is_less_better() {
        in_order.reverse();
    }
    let mut table = Table::new(["tweak", judged_heading(judge), ">interval", ">sure", "found"]);
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
            found_in_words(tweak.found, played),
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
        let mut table =
            Table::new([">sift", "begun", "of", "scene", ">tweaks", "measured", "came of it"]);
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
                match &sift.in_play {
                    None => count(sift.configurations, "configuration"),
                    Some(played) => format!("{:.0} min of play", played.minutes),
                },
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
    show_left_out(&design.left_out, page);
    if let Some(in_play) = &design.in_play {
        return show_beginning_in_play(begin, in_play, page);
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

/// What a sift in play will do.
fn show_beginning_in_play(begin: &SiftBeginning<'_>, in_play: &SiftInPlay, page: &mut Page) {
    let SiftInPlay { play, smallest_effect, .. } = in_play;
    let tweaks = begin.sifted.design.tweaks.len();
    let expected = begin.sifted.expected;
    let mut pairs = vec![
        ("tweaks", format!("{tweaks}, about half of them on at a time")),
        (
            "each segment",
            format!(
                "{:.0} s, of which the first {:.0} s are not judged",
                play.segment_s(0),
                play.settling_s(0)
            ),
        ),
        ("sure about", format!("{:.0} % and more", 100.0 * smallest_effect.share())),
        ("then", "a trial in play of what helped; better stays".to_owned()),
        (
            "takes",
            format!(
                "{} of play at least, {} as most do, {} at most",
                duration(expected.least),
                duration(expected.typical),
                duration(expected.most)
            ),
        ),
    ];
    if let Some(period) = play.loop_s {
        pairs.push((
            "repeats",
            format!("every {period:.1} s: the same place of two passes is compared"),
        ));
    }
    page.pairs(pairs);
    if begin.is_simulated {
        page.line(dim("  Times are those of a real PC; a rehearsal PC plays them at once."));
    }
    page.paragraph(2, PLAY_AS_ALWAYS);
}
