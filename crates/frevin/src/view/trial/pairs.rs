//! The pairs of a trial, row by row.

use frevin_core::trial::Arm;
use frevin_core::verdict::Judge;

use crate::operations::trial::{PairReport, SideReport};
use crate::view::{Page, Table, dim, fps, percent};

/// Every pair with what its visits gave, in the figure that is judged by.
pub(super) fn show_pairs(pairs: &[PairReport], judge: Judge, page: &mut Page) {
    if pairs.is_empty() {
        return;
    }
    page.heading("The pairs, in the order in which they were made");
    page.table(match judge {
        Judge::FrameRate => frames_of(pairs),
        Judge::Ping => pings_of(pairs),
        Judge::Latency => latencies_of(pairs),
    });
    if pairs.iter().any(|pair| !pair.a.doubts.is_empty() || !pair.b.doubts.is_empty()) {
        page.line(dim(
            "  ? a visit of it was doubtful again and again, and was taken all the same",
        ));
    }
}

/// The number of a pair, and which state was visited first.
fn begin_of_row(pair: &PairReport) -> [String; 2] {
    let first = match pair.first {
        Arm::A => "A",
        Arm::B => "B",
    };
    let in_doubt = if pair.a.doubts.is_empty() && pair.b.doubts.is_empty() { "" } else { " ?" };
    [format!("{}{in_doubt}", pair.pair), first.to_owned()]
}

fn frames_of(pairs: &[PairReport]) -> Table {
    let mut table = Table::new([
        ">pair",
        "first",
        ">A FPS",
        ">B FPS",
        ">differs",
        ">A 1% low",
        ">B 1% low",
        ">differs",
        ">stutters A, B",
    ]);
    for pair in pairs {
        let (Some(a), Some(b)) = (&pair.a.frames, &pair.b.frames) else { continue };
        let figures = [
            fps(a.average_fps),
            fps(b.average_fps),
            percent(b.average_fps / a.average_fps - 1.0),
            fps(a.low_1_percent_fps),
            fps(b.low_1_percent_fps),
            percent(b.low_1_percent_fps / a.low_1_percent_fps - 1.0),
            format!("{}, {}", a.stutter_events, b.stutter_events),
        ];
        table.row([&begin_of_row(pair)[..], &figures].concat());
    }
    table
}

fn pings_of(pairs: &[PairReport]) -> Table {
    let mut table = Table::new([
        ">pair",
        "first",
        ">A median",
        ">B median",
        ">A slow",
        ">B slow",
        ">lost A, B",
    ]);
    let ms = |ms: f64| format!("{ms:.2} ms");
    for pair in pairs {
        let (Some(a), Some(b)) = (&pair.a.ping, &pair.b.ping) else { continue };
        let figures = [
            ms(a.ping_median_ms),
            ms(b.ping_median_ms),
            ms(a.ping_percentile_95_ms),
            ms(b.ping_percentile_95_ms),
            format!("{}, {}", a.ping_loss.lost, b.ping_loss.lost),
        ];
        table.row([&begin_of_row(pair)[..], &figures].concat());
    }
    table
}

fn latencies_of(pairs: &[PairReport]) -> Table {
    let headings =
        [">pair", "first", ">A median", ">B median", ">A slow", ">B slow", ">A FPS", ">B FPS"];
    let mut table = Table::new(headings);
    let ms = |ms: f64| format!("{ms:.2} ms");
    for pair in pairs {
        let (Some(a), Some(b)) = (&pair.a.latency, &pair.b.latency) else { continue };
        let rate = |side: &SideReport| {
            side.frames.as_ref().map_or_else(String::new, |f| fps(f.average_fps))
        };
        let figures = [
            ms(a.latency_median_ms),
            ms(b.latency_median_ms),
            ms(a.latency_percentile_95_ms),
            ms(b.latency_percentile_95_ms),
            rate(&pair.a),
            rate(&pair.b),
        ];
        table.row([&begin_of_row(pair)[..], &figures].concat());
    }
    table
}
