//! The rows of a piece of a log: frame times out of bytes.

mod cells;
mod delimited;
mod find;
mod windows;

use std::collections::BTreeSet;
use std::ops::RangeInclusive;

use super::columns::{Chosen, Writing};
use super::quoted::QuotedRows;
use super::readings::{SideColumn, SideValues};
use super::stream::source::Piece;
use super::{ColumnKind, RejectedRow, json};
use crate::stream::lanes::{greatest, least};

/// How many rejected rows are kept to be shown.
pub(super) const SHOWN_REJECTED_ROWS: usize = 5;
/// A frame does not take longer than ten minutes, whatever a log says, nor less than a microsecond.
const FRAME_TIMES_MS: RangeInclusive<f64> = 0.001..=600_000.0;
const DAY_MS: f64 = 86_400_000.0;

/// How the rows of a log are read, once that is known.
pub(super) struct RowReader {
    pub(super) form: Form,
    pub(super) chosen: Chosen,
    /// How many columns the heading names; none where there is no heading.
    pub(super) columns: usize,
    /// Columns of which only rows with one text are taken.
    pub(super) only: Vec<(usize, Vec<u8>)>,
    /// Columns that tell frames apart: a log in which they differ is of several.
    pub(super) watched: Vec<usize>,
    /// Columns beside the frames that are read as well.
    pub(super) side: Vec<SideColumn>,
}

/// What a row is.
pub(super) enum Form {
    /// Cells with this between them.
    Delimited { separator: u8 },
    /// Cells with any number of blanks between them.
    Blanks,
    /// An object with these fields.
    JsonLines { fields: Vec<String> },
}

/// What a piece of a log holds.
#[derive(Default)]
pub(super) struct Rows {
    /// Frame times; where the log holds stamps, the first lies between the first two of them.
    pub(super) frame_ms: Vec<f64>,
    /// The first time stamp in milliseconds and its line in the piece, and the last; where the log holds
    /// such and they have not been broken off before.
    pub(super) first_stamp: Option<(f64, u64)>,
    pub(super) last_stamp: Option<f64>,
    pub(super) rows: u64,
    pub(super) lines: u64,
    pub(super) rejected: u64,
    /// The first of those, their lines counted from 1 in this piece.
    pub(super) rejected_rows: Vec<RejectedRow>,
    /// What was seen in each watched column.
    pub(super) seen: Vec<BTreeSet<Vec<u8>>>,
    /// What each column beside the frames holds.
    pub(super) side: Vec<SideValues>,
    /// Whether a row that holds no stamp came before the first one that does.
    is_cut_off: bool,
}

#[inline(always)]
fn is_frame_time(ms: f64) -> bool {
    FRAME_TIMES_MS.contains(&ms)
}

/// Whether all of these are, none of which is not a number.
#[inline(always)]
fn are_frame_times(frame_ms: &[f64]) -> bool {
    least(frame_ms) >= *FRAME_TIMES_MS.start() && greatest(frame_ms) <= *FRAME_TIMES_MS.end()
}

/// Why a frame time is none, if it is none.
#[inline]
pub(super) fn absurd(frame_ms: f64) -> Option<String> {
    (!is_frame_time(frame_ms)).then(|| format!("{frame_ms} ms is no frame time"))
}

/// Notes what a watched cell holds: one text, and another one where there is one.
fn see(seen: &mut BTreeSet<Vec<u8>>, cell: &[u8]) {
    let text = cell.trim_ascii();
    if !text.is_empty() && seen.len() < 2 && !seen.contains(text) {
        seen.insert(text.to_vec());
    }
}

/// What lies between two time stamps.
pub(super) fn between(writing: Writing, before_ms: f64, after_ms: f64) -> f64 {
    let between = after_ms - before_ms;
    if between < -DAY_MS / 2.0 && writing.wraps_at_midnight() { between + DAY_MS } else { between }
}

impl Rows {
    /// Nothing read yet by this reader.
    pub(super) fn of(reader: &RowReader) -> Self {
        Self {
            seen: vec![BTreeSet::new(); reader.watched.len()],
            side: vec![SideValues::default(); reader.side.len()],
            ..Self::default()
        }
    }

    /// Whether it says anything of time stamps, if only that one was missing.
    pub(super) fn holds_stamps(&self) -> bool {
        self.first_stamp.is_some() || self.is_cut_off
    }

    /// Notes what a cell of a watched column holds.
    #[inline(never)]
    fn see(&mut self, watched: usize, cell: &[u8]) {
        see(&mut self.seen[watched], cell);
    }

    fn reject(&mut self, line: u64, reason: String) {
        self.rejected += 1;
        if self.rejected_rows.len() < SHOWN_REJECTED_ROWS {
            self.rejected_rows.push(RejectedRow { line, reason });
        }
    }

    #[inline(always)]
    fn take_frame(&mut self, frame_ms: f64, line: u64) {
        match absurd(frame_ms) {
            None => self.frame_ms.push(frame_ms),
            Some(reason) => self.reject(line, reason),
        }
    }
}

