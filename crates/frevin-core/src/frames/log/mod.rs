//! Reading a log of frame times, whatever its dialect: bytes in, frames out.

mod columns;
mod encoding;
mod json;
mod layout;

use std::fmt;
use std::str::FromStr;

use serde::Serialize;
use thiserror::Error;

use super::series::{FrameSeries, is_frame_time};

/// Above this share of rows that hold no frame time, a log is refused: whatever it is, it is
/// not what its reader takes it for.
const REJECTED_SHARE_LIMIT: f64 = 0.01;
/// How many rejected rows are kept to be shown.
const SHOWN_REJECTED_ROWS: usize = 5;

/// A unit of time in a log.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum TimeUnit {
    /// Milliseconds.
    #[serde(rename = "ms")]
    Milliseconds,
    /// Microseconds.
    #[serde(rename = "us")]
    Microseconds,
    /// Seconds.
    #[serde(rename = "s")]
    Seconds,
    /// Nanoseconds.
    #[serde(rename = "ns")]
    Nanoseconds,
}

impl TimeUnit {
    fn to_ms(self, value: f64) -> f64 {
        match self {
            Self::Milliseconds => value,
            Self::Microseconds => value / 1000.0,
            Self::Seconds => value * 1000.0,
            Self::Nanoseconds => value / 1_000_000.0,
        }
    }
}

impl FromStr for TimeUnit {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text {
            "ms" => Ok(Self::Milliseconds),
            "us" => Ok(Self::Microseconds),
            "s" => Ok(Self::Seconds),
            "ns" => Ok(Self::Nanoseconds),
            _ => Err(format!("`{text}` is not a unit; write ms, us, ns or s")),
        }
    }
}

impl fmt::Display for TimeUnit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Milliseconds => "ms",
            Self::Microseconds => "us",
            Self::Seconds => "s",
            Self::Nanoseconds => "ns",
        })
    }
}

/// What a column of a log holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Holds {
    /// How long each frame took.
    FrameTimes,
    /// When each frame was shown: frame times are what lies between two of them.
    TimeStamps,
}

/// What the reader of a log knows of it; the rest is found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LogOptions {
    /// The heading of the column to read; its number from 1 where there are no headings.
    pub column: Option<String>,
    /// The unit that its numbers are in.
    pub unit: Option<TimeUnit>,
    /// What it holds.
    pub holds: Option<Holds>,
    /// Only rows that hold this text in the column of this heading: one program of several.
    pub only: Option<(String, String)>,
}

/// A row that holds no frame time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct RejectedRow {
    /// The line that it begins on, from 1.
    pub line: u64,
    /// What is wrong with it.
    pub reason: String,
}

/// What was read from a log.
#[derive(Debug, Clone, PartialEq)]
pub struct LogReading {
    /// The frames.
    pub series: FrameSeries,
    /// What stands between the cells of a row; nothing in JSON.
    pub separator: Option<char>,
    /// What was taken for what, and why, in sentences.
    pub taken: Vec<String>,
    /// Rows below the heading.
    pub rows: u64,
    /// How many of them hold no frame time.
    pub rejected: u64,
    /// The first of those.
    pub rejected_rows: Vec<RejectedRow>,
}

/// Why a log cannot be read.
#[derive(Debug, Clone, PartialEq, Error)]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum LogError {
    #[error("the file is empty")]
    Empty,
    #[error("the file is not text: byte {offset} is not UTF-8")]
    NotText { offset: usize },
    #[error("there is no column `{column}`; there are {found}")]
    NoSuchColumn { column: String, found: String },
    #[error("several columns may be the one: {found}")]
    SeveralColumns { found: String },
    #[error("no column is named after frame times; there are {found}")]
    UnknownColumn { found: String },
    #[error("no row of numbers was found; it begins:\n{beginning}")]
    NoTable { beginning: String },
    #[error("no column holds numbers")]
    NoNumbers,
    #[error("the numbers of {column} are of no size that frame times have in any unit")]
    UnknownUnit { column: String },
    #[error("a comma may separate or be a decimal mark here; it begins:\n{beginning}")]
    UnclearComma { beginning: String },
    #[error("the log is of several: `{column}` holds {found}")]
    SeveralPrograms { column: String, found: String },
    #[error("two columns are called `{column}`; rename one of them")]
    ColumnTwice { column: String },
    #[error("there is a heading but no row with a frame time below it")]
    NoFrames,
    #[error("{rejected} of {rows} rows hold no frame time, the first in line {}: {}", .first.line, .first.reason)]
    TooManyRejected { rejected: u64, rows: u64, first: RejectedRow },
    #[error("line {line}: {reason}")]
    Broken { line: u64, reason: String },
}

