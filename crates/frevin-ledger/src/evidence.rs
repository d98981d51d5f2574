//! Evidence of other people's PCs, kept apart from one's own.

use frevin_core::evidence::ForeignEvidence;
use jiff::Timestamp;
use rusqlite::params;

use crate::error::LedgerError;
use crate::store::{Ledger, restore, store};

impl Ledger {
    /// Keeps evidence of others; how many rows were new. The same row is kept once.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing is kept then.
    pub fn add_foreign_evidence(
        &mut self,
        at: Timestamp,
        file: &str,
        rows: &[ForeignEvidence],
    ) -> Result<usize, LedgerError> {
        let transaction = self.begin()?;
        let mut new = 0;
        {
            let mut statement = transaction.prepare(
                "INSERT INTO foreign_evidence (digest, imported_at, file, evidence)
                 VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO NOTHING",
            )?;
            for row in rows {
                let text = store("evidence", row)?;
                let digest = blake3::hash(text.as_bytes()).to_hex().to_string();
                new += statement.execute(params![digest, at.to_string(), file, text])?;
            }
        }
        transaction.commit()?;
        Ok(new)
    }

    /// The evidence of others.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn foreign_evidence(&self) -> Result<Vec<ForeignEvidence>, LedgerError> {
        let mut statement =
            self.connection.prepare("SELECT evidence FROM foreign_evidence ORDER BY digest")?;
        let mut rows = statement.query([])?;
        let mut evidence = Vec::new();
        while let Some(row) = rows.next()? {
            evidence.push(restore("evidence", &row.get::<_, String>(0)?)?);
        }
        Ok(evidence)
    }
}
