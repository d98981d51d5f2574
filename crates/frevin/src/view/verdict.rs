//! A verdict as it is shown: intervals against the difference worth having, guards, cautions.

use frevin_core::verdict::{Decision, Guard, GuardState, MetricFinding, Primary, Verdict};

use super::cautions::in_words;
use super::environment::of_states;
use super::{Page, Table, bad, count, dim, fps, good, interval_bar, percent, strong, warn};
use crate::measure::compare::Compared;
use crate::outcome::View;

impl View for Compared {
    fn show(&self, page: &mut Page) {
        let Self { scene, a, b, comparison, .. } = self;
        page.heading(format_args!("Is `{b}` better than `{a}` in {scene}?"));
        page.line(format_args!("{} {}", self.headline(), dim(self.basis())));
        page.blank();
        let mut table = Table::new(["", ">A", ">B", ">difference", ">95 % interval", "found"]);
        for finding in &comparison.findings {
            table.row(self.row(finding));
        }
        page.table(table);
        page.blank();
        let scale = self.scale();
        for finding in &comparison.findings {
            if let Some(interval) = &finding.difference {
                let bar = interval_bar(interval, finding.margin, scale);
                page.line(format_args!("  {:<12} {bar}", name(finding.primary)));
            }
        }
        page.line(dim("  ● estimate  ├─┤ interval  ┊ worth having  │ no difference"));
        page.blank();
        for guard in &comparison.guards {
            let what = match guard.guard {
                Guard::Stutters => "stutters",
                Guard::Pacing => "uneven pacing",
            };
            let limit = format!("+{:.0} %", 100.0 * (guard.guard.limits().veto - 1.0));
            let line = match (&guard.difference, guard.state) {
                (Some(difference), GuardState::Vetoes) => {
                    bad(format_args!("{what} {}: a veto", percent(difference.estimate)))
                }
                (Some(difference), GuardState::Waiting) => warn(format_args!(
                    "{what} {}: more than {limit}, and not certain; \"better\" waits for it",
                    percent(difference.estimate)
                )),
                (Some(difference), GuardState::Quiet) => {
                    format!("{what} {}, within {limit}", percent(difference.estimate))
                }
                (None, _) => format!("{what}: too few pairs to say"),
            };
            page.line(format_args!("  {} {line}", dim("guard:")));
        }
        let around = of_states(&self.around_a, &self.around_b);
        if !around.is_empty() {
            page.heading("Around the visits, on average");
            let mut table = Table::new(["", ">A", ">B"]);
            around.iter().for_each(|row| table.row(row.row()));
            page.table(table);
            if !self.cautions.is_empty() {
                page.blank();
            }
        }
        for caution in &self.cautions {
            page.line(warn("caution:"));
            page.paragraph(2, &in_words(caution));
        }
    }
}

impl Compared {
    fn headline(&self) -> String {
        let vetoed = self.comparison.guards.iter().any(|guard| guard.state == GuardState::Vetoes);
        let found_worse =
            self.comparison.findings.iter().any(|finding| finding.decision == Decision::Worse);
        match self.comparison.verdict {
            Verdict::Better => good(strong("BETTER.")),
            Verdict::Worse if vetoed && !found_worse => bad(strong("WORSE, by a guard's veto.")),
            Verdict::Worse => bad(strong("WORSE.")),
            Verdict::Same => strong("SAME: no difference worth having."),
            Verdict::Undecided => warn(strong("UNDECIDED.")),
        }
    }

    fn basis(&self) -> String {
        let pairs = count(self.comparison.pairs, "pair");
        let limit = self.comparison.pair_limit.pairs();
        match (self.comparison.verdict, self.comparison.is_finished) {
            (Verdict::Undecided, false) if self.comparison.pairs < 4 => {
                format!("{pairs} of visits; the first look is at 4, the last at {limit}")
            }
            (Verdict::Undecided, false) => format!("{pairs} of visits; go on, up to {limit}"),
            (Verdict::Undecided, true) => {
                format!(
                    "{pairs} of visits, the most there may be: the difference is too small to tell"
                )
            }
            _ => format!("{pairs} of visits"),
        }
    }

    fn row(&self, finding: &MetricFinding) -> [String; 6] {
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
        [
            name(finding.primary).to_owned(),
            fps(finding.a_fps),
            fps(finding.b_fps),
            strong(difference(|interval| percent(interval.estimate))),
            difference(|interval| {
                format!("{} to {}", percent(interval.low), percent(interval.high))
            }),
            format!("{found}{after}"),
        ]
    }

    /// One scale for all bars, so that they can be compared by eye.
    fn scale(&self) -> f64 {
        let widest = self
            .comparison
            .findings
            .iter()
            .flat_map(|finding| {
                let ends = finding.difference.map(|d| d.low.abs().max(d.high.abs()));
                [2.0 * finding.margin, ends.unwrap_or(0.0)]
            })
            .fold(0.0, f64::max);
        ((widest * 100.0).ceil() / 100.0).min(1.0)
    }
}

fn name(primary: Primary) -> &'static str {
    match primary {
        Primary::AverageFps => "average FPS",
        Primary::Low1PercentFps => "1% low FPS",
    }
}