/// Reads a log of frames: text with a row for each, or JSON.
///
/// What is not given is found: UTF-8 or UTF-16; the separator (comma, semicolon, tab, blanks) and
/// with it the decimal mark; the heading, below whatever lines come before it, or that there is none;
/// the column, by general words in its name; its unit, by its name or by the size of its numbers; and
/// whether it holds frame times or the times at which frames were shown. What was taken is told in
/// [`LogReading::taken`]. Blank lines are passed over. Rows without a frame time (a missing
/// cell, not a number, zero, negative) are counted and reported.
///
/// # Errors
/// [`LogError`], among them a log of which something cannot be told for certain, and one with more
/// than one such row in a hundred.
pub fn read_log(bytes: &[u8], options: &LogOptions) -> Result<LogReading, LogError> {
    let bytes = encoding::as_utf8(bytes)?;
    if bytes.iter().all(u8::is_ascii_whitespace) {
        return Err(LogError::Empty);
    }
    let first = bytes.iter().find(|byte| !byte.is_ascii_whitespace());
    if matches!(first, Some(b'{' | b'[')) {
        let text = std::str::from_utf8(&bytes).map_err(|_| LogError::NotText { offset: 0 })?;
        if let Some(table) = json::table(text)? {
            return read_json(&table, options);
        }
    }
    let layout = layout::find(&bytes, options)?;
    let spaced = layout.separator == b' ';
    let body = if spaced { layout::with_tabs(&bytes) } else { bytes };
    let separator = if spaced { b'\t' } else { layout.separator };
    let body = &body[layout.offset(&body)..];
    let chosen = choose_column(&layout.names, body, separator, options)?;
    let only = only_column(&layout.names, options)?;
    let mut several = Several::of(&layout.names, options);
    let mut rows = Rows::new(&chosen, layout.skipped_lines);
    let mut reader = reader(body, separator);
    let mut record = csv::ByteRecord::new();
    loop {
        let line = layout.skipped_lines + reader.position().line();
        match reader.read_byte_record(&mut record) {
            Ok(true) => {
                if let Some((column, text)) = &only
                    && record.get(*column).map(<[u8]>::trim_ascii) != Some(text.as_bytes())
                {
                    continue;
                }
                several.see(|column| record.get(column))?;
                let line = record.position().map_or(0, csv::Position::line);
                rows.take(record.get(chosen.index), line, separator);
            }
            Ok(false) => break,
            Err(error) => return Err(LogError::Broken { line, reason: error.to_string() }),
        }
    }
    let mut taken = layout.because;
    taken.extend(chosen.because.iter().cloned());
    rows.finish(Some(layout.separator.into()), taken)
}

fn read_json(table: &json::Table, options: &LogOptions) -> Result<LogReading, LogError> {
    let numbers: Vec<Vec<f64>> = (0..table.names.len().max(1))
        .map(|column| {
            let cells = table.rows.iter().take(SAMPLED_ROWS);
            let cells = cells.filter_map(|(_, row)| row.get(column)?.as_deref());
            cells.filter_map(|cell| number(cell.as_bytes(), b',')).collect()
        })
        .collect();
    let chosen = columns::choose(&table.names, &numbers, options)?;
    let only = only_column(&table.names, options)?;
    let mut several = Several::of(&table.names, options);
    let mut rows = Rows::new(&chosen, 0);
    for (line, row) in &table.rows {
        let cell = |column: usize| row.get(column).and_then(Option::as_deref);
        if let Some((column, text)) = &only
            && cell(*column) != Some(text)
        {
            continue;
        }
        several.see(|column| cell(column).map(str::as_bytes))?;
        rows.take(cell(chosen.index).map(str::as_bytes), *line, b',');
    }
    let mut taken = vec!["it is JSON".to_owned()];
    taken.extend(chosen.because.iter().cloned());
    rows.finish(None, taken)
}

fn reader(bytes: &[u8], separator: u8) -> csv::Reader<&[u8]> {
    csv::ReaderBuilder::new()
        .delimiter(separator)
        .flexible(true)
        .has_headers(false)
        .from_reader(bytes)
}

