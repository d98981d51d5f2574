//! Rows of cells without quotation marks, four at once: most logs are so, and most rows of any.
//!
//! First the wanted cells of some rows are found, in [windows](super::windows) of each; then each column is read in
//! four rows together. A row that is not as most are is read as all others are read.

use super::cells::{BATCH, Cells, FOURS, Held};
use super::find::Finder;
use super::{RowReader, Rows, windows};
#[cfg(target_arch = "x86_64")]
use crate::log::lanes::Wide;
use crate::log::lanes::{FourCells, LANES, Lanes, Narrow, Powers};
use crate::log::number::{longer_number, nth_cell};
use crate::log::readings::{SideColumn, SideValues};
use crate::log::{ColumnKind, TimeUnit};

/// Rows that are read one by one before it is looked again how rows are.
const PATIENCE: usize = 16;
/// All of four rows, a bit for each.
const ALL: u8 = 0b1111;

/// Which of four rows those of these bits are.
#[inline(always)]
fn in_rows(bits: u8) -> impl Iterator<Item = usize> {
    (0..LANES).filter(move |lane| bits >> lane & 1 == 1)
}

/// Which columns of a log are read, and what for.
struct Columns {
    /// Their places in the row, ascending.
    wanted: Vec<usize>,
    /// Which of them holds the frames.
    frames: usize,
    /// Which of them rows are chosen by, as the reader's `only`; and so on.
    only: Vec<usize>,
    watched: Vec<usize>,
    side: Vec<usize>,
}

impl Columns {
    fn of(reader: &RowReader) -> Self {
        let only = reader.only.iter().map(|(place, _)| *place);
        let side = reader.side.iter().map(|column| column.index);
        let watched = reader.watched.iter().copied();
        let mut wanted = vec![reader.chosen.index];
        wanted.extend(only.clone().chain(watched.clone()).chain(side.clone()));
        wanted.sort_unstable();
        wanted.dedup();
        // Every one of them is among those that are wanted.
        let find = |place: usize| wanted.partition_point(|other| *other < place);
        Self {
            frames: find(reader.chosen.index),
            only: only.map(find).collect(),
            watched: watched.map(find).collect(),
            side: side.map(find).collect(),
            wanted,
        }
    }
}

/// What is carried from four rows to the next four.
struct Carried<'a> {
    powers_of_frames: Powers,
    /// As the reader's columns of the same name.
    powers_of_side: Vec<Powers>,
    held: Vec<Option<Held<'a>>>,
}

/// Reads the rows of a piece as fast as this processor can.
pub(super) fn read(reader: &RowReader, piece: &[u8], separator: u8, rows: &mut Rows) {
    let piece = Piece { reader, columns: Columns::of(reader), piece, separator };
    #[cfg(target_arch = "x86_64")]
    if let Some(wide) = Wide::new() {
        return wide.run(
            #[inline(always)]
            || piece.read(wide, rows),
        );
    }
    piece.read(Narrow, rows);
}

/// Reads them as every processor can.
#[cfg(test)]
pub(super) fn read_narrow(reader: &RowReader, piece: &[u8], separator: u8, rows: &mut Rows) {
    Piece { reader, columns: Columns::of(reader), piece, separator }.read(Narrow, rows);
}

/// A piece of a log that ends where a row ends, and how it is read.
struct Piece<'a> {
    reader: &'a RowReader,
    columns: Columns,
    piece: &'a [u8],
    separator: u8,
}

