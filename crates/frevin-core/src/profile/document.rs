//! The profile document: TOML in, a checked [`Profile`] or every problem found out.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::str::FromStr;

use serde::Deserialize;
use serde_json::json;
use toml::Spanned;

use super::playing::{Playing, PlayingDocument};
use super::revision::RevisionName;
use crate::document::{BadDocument, Problem, nearest};
use crate::expression::Expression;
use crate::facts::Facts;
use crate::ids::{NameError, ProfileName, SceneName};
use crate::plain_text::in_one_line;
use crate::setting::{Address, State};
use crate::tweak::{Arguments, Catalogue, TweakId, TweakUse, check_argument};

/// The one version of the document format so far.
const FORMAT: i64 = 1;

/// One use of a tweak in a profile.
#[derive(Debug, Clone, PartialEq)]
pub struct Entry {
    /// The tweak.
    pub tweak: TweakId,
    /// What was chosen about it; what was not is left to the tweak's defaults.
    pub arguments: Arguments,
    /// Only on PCs where this holds, over `facts`.
    pub when: Option<Expression>,
    /// Why it is part of the profile.
    pub note: Option<String>,
    /// Where it stands in the document, in bytes.
    pub span: Range<usize>,
}

/// A list of tweaks with parameters, for a purpose.
#[derive(Debug, Clone, PartialEq)]
pub struct Profile {
    /// Its name.
    pub name: ProfileName,
    /// What it is for.
    pub purpose: String,
    /// The scene it is measured in, if it says so.
    pub scene: Option<SceneName>,
    /// The profiles whose tweaks it takes over, in order.
    pub builds_on: Vec<Base>,
    /// Tweaks of those that it does without.
    pub without: Vec<Without>,
    /// Its own tweaks in order.
    pub entries: Vec<Entry>,
    /// Tweaks that are held only while a game runs.
    pub while_playing: Vec<Entry>,
    /// What is held then of the game's process and around it.
    pub playing: Playing,
}

/// A profile that another builds on.
#[derive(Debug, Clone, PartialEq)]
pub struct Base {
    /// Which one.
    pub name: RevisionName,
    /// Where it stands in the document, in bytes.
    pub span: Range<usize>,
}

/// A tweak that a profile does without.
#[derive(Debug, Clone, PartialEq)]
pub struct Without {
    /// Which one.
    pub tweak: TweakId,
    /// Where it stands in the document, in bytes.
    pub span: Range<usize>,
}

