//! The frames of a run on their way into the ledger: in memory, or in a file where they are many.

use std::cell::OnceCell;
use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};

use frevin_frames::{
    DetectedConditions, FrameBlocks, FrameSeries, FrameSeriesError, FrameTally, Metrics,
    little_endian, tally,
};
use frevin_ledger::FramesDigest;

/// Frames of a run that are held in memory: a quarter of a gibibyte, or about 18 hours at 500 a second.
const HELD: usize = 1 << 25;
/// 25 days at 500 frames a second: what has more is made to fill disks.
const MOST_FRAMES: u64 = 1 << 30;
/// Frames that are held once others have been written.
const HELD_BESIDE_FILE: usize = 1 << 18;
/// Frames written into a file or read back at once.
const READ_BACK: usize = 1 << 16;
const WIDTH: usize = size_of::<f64>();

/// Frames that come one after another and are about to be kept: in memory or, where they are more than
/// it should hold, in a file without a name, which goes when this does.
#[derive(Default)]
pub(crate) struct FrameCollector {
    frames: u64,
    /// Those that are held, as they came.
    blocks: Vec<Vec<f64>>,
    held: usize,
    most_held: usize,
    folder: PathBuf,
    file: Option<File>,
}

impl FrameCollector {
    /// No frames yet; those that memory should not hold go to a file in this folder of Frevin's own.
    pub(crate) fn new(folder: &Path) -> Self {
        Self { most_held: HELD, folder: folder.to_owned(), ..Self::default() }
    }

    /// Adds frames in milliseconds.
    ///
    /// # Errors
    /// Where they cannot be written to the file, and where there are more than a run has.
    pub(crate) fn push(&mut self, frame_ms: Vec<f64>) -> io::Result<()> {
        self.frames += frame_ms.len() as u64;
        if self.frames > MOST_FRAMES {
            return Err(io::Error::other(format!("there are more than {MOST_FRAMES}")));
        }
        self.held += frame_ms.len();
        self.blocks.push(frame_ms);
        if self.held <= self.most_held {
            return Ok(());
        }
        let mut file = match self.file.take() {
            Some(file) => file,
            None => {
                fs_err::create_dir_all(&self.folder)?;
                tempfile::tempfile_in(&self.folder)?
            }
        };
        write(&mut file, &self.blocks)?;
        self.blocks.clear();
        self.held = 0;
        self.most_held = self.most_held.min(HELD_BESIDE_FILE);
        self.file = Some(file);
        Ok(())
    }

    /// All of them, which the tally has seen, with the figures of the run and what they show of the
    /// conditions that it was recorded under.
    ///
    /// # Errors
    /// Where there are none, and where the file cannot be written or read.
    pub(crate) fn finish(self, tally: FrameTally) -> io::Result<CollectedFrames> {
        if self.frames == 0 {
            let empty = FrameSeriesError::Empty;
            return Err(io::Error::new(io::ErrorKind::InvalidData, empty));
        }
        let frames = match self.file {
            None => RunFrames::Held(self.blocks),
            Some(mut file) => {
                write(&mut file, &self.blocks)?;
                RunFrames::Written(file)
            }
        };
        let (metrics, detected) = tally.finish(&frames)?;
        Ok(CollectedFrames { frames, metrics, detected, digest: OnceCell::new() })
    }
}

/// Frames with their figures, and what they show of the conditions that they were recorded under.
pub(crate) struct CollectedFrames {
    pub(crate) frames: RunFrames,
    pub(crate) metrics: Metrics,
    pub(crate) detected: DetectedConditions,
    digest: OnceCell<String>,
}

impl CollectedFrames {
    /// The digest that they are known again by.
    ///
    /// # Errors
    /// Where they cannot be read back.
    pub(crate) fn digest(&self) -> io::Result<&str> {
        if let Some(digest) = self.digest.get() {
            return Ok(digest);
        }
        let mut digest = FramesDigest::default();
        self.frames.each_block(&mut |block| digest.push(block))?;
        Ok(self.digest.get_or_init(|| digest.finish()))
    }
}

impl From<FrameSeries> for CollectedFrames {
    fn from(series: FrameSeries) -> Self {
        let (metrics, detected) = tally(&series);
        let frames = RunFrames::Held(vec![series.into_frame_ms()]);
        Self { frames, metrics, detected, digest: OnceCell::new() }
    }
}

fn write(file: &mut File, blocks: &[Vec<f64>]) -> io::Result<()> {
    for frames in blocks.iter().flat_map(|block| block.chunks(READ_BACK)) {
        file.write_all(&little_endian(frames))?;
    }
    Ok(())
}

/// The frames of a run that is about to be kept.
#[derive(Debug)]
pub(crate) enum RunFrames {
    /// In memory, in blocks of any length.
    Held(Vec<Vec<f64>>),
    /// In a file: 64-bit floating point numbers, little end first.
    Written(File),
}

impl FrameBlocks for RunFrames {
    type Error = io::Error;

    fn each_block(&self, see: &mut dyn FnMut(&[f64])) -> io::Result<()> {
        let mut file = match self {
            Self::Held(blocks) => {
                blocks.iter().for_each(|block| see(block));
                return Ok(());
            }
            Self::Written(file) => file,
        };
        file.seek(SeekFrom::Start(0))?;
        let mut bytes = Vec::with_capacity(READ_BACK * WIDTH);
        let mut frames = Vec::with_capacity(READ_BACK);
        loop {
            bytes.clear();
            file.take((READ_BACK * WIDTH) as u64).read_to_end(&mut bytes)?;
            if bytes.is_empty() {
                return Ok(());
            }
            frames.clear();
            let (numbers, _) = bytes.as_chunks::<WIDTH>();
            frames.extend(numbers.iter().map(|number| f64::from_le_bytes(*number)));
            see(&frames);
        }
    }

    fn in_memory(&self) -> Option<Vec<&[f64]>> {
        match self {
            Self::Held(blocks) => Some(blocks.iter().map(Vec::as_slice).collect()),
            Self::Written(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;

    #[test]
    fn frames_come_back_in_order_whether_they_were_held_or_written() {
        let folder = tempfile::tempdir().unwrap();
        let expected: Vec<f64> = (1..=300_000_u32).map(|i| f64::from(i) / 7.0).collect();
        let mut figures = Vec::new();
        for most_held in [1000, 1 << 20] {
            let mut collector = FrameCollector { most_held, ..FrameCollector::new(folder.path()) };
            let mut tally = FrameTally::default();
            for piece in expected.chunks(777) {
                tally.see(piece);
                collector.push(piece.to_vec()).unwrap();
            }
            let collected = collector.finish(tally).unwrap();
            let digest = collected.digest().unwrap().to_owned();
            let CollectedFrames { frames, metrics, .. } = collected;
            assert_eq!(matches!(frames, RunFrames::Written(_)), most_held == 1000);
            for _ in 0..2 {
                let mut seen = Vec::new();
                frames.each_block(&mut |block| seen.extend_from_slice(block)).unwrap();
                assert!(seen == expected);
            }
            figures.push((metrics, digest));
        }
        assert_eq!(figures[0], figures[1]);
        assert_eq!(fs_err::read_dir(folder.path()).unwrap().count(), 0, "no file is left");
        let none = FrameCollector::new(folder.path()).finish(FrameTally::default());
        assert!(none.is_err(), "a run has frames");
    }
}
