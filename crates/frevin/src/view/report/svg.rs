//! Figures, drawn.

use frevin_core::figures::{
    Figures, FramesOf, IntervalRow, IntervalSubject, Known, PairPoint, SegmentPoint,
};
use frevin_core::trial::Arm;
use maud::{Markup, PreEscaped, html};

use super::super::verdict::primary_in_words;

/// A figure that can be drawn.
#[derive(Clone, Copy)]
pub(crate) enum Drawing<'a> {
    Intervals(&'a [IntervalRow]),
    OverTime(&'a [FramesOf]),
    ByLength(&'a [FramesOf]),
    UpToLength(&'a [FramesOf]),
    Pairs(&'a [PairPoint]),
    Segments(&'a [SegmentPoint]),
}

const WIDTH: f64 = 720.0;
/// Room for the labels on the left, and on the right.
const LEFT: f64 = 56.0;
const RIGHT: f64 = 16.0;
/// The height of a panel, and the room below it for its axis.
const PANEL: f64 = 150.0;
const BELOW: f64 = 36.0;

/// How drawings look by themselves; a page's own style goes before it.
pub(crate) const STYLE: &str = "
.drawing text{font:12px system-ui,sans-serif;fill:#1c232b}
.drawing .faint{fill:#55606b}
.drawing .label{paint-order:stroke;stroke:#ffffff;stroke-width:4px;stroke-linejoin:round}
.drawing .axis{stroke:#7a858f;stroke-width:1;fill:none}
.drawing .grid{stroke:#d6dbe0;stroke-width:1}
.drawing .zero{stroke:#1c232b;stroke-width:1}
.drawing .margin{stroke:#7a858f;stroke-width:1;stroke-dasharray:4 3}
.drawing .of-a{fill:#8fa3b5;stroke:#3f5a73}
.drawing .of-b{fill:#e0a06a;stroke:#8f4a10}
.drawing .line-a{fill:none;stroke:#3f5a73;stroke-width:2;stroke-dasharray:6 4}
.drawing .line-b{fill:none;stroke:#8f4a10;stroke-width:2}
.drawing .dot-a{fill:#ffffff;stroke:#3f5a73;stroke-width:2}
.drawing .dot-b{fill:#8f4a10;stroke:#8f4a10;stroke-width:2}
.drawing .better{stroke:#1d6b3a;fill:#1d6b3a}
.drawing .worse{stroke:#a3261b;fill:#a3261b}
.drawing .same{stroke:#3f5a73;fill:#3f5a73}
.drawing .undecided{stroke:#7a858f;fill:#ffffff}
";

impl<'a> Drawing<'a> {
    /// The drawings of figures, those that have something to show.
    pub(crate) fn all(figures: &'a Figures) -> Vec<Self> {
        let Figures { intervals, frames, pairs, segments } = figures;
        let mut all = Vec::new();
        if !intervals.is_empty() {
            all.push(Self::Intervals(intervals));
        }
        if frames.iter().any(|one| !one.shape.stretches.is_empty()) {
            all.extend([Self::OverTime(frames), Self::ByLength(frames), Self::UpToLength(frames)]);
        }
        if !pairs.is_empty() {
            all.push(Self::Pairs(pairs));
        }
        if !segments.is_empty() {
            all.push(Self::Segments(segments));
        }
        all
    }

    /// A name for files.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Intervals(_) => "intervals",
            Self::OverTime(_) => "frame-times",
            Self::ByLength(_) => "by-length",
            Self::UpToLength(_) => "up-to-length",
            Self::Pairs(_) => "pairs",
            Self::Segments(_) => "segments",
        }
    }

    /// What it shows, as a heading.
    pub(crate) fn title(self) -> &'static str {
        match self {
            Self::Intervals(rows) if is_of_tweaks(rows) => "What each tweak does",
            Self::Intervals(_) => "Differences",
            Self::OverTime(_) => "Frame times over time",
            Self::ByLength(_) => "How many frames are of which length",
            Self::UpToLength(_) => "How many frames are no longer than that",
            Self::Pairs(_) => "Pairs in the order in which they were made",
            Self::Segments(_) => "Segments in the order in which they were played",
        }
    }

    /// How it is read.
    pub(crate) fn caption(self) -> &'static str {
        match self {
            Self::Intervals(_) => {
                "The mark is the estimate, the bar its 95 % interval. Right of the line in the middle is more, left of it less; \
                 between the dashed lines a difference is not worth having."
            }
            Self::OverTime(_) => {
                "For each stretch of time from its shortest to its longest frame: no long frame is lost, however many there are. \
                 Lower is better. The scale doubles from line to line."
            }
            Self::ByLength(_) => {
                "The further left, the shorter the frames. A second hump on the right is stutter."
            }
            Self::UpToLength(_) => {
                "How many of a hundred frames are no longer than what stands below. The curve further left is that of the shorter \
                 frames; what counts for stutter is how it ends on the right."
            }
            Self::Pairs(_) => {
                "Each pair is a visit to A and one to B, right after each other. Where B is above A pair after pair, it is no chance."
            }
            Self::Segments(_) => {
                "What happens in the game moves segments up and down. Which state came first in each pair, a coin has said."
            }
        }
    }

    /// The drawing, with what a reader that sees nothing is told.
    pub(crate) fn svg(self, is_alone: bool) -> Markup {
        let (height, body) = match self {
            Self::Intervals(rows) => intervals(rows),
            Self::OverTime(frames) => over_time(frames),
            Self::ByLength(frames) => by_length(frames),
            Self::UpToLength(frames) => up_to_length(frames),
            Self::Pairs(pairs) => pair_points(pairs),
            Self::Segments(segments) => segment_points(segments),
        };
        let name = format!("drawing-{}", self.name());
        let namespace = is_alone.then_some("http://www.w3.org/2000/svg");
        html! {
            svg class="drawing" xmlns=[namespace] viewBox=(format!("0 0 {WIDTH} {height}"))
                width=[is_alone.then_some(WIDTH)] height=[is_alone.then_some(height)]
                role="img" aria-labelledby=(format!("{name}-title {name}-text")) {
                title id=(format!("{name}-title")) { (self.title()) }
                desc id=(format!("{name}-text")) { (self.in_words()) }
                @if is_alone {
                    style { (PreEscaped(STYLE)) }
                    rect width=(WIDTH) height=(height) fill="#ffffff" {}
                }
                (body)
            }
        }
    }

    /// What it shows, in words.
    fn in_words(self) -> String {
        let frames_in_words = |frames: &[FramesOf]| {
            let each = frames.iter().map(|one| {
                let longest = one.shape.stretches.iter().map(|stretch| stretch.longest_ms);
                let longest = longest.fold(0.0, f64::max);
                let frames = one.shape.frames;
                let said =
                    format!("{} {frames} frames, the longest {longest:.1} ms", arm_name(one.arm));
                said.trim_start().to_owned()
            });
            each.collect::<Vec<_>>().join("; ")
        };
        match self {
            Self::Intervals(rows) => {
                let each = rows.iter().map(|row| {
                    format!(
                        "{}: {} %, from {} to {} %, {}",
                        subject_name(&row.subject),
                        signed(row.estimate_percent),
                        signed(row.low_percent),
                        signed(row.high_percent),
                        found_name(row)
                    )
                });
                each.collect::<Vec<_>>().join("; ")
            }
            Self::OverTime(frames) | Self::ByLength(frames) | Self::UpToLength(frames) => {
                frames_in_words(frames)
            }
            Self::Pairs(pairs) => {
                let higher = pairs.iter().filter(|pair| pair.b_fps > pair.a_fps).count();
                format!("B had the higher rate in {higher} of {} pairs", pairs.len())
            }
            Self::Segments(segments) => {
                let counted = segments.iter().filter(|one| one.fps.is_some()).count();
                format!("{} segments, of which {counted} count", segments.len())
            }
        }
    }

    /// Its data, as rows that other programs read.
    pub(crate) fn csv(self) -> String {
        let mut rows = Vec::new();
        match self {
            Self::Intervals(all) => {
                rows.push(
                    "of,low_percent,estimate_percent,high_percent,margin_percent,known".to_owned(),
                );
                rows.extend(all.iter().map(|row| {
                    format!(
                        "\"{}\",{},{},{},{},{}",
                        subject_name(&row.subject).replace('"', "\"\""),
                        row.low_percent,
                        row.estimate_percent,
                        row.high_percent,
                        row.margin_percent,
                        found_name(row)
                    )
                }));
            }
            Self::OverTime(frames) => {
                rows.push("state,from_s,to_s,shortest_ms,longest_ms".to_owned());
                for one in frames {
                    rows.extend(one.shape.stretches.iter().map(|stretch| {
                        format!(
                            "{},{},{},{},{}",
                            arm_name(one.arm),
                            stretch.from_s,
                            stretch.to_s,
                            stretch.shortest_ms,
                            stretch.longest_ms
                        )
                    }));
                }
            }
            Self::ByLength(frames) | Self::UpToLength(frames) => {
                rows.push("state,from_ms,to_ms,share,share_up_to".to_owned());
                for one in frames {
                    rows.extend(one.shape.bins.iter().map(|bin| {
                        format!(
                            "{},{},{},{},{}",
                            arm_name(one.arm),
                            bin.from_ms,
                            bin.to_ms,
                            bin.share,
                            bin.share_up_to
                        )
                    }));
                }
            }
            Self::Pairs(pairs) => {
                rows.push("pair,first,a_fps,b_fps".to_owned());
                rows.extend(pairs.iter().map(|pair| {
                    let first: &str = pair.first.into();
                    format!("{},{first},{},{}", pair.pair, pair.a_fps, pair.b_fps)
                }));
            }
            Self::Segments(segments) => {
                rows.push("sitting,at_s,state,fps".to_owned());
                rows.extend(segments.iter().map(|one| {
                    let arm: &str = one.arm.into();
                    let fps = one.fps.map(|fps| fps.to_string()).unwrap_or_default();
                    format!("{},{},{arm},{fps}", one.sitting, one.at_s)
                }));
            }
        }
        rows.join("\n") + "\n"
    }
}

pub(crate) fn is_of_tweaks(rows: &[IntervalRow]) -> bool {
    rows.iter().any(|row| matches!(row.subject, IntervalSubject::Tweak(_)))
}

pub(crate) fn subject_name(subject: &IntervalSubject) -> String {
    match subject {
        IntervalSubject::Figure(primary) => primary_in_words(*primary).to_owned(),
        IntervalSubject::Tweak(used) => used.to_string(),
    }
}

/// What was found of it: a tweak helps or hurts, a state is better or worse.
pub(crate) fn found_name(row: &IntervalRow) -> String {
    match (&row.subject, row.known) {
        (IntervalSubject::Tweak(_), Known::Better) => "helps".to_owned(),
        (IntervalSubject::Tweak(_), Known::Worse) => "hurts".to_owned(),
        (IntervalSubject::Tweak(_), Known::Same) => {
            format!("no effect of {:.0} %", row.margin_percent)
        }
        (IntervalSubject::Tweak(_), Known::Undecided) => "unclear".to_owned(),
        (IntervalSubject::Figure(_), known) => known_name(known).to_owned(),
    }
}

fn known_name(known: Known) -> &'static str {
    match known {
        Known::Better => "better",
        Known::Worse => "worse",
        Known::Same => "no difference worth having",
        Known::Undecided => "undecided",
    }
}

/// A number with its sign, and none where nothing is left of it.
pub(crate) fn signed(percent: f64) -> String {
    let text = format!("{percent:+.1}");
    match text.as_str() {
        "+0.0" | "-0.0" => "0.0".to_owned(),
        _ => text,
    }
}

fn known_class(known: Known) -> &'static str {
    match known {
        Known::Better => "better",
        Known::Worse => "worse",
        Known::Same => "same",
        Known::Undecided => "undecided",
    }
}

fn arm_name(arm: Option<Arm>) -> &'static str {
    match arm {
        Some(Arm::A) => "A",
        Some(Arm::B) => "B",
        None => "",
    }
}

fn arm_class(arm: Option<Arm>) -> &'static str {
    match arm {
        Some(Arm::A) => "a",
        Some(Arm::B) | None => "b",
    }
}

/// A straight scale from values to places.
#[derive(Clone, Copy)]
struct Scale {
    low: f64,
    high: f64,
    from: f64,
    to: f64,
}

impl Scale {
    fn at(self, value: f64) -> f64 {
        let span = if self.high > self.low { self.high - self.low } else { 1.0 };
        self.from + (value - self.low) / span * (self.to - self.from)
    }

    /// About so many round values within it.
    fn round_values(self, about: f64) -> Vec<f64> {
        let raw = (self.high - self.low) / about;
        // Nothing lies between values that are the same, as far as numbers tell them apart.
        if raw <= self.high.abs() * f64::EPSILON {
            return vec![self.low];
        }
        let power = 10.0_f64.powf(raw.log10().floor());
        let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|one| one * power).find(|one| *one >= raw);
        let step = step.unwrap_or(raw);
        let first = (self.low / step).ceil() as i64;
        let last = (self.high / step).floor() as i64;
        (first..=last.min(first + 40)).map(|at| at as f64 * step).collect()
    }
}

fn across(low: f64, high: f64) -> Scale {
    Scale { low, high, from: LEFT, to: WIDTH - RIGHT }
}

fn number(value: f64) -> String {
    let text = format!("{value:.3}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

fn place(value: f64) -> String {
    format!("{value:.1}")
}

/// The axis below a panel, with round values and what they are.
fn axis_below(scale: Scale, top: f64, bottom: f64, unit: &str) -> Markup {
    html! {
        @for value in scale.round_values(8.0) {
            @let x = scale.at(value);
            line class="grid" x1=(place(x)) x2=(place(x)) y1=(place(top)) y2=(place(bottom)) {}
            text class="faint" x=(place(x)) y=(place(bottom + 15.0)) text-anchor="middle" { (number(value)) }
        }
        line class="axis" x1=(place(LEFT)) x2=(place(WIDTH - RIGHT)) y1=(place(bottom)) y2=(place(bottom)) {}
        text class="faint" x=(place(WIDTH - RIGHT)) y=(place(bottom + 30.0)) text-anchor="end" { (unit) }
    }
}

fn axis_left(scale: Scale, values: &[f64], unit: &str) -> Markup {
    html! {
        @for value in values {
            @let y = scale.at(*value);
            line class="grid" x1=(place(LEFT)) x2=(place(WIDTH - RIGHT)) y1=(place(y)) y2=(place(y)) {}
            text class="faint" x=(place(LEFT - 6.0)) y=(place(y + 4.0)) text-anchor="end" { (number(*value)) }
        }
        text class="faint" x="0" y=(place(scale.to.min(scale.from) - 6.0)) { (unit) }
    }
}

const ROW: f64 = 40.0;

fn intervals(rows: &[IntervalRow]) -> (f64, Markup) {
    let ends = rows
        .iter()
        .flat_map(|row| [row.low_percent.abs(), row.high_percent.abs(), 1.5 * row.margin_percent]);
    let reach = ends.fold(1.0, f64::max) * 1.08;
    let scale = across(-reach, reach);
    let bottom = 8.0 + ROW * rows.len() as f64;
    let body = html! {
        (axis_below(scale, 4.0, bottom, "percent; less to the left, more to the right"))
        line class="zero" x1=(place(scale.at(0.0))) x2=(place(scale.at(0.0))) y1="4" y2=(place(bottom)) {}
        @for (at, row) in rows.iter().enumerate() {
            @let y = 8.0 + ROW * at as f64 + 26.0;
            @let class = known_class(row.known);
            @for side in [-1.0, 1.0] {
                @let x = scale.at(side * row.margin_percent);
                line class="margin" x1=(place(x)) x2=(place(x)) y1=(place(y - 10.0)) y2=(place(y + 10.0)) {}
            }
            text class="label" x=(place(LEFT)) y=(place(y - 12.0)) {
                (subject_name(&row.subject)) ": " (format!("{} %", signed(row.estimate_percent))) ", "
                (found_name(row))
            }
            line class=(class) x1=(place(scale.at(row.low_percent))) x2=(place(scale.at(row.high_percent)))
                y1=(place(y)) y2=(place(y)) stroke-width="3" {}
            (mark(row.known, scale.at(row.estimate_percent), y))
        }
    };
    (bottom + BELOW, body)
}

/// The estimate's mark: another shape for each that is known, so that it needs no colour.
fn mark(known: Known, x: f64, y: f64) -> Markup {
    let points = |places: [(f64, f64); 3]| {
        places.map(|(dx, dy)| format!("{:.1},{:.1}", x + dx, y + dy)).join(" ")
    };
    let class = known_class(known);
    match known {
        Known::Better => html! {
            polygon class=(class) points=(points([(0.0, -8.0), (7.0, 6.0), (-7.0, 6.0)])) {}
        },
        Known::Worse => html! {
            polygon class=(class) points=(points([(0.0, 8.0), (7.0, -6.0), (-7.0, -6.0)])) {}
        },
        Known::Same => {
            html! { rect class=(class) x=(place(x - 6.0)) y=(place(y - 6.0)) width="12" height="12" {} }
        }
        Known::Undecided => {
            html! { circle class=(class) cx=(place(x)) cy=(place(y)) r="6" stroke-width="2" {} }
        }
    }
}

/// Round lengths, each twice as long as the one before.
fn doubling(low_ms: f64, high_ms: f64) -> Vec<f64> {
    let all = (-2..12).map(|power| 2.0_f64.powi(power));
    all.filter(|ms| *ms >= low_ms && *ms <= high_ms).collect()
}

fn over_time(frames: &[FramesOf]) -> (f64, Markup) {
    let stretches = || frames.iter().flat_map(|one| &one.shape.stretches);
    let end_s = stretches().map(|stretch| stretch.to_s).fold(0.0, f64::max);
    let low = stretches().map(|one| one.shortest_ms).fold(f64::INFINITY, f64::min).max(0.25) * 0.9;
    let high = stretches().map(|one| one.longest_ms).fold(1.0, f64::max) * 1.1;
    let time = across(0.0, end_s.max(1.0));
    let mut panels = Vec::new();
    for (at, one) in frames.iter().enumerate() {
        let top = 20.0 + at as f64 * (PANEL + BELOW);
        let lengths = Scale { low: low.ln(), high: high.ln(), from: top + PANEL, to: top };
        let y = |ms: f64| lengths.at(ms.max(low).ln());
        let mut path = String::new();
        let upper = one.shape.stretches.iter().map(|stretch| (stretch, stretch.longest_ms));
        let lower = one.shape.stretches.iter().rev().map(|stretch| (stretch, stretch.shortest_ms));
        for (step, (stretch, ms)) in upper.chain(lower).enumerate() {
            let x = time.at(f64::midpoint(stretch.from_s, stretch.to_s));
            let letter = if step == 0 { 'M' } else { 'L' };
            path.push_str(&format!("{letter}{x:.1} {:.1}", y(ms)));
        }
        path.push('Z');
        panels.push(html! {
            @for ms in doubling(low, high) {
                line class="grid" x1=(place(LEFT)) x2=(place(WIDTH - RIGHT)) y1=(place(y(ms))) y2=(place(y(ms))) {}
                text class="faint" x=(place(LEFT - 6.0)) y=(place(y(ms) + 4.0)) text-anchor="end" { (number(ms)) }
            }
            (axis_below(time, top, top + PANEL, "seconds"))
            path class=(format!("of-{}", arm_class(one.arm))) stroke-width="0.7" d=(path) {}
            text class="label" x=(place(LEFT + 6.0)) y=(place(top + 14.0)) { (arm_name(one.arm)) }
            text class="faint" x="0" y=(place(top - 6.0)) { "ms" }
        });
    }
    let height = 20.0 + frames.len() as f64 * (PANEL + BELOW);
    (height, html! { @for panel in panels { (panel) } })
}

/// The lengths that nearly all frames have: what lies beyond stands in the figures over time.
fn common_lengths(frames: &[FramesOf]) -> (f64, f64) {
    let bins = || frames.iter().flat_map(|one| &one.shape.bins);
    let low = bins().filter(|bin| bin.share_up_to > 0.001).map(|bin| bin.from_ms);
    let high = bins().filter(|bin| bin.share_up_to < 0.995).map(|bin| bin.to_ms);
    let low = low.fold(f64::INFINITY, f64::min);
    (low, high.fold(low * 1.2, f64::max))
}

fn by_length(frames: &[FramesOf]) -> (f64, Markup) {
    let (low, high) = common_lengths(frames);
    let lengths = across(low, high);
    let highest = frames.iter().flat_map(|one| &one.shape.bins).map(|bin| bin.share);
    let highest = 100.0 * highest.fold(0.0, f64::max) * 1.05;
    let mut panels = Vec::new();
    for (at, one) in frames.iter().enumerate() {
        let top = 20.0 + at as f64 * (PANEL + BELOW);
        let shares = Scale { low: 0.0, high: highest, from: top + PANEL, to: top };
        let bins = one.shape.bins.iter().filter(|bin| bin.from_ms >= low && bin.to_ms <= high);
        panels.push(html! {
            (axis_left(shares, &shares.round_values(4.0), "% of frames"))
            (axis_below(lengths, top, top + PANEL, "milliseconds"))
            @for bin in bins {
                @let (x, y) = (lengths.at(bin.from_ms), shares.at(100.0 * bin.share));
                rect class=(format!("of-{}", arm_class(one.arm))) x=(place(x)) y=(place(y))
                    width=(place(lengths.at(bin.to_ms) - x)) height=(place(top + PANEL - y)) stroke-width="0.5" {}
            }
            text class="label" x=(place(LEFT + 6.0)) y=(place(top + 14.0)) { (arm_name(one.arm)) }
        });
    }
    let height = 20.0 + frames.len() as f64 * (PANEL + BELOW);
    (height, html! { @for panel in panels { (panel) } })
}

fn up_to_length(frames: &[FramesOf]) -> (f64, Markup) {
    let (low, high) = common_lengths(frames);
    let lengths = across(low, high * 1.1);
    let shares = Scale { low: 0.0, high: 100.0, from: 20.0 + PANEL, to: 20.0 };
    let curves = frames.iter().map(|one| {
        let bins = one.shape.bins.iter().filter(|bin| bin.to_ms <= high * 1.1);
        let points = bins.map(|bin| {
            let (x, y) = (lengths.at(bin.to_ms.max(low)), shares.at(100.0 * bin.share_up_to));
            format!("{x:.1},{y:.1}")
        });
        (one, points.collect::<Vec<_>>().join(" "))
    });
    let body = html! {
        (axis_left(shares, &[0.0, 25.0, 50.0, 75.0, 99.0], "% of frames"))
        (axis_below(lengths, 20.0, 20.0 + PANEL, "milliseconds"))
        @for (one, points) in curves {
            polyline class=(format!("line-{}", arm_class(one.arm))) points=(points) {}
        }
        (legend(frames.iter().map(|one| one.arm), 20.0 + PANEL - 30.0))
    };
    (20.0 + PANEL + BELOW, body)
}

/// Which line is whose: dashed and full.
fn legend(arms: impl Iterator<Item = Option<Arm>>, y: f64) -> Markup {
    html! {
        @for (at, arm) in arms.enumerate() {
            @let y = y + 16.0 * at as f64;
            line class=(format!("line-{}", arm_class(arm))) x1=(place(WIDTH - 90.0)) x2=(place(WIDTH - 56.0)) y1=(place(y)) y2=(place(y)) {}
            text x=(place(WIDTH - 50.0)) y=(place(y + 4.0)) { (arm_name(arm)) }
        }
    }
}

/// A scale up for rates that are near each other.
fn rates(values: impl Iterator<Item = f64> + Clone) -> Scale {
    let low = values.clone().fold(f64::INFINITY, f64::min);
    let high = values.fold(0.0, f64::max);
    let room = ((high - low) * 0.15).max(high * 0.01);
    Scale { low: low - room, high: high + room, from: 20.0 + PANEL, to: 20.0 }
}

fn pair_points(pairs: &[PairPoint]) -> (f64, Markup) {
    let scale = rates(pairs.iter().flat_map(|pair| [pair.a_fps, pair.b_fps]));
    let order = across(0.5, pairs.len() as f64 + 0.5);
    let body = html! {
        (axis_left(scale, &scale.round_values(5.0), "average FPS"))
        line class="axis" x1=(place(LEFT)) x2=(place(WIDTH - RIGHT)) y1=(place(20.0 + PANEL)) y2=(place(20.0 + PANEL)) {}
        @for pair in pairs {
            @let x = order.at(pair.pair as f64);
            line class="grid" x1=(place(x)) x2=(place(x)) y1=(place(scale.at(pair.a_fps))) y2=(place(scale.at(pair.b_fps))) {}
            circle class="dot-a" cx=(place(x)) cy=(place(scale.at(pair.a_fps))) r="4" {}
            rect class="dot-b" x=(place(x - 4.0)) y=(place(scale.at(pair.b_fps) - 4.0)) width="8" height="8" {}
            @if pairs.len() <= 24 || pair.pair % 5 == 0 {
                text class="faint" x=(place(x)) y=(place(20.0 + PANEL + 15.0)) text-anchor="middle" { (pair.pair) }
            }
        }
        text class="faint" x=(place(WIDTH - RIGHT)) y=(place(20.0 + PANEL + 30.0)) text-anchor="end" { "pair; ring: A, square: B" }
    };
    (20.0 + PANEL + BELOW, body)
}

fn segment_points(segments: &[SegmentPoint]) -> (f64, Markup) {
    let scale = rates(segments.iter().filter_map(|one| one.fps));
    let end_s = segments.iter().map(|one| one.at_s).fold(1.0, f64::max);
    let time = across(0.0, end_s / 60.0);
    let body = html! {
        (axis_left(scale, &scale.round_values(5.0), "average FPS"))
        (axis_below(time, 20.0, 20.0 + PANEL, "minutes of play; ring: A, square: B"))
        @for (one, fps) in segments.iter().filter_map(|one| Some((one, one.fps?))) {
            @let (x, y) = (time.at(one.at_s / 60.0), scale.at(fps));
            @match one.arm {
                Arm::A => circle class="dot-a" cx=(place(x)) cy=(place(y)) r="2.5" {},
                Arm::B => rect class="dot-b" x=(place(x - 2.5)) y=(place(y - 2.5)) width="5" height="5" {},
            }
        }
    };
    (20.0 + PANEL + BELOW, body)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;
    use frevin_core::tweak::TweakUse;
    use frevin_frames::ShapeOf;

    fn frames(arm: Option<Arm>, lengths: &[f64]) -> FramesOf {
        let mut shape = ShapeOf::new(lengths.iter().sum(), 300);
        shape.see(lengths);
        FramesOf { arm, shape: shape.finish() }
    }

    fn row(id: &str, percent: f64, known: Known) -> IntervalRow {
        IntervalRow {
            subject: IntervalSubject::Tweak(TweakUse::plain(id.parse().unwrap())),
            low_percent: percent - 1.0,
            estimate_percent: percent,
            high_percent: percent + 1.0,
            margin_percent: 2.0,
            known,
            sure_percent: None,
        }
    }

    /// Figures of every kind, with frames of two states of which one has a spike.
    fn figures() -> Figures {
        let mut spiky = vec![10.0; 4000];
        spiky[2500] = 120.0;
        Figures {
            intervals: vec![
                row("a/helps", 4.0, Known::Better),
                row("a/hurts", -4.0, Known::Worse),
                row("a/none", 0.0, Known::Same),
                row("a/open", 1.0, Known::Undecided),
            ],
            frames: vec![frames(Some(Arm::A), &spiky), frames(Some(Arm::B), &[9.0; 4000])],
            pairs: (1..=40)
                .map(|pair| PairPoint { pair, first: Arm::A, a_fps: 100.0, b_fps: 104.0 })
                .collect(),
            segments: (0..30)
                .map(|at| SegmentPoint {
                    sitting: 1,
                    at_s: 30.0 + 6.0 * f64::from(at),
                    arm: if at % 2 == 0 { Arm::A } else { Arm::B },
                    fps: (at != 7).then_some(90.0),
                })
                .collect(),
        }
    }

    /// The numbers of the attributes of a drawing.
    fn numbers(svg: &str) -> Vec<f64> {
        svg.split(['"', ' ', ',', 'M', 'L', 'Z']).filter_map(|piece| piece.parse().ok()).collect()
    }

    #[test]
    fn every_drawing_stands_alone_and_stays_within_its_frame() {
        let figures = figures();
        let all = Drawing::all(&figures);
        assert_eq!(all.len(), 6);
        for drawing in all {
            let svg = drawing.svg(true).into_string();
            assert!(svg.starts_with("<svg class=\"drawing\" xmlns="), "{}", drawing.name());
            assert!(!svg.contains("NaN") && !svg.contains("inf"), "{}", drawing.name());
            let height: f64 =
                svg.split("height=\"").nth(1).unwrap().split('"').next().unwrap().parse().unwrap();
            // What it says in words is no place.
            let drawn = svg.split("</desc>").nth(1).unwrap();
            let largest = numbers(drawn).into_iter().fold(0.0, f64::max);
            assert!(largest <= WIDTH.max(height), "{}: {largest}", drawing.name());
            assert_eq!(svg.matches("<title").count(), 1);
            assert!(!drawing.title().is_empty() && drawing.caption().ends_with('.'));
            // On a page its namespace is that of the page.
            assert!(!drawing.svg(false).into_string().contains("xmlns"));
        }
        assert!(Drawing::all(&Figures::default()).is_empty());
    }

    #[test]
    fn what_is_known_has_a_shape_of_its_own_and_needs_no_colour() {
        let figures = figures();
        let svg = Drawing::Intervals(&figures.intervals).svg(true).into_string();
        assert_eq!(svg.matches("<polygon").count(), 2, "one up, one down");
        assert_eq!(svg.matches("<circle").count(), 1);
        assert_eq!(svg.matches("<rect class=\"same\"").count(), 1);
        for word in ["helps", "hurts", "no effect of 2 %", "unclear"] {
            assert!(svg.contains(word), "{word}");
        }
        let pairs = Drawing::Pairs(&figures.pairs).svg(false).into_string();
        assert_eq!(pairs.matches("<circle class=\"dot-a\"").count(), 40);
        assert_eq!(pairs.matches("<rect class=\"dot-b\"").count(), 40);
        let words = Drawing::Pairs(&figures.pairs).in_words();
        assert_eq!(words, "B had the higher rate in 40 of 40 pairs");
    }

    #[test]
    fn a_spike_reaches_as_high_as_it_is_long() {
        let figures = figures();
        let (_, body) = over_time(&figures.frames);
        let body = body.into_string();
        let path = body.split("<path").nth(1).unwrap();
        let heights: Vec<f64> = path
            .split(['M', 'L'])
            .skip(1)
            .filter_map(|point| {
                point
                    .split_whitespace()
                    .nth(1)?
                    .trim_end_matches('Z')
                    .split('"')
                    .next()?
                    .parse()
                    .ok()
            })
            .collect();
        let top = heights.iter().copied().fold(f64::INFINITY, f64::min);
        // The scale ends a tenth above the longest frame of all.
        assert!((20.0..30.0).contains(&top), "{top}");
        let words = Drawing::OverTime(&figures.frames).in_words();
        assert!(words.contains("A 4000 frames, the longest 120.0 ms"), "{words}");
    }

    #[test]
    fn data_are_rows_that_other_programs_read() {
        let figures = figures();
        for (drawing, heading, rows) in [
            (Drawing::Intervals(&figures.intervals), "of,low_percent", 4),
            (Drawing::Pairs(&figures.pairs), "pair,first,a_fps,b_fps", 40),
            (Drawing::Segments(&figures.segments), "sitting,at_s,state,fps", 30),
        ] {
            let csv = drawing.csv();
            assert!(csv.starts_with(heading), "{csv}");
            assert_eq!(csv.lines().count(), rows + 1);
            let columns =
                heading.split(',').count().max(csv.lines().next().unwrap().split(',').count());
            assert!(csv.lines().all(|line| line.split(',').count() == columns), "{csv}");
        }
        let segments = Drawing::Segments(&figures.segments).csv();
        assert_eq!(
            segments.lines().filter(|line| line.ends_with(',')).count(),
            1,
            "one does not count"
        );
    }

    #[test]
    fn round_values_are_round_and_few() {
        let scale = |low, high| Scale { low, high, from: 0.0, to: 100.0 };
        assert_eq!(scale(0.0, 10.0).round_values(5.0), [0.0, 2.0, 4.0, 6.0, 8.0, 10.0]);
        assert_eq!(scale(-11.0, 11.0).round_values(5.0), [-10.0, -5.0, 0.0, 5.0, 10.0]);
        assert_eq!(scale(83.2, 90.1).round_values(4.0), [84.0, 86.0, 88.0, 90.0]);
        for (low, high) in [(0.0, 0.003), (1e6, 1e6 + 1.0), (5.0, 5.0)] {
            assert!(scale(low, high).round_values(6.0).len() <= 41, "{low} {high}");
        }
        assert_eq!(
            (number(2.0), number(0.25), number(-10.0)),
            ("2".into(), "0.25".into(), "-10".into())
        );
        assert_eq!(doubling(8.0, 70.0), [8.0, 16.0, 32.0, 64.0]);
        assert_eq!(
            (signed(-0.04), signed(0.04), signed(-1.25)),
            ("0.0".into(), "0.0".into(), "-1.2".into())
        );
    }
}
