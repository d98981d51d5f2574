//! Frames as an Apache Parquet file.

use std::fs::File;
use std::sync::Arc;

use parquet::basic::{Compression, ZstdLevel};
use parquet::data_type::{DoubleType, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;

use crate::failure::{Failure, Kind};

/// The columns are those of the other formats that a run is exported in.
const SCHEMA: &str = "message frames {
    REQUIRED INT64 frame;
    REQUIRED DOUBLE shown_ms;
    REQUIRED DOUBLE frame_ms;
}";

/// A Parquet file on its way: a row group for each block of frames.
pub(crate) struct ParquetFrames<'a> {
    writer: SerializedFileWriter<&'a File>,
    frame: i64,
    shown_ms: f64,
    failed: Option<ParquetError>,
}

impl<'a> ParquetFrames<'a> {
    pub(crate) fn new(file: &'a File, run: i64) -> Result<Self, Failure> {
        let made_by = KeyValue::new("frevin.run".to_owned(), run.to_string());
        let properties = WriterProperties::builder()
            .set_compression(Compression::ZSTD(ZstdLevel::default()))
            .set_key_value_metadata(Some(vec![made_by]))
            .build();
        let schema = parse_message_type(SCHEMA).map_err(not_written)?;
        let writer = SerializedFileWriter::new(file, Arc::new(schema), Arc::new(properties))
            .map_err(not_written)?;
        Ok(Self { writer, frame: 0, shown_ms: 0.0, failed: None })
    }

    /// Adds frames; what fails is told at the end.
    pub(crate) fn take(&mut self, block: &[f64]) {
        if self.failed.is_none() {
            self.failed = self.write(block).err();
        }
    }

    fn write(&mut self, block: &[f64]) -> Result<(), ParquetError> {
        let mut numbers = Vec::with_capacity(block.len());
        let mut shown = Vec::with_capacity(block.len());
        for frame_ms in block {
            self.frame += 1;
            self.shown_ms += frame_ms;
            numbers.push(self.frame);
            shown.push(self.shown_ms);
        }
        let mut group = self.writer.next_row_group()?;
        if let Some(mut column) = group.next_column()? {
            column.typed::<Int64Type>().write_batch(&numbers, None, None)?;
            column.close()?;
        }
        for values in [&shown[..], block] {
            if let Some(mut column) = group.next_column()? {
                column.typed::<DoubleType>().write_batch(values, None, None)?;
                column.close()?;
            }
        }
        group.close()?;
        Ok(())
    }

    pub(crate) fn finish(self) -> Result<(), Failure> {
        if let Some(error) = self.failed {
            return Err(not_written(error));
        }
        self.writer.close().map(drop).map_err(not_written)
    }
}

fn not_written(error: ParquetError) -> Failure {
    Failure::new(Kind::Files, format!("the frames cannot be written: {error}"))
}
