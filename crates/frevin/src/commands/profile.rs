//! `frevin profile`

mod edit;
mod exchange;
pub(crate) use exchange::private_words;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use clap::Subcommand;
use frevin_core::document::place_of;
use frevin_core::evidence::EvidenceFinding;
use frevin_core::ids::SceneName;
use frevin_core::profile::{
    Against, Entry, Profile, ProfileName, Remark, RemarkKind, Revision, RevisionName, ready_made,
    remarks, starting_document,
};
use frevin_core::setting::{Address, State};
use frevin_core::tweak::{Catalogue, TweakId};
use frevin_ledger::LedgerError;
use schemars::JsonSchema;
use serde::Serialize;

use super::output::write_new;
use super::target::TweakArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::evidence::{ToldEvidence, told};
use crate::operations::profiles;
use crate::operations::target::{ReadDocument, find_tweak, read_document};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::evidence::origin_in_words;
use crate::view::percent;
use crate::view::{Page, Table, bad, count, dim, good, strong, warn, when};

/// Versioned lists of tweaks for a purpose
#[derive(Debug, Subcommand)]
pub(crate) enum ProfileCommand {
    /// Begin a profile: a TOML document to fill in
    New {
        /// Its name, like `quiet-evening`
        name: ProfileName,
        /// What it is for
        #[arg(long, default_value = "Say here what this profile is for.")]
        purpose: String,
        /// A profile to begin with: a saved one, or one that is ready made
        #[arg(long, value_name = "PROFILE", conflicts_with = "tweak")]
        from: Option<RevisionName>,
        /// Tweaks to begin with
        #[arg(long, value_name = "AREA/NAME")]
        tweak: Vec<String>,
        /// Begin with what measuring has shown to help on this PC, each with its arguments and the reason
        #[arg(long, conflicts_with_all = ["from", "tweak"])]
        from_evidence: bool,
        /// Only by what was measured in this scene
        #[arg(long, value_name = "SCENE", requires = "from_evidence")]
        scene: Option<SceneName>,
        /// Where to write it [default: NAME.toml here]
        #[arg(long)]
        file: Option<PathBuf>,
    },
    /// Check a document: is it a profile, and what is to be said of its tweaks on this PC
    Check {
        /// The document
        file: PathBuf,
    },
    /// Save a document as the next revision of its profile
    Save {
        /// The document
        file: PathBuf,
        /// What is new about it
        #[arg(long, short, default_value = "")]
        message: String,
    },
    /// Add tweaks to a saved profile: its next revision
    Add {
        /// The profile
        profile: ProfileName,
        #[command(flatten)]
        tweaks: TweakArgs,
        /// Why
        #[arg(long, value_name = "WORDS")]
        note: Option<String>,
    },
    /// Take tweaks out of a saved profile: its next revision
    Remove {
        /// The profile
        profile: ProfileName,
        /// The tweak, with every use of it; may be said several times
        #[arg(long, value_name = "AREA/NAME", required = true)]
        tweak: Vec<String>,
    },
    /// Delete a profile from the list. Its revisions are kept, by which it is known what was applied
    Delete {
        /// The profile
        profile: ProfileName,
    },
    /// List saved profiles
    List,
    /// List the profiles that come with Frevin, to begin with or to build on
    ReadyMade,
    /// Compare two profiles by the settings that they want on this PC
    Diff {
        /// The first: a revision, a document, or one ready made
        #[arg(value_name = "PROFILE[@REV]")]
        first: String,
        /// The second
        #[arg(value_name = "PROFILE[@REV]")]
        second: String,
    },
    /// Write a profile into one file for others, with nothing private in it
    Export {
        /// The revision, a document, or one ready made
        #[arg(value_name = "PROFILE[@REV]")]
        profile: String,
        /// As registry text in Windows' own format, of what is registry in it
        #[arg(long)]
        as_registry: bool,
        /// Where to write it [default: standard output]
        #[arg(long)]
        file: Option<PathBuf>,
    },
    /// Take in a profile, or registry files, of somebody else
    Import {
        /// A profile document, or registry files (.reg) that belong together
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// The name that the profile gets
        #[arg(long)]
        name: Option<ProfileName>,
    },
    /// List the revisions of a profile, the latest first
    Log {
        /// The profile
        profile: ProfileName,
    },
    /// Print the document of a revision, byte for byte
    Show {
        /// The revision: NAME, NAME@3, or NAME@ and the beginning of its hash
        #[arg(value_name = "PROFILE[@REV]")]
        revision: RevisionName,
    },
}

