//! Opening the ledger.

use std::path::{Path, PathBuf};

use rusqlite::{Connection, Transaction, TransactionBehavior};
use rusqlite_migration::{M, Migrations};
use serde::{Serialize, de::DeserializeOwned};

use crate::error::LedgerError;

/// The name of the ledger's file in Frevin's home.
const FILE: &str = "ledger.sqlite3";

/// An opened ledger.
#[derive(Debug)]
pub struct Ledger {
    pub(crate) connection: Connection,
    path: PathBuf,
}

impl Ledger {
    /// Opens the ledger in Frevin's home, and makes both where they are not there.
    ///
    /// # Errors
    /// [`LedgerError::Newer`] where a newer Frevin has written it, [`LedgerError::Damaged`] where
    /// it is no database, or one that has lost its order.
    pub fn open(home: &Path) -> Result<Self, LedgerError> {
        fs_err::create_dir_all(home)?;
        let path = home.join(FILE);
        Self::open_file(&path).map_err(|error| explain(path, error))
    }

    fn open_file(path: &Path) -> Result<Self, LedgerError> {
        refuse_cut_file(path)?;
        let mut connection = Connection::open(path)?;
        connection.busy_timeout(std::time::Duration::from_secs(5))?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        // In WAL mode FULL is what makes a commit survive a power cut.
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        let migrations = Migrations::new(vec![
            M::up(include_str!("schema/1.sql")),
            M::up(include_str!("schema/2.sql")),
            M::up(include_str!("schema/3.sql")),
            M::up(include_str!("schema/4.sql")),
        ]);
        migrations.to_latest(&mut connection).map_err(|error| match error {
            rusqlite_migration::Error::MigrationDefinition(_) => {
                LedgerError::Newer(path.to_owned())
            }
            rusqlite_migration::Error::RusqliteError { err, .. } => err.into(),
            other => LedgerError::Damaged { path: path.to_owned(), reason: other.to_string() },
        })?;
        Ok(Self { connection, path: path.to_owned() })
    }

    /// The ledger's file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A transaction that takes the right to write at once, so that it cannot lose it half-way.
    pub(crate) fn begin(&mut self) -> Result<Transaction<'_>, LedgerError> {
        Ok(self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?)
    }
}

/// Refuses a file that is shorter than it says it is. SQLite notices that only where it reads a
/// page that is gone, and an empty file is a new database to it.
///
/// The size of a page is in bytes 16 and 17 of the file, 1 meaning 65536, and the number of pages
/// in bytes 28 to 31 ("Database File Format" in SQLite's documentation). While there is a log
/// beside it the file may lag behind, and the log makes up for it.
fn refuse_cut_file(path: &Path) -> Result<(), LedgerError> {
    use std::io::Read as _;

    let Ok(mut file) = std::fs::File::open(path) else { return Ok(()) };
    let log = path.with_extension("sqlite3-wal");
    if std::fs::metadata(log).is_ok_and(|log| log.len() > 0) {
        return Ok(());
    }
    let length = file.metadata()?.len();
    // A crash at the very first start leaves an empty file, and no undo files beside it.
    if length == 0 && !path.with_file_name("undo").exists() {
        return Ok(());
    }
    let damaged = |reason: String| LedgerError::Damaged { path: path.to_owned(), reason };
    let mut header = [0; 32];
    if file.read_exact(&mut header).is_err() {
        return Err(damaged(format!("it is only {length} bytes long")));
    }
    let page_size = match u16::from_be_bytes([header[16], header[17]]) {
        1 => 65_536,
        size => u64::from(size),
    };
    let pages = u32::from_be_bytes([header[28], header[29], header[30], header[31]]);
    let expected = page_size * u64::from(pages);
    // A file that is no database at all is SQLite's to tell.
    if header.starts_with(b"SQLite format 3\0") && length < expected {
        return Err(damaged(format!("it is cut off after {length} of {expected} bytes")));
    }
    Ok(())
}

/// Tells a file that is no ledger, or may not be written, from any other error.
fn explain(path: PathBuf, error: LedgerError) -> LedgerError {
    use rusqlite::ErrorCode;

    let LedgerError::Database(rusqlite::Error::SqliteFailure(failure, message)) = &error else {
        return error;
    };
    let reason = message.clone().unwrap_or_else(|| failure.to_string());
    match failure.code {
        ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt => {
            LedgerError::Damaged { path, reason }
        }
        ErrorCode::CannotOpen | ErrorCode::ReadOnly | ErrorCode::PermissionDenied => {
            LedgerError::CannotOpen { path, reason }
        }
        _ => error,
    }
}

/// A value as it is stored.
pub(crate) fn store<T: Serialize>(what: &'static str, value: &T) -> Result<String, LedgerError> {
    serde_json::to_string(value)
        .map_err(|error| LedgerError::Unreadable { what, reason: error.to_string() })
}

/// A stored value.
pub(crate) fn restore<T: DeserializeOwned>(
    what: &'static str,
    text: &str,
) -> Result<T, LedgerError> {
    serde_json::from_str(text)
        .map_err(|error| LedgerError::Unreadable { what, reason: error.to_string() })
}

/// A stored value that is written as plain text.
pub(crate) fn parse<T: std::str::FromStr>(what: &'static str, text: &str) -> Result<T, LedgerError>
where
    T::Err: std::fmt::Display,
{
    text.parse()
        .map_err(|error: T::Err| LedgerError::Unreadable { what, reason: error.to_string() })
}
