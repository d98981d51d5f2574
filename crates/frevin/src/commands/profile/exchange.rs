//! Profiles against each other, out to others and in from them.

use std::path::{Path, PathBuf};

use frevin_core::facts::Facts;
use frevin_core::pack::{self, Pack, PackFile};
use frevin_core::preview::Wish;
use frevin_core::profile::{
    Profile, ProfileName, Version, WantedBy, WishDifference, fit, ready_made, stand_alone,
    wish_differences, without_private,
};
use frevin_core::registry_text;
use frevin_core::tweak::{Catalogue, TweakId};
use frevin_ledger::Ledger;
use serde::Serialize;

use super::super::output::Output;
use super::super::target::{Unsaved, bases, load};
use super::{ReadDocument, SaveReport, read_document, save_text};
use crate::failure::{Failure, Kind};
use crate::own_tweaks;
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, bad, count, dim, short, shown, strong, warn};

/// No file of a pack is that long, in bytes.
const LONGEST_BYTES: u64 = 8 << 20;

#[derive(Debug, Serialize)]
struct DiffReport {
    first: String,
    second: String,
    on: String,
    settings: Vec<WishDifference>,
}

#[derive(Debug, Serialize)]
struct ExportReport {
    #[serde(flatten)]
    output: Output,
    /// What was taken out because it is private.
    taken_out: Vec<String>,
    /// Settings that are no registry values, and so are not in registry text.
    not_registry: Vec<String>,
}

#[derive(Debug, Serialize)]
struct ImportReport {
    saved: SaveReport,
    /// What a pack of registry files came to, where it was one.
    #[serde(flatten)]
    pack: Option<ImportedPack>,
}

#[derive(Debug, Serialize)]
struct ImportedPack {
    #[serde(flatten)]
    pack: Pack,
    /// Tweaks that were made of it.
    tweaks: Vec<TweakId>,
    /// Those of them that the profile leaves out, since they touch what is protected.
    left_out: Vec<TweakId>,
}

/// A profile that somebody named: saved, a document, or ready made.
fn find(written: &str, catalogue: &Catalogue, ledger: &Ledger) -> Result<Profile, Failure> {
    match load(written, catalogue, ledger, Unsaved::Allowed) {
        Ok((profile, _)) => Ok(profile),
        Err(failure) => {
            let known = ready_made().into_iter().find(|known| known.name.as_str() == written);
            let Some(known) = known else { return Err(failure) };
            let profile = Profile::parse(written, known.document, catalogue)?;
            let mut bases = bases(ledger, catalogue);
            Ok(stand_alone(written, known.document, &profile, &mut bases)?)
        }
    }
}

/// The facts of the PC that is meant, or of an unremarkable one; and what that is called.
fn facts_here(session: &Session) -> Result<(Facts, String), Failure> {
    match session.pc_if_named()? {
        Some(pc) => Ok((session.facts(&*pc)?, pc.identity().name.clone())),
        None => Ok((Facts::sample(), "an unremarkable desktop".to_owned())),
    }
}

pub(super) fn diff(session: &Session, first: &str, second: &str) -> Result<Answer, Failure> {
    let catalogue = session.catalogue()?;
    let ledger = session.ledger()?;
    let (facts, on) = facts_here(session)?;
    let wishes = |written: &str| -> Result<Vec<Wish>, Failure> {
        let profile = find(written, &catalogue, &ledger)?;
        Ok(fit(&profile, &catalogue, &facts, &Default::default())?.wishes)
    };
    let settings = wish_differences(&wishes(first)?, &wishes(second)?);
    let is_same = settings.is_empty();
    let (first, second) = (first.to_owned(), second.to_owned());
    Ok(Answer::with(&DiffReport { first, second, on, settings }, is_same))
}

pub(super) fn export(
    session: &Session,
    written: &str,
    as_registry: bool,
    file: Option<&Path>,
) -> Result<Answer, Failure> {
    let catalogue = session.catalogue()?;
    let ledger = session.ledger()?;
    let profile = find(written, &catalogue, &ledger)?;
    let (mut taken_out, mut not_registry) = (Vec::new(), Vec::new());
    let (text, bytes) = if as_registry {
        let (facts, _) = facts_here(session)?;
        let wishes = fit(&profile, &catalogue, &facts, &Default::default())?.wishes;
        let settings: Vec<_> = wishes.iter().flat_map(|wish| &wish.settings).collect();
        let others = settings.iter().filter(|wanted| wanted.address.kind() != "registry");
        not_registry.extend(others.map(|wanted| wanted.address.to_string()));
        let text = registry_text::write(settings.iter().map(|w| (&w.address, &w.state)));
        let bytes = registry_text::encode(&text);
        (text, bytes)
    } else {
        let (clean, private) = without_private(&profile.to_document(), &private_words(session)?);
        taken_out = private;
        (clean.clone(), clean.into_bytes())
    };
    let output = Output::write(file, text, &bytes)?;
    Ok(Answer::yes(&ExportReport { output, taken_out, not_registry }))
}

