//! The frames at given places of a run in order of length, exactly, without sorting it.
//!
//! Positive floating point numbers are in the order of their bits. A first pass counts frames by their
//! upper bits; a second one gathers those in the few bins that hold a wanted place. A bin that holds too
//! many, as under a frame cap, is counted again by the next bits.

use std::num::NonZero;
use std::ops::Range;
use std::panic::resume_unwind;
use std::thread;

use super::lanes::{greatest, least, on_lanes};
use crate::stream::blocks::FrameBlocks;

/// Bits that one pass tells apart: 63 bits beside the sign in three passes.
const PASS_BITS: u32 = 21;
const BINS: usize = 1 << PASS_BITS;
/// Frames of one bin that are gathered at once.
pub(crate) const GATHERED: u64 = 1 << 20;

/// How many frames have which bits: fewer than 2^32.
pub(crate) struct Counts {
    /// Of 32 bits each, so that those that are in use stay in a core's own memory.
    bins: Vec<u32>,
    /// The lowest and the highest bin that holds a frame.
    used: (usize, usize),
    frames: u64,
    /// The bits above those that are counted; only frames with these are.
    prefix: u64,
    shift: u32,
}

impl Default for Counts {
    fn default() -> Self {
        Self::below(0, 2 * PASS_BITS)
    }
}

impl Counts {
    fn below(prefix: u64, shift: u32) -> Self {
        Self { bins: vec![0; BINS], used: (BINS, 0), frames: 0, prefix, shift }
    }

    pub(crate) fn frames(&self) -> u64 {
        self.frames
    }

    #[inline(always)]
    pub(crate) fn see(&mut self, block: &[f64]) {
        if block.is_empty() {
            return;
        }
        if self.shift < 2 * PASS_BITS {
            return self.see_some(block);
        }
        // Bits are in the order of frames: the bins that are used lie between two of them.
        let bin = |frame_ms: f64| (frame_ms.to_bits() >> (2 * PASS_BITS)) as usize % BINS;
        // Of a length that is known, so that no place in it is looked at twice.
        if let Some(bins) = self.bins.first_chunk_mut::<BINS>() {
            block.iter().for_each(|frame_ms| bins[bin(*frame_ms)] += 1);
        }
        self.frames += block.len() as u64;
        let used = (bin(least(block)), bin(greatest(block)));
        self.used = (self.used.0.min(used.0), self.used.1.max(used.1));
    }

    /// Counts those frames of a block that begin with the prefix.
    fn see_some(&mut self, block: &[f64]) {
        for frame_ms in block {
            let upper = frame_ms.to_bits() >> self.shift;
            if upper >> PASS_BITS != self.prefix {
                continue;
            }
            let bin = upper as usize & (BINS - 1);
            self.bins[bin] += 1;
            self.frames += 1;
            self.used = (self.used.0.min(bin), self.used.1.max(bin));
        }
    }

    /// Adds what another has counted by the same bits.
    pub(crate) fn add(&mut self, other: &Self) {
        if other.frames == 0 {
            return;
        }
        let used = other.used.0..=other.used.1;
        for (bin, counted) in self.bins[used.clone()].iter_mut().zip(&other.bins[used]) {
            *bin += counted;
        }
        self.frames += other.frames;
        self.used = (self.used.0.min(other.used.0), self.used.1.max(other.used.1));
    }

    /// How many frames are about how long: within a thousandth.
    pub(crate) fn about(&self) -> impl Iterator<Item = (f64, u64)> {
        let bins = self.bins[self.used.0..=self.used.1].iter().zip(self.used.0 as u64..);
        let half = 1_u64 << (self.shift - 1);
        bins.filter(|(count, _)| **count > 0)
            .map(move |(count, bin)| (f64::from_bits((bin << self.shift) + half), (*count).into()))
    }

    /// The bin that holds the frame of this rank, what its bits begin with, how many frames it holds, and
    /// the rank within it.
    fn place(&self, rank: u64) -> Place {
        let mut rank_in_bin = rank;
        let mut bin = self.used.0;
        while bin < self.used.1 && rank_in_bin >= self.bins[bin].into() {
            rank_in_bin -= u64::from(self.bins[bin]);
            bin += 1;
        }
        let prefix = self.prefix << PASS_BITS | bin as u64;
        Place { prefix, shift: self.shift, held: self.bins[bin].into(), rank: rank_in_bin }
    }
}