impl<'a> Piece<'a> {
    #[inline(always)]
    fn read<L: Lanes>(&self, lanes: L, rows: &mut Rows) {
        let piece = self.piece;
        let mut carried = Carried {
            powers_of_frames: Powers::default(),
            powers_of_side: vec![Powers::default(); self.reader.side.len()],
            held: vec![None; self.reader.watched.len()],
        };
        let mut cells = vec![Cells::NONE; self.columns.wanted.len()];
        let mut line_ends = [0; BATCH];
        let finder = Finder { lanes, piece, separator: self.separator };
        // The first row has no line end before it.
        let mut row = if piece.is_empty() { 0 } else { self.take_carefully(0, rows) };
        rows.frame_ms.reserve(piece.len() / row.max(1));
        while row < piece.len() {
            let windows = windows::find(&self.columns.wanted, piece, row - 1, self.separator);
            let mut carefully = 0;
            while row < piece.len() && carefully < PATIENCE {
                let found = finder.find(&windows, row - 1, &mut cells, &mut line_ends);
                let fours = found / LANES;
                let taken = self.take(lanes, &cells, fours, &mut carried, rows);
                if let Some(line_end) = (LANES * taken).checked_sub(1) {
                    row = line_ends[line_end] + 1;
                }
                // Where a number is missing, or the rows behind are not like most.
                let alone = match (taken < fours, found < BATCH) {
                    (true, _) => LANES,
                    (false, true) => found % LANES + 1,
                    (false, false) => continue,
                };
                carefully += 1;
                for _ in 0..alone {
                    if row < piece.len() {
                        row = self.take_carefully(row, rows);
                    }
                }
            }
        }
    }

    /// Takes so many times four rows, up to four of which one holds no number where frames should be. How many times
    /// four it took.
    #[inline(always)]
    fn take<L: Lanes>(
        &self,
        lanes: L,
        cells: &[Cells],
        fours: usize,
        carried: &mut Carried<'a>,
        rows: &mut Rows,
    ) -> usize {
        let columns = &self.columns;
        let mut frames = [[0.0; LANES]; FOURS];
        let mut found = 0;
        for (four, frames) in frames.iter_mut().enumerate().take(fours) {
            let cells = cells[columns.frames].four(four);
            match self.frames(lanes, &cells, &mut carried.powers_of_frames) {
                Some(values) => *frames = values,
                None => break,
            }
            found += 1;
        }
        let mut are_taken = [ALL; FOURS];
        let (frames, are_taken) = (&mut frames[..found], &mut are_taken[..found]);
        for (column, (_, text)) in columns.only.iter().zip(&self.reader.only) {
            for (four, are_taken) in are_taken.iter_mut().enumerate() {
                let cells = cells[*column].four(four);
                for lane in 0..LANES {
                    let is_other = cells.text(self.piece, lane).trim_ascii() != text;
                    *are_taken &= !(u8::from(is_other) << lane);
                }
            }
        }
        for (watched, (column, held)) in columns.watched.iter().zip(&mut carried.held).enumerate() {
            self.watch(lanes, watched, &cells[*column], are_taken, held, rows);
        }
        let side = columns.side.iter().zip(&mut carried.powers_of_side);
        let taken = self.reader.side.iter().zip(&mut rows.side);
        for ((column, powers), (kind, values)) in side.zip(taken) {
            self.take_side(lanes, kind, &cells[*column], are_taken, powers, values);
        }
        self.keep(frames, are_taken, rows);
        found
    }

    /// Notes what the cells of a watched column hold.
    #[inline(always)]
    fn watch(
        &self,
        lanes: impl Lanes,
        watched: usize,
        cells: &Cells,
        are_taken: &[u8],
        held: &mut Option<Held<'a>>,
        rows: &mut Rows,
    ) {
        for (four, are_taken) in are_taken.iter().enumerate() {
            let cells = cells.four(four);
            if held.is_some_and(|held| held.is_in_all(lanes, &cells, self.piece)) {
                continue;
            }
            for lane in in_rows(*are_taken) {
                let text = cells.text(self.piece, lane);
                *held = Some(Held::of(text));
                rows.see(watched, text);
            }
        }
    }

    /// Takes what the cells of a column beside the frames say.
    #[inline(always)]
    fn take_side(
        &self,
        lanes: impl Lanes,
        column: &SideColumn,
        cells: &Cells,
        are_taken: &[u8],
        powers: &mut Powers,
        values: &mut SideValues,
    ) {
        let is_as_written = column.kind.is_as_written();
        let mut sums = values.sums;
        for (four, are_taken) in are_taken.iter().enumerate() {
            let cells = cells.four(four);
            let numbers = lanes.numbers(&cells, powers);
            if let (Some(numbers), ALL, true) = (numbers, *are_taken, is_as_written)
                && sums.take_four(numbers)
            {
                if column.holds_latency() {
                    values.values.extend(numbers);
                }
                continue;
            }
            for lane in in_rows(*are_taken) {
                let value = match numbers {
                    Some(numbers) => column.of_number(numbers[lane]),
                    None => cells.value(self.piece, lane, column),
                };
                if let Some(value) = value {
                    sums.take(value);
                    if column.holds_latency() {
                        values.values.push(value);
                    }
                }
            }
        }
        values.sums = sums;
    }

