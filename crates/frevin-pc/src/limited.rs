//! Reading files whole that strangers may have made: no further than they may be long.

use std::io::Read as _;
use std::path::Path;

use thiserror::Error;

/// Why a file was not read whole.
#[derive(Debug, Error)]
pub enum LimitedReadError {
    /// It could not be read.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// It does not end where it may end at the latest.
    #[error("it is longer than the {limit_bytes} bytes that it may be")]
    TooLong {
        /// The most that is read, in bytes.
        limit_bytes: u64,
    },
}

/// Reads a file whole. What tells no length, as a device or a pipe, is read no further either.
///
/// # Errors
/// [`LimitedReadError`] where it cannot be read, or is longer than `limit_bytes`.
pub fn read(file: &Path, limit_bytes: u64) -> Result<Vec<u8>, LimitedReadError> {
    read_from(std::fs::File::open(file)?, limit_bytes)
}

/// Reads what is open to its end.
///
/// # Errors
/// As [`read`].
pub fn read_from(
    source: impl std::io::Read,
    limit_bytes: u64,
) -> Result<Vec<u8>, LimitedReadError> {
    let mut bytes = Vec::new();
    source.take(limit_bytes.saturating_add(1)).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > limit_bytes {
        return Err(LimitedReadError::TooLong { limit_bytes });
    }
    Ok(bytes)
}