#[derive(Clone, Copy)]
struct Place {
    prefix: u64,
    shift: u32,
    held: u64,
    rank: u64,
}

/// The frame times at these ranks, from 0 for the shortest, in the order in which they are asked for.
/// `counts` has seen every frame; bins with more than `gathered` are not gathered.
pub(crate) fn at_ranks<B: FrameBlocks>(
    blocks: &B,
    counts: &Counts,
    ranks: &[u64],
    gathered: u64,
) -> Result<Vec<f64>, B::Error> {
    let mut places = Vec::with_capacity(ranks.len());
    for rank in ranks {
        let mut place = counts.place(*rank);
        while place.held > gathered && place.shift > 0 {
            let mut finer = Counts::below(place.prefix, place.shift - PASS_BITS);
            blocks.each_block(&mut |block| finer.see(block))?;
            place = finer.place(place.rank);
        }
        places.push(place);
    }
    let mut bins: Vec<(u32, u64, Vec<f64>)> = Vec::new();
    for place in places.iter().filter(|place| place.held <= gathered) {
        if !bins.iter().any(|(shift, prefix, _)| (*shift, *prefix) == (place.shift, place.prefix)) {
            bins.push((place.shift, place.prefix, Vec::new()));
        }
    }
    // Ranges of bits, each the frames of one bin.
    let ranges: Vec<(u64, u64)> =
        bins.iter().map(|(shift, prefix, _)| (prefix << shift, (1_u64 << shift) - 1)).collect();
    if !bins.is_empty() {
        blocks.each_block(&mut |block| {
            for frame_ms in block {
                let bits = frame_ms.to_bits();
                for (bin, (first, width)) in bins.iter_mut().zip(&ranges) {
                    if bits.wrapping_sub(*first) <= *width {
                        bin.2.push(*frame_ms);
                    }
                }
            }
        })?;
    }
    for (_, _, frames) in &mut bins {
        frames.sort_unstable_by(f64::total_cmp);
    }
    let value = |place: &Place| {
        let bin = bins.iter().find(|bin| (bin.0, bin.1) == (place.shift, place.prefix));
        let gathered = bin.and_then(|bin| bin.2.get(place.rank as usize)).copied();
        // A bin that was not gathered is of one length only: its bits are all known.
        gathered.unwrap_or_else(|| f64::from_bits(place.prefix << place.shift))
    };
    Ok(places.iter().map(value).collect())
}

/// Frames that are wanted: all from one length on, and those of a range below it.
struct Wanted {
    top_ms: f64,
    middle_ms: Range<f64>,
}

/// Those of a range and above, and those of another, each in no order.
type Gathered = (Vec<f64>, Vec<f64>);

impl Wanted {
    #[inline(always)]
    fn is_any(&self, frame_ms: f64) -> bool {
        (frame_ms >= self.top_ms)
            | ((frame_ms >= self.middle_ms.start) & (frame_ms < self.middle_ms.end))
    }

    /// Few are wanted: sixteen are passed over at once.
    #[inline(always)]
    fn gather(&self, block: &[f64], (longest, middle): &mut Gathered) {
        for frames in block.chunks(16) {
            if !frames.iter().fold(false, |any, frame_ms| any | self.is_any(*frame_ms)) {
                continue;
            }
            longest.extend(frames.iter().filter(|frame_ms| **frame_ms >= self.top_ms));
            middle.extend(frames.iter().filter(|frame_ms| self.middle_ms.contains(frame_ms)));
        }
    }

    fn gather_on_every_core(&self, blocks: &[&[f64]]) -> Gathered {
        let gather = |blocks: &[&[f64]]| {
            let mut found = Gathered::default();
            on_lanes(|| blocks.iter().for_each(|block| self.gather(block, &mut found)));
            found
        };
        let cores = thread::available_parallelism().map_or(1, NonZero::get);
        let mut parts = blocks.chunks(blocks.len().div_ceil(cores).max(1));
        let first = parts.next().unwrap_or_default();
        thread::scope(|scope| {
            let others: Vec<_> = parts.map(|part| scope.spawn(|| gather(part))).collect();
            let mut found = gather(first);
            for other in others {
                let (longest, middle) = other.join().unwrap_or_else(|panic| resume_unwind(panic));
                found.0.extend(longest);
                found.1.extend(middle);
            }
            found
        })
    }
}

