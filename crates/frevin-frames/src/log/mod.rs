//! Reading a log of frame times, whatever its dialect: bytes in, frames out.

mod columns;

mod json;
mod lanes;
mod layout;
mod number;
mod quoted;
mod readings;
mod rows;
mod stream;

use schemars::JsonSchema;
use serde::Serialize;
use std::borrow::Cow;
use std::fmt;
use std::io::{self, Read};
use std::str::FromStr;
use thiserror::Error;

use self::columns::Sample;
use self::quoted::QuotedRows;
pub use self::readings::{LatencyFigures, Levels, LogReadings};
use self::rows::{Form, RowReader, Rows};
use self::stream::join::{Joiner, in_parallel};
use self::stream::source::{HEAD_BYTES, OneLineEnd, Pieces, decoded, fill, has_lone_returns};
use crate::metrics::FrameTally;
use crate::series::FrameSeries;

/// Above this share of rows that hold no frame time, a log is refused: whatever it is, it is
/// not what its reader takes it for.
const REJECTED_SHARE_LIMIT: f64 = 0.01;
/// How many rows are looked at before the column and its unit are chosen.
const SAMPLED_ROWS: usize = 200;
/// A JSON document is read as a whole, and takes up to ten times its length in memory; what is longer
/// can be written as an object on each line.
const LONGEST_DOCUMENT_BYTES: usize = 64 << 20;

/// A unit of time in a log.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
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
    pub(crate) fn to_ms(self, value: f64) -> f64 {
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
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ColumnKind {
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
    pub holds: Option<ColumnKind>,
    /// Only rows that hold this text in the column of this heading: one program of several, or one
    /// display.
    pub only: Vec<(String, String)>,
}

/// A row that holds no frame time.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct RejectedRow {
    /// The line that it begins on, from 1.
    pub line: u64,
    /// What is wrong with it.
    pub reason: String,
}

/// What was read from a log, without its frames.
#[derive(Debug, Clone, PartialEq)]
pub struct LogReading {
    /// How many frames it holds.
    pub frames: u64,
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
    /// What other columns of it say.
    pub readings: LogReadings,
}

/// Why a log cannot be read.
#[derive(Debug, Clone, PartialEq, Error)]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum LogError {
    #[error("the file is empty")]
    Empty,
    #[error("the file is not text: byte {offset} is no letter, digit or sign")]
    NotText { offset: usize },
    #[error("there is no column `{column}`; there are {found}")]
    NoSuchColumn { column: String, found: String },
    #[error("several lists may hold the frames: {found}")]
    SeveralLists { found: String },
    #[error(
        "`{column}` holds frames a second, and nothing else is a number: frame times cannot be had from averages"
    )]
    OnlyRates { column: String },
    #[error(
        "{column} rises by the same step in every row: these are readings at a fixed interval, or counted rows, \
         and no frames"
    )]
    EvenTicks { column: String },
    #[error(
        "the numbers of {column} may be frame times in ms or frames a second, and no heading says which"
    )]
    MayBeRates { column: String },
    #[error("several columns may be the one: {found}")]
    SeveralColumns { found: String },
    #[error("no column is named after frame times; there are {found}")]
    UnknownColumn { found: String },
    #[error("there are {columns} columns without headings, and several of them hold numbers")]
    NoHeadings { columns: usize },
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
    #[error("a row is longer than {bytes} bytes")]
    RowTooLong { bytes: usize },
    #[error(
        "the JSON document is longer than {bytes} bytes; with an object on each line it may be of any length"
    )]
    DocumentTooLong { bytes: usize },
    #[error("it cannot be read to its end: {reason}")]
    Unreadable { reason: String },
    #[error("its frames cannot be kept: {reason}")]
    NotKept { reason: String },
}

/// The bytes of a log. What reads them does not know where they come from, and so is compiled in this crate, which is
/// made for speed, and not in the one that calls it.
pub type LogSource<'a> = dyn Read + Send + 'a;

/// Takes the next frames of a log, in milliseconds.
pub type KeepFrames<'a> = dyn FnMut(Vec<f64>) -> io::Result<()> + Send + 'a;

