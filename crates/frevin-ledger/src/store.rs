//! Opening the ledger.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use frevin_core::layers::ChangeId;
use rusqlite::{Connection, ErrorCode, OpenFlags, Transaction, TransactionBehavior};
use rusqlite_migration::{M, Migrations};
use serde::{Serialize, de::DeserializeOwned};

use crate::error::LedgerError;
use crate::seal::{self, SealedPart};

/// The name of the ledger's file in Frevin's home.
const FILE: &str = "ledger.sqlite3";
/// The schema that this Frevin writes: how many migrations there are.
const SCHEMA: i64 = 9;

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
    /// it is no database, or one that has lost its order, or is gone while undo files of its changes are
    /// there.
    pub fn open(home: &Path) -> Result<Self, LedgerError> {
        fs_err::create_dir_all(home)?;
        let ledger = Self::open_unchecked(home)?;
        let parts = ledger.altered()?;
        if parts.is_empty() {
            Ok(ledger)
        } else {
            Err(LedgerError::Altered { path: ledger.path, parts })
        }
    }

    /// Opens the ledger as [`Self::open`] does, without comparing what it holds with what was written: for
    /// who looks at what is wrong with it, or saves what can be saved.
    ///
    /// # Errors
    /// Where it cannot be opened at all.
    pub fn open_unchecked(home: &Path) -> Result<Self, LedgerError> {
        fs_err::create_dir_all(home)?;
        let path = home.join(FILE);
        let undo_files = home.join("undo");
        if !path.exists() && holds_anything(&undo_files) {
            let reason = format!(
                "it is gone, and {} holds the undo files of changes that it told of",
                undo_files.display()
            );
            return Err(LedgerError::Damaged { path, reason });
        }
        Self::open_file(&path).map_err(|error| explain(path, error))
    }

    /// The parts that decide what is written to a PC and are not as Frevin wrote them: changed, missing, or
    /// there twice.
    ///
    /// # Errors
    /// [`LedgerError::Damaged`] where the ledger cannot be read through.
    pub fn altered(&self) -> Result<Vec<SealedPart>, LedgerError> {
        // One look, in which nobody else writes.
        let damaged = |error: LedgerError| match error {
            LedgerError::Busy | LedgerError::DiskFull | LedgerError::Drive(_) => error,
            other => {
                let reason = match &other {
                    LedgerError::Database(error) => error.to_string(),
                    other => other.to_string(),
                };
                LedgerError::Damaged { path: self.path.clone(), reason }
            }
        };
        let look = || {
            let transaction = self.connection.unchecked_transaction()?;
            let altered = seal::altered(&transaction)?;
            transaction.rollback()?;
            Ok(altered)
        };
        look().map_err(damaged)
    }

    /// Writes a copy of the ledger into a file that is not there yet, by the database's own online copy.
    ///
    /// # Errors
    /// Where the file is there, or cannot be written.
    pub fn back_up(&self, file: &Path) -> Result<(), LedgerError> {
        // The name is taken first: what is there already is not written over.
        drop(fs_err::OpenOptions::new().write(true).create_new(true).open(file)?);
        let copied = copy(&self.connection, file);
        if copied.is_err() {
            // Half a copy would be taken for a whole one.
            let _ = fs_err::remove_file(file);
        }
        copied?;
        Ok(crate::durable_file(file)?)
    }

    /// Puts a copy that [`Self::back_up`] wrote in the place of the ledger in Frevin's home, after it was
    /// looked through. The old ledger is kept beside it, under the name that is given back, where there was
    /// one.
    ///
    /// # Errors
    /// Where the copy is no ledger, or is not as Frevin wrote it; nothing has changed then.
    pub fn restore(home: &Path, from: &Path) -> Result<Option<PathBuf>, LedgerError> {
        let path = home.join(FILE);
        let draft = Draft::new(home);
        let checked = || {
            refuse_cut_file(from)?;
            let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            copy(&Connection::open_with_flags(from, flags)?, &draft.path)?;
            let ledger = Self::open_file(&draft.path)?;
            let parts = ledger.altered()?;
            if !parts.is_empty() {
                return Err(LedgerError::Altered { path: from.to_owned(), parts });
            }
            Ok(ledger)
        };
        let ledger = checked().map_err(|error| explain(from.to_owned(), error))?;
        draft.take_place(ledger, &path)
    }

    fn open_file(path: &Path) -> Result<Self, LedgerError> {
        refuse_cut_file(path)?;
        let mut connection = Connection::open(path)?;
        connection.busy_timeout(Duration::from_secs(5))?;
        let _migrating = Migrating::wait(&connection, path)?;
        write_ahead(&connection)?;
        // In WAL mode FULL is what makes a commit survive a power cut.
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        refuse_altered_before_migration(&connection, path)?;
        let migrations = Migrations::new(vec![
            M::up(include_str!("schema/1.sql")),
            M::up(include_str!("schema/2.sql")),
            M::up(include_str!("schema/3.sql")),
            M::up(include_str!("schema/4.sql")),
            // From here on each step seals anew what it has changed, the tables among it, in its own
            // transaction: the seals would tell of it as of damage.
            M::up_with_hook(include_str!("schema/5.sql"), renew_seals),
            M::up_with_hook(include_str!("schema/6.sql"), renew_seals),
            M::up_with_hook(include_str!("schema/7.sql"), renew_seals),
            M::up_with_hook(include_str!("schema/8.sql"), renew_seals),
            M::up_with_hook(include_str!("schema/9.sql"), renew_seals),
            M::up_with_hook(include_str!("schema/10.sql"), renew_seals),
        ]);
        migrations.to_latest(&mut connection).map_err(|error| match error {
            rusqlite_migration::Error::MigrationDefinition(_) => {
                LedgerError::Newer(path.to_owned())
            }
            rusqlite_migration::Error::RusqliteError { err, .. }
                if err.sqlite_error_code().is_some_and(is_no_damage) =>
            {
                err.into()
            }
            other => LedgerError::Damaged { path: path.to_owned(), reason: other.to_string() },
        })?;
        Ok(Self { connection, path: path.to_owned() })
    }

    /// Begins a new ledger where the old one is damaged, which is kept under the name that is given back.
    /// Changes are numbered on from `last`, so that no undo file is written over.
    ///
    /// # Errors
    /// Where the files cannot be renamed or written.
    pub fn begin_anew(home: &Path, last: ChangeId) -> Result<Option<PathBuf>, LedgerError> {
        let draft = Draft::new(home);
        let ledger = Self::open_file(&draft.path)?;
        let sql = "INSERT INTO sqlite_sequence (name, seq) VALUES ('change', ?1)";
        ledger.connection.execute(sql, [last.0])?;
        draft.take_place(ledger, &home.join(FILE))
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

/// Lets the ledger be written ahead of, so that reading and writing do not wait for each other. Going over to that from
/// another way is not waited for by the database itself where somebody reads at the moment.
fn write_ahead(connection: &Connection) -> Result<(), LedgerError> {
    const PATIENCE: Duration = Duration::from_secs(5);
    let begun = Instant::now();
    loop {
        match connection.pragma_update(None, "journal_mode", "WAL") {
            Err(error)
                if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy)
                    && begun.elapsed() < PATIENCE =>
            {
                std::thread::sleep(Duration::from_millis(10));
            }
            done => return Ok(done?),
        }
    }
}

