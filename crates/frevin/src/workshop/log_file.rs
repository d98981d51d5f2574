//! The bytes of a log file, unpacked where it is packed.

use std::io::Read;
use std::path::Path;

use crate::failure::{Failure, Kind};

/// What a log may be long once it is unpacked, in bytes: what is longer is made to fill memories.
const LONGEST_BYTES: u64 = 4 << 30;

/// Reads a log file. Gzip and zstd are known by how they begin, whatever the file is called.
pub(crate) fn read(path: &Path) -> Result<Vec<u8>, Failure> {
    let name = path.display();
    let not_there = |error: std::io::Error| {
        Failure::new(Kind::NotFound, format!("{name} cannot be read: {error}"))
            .hint("nothing was imported")
    };
    let bytes = std::fs::read(path).map_err(not_there)?;
    let unpacked = match bytes.get(..4) {
        Some([0x1F, 0x8B, ..]) => unpack(flate2::read::MultiGzDecoder::new(&bytes[..])),
        Some([0x28, 0xB5, 0x2F, 0xFD]) => zstd::Decoder::new(&bytes[..]).and_then(unpack),
        _ => return Ok(bytes),
    };
    unpacked.map_err(|error| {
        Failure::new(Kind::BadInput, format!("{name} cannot be unpacked: {error}"))
            .hint("nothing was imported; was it written to its end?")
    })
}

fn unpack(packed: impl Read) -> std::io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    packed.take(LONGEST_BYTES + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > LONGEST_BYTES {
        let message = format!("it is longer than {LONGEST_BYTES} bytes unpacked");
        return Err(std::io::Error::other(message));
    }
    Ok(bytes)
}