/// Reads a log of frames: text with a row for each, or JSON. Frames go to `keep` in their order, in
/// pieces, so that a log may be longer than what memory holds; pieces are read on every core. What is
/// given back beside the reading has seen all of them.
///
/// What is not given is found: UTF-8, UTF-16 or another encoding in which ASCII means the same; the
/// separator (comma, semicolon, tab, bar, blanks) and with it the decimal mark; the heading, below
/// whatever lines come before it, or that there is none; the column, by general words in its name;
/// its unit, by its name or by the size of its numbers; and whether it holds frame times or the times
/// at which frames were shown, as numbers or as a clock shows them. What was taken is told in
/// [`LogReading::taken`]. Blank lines are passed over. Rows without a frame time (a missing cell, not a
/// number, zero, negative, below a microsecond or above ten minutes) are counted and reported.
///
/// # Errors
/// [`LogError`], among them a log of which something cannot be told for certain, and one with more
/// than one such row in a hundred. Frames may have gone to `keep` by then.
pub fn read_log(
    source: &mut LogSource<'_>,
    options: &LogOptions,
    keep: &mut KeepFrames<'_>,
) -> Result<(LogReading, FrameTally), LogError> {
    let unreadable = |error: io::Error| LogError::Unreadable { reason: error.to_string() };
    let mut source = decoded(source).map_err(unreadable)?;
    let mut head = Vec::new();
    fill(&mut source, &mut head, HEAD_BYTES).map_err(unreadable)?;
    let is_whole = head.len() < HEAD_BYTES;
    let Some(first) = head.iter().find(|byte| !byte.is_ascii_whitespace()).copied() else {
        return Err(LogError::Empty);
    };
    // All of them at once first, which takes a tenth of the time.
    if head.iter().fold(false, |any, byte| any | is_no_text(*byte))
        && let Some(offset) = head.iter().position(|byte| is_no_text(*byte))
    {
        return Err(LogError::NotText { offset });
    }
    if matches!(first, b'{' | b'[') {
        if let Some(fields) = json::fields_of_lines(&head, is_whole) {
            return read_json_lines(source, head, fields, options, keep);
        }
        let left = LONGEST_DOCUMENT_BYTES.saturating_sub(head.len()) as u64;
        source.by_ref().take(left).read_to_end(&mut head).map_err(unreadable)?;
        if head.len() >= LONGEST_DOCUMENT_BYTES {
            return Err(LogError::DocumentTooLong { bytes: LONGEST_DOCUMENT_BYTES });
        }
        if let Some(document) = json::document(&head) {
            drop(head);
            return match json::table(&document, options.column.as_deref())? {
                Some(table) => read_document(&table, options, keep),
                None => Err(LogError::NoFrames),
            };
        }
    }
    if has_lone_returns(&head, is_whole) {
        let mut source = OneLineEnd::of(io::Cursor::new(head).chain(source));
        let mut head = Vec::new();
        fill(&mut source, &mut head, HEAD_BYTES).map_err(unreadable)?;
        return read_text(source, head, is_whole, options, keep);
    }
    read_text(source, head, is_whole, options, keep)
}

/// Reads a log that is in memory.
///
/// # Errors
/// As [`read_log`].
pub fn read_log_bytes(
    bytes: &[u8],
    options: &LogOptions,
) -> Result<(FrameSeries, LogReading), LogError> {
    let mut frame_ms = Vec::new();
    let mut keep = |frames: Vec<f64>| {
        frame_ms.extend(frames);
        Ok(())
    };
    let mut source = bytes;
    let (reading, _) = read_log(&mut source, options, &mut keep)?;
    Ok((FrameSeries::new(frame_ms).map_err(|_| LogError::NoFrames)?, reading))
}

/// Whether no text has a byte like this: a control other than those that lay out lines.
fn is_no_text(byte: u8) -> bool {
    byte < b' ' && !matches!(byte, b'\t' | b'\n' | b'\r' | 0x0C | 0x1A)
}