/// The right to bring a ledger forward: two programs that open a new one at once would both make its tables.
struct Migrating(Option<(std::fs::File, PathBuf)>);

impl Migrating {
    /// Waits for it, where there is something to be brought forward.
    fn wait(connection: &Connection, path: &Path) -> Result<Self, LedgerError> {
        let version: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
        if version >= SCHEMA {
            return Ok(Self(None));
        }
        let lock = path.with_extension("migrating");
        let file =
            fs_err::OpenOptions::new().create(true).truncate(false).write(true).open(&lock)?;
        let file = file.into_file();
        file.lock()?;
        Ok(Self(Some((file, lock))))
    }
}

impl Drop for Migrating {
    fn drop(&mut self) {
        // Whoever waits for the file still has it; whoever comes later finds nothing to be done.
        if let Some((_, lock)) = &self.0 {
            let _ = std::fs::remove_file(lock);
        }
    }
}

/// A step to a newer schema seals anew what it finds: that has to be what was written.
fn refuse_altered_before_migration(
    connection: &Connection,
    path: &Path,
) -> Result<(), LedgerError> {
    const FIRST_WITH_SEALS: i64 = 5;
    let version: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
    if !(FIRST_WITH_SEALS..SCHEMA).contains(&version) {
        return Ok(());
    }
    let parts = seal::altered(connection)?;
    if parts.is_empty() {
        Ok(())
    } else {
        Err(LedgerError::Altered { path: path.to_owned(), parts })
    }
}