/// The longest frames, longest first, and the two that are at other ranks.
pub(crate) type TopAndBin = (Vec<f64>, [f64; 2]);

/// The frames from the bin of a rank on upwards, the longest first, and the frames of the bin that holds
/// another rank, in order; nothing where either are more than `gathered`. Both ranks come from 0 for the shortest.
pub(crate) fn top_and_bin<B: FrameBlocks>(
    blocks: &B,
    counts: &Counts,
    top_rank: u64,
    [lower, upper]: [u64; 2],
    gathered: u64,
) -> Result<Option<TopAndBin>, B::Error> {
    let (top, low, high) = (counts.place(top_rank), counts.place(lower), counts.place(upper));
    let in_top = counts.frames - (top_rank - top.rank);
    let in_bins = high.held + (upper - high.rank) - (lower - low.rank);
    if in_top > gathered || in_bins > gathered || high.prefix >= top.prefix {
        return Ok(None);
    }
    let first_of_top = top.prefix << top.shift;
    let bins = (low.prefix << low.shift)..(high.prefix + 1) << high.shift;
    let wanted = Wanted {
        top_ms: f64::from_bits(first_of_top),
        middle_ms: f64::from_bits(bins.start)..f64::from_bits(bins.end),
    };
    let (mut longest, mut middle) = match blocks.in_memory() {
        Some(blocks) => wanted.gather_on_every_core(&blocks),
        None => {
            let mut found = Gathered::default();
            blocks.each_block(&mut |block| wanted.gather(block, &mut found))?;
            found
        }
    };
    in_order(&mut longest, &mut middle);
    let first = lower - low.rank;
    let at = |rank: u64| middle.get((rank - first) as usize).copied().unwrap_or(f64::NAN);
    Ok(Some((longest, [at(lower), at(upper)])))
}

/// Puts the first in order from the longest down and the second from the shortest up.
fn in_order(longest: &mut [f64], middle: &mut [f64]) {
    longest.sort_unstable_by(|a, b| b.total_cmp(a));
    middle.sort_unstable_by(f64::total_cmp);
}

/// The frames that are longer than one, the longest first.
pub(crate) fn longer_than<B: FrameBlocks>(blocks: &B, frame_ms: f64) -> Result<Vec<f64>, B::Error> {
    let mut longer = Vec::new();
    blocks.each_block(&mut |block| {
        longer.extend(block.iter().copied().filter(|other| *other > frame_ms));
    })?;
    longer.sort_unstable_by(|a, b| b.total_cmp(a));
    Ok(longer)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::FrameSeries;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn ranks_are_those_of_the_sorted_run(
            frames in prop::collection::vec(
                prop_oneof![Just(16.7), 16.69..16.71f64, 0.01..200.0f64, 1e-9..1e12f64], 1..300
            ),
            gathered in 0..40_u64,
        ) {
            let mut sorted = frames.clone();
            sorted.sort_by(f64::total_cmp);
            let series = FrameSeries::new(frames).unwrap();
            let mut counts = Counts::default();
            series.each_block(&mut |block| counts.see(block)).unwrap();
            let last = sorted.len() as u64 - 1;
            let ranks = [0, last / 2, last.div_ceil(2), last * 9 / 10, last];
            let found = at_ranks(&series, &counts, &ranks, gathered).unwrap();
            let expected: Vec<f64> = ranks.iter().map(|rank| sorted[*rank as usize]).collect();
            prop_assert_eq!(found, expected);
            let middle = sorted[sorted.len() / 2];
            let mut above: Vec<f64> = sorted.into_iter().filter(|frame| *frame > middle).collect();
            above.reverse();
            prop_assert_eq!(longer_than(&series, middle).unwrap(), above);
        }
    }
}
