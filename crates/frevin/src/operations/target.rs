//! What is previewed, applied or tried: a saved profile, a profile document, or tweaks by name.

use std::collections::BTreeSet;
use std::path::Path;

use frevin_core::document::BadDocument;
use frevin_core::facts::Facts;
use frevin_core::preview::{LeftOut, Wish};
use frevin_core::profile::{
    ByHand, Fitting, NoBase, Profile, ProfileName, ReadyMade, RevisionName, Version, fit,
    ready_made, stand_alone,
};
use frevin_core::tweak::{
    Arguments, Catalogue, Parameter, ParameterKind, Tweak, TweakId, check_argument,
};
use frevin_ledger::{Ledger, LedgerError};

use crate::failure::{Failure, Kind};
use crate::strangers_file;

/// What somebody named, as they wrote it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Named {
    /// A profile: NAME, NAME@3, NAME@ and the beginning of a hash, or the path of a document.
    Profile(String),
    /// Tweaks, one or more.
    Tweaks {
        /// Their names.
        ids: Vec<String>,
        /// What is chosen of them: `NAME=VALUE`, and `AREA/NAME:NAME=VALUE` where there are several.
        parameters: Vec<String>,
    },
}

/// What is to be previewed or applied, fitted to a PC.
#[derive(Debug)]
pub(crate) struct Target {
    pub(crate) title: String,
    pub(crate) revision: Option<(ProfileName, u32)>,
    pub(crate) wishes: Vec<Wish>,
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) by_hand: Vec<ByHand>,
}

/// Whether a profile that was never saved will do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Unsaved {
    /// A document may be named instead.
    Allowed,
    /// It has to be saved first, so that what is applied is known for good.
    Refused,
}

/// Finds what is meant and fits it to a PC with these facts. `consents` are the tweaks that the owner
/// lets touch what is protected, as they wrote them.
pub(crate) fn resolve(
    named: &Named,
    consents: &[String],
    catalogue: &Catalogue,
    ledger: &Ledger,
    facts: &Facts,
    unsaved: Unsaved,
) -> Result<Target, Failure> {
    let consents = consents
        .iter()
        .map(|written| Ok(find_tweak(catalogue, written)?.id.clone()))
        .collect::<Result<BTreeSet<_>, Failure>>()?;
    match named {
        Named::Profile(written) => {
            let (profile, revision) = load(written, catalogue, ledger, unsaved)?;
            let fitting = fit(&profile, catalogue, facts, &consents)?;
            let title = match &revision {
                Some((name, number)) => format!("{name}@{number}"),
                None if looks_like_a_file(written) => format!("{} (not saved)", profile.name),
                None => format!("{} (comes with Frevin)", profile.name),
            };
            Ok(Target::of(fitting, title, revision))
        }
        Named::Tweaks { ids, parameters } => {
            let mut fitting = Fitting::default();
            let chosen = find_uses(catalogue, ids, parameters)?;
            for (tweak, arguments) in &chosen {
                refuse_unchosen(tweak, arguments)?;
                fitting.add(tweak, arguments, facts, &consents, tweak.misfits(facts))?;
            }
            let names: Vec<String> = chosen.iter().map(|(tweak, _)| tweak.id.to_string()).collect();
            Ok(Target::of(fitting, title_of(&names), None))
        }
    }
}

/// What tweaks are called together: all of them where they are few.
fn title_of(names: &[String]) -> String {
    const NAMED: usize = 3;
    match names.len().saturating_sub(NAMED) {
        0 => names.join(", "),
        more => format!("{} and {more} more", names[..NAMED].join(", ")),
    }
}

/// The tweaks that somebody wrote the names of, each with what they chose of it.
pub(crate) fn find_uses<'a>(
    catalogue: &'a Catalogue,
    ids: &[String],
    parameters: &[String],
) -> Result<Vec<(&'a Tweak, Arguments)>, Failure> {
    let mut chosen: Vec<(&Tweak, Vec<String>)> = Vec::new();
    for id in ids {
        let tweak = find_tweak(catalogue, id)?;
        if chosen.iter().any(|(other, _)| other.id == tweak.id) {
            let message = format!("`{}` is named twice", tweak.id);
            return Err(Failure::new(Kind::Usage, message)
                .hint("a profile may use a tweak several times, with other choices each time"));
        }
        chosen.push((tweak, Vec::new()));
    }
    for parameter in parameters {
        let before_value = parameter.split('=').next().unwrap_or_default();
        let (of, parameter) = match (before_value.split_once(':'), &mut chosen[..]) {
            (Some((id, _)), chosen) => {
                let tweak = find_tweak(catalogue, id)?;
                let of = chosen.iter_mut().find(|(one, _)| one.id == tweak.id);
                (of, &parameter[id.len() + 1..])
            }
            (None, [only]) => (Some(only), parameter.as_str()),
            (None, _) => {
                let message = format!("of which tweak is `{parameter}`?");
                let first = &ids[0];
                return Err(Failure::new(Kind::Usage, message)
                    .hint(format!("say it with the tweak's name: --set {first}:{parameter}")));
            }
        };
        let Some((_, chosen)) = of else {
            let message = format!("`{parameter}` is of a tweak that is not named with --tweak");
            return Err(Failure::new(Kind::Usage, message));
        };
        chosen.push(parameter.to_owned());
    }
    let uses = chosen.into_iter();
    uses.map(|(tweak, written)| Ok((tweak, parse_arguments(tweak, &written)?))).collect()
}