/// The names of the user and the PC, which nobody else needs to know.
fn private_words(session: &Session) -> Result<Vec<String>, Failure> {
    let from_environment = ["USERNAME", "USER", "LOGNAME", "COMPUTERNAME", "HOSTNAME"]
        .into_iter()
        .filter_map(|name| std::env::var(name).ok());
    let pc = session.pc_if_named()?.map(|pc| pc.identity().name.clone());
    let mut words: Vec<String> = from_environment.chain(pc).collect();
    // These are the names of nobody.
    words.retain(|word| !["root", "user", "administrator"].contains(&word.to_lowercase().as_str()));
    Ok(words)
}

pub(super) fn import(
    session: &Session,
    files: &[PathBuf],
    name: Option<&ProfileName>,
) -> Result<Answer, Failure> {
    let is_registry =
        |path: &PathBuf| path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("reg"));
    match files {
        _ if files.iter().all(is_registry) => import_pack(session, files, name),
        [file] => import_profile(session, file, name),
        _ => Err(Failure::new(Kind::Usage, "these files do not belong together")
            .hint("name one profile document (.toml), or any number of registry files (.reg)")),
    }
}

fn import_profile(
    session: &Session,
    file: &Path,
    name: Option<&ProfileName>,
) -> Result<Answer, Failure> {
    let catalogue = session.catalogue()?;
    let mut ledger = session.ledger()?;
    let mut document = read_document(file, &catalogue, &ledger)?;
    if let Some(name) = name {
        document.profile.name = name.clone();
        document.text = document.profile.to_document();
        document.alone.name = name.clone();
    }
    refuse_known(&ledger, &document.profile.name)?;
    let saved = save_text(session, &mut ledger, &document, &imported_from(&[file]))?;
    Ok(Answer::done(&ImportReport { saved, pack: None }))
}

fn import_pack(
    session: &Session,
    files: &[PathBuf],
    name: Option<&ProfileName>,
) -> Result<Answer, Failure> {
    let catalogue = session.catalogue()?;
    let mut ledger = session.ledger()?;
    let read = files.iter().map(|file| read_registry(file)).collect::<Result<Vec<_>, Failure>>()?;
    let name = match name {
        Some(name) => name.clone(),
        None => name_of(&files[0])?,
    };
    refuse_known(&ledger, &name)?;
    let (facts, _) = facts_here(session)?;
    let pack = pack::read(&read, &catalogue, &facts);
    let made = pack::documents(&name, &pack);
    if made.profile.entries.is_empty() && made.left_out.is_empty() {
        return Err(Failure::new(Kind::BadInput, "nothing can be made of these files")
            .details(pack.unusable.iter().map(|u| format!("{}: {}", u.line, u.reason))));
    }
    let tweaks: Vec<TweakId> = made.tweaks.iter().map(|(id, _)| id.clone()).collect();
    own_tweaks::add(&session.own_tweaks(), &made.tweaks)?;
    let text = made.profile.to_document();
    let document = ReadDocument { text, alone: made.profile.clone(), profile: made.profile };
    let paths: Vec<&Path> = files.iter().map(PathBuf::as_path).collect();
    let saved = save_text(session, &mut ledger, &document, &imported_from(&paths))?;
    let pack = ImportedPack { pack, tweaks, left_out: made.left_out };
    Ok(Answer::done(&ImportReport { saved, pack: Some(pack) }))
}

fn read_registry(file: &Path) -> Result<PackFile, Failure> {
    let shown = file.display();
    let not_there = |error: std::io::Error| {
        Failure::new(Kind::NotFound, format!("{shown} cannot be read: {error}"))
    };
    let length = std::fs::metadata(file).map_err(not_there)?.len();
    if length > LONGEST_BYTES {
        let message = format!("{shown} is {length} bytes long; no pack is");
        return Err(Failure::new(Kind::BadInput, message));
    }
    let bytes = std::fs::read(file).map_err(not_there)?;
    let text = registry_text::read(&bytes)
        .map_err(|error| Failure::new(Kind::BadInput, format!("{shown}: {error}")))?;
    let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    Ok(PackFile { name, text })
}

