//! The bytes of a log file, unpacked where it is packed.

use std::fs::File;
use std::io::{self, Read, Seek as _};
use std::path::Path;

use frevin_frames::{LogError, LogOptions, LogReading, read_log};
use indicatif::ProgressBar;

use super::collector::{CollectedFrames, FrameCollector};

use crate::context::Context;
use crate::failure::{Failure, Kind};

/// What a log may be long once it is unpacked, in bytes: what is longer is made to fill disks.
const LONGEST_BYTES: u64 = 64 << 30;

/// Opens a log file, and shows how far it is read. Gzip and zstd are known by how they begin, whatever
/// the file is called.
pub(crate) fn open(
    context: &Context,
    path: &Path,
) -> Result<(Box<dyn Read + Send>, ProgressBar), Failure> {
    let name = path.display();
    let not_there =
        |error: io::Error| Failure::new(Kind::NotFound, format!("{name} cannot be read: {error}"));
    // A pipe would be waited for without end, and cannot be read from its beginning again.
    let metadata = std::fs::metadata(path).map_err(not_there)?;
    if !metadata.is_file() {
        return Err(Failure::new(
            Kind::BadInput,
            format!("{name} is no file that a log can be in"),
        )
        .hint("write what comes through a pipe into a file first"));
    }
    let mut file = File::open(path).map_err(not_there)?;
    let length = metadata.len();
    let mut begins = Vec::new();
    file.by_ref().take(4).read_to_end(&mut begins).map_err(not_there)?;
    file.rewind().map_err(not_there)?;
    let progress = context.progress(length, "reading, in bytes");
    let file = progress.wrap_read(Whole { file, left: length });
    let source: Box<dyn Read + Send> = match begins[..] {
        [0x1F, 0x8B, ..] => Box::new(Unpacked::new(flate2::read::MultiGzDecoder::new(file))),
        [0x28, 0xB5, 0x2F, 0xFD] => {
            Box::new(Unpacked::new(zstd::Decoder::new(file).map_err(not_there)?))
        }
        _ => Box::new(file),
    };
    Ok((source, progress))
}

/// A file that is as long at its end as it was at its beginning, or longer: what was cut while it was read
/// is half of something.
struct Whole {
    file: File,
    left: u64,
}

impl Read for Whole {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.file.read(buffer)?;
        if read == 0 && self.left > 0 && !buffer.is_empty() {
            return Err(io::Error::other("it became shorter while it was read"));
        }
        self.left = self.left.saturating_sub(read as u64);
        Ok(read)
    }
}

/// Reads a log file: its frames, and what was taken for what.
pub(crate) fn read(
    context: &Context,
    file: &Path,
    options: &LogOptions,
) -> Result<(CollectedFrames, LogReading), Failure> {
    let name = file.display();
    let (mut source, progress) = open(context, file)?;
    let mut collector = FrameCollector::new(context.home());
    let reading = read_log(&mut source, options, &mut |frames| collector.push(frames));
    progress.finish_and_clear();
    let (reading, tally) = reading.map_err(|error| {
        let failure = Failure::new(Kind::BadInput, format!("{name}: {error}"));
        let is_unclear = matches!(
            error,
            LogError::SeveralColumns { .. }
                | LogError::UnknownColumn { .. }
                | LogError::NoHeadings { .. }
                | LogError::UnknownUnit { .. }
        );
        let failure = if is_unclear {
            let shown = first_lines(context, file);
            failure.details(shown.into_iter().map(|line| format!("it begins: {line}")))
        } else {
            failure
        };
        match error {
            LogError::NoSuchColumn { .. }
            | LogError::SeveralColumns { .. }
            | LogError::UnknownColumn { .. } => failure.hint("name one of them with --column"),
            LogError::NoHeadings { .. } => {
                failure.hint("give the number of the one that is meant: --column 1 is the first")
            }
            LogError::SeveralPrograms { column, .. } => {
                failure.hint(format!("choose one: --only \"{column}=TEXT\""))
            }
            LogError::EvenTicks { .. } => failure
                .hint("a log of frames has a row for each frame; record frame times, not averages"),
            LogError::MayBeRates { .. } => {
                failure.hint("if they are frame times, say so: --unit ms")
            }
            LogError::UnknownUnit { .. } => failure.hint("say --unit ms, us, ns or s"),
            LogError::UnclearComma { .. } => {
                failure.hint("say --column 1 or --column 2 where it separates; else write points")
            }
            LogError::NoTable { .. } | LogError::NoNumbers => {
                failure.hint("a log has a row for each frame, with its time in it")
            }
            LogError::TooManyRejected { .. } => {
                failure.hint("is that the right column, and the right --unit?")
            }
            LogError::Empty | LogError::NoFrames => failure.hint("was the recording ever stopped?"),
            LogError::Unreadable { .. } => failure.hint("was it written to its end?"),
            LogError::SeveralLists { .. } => {
                failure.hint("name the list that holds frame times with --column")
            }
            LogError::DocumentTooLong { .. } => {
                failure.hint("write it as JSON Lines, an object on each line")
            }
            LogError::OnlyRates { .. } => failure.hint("record frame times"),
            _ => failure,
        }
    })?;
    Ok((collector.finish(tally)?, reading))
}

/// How a log begins, for a person to see what was not understood; nothing where that cannot be shown.
pub(crate) fn first_lines(context: &Context, path: &Path) -> Vec<String> {
    const LINES: usize = 3;
    const COLUMNS: usize = 80;
    let mut begins = Vec::new();
    let Ok((source, _)) = open(context, path) else { return Vec::new() };
    if source.take(4096).read_to_end(&mut begins).is_err() || begins.contains(&0) {
        return Vec::new();
    }
    let text = String::from_utf8_lossy(&begins);
    let lines = text.lines().filter(|line| !line.trim().is_empty()).take(LINES);
    lines.map(|line| line.chars().take(COLUMNS).collect()).collect()
}

/// What a packed file holds, as long as that is no longer than a log is.
struct Unpacked<R> {
    source: R,
    left: u64,
}

impl<R> Unpacked<R> {
    fn new(source: R) -> Self {
        Self { source, left: LONGEST_BYTES }
    }
}

impl<R: Read> Read for Unpacked<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.source.read(buffer)?;
        self.left = self.left.checked_sub(read as u64).ok_or_else(|| {
            io::Error::other(format!("it is longer than {LONGEST_BYTES} bytes unpacked"))
        })?;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;

    #[test]
    fn a_file_that_ends_before_it_was_said_to_end_is_no_whole_log() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log.csv");
        fs_err::write(&path, "frame_ms\n16.6\n").unwrap();
        let mut bytes = Vec::new();
        let read = |left: u64, bytes: &mut Vec<u8>| {
            Whole { file: File::open(&path).unwrap(), left }.read_to_end(bytes)
        };
        assert_eq!(read(14, &mut bytes).unwrap(), 14);
        // Longer by now is what a log is that is still written.
        assert_eq!(read(9, &mut bytes).unwrap(), 14);
        let error = read(20, &mut bytes).unwrap_err();
        assert!(error.to_string().contains("became shorter"), "{error}");
    }
}
