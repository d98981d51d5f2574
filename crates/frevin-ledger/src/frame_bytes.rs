//! How the frames of a run are kept: every one, exactly, and in little room.

use std::io;
use std::num::NonZero;
use std::thread;

use frevin_frames::{FrameBlocks, FrameLayout, lay_out};

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
/// Frames of a block: two mebibytes, so that every core has one even of a short run.
const BLOCK: usize = 1 << 18;
/// How many blocks of each core are gathered before they are encoded.
const BLOCKS_AT_ONCE: usize = 4;

/// A block of frames as it is kept.
fn encode(frames: &[f64]) -> io::Result<Vec<u8>> {
    let (layout, laid_out) = lay_out(frames);
    let mut bytes = vec![layout.mark()];
    zstd::stream::copy_encode(&laid_out[..], &mut bytes, LEVEL)?;
    Ok(bytes)
}

/// Encodes frames in blocks of a fixed length, on every core, and hands the blocks on in order.
///
/// # Errors
/// Where frames cannot be had, encoded or handed on.
pub(crate) fn encode_all<B: FrameBlocks, E>(
    frames: &B,
    keep: &mut dyn FnMut(Vec<u8>) -> Result<(), E>,
) -> Result<(), E>
where
    E: From<B::Error> + From<io::Error>,
{
    let cores = thread::available_parallelism().map_or(1, NonZero::get);
    let mut waiting: Vec<Vec<f64>> = Vec::new();
    let mut failed: Option<E> = None;
    frames.each_block(&mut |mut frames| {
        while !frames.is_empty() && failed.is_none() {
            if waiting.last().is_none_or(|block| block.len() == BLOCK) {
                if waiting.len() == BLOCKS_AT_ONCE * cores {
                    failed = hand_on(&mut waiting, cores, keep).err();
                }
                waiting.push(Vec::with_capacity(BLOCK));
            }
            let Some(block) = waiting.last_mut() else { return };
            let (now, later) = frames.split_at(frames.len().min(BLOCK - block.len()));
            block.extend_from_slice(now);
            frames = later;
        }
    })?;
    match failed {
        Some(error) => Err(error),
        None => hand_on(&mut waiting, cores, keep),
    }
}

/// Encodes blocks on so many cores and hands them on.
fn hand_on<E: From<io::Error>>(
    waiting: &mut Vec<Vec<f64>>,
    cores: usize,
    keep: &mut dyn FnMut(Vec<u8>) -> Result<(), E>,
) -> Result<(), E> {
    let blocks = std::mem::take(waiting);
    let parts = blocks.chunks(blocks.len().div_ceil(cores).max(1));
    let encoded: Vec<io::Result<Vec<Vec<u8>>>> = thread::scope(|scope| {
        let encode_part = |part: &[Vec<f64>]| part.iter().map(|block| encode(block)).collect();
        let started: Vec<_> =
            parts.clone().skip(1).map(|part| scope.spawn(move || encode_part(part))).collect();
        let first = parts.clone().next().map(encode_part);
        let stopped = |_| Err(io::Error::other("a thread stopped"));
        let others = started.into_iter().map(|part| part.join().unwrap_or_else(stopped));
        first.into_iter().chain(others).collect()
    });
    for part in encoded {
        part?.into_iter().try_for_each(&mut *keep)?;
    }
    Ok(())
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

    struct InChunks(Vec<f64>);

    impl FrameBlocks for InChunks {
        type Error = io::Error;

        fn each_block(&self, see: &mut dyn FnMut(&[f64])) -> io::Result<()> {
            self.0.chunks(100_001).for_each(see);
            Ok(())
        }
    }

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
        let frames: Vec<f64> = (1..=19 * BLOCK / 2).map(|i| i as f64).collect();
        let mut kept: Vec<f64> = Vec::new();
        let mut keep = |bytes: Vec<u8>| -> io::Result<()> {
            kept.extend(decode(BY_BLOCK, &bytes).unwrap());
            Ok(())
        };
        let series = InChunks(frames);
        encode_all::<_, io::Error>(&series, &mut keep).unwrap();
        assert!(kept == series.0);
        let mut full = |_| Err(io::Error::other("no room"));
        let error = encode_all::<_, io::Error>(&series, &mut full).unwrap_err();
        assert_eq!(error.to_string(), "no room");
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