/// How a log begins, as text; what is not UTF-8 is taken for what Windows wrote before it.
fn as_text(head: &[u8], is_whole: bool) -> Cow<'_, str> {
    let end =
        if is_whole { head.len() } else { memchr::memrchr(b'\n', head).unwrap_or(head.len()) };
    match std::str::from_utf8(&head[..end]) {
        Ok(text) => text.into(),
        Err(_) => encoding_rs::WINDOWS_1252.decode_without_bom_handling(&head[..end]).0,
    }
}

fn read_text(
    source: impl Read + Send,
    head: Vec<u8>,
    is_whole: bool,
    options: &LogOptions,
    keep: &mut KeepFrames<'_>,
) -> Result<(LogReading, FrameTally), LogError> {
    let layout = layout::find(&as_text(&head, is_whole), options)?;
    let body = head[layout.offset(&head)..].to_vec();
    drop(head);
    let form = match layout.separator {
        b' ' => Form::Blanks,
        separator => Form::Delimited { separator },
    };
    let samples = samples_of(&body, layout.separator, layout.names.len());
    if samples.is_empty() {
        return Err(LogError::NoFrames);
    }
    let reader = row_reader(form, &layout.names, &samples, options)?;
    let mut taken = layout.because;
    taken.extend(reader.chosen.because.iter().cloned());
    let join = Joiner::new(&reader, &layout.names, layout.skipped_lines, keep);
    let join = in_parallel(Pieces::new(source, body), &reader, join)?;
    join.finish(Some(layout.separator.into()), taken)
}

fn read_json_lines(
    source: impl Read + Send,
    head: Vec<u8>,
    fields: Vec<String>,
    options: &LogOptions,
    keep: &mut KeepFrames<'_>,
) -> Result<(LogReading, FrameTally), LogError> {
    let objects = head.split(|byte| *byte == b'\n').filter_map(json::object);
    let rows = objects
        .take(SAMPLED_ROWS)
        .map(|object| fields.iter().map(|field| json::cell(object.get(field))).collect::<Vec<_>>());
    let samples = samples_of_texts(rows, fields.len());
    let reader =
        row_reader(Form::JsonLines { fields: fields.clone() }, &fields, &samples, options)?;
    let mut taken = vec!["it is JSON, an object on each line".to_owned()];
    taken.extend(reader.chosen.because.iter().cloned());
    let join = Joiner::new(&reader, &fields, 0, keep);
    in_parallel(Pieces::new(source, head), &reader, join)?.finish(None, taken)
}

fn read_document(
    table: &json::Table<'_>,
    options: &LogOptions,
    keep: &mut KeepFrames<'_>,
) -> Result<(LogReading, FrameTally), LogError> {
    let rows = (0..table.len().min(SAMPLED_ROWS)).map(|row| table.row(row));
    let samples = samples_of_texts(rows, table.names.len().max(1));
    let form = Form::JsonLines { fields: table.names.clone() };
    let reader = row_reader(form, &table.names, &samples, options)?;
    let mut taken = vec!["it is JSON".to_owned()];
    taken.extend(reader.chosen.because.iter().cloned());
    let mut rows = Rows::of(&reader);
    for index in 0..table.len() {
        let row = table.row(index);
        let cell = |column: usize| row.get(column)?.as_deref().map(str::as_bytes);
        reader.take_row(cell, index as u64 + 1, &mut rows);
    }
    let mut join = Joiner::new(&reader, &table.names, 0, keep);
    join.put_all(rows)?;
    join.finish(None, taken)
}

fn samples_of_texts(
    rows: impl Iterator<Item = Vec<Option<String>>>,
    columns: usize,
) -> Vec<Sample> {
    let mut samples: Vec<Sample> = vec![Sample::new(); columns];
    for row in rows {
        for (sample, cell) in samples.iter_mut().zip(row) {
            sample.extend(cell.map(String::into_bytes));
        }
    }
    samples
}