/// More than anybody writes, and few enough to tell a problem for each.
const MOST_ENTRIES: usize = 1000;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Document {
    format: Spanned<i64>,
    name: Spanned<String>,
    purpose: String,
    scene: Option<Spanned<String>>,
    #[serde(default)]
    builds_on: Vec<Spanned<String>>,
    #[serde(default)]
    without: Vec<Spanned<String>>,
    #[serde(default)]
    tweaks: Vec<Spanned<EntryDocument>>,
    #[serde(default)]
    while_playing: Vec<Spanned<EntryDocument>>,
    playing: Option<PlayingDocument>,
    /// Definitions of own tweaks that came along. Whoever takes the document in has added them to the
    /// catalogue by now, or the tweaks are unknown.
    #[serde(default, rename = "definitions")]
    _definitions: Vec<DefinitionDocument>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct DefinitionDocument {
    #[serde(rename = "text")]
    _text: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct EntryDocument {
    #[serde(rename = "use")]
    tweak: Spanned<String>,
    #[serde(default)]
    with: BTreeMap<Spanned<String>, Spanned<toml::Value>>,
    when: Option<Spanned<String>>,
    note: Option<String>,
}

impl Profile {
    /// Reads a profile document. `name` is how the reader knows the text, for messages.
    ///
    /// # Errors
    /// [`BadDocument`] with every problem found: not TOML, an unknown key, tweak, parameter or
    /// choice, a number out of range, a condition with unknown names, a tweak listed twice.
    pub fn parse(name: &str, text: &str, catalogue: &Catalogue) -> Result<Self, BadDocument> {
        let document: Document =
            toml::from_str(text).map_err(|error| BadDocument::from_toml(name, text, &error))?;
        let listed = [
            document.tweaks.len(),
            document.while_playing.len(),
            document.without.len(),
            document.builds_on.len(),
        ];
        if listed.into_iter().any(|listed| listed > MOST_ENTRIES) {
            let message = format!("a list of a profile holds at most {MOST_ENTRIES} entries");
            let at = document.format.span();
            return Err(BadDocument::new(name, text, vec![Problem::at(at, message)]));
        }
        let mut reader = Reader {
            catalogue,
            problems: Vec::new(),
            seen: BTreeSet::new(),
            wanted: BTreeMap::new(),
        };
        let profile = reader.profile(document);
        match profile {
            Some(profile) if reader.problems.is_empty() => Ok(profile),
            _ => Err(BadDocument::new(name, text, reader.problems)),
        }
    }
}

struct Reader<'a> {
    catalogue: &'a Catalogue,
    problems: Vec<Problem>,
    seen: BTreeSet<TweakUse>,
    /// What uses without a condition want of each setting, by tweak, and where they stand.
    wanted: BTreeMap<(TweakId, Address), (State, Range<usize>)>,
}

impl Reader<'_> {
    fn profile(&mut self, document: Document) -> Option<Profile> {
        if *document.format.as_ref() != FORMAT {
            let message = format!("this Frevin reads profiles of format {FORMAT}");
            let advice = "a newer Frevin may read it";
            self.problems.push(Problem::at(document.format.span(), message).advise(advice));
        }
        let name = self.name(&document.name);
        let scene = document.scene.as_ref().and_then(|scene| self.name(scene));
        let builds_on = document.builds_on.iter().filter_map(|base| self.base(base)).collect();
        let without: Vec<Without> =
            document.without.iter().filter_map(|tweak| self.without(tweak)).collect();
        if let (Some(first), true) = (without.first(), document.builds_on.is_empty()) {
            let message = "`without` takes tweaks out of profiles that this one builds on";
            let advice = "name them in `builds_on`, or remove this";
            self.problems.push(Problem::at(first.span.clone(), message).advise(advice));
        }
        let entries = document.tweaks.into_iter().filter_map(|entry| self.entry(entry)).collect();
        // What is held while playing lies above what is applied: the same setting may be wanted twice.
        self.seen.clear();
        self.wanted.clear();
        let playing = document.while_playing.into_iter();
        let while_playing: Vec<Entry> = playing.filter_map(|entry| self.entry(entry)).collect();
        let playing = document.playing.map(|playing| playing.read(&mut self.problems));
        Some(Profile {
            name: name?,
            purpose: document.purpose,
            scene,
            builds_on,
            without,
            entries,
            while_playing,
            playing: playing.unwrap_or_default(),
        })
    }

    fn name<N: FromStr<Err = NameError>>(&mut self, written: &Spanned<String>) -> Option<N> {
        let name = written.as_ref().parse();
        name.map_err(|error: NameError| {
            self.problems.push(Problem::at(written.span(), error.to_string()));
        })
        .ok()
    }

    fn base(&mut self, written: &Spanned<String>) -> Option<Base> {
        let span = written.span();
        match written.as_ref().parse() {
            Ok(name) => Some(Base { name, span }),
            Err(error) => {
                let message = format!("`{}`: {error}", written.as_ref());
                self.problems.push(Problem::at(span, message));
                None
            }
        }
    }

    fn without(&mut self, written: &Spanned<String>) -> Option<Without> {
        let tweak = self.known_tweak(written)?.clone();
        Some(Without { tweak, span: written.span() })
    }

    fn known_tweak(&mut self, written: &Spanned<String>) -> Option<&TweakId> {
        let catalogue = self.catalogue;
        let known = written.as_ref().parse().ok().and_then(|id| catalogue.get(&id));
        if known.is_none() {
            let advice = match catalogue.nearest(written.as_ref()) {
                Some(near) => format!("did you mean `{near}`? `frevin tweak list` shows them all"),
                None => "`frevin tweak list` shows those there are".to_owned(),
            };
            let message = format!("there is no tweak `{}` in the catalogue", written.as_ref());
            self.problems.push(Problem::at(written.span(), message).advise(advice));
        }
        known.map(|tweak| &tweak.id)
    }

    fn entry(&mut self, entry: Spanned<EntryDocument>) -> Option<Entry> {
        let span = entry.span();
        let entry = entry.into_inner();
        let written = entry.tweak.as_ref();
        let id = self.known_tweak(&entry.tweak)?.clone();
        let tweak = self.catalogue.get(&id)?;
        let mut arguments = Arguments::new();
        for (name, value) in &entry.with {
            let Some(parameter) = tweak.parameters.get(name.as_ref()) else {
                let known: Vec<_> = tweak.parameters.keys().map(String::as_str).collect();
                let advice = match (nearest(name.as_ref(), known.iter().copied()), &known[..]) {
                    (Some(near), _) => format!("did you mean `{near}`?"),
                    (None, []) => "it has none; remove `with`".to_owned(),
                    (None, known) => format!("it has {}", known.join(", ")),
                };
                let message = format!("`{written}` has no parameter `{}`", name.as_ref());
                self.problems.push(Problem::at(name.span(), message).advise(advice));
                continue;
            };
            match check_argument(name.as_ref(), parameter, value.as_ref()) {
                Ok(argument) => {
                    arguments.insert(name.as_ref().clone(), argument);
                }
                Err(message) => {
                    let advice =
                        format!("{} (see `frevin tweak show {written}`)", parameter.meaning);
                    self.problems.push(Problem::at(value.span(), message).advise(advice));
                }
            }
        }
        if !self.seen.insert(TweakUse::of(tweak, &arguments)) {
            let message = format!("`{written}` is listed a second time with the same choices");
            let advice = "remove one of the two, or choose something else for one";
            self.problems.push(Problem::at(entry.tweak.span(), message).advise(advice));
        }
        // What was written may make an address or a value that there is not.
        match tweak.resolve(&arguments, &Facts::reference()) {
            Ok(wanted) if entry.when.is_none() => {
                let wanted = wanted.into_iter().map(|wanted| (wanted.address, wanted.state));
                self.refuse_contradiction(&tweak.id, entry.tweak.span(), wanted.collect());
            }
            Err(error)
                if !arguments.is_empty() || tweak.to_be_chosen(&arguments).next().is_some() =>
            {
                let advice = format!("`frevin tweak show {}` says what is taken", tweak.id);
                let message = error.to_string();
                self.problems.push(Problem::at(entry.tweak.span(), message).advise(advice));
            }
            Ok(_) | Err(_) => {}
        }
        let when = match &entry.when {
            Some(when) => Some(self.condition(when)?),
            None => None,
        };
        Some(Entry { tweak: tweak.id.clone(), arguments, when, note: entry.note, span })
    }

    /// Two uses of one tweak that want a setting differently: which of them holds could not be said.
    /// (Where two tweaks do, [`super::remarks`] tells: on another PC they may not.)
    fn refuse_contradiction(
        &mut self,
        tweak: &TweakId,
        span: Range<usize>,
        wanted: Vec<(Address, State)>,
    ) {
        for (address, state) in wanted {
            let key = (tweak.clone(), address);
            match self.wanted.get(&key) {
                Some((other, first)) if *other != state => {
                    let message = format!(
                        "`{tweak}` wants {} to be {state}, and an earlier use of it {other}",
                        key.1
                    );
                    let advice = "choose what tells the two apart, or remove one of them";
                    let problem = Problem::at(span, message).advise(advice);
                    self.problems.push(problem.related(first.clone(), "the earlier use"));
                    return;
                }
                Some(_) => {}
                None => {
                    self.wanted.insert(key, (state, span.clone()));
                }
            }
        }
    }

    fn condition(&mut self, written: &Spanned<String>) -> Option<Expression> {
        let sample = json!({ "facts": Facts::reference().variables() });
        let checked = Expression::parse(written.as_ref()).and_then(|expression| {
            expression.check(&sample)?;
            expression.holds(&sample)?;
            Ok(expression)
        });
        checked.map_err(|e| self.problems.push(Problem::at(written.span(), e.to_string()))).ok()
    }
}