fn renew_seals(transaction: &Transaction<'_>) -> rusqlite_migration::HookResult {
    seal::renew_all(transaction)
        .map_err(|error| rusqlite_migration::HookError::Hook(error.to_string()))
}

/// Whether an error says nothing against what the file holds.
fn is_no_damage(code: ErrorCode) -> bool {
    matches!(
        code,
        ErrorCode::DatabaseBusy
            | ErrorCode::DatabaseLocked
            | ErrorCode::DiskFull
            | ErrorCode::ReadOnly
            | ErrorCode::CannotOpen
            | ErrorCode::PermissionDenied
            | ErrorCode::SystemIoFailure
            | ErrorCode::NotADatabase
            | ErrorCode::DatabaseCorrupt
    )
}

fn holds_anything(folder: &Path) -> bool {
    std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some())
}

fn copy(from: &Connection, to: &Path) -> Result<(), LedgerError> {
    const PAGES_AT_ONCE: std::ffi::c_int = 1000;
    let mut to = Connection::open(to)?;
    let pause = Duration::ZERO;
    rusqlite::backup::Backup::new(from, &mut to)?.run_to_completion(PAGES_AT_ONCE, pause, None)?;
    Ok(())
}

/// A ledger that is to take the place of another, in the same folder; what is left of it goes.
struct Draft {
    path: PathBuf,
}

impl Draft {
    fn new(home: &Path) -> Self {
        let draft = Self { path: home.join("ledger-draft.sqlite3") };
        draft.clear();
        draft
    }

    fn clear(&self) {
        for ending in ["sqlite3", "sqlite3-wal", "sqlite3-shm"] {
            let _ = fs_err::remove_file(self.path.with_extension(ending));
        }
    }

    /// Puts it in the place of the ledger at `path`, of which a copy is kept under the name that is given
    /// back. There is a ledger under that path at every moment.
    fn take_place(&self, ledger: Ledger, path: &Path) -> Result<Option<PathBuf>, LedgerError> {
        // All of it into the one file that is renamed.
        ledger.connection.pragma_update(None, "journal_mode", "DELETE")?;
        drop(ledger);
        crate::durable_file(&self.path)?;
        let kept = keep_copy(path)?;
        fs_err::rename(&self.path, path)?;
        if let Some(home) = path.parent() {
            crate::durable_folder(home)?;
        }
        Ok(kept)
    }
}

impl Drop for Draft {
    fn drop(&mut self) {
        self.clear();
    }
}

/// Keeps a copy of a ledger's file, and takes its log away, which belongs to that file alone; nothing
/// where there is none.
fn keep_copy(path: &Path) -> Result<Option<PathBuf>, LedgerError> {
    if !path.exists() {
        return Ok(None);
    }
    // What the log holds goes into the file first, where it still can.
    if let Ok(old) = Connection::open(path) {
        let _ = old.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()));
    }
    let name = |number: u32| path.with_file_name(format!("ledger-before-{number}.sqlite3"));
    let free = (1..u32::MAX).map(name).find(|name| !name.exists()).unwrap_or_else(|| name(0));
    fs_err::copy(path, &free)?;
    crate::durable_file(&free)?;
    for ending in ["sqlite3-wal", "sqlite3-shm"] {
        match fs_err::rename(path.with_extension(ending), free.with_extension(ending)) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error.into()),
            _ => {}
        }
    }
    Ok(Some(free))
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
    let (LedgerError::Database(cause) | LedgerError::Drive(cause)) = &error else { return error };
    let rusqlite::Error::SqliteFailure(failure, message) = cause else { return error };
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
