//! A verdict as it is shown: intervals against the difference worth having, guards, cautions.

use frevin_core::figures::{IntervalRow, IntervalSubject};
use frevin_core::verdict::{
    Comparison, Decision, Guard, GuardFinding, GuardState, Judge, Loss, Measured, MetricFinding,
    PairsOf, Primary, Verdict,
};
use frevin_core::visits::{Caution, FrameLimit};

use super::cautions::{in_words, limit_in_words};
use super::environment::of_states;
use super::{Page, Table, bad, count, dim, fps, good, interval_bar, percent, strong, warn};
use crate::measure::compare::{Around, Compared};
use crate::outcome::View;

/// The figure that a judge goes by first.
pub(crate) fn judged_in_words(judge: Judge) -> &'static str {
    let [first, _] = judge.primaries();
    primary_in_words(first)
}

/// The figure of both states; nothing of one that it was not measured in.
pub(crate) fn measured_in_words(measured: Measured) -> (String, String) {
    let ms = |ms: f64| format!("{ms:.2} ms");
    let told = |figure: Option<String>| figure.unwrap_or_default();
    match measured {
        Measured::Fps { a_fps, b_fps } => (told(a_fps.map(fps)), told(b_fps.map(fps))),
        Measured::Ms { a_ms, b_ms } => (told(a_ms.map(ms)), told(b_ms.map(ms))),
    }
}

/// The heading of a column of it, aligned right.
pub(crate) fn judged_heading(judge: Judge) -> &'static str {
    match judge {
        Judge::FrameRate => ">average FPS",
        Judge::Ping => ">median ping",
        Judge::Latency => ">median latency",
    }
}

/// The name of a figure that is judged.
pub(crate) fn primary_in_words(primary: Primary) -> &'static str {
    match primary {
        Primary::AverageFps => "average FPS",
        Primary::Low1PercentFps => "1% low FPS",
        Primary::PingMedian => "median ping",
        Primary::PingPercentile95 => "slowest twentieth of pings",
        Primary::LatencyMedian => "median latency",
        Primary::LatencyPercentile95 => "slowest twentieth of latencies",
    }
}

impl View for Compared {
    fn show(&self, page: &mut Page) {
        let Self { scene, a, b, .. } = self;
        page.heading(format_args!("Is `{b}` better than `{a}` in {scene}?"));
        show_comparison(&self.comparison, &self.around, &self.cautions, page);
        page.heading("Next");
        let visit = |state| format!("frevin run record --scene {scene} --state {state}");
        match self.comparison.verdict {
            Verdict::Undecided if !self.comparison.is_finished => page.pairs([
                ("another visit of each, in turns", visit(a)),
                ("and with the other state", visit(b)),
            ]),
            Verdict::Undecided | Verdict::Same => page.pairs([
                ("see what is in force, and take it back", "frevin rollback".to_owned()),
                ("try something else", "frevin tweak list --fitting".to_owned()),
            ]),
            Verdict::Worse => page.pairs([
                (format!("take back what makes `{b}`"), "frevin rollback"),
                (
                    "and take it out of a profile".to_owned(),
                    "frevin profile remove NAME --tweak AREA/NAME",
                ),
            ]),
            Verdict::Better => page.pairs([
                ("see what is in force now", "frevin status".to_owned()),
                ("add it to a profile", "frevin profile add NAME --tweak AREA/NAME".to_owned()),
            ]),
        }
    }
}

