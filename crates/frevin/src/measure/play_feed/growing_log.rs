//! A log to which another program adds rows while it records.

use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::Duration;

use frevin_frames::{LogError, LogOptions, read_log_bytes};

use super::{Fed, Frames};
use crate::failure::{Failure, Kind};

/// A heading and its unit line are no longer than this, in bytes.
const LONGEST_HEADING: usize = 64 << 10;
/// At one look no more is read than this, in bytes: hours of frames.
const MOST_AT_ONCE: u64 = 64 << 20;
/// Programs that write logs hold rows back no longer than this, in milliseconds.
const HELD_BACK_MS: f64 = 2000.0;

/// A log that is read from where it ended when play began.
#[derive(Debug)]
pub(crate) struct GrowingLog {
    path: PathBuf,
    file: File,
    /// The lines that say what the columns are.
    heading: Vec<u8>,
    /// Whether play began in the middle of a row, whose rest is thrown away.
    is_inside_row: bool,
    /// The beginning of a row whose end is not written yet.
    unfinished: Vec<u8>,
    /// When the next row's frame begins, in milliseconds from the beginning of play.
    next_ms: f64,
    /// When rows were read last.
    read_ms: f64,
}

impl GrowingLog {
    pub(crate) fn open(path: &Path) -> Result<Self, Failure> {
        let failed = |error: std::io::Error| {
            Failure::new(Kind::NotFound, format!("{} cannot be read: {error}", path.display()))
                .hint("start the recording first, so that the log is there")
        };
        let mut file = File::open(path).map_err(failed)?;
        let mut beginning = vec![0; LONGEST_HEADING];
        let mut held = 0;
        while held < beginning.len() {
            match file.read(&mut beginning[held..]).map_err(failed)? {
                0 => break,
                read => held += read,
            }
        }
        beginning.truncate(held);
        let end = file.seek(SeekFrom::End(0)).map_err(failed)?;
        let mut last = Vec::new();
        file.seek(SeekFrom::Start(end.saturating_sub(1))).map_err(failed)?;
        file.by_ref().take(1).read_to_end(&mut last).map_err(failed)?;
        let is_inside_row = !last.is_empty() && last != b"\n";
        let heading = heading_of(&beginning);
        Ok(Self {
            path: path.to_owned(),
            file,
            heading,
            is_inside_row,
            unfinished: Vec::new(),
            next_ms: 0.0,
            read_ms: 0.0,
        })
    }

    /// The rows that were added since, at a moment after the beginning of play.
    pub(crate) fn read_on(&mut self, now: Duration) -> Result<Fed, Failure> {
        let now_ms = now.as_secs_f64() * 1000.0;
        let failed = |path: &Path, error: std::io::Error| {
            Failure::new(Kind::Files, format!("{} cannot be read: {error}", path.display()))
        };
        let mut added = std::mem::take(&mut self.unfinished);
        let read = self.file.by_ref().take(MOST_AT_ONCE).read_to_end(&mut added);
        read.map_err(|error| failed(&self.path, error))?;
        let whole = added.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        self.unfinished = added.split_off(whole);
        if self.is_inside_row && whole > 0 {
            let rest = added.iter().position(|byte| *byte == b'\n').map_or(0, |at| at + 1);
            added.drain(..rest);
            self.is_inside_row = false;
        }
        let frames = if added.is_empty() { Vec::new() } else { self.frames_of(&added)? };
        let placed = self.place(&frames, now_ms);
        Ok(Fed { frames: placed, known_until_s: self.next_ms / 1000.0, is_over: false })
    }

    fn frames_of(&self, rows: &[u8]) -> Result<Vec<f64>, Failure> {
        let log = [&self.heading[..], rows].concat();
        match read_log_bytes(&log, &LogOptions::default()) {
            Ok((series, _)) => Ok(series.frame_ms().to_vec()),
            // A line that is no row, such as a mark that something was pressed.
            Err(LogError::NoFrames) => Ok(Vec::new()),
            Err(error) => {
                let message = format!("{}: {error}", self.path.display());
                Err(Failure::new(Kind::BadInput, message))
            }
        }
    }

    /// Places frames in time: one after another, and not before the rows were written that were read last.
    fn place(&mut self, frame_ms: &[f64], now_ms: f64) -> Frames {
        self.next_ms = self.next_ms.max(self.read_ms - HELD_BACK_MS);
        self.read_ms = now_ms;
        let mut placed = Vec::with_capacity(frame_ms.len());
        for length in frame_ms {
            placed.push((self.next_ms, *length));
            self.next_ms += length;
        }
        placed
    }
}

/// The lines of a log before its first row: those up to the last one whose fields are not numbers.
fn heading_of(beginning: &[u8]) -> Vec<u8> {
    /// A heading has few lines.
    const MOST_LINES: usize = 40;
    let mut end = 0;
    let mut at = 0;
    for line in beginning.split_inclusive(|byte| *byte == b'\n').take(MOST_LINES) {
        at += line.len();
        let first = line.split(|byte| b",;\t".contains(byte)).next().unwrap_or_default();
        let first = String::from_utf8_lossy(first);
        let is_row = first.trim().trim_matches('"').replace(',', ".").parse::<f64>().is_ok();
        if !is_row && line.ends_with(b"\n") {
            end = at;
        }
    }
    beginning[..end].to_vec()
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use super::*;

    #[test]
    fn rows_are_taken_as_they_are_written_and_none_from_before() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log.csv");
        let mut log = File::create(&path).unwrap();
        write!(log, "frame_ms,note\n9,old\n9,half").unwrap();
        log.flush().unwrap();
        let mut growing = GrowingLog::open(&path).unwrap();
        let read = |growing: &mut GrowingLog, seconds: u64| {
            growing.read_on(Duration::from_secs(seconds)).unwrap()
        };
        assert!(read(&mut growing, 1).frames.is_empty());
        write!(log, " a row\n10,new\n12,new\n1").unwrap();
        log.flush().unwrap();
        let fed = read(&mut growing, 2);
        let lengths: Vec<f64> = fed.frames.iter().map(|(_, length)| *length).collect();
        assert_eq!(lengths, [10.0, 12.0]);
        writeln!(log, "1,new").unwrap();
        log.flush().unwrap();
        // Nothing was written for half a minute: what comes then was not shown before.
        assert_eq!(read(&mut growing, 3).frames, [(22.0, 11.0)]);
        read(&mut growing, 33);
        writeln!(log, "11,new").unwrap();
        log.flush().unwrap();
        let late = read(&mut growing, 34);
        assert!(late.frames[0].0 >= 31_000.0, "{:?}", late.frames);
    }

    #[test]
    fn a_log_that_is_not_there_is_told() {
        let failure = GrowingLog::open(Path::new("/no/such/log.csv")).unwrap_err();
        assert_eq!(failure.kind, Kind::NotFound);
    }
}
