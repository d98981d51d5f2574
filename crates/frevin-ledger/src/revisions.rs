//! Revisions of profiles: added, never changed.

use frevin_core::profile::{ContentHash, ProfileName, Revision, RevisionName, Version};
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, Row, params};

use crate::error::LedgerError;
use crate::seal::{self, SealedPart};
use crate::store::{Ledger, parse};

/// What came of saving a profile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Saved {
    /// A new revision.
    New(Revision),
    /// The document is the latest revision already, byte for byte.
    Unchanged(Revision),
}

const COLUMNS: &str = "profile, number, hash, parent, message, saved_at, document, stands_alone";

impl Ledger {
    /// Saves a profile's document as its next revision. `stands_alone` is what it comes to where it
    /// builds on others, so that the revision stays what it is whatever becomes of those.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn save_revision(
        &mut self,
        profile: &ProfileName,
        document: &str,
        stands_alone: Option<&str>,
        message: &str,
        saved_at: Timestamp,
    ) -> Result<Saved, LedgerError> {
        let hash = ContentHash::of(document);
        let transaction = self.begin()?;
        transaction
            .execute("DELETE FROM deleted_profile WHERE profile = ?1", [profile.as_str()])?;
        let latest = latest(&transaction, profile)?;
        let is_same = |latest: &&Revision| {
            latest.hash == hash && latest.stands_alone.as_deref() == stands_alone
        };
        if let Some(latest) = latest.as_ref().filter(is_same) {
            let unchanged = Saved::Unchanged(latest.clone());
            seal::commit(transaction, &[])?;
            return Ok(unchanged);
        }
        let parent = latest.map(|latest| latest.number);
        let revision = Revision {
            profile: profile.clone(),
            number: parent.unwrap_or(0) + 1,
            hash,
            parent,
            message: message.to_owned(),
            saved_at,
            document: document.to_owned(),
            stands_alone: stands_alone.map(str::to_owned),
        };
        transaction.execute(
            &format!("INSERT INTO revision ({COLUMNS}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)"),
            params![
                revision.profile.as_str(),
                revision.number,
                revision.hash.as_str(),
                revision.parent,
                revision.message,
                revision.saved_at.to_string(),
                revision.document,
                revision.stands_alone,
            ],
        )?;
        seal::commit(transaction, &[SealedPart::revision(profile, revision.number)])?;
        Ok(Saved::New(revision))
    }

    /// The revision of that name.
    ///
    /// # Errors
    /// Where there is none, or a hash's beginning fits several.
    pub fn revision(&self, name: &RevisionName) -> Result<Revision, LedgerError> {
        let found = match &name.version {
            Version::Latest => {
                return latest(&self.connection, &name.profile)?
                    .ok_or_else(|| LedgerError::NoProfile(name.profile.to_string()));
            }
            Version::Number(number) => self.select(
                "WHERE profile = ?1 AND number = ?2",
                params![name.profile.as_str(), number],
            )?,
            Version::HashPrefix(prefix) => self.select(
                "WHERE profile = ?1 AND substr(hash, 1, length(?2)) = ?2",
                params![name.profile.as_str(), prefix],
            )?,
        };
        match <[Revision; 1]>::try_from(found) {
            Ok([revision]) => Ok(revision),
            Err(none) if none.is_empty() => Err(LedgerError::NoRevision(name.to_string())),
            Err(_) => Err(LedgerError::AmbiguousRevision(name.to_string())),
        }
    }

    /// The revisions of a profile, the latest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn revisions(&self, profile: &ProfileName) -> Result<Vec<Revision>, LedgerError> {
        self.select("WHERE profile = ?1 ORDER BY number DESC", params![profile.as_str()])
    }

    /// Deletes a profile: it is listed and meant no more until it is saved again. Its revisions stay, and are found by
    /// their numbers, so that it is known what was applied. Gives back the latest of them.
    ///
    /// # Errors
    /// Where there is none of that name, or the ledger cannot be written.
    pub fn delete_profile(
        &mut self,
        profile: &ProfileName,
        at: Timestamp,
    ) -> Result<Revision, LedgerError> {
        let transaction = self.begin()?;
        let latest = latest(&transaction, profile)?
            .ok_or_else(|| LedgerError::NoProfile(profile.to_string()))?;
        transaction.execute(
            "INSERT INTO deleted_profile (profile, deleted_at) VALUES (?1, ?2)",
            [profile.as_str(), &at.to_string()],
        )?;
        seal::commit(transaction, &[])?;
        Ok(latest)
    }

    /// The latest revision of every profile that is not deleted, by name.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn latest_revisions(&self) -> Result<Vec<Revision>, LedgerError> {
        self.select(
            "AS r WHERE number = (SELECT max(number) FROM revision WHERE profile = r.profile)
             AND profile NOT IN (SELECT profile FROM deleted_profile) ORDER BY profile",
            params![],
        )
    }

    fn select(
        &self,
        condition: &str,
        parameters: impl rusqlite::Params,
    ) -> Result<Vec<Revision>, LedgerError> {
        let mut statement =
            self.connection.prepare(&format!("SELECT {COLUMNS} FROM revision {condition}"))?;
        let mut rows = statement.query(parameters)?;
        let mut revisions = Vec::new();
        while let Some(row) = rows.next()? {
            revisions.push(revision_of(row)?);
        }
        Ok(revisions)
    }
}

fn latest(
    connection: &rusqlite::Connection,
    profile: &ProfileName,
) -> Result<Option<Revision>, LedgerError> {
    connection
        .query_row(
            &format!(
                "SELECT {COLUMNS} FROM revision WHERE profile = ?1
                 AND profile NOT IN (SELECT profile FROM deleted_profile)
                 ORDER BY number DESC LIMIT 1"
            ),
            [profile.as_str()],
            |row| Ok(revision_of(row)),
        )
        .optional()?
        .transpose()
}

fn revision_of(row: &Row<'_>) -> Result<Revision, LedgerError> {
    Ok(Revision {
        profile: parse("a profile's name", row.get_ref("profile")?.as_str().unwrap_or_default())?,
        number: row.get("number")?,
        hash: ContentHash::from_stored(row.get("hash")?),
        parent: row.get("parent")?,
        message: row.get("message")?,
        saved_at: parse("a time", &row.get::<_, String>("saved_at")?)?,
        document: row.get("document")?,
        stands_alone: row.get("stands_alone")?,
    })
}
