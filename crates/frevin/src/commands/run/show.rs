//! `frevin run show`

use frevin_core::ids::{SceneName, StateName};
use frevin_core::visits::{FrameLimit, Run, RunId, RunSource, VisitId, frame_limit, marks};
use frevin_frames::{FrameBlocks as _, FrameShape, Levels, Metrics, RunConditions, ShapeOf};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::cautions::{limit_in_words, mark_in_words};
use crate::view::{Page, dim, fps, frame_line, rows_by_length, warn};

/// Characters of a plot over time.
const PLOT_COLUMNS: usize = 80;

#[derive(Debug, JsonSchema, Serialize)]
struct RunReport {
    scene: SceneName,
    state_name: StateName,
    visit: VisitId,
    /// What limits its frames, where that can be told.
    limit: Option<FrameLimit>,
    #[serde(flatten)]
    run: Run,
    #[serde(skip)]
    shape: FrameShape,
}

pub(super) fn show(context: &Context, id: RunId) -> Result<Outcome, Failure> {
    let ledger = context.ledger()?;
    let (visit, run) = ledger.run(id)?;
    let blocks = ledger.frame_blocks(id);
    let mut shape = ShapeOf::new(1000.0 * run.metrics.seconds, PLOT_COLUMNS);
    blocks.each_block(&mut |block| shape.see(block))?;
    Ok(Outcome::yes(&RunReport {
        scene: visit.scene,
        state_name: visit.state_name,
        visit: visit.id,
        limit: frame_limit(&run, &visit.context),
        run,
        shape: shape.finish(),
    }))
}

/// Every figure of a run, and under what it was recorded.
pub(super) fn show_figures(page: &mut Page, m: &Metrics, conditions: Option<&RunConditions>) {
    page.pairs([("frames", format!("{} in {:.1} s", m.frames, m.seconds))]);
    for mark in conditions.map(marks).unwrap_or_default() {
        page.paragraph_in(2, warn, &mark_in_words(&mark));
    }
    page.blank();
    page.pairs([("average FPS", fps(m.average_fps)), ("1% low FPS", fps(m.low_1_percent_fps))]);
    page.blank();
    page.pairs([
        ("median FPS", fps(m.median_fps)),
        (
            "0.1% low FPS",
            format!("{}  {}", fps(m.low_0_1_percent_fps), dim("unstable from run to run")),
        ),
        ("average of the slowest 1 %", fps(m.slowest_1_percent_average_fps)),
        ("average of the slowest 0.1 %", fps(m.slowest_0_1_percent_average_fps)),
        ("1% low by time", fps(m.time_weighted_low_1_percent_fps)),
        ("longest frame", format!("{:.1} ms", m.longest_frame_ms)),
        ("standard deviation", format!("{:.2} ms", m.standard_deviation_ms)),
        (
            "pacing",
            format!(
                "{:.2} ms  {}",
                m.pacing_ms,
                dim(format_args!(
                    "from frame to frame; {:.1} % of the mean",
                    100.0 * m.pacing_share
                ))
            ),
        ),
        (
            "stutters",
            format!(
                "{} ({:.1} a minute), {:.2} % of the time",
                m.stutter.events,
                m.stutter.events_per_minute,
                100.0 * m.stutter.excess_share
            ),
        ),
    ]);
    let Some(conditions) = conditions else { return };
    let readings = &conditions.readings;
    let mut told = Vec::new();
    if let Some(latency) = &readings.latency {
        let by = dim(format_args!("`{}`, of {} frames", latency.column, latency.frames));
        told.push(("latency", format!("{:.2} ms  {by}", latency.median_ms)));
        told.push(("slowest twentieth", format!("{:.2} ms or more", latency.percentile_95_ms)));
    }
    let percent = |share: f64| format!("{:.0} % of the time", 100.0 * share);
    told.extend(readings.graphics_busy_share.map(|share| ("graphics card busy", percent(share))));
    told.extend(readings.processor_busy_share.map(|share| ("frame thread busy", percent(share))));
    told.extend(
        readings
            .graphics_memory_mib
            .map(|mib| ("graphics memory", format!("{mib:.0} MiB at most"))),
    );
    let levels = [
        ("graphics temperature", readings.graphics_celsius, "°C", 0),
        ("processor temperature", readings.processor_celsius, "°C", 0),
        ("graphics clock", readings.graphics_mhz, "MHz", 0),
        ("processor clock", readings.processor_mhz, "MHz", 0),
        ("graphics power", readings.graphics_watts, "W", 1),
        ("processor power", readings.processor_watts, "W", 1),
    ];
    told.extend(levels.into_iter().filter_map(|(what, levels, unit, digits)| {
        let Levels { average, lowest, highest } = levels?;
        let range = dim(format_args!("{lowest:.digits$} to {highest:.digits$}"));
        Some((what, format!("{average:.digits$} {unit}  {range}")))
    }));
    told.extend(conditions.graphics_card.clone().map(|card| ("drawn by", card)));
    if !told.is_empty() {
        page.blank();
        page.pairs(told);
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<RunReport>("run show");
}

impl View for RunReport {
    fn show(&self, page: &mut Page) {
        let m = &self.run.metrics;
        let warm_up = if self.run.is_warm_up { ", a warm-up" } else { "" };
        let (id, visit) = (self.run.id.0, self.visit.0);
        page.heading(format_args!(
            "Run {id} of `{}` in {} (visit {visit}{warm_up})",
            self.state_name, self.scene
        ));
        let source = match &self.run.source {
            RunSource::Rehearsal => "recorded on a rehearsal PC".to_owned(),
            RunSource::TestLoop => "Frevin's own test loop".to_owned(),
            RunSource::Program(name) => format!("traced while {name} ran"),
            RunSource::LogFile(name) => format!("imported from {name}"),
        };
        page.pairs([("source", source)]);
        show_figures(page, m, self.run.conditions.as_ref());
        if let Some(limit) = &self.limit {
            page.blank();
            page.paragraph(2, &limit_in_words(limit));
        }
        let stretches = self.shape.stretches.iter();
        let longest_ms: Vec<f64> = stretches.map(|stretch| stretch.longest_ms).collect();
        page.heading("Longest frames over time");
        page.line(format_args!("  {}", frame_line(&longest_ms)));
        let label = format!("0 to {:.0} s, highest {:.0} ms", m.seconds, m.longest_frame_ms);
        page.line(format_args!("  {}", dim(label)));
        page.heading("Frames by length");
        page.pairs(rows_by_length(&self.shape, 1000.0 / m.low_1_percent_fps, 50));
    }
}
