//! Pieces of a log read at once, and their frames put together in order.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, Read};
use std::num::NonZero;
use std::sync::{Mutex, PoisonError};
use std::thread;

use super::source::{Piece, Pieces};
use crate::log::columns::list;
use crate::log::readings::{SideTally, readings};
use crate::log::rows::{RowReader, Rows, SHOWN_REJECTED_ROWS, absurd, between};
use crate::log::{LogError, LogReading, REJECTED_SHARE_LIMIT, RejectedRow};

/// Puts together what pieces hold, in whatever order they come.
pub(in crate::log) struct Joiner<'a> {
    reader: &'a RowReader,
    names: &'a [String],
    keep: &'a mut (dyn FnMut(&[f64]) -> io::Result<()> + Send),
    /// Pieces that came before one that goes before them.
    early: BTreeMap<u64, Rows>,
    next: u64,
    last_stamp: Option<f64>,
    lines: u64,
    frames: u64,
    rows: u64,
    rejected: u64,
    rejected_rows: Vec<RejectedRow>,
    seen: Vec<BTreeSet<Vec<u8>>>,
    side: Vec<SideTally>,
    total_ms: f64,
}

impl<'a> Joiner<'a> {
    pub(in crate::log) fn new(
        reader: &'a RowReader,
        names: &'a [String],
        skipped_lines: u64,
        keep: &'a mut (dyn FnMut(&[f64]) -> io::Result<()> + Send),
    ) -> Self {
        Self {
            reader,
            names,
            keep,
            early: BTreeMap::new(),
            next: 0,
            last_stamp: None,
            lines: skipped_lines,
            frames: 0,
            rows: 0,
            rejected: 0,
            rejected_rows: Vec::new(),
            seen: vec![BTreeSet::new(); reader.watched.len()],
            side: reader.side.iter().map(|_| SideTally::default()).collect(),
            total_ms: 0.0,
        }
    }

    pub(in crate::log) fn put(&mut self, index: u64, rows: Rows) -> Result<(), LogError> {
        self.early.insert(index, rows);
        while let Some(rows) = self.early.remove(&self.next) {
            self.append(rows)?;
            self.next += 1;
        }
        Ok(())
    }

    fn append(&mut self, rows: Rows) -> Result<(), LogError> {
        self.rows += rows.rows;
        self.rejected += rows.rejected;
        if let (Some(before), Some((first, line))) = (self.last_stamp, rows.first_stamp) {
            let frame_ms = between(self.reader.chosen.writing, before, first);
            match absurd(frame_ms) {
                None => self.keep(&[frame_ms])?,
                Some(reason) => {
                    self.rejected += 1;
                    self.show_rejected(RejectedRow { line, reason });
                }
            }
        }
        if rows.holds_stamps() {
            self.last_stamp = rows.last_stamp;
        }
        for rejected in rows.rejected_rows {
            self.show_rejected(rejected);
        }
        for (tally, values) in self.side.iter_mut().zip(rows.side) {
            tally.append(values);
        }
        self.lines += rows.lines;
        self.keep(&rows.frame_ms)?;
        for (at, seen) in rows.seen.into_iter().enumerate() {
            self.seen[at].extend(seen);
            if self.seen[at].len() > 1 {
                let found: Vec<String> = self.seen[at]
                    .iter()
                    .map(|text| String::from_utf8_lossy(text).into_owned())
                    .collect();
                let column = self.names[self.reader.watched[at]].clone();
                return Err(LogError::SeveralPrograms { column, found: list(&found) });
            }
        }
        Ok(())
    }

    fn show_rejected(&mut self, mut row: RejectedRow) {
        if self.rejected_rows.len() < SHOWN_REJECTED_ROWS {
            row.line += self.lines;
            self.rejected_rows.push(row);
        }
    }

    fn keep(&mut self, frame_ms: &[f64]) -> Result<(), LogError> {
        self.frames += frame_ms.len() as u64;
        self.total_ms += frame_ms.iter().sum::<f64>();
        (self.keep)(frame_ms).map_err(|error| LogError::NotKept { reason: error.to_string() })
    }

    pub(in crate::log) fn finish(
        self,
        separator: Option<char>,
        taken: Vec<String>,
    ) -> Result<LogReading, LogError> {
        let too_many = self.rejected as f64 > REJECTED_SHARE_LIMIT * self.rows as f64;
        if let (true, Some(first)) = (too_many, self.rejected_rows.first()) {
            let (rejected, rows, first) = (self.rejected, self.rows, first.clone());
            return Err(LogError::TooManyRejected { rejected, rows, first });
        }
        if self.frames == 0 {
            return Err(LogError::NoFrames);
        }
        let mean_ms = self.total_ms / self.frames as f64;
        Ok(LogReading {
            readings: readings(&self.reader.side, self.side, mean_ms),
            frames: self.frames,
            separator,
            taken,
            rows: self.rows,
            rejected: self.rejected,
            rejected_rows: self.rejected_rows,
        })
    }
}

/// Reads all pieces of a log, on as many threads as there are cores where there is more than one piece.
pub(in crate::log) fn in_parallel<'a, R: Read + Send>(
    mut pieces: Pieces<R>,
    reader: &RowReader,
    mut join: Joiner<'a>,
) -> Result<Joiner<'a>, LogError> {
    let mut first = Piece::default();
    if let Some(index) = pieces.next(&mut first)? {
        if pieces.is_at_end() {
            join.put(index, reader.read(first.bytes()))?;
            return Ok(join);
        }
        let cores = thread::available_parallelism().map_or(1, NonZero::get);
        let (shared_pieces, shared_join) = (Mutex::new(pieces), Mutex::new(join));
        let lock_pieces = || shared_pieces.lock().unwrap_or_else(PoisonError::into_inner);
        let work = |mut piece: Piece, mut index: Option<u64>| -> Result<(), LogError> {
            loop {
                if let Some(index) = index {
                    let rows = reader.read(piece.bytes());
                    shared_join.lock().unwrap_or_else(PoisonError::into_inner).put(index, rows)?;
                }
                index = lock_pieces().next(&mut piece)?;
                if index.is_none() {
                    return Ok(());
                }
            }
        };
        // What ends one thread ends the others too.
        let work = |piece, index| {
            let result = work(piece, index);
            if result.is_err() {
                lock_pieces().end();
            }
            result
        };
        thread::scope(|scope| {
            let others: Vec<_> =
                (1..cores).map(|_| scope.spawn(|| work(Piece::default(), None))).collect();
            let mut result = work(first, Some(index));
            for other in others {
                let other = other.join();
                result = result.and(other.unwrap_or_else(|_| {
                    Err(LogError::Unreadable { reason: "a thread stopped".to_owned() })
                }));
            }
            result
        })?;
        join = shared_join.into_inner().unwrap_or_else(PoisonError::into_inner);
    }
    Ok(join)
}
