//! What a command writes out for others: into a file that is new, or on standard output.

use std::io::Write as _;
use std::path::{Path, PathBuf};

use serde::Serialize;

use crate::failure::{Failure, Kind};
use crate::view::{Page, good};

/// A text on its way out.
#[derive(Debug, Serialize)]
pub(crate) struct Output {
    /// The file that it was written into.
    file: Option<PathBuf>,
    /// The text, where it was not.
    text: Option<String>,
}

impl Output {
    /// Writes `bytes` into `file`, or keeps `text`, which is the same for a person, to be shown.
    pub(crate) fn write(file: Option<&Path>, text: String, bytes: &[u8]) -> Result<Self, Failure> {
        match file {
            Some(path) => {
                write_new(path, bytes)?;
                Ok(Self { file: Some(path.to_owned()), text: None })
            }
            None => Ok(Self { file: None, text: Some(text) }),
        }
    }

    /// Whether it went into a file, so that something can be said beside it.
    pub(crate) fn is_in_a_file(&self) -> bool {
        self.file.is_some()
    }

    /// The text itself, or where it is.
    pub(crate) fn show(&self, page: &mut Page) {
        if let Some(text) = &self.text {
            page.verbatim(text);
        }
        if let Some(file) = &self.file {
            page.line(format_args!("{} Written to {}.", good("Done."), file.display()));
        }
    }
}

/// Writes a file that must not be there yet.
pub(crate) fn write_new(file: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let name = file.display();
    let mut options = std::fs::OpenOptions::new();
    let mut opened =
        options.write(true).create_new(true).open(file).map_err(|error| match error.kind() {
            std::io::ErrorKind::AlreadyExists => {
                Failure::new(Kind::BadInput, format!("{name} is there already"))
                    .hint("nothing was changed; take another name, or --file")
            }
            _ => Failure::new(Kind::NotFound, format!("{name} cannot be written: {error}")),
        })?;
    Ok(opened.write_all(bytes)?)
}
