//! Saving profiles.

use std::path::Path;

use frevin_core::profile::{Revision, RevisionName};
use frevin_ledger::{Ledger, LedgerError, Saved};
use schemars::JsonSchema;
use serde::Serialize;

use super::target::{Named, ReadDocument, read_document, ready_made_of};
use crate::context::Context;
use crate::failure::Failure;

/// A profile that was saved.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct SaveReport {
    pub(crate) revision: Revision,
    pub(crate) is_new: bool,
}

/// Saves a document as the next revision of its profile.
pub(crate) fn save(context: &Context, file: &Path, message: &str) -> Result<SaveReport, Failure> {
    let mut ledger = context.ledger()?;
    let document = read_document(file, &context.catalogue()?, &ledger)?;
    save_text(context, &mut ledger, &document, message)
}

/// How the revisions begin their message that keep what comes with Frevin.
const COMES_WITH: &str = "as it comes with Frevin ";

/// Whether a revision keeps what came with Frevin, and is none of its owner's.
pub(crate) fn is_ready_made(revision: &Revision) -> bool {
    revision.message.starts_with(COMES_WITH)
}

/// Saves a profile that comes with Frevin, where that is what somebody named: what is applied or tried is known
/// for good, also when a later Frevin brings another. What its owner saved under the name stays the one meant.
pub(crate) fn keep_ready_made(
    context: &Context,
    ledger: &mut Ledger,
    named: &Named,
) -> Result<(), Failure> {
    let Named::Profile(written) = named else { return Ok(()) };
    let Ok(name) = written.parse::<RevisionName>() else { return Ok(()) };
    let Some(known) = ready_made_of(&name) else { return Ok(()) };
    let is_ours = match ledger.revision(&name) {
        Ok(revision) => is_ready_made(&revision),
        Err(LedgerError::NoProfile(_)) => true,
        Err(error) => return Err(error.into()),
    };
    if is_ours {
        let document = ReadDocument::ready_made(&known, &context.catalogue()?, ledger)?;
        let message = format!("{COMES_WITH}{}", env!("CARGO_PKG_VERSION"));
        save_text(context, ledger, &document, &message)?;
    }
    Ok(())
}

/// Saves a document that was read.
pub(crate) fn save_text(
    context: &Context,
    ledger: &mut Ledger,
    document: &ReadDocument,
    message: &str,
) -> Result<SaveReport, Failure> {
    let ReadDocument { text, profile, alone } = document;
    let alone = (!profile.builds_on.is_empty()).then(|| alone.to_document());
    let now = context.clock.now();
    let saved = ledger.save_revision(&profile.name, text, alone.as_deref(), message, now)?;
    Ok(match saved {
        Saved::New(revision) => SaveReport { revision, is_new: true },
        Saved::Unchanged(revision) => SaveReport { revision, is_new: false },
    })
}
