//! How the frames of a run are kept: every one, exactly, and in little room.

use std::io;
use std::num::NonZero;
use std::thread;

use frevin_frames::{FrameLayout, lay_out};

/// 64-bit floating point numbers, little end first: what the first ledgers hold.
const PLAIN: &str = "f64le";
/// The same as [`FrameLayout::Numbers`], packed by zstd.
const PLANES: &str = "f64le-planes-zstd";
/// Blocks that say how they are written: most logs tell frame times with a few decimals, and a run is
/// mostly written in whole numbers of its last one, which take a third of the room.
///
/// A block's first byte is [`FrameLayout::mark`]; its numbers follow, laid out so and packed by zstd.
pub(crate) const BY_BLOCK: &str = "decimals-or-f64le-planes-zstd";
/// Higher levels take several times as long and save a tenth: the last bytes are noise.
const LEVEL: i32 = 1;
const WIDTH: usize = size_of::<f64>();
/// Frames of a block: eight mebibytes.
const BLOCK: usize = 1 << 20;

/// A block of frames as it is kept.
fn encode(frames: &[f64]) -> io::Result<Vec<u8>> {
    let (layout, laid_out) = lay_out(frames);
    let mut bytes = vec![layout.mark()];
    zstd::stream::copy_encode(&laid_out[..], &mut bytes, LEVEL)?;
    Ok(bytes)
}

/// Encodes frames in blocks of a fixed length, on every core, and hands them on in order.
pub(crate) struct Encoder<'a, E> {
    waiting: Vec<Vec<f64>>,
    most_waiting: usize,
    keep: &'a mut dyn FnMut(Vec<u8>) -> Result<(), E>,
    failed: Option<E>,
}

impl<'a, E: From<io::Error>> Encoder<'a, E> {
    pub(crate) fn new(keep: &'a mut dyn FnMut(Vec<u8>) -> Result<(), E>) -> Self {
        let most_waiting = thread::available_parallelism().map_or(1, NonZero::get);
        Self { waiting: Vec::new(), most_waiting, keep, failed: None }
    }

    pub(crate) fn see(&mut self, mut frames: &[f64]) {
        while !frames.is_empty() && self.failed.is_none() {
            if self.waiting.last().is_none_or(|block| block.len() == BLOCK) {
                if self.waiting.len() == self.most_waiting {
                    self.hand_on();
                }
                self.waiting.push(Vec::new());
            }
            let Some(block) = self.waiting.last_mut() else { return };
            let (now, later) = frames.split_at(frames.len().min(BLOCK - block.len()));
            block.extend_from_slice(now);
            frames = later;
        }
    }

    fn hand_on(&mut self) {
        let encoded: Vec<io::Result<Vec<u8>>> = thread::scope(|scope| {
            let started: Vec<_> =
                self.waiting.iter().skip(1).map(|block| scope.spawn(|| encode(block))).collect();
            let first = self.waiting.first().map(|block| encode(block));
            let stopped = |_| Err(io::Error::other("a thread stopped"));
            let others = started.into_iter().map(|block| block.join().unwrap_or_else(stopped));
            first.into_iter().chain(others).collect()
        });
        self.waiting.clear();
        for bytes in encoded {
            let kept = bytes.map_err(E::from).and_then(|bytes| (self.keep)(bytes));
            if let Err(error) = kept {
                self.failed = Some(error);
                return;
            }
        }
    }

    pub(crate) fn finish(mut self) -> Result<(), E> {
        if self.failed.is_none() {
            self.hand_on();
        }
        self.failed.map_or(Ok(()), Err)
    }
}

/// Frames that were kept, or why they cannot be had.
pub(crate) fn decode(encoding: &str, bytes: &[u8]) -> Result<Vec<f64>, String> {
    match encoding {
        PLAIN => {
            let (numbers, rest) = bytes.as_chunks::<WIDTH>();
            if !rest.is_empty() {
                return Err("the last one is cut off".to_owned());
            }
            Ok(numbers.iter().map(|number| f64::from_le_bytes(*number)).collect())
        }
        PLANES => read(FrameLayout::Numbers, bytes),
        BY_BLOCK => {
            let (mark, bytes) = bytes.split_first().ok_or("there are none")?;
            read(FrameLayout::of_mark(*mark).map_err(|error| error.to_string())?, bytes)
        }
        other => Err(format!("they are encoded as `{other}`")),
    }
}

