//! Profiles against each other, out to others and in from them.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use frevin_core::facts::Facts;
use frevin_core::pack::{self, Pack, PackContent, PackFile, kept_in_registry};
use frevin_core::plain_text::in_one_line;
use frevin_core::preview::{LeftOut, Wish};
use frevin_core::profile::{
    Profile, ProfileName, Remark, RemarkKind, Version, WantedBy, WishDifference, fit, ready_made,
    remarks, stand_alone, wish_differences, without_private,
};
use frevin_core::registry_text;
use frevin_core::script_text::{self, ScriptLanguage};
use frevin_core::setting::PowerSource;
use frevin_core::tweak::{Catalogue, TweakId};
use frevin_ledger::Ledger;
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::super::output::Output;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::profiles::{SaveReport, save_text};
use crate::operations::target::{ReadDocument, Unsaved, bases, load, read_document};
use crate::outcome::{Outcome, View};
use crate::own_tweaks;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::strangers_file;
use crate::view::{Page, Table, bad, count, dim, short, shown, strong, warn};

/// No file of a pack is that long, in bytes.
const LONGEST_BYTES: u64 = 8 << 20;

#[derive(Debug, JsonSchema, Serialize)]
struct DiffReport {
    first: String,
    second: String,
    on: String,
    settings: Vec<WishDifference>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ExportReport {
    #[serde(flatten)]
    output: Output,
    /// What was taken out because it is private.
    taken_out: Vec<String>,
    /// Settings that are no registry values, and so are not in registry text.
    not_registry: Vec<String>,
    /// Tweaks that are not in registry text, since they do not fit the PC that it was written on.
    left_out: Vec<LeftOut>,
    /// Definitions of own tweaks that went along.
    definitions: Vec<TweakId>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ImportReport {
    saved: SaveReport,
    /// What a pack of registry files came to, where it was one.
    #[serde(flatten)]
    pack: Option<ImportedPack>,
    /// What is to be known of a profile before it is previewed.
    remarks: Vec<Remark>,
    /// Tweaks that came along with it, and are the owner's own from now on.
    definitions: Vec<TweakId>,
}

#[derive(Debug, JsonSchema, Serialize)]
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
fn facts_here(context: &Context) -> Result<(Facts, String), Failure> {
    match context.pc_if_named()? {
        Some(pc) => Ok((context.facts(&*pc)?, pc.identity().name.clone())),
        None => Ok((Facts::reference(), "an unremarkable desktop".to_owned())),
    }
}

pub(super) fn diff(context: &Context, first: &str, second: &str) -> Result<Outcome, Failure> {
    let catalogue = context.catalogue()?;
    let ledger = context.ledger()?;
    let (facts, on) = facts_here(context)?;
    let wishes = |written: &str| -> Result<Vec<Wish>, Failure> {
        let profile = find(written, &catalogue, &ledger)?;
        Ok(fit(&profile, &catalogue, &facts, &Default::default())?.wishes)
    };
    let settings = wish_differences(&wishes(first)?, &wishes(second)?);
    let is_same = settings.is_empty();
    let (first, second) = (first.to_owned(), second.to_owned());
    Ok(Outcome::with(&DiffReport { first, second, on, settings }, is_same))
}

pub(super) fn export(
    context: &Context,
    written: &str,
    as_registry: bool,
    file: Option<&Path>,
) -> Result<Outcome, Failure> {
    let catalogue = context.catalogue()?;
    let ledger = context.ledger()?;
    let profile = find(written, &catalogue, &ledger)?;
    let (mut taken_out, mut not_registry) = (Vec::new(), Vec::new());
    let (mut left_out, mut definitions) = (Vec::new(), Vec::new());
    let (text, bytes) = if as_registry {
        let (mut facts, _) = facts_here(context)?;
        // What the exporter's PC runs on at the moment is nothing to whoever gets the file.
        facts.power_source = PowerSource::Mains;
        let fitting = fit(&profile, &catalogue, &facts, &Default::default())?;
        left_out = fitting.left_out;
        let wishes = fitting.wishes;
        let mut settings = Vec::new();
        for wanted in wishes.into_iter().flat_map(|wish| wish.settings) {
            match kept_in_registry(&wanted.address, &wanted.state) {
                Some(kept) => settings.extend(kept),
                None if wanted.address.kind() == "registry" => {
                    settings.push((wanted.address, wanted.state));
                }
                None => not_registry.push(wanted.address.to_string()),
            }
        }
        let text = registry_text::write(settings.iter().map(|(at, state)| (at, state)));
        let bytes = registry_text::encode(&text);
        (text, bytes)
    } else {
        let own = own_definitions(context, &profile, &catalogue)?;
        let mut document = profile.to_document();
        for (id, text) in own {
            document.push_str(&format!("\n# The tweak {id}, which does not come with Frevin\n"));
            let table = toml::Table::from_iter([("text".to_owned(), text.into())]);
            let table = toml::to_string(&table)
                .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
            document.push_str(&format!("[[definitions]]\n{table}"));
            definitions.push(id);
        }
        let (clean, private) = without_private(&document, &private_words(context)?);
        taken_out = private;
        (clean.clone(), clean.into_bytes())
    };
    let output = Output::write(file, text, &bytes)?;
    Ok(Outcome::yes(&ExportReport { output, taken_out, not_registry, left_out, definitions }))
}

/// The definitions of the own tweaks that a profile uses, each once.
fn own_definitions(
    context: &Context,
    profile: &Profile,
    catalogue: &Catalogue,
) -> Result<Vec<(TweakId, String)>, Failure> {
    let entries = profile.entries.iter().chain(&profile.while_playing);
    let used: BTreeSet<&TweakId> = entries.map(|entry| &entry.tweak).collect();
    let is_own = |id: &&&TweakId| catalogue.get(id).is_some_and(|tweak| tweak.is_own);
    let texts = own_tweaks::read(&context.own_tweaks())?;
    let mut found = Vec::new();
    for id in used.iter().filter(is_own) {
        let says_so = |(_, text): &&(String, String)| id_of(text).as_ref() == Some(*id);
        if let Some((_, text)) = texts.iter().find(says_so) {
            found.push(((*id).clone(), text.clone()));
        }
    }
    Ok(found)
}

/// The name that a definition gives its tweak.
fn id_of(definition: &str) -> Option<TweakId> {
    definition.parse::<toml::Table>().ok()?.get("id")?.as_str()?.parse().ok()
}

/// The names of the user and the PC, which nobody else needs to know.
pub(crate) fn private_words(context: &Context) -> Result<Vec<String>, Failure> {
    let from_environment = ["USERNAME", "USER", "LOGNAME", "COMPUTERNAME", "HOSTNAME"]
        .into_iter()
        .filter_map(|name| std::env::var(name).ok());
    let pc = context.pc_if_named()?.map(|pc| pc.identity().name.clone());
    let mut words: Vec<String> = from_environment.chain(pc).collect();
    // These are the names of nobody.
    words.retain(|word| !["root", "user", "administrator"].contains(&word.to_lowercase().as_str()));
    Ok(words)
}

pub(super) fn import(
    context: &Context,
    files: &[PathBuf],
    name: Option<&ProfileName>,
) -> Result<Outcome, Failure> {
    let is_of_pack = |path: &PathBuf| {
        let ending = path.extension().unwrap_or_default().to_string_lossy();
        ending.eq_ignore_ascii_case("reg") || ScriptLanguage::of_ending(&ending).is_some()
    };
    match files {
        _ if files.iter().all(is_of_pack) => import_pack(context, files, name),
        [file] => import_profile(context, file, name),
        _ => Err(Failure::new(Kind::Usage, "these files do not belong together").hint(
            "name one profile document (.toml), or any number of registry files (.reg) and scripts \
             (.bat, .cmd, .ps1)",
        )),
    }
}

fn import_profile(
    context: &Context,
    file: &Path,
    name: Option<&ProfileName>,
) -> Result<Outcome, Failure> {
    let mut ledger = context.ledger()?;
    let mut definitions = definitions_in(file)?;
    let known = own_tweaks::read(&context.own_tweaks())?;
    // One that is here already, to the letter, is not added again.
    definitions.retain(|(_, text)| !known.iter().any(|(_, other)| other == text));
    let catalogue = {
        let name = |id: &TweakId| format!("{}: tweaks/{id}.toml", file.display());
        let new = definitions.iter().map(|(id, text)| (name(id), text.clone()));
        let all: Vec<(String, String)> = known.into_iter().chain(new).collect();
        let all = all.iter().map(|(name, text)| (name.as_str(), text.as_str()));
        Catalogue::built_in()?.with_own(all)?
    };
    let mut document = read_document(file, &catalogue, &ledger)?;
    if let Some(name) = name {
        document.profile.name = name.clone();
        document.text = document.profile.to_document();
        document.alone.name = name.clone();
    }
    refuse_known(&ledger, &document.profile.name)?;
    own_tweaks::add(&context.own_tweaks(), &definitions)?;
    let remarks = remarks_of_a_stranger(&document.alone, &catalogue);
    let definitions = definitions.into_iter().map(|(id, _)| id).collect();
    let saved = save_text(context, &mut ledger, &document, &imported_from(&[file]))?;
    Ok(Outcome::done(&ImportReport { saved, pack: None, remarks, definitions }))
}

/// The definitions of tweaks that came along in a document.
fn definitions_in(file: &Path) -> Result<Vec<(TweakId, String)>, Failure> {
    // What is no document, or is too long, is told by who reads it whole.
    let text = strangers_file::read_text(file, LONGEST_BYTES, "profile").ok();
    let Some(table) = text.and_then(|text| text.parse::<toml::Table>().ok()) else {
        return Ok(Vec::new());
    };
    let listed = table.get("definitions").and_then(toml::Value::as_array);
    let texts = listed.into_iter().flatten().filter_map(|one| one.get("text")?.as_str());
    texts
        .map(|text| {
            let id = id_of(text).ok_or_else(|| {
                let message = format!("{}: a definition in it is no tweak", file.display());
                Failure::new(Kind::BadInput, message).hint("nothing was taken in")
            })?;
            Ok((id, text.to_owned()))
        })
        .collect()
}

/// What the owner has to know of a stranger's profile before it is previewed: what does nothing or harm,
/// and what touches what is protected.
fn remarks_of_a_stranger(profile: &Profile, catalogue: &Catalogue) -> Vec<Remark> {
    let mut remarks = remarks(profile, catalogue, None);
    remarks.retain(|remark| {
        matches!(
            remark.kind,
            RemarkKind::PoorStanding | RemarkKind::Protected | RemarkKind::Conflict
        )
    });
    remarks
}

fn import_pack(
    context: &Context,
    files: &[PathBuf],
    name: Option<&ProfileName>,
) -> Result<Outcome, Failure> {
    let catalogue = context.catalogue()?;
    let mut ledger = context.ledger()?;
    let name = match name {
        Some(name) => name.clone(),
        None => name_of(&files[0])?,
    };
    refuse_known(&ledger, &name)?;
    let (facts, _) = facts_here(context)?;
    let plan = facts.power.plan_in_force;
    let read =
        files.iter().map(|file| read_file(file, plan)).collect::<Result<Vec<_>, Failure>>()?;
    let pack = pack::read(&read, &catalogue, &facts);
    let made = pack::documents(&name, &pack);
    if made.profile.entries.is_empty() && made.left_out.is_empty() {
        return Err(Failure::new(Kind::BadInput, "nothing can be made of these files")
            .details(pack.unusable.iter().map(|u| format!("{}: {}", u.line, u.reason))));
    }
    let tweaks: Vec<TweakId> = made.tweaks.iter().map(|(id, _)| id.clone()).collect();
    own_tweaks::add(&context.own_tweaks(), &made.tweaks)?;
    let text = made.profile.to_document();
    let document = ReadDocument { text, alone: made.profile.clone(), profile: made.profile };
    let paths: Vec<&Path> = files.iter().map(PathBuf::as_path).collect();
    let saved = save_text(context, &mut ledger, &document, &imported_from(&paths))?;
    let pack = ImportedPack { pack, tweaks, left_out: made.left_out };
    let (remarks, definitions) = (Vec::new(), Vec::new());
    Ok(Outcome::done(&ImportReport { saved, pack: Some(pack), remarks, definitions }))
}

fn read_file(file: &Path, plan_in_force: Option<Uuid>) -> Result<PackFile, Failure> {
    let shown = file.display();
    let bytes = strangers_file::read(file, LONGEST_BYTES, "pack")?;
    let ending = file.extension().unwrap_or_default().to_string_lossy();
    let content = match ScriptLanguage::of_ending(&ending) {
        Some(language) => {
            let text = registry_text::decode(&bytes).ok_or_else(|| {
                Failure::new(Kind::BadInput, format!("{shown} is no text"))
                    .hint("nothing was taken in")
            })?;
            PackContent::Script(script_text::read(&text, language, plan_in_force))
        }
        None => PackContent::Registry(
            registry_text::read(&bytes)
                .map_err(|error| Failure::new(Kind::BadInput, format!("{shown}: {error}")))?,
        ),
    };
    // The name goes into comments and messages: it is a line of text there, whatever it holds.
    let name = file.file_name().unwrap_or_default().to_string_lossy();
    Ok(PackFile { name: in_one_line(&name).into_owned(), content })
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
        .map(|name| in_one_line(&name.to_string_lossy()).into_owned())
        .collect();
    format!("imported from {}", names.join(", "))
}

/// What comes from others never becomes a revision of the owner's own profile unasked.
fn refuse_known(ledger: &Ledger, name: &ProfileName) -> Result<(), Failure> {
    let latest =
        frevin_core::profile::RevisionName { profile: name.clone(), version: Version::Latest };
    let of_frevin = ready_made().iter().any(|known| known.name == *name);
    let message = match ledger.revision(&latest) {
        _ if of_frevin => format!("`{name}` is a profile that comes with Frevin"),
        Ok(_) => format!("there is a profile `{name}` already"),
        Err(_) => return Ok(()),
    };
    Err(Failure::new(Kind::BadInput, message)
        .hint("nothing was changed; give this one another name with --name"))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<DiffReport>("profile diff");
    schemas.prints::<ExportReport>("profile export");
    schemas.prints::<ImportReport>("profile import");
}

impl View for DiffReport {
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
                    format!("{} {}", shown(&wanted.state), dim(format_args!("({})", wanted.used)))
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

impl View for ExportReport {
    fn show(&self, page: &mut Page) {
        self.output.show(page);
        if self.output.is_in_a_file() {
            self.show_left_out(page);
        }
    }

    fn show_aside(&self, page: &mut Page) {
        // With the text on standard output, remarks would become part of it.
        if !self.output.is_in_a_file() {
            self.show_left_out(page);
        }
    }
}

impl ExportReport {
    fn show_left_out(&self, page: &mut Page) {
        for taken in &self.taken_out {
            page.line(format_args!("{} {taken}", warn("taken out as private:")));
        }
        for address in &self.not_registry {
            page.line(format_args!("{} {address}", warn("not in the registry, left out:")));
        }
        for left in &self.left_out {
            let reasons = left.reasons.join("; ");
            page.line(format_args!("{} {}: {reasons}", warn("left out:"), left.used));
        }
        for id in &self.definitions {
            page.line(format_args!("{} {id}", dim("with its definition:")));
        }
    }
}

impl View for ImportReport {
    fn show(&self, page: &mut Page) {
        self.saved.show(page);
        for id in &self.definitions {
            page.line(format_args!("{id} came along, and is one of your own tweaks now."));
        }
        for remark in &self.remarks {
            page.paragraph_in(0, warn, &format!("{}: {}", remark.tweak, remark.text));
        }
        if self.pack.is_none() {
            let profile = &self.saved.revision.profile;
            page.line(format_args!("Look at it before you apply it: frevin preview {profile}"));
        }
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