fn choose_column(
    names: &[String],
    body: &[u8],
    separator: u8,
    options: &LogOptions,
) -> Result<columns::Chosen, LogError> {
    let mut numbers: Vec<Vec<f64>> = vec![Vec::new(); names.len()];
    for record in reader(body, separator).byte_records().take(SAMPLED_ROWS).flatten() {
        numbers.resize(numbers.len().max(record.len()), Vec::new());
        for (column, cell) in record.iter().enumerate() {
            numbers[column].extend(number(cell.trim_ascii(), separator));
        }
    }
    if numbers.is_empty() {
        return Err(LogError::NoFrames);
    }
    if numbers.iter().all(Vec::is_empty) && options.column.is_none() {
        return Err(LogError::NoNumbers);
    }
    let mut chosen = columns::choose(names, &numbers, options);
    if let Err(LogError::UnknownUnit { .. }) = &chosen
        && numbers.iter().all(Vec::is_empty)
    {
        chosen = Err(LogError::NoFrames);
    }
    chosen
}

fn only_column(
    names: &[String],
    options: &LogOptions,
) -> Result<Option<(usize, String)>, LogError> {
    let Some((column, text)) = &options.only else { return Ok(None) };
    match names.iter().position(|name| name == column) {
        Some(at) => Ok(Some((at, text.clone()))),
        None => {
            let found = columns::list(names);
            Err(LogError::NoSuchColumn { column: column.clone(), found })
        }
    }
}

/// Watches for a log that is of several programs.
struct Several {
    column: Option<(usize, String)>,
    seen: std::collections::BTreeSet<String>,
}

impl Several {
    fn of(names: &[String], options: &LogOptions) -> Self {
        let is_program = |name: &&String| {
            let name = name.to_lowercase();
            ["process", "program", "application", "executable"]
                .iter()
                .any(|word| name.contains(word))
        };
        let found = names.iter().position(|name| is_program(&name));
        let column = found.filter(|_| options.only.is_none()).map(|at| (at, names[at].clone()));
        Self { column, seen: std::collections::BTreeSet::new() }
    }

    fn see<'a>(&mut self, cell: impl Fn(usize) -> Option<&'a [u8]>) -> Result<(), LogError> {
        let Some((column, name)) = &self.column else { return Ok(()) };
        let Some(text) = cell(*column).map(|cell| String::from_utf8_lossy(cell.trim_ascii()))
        else {
            return Ok(());
        };
        if !self.seen.contains(&*text) {
            self.seen.insert(text.into_owned());
        }
        if self.seen.len() > 1 {
            let seen: Vec<String> = self.seen.iter().cloned().collect();
            let found = columns::list(&seen);
            return Err(LogError::SeveralPrograms { column: name.clone(), found });
        }
        Ok(())
    }
}

/// How many rows are looked at before the column and its unit are chosen.
const SAMPLED_ROWS: usize = 200;

struct Rows<'a> {
    chosen: &'a columns::Chosen,
    skipped_lines: u64,
    /// The time stamp before, where they are what is read.
    before: Option<f64>,
    frame_ms: Vec<f64>,
    rows: u64,
    rejected: u64,
    rejected_rows: Vec<RejectedRow>,
}

impl<'a> Rows<'a> {
    fn new(chosen: &'a columns::Chosen, skipped_lines: u64) -> Self {
        Self {
            chosen,
            skipped_lines,
            before: None,
            frame_ms: Vec::new(),
            rows: 0,
            rejected: 0,
            rejected_rows: Vec::new(),
        }
    }

    fn take(&mut self, cell: Option<&[u8]>, line: u64, separator: u8) {
        self.rows += 1;
        let reason = match cell.map(<[u8]>::trim_ascii) {
            None | Some(b"") => "the row has no such cell".to_owned(),
            Some(cell) => {
                match number(cell, separator).map(|value| self.chosen.unit.to_ms(value)) {
                    Some(ms) => match self.frame(ms) {
                        Some(frame_ms) if is_frame_time(frame_ms) => {
                            self.frame_ms.push(frame_ms);
                            return;
                        }
                        Some(frame_ms) => format!("{frame_ms} ms is no frame time"),
                        // The first time stamp begins the first frame.
                        None => return,
                    },
                    None => format!("`{}` is not a number", String::from_utf8_lossy(cell)),
                }
            }
        };
        self.rejected += 1;
        if self.rejected_rows.len() < SHOWN_REJECTED_ROWS {
            self.rejected_rows.push(RejectedRow { line: self.skipped_lines + line, reason });
        }
    }

    /// The frame time that a number of the column says.
    fn frame(&mut self, ms: f64) -> Option<f64> {
        match self.chosen.holds {
            Holds::FrameTimes => Some(ms),
            Holds::TimeStamps => self.before.replace(ms).map(|before| ms - before),
        }
    }

