//! Trials as they are shown.

mod beginning;
mod pairs;

use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_core::trial::in_play::{NotInPlay, Unjudged};
use frevin_core::trial::{Doubt, Progress, Question, Reason};
use frevin_core::verdict::{PairsOf, Verdict};

pub(crate) use self::beginning::{PLAY_AS_ALWAYS, show_beginning};
use self::pairs::show_pairs;
use super::verdict::{show_comparison, verdict_in_words};
use super::{Page, Table, count, dim, duration, good, strong, warn, when};
use crate::operations::trial::{
    InPlayReport, LevelReport, Next, StatusReport, TrialList, TrialReport,
};
use crate::outcome::View;
use crate::view::plan::with_article;

/// What is doubtful about a visit.
pub(crate) fn doubt_in_words(doubt: &Doubt) -> String {
    match doubt {
        Doubt::OtherPower { on_battery: true } => {
            "the PC ran on its battery, and on mains when the trial began".to_owned()
        }
        Doubt::OtherPower { on_battery: false } => {
            "the PC ran on mains, and on its battery when the trial began".to_owned()
        }
        Doubt::CutShort => "a run was cut short".to_owned(),
        Doubt::Capped => {
            "frames were capped, and in earlier visits to this state they were not".to_owned()
        }
        Doubt::BrokenOff { reason } => format!("it was broken off: {reason}"),
    }
}

/// Why a PC was left as it is.
pub(crate) fn reason_in_words(reason: Reason) -> &'static str {
    match reason {
        Reason::Better => "it is better",
        Reason::Worse => "it is worse",
        Reason::MoreStutters => "it stutters more",
        Reason::WorsePacing => "its frames come more unevenly",
        Reason::WorsePing => "its ping is longer",
        Reason::LowerFrameRate => "its frame rate is lower",
        Reason::LongerLatency => "its frames answer later",
        Reason::MoreLoss => "more is lost in the network",
        Reason::NothingGained => "nothing is gained by it",
        Reason::NothingLost => "nothing is lost without it",
        Reason::NotKnown => "no gain was shown",
        Reason::Abandoned => "the trial was given up",
    }
}

impl View for TrialReport {
    fn show(&self, page: &mut Page) {
        let Self { trial, a, b, .. } = self;
        let scene = together(&self.scenes);
        page.heading(format_args!("Trial {trial}: is {b} better than {a}, in {scene}?"));
        show_comparison(&self.comparison, &self.around, &self.cautions, page);
        if let Some(in_play) = &self.in_play {
            show_in_play(in_play, self.comparison.verdict, page);
        }
        if self.with_history {
            page.line(dim("  Earlier trials of this PC told how much visits differ by chance."));
        }
        show_levels(&self.by_level, page);
        show_pairs(&self.visits, self.judge, page);
        for voided in &self.voided {
            let state: &str = voided.arm.into();
            page.line(warn(format_args!(
                "  pair {}, {}: made again, since {}",
                voided.pair,
                state.to_uppercase(),
                doubt_in_words(&voided.doubt)
            )));
        }
        page.heading("And now");
        self.show_end(page);
    }
}

impl TrialReport {
    fn show_end(&self, page: &mut Page) {
        match (self.progress, self.reason) {
            (Progress::Ended, Some(reason)) => {
                let why = reason_in_words(reason);
                page.line(self.what_is_in_force(why));
                if self.is_taken_back_since {
                    page.line(warn("It was taken back since then."));
                }
                if let Some(moment) = self.waits_for {
                    page.line(warn(format_args!(
                        "The PC behaves by it after {}.",
                        with_article(moment)
                    )));
                }
            }
            (Progress::WayBackOpen, _) => {
                page.line(warn("It is decided, and the PC is not yet where the verdict wants it."));
                if let Some(reason) = &self.not_settled {
                    page.line(format_args!("  {reason}"));
                }
                page.pairs([("try again", "frevin trial resume")]);
            }
            (Progress::GivenUp, _) => {
                page.line(warn("It is given up, and the PC is not yet put back."));
                page.pairs([("try again", "frevin trial resume")]);
            }
            (Progress::Going | Progress::Paused | Progress::Ended, _) => {
                page.line("It is not over.");
                page.pairs([("go on", "frevin trial resume")]);
            }
        }
    }

