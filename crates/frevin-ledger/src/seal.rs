//! Seals: digests over the rows that decide what is written to a PC.
//!
//! A disk that loses a bit, a program that writes into the file, a row that is gone or there twice: what
//! SQLite does not notice would be put on a PC as what was there before. So each part is sealed in the
//! transaction that writes it, the seals are sealed together, and all of them are compared whenever the
//! ledger is opened.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use frevin_core::ids::{PcId, ProfileName};
use frevin_core::layers::ChangeId;
use frevin_core::playing::PlayId;
use frevin_core::sift::SiftId;
use frevin_core::trial::TrialId;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, Params, Transaction, params};

use crate::error::LedgerError;

/// A part of the ledger that decides what is written to a PC.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum SealedPart {
    /// The tables themselves.
    Schema,
    /// What Frevin holds on a PC.
    Layers(PcId),
    /// A change and its steps.
    Change(ChangeId),
    /// A rollback and its steps.
    Rollback(i64),
    /// A revision of a profile.
    Revision(String, u32),
    /// A trial: its design, and what happened in it.
    Trial(TrialId),
    /// A sift: its design, and what happened in it.
    Sift(SiftId),
    /// A play: its plan, and its end.
    Play(PlayId),
    /// All of them together: none is missing, and none is there twice.
    All,
}

impl SealedPart {
    pub(crate) fn revision(profile: &ProfileName, number: u32) -> Self {
        Self::Revision(profile.as_str().to_owned(), number)
    }

    /// As it is called in the table.
    fn key(&self) -> String {
        match self {
            Self::Schema => "schema".to_owned(),
            Self::Layers(pc) => format!("layers {pc}"),
            Self::Change(id) => format!("change {}", id.0),
            Self::Rollback(id) => format!("rollback {id}"),
            Self::Revision(profile, number) => format!("revision {profile}@{number}"),
            Self::Trial(id) => format!("trial {id}"),
            Self::Sift(id) => format!("sift {id}"),
            Self::Play(id) => format!("play {id}"),
            Self::All => "all".to_owned(),
        }
    }

    /// The part of that key; nothing where no part is called so.
    fn of_key(key: &str) -> Option<Self> {
        match key.split_once(' ') {
            None if key == "schema" => Some(Self::Schema),
            None if key == "all" => Some(Self::All),
            Some(("layers", pc)) => Some(Self::Layers(PcId::new(pc))),
            Some(("change", id)) => Some(Self::Change(ChangeId(id.parse().ok()?))),
            Some(("rollback", id)) => Some(Self::Rollback(id.parse().ok()?)),
            Some(("trial", id)) => Some(Self::Trial(TrialId(id.parse().ok()?))),
            Some(("sift", id)) => Some(Self::Sift(SiftId(id.parse().ok()?))),
            Some(("play", id)) => Some(Self::Play(PlayId(id.parse().ok()?))),
            Some(("revision", name)) => {
                let (profile, number) = name.rsplit_once('@')?;
                Some(Self::Revision(profile.to_owned(), number.parse().ok()?))
            }
            _ => None,
        }
    }

