//! The rows of a piece of a log: frame times out of bytes.

use std::collections::BTreeSet;

use wide::u8x64;

use super::columns::{Chosen, Writing};
use super::number::{nth_cell, plain_number};
use super::quoted::QuotedRows;
use super::readings::{SideColumn, SideValues};
use super::{ColumnKind, RejectedRow, json};

/// How many rejected rows are kept to be shown.
pub(super) const SHOWN_REJECTED_ROWS: usize = 5;
/// A frame does not take longer than ten minutes, whatever a log says.
const LONGEST_FRAME_MS: f64 = 600_000.0;
/// A frame does not take less than a microsecond.
const SHORTEST_FRAME_MS: f64 = 0.001;
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

/// Why a frame time is none, if it is none.
#[inline]
pub(super) fn absurd(frame_ms: f64) -> Option<String> {
    (!(SHORTEST_FRAME_MS..=LONGEST_FRAME_MS).contains(&frame_ms))
        .then(|| format!("{frame_ms} ms is no frame time"))
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

/// The separators and line ends of a piece, one after another; its end counts as that of a line.
struct Marks<'a> {
    piece: &'a [u8],
    separator: u8,
    /// Where the bytes are that were looked at together.
    block: usize,
    /// Which of them are a separator or a line end, and which a line end; those passed are taken out.
    both: u64,
    ends: u64,
}

/// Bytes that are looked at together: as many as a word has bits.
const BLOCK: usize = 64;

impl<'a> Marks<'a> {
    fn new(piece: &'a [u8], separator: u8) -> Self {
        let mut marks = Self { piece, separator, block: 0, both: 0, ends: 0 };
        marks.look();
        marks
    }

    #[inline]
    fn look(&mut self) {
        let rest = self.piece.get(self.block..).unwrap_or_default();
        let bytes = match rest.first_chunk::<BLOCK>() {
            Some(bytes) => *bytes,
            None => {
                let mut bytes = [0; BLOCK];
                bytes[..rest.len()].copy_from_slice(rest);
                // A piece without a line end at its end has one all the same.
                if !rest.is_empty() && rest.last() != Some(&b'\n') {
                    bytes[rest.len()] = b'\n';
                }
                bytes
            }
        };
        let bytes = u8x64::new(bytes);
        self.ends = bytes.simd_eq(u8x64::splat(b'\n')).to_bitmask();
        self.both = bytes.simd_eq(u8x64::splat(self.separator)).to_bitmask() | self.ends;
    }

    /// The next one, and whether it is a line end.
    #[inline]
    fn next(&mut self) -> Option<(usize, bool)> {
        while self.both == 0 {
            if !self.look_on() {
                return self.open_end().map(|end| (end, true));
            }
        }
        let place = self.both.trailing_zeros();
        let is_end = self.ends >> place & 1 == 1;
        self.both &= self.both - 1;
        if is_end {
            self.ends &= self.ends - 1;
        }
        Some((self.block + place as usize, is_end))
    }

    /// The next line end; separators before it are passed.
    #[inline]
    fn next_end(&mut self) -> Option<usize> {
        while self.ends == 0 {
            if !self.look_on() {
                return self.open_end();
            }
        }
        let place = self.ends.trailing_zeros();
        self.ends &= self.ends - 1;
        self.both &= !(u64::MAX >> (63 - place));
        Some(self.block + place as usize)
    }

    /// Looks at the next block, if there is one.
    #[inline]
    fn look_on(&mut self) -> bool {
        self.block += BLOCK;
        let is_there = self.block < self.piece.len();
        if is_there {
            self.look();
        }
        is_there
    }

    /// The end of a piece as long as whole blocks, in which there was no room for the end that it lacks.
    #[cold]
    fn open_end(&self) -> Option<usize> {
        let is_open =
            self.block == self.piece.len() && self.piece.last().is_some_and(|last| *last != b'\n');
        is_open.then_some(self.piece.len())
    }
}