impl RowReader {
    /// Reads a piece of a log that ends where a row ends.
    pub(super) fn read(&self, piece: &Piece) -> Rows {
        let mut rows = Rows::of(self);
        let (has_quotation_marks, piece) = (piece.has_quotation_marks(), piece.bytes());
        match &self.form {
            Form::JsonLines { fields } => self.read_objects(piece, fields, &mut rows),
            Form::Blanks => self.read_lines(piece, &mut rows, |line, index| {
                line.split(u8::is_ascii_whitespace).filter(|cell| !cell.is_empty()).nth(index)
            }),
            Form::Delimited { separator } if has_quotation_marks => {
                self.read_quoted(piece, *separator, &mut rows);
            }
            Form::Delimited { separator } => delimited::read(self, piece, *separator, &mut rows),
        }
        rows
    }

    fn read_lines<'a>(
        &self,
        piece: &'a [u8],
        rows: &mut Rows,
        cell: impl Fn(&'a [u8], usize) -> Option<&'a [u8]>,
    ) {
        let mut rest = piece;
        while !rest.is_empty() {
            rows.lines += 1;
            let end = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
            let line = &rest[..end];
            rest = rest.get(end + 1..).unwrap_or_default();
            if !line.trim_ascii().is_empty() {
                let line_number = rows.lines;
                self.take_row(|index| cell(line, index), line_number, rows);
            }
        }
    }

    fn read_quoted(&self, piece: &[u8], separator: u8, rows: &mut Rows) {
        for row in QuotedRows::of(piece, separator, self.columns) {
            if row.cells.iter().any(|cell| !cell.trim_ascii().is_empty()) {
                self.take_row(|index| row.cells.get(index).map(|cell| &**cell), row.line, rows);
            }
        }
        rows.lines = memchr::memchr_iter(b'\n', piece).count() as u64;
    }

    fn read_objects(&self, piece: &[u8], fields: &[String], rows: &mut Rows) {
        for line in piece.split(|byte| *byte == b'\n') {
            rows.lines += 1;
            if line.trim_ascii().is_empty() {
                continue;
            }
            let object = json::object(line).unwrap_or_default();
            let cells: Vec<Option<String>> =
                fields.iter().map(|field| json::cell(object.get(field))).collect();
            let line_number = rows.lines;
            self.take_row(
                |index| cells.get(index)?.as_deref().map(str::as_bytes),
                line_number,
                rows,
            );
        }
        rows.lines = memchr::memchr_iter(b'\n', piece).count() as u64;
    }

