//! How the frames of a run are kept: every one, exactly, and in little room.

use frevin_core::frames::FrameSeries;

/// 64-bit floating point numbers, little end first: what earlier ledgers hold.
const PLAIN: &str = "f64le";
/// The same, with the first bytes of all numbers together, then the second ones and so on, packed
/// by zstd. Frames of a run differ in their last bytes most, so that the rest packs well.
const PACKED: &str = "f64le-planes-zstd";
/// Fast enough that nobody waits; higher levels gain little on noise.
const LEVEL: i32 = 6;
const WIDTH: usize = size_of::<f64>();

/// The encoding and the bytes of frames about to be kept.
pub(crate) fn encode(series: &FrameSeries) -> std::io::Result<(&'static str, Vec<u8>)> {
    let frames = series.frame_ms();
    let mut planes = vec![0; frames.len() * WIDTH];
    for (index, frame_ms) in frames.iter().enumerate() {
        for (plane, byte) in frame_ms.to_le_bytes().into_iter().enumerate() {
            planes[plane * frames.len() + index] = byte;
        }
    }
    Ok((PACKED, zstd::encode_all(&planes[..], LEVEL)?))
}

/// The frames that were kept, or why they cannot be had.
pub(crate) fn decode(encoding: &str, bytes: &[u8]) -> Result<FrameSeries, String> {
    let frame_ms = match encoding {
        PLAIN => {
            let (numbers, rest) = bytes.as_chunks::<WIDTH>();
            if !rest.is_empty() {
                return Err("the last one is cut off".to_owned());
            }
            numbers.iter().map(|number| f64::from_le_bytes(*number)).collect()
        }
        PACKED => {
            let planes = zstd::decode_all(bytes).map_err(|error| error.to_string())?;
            if !planes.len().is_multiple_of(WIDTH) {
                return Err("the last one is cut off".to_owned());
            }
            let count = planes.len() / WIDTH;
            let number = |index: usize| {
                f64::from_le_bytes(std::array::from_fn(|plane| planes[plane * count + index]))
            };
            (0..count).map(number).collect()
        }
        other => return Err(format!("they are encoded as `{other}`")),
    };
    FrameSeries::new(frame_ms).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;

    #[test]
    fn frames_come_back_to_the_bit_from_either_encoding_and_take_less_room() {
        let frames: Vec<f64> =
            (0..20_000_u32).map(|i| 7.0 + f64::from(i * 31 % 97) / 700.0 + 1e-13).collect();
        let series = FrameSeries::new(frames.clone()).unwrap();
        let (encoding, packed) = encode(&series).unwrap();
        assert_eq!(decode(encoding, &packed), Ok(series.clone()));
        assert!(packed.len() * 2 < frames.len() * WIDTH, "{} bytes", packed.len());
        let plain: Vec<u8> = frames.iter().flat_map(|frame| frame.to_le_bytes()).collect();
        assert_eq!(decode(PLAIN, &plain), Ok(series));
    }

    #[test]
    fn what_is_no_such_thing_is_told() {
        assert!(decode(PLAIN, &[0; 9]).is_err());
        assert!(decode(PACKED, b"not packed").is_err());
        assert!(decode(PACKED, &zstd::encode_all(&[0_u8; 7][..], 1).unwrap()).is_err());
        assert!(decode("f128", &[]).unwrap_err().contains("f128"));
    }
}