    fn what_is_in_force(&self, why: &str) -> String {
        let Self { a, b, .. } = self;
        let is = if self.is_taken_back_since { "was" } else { "is" };
        if self.is_of_process {
            return match self.comparison.verdict {
                Verdict::Better => {
                    good(format_args!("{why}: hold it while you play, `frevin play --help`."))
                }
                Verdict::Worse | Verdict::Same | Verdict::Undecided => {
                    strong(format_args!("The program has again what it had: {why}."))
                }
            };
        }
        match (self.question, self.kept) {
            (Question::Apply, true) => good(format_args!("{b} {is} kept: {why}.")),
            (Question::Apply, false) => strong(format_args!("{b} is taken back, exactly: {why}.")),
            (Question::Without, true) => good(format_args!("It is left out: {why}.")),
            (Question::Without, false) => strong(format_args!("{a} {is} kept as before: {why}.")),
            (Question::Against, true) => good(format_args!("{b} {is} kept: {why}.")),
            (Question::Against, false) if self.comparison.verdict == Verdict::Worse => {
                strong(format_args!("{a} {is} kept: {b} is worse than it."))
            }
            (Question::Against, false) => {
                strong(format_args!("Neither is in force, as before: {why}."))
            }
        }
    }
}

/// How a trial in play was played.
fn show_in_play(played: &InPlayReport, verdict: Verdict, page: &mut Page) {
    let InPlayReport { segments, minutes, settling_s, segment_s, .. } = played;
    page.heading("In play");
    page.pairs([
        ("played", format!("{minutes:.1} min, in {}", count(played.sittings, "sitting"))),
        (
            "segments",
            format!(
                "{segments} of {segment_s:.0} s; the first {settling_s:.0} s of each are not judged"
            ),
        ),
        (
            "left out",
            format!("{} of menus, loading, pauses and caps", count(played.pairs_dropped, "pair")),
        ),
        (
            "switching",
            format!("{:.2} stutters right after a switch, on average", played.stutters_a_switch),
        ),
    ]);
    if let Some(unjudged) = played.unjudged {
        page.paragraph_in(2, warn, unjudged_in_words(unjudged));
    }
    if played.is_uneven {
        page.paragraph_in(
            2,
            warn,
            "What there is shows in some of the play only, and not in the rest.",
        );
    }
    if verdict == Verdict::Same {
        let said = format!(
            "No effect that sets in within {settling_s:.0} s: what builds up more slowly is not seen in play."
        );
        page.paragraph_in(2, dim, &said);
    }
}

fn unjudged_in_words(unjudged: Unjudged) -> &'static str {
    match unjudged {
        Unjudged::TooMuchIsNoPlay => {
            "It ended without a verdict: over a quarter of the pairs were menus, loading or pauses. Try it again where \
             you play without a break, or in visits."
        }
        Unjudged::Capped => {
            "It ended without a verdict: frames look to be capped, by a limiter or the display, so nothing can show. Take \
             the cap out and try it again."
        }
        Unjudged::SettlesTooSlowly => {
            "It ended without a verdict: what is tried goes on settling for longer than a segment can wait. Try it in \
             visits, without --in-play."
        }
    }
}

/// Which tweak is not tried in play, and why.
pub(crate) fn not_in_play_in_words(found: &NotInPlay) -> String {
    let (NotInPlay::ActsLater { tweak, .. }
    | NotInPlay::RemembersLong { tweak, .. }
    | NotInPlay::NotForSwitching { tweak, .. }) = found;
    format!("{tweak} {}", why_not_in_play(found))
}

/// Why a tweak is not tried in play.
pub(crate) fn why_not_in_play(found: &NotInPlay) -> String {
    match found {
        NotInPlay::ActsLater { moment, .. } => format!("acts after {}", with_article(*moment)),
        NotInPlay::RemembersLong { reason, .. } => {
            format!("builds up and wears off over minutes: {reason}")
        }
        NotInPlay::NotForSwitching { address, .. } => {
            format!("changes {address}, which is not switched every few seconds without harm")
        }
    }
}

/// What was measured, in words.
fn together(scenes: &[SceneName]) -> String {
    let names: Vec<&str> = scenes.iter().map(SceneName::as_str).collect();
    names.join(", ")
}