    fn finish(self, separator: Option<char>, taken: Vec<String>) -> Result<LogReading, LogError> {
        let too_many = self.rejected as f64 > REJECTED_SHARE_LIMIT * self.rows as f64;
        if let (true, Some(first)) = (too_many, self.rejected_rows.first()) {
            let (rejected, rows, first) = (self.rejected, self.rows, first.clone());
            return Err(LogError::TooManyRejected { rejected, rows, first });
        }
        Ok(LogReading {
            series: FrameSeries::new(self.frame_ms).map_err(|_| LogError::NoFrames)?,
            separator,
            taken,
            rows: self.rows,
            rejected: self.rejected,
            rejected_rows: self.rejected_rows,
        })
    }
}

/// A number as the log writes it: where the comma does not separate, it may be the decimal mark.
fn number(cell: &[u8], separator: u8) -> Option<f64> {
    let text = std::str::from_utf8(cell).ok()?;
    match text.parse() {
        Err(_) if separator != b',' => text.replace(',', ".").parse().ok(),
        parsed => parsed.ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str, column: &str, unit: TimeUnit) -> Result<LogReading, LogError> {
        let options =
            LogOptions { column: Some(column.into()), unit: Some(unit), ..LogOptions::default() };
        read_log(text.as_bytes(), &options)
    }

    fn frames(text: &str, column: &str, unit: TimeUnit) -> Vec<f64> {
        read(text, column, unit).unwrap().series.frame_ms().to_vec()
    }

    #[test]
    fn separators_decimal_commas_units_and_line_ends_are_understood() {
        use TimeUnit::{Microseconds, Milliseconds, Seconds};
        assert_eq!(frames("n,t\n1,10\n2,12.5\n", "t", Milliseconds), [10.0, 12.5]);
        assert_eq!(frames("n;t\r\n1;10,5\r\n\r\n2;11", "t", Milliseconds), [10.5, 11.0]);
        assert_eq!(frames("\u{feff}t\tn\n8000\t1\n", "t", Microseconds), [8.0]);
        assert_eq!(frames("\"a, b\",t\n\"x\",0.016\n", "t", Seconds), [16.0]);
        assert_eq!(frames("t\n7\n", "t", Milliseconds), [7.0]);
    }

    #[test]
    fn a_few_bad_rows_are_told_and_many_are_refused() {
        let good = "10\n".repeat(200);
        let reading = read(&format!("t\n{good}oops\n-3\n"), "t", TimeUnit::Milliseconds).unwrap();
        assert_eq!((reading.rows, reading.rejected), (202, 2));
        assert_eq!(reading.rejected_rows[0].line, 202);
        assert_eq!(reading.rejected_rows[0].reason, "`oops` is not a number");
        assert_eq!(reading.rejected_rows[1].reason, "-3 ms is no frame time");

        let ragged = "a,t\n1,10\n2\n3,11\n";
        let error = read(ragged, "t", TimeUnit::Milliseconds).unwrap_err();
        assert_eq!(
            error.to_string(),
            "1 of 3 rows hold no frame time, the first in line 3: the row has no such cell"
        );
    }

    #[test]
    fn what_is_no_log_says_why() {
        let error = |text: &str| read(text, "t", TimeUnit::Milliseconds).unwrap_err();
        assert_eq!(error(" \n"), LogError::Empty);
        assert_eq!(error("t\n"), LogError::NoFrames);
        assert_eq!(error("t,t\n1,2\n"), LogError::ColumnTwice { column: "t".into() });
        assert_eq!(
            error("frame;time\n1;2\n").to_string(),
            "there is no column `t`; there are `frame`, `time`"
        );
        let binary = read_log(b"t\n\xff\xfe", &LogOptions::default());
        assert_eq!(binary, Err(LogError::NotText { offset: 2 }));
    }

    fn found(text: &str) -> Result<(Vec<f64>, Vec<String>), LogError> {
        let reading = read_log(text.as_bytes(), &LogOptions::default())?;
        Ok((reading.series.frame_ms().to_vec(), reading.taken))
    }

    #[track_caller]
    fn is_read(text: &str, frames: &[f64]) {
        let (read, taken) = found(text).unwrap();
        assert_eq!(read.len(), frames.len(), "{read:?} {taken:?}");
        for (read, frame) in read.iter().zip(frames) {
            assert!((read - frame).abs() < 1e-9, "{read} is not {frame}: {taken:?}");
        }
    }

    #[test]
    fn dialects_are_found_without_a_word() {
        is_read(
            "Frame,Frame Time (ms),GPU\n1,10,5\n2,12.5,6\n3,11,7\n4,10,8\n",
            &[10.0, 12.5, 11.0, 10.0],
        );
        is_read("n;frametime_ms\r\n1;10,5\r\n2;11\r\n3;9,25\r\n", &[10.5, 11.0, 9.25]);
        is_read("frame_duration_us\tprogramme\n8000\ta\n9000\ta\n", &[8.0, 9.0]);
        is_read("n   frametime_ns   load\n1   16000000   3\n2   17000000   4\n", &[16.0, 17.0]);
        is_read("16.6\n16.7\n33.1\n", &[16.6, 16.7, 33.1]);
        is_read("0.0166\n0.0167\n", &[16.6, 16.7]);
        is_read("Elapsed (s)\n0.0\n0.016\n0.036\n", &[16.0, 20.0]);
        is_read("time,fps\n0,60\n16,60\n33,58\n", &[16.0, 17.0]);
        let preamble =
            "# recorded on Friday\nGame: Gorsehollow Riders\n\nFrame,FrameTime\n1,7\n2,8\n3,9\n";
        is_read(preamble, &[7.0, 8.0, 9.0]);
        is_read("[16.5, 17.5]", &[16.5, 17.5]);
        is_read(
            r#"{"game": "x", "frames": [{"frameTime": 16.5}, {"frameTime": 8}]}"#,
            &[16.5, 8.0],
        );
        is_read("{\"frame_us\": 16500, \"n\": 1}\n{\"frame_us\": 8000, \"n\": 2}\n", &[16.5, 8.0]);
        let units: Vec<u8> =
            "\u{feff}FrameTime\n7\n8\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let wide = read_log(&units, &LogOptions::default()).unwrap();
        assert_eq!(wide.series.frame_ms(), [7.0, 8.0]);
    }

    #[test]
    fn what_was_taken_is_told() {
        let (_, taken) = found("run 3\nframe;frame time\n1;0,016\n2;0,017\n3;0,016\n").unwrap();
        assert_eq!(
            taken,
            [
                "cells are separated by semicolons",
                "the heading is line 2",
                "`frame time` holds frame times, by its name",
                "`frame time` names no unit; by their size its numbers are in s",
            ]
        );
    }

    #[test]
    fn what_cannot_be_told_is_asked_and_not_guessed() {
        let error = |text: &str| found(text).unwrap_err();
        let two = error("frametime,frame duration\n1,2\n1,2\n");
        assert!(matches!(two, LogError::SeveralColumns { .. }), "{two}");
        let none = error("a,b\n1,2\n1,2\n");
        assert!(matches!(none, LogError::UnknownColumn { .. }), "{none}");
        assert!(matches!(error("16,7\n33,1\n"), LogError::UnclearComma { .. }));
        assert!(matches!(error("some words\nand more\n"), LogError::NoTable { .. }));
        assert!(matches!(error("frametime\n1e12\n2e12\n"), LogError::UnknownUnit { .. }));
        let programs = "application,frametime_ms\na.exe,7\nb.exe,8\na.exe,9\n";
        assert_eq!(
            error(programs).to_string(),
            "the log is of several: `application` holds `a.exe`, `b.exe`"
        );
        let only = LogOptions {
            only: Some(("application".into(), "a.exe".into())),
            ..LogOptions::default()
        };
        let reading = read_log(programs.as_bytes(), &only).unwrap();
        assert_eq!(reading.series.frame_ms(), [7.0, 9.0]);
        let third = LogOptions { column: Some("2".into()), ..LogOptions::default() };
        let reading = read_log(b"1 7\n2 8\n3 9\n", &third).unwrap();
        assert_eq!(reading.series.frame_ms(), [7.0, 8.0, 9.0]);
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = read_log(&bytes, &LogOptions::default());
            let column = LogOptions { column: Some("t".into()), ..LogOptions::default() };
            let _ = read_log(&bytes, &column);
        }

        #[test]
        fn frames_written_are_frames_read(frames in prop::collection::vec(0.1..100.0f64, 1..50)) {
            let rows: String = frames.iter().map(|t| format!("x;{t}\n")).collect();
            let reading = read(&format!("name;t\n{rows}"), "t", TimeUnit::Milliseconds).unwrap();
            prop_assert_eq!(reading.series.frame_ms(), &frames[..]);
        }
    }
}