/// The same for what is held while playing: of a profile its list for that, where it has one.
pub(crate) fn resolve_playing(
    named: &Named,
    consents: &[String],
    catalogue: &Catalogue,
    ledger: &Ledger,
    facts: &Facts,
) -> Result<Target, Failure> {
    let Named::Profile(written) = named else {
        return resolve(named, consents, catalogue, ledger, facts, Unsaved::Refused);
    };
    let consents = consents
        .iter()
        .map(|written| Ok(find_tweak(catalogue, written)?.id.clone()))
        .collect::<Result<BTreeSet<_>, Failure>>()?;
    let (mut profile, revision) = load(written, catalogue, ledger, Unsaved::Refused)?;
    if !profile.while_playing.is_empty() {
        profile.entries = std::mem::take(&mut profile.while_playing);
    }
    let fitting = fit(&profile, catalogue, facts, &consents)?;
    let title = revision
        .as_ref()
        .map_or_else(|| profile.name.to_string(), |(name, number)| format!("{name}@{number}"));
    Ok(Target::of(fitting, title, revision))
}

impl Target {
    /// Nothing at all.
    pub(crate) fn nothing() -> Self {
        Self::of(Fitting::default(), String::new(), None)
    }

    fn of(fitting: Fitting, title: String, revision: Option<(ProfileName, u32)>) -> Self {
        let Fitting { wishes, left_out, by_hand } = fitting;
        Self { title, revision, wishes, left_out, by_hand }
    }
}

/// Refuses a tweak of which something has to be chosen that nobody chose.
fn refuse_unchosen(tweak: &Tweak, arguments: &Arguments) -> Result<(), Failure> {
    let mut open = tweak.to_be_chosen(arguments).peekable();
    let Some((name, _)) = open.peek() else { return Ok(()) };
    let hint = format!("say it with --set {name}=…; `frevin tweak show {}` tells more", tweak.id);
    let message = format!("`{}` does nothing before something is chosen of it", tweak.id);
    let takes = |(name, parameter): (&String, &Parameter)| {
        format!("{name}: {} It takes {}.", parameter.meaning, parameter.range())
    };
    Err(Failure::new(Kind::Usage, message).details(open.map(takes)).hint(hint))
}

/// The tweaks that somebody named, each by its area and name.
pub(crate) fn find_tweaks(
    catalogue: &Catalogue,
    written: &[String],
) -> Result<BTreeSet<TweakId>, Failure> {
    written.iter().map(|written| Ok(find_tweak(catalogue, written)?.id.clone())).collect()
}

/// The arguments that somebody wrote for a tweak, each as `NAME=VALUE`.
pub(crate) fn parse_arguments(tweak: &Tweak, written: &[String]) -> Result<Arguments, Failure> {
    written.iter().map(|written| parse_argument(tweak, written)).collect()
}

fn parse_argument(
    tweak: &Tweak,
    written: &str,
) -> Result<(String, frevin_core::tweak::Argument), Failure> {
    let help = format!("see `frevin tweak show {}`", tweak.id);
    let usage = |message: String| Failure::new(Kind::BadInput, message).hint(&help);
    let (name, value) =
        written.split_once('=').ok_or_else(|| usage(format!("`{written}` is not NAME=VALUE")))?;
    let parameter = tweak.parameters.get(name).ok_or_else(|| {
        let known: Vec<&str> = tweak.parameters.keys().map(String::as_str).collect();
        let has = match &known[..] {
            [] => "it has none".to_owned(),
            known => format!("it has {}", known.join(", ")),
        };
        usage(format!("`{}` has no parameter `{name}`: {has}", tweak.id))
    })?;
    // Numbers, flags and lists are written as in a profile; a bare word is a text.
    let as_in_a_profile = || {
        let mut table = format!("v = {value}").parse::<toml::Table>().ok()?;
        table.remove("v")
    };
    let texts = |value: &str| -> toml::Value {
        value.split(',').map(str::trim).filter(|text| !text.is_empty()).collect::<Vec<_>>().into()
    };
    let value = match (&parameter.kind, as_in_a_profile()) {
        (ParameterKind::Text { .. }, Some(toml::Value::String(text))) => text.into(),
        (ParameterKind::Text { .. }, _) => value.into(),
        (ParameterKind::Names { .. } | ParameterKind::Subset { .. }, None) => texts(value),
        (_, written) => written.unwrap_or_else(|| value.into()),
    };
    let argument = check_argument(name, parameter, &value).map_err(usage)?;
    Ok((name.to_owned(), argument))
}