fn read(layout: FrameLayout, packed: &[u8]) -> Result<Vec<f64>, String> {
    let bytes = zstd::decode_all(packed).map_err(|error| error.to_string())?;
    layout.read(&bytes).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;

    #[test]
    fn frames_come_back_to_the_bit_from_either_encoding_and_take_less_room() {
        let frames: Vec<f64> =
            (0..20_000_u32).map(|i| 7.0 + f64::from(i * 31 % 97) / 700.0 + 1e-13).collect();
        let packed = encode(&frames).unwrap();
        assert_eq!(packed[0], FrameLayout::Numbers.mark());
        assert_eq!(decode(BY_BLOCK, &packed), Ok(frames.clone()));
        assert_eq!(decode(PLANES, &packed[1..]), Ok(frames.clone()), "as earlier ledgers have it");
        assert!(packed.len() * 2 < frames.len() * WIDTH, "{} bytes", packed.len());
        let plain: Vec<u8> = frames.iter().flat_map(|frame| frame.to_le_bytes()).collect();
        assert_eq!(decode(PLAIN, &plain), Ok(frames));
    }

    #[test]
    fn what_a_log_tells_in_decimals_is_kept_as_whole_numbers_and_comes_back_to_the_bit() {
        let frames = |power: f64| -> Vec<f64> {
            (0..20_000_u32).map(|i| f64::from(160_000 + i * 7919 % 9973) / power).collect()
        };
        for (power, decimals) in [(1.0, 0), (1e4, 4), (1e6, 6)] {
            let packed = encode(&frames(power)).unwrap();
            assert_eq!(packed[0], decimals);
            assert_eq!(decode(BY_BLOCK, &packed), Ok(frames(power)));
            assert!(packed.len() * 2 < 20_000 * WIDTH / 2, "{} bytes", packed.len());
        }
        // One that is none, or too long for 32 bits, makes the block one of plain numbers.
        for odd in [1.0 / 3.0, 600_000.0] {
            let frames = [frames(1e4), vec![odd]].concat();
            let packed = encode(&frames).unwrap();
            assert_eq!(packed[0], FrameLayout::Numbers.mark());
            assert_eq!(decode(BY_BLOCK, &packed), Ok(frames));
        }
    }

    #[test]
    fn blocks_are_handed_on_in_order_and_the_first_failure_ends_it() {
        let frames: Vec<f64> = (1..=5 * BLOCK / 2).map(|i| i as f64).collect();
        let mut kept: Vec<f64> = Vec::new();
        let mut keep = |bytes: Vec<u8>| -> io::Result<()> {
            kept.extend(decode(BY_BLOCK, &bytes).unwrap());
            Ok(())
        };
        let mut encoder = Encoder::new(&mut keep);
        frames.chunks(100_001).for_each(|frames| encoder.see(frames));
        encoder.finish().unwrap();
        assert!(kept == frames);
        let mut full = |_| Err(io::Error::other("no room"));
        let mut encoder = Encoder::new(&mut full);
        encoder.see(&frames);
        assert_eq!(encoder.finish().unwrap_err().to_string(), "no room");
    }

    #[test]
    fn what_is_no_such_thing_is_told() {
        assert!(decode(PLAIN, &[0; 9]).is_err());
        assert!(decode(PLANES, b"not packed").is_err());
        assert!(decode(PLANES, &zstd::encode_all(&[0_u8; 7][..], 1).unwrap()).is_err());
        assert!(decode(BY_BLOCK, &[]).is_err());
        let seven = zstd::encode_all(&[0_u8; 7][..], 1).unwrap();
        for decimals in [2, 10, FrameLayout::Numbers.mark()] {
            assert!(decode(BY_BLOCK, &[&[decimals][..], &seven].concat()).is_err(), "{decimals}");
        }
        assert!(decode("f128", &[]).unwrap_err().contains("f128"));
    }
}