    /// The digest over what the part holds now.
    fn digest(&self, connection: &Connection) -> Result<String, LedgerError> {
        let mut digest = Digest(blake3::Hasher::new());
        match self {
            Self::Schema => digest.rows(
                connection,
                "SELECT type, name, sql FROM sqlite_schema ORDER BY type, name",
                params![],
            )?,
            Self::Layers(pc) => {
                let pc = params![pc.as_str()];
                digest.rows(
                    connection,
                    "SELECT * FROM stack WHERE pc = ?1 ORDER BY identity",
                    pc,
                )?;
                let layers = "SELECT * FROM layer WHERE pc = ?1 ORDER BY identity, position";
                digest.rows(connection, layers, pc)?;
            }
            Self::Change(id) => {
                digest.rows(connection, "SELECT * FROM change WHERE id = ?1", [id.0])?;
                let steps = "SELECT * FROM step WHERE change = ?1 ORDER BY position";
                digest.rows(connection, steps, [id.0])?;
            }
            Self::Rollback(id) => {
                digest.rows(connection, "SELECT * FROM rollback WHERE id = ?1", [id])?;
                let steps = "SELECT * FROM rollback_step WHERE rollback = ?1 ORDER BY position";
                digest.rows(connection, steps, [id])?;
            }
            Self::Revision(profile, number) => digest.rows(
                connection,
                "SELECT * FROM revision WHERE profile = ?1 AND number = ?2",
                params![profile, number],
            )?,
            Self::Trial(id) => {
                digest.rows(connection, "SELECT * FROM trial WHERE id = ?1", [id.0])?;
                let events = "SELECT * FROM trial_event WHERE trial = ?1 ORDER BY position";
                digest.rows(connection, events, [id.0])?;
            }
            Self::Sift(id) => {
                digest.rows(connection, "SELECT * FROM sift WHERE id = ?1", [id.0])?;
                let events = "SELECT * FROM sift_event WHERE sift = ?1 ORDER BY position";
                digest.rows(connection, events, [id.0])?;
            }
            Self::Play(id) => {
                digest.rows(connection, "SELECT * FROM play WHERE id = ?1", [id.0])?;
                if tables_there(connection)?.contains(&"play_event") {
                    let events = "SELECT * FROM play_event WHERE play = ?1 ORDER BY position";
                    digest.rows(connection, events, [id.0])?;
                }
            }
            Self::All => {
                let seals = "SELECT part, digest FROM seal WHERE part <> 'all' ORDER BY part";
                digest.rows(connection, seals, params![])?;
                for table in tables_there(connection)? {
                    let counted = format!("SELECT count(*) FROM {table}");
                    digest.rows(connection, &counted, params![])?;
                }
            }
        }
        Ok(digest.0.finalize().to_hex().to_string())
    }
}

impl fmt::Display for SealedPart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Schema => f.write_str("its tables"),
            Self::Layers(pc) => write!(f, "what Frevin holds on the PC {pc}"),
            Self::Change(id) => write!(f, "change {}", id.0),
            Self::Rollback(id) => write!(f, "rollback {id}"),
            Self::Revision(profile, number) => write!(f, "revision {profile}@{number}"),
            Self::Trial(id) => write!(f, "trial {id}"),
            Self::Sift(id) => write!(f, "sift {id}"),
            Self::Play(id) => write!(f, "play {id}"),
            Self::All => f.write_str("the list of all that it holds"),
        }
    }
}

/// Every row of these is in a part.
const SEALED_TABLES: [&str; 13] = [
    "stack",
    "layer",
    "change",
    "step",
    "rollback",
    "rollback_step",
    "revision",
    "trial",
    "trial_event",
    "sift",
    "sift_event",
    "play",
    "play_event",
];

/// Those that there are: an earlier Frevin had fewer. That none is gone is what the seal of the tables
/// themselves tells.
fn tables_there(connection: &Connection) -> Result<Vec<&'static str>, LedgerError> {
    let mut statement = connection.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?1)",
    )?;
    let mut there = Vec::new();
    for table in SEALED_TABLES {
        if statement.query_row([table], |row| row.get(0))? {
            there.push(table);
        }
    }
    Ok(there)
}

/// A digest over rows, in which nothing can stand for something else.
struct Digest(blake3::Hasher);

impl Digest {
    fn rows(
        &mut self,
        connection: &Connection,
        sql: &str,
        parameters: impl Params,
    ) -> Result<(), LedgerError> {
        let mut statement = connection.prepare_cached(sql)?;
        let columns = statement.column_count();
        let mut rows = statement.query(parameters)?;
        while let Some(row) = rows.next()? {
            self.0.update(b"row");
            for column in 0..columns {
                let mut add = |kind: u8, bytes: &[u8]| {
                    self.0.update(&[kind]);
                    self.0.update(&(bytes.len() as u64).to_le_bytes());
                    self.0.update(bytes);
                };
                match row.get_ref(column)? {
                    ValueRef::Null => add(0, b""),
                    ValueRef::Integer(number) => add(1, &number.to_le_bytes()),
                    ValueRef::Real(number) => add(2, &number.to_le_bytes()),
                    ValueRef::Text(text) => add(3, text),
                    ValueRef::Blob(bytes) => add(4, bytes),
                }
            }
        }
        self.0.update(b"end");
        Ok(())
    }
}

