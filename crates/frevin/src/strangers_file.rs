//! Files that strangers may have made, read whole within a limit.

use std::path::Path;

use frevin_pc::limited::{self, LimitedReadError};

use crate::failure::{Failure, Kind};

/// Reads a file that is a `what`, in the words of a message: "no profile is that long".
pub(crate) fn read(file: &Path, limit_bytes: u64, what: &str) -> Result<Vec<u8>, Failure> {
    let name = file.display();
    limited::read(file, limit_bytes).map_err(|error| match error {
        LimitedReadError::Io(error) => {
            Failure::new(Kind::NotFound, format!("{name} cannot be read: {error}"))
        }
        LimitedReadError::TooLong { limit_bytes } => {
            let message = format!("{name} is longer than {limit_bytes} bytes; no {what} is");
            Failure::new(Kind::BadInput, message)
        }
    })
}

/// The same, where the file is text.
pub(crate) fn read_text(file: &Path, limit_bytes: u64, what: &str) -> Result<String, Failure> {
    String::from_utf8(read(file, limit_bytes, what)?).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let message = format!("{} is not text: byte {at} is not UTF-8", file.display());
        Failure::new(Kind::BadInput, message)
    })
}
