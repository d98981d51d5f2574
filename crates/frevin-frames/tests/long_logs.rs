//! Logs of several pieces, which are read on every core and joined in order.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test may fail")]

use std::convert::Infallible;
use std::fmt::Write as _;

use frevin_frames::{
    FrameBlocks, FrameSeries, FrameTally, LogError, LogOptions, LogReading, Metrics, read_log,
    read_log_bytes, tally,
};

/// Rows enough for a dozen pieces.
const ROWS: usize = 120_000;

/// A frame time of four decimals, another one each row.
fn frame_ms(row: usize) -> f64 {
    let wanders = 160_000 + (row * 7919) % 9973 + if row.is_multiple_of(997) { 400_000 } else { 0 };
    wanders as f64 / 10_000.0
}

fn expected() -> Vec<f64> {
    (0..ROWS).map(frame_ms).collect()
}

/// A log with what recorders write beside the frames.
fn wide(program_of: impl Fn(usize) -> &'static str) -> String {
    let mut text = "Program,Elapsed (ms),Frame time (ms),GPU busy (ms),Input lag (ms)\n".to_owned();
    for row in 0..ROWS {
        let ms = frame_ms(row);
        let lag = if row.is_multiple_of(40) { format!("{:.3}", ms * 2.0) } else { "NA".to_owned() };
        writeln!(text, "{},{row}.25,{ms:.4},{:.4},{lag}", program_of(row), ms / 2.0).unwrap();
    }
    text
}

struct Blocks(Vec<Vec<f64>>);

impl FrameBlocks for Blocks {
    type Error = Infallible;

    fn each_block(&self, see: &mut dyn FnMut(&[f64])) -> Result<(), Infallible> {
        self.0.iter().for_each(|block| see(block));
        Ok(())
    }
}

fn read(text: &str, options: &LogOptions) -> Result<(Vec<f64>, Metrics, LogReading), LogError> {
    let mut blocks = Blocks(Vec::new());
    let mut keep = |frames: Vec<f64>| {
        blocks.0.push(frames);
        Ok(())
    };
    let (reading, tally) = read_log(&mut text.as_bytes(), options, &mut keep)?;
    let Ok((metrics, _)) = tally.finish(&blocks);
    Ok((blocks.0.concat(), metrics, reading))
}

fn frame_times() -> LogOptions {
    LogOptions { column: Some("Frame time (ms)".to_owned()), ..LogOptions::default() }
}

#[test]
fn frames_of_many_pieces_come_in_order_with_the_figures_of_the_whole() {
    let text = wide(|_| "moor.exe");
    let (frames, metrics, reading) = read(&text, &frame_times()).unwrap();
    assert_eq!(frames, expected());
    assert_eq!((reading.rows, reading.rejected), (ROWS as u64, 0));
    let (of_series, _) = tally(&FrameSeries::new(expected()).unwrap());
    let close = |a: f64, b: f64| (a / b - 1.0).abs() < 1e-12;
    assert_eq!(
        (metrics.frames, metrics.median_fps, metrics.low_1_percent_fps, metrics.stutter.events),
        (
            of_series.frames,
            of_series.median_fps,
            of_series.low_1_percent_fps,
            of_series.stutter.events
        )
    );
    assert!(close(metrics.average_fps, of_series.average_fps), "{metrics:?}");
    assert!(close(metrics.standard_deviation_ms, of_series.standard_deviation_ms), "{metrics:?}");
    assert!(close(metrics.pacing_ms, of_series.pacing_ms), "{metrics:?}");
    assert_eq!(metrics.longest_frame_ms, of_series.longest_frame_ms);
    let latency = reading.readings.latency.unwrap();
    assert_eq!(latency.frames, ROWS.div_ceil(40) as u64);
    assert!((reading.readings.graphics_busy_share.unwrap() - 0.5).abs() < 1e-4);
}

#[test]
fn the_same_log_says_the_same_to_the_last_bit_each_time() {
    let text = wide(|_| "moor.exe");
    let first = read(&text, &frame_times()).unwrap();
    for _ in 0..3 {
        assert_eq!(read(&text, &frame_times()).unwrap(), first);
    }
}

#[test]
fn another_program_late_in_a_log_is_noticed_and_left_out_where_one_is_chosen() {
    let is_other = |row: usize| row > ROWS - 10 || row == 70_001;
    let text = wide(|row| if is_other(row) { "launcher.exe" } else { "moor.exe" });
    let Err(LogError::SeveralPrograms { column, found }) = read(&text, &frame_times()) else {
        panic!("it is of two programs");
    };
    assert_eq!((column.as_str(), found.as_str()), ("Program", "`launcher.exe`, `moor.exe`"));
    let only = vec![("Program".to_owned(), "moor.exe".to_owned())];
    let (frames, _, reading) = read(&text, &LogOptions { only, ..frame_times() }).unwrap();
    let expected: Vec<f64> = (0..ROWS).filter(|row| !is_other(*row)).map(frame_ms).collect();
    assert_eq!(frames, expected);
    assert_eq!(reading.rows, expected.len() as u64);
}

