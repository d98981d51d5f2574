//! `frevin run export`

use std::io::{self, Write};
use std::path::PathBuf;

use clap::{Args, ValueEnum};
use frevin_core::visits::RunId;
use frevin_frames::FrameBlocks as _;
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::output::{Output, create_new};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::parquet_file::ParquetFrames;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::Page;

/// Write every frame of a run for other tools
#[derive(Debug, Args)]
pub(crate) struct ExportArgs {
    /// The run's number
    run: i64,
    /// How
    #[arg(long, default_value = "csv")]
    format: Format,
    /// Where to write it [default: standard output, but for parquet]
    #[arg(long, required_if_eq("format", "parquet"))]
    file: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Format {
    /// Rows with a heading
    Csv,
    /// JSON Lines: an object on each line
    Jsonl,
    /// Apache Parquet, packed by zstd
    Parquet,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ExportReport {
    run: i64,
    frames: u64,
    #[serde(flatten)]
    output: Output,
}

pub(super) fn export(context: &Context, args: &ExportArgs) -> Result<Outcome, Failure> {
    let ledger = context.ledger()?;
    let (_, run) = ledger.run(RunId(args.run))?;
    let frames = run.metrics.frames as u64;
    let blocks = ledger.frame_blocks(run.id);
    let Some(file) = &args.file else {
        let mut rows = Rows::new(args.format, Vec::new());
        blocks.each_block(&mut |block| rows.take(block))?;
        let text = String::from_utf8_lossy(&rows.finish()?).into_owned();
        let output = Output::text(text);
        return Ok(Outcome::yes(&ExportReport { run: args.run, frames, output }));
    };
    let unfinished = create_new(file)?;
    let progress = context.progress(frames, "frames");
    let take_all = |take: &mut dyn FnMut(&[f64])| {
        blocks.each_block(&mut |block| {
            take(block);
            progress.inc(block.len() as u64);
        })
    };
    if args.format == Format::Parquet {
        let mut writer = ParquetFrames::new(unfinished.file(), args.run)?;
        take_all(&mut |block| writer.take(block))?;
        writer.finish()?;
    } else {
        let mut rows = Rows::new(args.format, io::BufWriter::new(unfinished.file()));
        take_all(&mut |block| rows.take(block))?;
        rows.finish()?.flush()?;
    }
    progress.finish_and_clear();
    let output = Output::in_file(unfinished.finish()?);
    Ok(Outcome::yes(&ExportReport { run: args.run, frames, output }))
}

/// A row of text for each frame: its number from 1, when it had been shown for its whole time, counted
/// from the beginning of the run, and how long that was. Numbers are written so that they read back the
/// same.
struct Rows<W> {
    format: Format,
    to: W,
    frame: u64,
    shown_ms: f64,
    failed: Option<io::Error>,
}

impl<W: Write> Rows<W> {
    fn new(format: Format, to: W) -> Self {
        Self { format, to, frame: 0, shown_ms: 0.0, failed: None }
    }

    fn take(&mut self, block: &[f64]) {
        if self.failed.is_none() {
            self.failed = self.write(block).err();
        }
    }

    fn write(&mut self, block: &[f64]) -> io::Result<()> {
        if self.frame == 0 && self.format == Format::Csv {
            writeln!(self.to, "frame,shown_ms,frame_ms")?;
        }
        for frame_ms in block {
            self.frame += 1;
            self.shown_ms += frame_ms;
            let (frame, shown_ms) = (self.frame, self.shown_ms);
            if self.format == Format::Csv {
                writeln!(self.to, "{frame},{shown_ms},{frame_ms}")?;
            } else {
                let row = format_args!(
                    "{{\"frame\":{frame},\"shown_ms\":{shown_ms},\"frame_ms\":{frame_ms}}}"
                );
                writeln!(self.to, "{row}")?;
            }
        }
        Ok(())
    }

    fn finish(self) -> Result<W, Failure> {
        match self.failed {
            None => Ok(self.to),
            Some(error) => {
                Err(Failure::new(Kind::Files, format!("the frames cannot be written: {error}")))
            }
        }
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<ExportReport>("run export");
}

impl View for ExportReport {
    fn show(&self, page: &mut Page) {
        self.output.show(page);
    }
}