/// The verdict, the intervals that it rests on, the guards, and what weakens it.
pub(crate) fn show_comparison(
    comparison: &Comparison,
    around: &Around,
    cautions: &[Caution],
    page: &mut Page,
) {
    page.line(format_args!("{} {}", headline(comparison), dim(basis(comparison))));
    page.blank();
    let mut table = Table::new(["", ">A", ">B", ">difference", ">95 % interval", "found"]);
    comparison.findings.iter().for_each(|finding| table.row(row(finding, comparison.pairs_are_of)));
    page.table(table);
    page.blank();
    let rows = IntervalRow::of_comparison(comparison);
    let scale_percent = scale_percent(&rows);
    let bars: Vec<(&str, String)> = rows
        .iter()
        .filter_map(|row| match &row.subject {
            IntervalSubject::Figure(primary) => {
                Some((name(*primary, comparison.pairs_are_of), interval_bar(row, scale_percent)))
            }
            IntervalSubject::Tweak(_) => None,
        })
        .collect();
    let width = bars.iter().map(|(name, _)| name.len()).max().unwrap_or_default() + 1;
    for (name, bar) in bars {
        page.line(format_args!("  {name:<width$} {bar}"));
    }
    page.line(dim("  ● estimate  ├─┤ interval  ┊ worth having  │ no difference"));
    page.blank();
    comparison.guards.iter().for_each(|guard| show_guard(guard, comparison, page));
    if let Some(loss) = &comparison.loss {
        let share = |loss: Loss| format!("{:.1} %", 100.0 * loss.share());
        let lost = format!("{} of probes in A, {} in B", share(loss.a), share(loss.b));
        let lost = if loss.vetoes { bad(format_args!("{lost}: too many more")) } else { lost };
        page.line(format_args!("  {}  {lost}", dim("lost:")));
    }
    show_limits(around, page);
    let around = of_states(&around.around_a, &around.around_b);
    if !around.is_empty() {
        page.heading("Around the visits, on average");
        let mut table = Table::new(["", ">A", ">B"]);
        around.iter().for_each(|row| table.row(row.row()));
        page.table(table);
        if !cautions.is_empty() {
            page.blank();
        }
    }
    for caution in cautions {
        page.line(warn("caution:"));
        page.paragraph(2, &in_words(caution));
    }
}

/// What limits the frames: once where it is the same in both states.
fn show_limits(around: &Around, page: &mut Page) {
    let (a, b) = (around.limit_a.as_ref(), around.limit_b.as_ref());
    let kind = |limit: Option<&FrameLimit>| limit.map(std::mem::discriminant);
    let sides = if kind(a) == kind(b) { vec![("", b)] } else { vec![("A: ", a), ("B: ", b)] };
    for (side, limit) in sides {
        if let Some(limit) = limit {
            page.blank();
            page.paragraph(2, &format!("{side}{}", limit_in_words(limit)));
        }
    }
}

/// What a guard looks at: more of it is worse.
fn guard_in_words(guard: Guard) -> &'static str {
    match guard {
        Guard::Stutters => "stutters",
        Guard::Pacing => "uneven pacing",
        Guard::Ping => "ping",
        Guard::AverageFps => "time per frame",
        Guard::Latency => "latency",
    }
}

/// What a guard says that speaks against a change.
pub(crate) fn veto_in_words(guard: &GuardFinding) -> String {
    let what = guard_in_words(guard.guard);
    match &guard.difference {
        Some(difference) => format!("{what} {}: too much more", percent(difference.estimate)),
        // Segments of play are looked at by their signs alone, which give no interval.
        None => format!("{what}: more, and that is certain"),
    }
}

fn show_guard(guard: &GuardFinding, comparison: &Comparison, page: &mut Page) {
    let Comparison { is_finished, pairs_are_of, .. } = *comparison;
    let what = guard_in_words(guard.guard);
    let limit = format!("+{:.0} %", 100.0 * (guard.guard.limits().veto - 1.0));
    let line = match (&guard.difference, guard.state) {
        (_, GuardState::Vetoes) => bad(veto_in_words(guard)),
        (Some(difference), GuardState::Waiting) => {
            let waits = if is_finished { "" } else { "; \"better\" waits for it" };
            warn(format_args!(
                "{what} {}: more than {limit}, and not certain{waits}",
                percent(difference.estimate)
            ))
        }
        (Some(difference), GuardState::Quiet) => {
            format!("{what} {}, within {limit}", percent(difference.estimate))
        }
        (None, GuardState::Quiet | GuardState::Waiting) if pairs_are_of == PairsOf::Segments => {
            format!("{what}: no rise that is certain")
        }
        (None, GuardState::Quiet | GuardState::Waiting) => {
            format!("{what}: too few pairs to say")
        }
    };
    page.line(format_args!("  {} {line}", dim("guard:")));
}

