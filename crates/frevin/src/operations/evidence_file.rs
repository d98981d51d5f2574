//! Files of evidence: CSV, JSON and Apache Parquet, with the same columns.

use std::fs::File;
use std::io::Write as _;
use std::path::Path;
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::Duration;

use frevin_core::evidence::ForeignEvidence;
use parquet::basic::{Compression, ZstdLevel};
use parquet::column::reader::ColumnReader;
use parquet::data_type::{ByteArray, ByteArrayType, DoubleType, Int32Type};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader as _, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;

use crate::failure::{Failure, Kind};
use crate::strangers_file;

/// No file of evidence is longer, in bytes.
const LONGEST_BYTES: u64 = 1 << 30;
/// No file has more rows: each takes some hundred bytes of memory.
const MOST_ROWS: usize = 1_000_000;

/// No Parquet file takes longer to read. One of a few bytes may claim lists of billions of elements that have no bytes at all, and
/// the reader of the format goes through each of them.
const LONGEST_READING: Duration = Duration::from_secs(if cfg!(fuzzing) { 2 } else { 30 });

/// How a file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum EvidenceFormat {
    /// Rows with a heading
    Csv,
    /// A list of objects
    Json,
    /// Apache Parquet, packed by zstd
    Parquet,
}

/// The columns, in their order: the same in [`COLUMNS`].
const SCHEMA: &str = "message evidence {
    REQUIRED BYTE_ARRAY pc (UTF8);
    REQUIRED BYTE_ARRAY tweak (UTF8);
    REQUIRED BYTE_ARRAY arguments (UTF8);
    REQUIRED BYTE_ARRAY metric (UTF8);
    REQUIRED BYTE_ARRAY game (UTF8);
    REQUIRED BYTE_ARRAY graphics (UTF8);
    REQUIRED BYTE_ARRAY resolution (UTF8);
    REQUIRED BYTE_ARRAY origin (UTF8);
    REQUIRED BYTE_ARRAY date (UTF8);
    REQUIRED INT32 windows_build;
    REQUIRED BYTE_ARRAY graphics_driver (UTF8);
    REQUIRED BYTE_ARRAY game_version (UTF8);
    REQUIRED BYTE_ARRAY finding (UTF8);
    REQUIRED DOUBLE ln_ratio;
    REQUIRED DOUBLE standard_error;
}";

const COLUMNS: [&str; 15] = [
    "pc",
    "tweak",
    "arguments",
    "metric",
    "game",
    "graphics",
    "resolution",
    "origin",
    "date",
    "windows_build",
    "graphics_driver",
    "game_version",
    "finding",
    "ln_ratio",
    "standard_error",
];

