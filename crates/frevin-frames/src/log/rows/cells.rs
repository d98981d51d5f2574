//! Cells of some rows, column by column, to be read four together.

use crate::log::lanes::{FourCells, LANES, Lanes};
use crate::log::number::longer_number;
use crate::log::readings::SideColumn;

/// Rows whose cells are found before any of them is read: what is written is not read again at once, for which a
/// processor would have to wait.
pub(super) const BATCH: usize = 32;
/// How many times four rows that is.
pub(super) const FOURS: usize = BATCH / LANES;

/// The cells of one column in some rows.
#[derive(Clone)]
pub(super) struct Cells {
    /// The first eight bytes of each, and what is behind it where it has fewer.
    pub(super) words: [u64; BATCH],
    /// Where they begin and end in the piece.
    pub(super) start: [u32; BATCH],
    pub(super) end: [u32; BATCH],
}

impl Cells {
    pub(super) const NONE: Self = Self { words: [0; BATCH], start: [0; BATCH], end: [0; BATCH] };

    #[inline(always)]
    pub(super) fn four(&self, index: usize) -> FourCells<'_> {
        let index = index % FOURS;
        FourCells {
            words: &self.words.as_chunks().0[index],
            start: &self.start.as_chunks().0[index],
            end: &self.end.as_chunks().0[index],
        }
    }
}

impl FourCells<'_> {
    #[inline(always)]
    pub(super) fn text<'a>(&self, piece: &'a [u8], lane: usize) -> &'a [u8] {
        &piece[self.start[lane] as usize..self.end[lane] as usize]
    }

    /// What one of them says of a column beside the frames.
    #[inline(never)]
    pub(super) fn value(&self, piece: &[u8], lane: usize, column: &SideColumn) -> Option<f64> {
        // `NA` and the like are in many rows; `inf` is no number of anything either.
        if self.words[lane].to_le_bytes()[0].is_ascii_alphabetic() {
            return None;
        }
        match longer_number(piece, self.start[lane] as usize, self.end[lane] as usize) {
            Some(number) => column.of_number(number),
            None => column.value(self.text(piece, lane)),
        }
    }

    /// The four numbers that they are, where all of them are of eight to sixteen bytes.
    #[inline(always)]
    pub(super) fn long_numbers(&self, lanes: impl Lanes, piece: &[u8]) -> Option<[f64; LANES]> {
        let mut last = [0; LANES];
        for (last, end) in last.iter_mut().zip(self.end) {
            *last = word_before(piece, *end)?;
        }
        lanes.long_numbers(self, &last)
    }
}

/// The eight bytes before a place.
#[inline(always)]
fn word_before(piece: &[u8], end: u32) -> Option<u64> {
    let start = (end as usize).checked_sub(8)?;
    piece.get(start..)?.first_chunk().map(|word| u64::from_le_bytes(*word))
}

/// What a column held last, to know it again.
#[derive(Clone, Copy)]
pub(super) struct Held<'a> {
    text: &'a [u8],
    /// The first eight bytes, or as many as there are, so that the last of them is the highest.
    first: u64,
    /// How many bits of a word are beyond those.
    spare_bits: u64,
    /// The last eight bytes, where it has as many.
    last: u64,
}

impl<'a> Held<'a> {
    pub(super) fn of(text: &'a [u8]) -> Self {
        let spare_bits = 64_u64.saturating_sub(8 * text.len() as u64);
        let mut first = [0; 8];
        first.iter_mut().zip(text).for_each(|(to, from)| *to = *from);
        let first = u64::from_le_bytes(first).checked_shl(spare_bits as u32).unwrap_or(0);
        let last = text.last_chunk().map_or(0, |last| u64::from_le_bytes(*last));
        Self { text, first, spare_bits, last }
    }

    /// Whether four cells all hold this.
    #[inline(always)]
    pub(super) fn is_in_all(&self, lanes: impl Lanes, cells: &FourCells<'_>, piece: &[u8]) -> bool {
        let length = self.text.len();
        if !(1..=16).contains(&length) {
            return (0..LANES).all(|lane| cells.text(piece, lane) == self.text);
        }
        let begin_so = lanes.are_all(cells, length as u32, self.first, self.spare_bits);
        let end_so = |end: &u32| word_before(piece, *end) == Some(self.last);
        begin_so && (length <= 8 || cells.end.iter().all(end_so))
    }
}
