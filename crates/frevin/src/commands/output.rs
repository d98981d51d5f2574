//! What a command writes out for others: into a file that is new, or on standard output.

use schemars::JsonSchema;
use serde::Serialize;
use std::fs::File;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use crate::failure::{Failure, Kind};
use crate::view::{Page, good};

/// A text on its way out.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct Output {
    /// The file that it was written into.
    file: Option<PathBuf>,
    /// The text, where it was not.
    text: Option<String>,
}

impl Output {
    /// A text that is shown.
    pub(crate) fn text(text: String) -> Self {
        Self { file: None, text: Some(text) }
    }

    /// A text that is in a file.
    pub(crate) fn in_file(file: PathBuf) -> Self {
        Self { file: Some(file), text: None }
    }

    /// Writes `bytes` into `file`, or keeps `text`, which is the same for a person, to be shown.
    pub(crate) fn write(file: Option<&Path>, text: String, bytes: &[u8]) -> Result<Self, Failure> {
        match file {
            Some(path) => {
                write_new(path, bytes)?;
                Ok(Self::in_file(path.to_owned()))
            }
            None => Ok(Self::text(text)),
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
    let unfinished = create_new(file)?;
    unfinished.file().write_all(bytes)?;
    unfinished.finish().map(drop)
}

/// A file that is being written and goes again where that is not finished.
pub(crate) struct Unfinished {
    path: PathBuf,
    file: File,
    is_finished: bool,
}

/// Makes a file that must not be there yet.
pub(crate) fn create_new(path: &Path) -> Result<Unfinished, Failure> {
    let name = path.display();
    let mut options = std::fs::OpenOptions::new();
    let opened = options.write(true).create_new(true).open(path);
    let file = opened.map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => {
            Failure::new(Kind::BadInput, format!("{name} is there already"))
                .hint("nothing was changed; take another name, or --file")
        }
        _ => Failure::new(Kind::Files, format!("{name} cannot be written: {error}"))
            .hint("is its folder there, may it be written, and is there room on the disk?"),
    })?;
    Ok(Unfinished { path: path.to_owned(), file, is_finished: false })
}

impl Unfinished {
    pub(crate) fn file(&self) -> &File {
        &self.file
    }

    /// Makes what was written durable, and keeps it.
    pub(crate) fn finish(mut self) -> Result<PathBuf, Failure> {
        self.file.sync_all()?;
        self.is_finished = true;
        Ok(self.path.clone())
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        if !self.is_finished {
            // What is half written would be taken for whole.
            let _ = std::fs::remove_file(&self.path);
        }
    }
}