#[derive(Debug, JsonSchema, Serialize)]
struct NewReport {
    file: PathBuf,
}

#[derive(Debug, JsonSchema, Serialize)]
struct CheckReport {
    profile: ProfileName,
    tweaks: usize,
    remarks: Vec<PlacedRemark>,
    /// Whether a PC was there to check against.
    against_pc: Option<String>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct PlacedRemark {
    /// The line of the document, where the tweak stands in it and not in one that it builds on.
    line: Option<usize>,
    #[serde(flatten)]
    remark: Remark,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ProfileList {
    profiles: Vec<ListedProfile>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ListedProfile {
    #[serde(flatten)]
    latest: Revision,
    purpose: String,
    tweaks: Vec<TweakId>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ReadyMadeList {
    profiles: Vec<ListedReadyMade>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ListedReadyMade {
    name: ProfileName,
    purpose: String,
    builds_on: Vec<String>,
    tweaks: Vec<TweakId>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct LogReport {
    revisions: Vec<Revision>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[serde(transparent)]
struct ShowReport(Revision);

pub(crate) fn run(context: &Context, command: &ProfileCommand) -> Result<Outcome, Failure> {
    match command {
        ProfileCommand::New { name, purpose, from, tweak, from_evidence, scene, file } => {
            let catalogue = context.catalogue()?;
            let tweaks = tweak
                .iter()
                .map(|written| Ok(find_tweak(&catalogue, written)?.id.clone()))
                .collect::<Result<Vec<_>, Failure>>()?;
            let file = file.clone().unwrap_or_else(|| PathBuf::from(format!("{name}.toml")));
            let text = match from {
                Some(from) => begun_from(context, from, name, &catalogue)?,
                None if *from_evidence => {
                    from_evidence_document(context, name, purpose, scene.as_ref())?
                }
                None => starting_document(name, purpose, &tweaks, &catalogue),
            };
            write_new(&file, text.as_bytes())?;
            Ok(Outcome::done(&NewReport { file }))
        }
        ProfileCommand::Check { file } => check(context, file),
        ProfileCommand::Save { file, message } => {
            Ok(Outcome::done(&profiles::save(context, file, message)?))
        }
        ProfileCommand::Add { profile, tweaks, note } => {
            edit::add(context, profile, tweaks, note.as_deref())
        }
        ProfileCommand::Remove { profile, tweak } => edit::remove(context, profile, tweak),
        ProfileCommand::Delete { profile } => edit::delete(context, profile),
        ProfileCommand::List => list(context),
        ProfileCommand::ReadyMade => Ok(Outcome::yes(&ready_made_list(context)?)),
        ProfileCommand::Diff { first, second } => exchange::diff(context, first, second),
        ProfileCommand::Export { profile, as_registry, file } => {
            exchange::export(context, profile, *as_registry, file.as_deref())
        }
        ProfileCommand::Import { files, name } => exchange::import(context, files, name.as_ref()),
        ProfileCommand::Log { profile } => {
            let ledger = context.ledger()?;
            // Asked for by name, so that a profile that is not there is an error.
            ledger.revision(&RevisionName {
                profile: profile.clone(),
                version: frevin_core::profile::Version::Latest,
            })?;
            Ok(Outcome::yes(&LogReport { revisions: ledger.revisions(profile)? }))
        }
        ProfileCommand::Show { revision } => {
            Ok(Outcome::yes(&ShowReport(context.ledger()?.revision(revision)?)))
        }
    }
}

/// A profile of what measuring has shown to help on a PC: the latest word on each tweak with its arguments counts.
pub(crate) fn from_evidence_document(
    context: &Context,
    name: &ProfileName,
    purpose: &str,
    scene: Option<&SceneName>,
) -> Result<String, Failure> {
    let pc = context.pc()?;
    let told = told(context, &*pc, &context.ledger()?, None)?;
    let in_scene =
        |one: &&ToldEvidence| scene.is_none_or(|scene| one.evidence.scene.scene == *scene);
    let mut seen = BTreeSet::new();
    let mut entries = Vec::new();
    let mut scenes = BTreeSet::new();
    for one in told.iter().filter(in_scene) {
        let evidence = &one.evidence;
        if evidence.finding == EvidenceFinding::Unclear || !seen.insert(&evidence.used) {
            continue;
        }
        if evidence.finding != EvidenceFinding::Helps {
            continue;
        }
        scenes.insert(evidence.scene.scene.clone());
        entries.push(Entry {
            tweak: evidence.used.tweak.clone(),
            arguments: evidence.used.arguments.clone().unwrap_or_default(),
            when: None,
            note: Some(format!(
                "{} average FPS in {}, by {} on {}",
                percent(evidence.effect_percent / 100.0),
                evidence.scene.scene,
                origin_in_words(evidence.origin),
                evidence.date
            )),
            span: 0..0,
        });
    }
    if entries.is_empty() {
        let message = "nothing was measured to help on this PC yet";
        return Err(Failure::new(Kind::NotFound, message)
            .hint("`frevin evidence list` shows what is known"));
    }
    let mut scenes = scenes.into_iter();
    let profile = Profile {
        name: name.clone(),
        purpose: purpose.to_owned(),
        scene: match (scenes.next(), scenes.next()) {
            (Some(only), None) => Some(only),
            _ => None,
        },
        builds_on: Vec::new(),
        without: Vec::new(),
        entries,
        while_playing: Vec::new(),
        playing: frevin_core::profile::Playing::default(),
    };
    Ok(profile.to_document())
}

/// A copy of a profile under another name.
fn begun_from(
    context: &Context,
    from: &RevisionName,
    name: &ProfileName,
    catalogue: &Catalogue,
) -> Result<String, Failure> {
    let known = ready_made().into_iter().find(|known| known.name == from.profile);
    let ledger = context.ledger()?;
    let (text, profile) = match (ledger.revision(from), known) {
        (Ok(revision), _) => {
            let profile =
                Profile::parse(&revision.name().to_string(), revision.whole(), catalogue)?;
            (profile.to_document(), profile.name)
        }
        (Err(LedgerError::NoProfile(_)), Some(known)) => (known.document.to_owned(), known.name),
        (Err(error), _) => return Err(error.into()),
    };
    Ok(text.replacen(&format!("name = \"{profile}\""), &format!("name = \"{name}\""), 1))
}

fn ready_made_list(context: &Context) -> Result<ReadyMadeList, Failure> {
    let catalogue = context.catalogue()?;
    let ledger = context.ledger()?;
    let mut profiles = Vec::new();
    for known in ready_made() {
        let ReadDocument { profile, alone, .. } =
            ReadDocument::ready_made(&known, &catalogue, &ledger)?;
        profiles.push(ListedReadyMade {
            name: known.name,
            purpose: profile.purpose,
            builds_on: profile.builds_on.iter().map(|base| base.name.to_string()).collect(),
            tweaks: alone.entries.into_iter().map(|entry| entry.tweak).collect(),
        });
    }
    Ok(ReadyMadeList { profiles })
}

fn check(context: &Context, file: &Path) -> Result<Outcome, Failure> {
    let catalogue = context.catalogue()?;
    let document = read_document(file, &catalogue, &context.ledger()?)?;
    let pc = context.pc_if_named()?;
    let facts = pc.as_ref().map(|pc| context.facts(&**pc)).transpose()?;
    let read = |address: &Address| match pc.as_ref().map(|pc| pc.read(address)) {
        Some(Ok(state)) => state,
        Some(Err(error)) => State::Unreadable(error.to_string()),
        None => State::Absent,
    };
    let against = facts.as_ref().map(|facts| Against { facts, read: &read });
    let own: BTreeSet<&TweakId> =
        document.profile.entries.iter().map(|entry| &entry.tweak).collect();
    let remarks: Vec<PlacedRemark> = remarks(&document.alone, &catalogue, against.as_ref())
        .into_iter()
        .map(|remark| {
            // What was taken over from another profile stands in no line of this one.
            let is_own = own.contains(&remark.tweak);
            let line = is_own.then(|| place_of(&document.text, remark.span.start).line);
            PlacedRemark { line, remark }
        })
        .collect();
    let is_fit = !remarks.iter().any(|placed| placed.remark.kind.is_fault());
    let report = CheckReport {
        profile: document.profile.name,
        tweaks: document.alone.entries.len(),
        remarks,
        against_pc: pc.map(|pc| pc.identity().name.clone()),
    };
    Ok(Outcome::with(&report, is_fit))
}

fn list(context: &Context) -> Result<Outcome, Failure> {
    let catalogue = context.catalogue()?;
    let listed = |latest: Revision| {
        // A revision saved with a catalogue that had other tweaks is still listed.
        let profile = Profile::parse(&latest.name().to_string(), latest.whole(), &catalogue).ok();
        let purpose = profile.as_ref().map(|profile| profile.purpose.clone());
        let tweaks = profile.map(|profile| profile.entries);
        ListedProfile {
            purpose: purpose.unwrap_or_default(),
            tweaks: tweaks.into_iter().flatten().map(|entry| entry.tweak).collect(),
            latest,
        }
    };
    let latest = context.ledger()?.latest_revisions()?;
    Ok(Outcome::yes(&ProfileList { profiles: latest.into_iter().map(listed).collect() }))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<NewReport>("profile new");
    schemas.prints::<CheckReport>("profile check");
    schemas.prints::<profiles::SaveReport>("profile save");
    schemas.prints::<ProfileList>("profile list");
    schemas.prints::<ReadyMadeList>("profile ready-made");
    schemas.prints::<LogReport>("profile log");
    schemas.prints::<ShowReport>("profile show");
    schemas.prints::<profiles::SaveReport>("profile add");
    schemas.prints::<profiles::SaveReport>("profile remove");
    edit::schemas(schemas);
    exchange::schemas(schemas);
}

impl View for NewReport {
    fn show(&self, page: &mut Page) {
        let file = self.file.display();
        page.line(format_args!("{} {file} is a profile to fill in.", good("Done.")));
        page.pairs([
            ("check it", format!("frevin profile check {file}")),
            ("save it", format!("frevin profile save {file}")),
        ]);
    }
}

impl View for CheckReport {
    fn show(&self, page: &mut Page) {
        let against = match &self.against_pc {
            Some(pc) => format!("on {pc}"),
            None => "on no particular PC (say --pc FOLDER)".to_owned(),
        };
        let has_faults = self.remarks.iter().any(|placed| placed.remark.kind.is_fault());
        page.line(format_args!(
            "{} `{}` is a profile of {}, checked {against}.",
            if has_faults { bad("To mend.") } else { good("Good.") },
            self.profile,
            count(self.tweaks, "tweak"),
        ));
        let mut told = BTreeSet::new();
        for placed in &self.remarks {
            let label = match placed.remark.kind {
                kind if kind.is_fault() => bad("mend"),
                RemarkKind::DoesNotFit | RemarkKind::Superseded => dim("left out here"),
                RemarkKind::DoesNothing | RemarkKind::Repeats => dim("no effect"),
                RemarkKind::Protected => bad("protected"),
                _ => warn("note"),
            };
            let tweak = strong(&placed.remark.tweak);
            let place = match placed.line {
                Some(line) => dim(format_args!("line {line}")),
                None => dim("inherited"),
            };
            page.line(format_args!("  {place} {label} {tweak}"));
            page.paragraph(4, &placed.remark.text);
            // The same advice for one tweak after another is said once.
            if told.insert(&placed.remark.mend) {
                page.paragraph(4, &format!("→ {}", placed.remark.mend));
            }
        }
    }
}

impl View for ProfileList {
    fn show(&self, page: &mut Page) {
        if self.profiles.is_empty() {
            page.line("No profiles are saved yet: `frevin profile new NAME` begins one.");
            return;
        }
        let mut table = Table::new(["profile", "saved", ">tweaks", "purpose"]);
        for profile in &self.profiles {
            table.row([
                strong(profile.latest.name()),
                when(profile.latest.saved_at),
                profile.tweaks.len().to_string(),
                profile.purpose.clone(),
            ]);
        }
        page.table(table);
    }
}

impl View for ReadyMadeList {
    fn show(&self, page: &mut Page) {
        let mut table = Table::new(["profile", ">tweaks", "builds on", "purpose"]);
        for profile in &self.profiles {
            table.row([
                strong(&profile.name),
                profile.tweaks.len().to_string(),
                profile.builds_on.join(", "),
                profile.purpose.clone(),
            ]);
        }
        page.table(table);
        page.line("Begin with one: frevin profile new NAME --from PROFILE");
    }
}

impl View for LogReport {
    fn show(&self, page: &mut Page) {
        let mut table = Table::new(["revision", "hash", "saved", "after", "message"]);
        for revision in &self.revisions {
            let parent = revision.parent.map_or_else(String::new, |parent| format!("@{parent}"));
            table.row([
                strong(revision.name()),
                revision.hash.short().to_owned(),
                when(revision.saved_at),
                parent,
                revision.message.clone(),
            ]);
        }
        page.table(table);
    }
}

impl View for ShowReport {
    fn show(&self, page: &mut Page) {
        page.verbatim(&self.0.document);
    }
}