/// How each column begins, without cells that are blank.
fn samples_of(body: &[u8], separator: u8, columns: usize) -> Vec<Sample> {
    let mut samples: Vec<Sample> = vec![Sample::new(); columns];
    let mut take = |cells: &mut dyn Iterator<Item = &[u8]>| {
        for (column, cell) in cells.enumerate() {
            if column == samples.len() {
                samples.push(Sample::new());
            }
            let cell = cell.trim_ascii();
            if !cell.is_empty() {
                samples[column].push(cell.to_vec());
            }
        }
    };
    if separator == b' ' {
        for line in body.split(|byte| *byte == b'\n').take(SAMPLED_ROWS) {
            take(&mut line.split(u8::is_ascii_whitespace).filter(|cell| !cell.is_empty()));
        }
    } else {
        for row in QuotedRows::of(body, separator, columns).take(SAMPLED_ROWS) {
            take(&mut row.cells.iter().map(|cell| &**cell));
        }
    }
    samples
}

fn row_reader(
    form: Form,
    names: &[String],
    samples: &[Sample],
    options: &LogOptions,
) -> Result<RowReader, LogError> {
    let mut chosen = columns::choose(names, samples, options);
    if let Err(LogError::UnknownUnit { .. }) = &chosen
        && samples.iter().all(Vec::is_empty)
    {
        chosen = Err(LogError::NoFrames);
    }
    let only = options.only.iter().map(|(column, text)| {
        match names.iter().position(|name| name == column) {
            Some(at) => Ok((at, text.as_bytes().to_vec())),
            None => {
                Err(LogError::NoSuchColumn { column: column.clone(), found: columns::list(names) })
            }
        }
    });
    let only = only.collect::<Result<Vec<_>, _>>()?;
    let is_watched = |at: &usize| {
        let of_column =
            samples.get(*at).is_some_and(|sample| columns::tells_frames_apart(&names[*at], sample));
        of_column && only.iter().all(|(column, _)| column != at)
    };
    let watched = (0..names.len()).filter(is_watched).collect();
    let chosen = chosen?;
    let side = readings::side_columns(names, chosen.index, chosen.unit);
    Ok(RowReader { form, chosen, columns: names.len(), only, watched, side })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(
        text: &str,
        column: &str,
        unit: TimeUnit,
    ) -> Result<(FrameSeries, LogReading), LogError> {
        let options =
            LogOptions { column: Some(column.into()), unit: Some(unit), ..LogOptions::default() };
        read_log_bytes(text.as_bytes(), &options)
    }

    fn frames(text: &str, column: &str, unit: TimeUnit) -> Vec<f64> {
        read(text, column, unit).unwrap().0.frame_ms().to_vec()
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
        let text = format!("t\n{good}oops\n-3\n");
        let (_, reading) = read(&text, "t", TimeUnit::Milliseconds).unwrap();
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
    fn times_that_go_back_are_never_taken_for_frame_times() {
        let mut stamps: Vec<f64> = (0..500).map(|frame| f64::from(frame) * 0.0166).collect();
        stamps[10] = stamps[8] - 0.001;
        for heading in ["Time (s)", "Time", "TimeInSeconds"] {
            let rows: String = stamps.iter().map(|stamp| format!("{stamp:.4},60\n")).collect();
            let text = format!("{heading},GPU temp\n{rows}");
            match read_log_bytes(text.as_bytes(), &LogOptions::default()) {
                Ok((series, _)) => assert!(series.total_ms() < 10_000.0, "{heading}"),
                Err(error) => assert!(error.to_string().contains(heading), "{heading}: {error}"),
            }
        }
    }

    #[test]
    fn line_ends_of_every_kind_end_lines_in_one_log() {
        let text = "Frame time (ms)\r\n16.1\r\n16.2\n16.3\r16.4\r\r\n16.5\r";
        let (series, reading) = read_log_bytes(text.as_bytes(), &LogOptions::default()).unwrap();
        assert_eq!(series.frame_ms(), [16.1, 16.2, 16.3, 16.4, 16.5]);
        assert_eq!(reading.rejected, 0);
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
        let binary = read_log_bytes(b"t\n\x01\xfe", &LogOptions::default());
        assert_eq!(binary, Err(LogError::NotText { offset: 2 }));
    }

    fn found(text: &str) -> Result<(Vec<f64>, Vec<String>), LogError> {
        let (series, reading) = read_log_bytes(text.as_bytes(), &LogOptions::default())?;
        Ok((series.frame_ms().to_vec(), reading.taken))
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
        let monitor: String = (0..9).map(|i| format!("{i};118.{i};70\n")).collect();
        for (text, told) in [
            (format!("Time;Framerate;GPU temp\n{monitor}"), "readings at a fixed interval"),
            ("Elapsed (s)\n0.5\n1.0\n1.5\n2.0\n2.5\n3.0\n".to_owned(), "same step"),
            ("60.1\n59.8\n60.0\n61.2\n".to_owned(), "or frames a second"),
        ] {
            let error = read_log_bytes(text.as_bytes(), &LogOptions::default()).unwrap_err();
            assert!(error.to_string().contains(told), "{text}: {error}");
        }
        let preamble =
            "# recorded on Friday\nGame: Gorsehollow Riders\n\nFrame,FrameTime\n1,7\n2,8\n3,9\n";
        is_read(preamble, &[7.0, 8.0, 9.0]);
        is_read("Time\tFrame time\tLoad\n[s]\t[us]\t[%]\n0\t9000\t7\n1\t8000\t7\n", &[9.0, 8.0]);
        is_read("n,frametime_ms\n1,7,\n2,8,\n3,9,\n", &[7.0, 8.0, 9.0]);
        is_read("n,frametime_ms,note,\n1,7,\n2,8,\n3,9,x\n", &[7.0, 8.0, 9.0]);
        is_read("[16.5, 17.5]", &[16.5, 17.5]);
        is_read(
            r#"{"game": "x", "frames": [{"frameTime": 16.5}, {"frameTime": 8}]}"#,
            &[16.5, 8.0],
        );
        is_read("{\"frame_us\": 16500, \"n\": 1}\n{\"frame_us\": 8000, \"n\": 2}\n", &[16.5, 8.0]);
        let units: Vec<u8> =
            "\u{feff}FrameTime\n7\n8\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let (wide, _) = read_log_bytes(&units, &LogOptions::default()).unwrap();
        assert_eq!(wide.frame_ms(), [7.0, 8.0]);
        let (unmarked, _) = read_log_bytes(&units[2..], &LogOptions::default()).unwrap();
        assert_eq!(unmarked.frame_ms(), [7.0, 8.0]);
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
        let unnamed = error("1 7.5 3\n2 8.5 4\n3 9.5 5\n");
        assert_eq!(unnamed, LogError::NoHeadings { columns: 3 });
        is_read("CPU frame time,FrameTime ms,GPU frame time\n1,9,2\n1,8,2\n", &[9.0, 8.0]);
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
            only: vec![("application".into(), "a.exe".into())],
            ..LogOptions::default()
        };
        let (series, _) = read_log_bytes(programs.as_bytes(), &only).unwrap();
        assert_eq!(series.frame_ms(), [7.0, 9.0]);
        let third = LogOptions { column: Some("2".into()), ..LogOptions::default() };
        let (series, _) = read_log_bytes(b"1 7\n2 8\n3 9\n", &third).unwrap();
        assert_eq!(series.frame_ms(), [7.0, 8.0, 9.0]);
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = read_log_bytes(&bytes, &LogOptions::default());
            let column = LogOptions { column: Some("t".into()), ..LogOptions::default() };
            let _ = read_log_bytes(&bytes, &column);
        }

        #[test]
        fn frames_written_are_frames_read(frames in prop::collection::vec(0.1..100.0f64, 1..50)) {
            let rows: String = frames.iter().map(|t| format!("x;{t}\n")).collect();
            let (series, _) = read(&format!("name;t\n{rows}"), "t", TimeUnit::Milliseconds).unwrap();
            prop_assert_eq!(series.frame_ms(), &frames[..]);
        }
    }
}