    /// What cells of the column of frames say.
    #[inline(always)]
    fn frames(
        &self,
        lanes: impl Lanes,
        cells: &FourCells<'_>,
        powers: &mut Powers,
    ) -> Option<[f64; LANES]> {
        if self.reader.chosen.is_plain() {
            if let Some(numbers) = lanes.numbers(cells, powers) {
                return Some(numbers);
            }
            if let Some(numbers) = cells.long_numbers(lanes, self.piece) {
                return Some(numbers);
            }
        }
        self.one_by_one(cells)
    }

    /// Keeps the frames of some rows, four together.
    #[inline(always)]
    fn keep(&self, frames: &mut [[f64; LANES]], are_taken: &[u8], rows: &mut Rows) {
        let chosen = &self.reader.chosen;
        let ms = frames.as_flattened_mut();
        if chosen.unit != TimeUnit::Milliseconds {
            ms.iter_mut().for_each(|value| *value = chosen.unit.to_ms(*value));
        }
        let mut between = [0.0; BATCH];
        let between = &mut between[..ms.len()];
        let frame_ms: &[f64] = match (chosen.holds, rows.last_stamp) {
            (ColumnKind::FrameTimes, _) => ms,
            (ColumnKind::TimeStamps, Some(before)) => {
                if let ([first, between @ ..], [first_ms, ..]) = (&mut *between, &*ms) {
                    *first = first_ms - before;
                    let steps = ms.iter().zip(&ms[1..]);
                    between.iter_mut().zip(steps).for_each(|(ms, (a, b))| *ms = b - a);
                }
                between
            }
            (ColumnKind::TimeStamps, None) => &[],
        };
        let are_all = are_taken.iter().all(|are_taken| *are_taken == ALL);
        if are_all && frame_ms.len() == ms.len() && super::are_frame_times(frame_ms) {
            rows.frame_ms.extend_from_slice(frame_ms);
            if let (ColumnKind::TimeStamps, Some(last)) = (chosen.holds, ms.last()) {
                rows.last_stamp = Some(*last);
            }
            rows.rows += ms.len() as u64;
            rows.lines += ms.len() as u64;
            return;
        }
        for (are_taken, four) in are_taken.iter().zip(ms.as_chunks::<LANES>().0) {
            for (lane, ms) in four.iter().enumerate() {
                rows.lines += 1;
                if are_taken >> lane & 1 == 1 {
                    rows.rows += 1;
                    self.reader.take_ms(*ms, rows.lines, rows);
                }
            }
        }
    }

    /// What four cells say, where they are longer than most or written in another way.
    #[inline(never)]
    fn one_by_one(&self, cells: &FourCells<'_>) -> Option<[f64; LANES]> {
        let mut values = [0.0; LANES];
        for (lane, value) in values.iter_mut().enumerate() {
            let chosen = &self.reader.chosen;
            let number = chosen
                .is_plain()
                .then(|| {
                    longer_number(self.piece, cells.start[lane] as usize, cells.end[lane] as usize)
                })
                .flatten();
            let text = cells.text(self.piece, lane);
            let value_of_text = || chosen.writing.value(text.trim_ascii());
            *value = number.or_else(value_of_text).filter(|value| value.is_finite())?;
        }
        Some(values)
    }

    /// Takes the row that begins at a place as rows of any form are taken; where the next one begins.
    #[cold]
    #[inline(never)]
    fn take_carefully(&self, start: usize, rows: &mut Rows) -> usize {
        let line = &self.piece[start..];
        let line = &line[..memchr::memchr(b'\n', line).unwrap_or(line.len())];
        rows.lines += 1;
        if !line.trim_ascii().is_empty() {
            let cell =
                |index| nth_cell(line, self.separator, index).map(|(start, end)| &line[start..end]);
            self.reader.take_row(cell, rows.lines, rows);
        }
        start + line.len() + 1
    }
}
