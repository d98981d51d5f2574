//! Rows of cells without quotation marks, four at once: most logs are so, and most rows of any.
//!
//! Each row is looked at from its beginning, so that nothing is carried from one to the next and a
//! processor can be busy with several. A row that is not as most are is read as all others are read.

use super::{RowReader, Rows};
use crate::log::ColumnKind;
#[cfg(target_arch = "x86_64")]
use crate::log::lanes::Wide;
use crate::log::lanes::{LANES, Lanes, LongWords, Narrow, Powers, WINDOW, Words};
use crate::log::number::{longer_number, nth_cell};
use crate::log::readings::SideColumn;

/// The most columns that are read so.
const MOST_COLUMNS: usize = 16;

/// Which columns of a log are read, and what for.
pub(super) struct Columns {
    /// Their places in the row, ascending.
    places: Vec<usize>,
    /// Which of them holds the frames.
    frames: usize,
    /// Which of them rows are chosen by, as the reader's `only`; and so on.
    only: Vec<usize>,
    watched: Vec<usize>,
    side: Vec<usize>,
}

impl Columns {
    /// Those that a reader needs; nothing where they are too many.
    fn of(reader: &RowReader) -> Option<Self> {
        let only = reader.only.iter().map(|(place, _)| *place);
        let side = reader.side.iter().map(|column| column.index);
        let watched = reader.watched.iter().copied();
        let mut places = vec![reader.chosen.index];
        places.extend(only.clone().chain(watched.clone()).chain(side.clone()));
        places.sort_unstable();
        places.dedup();
        if places.len() > MOST_COLUMNS {
            return None;
        }
        // Every one of them is among the places.
        let find = |place: usize| places.partition_point(|other| *other < place);
        Some(Self {
            frames: find(reader.chosen.index),
            only: only.map(find).collect(),
            watched: watched.map(find).collect(),
            side: side.map(find).collect(),
            places,
        })
    }
}

/// The cells of one column in four rows.
#[derive(Clone, Copy)]
struct Cells {
    start: [usize; LANES],
    end: [usize; LANES],
    /// The first eight bytes of each.
    words: [u64; LANES],
}

impl Cells {
    const NONE: Self = Self { start: [0; LANES], end: [0; LANES], words: [0; LANES] };

    #[inline(always)]
    fn text<'a>(&self, piece: &'a [u8], lane: usize) -> &'a [u8] {
        &piece[self.start[lane]..self.end[lane]]
    }

    /// What one of them says of a column beside the frames.
    #[inline(never)]
    fn value(&self, piece: &[u8], lane: usize, kind: &SideColumn) -> Option<f64> {
        // `NA` and the like are in many rows; `inf` is no number of anything either.
        if self.words[lane].to_le_bytes()[0].is_ascii_alphabetic() {
            return None;
        }
        match longer_number(piece, self.start[lane], self.end[lane]) {
            Some(number) => kind.of_number(number),
            None => kind.value(self.text(piece, lane)),
        }
    }

    /// The four numbers that they are, where all of them are short.
    #[inline(always)]
    fn numbers<L: Lanes>(&self, lanes: L, powers: &mut Powers) -> Option<[f64; LANES]> {
        let mut words = Words { bytes: self.words, spare_bits: [0; LANES] };
        let mut all_bits = 0;
        for (lane, spare_bits) in words.spare_bits.iter_mut().enumerate() {
            // No byte leaves 64 bits, and more than eight bytes far more.
            *spare_bits = 64_u64.wrapping_sub(8 * (self.end[lane] - self.start[lane]) as u64);
            all_bits |= *spare_bits;
        }
        if all_bits >= 64 { None } else { lanes.numbers(&words, powers) }
    }

    /// The four numbers that they are, where all of them are of eight to sixteen bytes.
    #[inline(always)]
    fn long_numbers(&self, lanes: impl Lanes, piece: &[u8]) -> Option<[f64; LANES]> {
        let (mut last, mut spare_bits) = ([0; LANES], [0; LANES]);
        for lane in 0..LANES {
            let length = self.end[lane] - self.start[lane];
            if !(8..=16).contains(&length) {
                return None;
            }
            last[lane] = word_at(piece, self.end[lane] - 8)?;
            spare_bits[lane] = 128 - 8 * length as u64;
        }
        lanes.long_numbers(&LongWords { last, first: self.words, spare_bits })
    }
}