impl RowReader {
    /// Reads a piece of a log that ends where a row ends.
    pub(super) fn read(&self, piece: &[u8]) -> Rows {
        let mut rows = Rows::of(self);
        match &self.form {
            Form::JsonLines { fields } => self.read_objects(piece, fields, &mut rows),
            Form::Blanks => self.read_lines(piece, &mut rows, |line, index| {
                line.split(u8::is_ascii_whitespace).filter(|cell| !cell.is_empty()).nth(index)
            }),
            Form::Delimited { separator } if memchr::memchr(b'"', piece).is_some() => {
                self.read_quoted(piece, *separator, &mut rows);
            }
            Form::Delimited { separator } => {
                let is_alone =
                    self.only.is_empty() && self.watched.is_empty() && self.side.is_empty();
                if is_alone && self.chosen.writing == Writing::Plain {
                    self.read_plain(piece, *separator, &mut rows);
                } else {
                    self.read_lines(piece, &mut rows, |line, index| {
                        nth_cell(line, *separator, index).map(|(start, end)| &line[start..end])
                    });
                }
            }
        }
        rows
    }

    /// The one wanted number of each row without looking at the other cells: most logs, and most of the
    /// rows of any, are so. A row that is not is read as [`Self::read_lines`] does.
    fn read_plain(&self, piece: &[u8], separator: u8, rows: &mut Rows) {
        let mut marks = Marks::new(piece, separator);
        let (mut row_start, mut line) = (0, 0);
        'rows: while row_start < piece.len() {
            line += 1;
            let (mut start, mut end, mut is_end) = (row_start, row_start, false);
            // The mark behind each of the cells up to the wanted one.
            for index in 0..=self.chosen.index {
                if is_end {
                    // The row ended before that cell.
                    self.take_careful(piece, row_start, separator, line, rows);
                    row_start = end + 1;
                    continue 'rows;
                }
                if index > 0 {
                    start = end + 1;
                }
                let Some(mark) = marks.next() else { break 'rows };
                (end, is_end) = mark;
            }
            let is_after_return = is_end && end > start && piece[end - 1] == b'\r';
            match plain_number(piece, start, end - usize::from(is_after_return)) {
                Some(value) => {
                    rows.rows += 1;
                    self.take_value(value, line, rows);
                }
                None => self.take_careful(piece, row_start, separator, line, rows),
            }
            row_start = if is_end { end } else { marks.next_end().unwrap_or(piece.len()) } + 1;
        }
        rows.lines = line;
    }

    /// Reads the row that begins at a place as the others are read that are not plain.
    #[cold]
    fn take_careful(&self, piece: &[u8], start: usize, separator: u8, line: u64, rows: &mut Rows) {
        let row = &piece[start..];
        let row = &row[..memchr::memchr(b'\n', row).unwrap_or(row.len())];
        if !row.trim_ascii().is_empty() {
            rows.rows += 1;
            let cell = nth_cell(row, separator, self.chosen.index);
            self.take(cell.map(|(start, end)| &row[start..end]), line, rows);
        }
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
            if let Some(text) =
                cell(*column).map(<[u8]>::trim_ascii).filter(|text| !text.is_empty())
                && !seen.contains(text)
                && seen.len() < 2
            {
                seen.insert(text.to_vec());
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

    #[inline(always)]
    fn take_value(&self, value: f64, line: u64, rows: &mut Rows) {
        let ms = self.chosen.unit.to_ms(value);
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
    use proptest::prelude::*;

    proptest! {
        /// Pieces end anywhere in the blocks that are looked at together, with a line end or without.
        #[test]
        fn plain_rows_are_read_as_all_others_are(
            text in "([0-9]{0,4}[.]?[0-9]{0,5}|x|,|,|\n|\r\n){0,80}", index in 0..4_usize,
        ) {
            let (unit, holds, writing) = (TimeUnit::Milliseconds, ColumnKind::FrameTimes, Writing::Plain);
            let chosen = Chosen { index, holds, unit, writing, because: Vec::new() };
            let form = Form::Delimited { separator: b',' };
            let reader = RowReader {
                form, chosen, columns: 0, only: Vec::new(), watched: Vec::new(), side: Vec::new(),
            };
            let (mut plain, mut others) = (Rows::of(&reader), Rows::of(&reader));
            reader.read_plain(text.as_bytes(), b',', &mut plain);
            reader.read_lines(text.as_bytes(), &mut others, |line, index| {
                nth_cell(line, b',', index).map(|(start, end)| &line[start..end])
            });
            prop_assert_eq!(&plain.frame_ms, &others.frame_ms);
            prop_assert_eq!((plain.rows, plain.lines), (others.rows, others.lines));
            prop_assert_eq!(&plain.rejected_rows, &others.rejected_rows);
        }
    }
}
