//! Visits and runs as they are shown.

use frevin_core::verdict::{FrameFigures, VisitFigures};
use frevin_core::visits::{Run, VisitRecord, VisitStatus, marks};
use frevin_frames::Metrics;
use schemars::JsonSchema;
use serde::Serialize;

use super::cautions::mark_in_words;
use super::environment::before_and_after;
use super::{Page, Table, count, dim, fps, good, short, warn, when};
use crate::outcome::View;

/// A visit that was recorded.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct VisitReport {
    pub(crate) visit: VisitRecord,
}

/// Visits that are listed.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct RunList {
    pub(crate) visits: Vec<VisitRecord>,
    /// Whether each run is shown, and not only what each visit comes to.
    #[serde(skip)]
    pub(crate) every_run: bool,
}

/// The rows of a table of runs.
pub(crate) const RUN_HEADINGS: [&str; 8] =
    [">run", "", ">average", ">1% low", ">0.1% low", ">longest", ">stutters", ">length"];

pub(crate) fn run_row(run: &Run) -> [String; 8] {
    let Metrics { average_fps, low_1_percent_fps, low_0_1_percent_fps, .. } = run.metrics;
    let row = [
        run.id.0.to_string(),
        if run.is_warm_up { "warm-up".to_owned() } else { String::new() },
        fps(average_fps),
        fps(low_1_percent_fps),
        fps(low_0_1_percent_fps),
        format!("{:.0} ms", run.metrics.longest_frame_ms),
        format!("{:.1}/min", run.metrics.stutter.events_per_minute),
        format!("{:.0} s", run.metrics.seconds),
    ];
    if run.is_warm_up {
        row.map(|cell| if cell.is_empty() { cell } else { dim(cell) })
    } else {
        row
    }
}

/// What the PC was like around a visit, and under what its runs were recorded.
pub(crate) fn show_conditions(page: &mut Page, visit: &VisitRecord) {
    if let Some(around) = &visit.environment {
        page.heading("The PC around it");
        let mut table = Table::new(["", ">before", ">after"]);
        before_and_after(around).iter().for_each(|row| table.row(row.row()));
        page.table(table);
    }
    for waiting in &visit.context.waiting {
        let moment = waiting.waits_for;
        let what = format!("recorded while {} waited for a {moment}", short(&waiting.address));
        page.line(warn(what));
    }
    for run in visit.counted() {
        for mark in run.conditions.iter().flat_map(marks) {
            page.paragraph_in(0, warn, &format!("run {}: {}", run.id.0, mark_in_words(&mark)));
        }
    }
}

/// What is to be said of a visit that does not count.
fn status_in_words(status: &VisitStatus) -> String {
    match status {
        VisitStatus::Whole => String::new(),
        VisitStatus::Begun => format!("  {}", warn("not ended: broken off, or still going on")),
        VisitStatus::Void(reason) => format!("  {}", warn(format_args!("void: {reason}"))),
        VisitStatus::Unknown(other) => format!("  {}", warn(format_args!("unknown ({other})"))),
    }
}

impl View for VisitReport {
    fn show(&self, page: &mut Page) {
        let visit = &self.visit;
        let counted = visit.runs.iter().filter(|run| !run.is_warm_up).count();
        page.line(format_args!(
            "{} Visit {} of `{}` in {}: {} in FPS.",
            good("Recorded."),
            visit.id.0,
            visit.state_name,
            visit.scene,
            count(counted, "run"),
        ));
        let mut table = Table::new(RUN_HEADINGS);
        visit.runs.iter().for_each(|run| table.row(run_row(run)));
        page.table(table);
        show_conditions(page, visit);
    }
}

impl View for RunList {
    fn show(&self, page: &mut Page) {
        if self.visits.is_empty() {
            page.line("Nothing is recorded: `frevin run record` or `frevin run import` does.");
            return;
        }
        if !self.every_run {
            self.show_visits(page);
            return;
        }
        for visit in &self.visits {
            page.heading(format_args!(
                "Visit {} of `{}` in {}  {}{}",
                visit.id.0,
                visit.state_name,
                visit.scene,
                dim(when(visit.recorded_at)),
                status_in_words(&visit.status),
            ));
            let mut table = Table::new(RUN_HEADINGS);
            visit.runs.iter().for_each(|run| table.row(run_row(run)));
            page.table(table);
        }
    }
}

impl RunList {
    /// A row for each visit, with the figures by which it is compared.
    fn show_visits(&self, page: &mut Page) {
        let mut table =
            Table::new([">visit", "state", "scene", "when", ">runs", ">average", ">1% low", ""]);
        for visit in &self.visits {
            let runs: Vec<Metrics> = visit.counted().map(|run| run.metrics).collect();
            let figures = VisitFigures::of(&runs).ok().and_then(|figures| figures.frames);
            let shown = |ln_fps: fn(&FrameFigures) -> f64| {
                figures.as_ref().map_or_else(String::new, |figures| fps(ln_fps(figures).exp()))
            };
            table.row([
                visit.id.0.to_string(),
                visit.state_name.to_string(),
                visit.scene.to_string(),
                when(visit.recorded_at),
                visit.counted().count().to_string(),
                shown(|figures| figures.ln_average_fps),
                shown(|figures| figures.ln_low_1_percent_fps),
                status_in_words(&visit.status).trim_start().to_owned(),
            ]);
        }
        page.table(table);
        page.line(dim("  Each figure is the median of the visit's runs; --runs shows them all."));
    }
}
