//! Evenings as they are shown.

use std::collections::BTreeMap;
use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_core::preview::LeftOut;
use frevin_core::sift::{Found, SiftId, SiftProgress};
use frevin_core::trial::Reason;
use frevin_core::tune::{Belief, EveningPlan, Goal};
use frevin_core::verdict::Judge;
use schemars::JsonSchema;
use serde::Serialize;

use super::cautions::limit_in_words;
use super::evidence::age_in_words;
use super::trial::reason_in_words;
use super::verdict::{judged_heading, judged_in_words, veto_in_words};
use super::{Page, Table, count, dim, duration, good, percent, strong, warn};
use crate::operations::trial::Stopped;
use crate::operations::tune::{EveningBeginning, KeptTweak, Opening, TuneReport};
use crate::outcome::View;

impl View for EveningBeginning {
    fn show(&self, page: &mut Page) {
        show_beginning(self, page);
    }
}

/// Whoever drives an evening was asked to put it off.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct PauseAsked {
    pub(crate) tune: SiftId,
}

impl View for PauseAsked {
    fn show(&self, page: &mut Page) {
        page.line(
            "Another window works on it, and was asked to put it off after the run that it is at.",
        );
        page.line("`frevin tune status` says when it has; `frevin tune resume` goes on.");
    }
}

/// An evening that is going on, or has ended.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct TuneShown {
    #[serde(flatten)]
    pub(crate) report: TuneReport,
    #[serde(skip)]
    pub(crate) stands: Stands,
}

/// Who goes on with an evening that has not ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stands {
    /// This command did, and stopped.
    Stopped(Stopped),
    /// Another window does.
    InAnotherWindow,
    /// Nobody does.
    Waiting,
}

/// What an evening asks.
fn question(goal: Goal, title: &str, scene: &SceneName) -> String {
    match goal {
        Goal::Frames => format!("what of {title} helps in {scene}?"),
        Goal::Ping => format!("what of {title} makes answers come sooner in {scene}?"),
        Goal::Latency => format!("what of {title} lowers latency in {scene}?"),
        Goal::Quiet => format!("what of {title} costs no frames in {scene}?"),
    }
}

fn keeps(goal: Goal) -> &'static str {
    match goal {
        Goal::Frames | Goal::Ping | Goal::Latency => {
            "what is better, as a profile; all else is taken back exactly"
        }
        Goal::Quiet => {
            "what is shown to cost no frames, as a profile; all else is taken back exactly"
        }
    }
}

/// Where the effect is believed to be: two standard deviations either way.
fn likely_in_words(judge: Judge, belief: Belief) -> String {
    let mut ends = [-2.0, 2.0].map(|reach| judge.change_of(belief.mean + reach * belief.spread));
    ends.sort_by(f64::total_cmp);
    format!("{} to {}", percent(ends[0]), percent(ends[1]))
}

fn tweaks_are(several: usize) -> String {
    match several {
        1 => "1 tweak is".to_owned(),
        several => format!("{several} tweaks are"),
    }
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
        "An evening of {}: {}",
        duration(Duration::from_secs(evening.budget_s)),
        question(evening.goal, title, scene)
    ));
    let judge = evening.goal.judge();
    show_opening(begin, page);
    let each = match begin.restarts {
        true => format!("a restart, a run to warm up and one of {run_seconds} s"),
        false => format!("a run of {run_seconds} s"),
    };
    let mut steps: Vec<(&str, String)> = Vec::new();
    if evening.looks_first {
        steps.push(("look", "a run tells what limits the frames".to_owned()));
    }
    if let Some(play) = &evening.plan.in_play {
        steps.push((
            "play",
            format!(
                "{} asked about while you play, switched every few seconds: {} of play at most. Effects of {:.0} % and more \
                 are found so; what may be a smaller one is asked about again",
                tweaks_are(play.asked.len()),
                duration(Duration::from_secs_f64(play.most_play_s)),
                play.smallest_effect_percent,
            ),
        ));
    }
    if !asked.is_empty() {
        steps.push((
            "ask",
            format!(
                "{} asked about at once, in at most {rows} configurations ({each}): {} at most",
                tweaks_are(asked.len()),
                duration(Duration::from_secs(*sift_s))
            ),
        ));
    }
    steps.push((
        "prove",
        format!(
            "{} is tried together against the PC as it came: {} at most",
            match evening.goal {
                Goal::Frames | Goal::Ping | Goal::Latency => "what helped",
                Goal::Quiet => "what costs none",
            },
            duration(Duration::from_secs(*trial_s))
        ),
    ));
    if !asked.is_empty() {
        steps.push((
            "find",
            format!(
                "effects of {} and more on {}, in four of five cases",
                percent(evening.plan.smallest_effect_percent / 100.0).trim_start_matches('+'),
                judged_in_words(judge)
            ),
        ));
    }
    steps.push(("keep", keeps(evening.goal).to_owned()));
    page.pairs(steps);
    if begin.is_simulated {
        page.line(dim(
            "A rehearsal PC plays all of it in a moment; the times are those of a real one.",
        ));
    }
    page.blank();
    let expected = match evening.goal {
        Goal::Frames | Goal::Ping | Goal::Latency => ">expected",
        // What it is expected to be worth is no frame rate.
        Goal::Quiet => ">costs none",
    };
    let in_play = evening.plan.in_play.as_ref().map(|play| ("asked about in play", &play.asked));
    let in_runs = match in_play {
        Some(_) => "asked about in runs",
        None => "asked about",
    };
    let groups = in_play.into_iter().chain([(in_runs, asked)]);
    for (title, questions) in groups.filter(|(_, questions)| !questions.is_empty()) {
        let mut table = Table::new([title, expected, ">may be"]);
        for question in questions {
            let belief = question.belief;
            table.row([
                question.used.to_string(),
                match evening.goal {
                    Goal::Frames | Goal::Ping | Goal::Latency => {
                        percent(judge.change_of(question.expected_gain))
                    }
                    Goal::Quiet => {
                        format!("{:.0} %", 100.0 * question.belief.chance_of_no_cost(0.0))
                    }
                },
                likely_in_words(judge, belief),
            ]);
        }
        page.table(table);
    }
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

