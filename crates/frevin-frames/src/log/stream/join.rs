//! Pieces of a log read at once, and their frames put together in order.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::num::NonZero;
use std::sync::{Mutex, PoisonError};
use std::thread;

use super::source::{Piece, Pieces};
use crate::log::columns::list;
use crate::log::readings::{SideTally, readings};
use crate::log::rows::{RowReader, Rows, SHOWN_REJECTED_ROWS, absurd, between};
use crate::log::{KeepFrames, LogError, LogReading, REJECTED_SHARE_LIMIT, RejectedRow};
use crate::metrics::{FrameTally, PieceTally};
use crate::stream::ranks::Counts;

/// Puts together what pieces hold, in whatever order they come.
pub(in crate::log) struct Joiner<'a> {
    reader: &'a RowReader,
    names: &'a [String],
    keep: &'a mut KeepFrames<'a>,
    /// Pieces that came before one that goes before them.
    early: BTreeMap<u64, (Rows, PieceTally)>,
    next: u64,
    last_stamp: Option<f64>,
    lines: u64,
    rows: u64,
    rejected: u64,
    rejected_rows: Vec<RejectedRow>,
    seen: Vec<BTreeSet<Vec<u8>>>,
    side: Vec<SideTally>,
    tally: FrameTally,
}

impl<'a> Joiner<'a> {
    pub(in crate::log) fn new(
        reader: &'a RowReader,
        names: &'a [String],
        skipped_lines: u64,
        keep: &'a mut KeepFrames<'a>,
    ) -> Self {
        Self {
            reader,
            names,
            keep,
            early: BTreeMap::new(),
            next: 0,
            last_stamp: None,
            lines: skipped_lines,
            rows: 0,
            rejected: 0,
            rejected_rows: Vec::new(),
            seen: vec![BTreeSet::new(); reader.watched.len()],
            side: reader.side.iter().map(|_| SideTally::default()).collect(),
            tally: FrameTally::default(),
        }
    }

    /// Takes a piece, whose frames are counted by whoever read it: see [`Self::add`].
    fn put(&mut self, index: u64, rows: Rows, tally: PieceTally) -> Result<(), LogError> {
        self.early.insert(index, (rows, tally));
        while let Some((rows, tally)) = self.early.remove(&self.next) {
            self.append(rows, tally)?;
            self.next += 1;
        }
        Ok(())
    }

    /// Takes how many of the frames that one reader put are how long.
    fn add(&mut self, counts: &Counts) {
        self.tally.add(counts);
    }

    /// Takes the only piece of a log.
    pub(in crate::log) fn put_all(&mut self, rows: Rows) -> Result<(), LogError> {
        let mut counts = Counts::default();
        let tally = PieceTally::of(&rows.frame_ms, &mut counts);
        self.put(0, rows, tally)?;
        self.add(&counts);
        Ok(())
    }

    fn append(&mut self, rows: Rows, tally: PieceTally) -> Result<(), LogError> {
        self.rows += rows.rows;
        self.rejected += rows.rejected;
        if let (Some(before), Some((first, line))) = (self.last_stamp, rows.first_stamp) {
            let frame_ms = between(self.reader.chosen.writing, before, first);
            match absurd(frame_ms) {
                None => {
                    self.tally.see(&[frame_ms]);
                    self.keep(vec![frame_ms])?;
                }
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
        self.tally.join(&rows.frame_ms, tally);
        self.keep(rows.frame_ms)?;
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

    fn keep(&mut self, frame_ms: Vec<f64>) -> Result<(), LogError> {
        (self.keep)(frame_ms).map_err(|error| LogError::NotKept { reason: error.to_string() })
    }

    pub(in crate::log) fn finish(
        self,
        separator: Option<char>,
        taken: Vec<String>,
    ) -> Result<(LogReading, FrameTally), LogError> {
        let too_many = self.rejected as f64 > REJECTED_SHARE_LIMIT * self.rows as f64;
        if let (true, Some(first)) = (too_many, self.rejected_rows.first()) {
            let (rejected, rows, first) = (self.rejected, self.rows, first.clone());
            return Err(LogError::TooManyRejected { rejected, rows, first });
        }
        let frames = self.tally.frames();
        if frames == 0 {
            return Err(LogError::NoFrames);
        }
        let mean_ms = self.tally.total_ms() / frames as f64;
        let reading = LogReading {
            readings: readings(&self.reader.side, self.side, mean_ms),
            frames: frames as u64,
            separator,
            taken,
            rows: self.rows,
            rejected: self.rejected,
            rejected_rows: self.rejected_rows,
        };
        Ok((reading, self.tally))
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
            debug_assert_eq!(index, 0, "it is the first one");
            join.put_all(reader.read(&first))?;
            return Ok(join);
        }
        let cores = thread::available_parallelism().map_or(1, NonZero::get);
        let (shared_pieces, shared_join) = (Mutex::new(pieces), Mutex::new(join));
        let lock_pieces = || shared_pieces.lock().unwrap_or_else(PoisonError::into_inner);
        let work = |mut piece: Piece, mut index: Option<u64>| -> Result<(), LogError> {
            let lock_join = || shared_join.lock().unwrap_or_else(PoisonError::into_inner);
            let mut counts = Counts::default();
            loop {
                if let Some(index) = index {
                    let rows = reader.read(&piece);
                    let tally = PieceTally::of(&rows.frame_ms, &mut counts);
                    lock_join().put(index, rows, tally)?;
                }
                index = lock_pieces().next(&mut piece)?;
                if index.is_none() {
                    lock_join().add(&counts);
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