/// Commits a transaction, with the parts sealed anew that it has written to.
pub(crate) fn commit(
    transaction: Transaction<'_>,
    written: &[SealedPart],
) -> Result<(), LedgerError> {
    renew(&transaction, written)?;
    transaction.commit()?;
    Ok(())
}

fn renew(connection: &Connection, parts: &[SealedPart]) -> Result<(), LedgerError> {
    for part in parts.iter().chain([&SealedPart::All]) {
        let digest = part.digest(connection)?;
        connection.execute(
            "INSERT INTO seal (part, digest) VALUES (?1, ?2)
             ON CONFLICT (part) DO UPDATE SET digest = excluded.digest",
            params![part.key(), digest],
        )?;
    }
    Ok(())
}

/// Seals all that a ledger of an earlier Frevin holds.
pub(crate) fn renew_all(connection: &Connection) -> Result<(), LedgerError> {
    // A statement that was prepared before a column was added counts too few.
    connection.flush_prepared_statement_cache();
    let parts: Vec<SealedPart> = parts_held(connection)?.into_iter().collect();
    renew(connection, &parts)
}

/// The parts of which there are rows, and the tables.
fn parts_held(connection: &Connection) -> Result<BTreeSet<SealedPart>, LedgerError> {
    let mut parts = BTreeSet::from([SealedPart::Schema]);
    let mut each =
        |sql: &str, part: &dyn Fn(&rusqlite::Row<'_>) -> rusqlite::Result<SealedPart>| {
            let mut statement = connection.prepare(sql)?;
            let mut rows = statement.query([])?;
            while let Some(row) = rows.next()? {
                parts.insert(part(row)?);
            }
            Ok::<(), rusqlite::Error>(())
        };
    each("SELECT pc FROM stack UNION SELECT pc FROM layer", &|row| {
        Ok(SealedPart::Layers(PcId::new(row.get::<_, String>(0)?)))
    })?;
    each("SELECT id FROM change UNION SELECT change FROM step", &|row| {
        Ok(SealedPart::Change(ChangeId(row.get(0)?)))
    })?;
    each("SELECT id FROM rollback UNION SELECT rollback FROM rollback_step", &|row| {
        Ok(SealedPart::Rollback(row.get(0)?))
    })?;
    if tables_there(connection)?.contains(&"trial") {
        each("SELECT id FROM trial UNION SELECT trial FROM trial_event", &|row| {
            Ok(SealedPart::Trial(TrialId(row.get(0)?)))
        })?;
    }
    if tables_there(connection)?.contains(&"sift") {
        each("SELECT id FROM sift UNION SELECT sift FROM sift_event", &|row| {
            Ok(SealedPart::Sift(SiftId(row.get(0)?)))
        })?;
    }
    if tables_there(connection)?.contains(&"play") {
        let has_events = tables_there(connection)?.contains(&"play_event");
        let ids = match has_events {
            true => "SELECT id FROM play UNION SELECT play FROM play_event",
            false => "SELECT id FROM play",
        };
        each(ids, &|row| Ok(SealedPart::Play(PlayId(row.get(0)?))))?;
    }
    each("SELECT profile, number FROM revision", &|row| {
        Ok(SealedPart::Revision(row.get(0)?, row.get(1)?))
    })?;
    Ok(parts)
}

/// The parts that are not as they were written.
pub(crate) fn altered(connection: &Connection) -> Result<Vec<SealedPart>, LedgerError> {
    let mut seals: BTreeMap<String, String> = BTreeMap::new();
    let mut statement = connection.prepare("SELECT part, digest FROM seal")?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        seals.insert(row.get(0)?, row.get(1)?);
    }
    let mut parts = parts_held(connection)?;
    parts.insert(SealedPart::All);
    let mut altered = BTreeSet::new();
    for key in seals.keys() {
        // A seal of nothing is no word of Frevin's.
        parts.insert(SealedPart::of_key(key).unwrap_or(SealedPart::All));
        if SealedPart::of_key(key).is_none() {
            altered.insert(SealedPart::All);
        }
    }
    for part in parts {
        if seals.get(&part.key()) != Some(&part.digest(connection)?) {
            altered.insert(part);
        }
    }
    Ok(altered.into_iter().collect())
}
