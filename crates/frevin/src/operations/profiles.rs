//! Saving profiles.

use std::path::Path;

use frevin_core::profile::Revision;
use frevin_ledger::{Ledger, Saved};
use serde::Serialize;

use super::target::{ReadDocument, read_document};
use crate::context::Context;
use crate::failure::Failure;

/// A profile that was saved.
#[derive(Debug, Serialize)]
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