/// What is plainly wrong with the PC, and what is done about it first.
fn show_opening(begin: &EveningBeginning, page: &mut Page) {
    if let Some(change) = begin.taken_back_first {
        let because: Vec<&str> = begin.because.iter().map(|age| age_in_words(*age)).collect();
        page.paragraph(
            0,
            &format!(
                "Asked again, for {}. Change {change}, which holds what was kept, is taken back first; what still helps is kept \
                 again.",
                because.join(", ")
            ),
        );
        page.blank();
    }
    let Opening { mends, by_hand } = &begin.opening;
    if !mends.is_empty() {
        page.line(strong("Plainly wrong, and mended first"));
        for mend in mends {
            page.paragraph(2, &format!("{} ({})", mend.evidence, mend.used));
        }
        page.blank();
    }
    if !by_hand.is_empty() {
        page.line(warn("Only you can mend this, and had better before anything is measured"));
        for one in by_hand {
            let how = one.mending.as_ref().map(|mending| format!(": {}", mending.command));
            page.paragraph(2, &format!("{}{}", one.finding.title, how.unwrap_or_default()));
        }
        page.blank();
    }
}

impl View for TuneShown {
    fn show(&self, page: &mut Page) {
        let TuneReport { tune, scene, title, budget_minutes, spent_minutes, .. } = &self.report;
        let question = question(self.report.goal, title, scene);
        page.heading(format_args!("Evening {tune}: {question}"));
        if self.report.is_given_up {
            page.line(match self.report.mended.is_empty() {
                true => "It was given up; the PC is what it was before it.".to_owned(),
                false => warn("It is given up, and what was mended before it is still to be taken back: `frevin tune abandon`"),
            });
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
        // Of one that was played first and is asked in runs by now, the play is over.
        let played = self.report.played.as_ref().filter(|_| self.report.is_in_play);
        let far = match self.report.progress {
            SiftProgress::Measuring | SiftProgress::Decided if let Some(played) = played => {
                let most_s = self.report.plan.in_play.as_ref().map_or(0.0, |play| play.most_play_s);
                format!(
                    "played {} of at most {}; the rest is asked about in runs",
                    minutes(played.minutes),
                    minutes(most_s / 60.0)
                )
            }
            SiftProgress::Introducing | SiftProgress::Measuring => {
                format!(
                    "configuration {} of at most {}",
                    self.report.configurations + 1,
                    self.report.plan.rows
                )
            }
            SiftProgress::Decided | SiftProgress::InTrial => {
                "what helped is tried together against the PC as it came".to_owned()
            }
            SiftProgress::Paused => {
                "it is put off, with nothing in force that is not proven".to_owned()
            }
            SiftProgress::GivenUp => warn("it is given up, and the PC is not yet put back"),
            SiftProgress::Ended => String::new(),
        };
        let next = match self.stands {
            Stands::Stopped(Stopped::Restarting) => {
                "the PC restarts within a minute (`shutdown /a` stops that); sign in, and it goes on by itself"
            }
            Stands::Stopped(Stopped::ForRestart) => "restart the PC, then `frevin tune resume`",
            Stands::InAnotherWindow => "it goes on in another window",
            Stands::Stopped(Stopped::Resting | Stopped::Ended) | Stands::Waiting => {
                match played.is_some() {
                    true => "play, and meanwhile `frevin tune resume`",
                    false => "`frevin tune resume`",
                }
            }
        };
        let still = self.report.most_minutes_still;
        let mut pairs = vec![("it", far), ("spent", time)];
        pairs
            .extend(self.report.frame_limit.as_ref().map(|limit| ("limit", limit_in_words(limit))));
        if still > 0.0 {
            pairs.push(("to come", format!("{} at most", minutes(still))));
        }
        pairs.push(("next", next.to_owned()));
        if self.report.progress != SiftProgress::Paused {
            pairs.push((
                "or",
                "`frevin tune pause` puts it off, with nothing in force that is not proven"
                    .to_owned(),
            ));
        }
        pairs.push(("or", "`frevin tune abandon` puts the PC back to what it was".to_owned()));
        page.pairs(pairs);
        let seems = |found: Found| -> Vec<String> {
            let of = self.report.so_far.iter().filter(|tweak| tweak.found == found);
            of.map(|tweak| format!("{} ({})", tweak.used, percent(tweak.effect_percent / 100.0)))
                .collect()
        };
        for (what, names) in
            [("seems to help", seems(Found::Helps)), ("seems to hurt", seems(Found::Hurts))]
        {
            if !names.is_empty() {
                page.paragraph(2, &dim(format_args!("{what} so far: {}", names.join(", "))));
            }
        }
    }

    fn show_end(&self, page: &mut Page, time: &str) {
        let report = &self.report;
        match (&report.gain_percent, report.is_kept) {
            (Some(gain), true) => {
                let interval =
                    format!("{} to {}", percent(gain.low / 100.0), percent(gain.high / 100.0));
                page.line(good(match report.goal {
                    Goal::Frames | Goal::Ping | Goal::Latency => format!(
                        "{} {} in {} ({interval}), proven in turns against the PC as it came.",
                        percent(gain.estimate / 100.0),
                        judged_in_words(report.judge),
                        report.scene,
                    ),
                    Goal::Quiet => format!(
                        "Less power and noise for the same frames in {}: average FPS differs by {} ({interval}).",
                        report.scene,
                        percent(gain.estimate / 100.0),
                    ),
                }));
            }
            (_, _) => page.line(strong(match report.reason {
                Some(reason) => {
                    let why = match (reason, report.goal) {
                        (Reason::NotKnown, Goal::Quiet) => {
                            "that it costs no frames could not be shown"
                        }
                        _ => reason_in_words(reason),
                    };
                    format!("Nothing is kept, and all of it is taken back exactly: {why}.")
                }
                None => "Nothing of it helped, and nothing of it is in force.".to_owned(),
            })),
        }
        if let (Some(gain), false) = (&report.gain_percent, report.is_kept) {
            page.line(format_args!(
                "Together: {} {} ({} to {}).",
                percent(gain.estimate / 100.0),
                judged_in_words(report.judge),
                percent(gain.low / 100.0),
                percent(gain.high / 100.0)
            ));
            for guard in &report.vetoes {
                page.line(format_args!("Against it: {}.", veto_in_words(guard)));
            }
        }
        if report.is_taken_back_since {
            page.line(warn("It was taken back since then."));
        }
        page.line(dim(format_args!("It took {time}.")));
        if let Some(limit) = &report.frame_limit {
            page.line(dim(format_args!("Before it: {}", limit_in_words(limit))));
        }
        if let Some(played) = &report.played {
            page.line(dim(format_args!(
                "Asked about in play for {}: {} of segments, of which {} do not count.",
                minutes(played.minutes),
                count(played.pairs, "pair"),
                played.pairs_dropped
            )));
        }
        for mended in &report.mended {
            let how = match report.change == Some(mended.change) {
                true => "Mended first, and tried with the rest",
                false => "Mended first, and stays mended whatever was found",
            };
            page.paragraph(0, &dim(format_args!("{how}: {} ({}).", mended.title, mended.used)));
        }
        if !report.kept.is_empty() {
            page.blank();
            let mut table = Table::new(["kept", judged_heading(report.judge), ">interval"]);
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
                .filter(|tweak| report.kept.iter().all(|kept| kept.used != tweak.used))
                .map(|tweak| match found {
                    Found::Helps => {
                        format!("{} ({})", tweak.used, percent(tweak.effect_percent / 100.0))
                    }
                    Found::Hurts | Found::NoEffect | Found::Unclear => tweak.used.to_string(),
                })
                .collect();
            (!of.is_empty()).then(|| format!("{}: {}", of.len(), of.join(", ")))
        };
        let mut pairs: Vec<(&str, String)> = Vec::new();
        pairs.extend(of(Found::Helps).map(|of| ("helped, not kept", of)));
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
            next.push(("a page to show", "frevin report tune".to_owned()));
            next.push(("its proof", format!("frevin trial show {trial}")));
        }
        next.push(("each tweak", format!("frevin sift show {}", report.tune)));
        if let Some(change) = report.change {
            next.push(("take it back", format!("frevin rollback {change}")));
        }
        for mended in report.mended.iter().filter(|one| report.change != Some(one.change)) {
            next.push(("or what was mended", format!("frevin rollback {}", mended.change)));
        }
        // What ages is evidence, which is of frame rates.
        match report.judge {
            Judge::FrameRate => {
                next.push((
                    "after an update",
                    format!("frevin tune --again --scene {}", report.scene),
                ));
            }
            Judge::Ping | Judge::Latency => {}
        }
        page.pairs(next);
    }
}