/// A profile document to start from: `tweaks` with their titles as comments.
pub fn starting_document(
    name: &ProfileName,
    purpose: &str,
    tweaks: &[TweakId],
    catalogue: &Catalogue,
) -> String {
    let quoted = toml::Value::String(purpose.to_owned());
    let mut text = format!("format = {FORMAT}\nname = \"{name}\"\npurpose = {quoted}\n");
    if tweaks.is_empty() {
        text.push_str(
            "\n# Add one block for each tweak. `frevin tweak list` shows what there is,\n\
             # `frevin tweak show AREA/NAME` what can be chosen about it.\n#\n\
             # [[tweaks]]\n# use = \"power/active-plan\"\n# with = { plan = \"high-performance\" }\n\
             # note = \"why it is here\"\n",
        );
    }
    for id in tweaks {
        let Some(tweak) = catalogue.get(id) else { continue };
        text.push_str(&format!("\n# {}\n[[tweaks]]\nuse = \"{id}\"\n", in_one_line(&tweak.title)));
        let with: Vec<String> = tweak
            .parameters
            .iter()
            .filter_map(|(name, parameter)| {
                let usual = parameter.default.clone().or_else(|| parameter.sample())?;
                Some(format!("{name} = {}", as_toml(&usual)))
            })
            .collect();
        if !with.is_empty() {
            text.push_str(&format!("with = {{ {} }}\n", with.join(", ")));
        }
    }
    text
}

