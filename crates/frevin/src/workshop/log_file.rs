//! The bytes of a log file, unpacked where it is packed.

use std::fs::File;
use std::io::{self, Read, Seek as _};
use std::path::Path;

use indicatif::ProgressBar;

use crate::failure::{Failure, Kind};
use crate::session::Session;

/// What a log may be long once it is unpacked, in bytes: what is longer is made to fill disks.
const LONGEST_BYTES: u64 = 64 << 30;

/// Opens a log file, and shows how far it is read. Gzip and zstd are known by how they begin, whatever
/// the file is called.
pub(crate) fn open(
    session: &Session,
    path: &Path,
) -> Result<(Box<dyn Read + Send>, ProgressBar), Failure> {
    let name = path.display();
    let not_there = |error: io::Error| {
        Failure::new(Kind::NotFound, format!("{name} cannot be read: {error}"))
            .hint("nothing was kept")
    };
    let mut file = File::open(path).map_err(not_there)?;
    let length = file.metadata().map_err(not_there)?.len();
    let mut begins = Vec::new();
    file.by_ref().take(4).read_to_end(&mut begins).map_err(not_there)?;
    file.rewind().map_err(not_there)?;
    let progress = session.progress(length, "reading, in bytes");
    let file = progress.wrap_read(file);
    let source: Box<dyn Read + Send> = match begins[..] {
        [0x1F, 0x8B, ..] => Box::new(Unpacked::new(flate2::read::MultiGzDecoder::new(file))),
        [0x28, 0xB5, 0x2F, 0xFD] => {
            Box::new(Unpacked::new(zstd::Decoder::new(file).map_err(not_there)?))
        }
        _ => Box::new(file),
    };
    Ok((source, progress))
}

/// How a log begins, for a person to see what was not understood; nothing where that cannot be shown.
pub(crate) fn first_lines(session: &Session, path: &Path) -> Vec<String> {
    const LINES: usize = 3;
    const COLUMNS: usize = 80;
    let mut begins = Vec::new();
    let Ok((source, _)) = open(session, path) else { return Vec::new() };
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
