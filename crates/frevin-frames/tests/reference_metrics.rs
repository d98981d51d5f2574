//! The figures of a run against values computed elsewhere, and logs of the same run in other
//! dialects.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use frevin_frames::{FrameSeries, LogOptions, Metrics, TimeUnit, metrics, read_log_bytes};

/// A run made by a rule that can be written down in any language: 7 + (i * i * 31 mod 97) / 20 ms,
/// and a long frame of 60 ms after every 400.
fn frame_ms() -> Vec<f64> {
    (0..5000u64)
        .map(|i| if i % 401 == 400 { 60.0 } else { 7.0 + (i * i * 31 % 97) as f64 / 20.0 })
        .collect()
}

fn close(name: &str, given: f64, expected: f64) {
    let error = (given / expected - 1.0).abs();
    assert!(error < 1e-6, "{name}: {given} is not {expected}");
}

type Figure = (&'static str, f64, fn(&Metrics) -> f64);

/// Computed with Python's own arithmetic from the definitions, sorting each window whole.
const REFERENCE: [Figure; 11] = [
    ("average", 105.0153217354412, |m| m.average_fps),
    ("median", 106.38297872340425, |m| m.median_fps),
    ("1% low", 84.7457627118644, |m| m.low_1_percent_fps),
    ("0.1% low", 16.666666666666668, |m| m.low_0_1_percent_fps),
    ("slowest 1 %", 42.793563847997255, |m| m.slowest_1_percent_average_fps),
    ("slowest 0.1 %", 16.666666666666668, |m| m.slowest_0_1_percent_average_fps),
    ("1% low by time", 16.666666666666668, |m| m.time_weighted_low_1_percent_fps),
    ("standard deviation", 2.9029512170812914, |m| m.standard_deviation_ms),
    ("pacing", 0.20222224277293013, |m| m.pacing_share),
    ("stutters a minute", 15.122206329903534, |m| m.stutter.events_per_minute),
    ("stutter share", 0.012741508986161084, |m| m.stutter.excess_share),
];

#[test]
fn figures_agree_with_another_implementation() {
    let m = metrics(&FrameSeries::new(frame_ms()).unwrap());
    for (name, expected, of) in REFERENCE {
        close(name, of(&m), expected);
    }
    assert_eq!((m.frames, m.stutter.frames, m.stutter.events), (5000, 12, 12));
}

fn read(text: &str, column: &str, unit: TimeUnit) -> Metrics {
    let options =
        LogOptions { column: Some(column.into()), unit: Some(unit), ..LogOptions::default() };
    metrics(&read_log_bytes(text.as_bytes(), &options).unwrap().0)
}

#[test]
fn every_dialect_of_a_log_gives_the_same_figures() {
    let expected = metrics(&FrameSeries::new(frame_ms()).unwrap());
    let rows =
        |line: &dyn Fn(f64) -> String| frame_ms().iter().map(|t| line(*t)).collect::<String>();
    let comma = format!("n,\"frame, ms\",gpu\n{}", rows(&|t| format!("1,{t},0.5\n")));
    let semicolon =
        format!("frame;n\r\n{}", rows(&|t| format!("{};x\r\n", t.to_string().replace('.', ","))));
    let tab = format!("\u{feff}n\tframe\n{}", rows(&|t| format!("7\t{}\n", t * 1000.0)));
    let seconds = format!("frame\n{}", rows(&|t| format!(" {:.9} \n\n", t / 1000.0)));
    for given in [
        read(&comma, "frame, ms", TimeUnit::Milliseconds),
        read(&semicolon, "frame", TimeUnit::Milliseconds),
        read(&tab, "frame", TimeUnit::Microseconds),
        read(&seconds, "frame", TimeUnit::Seconds),
    ] {
        close("average", given.average_fps, expected.average_fps);
        close("1% low", given.low_1_percent_fps, expected.low_1_percent_fps);
        close("pacing", given.pacing_ms, expected.pacing_ms);
        assert_eq!(given.stutter.events, expected.stutter.events);
    }
}
