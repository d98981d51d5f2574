//! The wanted cells of rows, found by the marks in their windows.

use super::cells::{BATCH, Cells};
use super::windows::{Next, Window};
use crate::log::lanes::{Lanes, WINDOW};

/// The bytes that a window is taken from: so many that eight can be read from each of its own.
const ROOM: usize = WINDOW + 8;

/// A piece of a log, in which cells are found.
#[derive(Clone, Copy)]
pub(super) struct Finder<'a, L> {
    pub(super) lanes: L,
    pub(super) piece: &'a [u8],
    pub(super) separator: u8,
}

impl<'a, L: Lanes> Finder<'a, L> {
    /// Finds the wanted cells of the rows behind a line end, and where those rows end: up to a row that is not like
    /// most, or is too near to the end of the piece. How many rows.
    #[inline(always)]
    pub(super) fn find(
        self,
        windows: &[Window],
        line_end: usize,
        cells: &mut [Cells],
        line_ends: &mut [usize; BATCH],
    ) -> usize {
        // The rows of most logs are short, and are found in less time by code for just so many cells.
        if let [Window { passed, next: Next::End { marks } }] = windows {
            let found = match (&passed[..], &mut *cells) {
                ([a], [one]) => Some(self.find_few([*a], *marks, line_end, [one], line_ends)),
                ([a, b], [one, two]) => {
                    Some(self.find_few([*a, *b], *marks, line_end, [one, two], line_ends))
                }
                ([a, b, c], [one, two, three]) => {
                    let cells = [one, two, three];
                    Some(self.find_few([*a, *b, *c], *marks, line_end, cells, line_ends))
                }
                _ => None,
            };
            if let Some(found) = found {
                return found;
            }
        }
        let mut before = line_end;
        for (row, line_end) in line_ends.iter_mut().enumerate() {
            let Some(end) = self.find_in_row(windows, before, row, cells) else { return row };
            (before, *line_end) = (end, end);
        }
        BATCH
    }

    /// As [`Self::find`], of cells that are all in one window.
    #[inline(always)]
    fn find_few<const N: usize>(
        self,
        passed: [u32; N],
        fewest_marks: u32,
        line_end: usize,
        mut cells: [&mut Cells; N],
        line_ends: &mut [usize; BATCH],
    ) -> usize {
        let mut begin = line_end;
        for (row, line_end) in line_ends.iter_mut().enumerate() {
            let Some(seen) = self.look(begin) else { return row };
            seen.put(passed, cells.each_mut().map(|cells| &mut **cells), row);
            let Some(length) = self.row_length(&seen, fewest_marks) else { return row };
            begin += length;
            *line_end = begin;
        }
        BATCH
    }

    /// Finds the wanted cells of the row behind a line end, which is of this number among those that are found together.
    /// Its own line end.
    #[inline(always)]
    fn find_in_row(
        self,
        windows: &[Window],
        line_end: usize,
        row: usize,
        mut cells: &mut [Cells],
    ) -> Option<usize> {
        let row = row % BATCH;
        let mut begin = line_end;
        for Window { passed, next } in windows {
            let seen = self.look(begin)?;
            let here;
            (here, cells) = cells.split_at_mut_checked(passed.len())?;
            let left = match (&passed[..], here) {
                ([a], [one]) => seen.put([*a], [one], row),
                ([a, b], [one, two]) => seen.put([*a, *b], [one, two], row),
                ([a, b, c], [one, two, three]) => seen.put([*a, *b, *c], [one, two, three], row),
                ([a, b, c, d], [one, two, three, four]) => {
                    seen.put([*a, *b, *c, *d], [one, two, three, four], row)
                }
                (passed, cells) => {
                    let put = |left, (passed, cells): (&u32, _)| {
                        seen.put_one(without_lowest(left, *passed), cells, row)
                    };
                    passed.iter().zip(cells).fold(seen.marks, put)
                }
            };
            begin += match next {
                Next::AfterMarks(passed) => {
                    let left = without_lowest(left, *passed);
                    if left == 0 || seen.line_ends & up_to_lowest(left) != 0 {
                        return None;
                    }
                    left.trailing_zeros() as usize
                }
                Next::AfterCell { is_wanted } => {
                    let next = self.next_separator(begin)?;
                    if *is_wanted {
                        let cell;
                        (cell, cells) = cells.split_first_mut()?;
                        cell.start[row] = begin as u32 + 1;
                        cell.end[row] = (begin + next) as u32;
                        cell.words[row] = seen.word(1);
                    }
                    next
                }
                Next::End { marks } => return Some(begin + self.row_length(&seen, *marks)?),
            };
        }
        None
    }