/// What each graphics level shows by itself.
fn show_levels(levels: &[LevelReport], page: &mut Page) {
    if levels.is_empty() {
        return;
    }
    page.heading("Each graphics level by itself, for reading");
    let mut table = Table::new(["", "", ">A", ">B", ">difference", ">95 % interval"]);
    for level in levels {
        for finding in &level.findings {
            let [name, a, b, difference, interval, _] =
                super::verdict::row(finding, PairsOf::Visits);
            table.row([level.scene.to_string(), name, a, b, difference, interval]);
        }
    }
    page.table(table);
}

impl View for StatusReport {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!(
            "Trial {}: {} against {}, in {}",
            self.trial,
            self.b,
            self.a,
            together(&self.scenes)
        ));
        let state = match self.progress {
            Progress::Going => "going on",
            Progress::Paused => "put off",
            Progress::WayBackOpen => "decided, way back open",
            Progress::GivenUp => "given up, way back open",
            Progress::Ended => "over",
        };
        let mut pairs = vec![
            ("is", state.to_owned()),
            ("pairs", format!("{} of at most {}", self.pairs_made, self.pair_limit)),
        ];
        if let Some(next) = &self.next {
            pairs.push(("next", next_in_words(next)));
        }
        if let Some(expected) = &self.expected {
            let [typical, most] = [expected.typical, expected.most].map(in_words_or_none);
            pairs.push(("takes", format!("{typical} as most trials do, {most} at most")));
        }
        page.pairs(pairs);
        if let Some(reason) = &self.not_settled {
            page.line(warn(format_args!("The PC is not where the verdict wants it: {reason}")));
        }
        match &self.peek {
            Some(report) => {
                page.blank();
                page.line(warn(
                    "Figures so far. They are no reason to stop: when to stop is the rule's.",
                ));
                show_pairs(&report.visits, report.judge, page);
            }
            None if self.progress == Progress::Going || self.progress == Progress::Paused => {
                page.line(dim("  Figures are shown at the end; --peek shows those so far."));
            }
            None => {}
        }
    }
}

fn next_in_words(next: &Next) -> String {
    match next {
        Next::RestartThenVisit { state } => {
            format!("restart the PC, then `frevin trial resume`: it will visit {state}")
        }
        Next::SignIn => "the PC restarts within a minute (`shutdown /a` stops that); sign in, and the trial goes \
                         on by itself"
            .to_owned(),
        Next::Visit { pair, state } => {
            format!("visit {state}, for pair {pair}: `frevin trial resume`")
        }
        Next::Play { minutes_played } => {
            format!("play on: `frevin trial resume` ({minutes_played:.1} min were played)")
        }
        Next::GoOn => "`frevin trial resume` goes on".to_owned(),
        Next::Settle => "`frevin trial resume` brings the PC to where it should be".to_owned(),
    }
}

fn in_words_or_none(length: Duration) -> String {
    if length.is_zero() { "nothing more".to_owned() } else { duration(length) }
}

impl View for TrialList {
    fn show(&self, page: &mut Page) {
        if self.trials.is_empty() {
            page.line("There is no trial of this PC yet.");
            page.pairs([("begin one", "frevin trial start PROFILE --scene SCENE")]);
            return;
        }
        let mut table = Table::new([
            ">trial", "begun", "of", "against", "scene", ">pairs", "verdict", "in force",
        ]);
        for one in &self.trials {
            let ended = one.progress == Progress::Ended && one.reason != Some(Reason::Abandoned);
            table.row([
                one.trial.to_string(),
                when(one.begun_at),
                one.b.clone(),
                one.a.clone(),
                together(&one.scenes),
                one.comparison.pairs.to_string(),
                match (one.progress, ended) {
                    (_, true) => verdict_in_words(one.comparison.verdict),
                    (Progress::Ended, false) => dim("given up"),
                    _ => warn("not over"),
                },
                match one.progress {
                    Progress::Ended if one.kept && one.is_taken_back_since => {
                        "taken back since".to_owned()
                    }
                    Progress::Ended if one.kept => "kept".to_owned(),
                    Progress::Ended => "not kept".to_owned(),
                    _ => String::new(),
                },
            ]);
        }
        page.table(table);
    }
}