#[test]
fn a_row_without_a_frame_late_in_a_log_is_told_with_its_line() {
    let mut text = wide(|_| "moor.exe");
    let row = format!(",{:.4},", frame_ms(100_000));
    let at = text
        .match_indices(&row)
        .map(|(at, _)| at)
        .find(|at| text[..*at].bytes().filter(|byte| *byte == b'\n').count() == 100_001);
    let at = at.unwrap();
    text.replace_range(at + 1..at + row.len() - 1, "none");
    let (frames, _, reading) = read(&text, &frame_times()).unwrap();
    assert_eq!((frames.len(), reading.rejected), (ROWS - 1, 1));
    let rejected = &reading.rejected_rows[0];
    assert_eq!((rejected.line, rejected.reason.as_str()), (100_002, "`none` is not a number"));
}

#[test]
fn time_stamps_of_any_length_give_the_frames_between_them() {
    // Whole microseconds, so that differences are told without a remainder of their sum.
    let step_us = |row: usize| 8_000 + (row * 7919 % 997) as u64;
    for first_us in [0, 4_000_000_000, 123_456_789_000_000] {
        let mut at_us: u64 = first_us;
        let mut text = "program,timestamp_us\n".to_owned();
        for row in 0..ROWS {
            writeln!(text, "moor.exe,{at_us}").unwrap();
            at_us += step_us(row);
        }
        let (frames, ..) = read(&text, &LogOptions::default()).unwrap();
        assert_eq!(frames.len(), ROWS - 1);
        let wrong = frames
            .iter()
            .enumerate()
            .find(|(row, ms)| (**ms - step_us(*row) as f64 / 1000.0).abs() > 1e-4);
        assert_eq!(wrong, None, "from {first_us} us");
    }
}

#[test]
fn line_ends_quotes_and_a_missing_last_end_change_nothing() {
    let text = wide(|_| "moor.exe");
    let (expected, ..) = read(&text, &frame_times()).unwrap();
    let of = |text: String| read(&text, &frame_times()).unwrap().0;
    assert_eq!(of(text.replace('\n', "\r\n")), expected);
    assert_eq!(of(text.trim_end().to_owned()), expected);
    assert_eq!(of(text.replace("moor.exe", "\"moor.exe\"")), expected);
    assert_eq!(of(text.replace(',', ";").replace('.', ",")), expected);
    let (series, _) = read_log_bytes(text.as_bytes(), &frame_times()).unwrap();
    assert_eq!(series.into_frame_ms(), expected);
}

#[test]
fn a_tally_says_the_same_however_frames_come() {
    let frames = expected();
    let blocks = Blocks(vec![frames.clone()]);
    let figures = |length: usize| {
        let mut tally = FrameTally::default();
        frames.chunks(length).for_each(|frames| tally.see(frames));
        let Ok((metrics, shown)) = tally.finish(&blocks);
        (metrics.low_1_percent_fps, metrics.stutter.frames, metrics.stutter.events, shown.pauses)
    };
    let whole = figures(ROWS);
    for length in [1, 61, 4_096, 70_000] {
        assert_eq!(figures(length), whole, "{length}");
    }
}

/// As recorders on Windows write it: a whole path, carriage returns, another unit beside the frames, and a column behind
/// all that is wanted.
#[test]
fn paths_of_any_length_and_other_units_are_read_in_every_row() {
    let long =
        r"C:\Program Files\Gorsehollow Riders as the owner has installed them\bin\riders.exe";
    for path in [long, "moor.exe"] {
        let mut text =
            "Application,Frame time (ms),GPU busy (us),GPU clock (MHz),Note\r\n".to_owned();
        for row in 0..ROWS {
            let (ms, mhz) = (frame_ms(row), 1500 + row % 100);
            let note = "x".repeat(row % 70);
            write!(text, "{path},{ms:.4},{:.1},{mhz},{note}\r\n", ms * 900.0).unwrap();
        }
        let (frames, _, reading) = read(&text, &LogOptions::default()).unwrap();
        assert_eq!(frames, expected(), "{path}");
        assert_eq!((reading.rows, reading.rejected), (ROWS as u64, 0));
        let readings = reading.readings;
        assert!((readings.graphics_busy_share.unwrap() - 0.9).abs() < 1e-4, "{readings:?}");
        let clock = readings.graphics_mhz.unwrap();
        assert_eq!((clock.lowest, clock.highest), (1500.0, 1599.0));
        assert!((clock.average - 1549.5).abs() < 1e-9);

        // One row of another program is found wherever it is.
        let rows: Vec<&str> = text.split_inclusive('\n').collect();
        let other = rows[ROWS / 2].replacen(path, "other.exe", 1);
        let mixed = [&rows[..ROWS / 2], &[&other[..]], &rows[ROWS / 2 + 1..]].concat().concat();
        let error = read(&mixed, &LogOptions::default()).unwrap_err();
        assert!(error.to_string().contains("`other.exe`"), "{error}");
    }
}