    /// Looks at the window that begins at a mark; nothing where the piece ends before it does.
    #[inline(always)]
    fn look(self, begin: usize) -> Option<Seen<'a>> {
        let bytes: &[u8; ROOM] = self.piece.get(begin..)?.first_chunk()?;
        let window = bytes.first_chunk()?;
        let line_ends = self.lanes.places_of(window, b'\n');
        let marks = self.lanes.places_of(window, self.separator) | line_ends;
        Some(Seen { begin, bytes, marks, line_ends: line_ends & !1 })
    }

    /// How far it is from the beginning of the last window of a row to its line end; nothing where there are no more
    /// than so many marks up to that, with the one that the window begins with.
    #[inline(always)]
    fn row_length(self, seen: &Seen<'_>, marks: u32) -> Option<usize> {
        if (seen.marks & up_to_lowest(seen.line_ends)).count_ones() <= marks {
            return None;
        }
        match seen.line_ends {
            0 => {
                let behind = &self.piece[seen.begin + WINDOW..];
                Some(WINDOW + memchr::memchr(b'\n', behind)?)
            }
            line_ends => Some(line_ends.trailing_zeros() as usize),
        }
    }

    /// How far it is from a mark to the next separator; nothing where the row ends before.
    #[inline(never)]
    fn next_separator(self, mark: usize) -> Option<usize> {
        let next = 1 + memchr::memchr2(self.separator, b'\n', &self.piece[mark + 1..])?;
        (self.piece[mark + next] != b'\n').then_some(next)
    }
}

/// What was seen in a window.
struct Seen<'a> {
    begin: usize,
    bytes: &'a [u8; ROOM],
    /// Which of its bytes are marks, the lowest bit for the first; and which line ends, but for the first.
    marks: u64,
    line_ends: u64,
}

impl Seen<'_> {
    /// Eight bytes from one of the window on.
    #[inline(always)]
    fn word(&self, start: u32) -> u64 {
        let word = self.bytes[start as usize % WINDOW..].first_chunk();
        word.map_or(0, |word| u64::from_le_bytes(*word))
    }

    /// Puts in the cell that begins behind the first of some marks; the marks from that behind it on.
    #[inline(always)]
    fn put_one(&self, marks: u64, cells: &mut Cells, row: usize) -> u64 {
        let start = marks.trailing_zeros() + 1;
        let left = without_lowest(marks, 1);
        cells.words[row] = self.word(start);
        cells.start[row] = self.begin as u32 + start;
        cells.end[row] = self.begin as u32 + left.trailing_zeros();
        left
    }

    /// Puts in cells that are so many marks apart; the marks from that behind the last of them on.
    #[inline(always)]
    fn put<const N: usize>(&self, passed: [u32; N], cells: [&mut Cells; N], row: usize) -> u64 {
        let mut left = self.marks;
        for (passed, cells) in passed.into_iter().zip(cells) {
            left = self.put_one(without_lowest(left, passed), cells, row);
        }
        left
    }
}

/// Marks without so many of the lowest.
#[inline(always)]
fn without_lowest(mut marks: u64, count: u32) -> u64 {
    for _ in 0..count {
        marks &= marks.wrapping_sub(1);
    }
    marks
}

/// All bits up to the lowest one, and it; all there are where there is none.
#[inline(always)]
fn up_to_lowest(marks: u64) -> u64 {
    marks ^ marks.wrapping_sub(1)
}