impl Profile {
    /// The profile as a document of its own, without comments.
    pub fn to_document(&self) -> String {
        let quoted = |text: &str| toml::Value::String(text.to_owned()).to_string();
        let list = |names: Vec<String>| -> String {
            toml::Value::Array(names.into_iter().map(toml::Value::String).collect()).to_string()
        };
        let mut text = format!(
            "format = {FORMAT}\nname = \"{}\"\npurpose = {}\n",
            self.name,
            quoted(&self.purpose)
        );
        if let Some(scene) = &self.scene {
            text.push_str(&format!("scene = \"{scene}\"\n"));
        }
        if !self.builds_on.is_empty() {
            let names = self.builds_on.iter().map(|base| base.name.to_string()).collect();
            text.push_str(&format!("builds_on = {}\n", list(names)));
        }
        if !self.without.is_empty() {
            let names = self.without.iter().map(|without| without.tweak.to_string()).collect();
            text.push_str(&format!("without = {}\n", list(names)));
        }
        let own = self.entries.iter().map(|entry| ("tweaks", entry));
        let playing = self.while_playing.iter().map(|entry| ("while_playing", entry));
        for (list, entry) in own.chain(playing) {
            text.push_str(&format!("\n[[{list}]]\nuse = \"{}\"\n", entry.tweak));
            let with: Vec<String> = entry
                .arguments
                .iter()
                .map(|(name, argument)| format!("{name} = {}", as_toml(argument)))
                .collect();
            if !with.is_empty() {
                text.push_str(&format!("with = {{ {} }}\n", with.join(", ")));
            }
            if let Some(when) = &entry.when {
                text.push_str(&format!("when = {}\n", quoted(when.source())));
            }
            if let Some(note) = &entry.note {
                text.push_str(&format!("note = {}\n", quoted(note)));
            }
        }
        text.push_str(&self.playing.to_document());
        text
    }
}

/// An argument as a profile has it.
pub(super) fn as_toml(argument: &crate::tweak::Argument) -> String {
    toml::Value::try_from(argument.value())
        .map_or_else(|_| String::new(), |value| value.to_string())
}

#[cfg(test)]
mod tests;