/// The verdict in a word, for a row.
pub(crate) fn verdict_in_words(verdict: Verdict) -> String {
    match verdict {
        Verdict::Better => good("better"),
        Verdict::Worse => bad("worse"),
        Verdict::Same => "same".to_owned(),
        Verdict::Undecided => warn("undecided"),
    }
}

/// The verdict in a word or two.
fn headline(comparison: &Comparison) -> String {
    let vetoed = comparison.guards.iter().any(|guard| guard.state == GuardState::Vetoes);
    let found_worse = comparison.findings.iter().any(|finding| finding.decision == Decision::Worse);
    match comparison.verdict {
        Verdict::Better => good(strong("Better.")),
        Verdict::Worse if comparison.loss.is_some_and(|loss| loss.vetoes) && !found_worse => {
            bad(strong("Worse: more is lost."))
        }
        Verdict::Worse if vetoed && !found_worse => bad(strong("Worse: a guard says so, below.")),
        Verdict::Worse => bad(strong("Worse.")),
        Verdict::Same => strong("The same: no difference worth having."),
        Verdict::Undecided => warn(strong("Undecided.")),
    }
}

fn basis(comparison: &Comparison) -> String {
    let (of, first_look) = match comparison.pairs_are_of {
        PairsOf::Visits => ("visits", 4),
        PairsOf::Segments => ("segments", 12),
    };
    let pairs = format!("{} of {of}", count(comparison.pairs, "pair"));
    let limit = comparison.pair_limit;
    match (comparison.verdict, comparison.is_finished) {
        (Verdict::Undecided, false) if comparison.pairs < first_look => {
            format!("{pairs}; the first look is at {first_look}, the last at {limit}")
        }
        (Verdict::Undecided, false) => format!("{pairs}; go on, up to {limit}"),
        (Verdict::Undecided, true) if comparison.pairs >= limit => {
            format!("{pairs}, the most there may be: the difference is too small to tell")
        }
        _ => pairs,
    }
}

pub(super) fn row(finding: &MetricFinding, pairs_are_of: PairsOf) -> [String; 6] {
    let difference = |of: fn(&frevin_core::verdict::Interval) -> String| {
        finding.difference.as_ref().map_or_else(|| dim("too few pairs"), of)
    };
    let found = match finding.decision {
        Decision::Better => good("better"),
        Decision::Worse => bad("worse"),
        Decision::Same => "same".to_owned(),
        Decision::Undecided => dim("undecided"),
    };
    let after = finding
        .decided_after_pairs
        .map_or_else(String::new, |pairs| dim(format_args!(" after {}", count(pairs, "pair"))));
    let (a, b) = measured_in_words(finding.measured);
    [
        name(finding.primary, pairs_are_of).to_owned(),
        a,
        b,
        strong(difference(|interval| percent(interval.estimate))),
        difference(|interval| format!("{} to {}", percent(interval.low), percent(interval.high))),
        format!("{found}{after}"),
    ]
}

/// One scale for all bars, so that they can be compared by eye.
fn scale_percent(rows: &[IntervalRow]) -> f64 {
    let ends = rows
        .iter()
        .flat_map(|row| [2.0 * row.margin_percent, row.low_percent.abs(), row.high_percent.abs()]);
    ends.fold(0.0, f64::max).ceil().clamp(1.0, 100.0)
}

/// What a figure is called: the slow frames of a few seconds are not those of a run.
fn name(primary: Primary, pairs_are_of: PairsOf) -> &'static str {
    match primary {
        Primary::Low1PercentFps if pairs_are_of == PairsOf::Segments => "1% low of segments",
        Primary::AverageFps => "average FPS",
        Primary::Low1PercentFps => "1% low FPS",
        Primary::PingMedian => "ping, median",
        Primary::PingPercentile95 => "ping, slow",
        Primary::LatencyMedian => "latency, median",
        Primary::LatencyPercentile95 => "latency, slow",
    }
}
