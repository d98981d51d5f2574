//! Frames as bytes that pack well, and frames of such bytes again, each to the bit.

use thiserror::Error;

const NO_DECIMALS: u8 = u8::MAX;
/// More are never tried: six tell a nanosecond.
const MOST_DECIMALS: u8 = 9;

/// How the frames of a block are laid out as bytes: the first bytes of all numbers together, then the second ones
/// and so on, each number with its little end first. Frames of a run differ in their last bytes most, so that the
/// rest packs well.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FrameLayout {
    /// 64-bit floating point numbers, in milliseconds.
    Numbers,
    /// 32-bit whole numbers of the last decimal. Most logs tell frame times with a few decimals, and a run then
    /// takes a third of the room.
    Decimals {
        /// How many decimals the frames have, in milliseconds.
        decimals: u8,
    },
}

/// Why bytes are no frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum BadLayout {
    /// The last number lacks bytes.
    #[error("the last one is cut off")]
    CutOff,
    /// More decimals than are ever written.
    #[error("a block has {0} decimals")]
    TooManyDecimals(u8),
}

impl FrameLayout {
    /// The byte that names it: the number of decimals, or 255 for [`FrameLayout::Numbers`].
    #[must_use]
    pub const fn mark(self) -> u8 {
        match self {
            Self::Numbers => NO_DECIMALS,
            Self::Decimals { decimals } => decimals,
        }
    }

    /// The layout that a byte names.
    ///
    /// # Errors
    /// Where no layout has that many decimals.
    pub const fn of_mark(mark: u8) -> Result<Self, BadLayout> {
        match mark {
            NO_DECIMALS => Ok(Self::Numbers),
            decimals @ ..=MOST_DECIMALS => Ok(Self::Decimals { decimals }),
            other => Err(BadLayout::TooManyDecimals(other)),
        }
    }

    /// The frames of bytes that are laid out so.
    ///
    /// # Errors
    /// Where the last number lacks bytes.
    pub fn read(self, bytes: &[u8]) -> Result<Vec<f64>, BadLayout> {
        match self {
            Self::Numbers => from_planes(bytes, f64::from_le_bytes),
            Self::Decimals { decimals } => {
                let power = power_of_ten(decimals);
                from_planes(bytes, |whole| f64::from(u32::from_le_bytes(whole)) / power)
            }
        }
    }
}

/// Lays frames out in the least room that gives each of them again to the bit.
#[must_use]
pub fn lay_out(frames: &[f64]) -> (FrameLayout, Vec<u8>) {
    match in_decimals(frames) {
        Some((decimals, wholes)) => {
            (FrameLayout::Decimals { decimals }, planes(&wholes, u32::to_le_bytes))
        }
        None => (FrameLayout::Numbers, planes(frames, f64::to_le_bytes)),
    }
}

/// Frames as 64-bit floating point numbers, one after the other, each with its little end first.
#[must_use]
pub fn little_endian(frames: &[f64]) -> Vec<u8> {
    let mut bytes = vec![0; size_of_val(frames)];
    for (eight, frame) in bytes.as_chunks_mut().0.iter_mut().zip(frames) {
        *eight = frame.to_le_bytes();
    }
    bytes
}

/// The first bytes of all numbers together, then the second ones and so on.
fn planes<T: Copy, const N: usize>(numbers: &[T], bytes: impl Fn(T) -> [u8; N]) -> Vec<u8> {
    let mut planes = vec![0; numbers.len() * N];
    for (index, number) in numbers.iter().enumerate() {
        for (plane, byte) in bytes(*number).into_iter().enumerate() {
            planes[plane * numbers.len() + index] = byte;
        }
    }
    planes
}

/// The numbers that were laid out in planes.
fn from_planes<T, const N: usize>(
    planes: &[u8],
    number: impl Fn([u8; N]) -> T,
) -> Result<Vec<T>, BadLayout> {
    if !planes.len().is_multiple_of(N) {
        return Err(BadLayout::CutOff);
    }
    let count = planes.len() / N;
    let bytes = |index: usize| std::array::from_fn(|plane| planes[plane * count + index]);
    Ok((0..count).map(|index| number(bytes(index))).collect())
}

/// Frames as whole numbers of their last decimal and how many decimals they have, where that gives each of
/// them again to the bit.
fn in_decimals(frames: &[f64]) -> Option<(u8, Vec<u32>)> {
    let whole = |frame_ms: f64, power: f64| {
        let whole = (frame_ms * power + 0.5) as u32;
        ((f64::from(whole) / power).to_bits() == frame_ms.to_bits()).then_some(whole)
    };
    // The first of them tells how many there can be at all.
    let first = *frames.first()?;
    (0..=MOST_DECIMALS).filter(|decimals| whole(first, power_of_ten(*decimals)).is_some()).find_map(
        |decimals| {
            let power = power_of_ten(decimals);
            let wholes: Option<Vec<u32>> =
                frames.iter().map(|frame_ms| whole(*frame_ms, power)).collect();
            Some((decimals, wholes?))
        },
    )
}

fn power_of_ten(decimals: u8) -> f64 {
    10_f64.powi(decimals.into())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn frames_come_back_to_the_bit(
            frames in prop::collection::vec(any::<f64>(), 0..60),
            wholes in prop::collection::vec(any::<u32>(), 1..60),
            decimals in 0..=MOST_DECIMALS,
        ) {
            let power = power_of_ten(decimals);
            let told: Vec<f64> = wholes.iter().map(|whole| f64::from(*whole) / power).collect();
            for frames in [&frames, &told, &[frames.clone(), told.clone()].concat()] {
                let (layout, bytes) = lay_out(frames);
                let width = if layout == FrameLayout::Numbers { 8 } else { 4 };
                prop_assert_eq!(bytes.len(), frames.len() * width);
                prop_assert_eq!(FrameLayout::of_mark(layout.mark()), Ok(layout));
                let back = layout.read(&bytes).expect("they are whole");
                let bits = |frames: &[f64]| frames.iter().map(|frame| frame.to_bits()).collect::<Vec<_>>();
                prop_assert_eq!(bits(&back), bits(frames));
            }
            prop_assert_ne!(lay_out(&told).0, FrameLayout::Numbers);
        }
    }

    #[test]
    fn what_is_no_such_thing_is_told() {
        assert_eq!(FrameLayout::of_mark(10), Err(BadLayout::TooManyDecimals(10)));
        assert_eq!(FrameLayout::Numbers.read(&[0; 9]), Err(BadLayout::CutOff));
        assert_eq!(FrameLayout::Decimals { decimals: 2 }.read(&[0; 7]), Err(BadLayout::CutOff));
    }
}