#[inline(always)]
fn word_at(piece: &[u8], start: usize) -> Option<u64> {
    Some(u64::from_le_bytes(*piece.get(start..start + 8)?.first_chunk()?))
}

/// What a column held last, of one to sixteen bytes, to know it again.
#[derive(Clone, Copy)]
struct Held {
    length: usize,
    /// The first eight bytes, or as many as there are, so that the last of them is the highest.
    first: u64,
    /// How many bits of a word are beyond those.
    spare_bits: u64,
    /// The last eight bytes, where it has as many.
    last: u64,
}

impl Held {
    /// What a cell holds; nothing where it is of another length.
    #[inline(always)]
    fn of(cells: &Cells, piece: &[u8], lane: usize) -> Option<Self> {
        let length = cells.end[lane] - cells.start[lane];
        let spare_bits = 64_u64.saturating_sub(8 * length as u64);
        let first = cells.words[lane] << (spare_bits & 63);
        let last = match length {
            1..8 => 0,
            8..=16 => word_at(piece, cells.end[lane] - 8)?,
            _ => return None,
        };
        Some(Self { length, first, spare_bits, last })
    }

    /// Whether four cells all hold this.
    #[inline(always)]
    fn is_in_all(&self, cells: &Cells, piece: &[u8]) -> bool {
        let mut apart = 0;
        for lane in 0..LANES {
            apart |= (cells.end[lane] - cells.start[lane]) as u64 ^ self.length as u64;
            apart |= (cells.words[lane] << (self.spare_bits & 63)) ^ self.first;
        }
        if apart == 0 && self.length > 8 {
            for lane in 0..LANES {
                apart |= word_at(piece, cells.end[lane] - 8).map_or(1, |last| last ^ self.last);
            }
        }
        apart == 0
    }
}

/// Bytes whose marks are looked up together: few enough that the marks stay in a core's own memory.
const STRIP: usize = 1 << 13;

/// The marks of a strip of a piece, its separators and line ends, and of the row that it begins within.
struct Marks {
    /// What comes behind each of them, counted from the beginning of the piece. The first is the line end
    /// before the first row, or 0.
    behind: Vec<u32>,
    /// How many there are; what `behind` holds beyond is left from before.
    count: usize,
    /// Which of them are line ends.
    ends: Vec<u32>,
}

impl Marks {
    fn new() -> Self {
        Self { behind: vec![0], count: 1, ends: Vec::new() }
    }

    /// Leaves those of rows that are passed, of which there are so many.
    fn pass(&mut self, rows: usize) {
        // A row of many strips stays where it is.
        let Some(row) = rows.checked_sub(1) else { return };
        let last = self.ends[row] as usize;
        self.behind.copy_within(last..self.count, 0);
        self.count -= last;
        self.ends.drain(..rows);
        self.ends.iter_mut().for_each(|end| *end -= last as u32);
    }

    /// Adds those of the strip that begins at a place of a piece.
    #[inline(always)]
    fn look<L: Lanes>(&mut self, lanes: L, piece: &[u8], from: usize, separator: u8) {
        // More room than there are marks: what is written beyond their number is written over.
        let mut count = self.count;
        if self.behind.len() < count + STRIP + WINDOW {
            self.behind.resize(count + STRIP + WINDOW, 0);
        }
        let strip = &piece[from..piece.len().min(from + STRIP)];
        let (windows, rest) = strip.as_chunks::<WINDOW>();
        let mut last = [0; WINDOW];
        last[..rest.len()].copy_from_slice(rest);
        let mut base = from as u32 + 1;
        for window in windows.iter().chain(std::iter::once(&last)) {
            let line_ends = lanes.places_of(window, b'\n');
            let mut marks = lanes.places_of(window, separator) | line_ends;
            let mut left = line_ends;
            while left != 0 {
                let before = marks & (left - 1) & !left;
                self.ends.push(count as u32 + before.count_ones());
                left &= left - 1;
            }
            let here = marks.count_ones() as usize;
            let Some(room) = self.behind[count..].first_chunk_mut::<WINDOW>() else { break };
            let mut write = |places: std::ops::Range<usize>| {
                for behind in &mut room[places] {
                    *behind = base + marks.trailing_zeros();
                    marks &= marks.wrapping_sub(1);
                }
            };
            write(0..4);
            if here > 4 {
                write(4..8);
            }
            if here > 8 {
                write(8..12);
            }
            if here > 12 {
                write(12..WINDOW);
            }
            count += here;
            base += WINDOW as u32;
        }
        self.count = count;
    }
}

