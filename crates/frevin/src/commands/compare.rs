//! `frevin compare`

use clap::Args;
use frevin_core::profile::{ProfileName, SceneName};
use frevin_core::verdict::{
    Decision, Finding, Guard, LARGEST_PAIR_COUNTS, Margins, PairLimit, Primary, Verdict,
};

use crate::failure::{Failure, Kind};
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, bad, count, dim, fps, good, interval_bar, percent, strong, warn};
use crate::workshop::compare::{CompareOptions, Compared, compare_states};

/// Say whether state B is better or worse than state A, by their recorded visits. Exit code 1 if worse
#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The state that is the measure
    a: ProfileName,
    /// The state that is measured by it
    b: ProfileName,
    /// The scene, where both were recorded in several
    #[arg(long)]
    scene: Option<SceneName>,
    /// The difference worth having in average FPS, in percent
    #[arg(long, default_value_t = 1.0, value_name = "PERCENT")]
    average_margin: f64,
    /// The difference worth having in 1% low, in percent
    #[arg(long, default_value_t = 3.0, value_name = "PERCENT")]
    low_margin: f64,
    /// The most pairs of visits to take: 8, 12 or 20
    #[arg(long, default_value_t = 12)]
    most_pairs: usize,
}

pub(crate) fn run(session: &Session, args: &CompareArgs) -> Result<Answer, Failure> {
    let limit = PairLimit::new(args.most_pairs).ok_or_else(|| {
        let known = LARGEST_PAIR_COUNTS.map(|pairs| pairs.to_string()).join(", ");
        Failure::new(Kind::Usage, format!("bounds are known for these limits of pairs: {known}"))
    })?;
    for margin in [args.average_margin, args.low_margin] {
        if !(margin > 0.0 && margin <= 50.0) {
            let message = format!("a margin of {margin} % is none; write one above 0, up to 50");
            return Err(Failure::new(Kind::Usage, message));
        }
    }
    let options = CompareOptions {
        scene: args.scene.clone(),
        margins: Margins {
            average_fps: args.average_margin / 100.0,
            low_1_percent_fps: args.low_margin / 100.0,
        },
        limit,
    };
    let compared = compare_states(&session.ledger()?, &args.a, &args.b, &options)?;
    let is_yes = compared.comparison.verdict != Verdict::Worse;
    Ok(Answer::with(&compared, is_yes))
}

impl Report for Compared {
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
            let (what, limit) = match guard.guard {
                Guard::Stutters => ("stutters", "+25 %"),
                Guard::Pacing => ("uneven pacing", "+10 %"),
            };
            let line = match (&guard.difference, guard.vetoes) {
                (Some(difference), true) => {
                    bad(format_args!("{what} {}: a veto", percent(difference.estimate)))
                }
                (Some(difference), false) => {
                    format!(
                        "{what} {}, no proof of more than {limit}",
                        percent(difference.estimate)
                    )
                }
                (None, _) => format!("{what}: too few pairs to say"),
            };
            page.line(format_args!("  {} {line}", dim("guard:")));
        }
        if !self.around.is_empty() {
            page.heading("Around the visits, on average");
            let mut table = Table::new(["", ">A", ">B"]);
            self.around.iter().for_each(|row| table.row(row.row()));
            page.table(table);
            if !self.cautions.is_empty() {
                page.blank();
            }
        }
        for caution in &self.cautions {
            page.line(warn("caution:"));
            page.paragraph(2, caution);
        }
    }
}

impl Compared {
    fn headline(&self) -> String {
        let vetoed = self.comparison.guards.iter().any(|guard| guard.vetoes);
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

    fn row(&self, finding: &Finding) -> [String; 6] {
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