/// The tweak that somebody wrote the name of.
pub(crate) fn find_tweak<'a>(
    catalogue: &'a Catalogue,
    written: &str,
) -> Result<&'a Tweak, Failure> {
    let found = written.parse().ok().and_then(|id| catalogue.get(&id));
    found.ok_or_else(|| {
        let failure =
            Failure::new(Kind::NotFound, format!("there is no tweak `{written}` in the catalogue"));
        match catalogue.nearest(written) {
            Some(near) => failure.hint(format!("did you mean `{near}`?")),
            None => failure.hint("`frevin tweak list` shows those there are"),
        }
    })
}

type Loaded = (Profile, Option<(ProfileName, u32)>);

/// Loads what somebody named: a saved revision, or a document.
pub(crate) fn load(
    written: &str,
    catalogue: &Catalogue,
    ledger: &Ledger,
    unsaved: Unsaved,
) -> Result<Loaded, Failure> {
    if looks_like_a_file(written) {
        if unsaved == Unsaved::Refused {
            let message = format!("`{written}` is a document, not a saved profile");
            return Err(Failure::new(Kind::Usage, message)
                .hint(format!("save it first: frevin profile save {written}"))
                .hint("what is applied is known for good that way"));
        }
        let document = read_document(Path::new(written), catalogue, ledger)?;
        return Ok((document.alone, None));
    }
    let name: RevisionName = written
        .parse()
        .map_err(|error| Failure::new(Kind::Usage, format!("`{written}`: {error}")))?;
    let revision = match (ledger.revision(&name), ready_made_of(&name)) {
        (Err(LedgerError::NoProfile(_)), Some(known)) if unsaved == Unsaved::Allowed => {
            return Ok((ReadDocument::ready_made(&known, catalogue, ledger)?.alone, None));
        }
        (revision, _) => revision?,
    };
    let profile = Profile::parse(&revision.name().to_string(), revision.whole(), catalogue)?;
    Ok((profile, Some((revision.profile, revision.number))))
}

/// The profile of that name that comes with Frevin.
pub(crate) fn ready_made_of(name: &RevisionName) -> Option<ReadyMade> {
    let is_latest = name.version == Version::Latest;
    ready_made().into_iter().find(|known| is_latest && known.name == name.profile)
}

fn looks_like_a_file(written: &str) -> bool {
    written.ends_with(".toml") || written.contains(['/', '\\'])
}

/// A profile document that was read.
pub(crate) struct ReadDocument {
    pub(crate) text: String,
    /// What it says.
    pub(crate) profile: Profile,
    /// The same with what it builds on taken over.
    pub(crate) alone: Profile,
}

impl ReadDocument {
    /// Reads the text of a document, which `name` is for messages.
    pub(crate) fn parse(
        name: &str,
        text: String,
        catalogue: &Catalogue,
        ledger: &Ledger,
    ) -> Result<Self, Failure> {
        let profile = Profile::parse(name, &text, catalogue)?;
        let alone = stand_alone(name, &text, &profile, &mut bases(ledger, catalogue))?;
        Ok(Self { text, profile, alone })
    }

    /// The same of a profile that comes with Frevin.
    pub(crate) fn ready_made(
        known: &ReadyMade,
        catalogue: &Catalogue,
        ledger: &Ledger,
    ) -> Result<Self, Failure> {
        Self::parse(known.name.as_str(), known.document.to_owned(), catalogue, ledger)
    }
}

/// Finds the profiles that others build on: those saved in the ledger, then those ready made.
pub(crate) fn bases<'a>(
    ledger: &'a Ledger,
    catalogue: &'a Catalogue,
) -> impl FnMut(&RevisionName) -> Result<Profile, NoBase> + 'a {
    move |name| {
        let broken = |error: BadDocument| NoBase::Broken(error.to_string());
        match ledger.revision(name) {
            Ok(revision) => {
                let name = revision.name().to_string();
                return Profile::parse(&name, revision.whole(), catalogue).map_err(broken);
            }
            Err(LedgerError::NoProfile(_)) => {}
            Err(LedgerError::NoRevision(_)) => return Err(NoBase::Unknown),
            Err(other) => return Err(NoBase::Broken(other.to_string())),
        }
        let known = ready_made().into_iter().find(|known| known.name == name.profile);
        match known {
            Some(known) if name.version == Version::Latest => {
                Profile::parse(known.name.as_str(), known.document, catalogue).map_err(broken)
            }
            _ => Err(NoBase::Unknown),
        }
    }
}

/// Reads a profile document from a file.
pub(crate) fn read_document(
    path: &Path,
    catalogue: &Catalogue,
    ledger: &Ledger,
) -> Result<ReadDocument, Failure> {
    /// No profile is that long; what is, is something else.
    const LONGEST_BYTES: u64 = 1 << 20;
    let name = path.display().to_string();
    let text = strangers_file::read_text(path, LONGEST_BYTES, "profile")
        .map_err(|failure| failure.hint("`frevin profile new NAME` makes a profile's TOML file"))?;
    ReadDocument::parse(&name, text, catalogue, ledger)
}