/// A profile's name made of a file's.
fn name_of(file: &Path) -> Result<ProfileName, Failure> {
    let stem = file.file_stem().unwrap_or_default().to_string_lossy().to_lowercase();
    let name: String =
        stem.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).take(50).collect();
    let name = name.trim_matches('-').to_owned();
    name.parse().map_err(|_| {
        Failure::new(
            Kind::Usage,
            format!("no name for the profile can be made of {}", file.display()),
        )
        .hint("say --name NAME")
    })
}

fn imported_from(files: &[&Path]) -> String {
    let names: Vec<_> = files
        .iter()
        .filter_map(|file| file.file_name())
        .map(|name| name.to_string_lossy())
        .collect();
    format!("imported from {}", names.join(", "))
}

/// What comes from others never becomes a revision of the owner's own profile unasked.
fn refuse_known(ledger: &Ledger, name: &ProfileName) -> Result<(), Failure> {
    let latest =
        frevin_core::profile::RevisionName { profile: name.clone(), version: Version::Latest };
    if ledger.revision(&latest).is_ok() {
        return Err(Failure::new(Kind::BadInput, format!("there is a profile `{name}` already"))
            .hint("nothing was changed; give this one another name with --name"));
    }
    Ok(())
}

impl Report for DiffReport {
    fn show(&self, page: &mut Page) {
        if self.settings.is_empty() {
            page.line(format_args!(
                "{} and {} want the same on {}.",
                self.first, self.second, self.on
            ));
            return;
        }
        let settings = count(self.settings.len(), "setting");
        let (first, second) = (strong(&self.first), strong(&self.second));
        page.line(format_args!("{settings} differ between {first} and {second} on {}.", self.on));
        let mut table = Table::new(["setting", "first", "second"]);
        for difference in &self.settings {
            let side = |wanted: &Option<WantedBy>| match wanted {
                Some(wanted) => {
                    format!("{} {}", shown(&wanted.state), dim(format_args!("({})", wanted.tweak)))
                }
                None => dim("leaves it alone"),
            };
            table.row([
                short(&difference.address),
                side(&difference.first),
                side(&difference.second),
            ]);
        }
        page.table(table);
    }
}

impl Report for ExportReport {
    fn show(&self, page: &mut Page) {
        self.output.show(page);
        // With the text on standard output, remarks would become part of it.
        if self.output.is_in_a_file() {
            for taken in &self.taken_out {
                page.line(format_args!("{} {taken}", warn("taken out as private:")));
            }
            for address in &self.not_registry {
                page.line(format_args!("{} {address}", warn("not in the registry, left out:")));
            }
        }
    }
}

impl Report for ImportReport {
    fn show(&self, page: &mut Page) {
        self.saved.show(page);
        let Some(imported) = &self.pack else { return };
        if !imported.pack.recognised.is_empty() {
            page.heading("The catalogue knows");
            let mut table = Table::new(["tweak", "title", "standing", "from"]);
            for known in &imported.pack.recognised {
                table.row([
                    strong(&known.tweak),
                    known.title.clone(),
                    known.standing.to_string(),
                    known.lines.first().cloned().unwrap_or_default(),
                ]);
            }
            page.table(table);
        }
        if !imported.pack.plain.is_empty() {
            page.heading("Kept as plain settings, which nobody has checked");
            for plain in &imported.pack.plain {
                let (line, state) = (dim(&plain.line), shown(&plain.state));
                page.line(format_args!("  {line} {} = {state}", plain.address));
                if let Some(why) = plain.protected {
                    page.line(format_args!("    {} it {why}", bad("protected:")));
                }
                plain.remarks.iter().for_each(|remark| page.paragraph(4, remark));
            }
        }
        if !imported.pack.unusable.is_empty() {
            page.heading("Nothing was made of");
            for unusable in &imported.pack.unusable {
                page.line(format_args!("  {}", dim(&unusable.line)));
                page.paragraph(4, &unusable.reason);
            }
        }
        page.blank();
        for tweak in &imported.left_out {
            page.line(warn(format_args!(
                "The profile leaves {tweak} out: it touches what is protected."
            )));
        }
        page.line(format_args!(
            "Look at it before you apply it: frevin preview {}",
            self.saved.revision.profile
        ));
    }
}
