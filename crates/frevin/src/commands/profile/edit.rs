//! `frevin profile add`, `remove` and `delete`

use frevin_core::profile::{
    Entry, Profile, ProfileName, Revision, RevisionName, Version, stand_alone, with_entry,
    without_tweak,
};
use frevin_core::tweak::{Catalogue, TweakUse};
use frevin_ledger::{Ledger, LedgerError};
use schemars::JsonSchema;
use serde::Serialize;

use super::super::target::TweakArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::profiles::{is_ready_made, save_text};
use crate::operations::target::{ReadDocument, bases, find_tweak, ready_made_of};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, good};

/// A profile that was deleted.
#[derive(Debug, JsonSchema, Serialize)]
struct DeleteReport {
    profile: ProfileName,
    /// The last of the revisions, which are kept.
    last_revision: u32,
}

/// Adds tweaks to the latest revision of a profile.
pub(super) fn add(
    context: &Context,
    name: &ProfileName,
    tweaks: &TweakArgs,
    note: Option<&str>,
) -> Result<Outcome, Failure> {
    let (catalogue, mut ledger) = (context.catalogue()?, context.ledger()?);
    let uses = tweaks.uses(&catalogue)?;
    if uses.is_empty() {
        return Err(Failure::new(Kind::Usage, "name what to add with --tweak"));
    }
    let latest = latest(&ledger, name)?;
    let profile = parse(&latest, &latest.document, &catalogue)?;
    let mut text = latest.document.clone();
    for (tweak, arguments) in &uses {
        let used = TweakUse::of(tweak, arguments);
        let is_there = profile
            .entries
            .iter()
            .any(|entry| entry.tweak == tweak.id && TweakUse::of(tweak, &entry.arguments) == used);
        if is_there {
            let message =
                format!("{} has `{}` with the same choices already", latest.name(), tweak.id);
            return Err(Failure::new(Kind::BadInput, message).hint("nothing was changed"));
        }
        let entry = Entry {
            tweak: tweak.id.clone(),
            arguments: arguments.clone(),
            when: None,
            note: note.map(str::to_owned),
            span: 0..0,
        };
        text = with_entry(&text, &entry).map_err(not_edited)?;
    }
    let names: Vec<String> = uses.iter().map(|(tweak, _)| tweak.id.to_string()).collect();
    let message = format!("added {}", names.join(", "));
    save_next(context, &mut ledger, &catalogue, &latest, text, &message)
}

/// Takes tweaks out of the latest revision of a profile.
pub(super) fn remove(
    context: &Context,
    name: &ProfileName,
    tweaks: &[String],
) -> Result<Outcome, Failure> {
    let (catalogue, mut ledger) = (context.catalogue()?, context.ledger()?);
    let latest = latest(&ledger, name)?;
    let profile = parse(&latest, &latest.document, &catalogue)?;
    let (mut text, mut names) = (latest.document.clone(), Vec::new());
    for written in tweaks {
        let tweak = find_tweak(&catalogue, written)?;
        let is_in = |profile: &Profile| profile.entries.iter().any(|entry| entry.tweak == tweak.id);
        // What it would still have of those that it builds on.
        let only_built_on = Profile { entries: Vec::new(), ..profile.clone() };
        let name = latest.name().to_string();
        let inherited = stand_alone(&name, &text, &only_built_on, &mut bases(&ledger, &catalogue))?;
        let is_inherited = is_in(&inherited);
        if !is_inherited && !is_in(&profile) {
            let message = format!("{} has no `{}`", latest.name(), tweak.id);
            return Err(Failure::new(Kind::NotFound, message)
                .hint(format!("`frevin profile show {}` shows what it has", latest.profile)));
        }
        text = without_tweak(&text, &tweak.id, is_inherited).map_err(not_edited)?;
        names.push(tweak.id.to_string());
    }
    let message = format!("removed {}", names.join(", "));
    save_next(context, &mut ledger, &catalogue, &latest, text, &message)
}

/// Deletes a profile from the list.
pub(super) fn delete(context: &Context, name: &ProfileName) -> Result<Outcome, Failure> {
    let games = context.games()?;
    let is_its = |held: &str| held.split('@').next() == Some(name.as_str());
    if let Some((file, _)) = games.rules.iter().find(|(_, rule)| is_its(&rule.profile)) {
        let message = format!("`{name}` is held whenever {file} runs");
        return Err(Failure::new(Kind::Guarded, message)
            .hint(format!("`frevin play games remove {file}` ends that")));
    }
    let mut ledger = context.ledger()?;
    latest(&ledger, name)?;
    let last = ledger.delete_profile(name, context.clock.now())?;
    Ok(Outcome::done(&DeleteReport { profile: name.clone(), last_revision: last.number }))
}

fn latest(ledger: &Ledger, name: &ProfileName) -> Result<Revision, Failure> {
    let named = RevisionName { profile: name.clone(), version: Version::Latest };
    let found = ledger.revision(&named);
    let is_of_frevin = match &found {
        Ok(revision) => is_ready_made(revision),
        Err(LedgerError::NoProfile(_)) => ready_made_of(&named).is_some(),
        Err(_) => false,
    };
    if is_of_frevin {
        let message = format!("`{name}` comes with Frevin and stays as it is");
        return Err(Failure::new(Kind::Guarded, message)
            .hint(format!("`frevin profile new mine --from {name}` makes one of your own")));
    }
    Ok(found?)
}

fn parse(revision: &Revision, text: &str, catalogue: &Catalogue) -> Result<Profile, Failure> {
    Ok(Profile::parse(&revision.name().to_string(), text, catalogue)?)
}

fn save_next(
    context: &Context,
    ledger: &mut Ledger,
    catalogue: &Catalogue,
    latest: &Revision,
    text: String,
    message: &str,
) -> Result<Outcome, Failure> {
    let document = ReadDocument::parse(&latest.name().to_string(), text, catalogue, ledger)?;
    Ok(Outcome::done(&save_text(context, ledger, &document, message)?))
}

fn not_edited(error: impl std::error::Error) -> Failure {
    Failure::new(Kind::BadInput, error.to_string())
        .hint("edit its document by hand: `frevin profile show` prints it, `frevin profile save` saves it")
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<DeleteReport>("profile delete");
}

impl View for DeleteReport {
    fn show(&self, page: &mut Page) {
        let Self { profile, last_revision } = self;
        page.line(format_args!("{} `{profile}` is deleted from the list.", good("Done.")));
        page.pairs([(
            "have it again",
            format!("frevin profile show {profile}@{last_revision} > {profile}.toml"),
        )]);
    }
}