/// The text columns with how each is had.
type TextOf = (&'static str, fn(&mut ForeignEvidence) -> &mut String);
const TEXTS: [TextOf; 12] = [
    ("pc", |row| &mut row.pc),
    ("tweak", |row| &mut row.tweak),
    ("arguments", |row| &mut row.arguments),
    ("metric", |row| &mut row.metric),
    ("game", |row| &mut row.game),
    ("graphics", |row| &mut row.graphics),
    ("resolution", |row| &mut row.resolution),
    ("origin", |row| &mut row.origin),
    ("date", |row| &mut row.date),
    ("graphics_driver", |row| &mut row.graphics_driver),
    ("game_version", |row| &mut row.game_version),
    ("finding", |row| &mut row.finding),
];

/// Writes rows into a file.
pub(crate) fn write(
    file: &File,
    format: EvidenceFormat,
    rows: &[ForeignEvidence],
) -> Result<(), Failure> {
    let failed = |error: &dyn std::fmt::Display| {
        Failure::new(Kind::Files, format!("the evidence cannot be written: {error}"))
    };
    match format {
        EvidenceFormat::Csv => {
            let mut writer = csv::Writer::from_writer(file);
            for row in rows {
                writer.serialize(row).map_err(|error| failed(&error))?;
            }
            writer.flush()?;
        }
        EvidenceFormat::Json => {
            let text = serde_json::to_string_pretty(rows).map_err(|error| failed(&error))?;
            let mut file = file;
            writeln!(file, "{text}")?;
        }
        EvidenceFormat::Parquet => {
            write_parquet(file, rows).map_err(|error| failed(&error))?;
        }
    }
    Ok(())
}

fn write_parquet(file: &File, rows: &[ForeignEvidence]) -> Result<(), ParquetError> {
    let properties = WriterProperties::builder()
        .set_compression(Compression::ZSTD(ZstdLevel::default()))
        .build();
    let schema = parse_message_type(SCHEMA)?;
    let mut writer = SerializedFileWriter::new(file, Arc::new(schema), Arc::new(properties))?;
    let mut group = writer.next_row_group()?;
    for name in COLUMNS {
        let Some(mut column) = group.next_column()? else { break };
        if let Some((_, text)) = TEXTS.iter().find(|(known, _)| *known == name) {
            let values: Vec<ByteArray> =
                rows.iter().map(|row| ByteArray::from(text(&mut row.clone()).as_str())).collect();
            column.typed::<ByteArrayType>().write_batch(&values, None, None)?;
        } else if name == "windows_build" {
            let build = |row: &ForeignEvidence| i32::try_from(row.windows_build).unwrap_or(0);
            let values: Vec<i32> = rows.iter().map(build).collect();
            column.typed::<Int32Type>().write_batch(&values, None, None)?;
        } else {
            let of = |row: &ForeignEvidence| match name {
                "ln_ratio" => row.ln_ratio,
                _ => row.standard_error,
            };
            let values: Vec<f64> = rows.iter().map(of).collect();
            column.typed::<DoubleType>().write_batch(&values, None, None)?;
        }
        column.close()?;
    }
    group.close()?;
    writer.close().map(drop)
}

/// Reads the evidence of a stranger's file, whatever of the three it is, and checks each row.
pub(crate) fn read(path: &Path) -> Result<Vec<ForeignEvidence>, Failure> {
    let bytes = strangers_file::read(path, LONGEST_BYTES, "file of evidence")?;
    of_bytes(&path.display().to_string(), bytes)
}

/// The evidence that the bytes of a file hold, which messages call by this name.
pub(crate) fn of_bytes(name: &str, bytes: Vec<u8>) -> Result<Vec<ForeignEvidence>, Failure> {
    let broken = |error: &dyn std::fmt::Display| {
        Failure::new(Kind::BadInput, format!("{name}: {error}"))
            .hint("`frevin evidence export` writes such files as CSV, JSON and Parquet")
    };
    let begins = bytes.iter().find(|byte| !byte.is_ascii_whitespace());
    let rows: Vec<ForeignEvidence> = if bytes.starts_with(b"PAR1") {
        read_in_time(bytes, LONGEST_READING).map_err(|error| broken(&error))?
    } else if begins == Some(&b'[') {
        serde_json::from_slice(&bytes).map_err(|error| broken(&error))?
    } else {
        let mut reader = csv::Reader::from_reader(&bytes[..]);
        reader
            .deserialize()
            .collect::<Result<_, _>>()
            .map_err(|error: csv::Error| broken(&error))?
    };
    for (at, row) in rows.iter().enumerate() {
        row.check().map_err(|error| {
            Failure::new(Kind::BadInput, format!("{name}: row {}: {error}", at + 1))
        })?;
    }
    Ok(rows)
}

fn empty_row() -> ForeignEvidence {
    ForeignEvidence {
        pc: String::new(),
        tweak: String::new(),
        arguments: String::new(),
        metric: String::new(),
        game: String::new(),
        graphics: String::new(),
        resolution: String::new(),
        origin: String::new(),
        date: String::new(),
        windows_build: 0,
        graphics_driver: String::new(),
        game_version: String::new(),
        finding: String::new(),
        ln_ratio: f64::NAN,
        standard_error: f64::NAN,
    }
}

/// Reads a Parquet file on a thread of its own. One that takes too long is refused; its thread ends with the program.
fn read_in_time(bytes: Vec<u8>, limit: Duration) -> Result<Vec<ForeignEvidence>, ParquetError> {
    let (send, read) = mpsc::channel();
    thread::Builder::new().name("parquet".to_owned()).spawn(move || {
        // Who waited no longer needs no answer.
        let _ = send.send(read_parquet(bytes));
    })?;
    let given_up = |error| {
        ParquetError::General(match error {
            mpsc::RecvTimeoutError::Timeout => {
                format!("no file of evidence takes longer than {limit:?} to read")
            }
            mpsc::RecvTimeoutError::Disconnected => "its reader stopped".to_owned(),
        })
    };
    read.recv_timeout(limit).unwrap_or_else(|error| Err(given_up(error)))
}

fn read_parquet(bytes: Vec<u8>) -> Result<Vec<ForeignEvidence>, ParquetError> {
    let reader = SerializedFileReader::new(bytes::Bytes::from(bytes))?;
    let mut all = Vec::new();
    for group in 0..reader.num_row_groups() {
        let group = reader.get_row_group(group)?;
        let count = group.metadata().num_rows();
        let Some(count) = usize::try_from(count).ok().filter(|rows| all.len() + rows <= MOST_ROWS)
        else {
            return Err(ParquetError::General(format!("{count} rows are no evidence")));
        };
        let mut rows = vec![empty_row(); count];
        for column in 0..group.num_columns() {
            let name = group.metadata().column(column).column_descr().name().to_owned();
            read_column(&name, group.get_column_reader(column)?, &mut rows)?;
        }
        all.extend(rows);
    }
    Ok(all)
}

/// Reads a column into the rows. A column of another name is passed over; one of another type, or with a row without a
/// value, is refused.
fn read_column(
    name: &str,
    column: ColumnReader,
    rows: &mut [ForeignEvidence],
) -> Result<(), ParquetError> {
    let count = rows.len();
    let short = || ParquetError::General(format!("`{name}` has not a value in each row"));
    match column {
        ColumnReader::ByteArrayColumnReader(mut column) => {
            let Some((_, text)) = TEXTS.iter().find(|(known, _)| *known == name) else {
                return Ok(());
            };
            let mut values = Vec::with_capacity(count);
            column.read_records(count, None, None, &mut values)?;
            if values.len() != count {
                return Err(short());
            }
            for (row, value) in rows.iter_mut().zip(values) {
                *text(row) = value.as_utf8()?.to_owned();
            }
        }
        ColumnReader::Int32ColumnReader(mut column) if name == "windows_build" => {
            let mut values = Vec::with_capacity(count);
            column.read_records(count, None, None, &mut values)?;
            if values.len() != count {
                return Err(short());
            }
            for (row, value) in rows.iter_mut().zip(values) {
                row.windows_build = u32::try_from(value).unwrap_or(0);
            }
        }
        ColumnReader::DoubleColumnReader(mut column) => {
            let mut values = Vec::with_capacity(count);
            column.read_records(count, None, None, &mut values)?;
            if values.len() != count {
                return Err(short());
            }
            for (row, value) in rows.iter_mut().zip(values) {
                match name {
                    "ln_ratio" => row.ln_ratio = value,
                    "standard_error" => row.standard_error = value,
                    _ => {}
                }
            }
        }
        _ => {}
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;

    fn rows() -> Vec<ForeignEvidence> {
        let row = |pc: usize| ForeignEvidence {
            pc: format!("pc-{pc}"),
            tweak: "power/active-plan".to_owned(),
            arguments: r#"{"plan":"high-performance"}"#.to_owned(),
            metric: "average-fps".to_owned(),
            game: "Gorsehollow, \"Riders\"\nand more".to_owned(),
            date: "2026-03-01".to_owned(),
            windows_build: 26_100,
            finding: "helps".to_owned(),
            ln_ratio: (0.1 + 0.2) / pc as f64,
            standard_error: 1e-3,
            ..empty_row()
        };
        (1..=3).map(row).collect()
    }

    /// Lists of two billion booleans, of which a reader that does not know the field reads nothing.
    #[test]
    fn a_parquet_file_that_claims_lists_without_end_is_refused_in_time() {
        let list: &[u8] = &[0xF9, 0xF1, 0xFF, 0xFF, 0xFF, 0xFF, 0x07];
        let metadata = [list, list, list, &[0]].concat();
        let length = u32::try_from(metadata.len()).unwrap().to_le_bytes();
        let file = [b"PAR1", &metadata[..], &length, b"PAR1"].concat();
        let error = read_in_time(file, Duration::from_millis(50)).unwrap_err();
        assert!(error.to_string().contains("longer than 50ms"), "{error}");
    }

    #[test]
    fn rows_come_back_from_each_format_as_they_went() {
        let folder = tempfile::tempdir().unwrap();
        for format in [EvidenceFormat::Csv, EvidenceFormat::Json, EvidenceFormat::Parquet] {
            let path = folder.path().join("file");
            write(&File::create(&path).unwrap(), format, &rows()).unwrap();
            assert_eq!(read(&path).unwrap(), rows(), "{format:?}");
        }
    }

    #[test]
    fn a_file_that_is_cut_short_is_told_and_never_taken_in_part() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("file");
        write(&File::create(&path).unwrap(), EvidenceFormat::Parquet, &rows()).unwrap();
        let whole = fs_err::read(&path).unwrap();
        for length in (4..whole.len()).step_by(37) {
            fs_err::write(&path, &whole[..length]).unwrap();
            let failure = read(&path).unwrap_err();
            assert_eq!(failure.kind, Kind::BadInput, "{length}");
        }
        write(&File::create(&path).unwrap(), EvidenceFormat::Json, &rows()).unwrap();
        let text = fs_err::read_to_string(&path).unwrap();
        fs_err::write(&path, &text[..text.len() - 5]).unwrap();
        assert_eq!(read(&path).unwrap_err().kind, Kind::BadInput);
    }

    #[test]
    fn a_parquet_file_with_other_columns_says_what_it_lacks() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("frames.parquet");
        let schema = "message frames { REQUIRED INT64 frame; REQUIRED DOUBLE ln_ratio; }";
        let file = File::create(&path).unwrap();
        let mut writer = SerializedFileWriter::new(
            &file,
            Arc::new(parse_message_type(schema).unwrap()),
            Arc::new(WriterProperties::builder().build()),
        )
        .unwrap();
        let mut group = writer.next_row_group().unwrap();
        let mut column = group.next_column().unwrap().unwrap();
        column.typed::<parquet::data_type::Int64Type>().write_batch(&[1], None, None).unwrap();
        column.close().unwrap();
        let mut column = group.next_column().unwrap().unwrap();
        column.typed::<DoubleType>().write_batch(&[0.1], None, None).unwrap();
        column.close().unwrap();
        group.close().unwrap();
        writer.close().unwrap();
        let failure = read(&path).unwrap_err();
        assert!(failure.message.contains("row 1: `pc` is empty"), "{}", failure.message);
    }
}
