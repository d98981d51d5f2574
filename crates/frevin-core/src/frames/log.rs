//! Reading a delimited log of frame times: bytes in, frames out.

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
/// Separators tried where none is given.
const SEPARATORS: [u8; 3] = [b',', b';', b'\t'];

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
}

impl TimeUnit {
    fn to_ms(self, value: f64) -> f64 {
        match self {
            Self::Milliseconds => value,
            Self::Microseconds => value / 1000.0,
            Self::Seconds => value * 1000.0,
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
            _ => Err(format!("`{text}` is not a unit; write ms, us or s")),
        }
    }
}

impl fmt::Display for TimeUnit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Milliseconds => "ms",
            Self::Microseconds => "us",
            Self::Seconds => "s",
        })
    }
}

/// What the reader of a log knows of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogOptions {
    /// The heading of the column that holds the frame times.
    pub column: String,
    /// The unit that they are in.
    pub unit: TimeUnit,
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
    /// The separator that was found.
    pub separator: char,
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
    #[error("line 1 has no column `{column}`; it has {found}")]
    NoSuchColumn { column: String, found: String },
    #[error("two columns are called `{column}`; rename one of them")]
    ColumnTwice { column: String },
    #[error("there is a heading but no row with a frame time below it")]
    NoFrames,
    #[error("{rejected} of {rows} rows hold no frame time, the first in line {}: {}", .first.line, .first.reason)]
    TooManyRejected { rejected: u64, rows: u64, first: RejectedRow },
    #[error("line {line}: {reason}")]
    Broken { line: u64, reason: String },
}

/// Reads a log that has a heading in its first line and a frame in each row after it.
///
/// The separator is the one of comma, semicolon and tab under which the heading has the column;
/// where it is not the comma, a decimal comma is understood. Blank lines are passed over. Rows
/// without a frame time (a missing cell, not a number, zero, negative) are counted and reported.
///
/// # Errors
/// [`LogError`], among them a log with more than one such row in a hundred.
pub fn read_log(bytes: &[u8], options: &LogOptions) -> Result<LogReading, LogError> {
    let bytes = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
    if bytes.iter().all(u8::is_ascii_whitespace) {
        return Err(LogError::Empty);
    }
    if let Err(error) = std::str::from_utf8(bytes) {
        return Err(LogError::NotText { offset: error.valid_up_to() });
    }
    let (separator, column) = find_column(bytes, &options.column)?;
    let mut reader = reader(bytes, separator);
    let mut rows = Rows::default();
    let mut record = csv::ByteRecord::new();
    loop {
        let line = reader.position().line();
        match reader.read_byte_record(&mut record) {
            Ok(true) => rows.take(&record, column, separator, options.unit),
            Ok(false) => break,
            Err(error) => return Err(LogError::Broken { line, reason: error.to_string() }),
        }
    }
    rows.finish(separator)
}

fn reader(bytes: &[u8], separator: u8) -> csv::Reader<&[u8]> {
    csv::ReaderBuilder::new().delimiter(separator).flexible(true).from_reader(bytes)
}

fn find_column(bytes: &[u8], column: &str) -> Result<(u8, usize), LogError> {
    let mut best_heading: Vec<String> = Vec::new();
    for separator in SEPARATORS {
        let mut reader = reader(bytes, separator);
        let Ok(heading) = reader.headers() else { continue };
        let names: Vec<String> = heading.iter().map(|name| name.trim().to_owned()).collect();
        let mut places = names.iter().enumerate().filter(|(_, name)| *name == column);
        match (places.next(), places.next()) {
            (Some((place, _)), None) => return Ok((separator, place)),
            (Some(_), Some(_)) => return Err(LogError::ColumnTwice { column: column.to_owned() }),
            (None, _) => {}
        }
        if names.len() > best_heading.len() {
            best_heading = names;
        }
    }
    const SHOWN_COLUMNS: usize = 20;
    let mut found: Vec<_> = best_heading.iter().map(|name| format!("`{name}`")).collect();
    if found.len() > SHOWN_COLUMNS {
        found.truncate(SHOWN_COLUMNS);
        found.push("…".to_owned());
    }
    Err(LogError::NoSuchColumn { column: column.to_owned(), found: found.join(", ") })
}

#[derive(Default)]
struct Rows {
    frame_ms: Vec<f64>,
    rows: u64,
    rejected: u64,
    rejected_rows: Vec<RejectedRow>,
}

impl Rows {
    fn take(&mut self, record: &csv::ByteRecord, column: usize, separator: u8, unit: TimeUnit) {
        self.rows += 1;
        let reason = match record.get(column).map(<[u8]>::trim_ascii) {
            None | Some(b"") => "the row has no such cell".to_owned(),
            Some(cell) => match number(cell, separator).map(|value| unit.to_ms(value)) {
                Some(ms) if is_frame_time(ms) => {
                    self.frame_ms.push(ms);
                    return;
                }
                Some(ms) => format!("{ms} ms is no frame time"),
                None => format!("`{}` is not a number", String::from_utf8_lossy(cell)),
            },
        };
        self.rejected += 1;
        if self.rejected_rows.len() < SHOWN_REJECTED_ROWS {
            let line = record.position().map_or(0, csv::Position::line);
            self.rejected_rows.push(RejectedRow { line, reason });
        }
    }

    fn finish(self, separator: u8) -> Result<LogReading, LogError> {
        let too_many = self.rejected as f64 > REJECTED_SHARE_LIMIT * self.rows as f64;
        if let (true, Some(first)) = (too_many, self.rejected_rows.first()) {
            let (rejected, rows, first) = (self.rejected, self.rows, first.clone());
            return Err(LogError::TooManyRejected { rejected, rows, first });
        }
        Ok(LogReading {
            series: FrameSeries::new(self.frame_ms).map_err(|_| LogError::NoFrames)?,
            separator: separator.into(),
            rows: self.rows,
            rejected: self.rejected,
            rejected_rows: self.rejected_rows,
        })
    }
}

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
        read_log(text.as_bytes(), &LogOptions { column: column.into(), unit })
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
            "line 1 has no column `t`; it has `frame`, `time`"
        );
        let binary =
            read_log(b"t\n\xff\xfe", &LogOptions { column: "t".into(), unit: TimeUnit::Seconds });
        assert_eq!(binary, Err(LogError::NotText { offset: 2 }));
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = read_log(&bytes, &LogOptions { column: "t".into(), unit: TimeUnit::Seconds });
        }

        #[test]
        fn frames_written_are_frames_read(frames in prop::collection::vec(0.1..100.0f64, 1..50)) {
            let rows: String = frames.iter().map(|t| format!("x;{t}\n")).collect();
            let reading = read(&format!("name;t\n{rows}"), "t", TimeUnit::Milliseconds).unwrap();
            prop_assert_eq!(reading.series.frame_ms(), &frames[..]);
        }
    }
}