    /// Takes the row whose cells are given.
    pub(super) fn take_row<'a>(
        &self,
        cell: impl Fn(usize) -> Option<&'a [u8]>,
        line: u64,
        rows: &mut Rows,
    ) {
        let is_other =
            |(column, text): &(usize, Vec<u8>)| cell(*column).map(<[u8]>::trim_ascii) != Some(text);
        if self.only.iter().any(is_other) {
            return;
        }
        for (column, seen) in self.watched.iter().zip(&mut rows.seen) {
            if let Some(text) = cell(*column) {
                see(seen, text);
            }
        }
        for (column, values) in self.side.iter().zip(&mut rows.side) {
            if let Some(value) = cell(column.index).and_then(|cell| column.value(cell)) {
                values.take(column, value);
            }
        }
        rows.rows += 1;
        self.take(cell(self.chosen.index), line, rows);
    }

    fn take(&self, cell: Option<&[u8]>, line: u64, rows: &mut Rows) {
        let read = match cell.map(<[u8]>::trim_ascii) {
            None => Err("the row has no such cell".to_owned()),
            Some(b"") => Err("the cell is blank".to_owned()),
            Some(cell) => self.chosen.writing.value(cell).ok_or_else(|| {
                let shown: String = String::from_utf8_lossy(cell).chars().take(40).collect();
                format!("`{shown}` is not a number")
            }),
        };
        match read {
            Ok(value) => self.take_value(value, line, rows),
            Err(reason) => {
                // What came next would seem to have taken the time of this frame too.
                rows.last_stamp = None;
                rows.is_cut_off |= rows.first_stamp.is_none();
                rows.reject(line, reason);
            }
        }
    }

    fn take_value(&self, value: f64, line: u64, rows: &mut Rows) {
        self.take_ms(self.chosen.unit.to_ms(value), line, rows);
    }

    #[inline(always)]
    fn take_ms(&self, ms: f64, line: u64, rows: &mut Rows) {
        match self.chosen.holds {
            ColumnKind::FrameTimes => rows.take_frame(ms, line),
            ColumnKind::TimeStamps => match rows.last_stamp.replace(ms) {
                Some(before) => rows.take_frame(between(self.chosen.writing, before, ms), line),
                // The first stamp begins the first frame.
                None if rows.first_stamp.is_none() && !rows.is_cut_off => {
                    rows.first_stamp = Some((ms, line));
                }
                None => {}
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::TimeUnit;
    use crate::log::number::nth_cell;
    use crate::log::readings::side_columns;
    use proptest::prelude::*;

    fn reader(index: usize, holds: ColumnKind, with: &[Vec<(usize, &str)>; 2]) -> RowReader {
        let (unit, writing) = (TimeUnit::Milliseconds, Writing::Plain);
        let chosen = Chosen { index, holds, unit, writing, because: Vec::new() };
        let [only, others] = with;
        let names = ["", "", "", "", ""].map(str::to_owned);
        let mut reader = RowReader {
            form: Form::Delimited { separator: b',' },
            chosen,
            columns: 0,
            only: only.iter().map(|(column, text)| (*column, text.as_bytes().to_vec())).collect(),
            watched: Vec::new(),
            side: Vec::new(),
        };
        for (column, name) in others {
            let mut names = names.to_vec();
            names[*column] = (*name).to_owned();
            match *name {
                "" => reader.watched.push(*column),
                _ => reader.side.extend(side_columns(&names, index, unit)),
            }
        }
        reader
    }

    fn cell() -> impl Strategy<Value = String> {
        prop_oneof![
            8 => "[1-9][0-9]?[.][0-9]{1,5}",
            2 => "[0-9]{1,3}[.][0-9]{6,13}",
            2 => "[0-9.]{0,17}",
            1 => "( |x|-4|1e3|NA|[.]|[a-z.]{60,140}){0,2}",
        ]
    }

    #[test]
    fn a_log_of_more_columns_than_are_read_together_is_read_one_row_after_another() {
        let columns = 40;
        let watched: Vec<(usize, &str)> = (1..columns).map(|column| (column, "")).collect();
        let mut reader = reader(0, ColumnKind::FrameTimes, &[Vec::new(), Vec::new()]);
        reader.watched = watched.iter().map(|(column, _)| *column).collect();
        let row = |ms: f64| format!("{ms:.2}{}\n", ",same".repeat(columns - 1));
        let text: String = (0..100).map(|at| row(10.0 + f64::from(at) / 4.0)).collect();
        let mut rows = Rows::of(&reader);
        delimited::read(&reader, text.as_bytes(), b',', &mut rows);
        assert_eq!((rows.rows, rows.lines, rows.frame_ms.len()), (100, 100, 100));
        assert!(rows.seen.iter().all(|seen| seen.len() == 1));
        assert_eq!(rows.frame_ms[99], 34.75);
    }

    proptest! {
        /// Cells of every length and kind, rows that are short, long or cut, with a line end or without.
        #[test]
        fn four_rows_at_once_are_read_as_one_after_another(
            rows in prop::collection::vec(
                (
                    prop::collection::vec(cell(), 5..=5)
                        .prop_flat_map(|cells| prop_oneof![8 => Just(cells.clone()), 1 => prop::sample::subsequence(cells, 0..=5)]),
                    prop_oneof![Just("\n"), Just("\r\n"), Just("\n\n")],
                ),
                0..40,
            ),
            index in 0..5_usize,
            holds in prop_oneof![Just(ColumnKind::FrameTimes), Just(ColumnKind::TimeStamps)],
            only in prop::collection::vec((0..5_usize, prop_oneof![Just("x"), Just("NA")]), 0..2),
            others in prop::collection::vec(
                (0..5_usize, prop_oneof![Just(""), Just("latency"), Just("GPU load")]), 0..3
            ),
            is_cut in any::<bool>(),
        ) {
            let mut text: String =
                rows.iter().map(|(cells, end)| cells.join(",") + end).collect();
            if is_cut {
                text.pop();
            }
            let reader = reader(index, holds, &[only, others]);
            let mut others = Rows::of(&reader);
            reader.read_lines(text.as_bytes(), &mut others, |line, index| {
                nth_cell(line, b',', index).map(|(start, end)| &line[start..end])
            });
            let mut read = [Rows::of(&reader), Rows::of(&reader)];
            delimited::read(&reader, text.as_bytes(), b',', &mut read[0]);
            delimited::read_narrow(&reader, text.as_bytes(), b',', &mut read[1]);
            for at_once in read {
                prop_assert_eq!(&at_once.frame_ms, &others.frame_ms);
                prop_assert_eq!((at_once.rows, at_once.lines), (others.rows, others.lines));
                prop_assert_eq!(&at_once.rejected_rows, &others.rejected_rows);
                prop_assert_eq!(&at_once.seen, &others.seen);
                for (at_once, others) in at_once.side.iter().zip(&others.side) {
                    prop_assert!(at_once.are_like(others), "{:?} {:?}", at_once, others);
                }
                prop_assert_eq!(at_once.first_stamp, others.first_stamp);
                prop_assert_eq!(at_once.last_stamp, others.last_stamp);
            }
        }
    }
}