/// Reads the rows of a piece as fast as this processor can.
pub(super) fn read(reader: &RowReader, piece: &[u8], separator: u8, rows: &mut Rows) {
    #[cfg(target_arch = "x86_64")]
    if let (Some(wide), Some(columns)) = (Wide::new(), Columns::of(reader)) {
        let piece = Piece { reader, columns, piece, separator };
        return wide.run(
            #[inline(always)]
            || piece.read(wide, rows),
        );
    }
    read_narrow(reader, piece, separator, rows);
}

/// Reads them as every processor can.
pub(super) fn read_narrow(reader: &RowReader, piece: &[u8], separator: u8, rows: &mut Rows) {
    match Columns::of(reader) {
        Some(columns) => Piece { reader, columns, piece, separator }.read(Narrow, rows),
        None => reader.read_lines(piece, rows, |line, index| {
            nth_cell(line, separator, index).map(|(start, end)| &line[start..end])
        }),
    }
}

/// A piece of a log that ends where a row ends, and how it is read.
struct Piece<'a> {
    reader: &'a RowReader,
    columns: Columns,
    piece: &'a [u8],
    separator: u8,
}

impl Piece<'_> {
    #[inline(always)]
    fn read<L: Lanes>(&self, lanes: L, rows: &mut Rows) {
        let piece = self.piece;
        let first_row = memchr::memchr(b'\n', piece).unwrap_or(piece.len()) + 1;
        rows.frame_ms.reserve(piece.len() / first_row);
        let mut cells = [Cells::NONE; MOST_COLUMNS];
        let mut powers = [Powers::default(); MOST_COLUMNS];
        let mut held: Vec<Option<Held>> = vec![None; self.columns.watched.len()];
        let mut marks = Marks::new();
        let (mut row, mut looked) = (0, 0);
        while looked < piece.len() {
            marks.look(lanes, piece, looked, self.separator);
            looked = piece.len().min(looked + STRIP);
            let mut passed = 0;
            while let Some(ends) = marks.ends[passed..].first_chunk::<LANES>() {
                let are_found = self.find(
                    &marks.behind,
                    passed.checked_sub(1).map_or(0, |before| marks.ends[before]),
                    ends,
                    &mut cells,
                );
                if are_found.is_some()
                    && self.take_four(lanes, &cells, &mut powers, &mut held, rows)
                {
                    passed += LANES;
                } else {
                    let start = passed.checked_sub(1).map_or(0, |before| marks.ends[before]);
                    self.take_carefully(marks.behind[start as usize] as usize, rows);
                    passed += 1;
                }
            }
            marks.pass(passed);
            row = marks.behind[0] as usize;
        }
        while row < piece.len() {
            row = self.take_carefully(row, rows);
        }
    }

    /// Finds the wanted cells of four rows; nothing where one has too few, or the end of the piece is too near.
    #[inline(always)]
    fn find(
        &self,
        behind: &[u32],
        mut begin: u32,
        ends: &[u32; LANES],
        cells: &mut [Cells; MOST_COLUMNS],
    ) -> Option<()> {
        for (lane, end) in ends.iter().enumerate() {
            let marks = behind.get(begin as usize..=*end as usize)?;
            for (place, cells) in self.columns.places.iter().zip(cells.iter_mut()) {
                let start = *marks.get(*place)? as usize;
                let end = *marks.get(*place + 1)? as usize - 1;
                cells.start[lane] = start;
                cells.end[lane] = end;
                cells.words[lane] = word_at(self.piece, start)?;
            }
            // A carriage return before the line end is part of that.
            let last = self.columns.places.len() - 1;
            if self.columns.places[last] + 2 == marks.len() {
                let text = cells[last].text(self.piece, lane);
                cells[last].end[lane] -= usize::from(text.last() == Some(&b'\r'));
            }
            begin = *end;
        }
        Some(())
    }

    /// Takes four rows; none of them where one holds no number where frames should be.
    #[inline(always)]
    fn take_four(
        &self,
        lanes: impl Lanes,
        cells: &[Cells; MOST_COLUMNS],
        powers: &mut [Powers; MOST_COLUMNS],
        held: &mut [Option<Held>],
        rows: &mut Rows,
    ) -> bool {
        let (reader, columns, piece) = (self.reader, &self.columns, self.piece);
        let of_frames = &cells[columns.frames];
        let at_once = match reader.chosen.is_plain() {
            true => of_frames
                .numbers(lanes, &mut powers[columns.frames])
                .or_else(|| of_frames.long_numbers(lanes, piece)),
            false => None,
        };
        let frames = at_once.or_else(|| self.one_by_one(of_frames));
        let Some(frames) = frames else { return false };
        let mut are_taken = [true; LANES];
        for (column, (_, text)) in columns.only.iter().zip(&reader.only) {
            for (lane, is_taken) in are_taken.iter_mut().enumerate() {
                *is_taken &= cells[*column].text(piece, lane).trim_ascii() == text;
            }
        }
        let are_all = are_taken == [true; LANES];
        for (watched, (column, held)) in columns.watched.iter().zip(held).enumerate() {
            let column = &cells[*column];
            if held.is_some_and(|held| held.is_in_all(column, piece)) {
                continue;
            }
            for lane in (0..LANES).filter(|lane| are_taken[*lane]) {
                *held = Held::of(column, piece, lane);
                rows.see(watched, column.text(piece, lane));
            }
        }
        let side = columns.side.iter().zip(&reader.side).zip(&mut rows.side);
        for ((column, kind), values) in side {
            let numbers = cells[*column].numbers(lanes, &mut powers[*column]);
            let column = &cells[*column];
            for lane in 0..LANES {
                if !are_taken[lane] {
                    continue;
                }
                let value = match numbers {
                    Some(numbers) => kind.of_number(numbers[lane]),
                    None => column.value(piece, lane, kind),
                };
                if let Some(value) = value {
                    values.take(kind, value);
                }
            }
        }
        let ms = frames.map(|value| reader.chosen.unit.to_ms(value));
        let frame_ms = match (reader.chosen.holds, rows.last_stamp) {
            (ColumnKind::FrameTimes, _) => Some(ms),
            (ColumnKind::TimeStamps, before) => {
                before.map(|before| [ms[0] - before, ms[1] - ms[0], ms[2] - ms[1], ms[3] - ms[2]])
            }
        };
        if let Some(frame_ms) = frame_ms
            && are_all
            && frame_ms.iter().fold(true, |all, ms| all & super::is_frame_time(*ms))
        {
            rows.frame_ms.extend(frame_ms);
            if reader.chosen.holds == ColumnKind::TimeStamps {
                rows.last_stamp = ms.last().copied();
            }
            rows.rows += LANES as u64;
            rows.lines += LANES as u64;
            return true;
        }
        for (value, is_taken) in frames.into_iter().zip(are_taken) {
            rows.lines += 1;
            if is_taken {
                rows.rows += 1;
                reader.take_value(value, rows.lines, rows);
            }
        }
        true
    }

    /// What four cells say, where they are longer than most or written in another way.
    #[inline(never)]
    fn one_by_one(&self, cells: &Cells) -> Option<[f64; LANES]> {
        let mut values = [0.0; LANES];
        for (lane, value) in values.iter_mut().enumerate() {
            let chosen = &self.reader.chosen;
            let number = chosen
                .is_plain()
                .then(|| longer_number(self.piece, cells.start[lane], cells.end[lane]))
                .flatten();
            let text = cells.text(self.piece, lane);
            *value = number.or_else(|| chosen.writing.value(text.trim_ascii()))?;
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
