//! The catalogue: every tweak that is known, by name.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use include_dir::{Dir, DirEntry, include_dir};
use thiserror::Error;

use super::definition::{Risk, Tweak, TweakId};
use crate::document::{BadDocument, nearest};
use crate::setting::{Address, protection};

static BUILT_IN: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../catalogue");

/// Every tweak that is known.
#[derive(Debug, Clone, Default)]
pub struct Catalogue {
    tweaks: BTreeMap<TweakId, Tweak>,
}

/// Why a catalogue cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum CatalogueError {
    #[error(transparent)]
    Bad(#[from] BadDocument),
    #[error("two definitions are called `{0}`")]
    Twice(TweakId),
    #[error("`{name}` is called `{id}`, as a tweak of Frevin's own is; give it another name")]
    NameTaken { name: String, id: TweakId },
    #[error("`{name}` is called `{id}`, so that it belongs at `{id}.toml`")]
    Misplaced { name: String, id: TweakId },
    #[error("`{id}` touches {address}, which {reason}: its risk has to be `expert`")]
    Understated { id: TweakId, address: Box<Address>, reason: &'static str },
    #[error("`{of}` speaks of `{unknown}`, which is not in the catalogue")]
    UnknownRelation { of: TweakId, unknown: TweakId },
}

impl Catalogue {
    /// The catalogue that is part of the program.
    ///
    /// # Errors
    /// None in a program that passed its tests: every definition is read in them.
    pub fn built_in() -> Result<Self, CatalogueError> {
        // One command asks for it again and again, and reading it takes longer than all else of most.
        static READ: OnceLock<Catalogue> = OnceLock::new();
        if let Some(read) = READ.get() {
            return Ok(read.clone());
        }
        let mut definitions = Vec::new();
        collect(&BUILT_IN, &mut definitions);
        let read = Self::of(definitions, Tweak::parse_own)?;
        Ok(READ.get_or_init(|| read).clone())
    }

    /// A catalogue of definitions, each a name for messages and a text.
    ///
    /// # Errors
    /// Where one cannot be read, two have the same name, or one relates to a tweak that is not there.
    pub fn from_definitions<'a>(
        definitions: impl IntoIterator<Item = (&'a str, &'a str)>,
    ) -> Result<Self, CatalogueError> {
        Self::of(definitions, Tweak::parse)
    }

    fn of<'a>(
        definitions: impl IntoIterator<Item = (&'a str, &'a str)>,
        parse: impl Fn(&str, &str) -> Result<Tweak, BadDocument>,
    ) -> Result<Self, CatalogueError> {
        let mut tweaks = BTreeMap::new();
        for (name, text) in definitions {
            let tweak = parse(name, text)?;
            if let Some(first) = tweaks.insert(tweak.id.clone(), tweak) {
                return Err(CatalogueError::Twice(first.id));
            }
        }
        let catalogue = Self { tweaks };
        catalogue.check()?;
        Ok(catalogue)
    }

    /// The catalogue with definitions of the owner's own added. They are checked like Frevin's: none
    /// can take the name of another, nor grade what touches the protected as anything but expert.
    ///
    /// # Errors
    /// Where one cannot be read, is not where its name says, or cannot be added.
    pub fn with_own<'a>(
        mut self,
        definitions: impl IntoIterator<Item = (&'a str, &'a str)>,
    ) -> Result<Self, CatalogueError> {
        for (name, text) in definitions {
            let mut tweak = Tweak::parse(name, text)?;
            tweak.is_own = true;
            let (name, id) = (name.to_owned(), tweak.id.clone());
            if !name.replace('\\', "/").ends_with(&format!("/{id}.toml")) {
                return Err(CatalogueError::Misplaced { name, id });
            }
            if self.tweaks.contains_key(&id) {
                return Err(CatalogueError::NameTaken { name, id });
            }
            self.tweaks.insert(id, tweak);
        }
        self.check()?;
        Ok(self)
    }

    /// What only shows where all definitions are known.
    fn check(&self) -> Result<(), CatalogueError> {
        for tweak in self.tweaks.values() {
            let related = tweak.conflicts.iter().chain(&tweak.needs).chain(&tweak.alternatives);
            if let Some(unknown) = related.into_iter().find(|id| !self.tweaks.contains_key(id)) {
                return Err(CatalogueError::UnknownRelation {
                    of: tweak.id.clone(),
                    unknown: unknown.clone(),
                });
            }
            if tweak.is_own && tweak.risk != Risk::Expert {
                // What the samples do not reach is guarded when it is planned.
                for wanted in tweak.sample_settings().unwrap_or_default() {
                    if let Some(protection) = protection(&wanted.address) {
                        return Err(CatalogueError::Understated {
                            id: tweak.id.clone(),
                            address: Box::new(wanted.address),
                            reason: protection.reason,
                        });
                    }
                }
            }
        }
        Ok(())
    }

    /// The tweak of that name.
    pub fn get(&self, id: &TweakId) -> Option<&Tweak> {
        self.tweaks.get(id)
    }

    /// Every tweak, by name.
    pub fn iter(&self) -> impl Iterator<Item = &Tweak> {
        self.tweaks.values()
    }

    /// The name in the catalogue nearest to what somebody wrote.
    pub fn nearest(&self, written: &str) -> Option<&str> {
        nearest(written, self.tweaks.keys().map(TweakId::as_str)).or_else(|| {
            let (_, name) = written.rsplit_once('/').unwrap_or(("", written));
            let ids = self.tweaks.keys().map(TweakId::as_str);
            ids.into_iter().find(|id| id.split_once('/').is_some_and(|(_, known)| known == name))
        })
    }
}

fn collect<'a>(folder: &Dir<'a>, definitions: &mut Vec<(&'a str, &'a str)>) {
    for entry in folder.entries() {
        match entry {
            DirEntry::Dir(inner) => collect(inner, definitions),
            DirEntry::File(file) => {
                if let (Some(path), Some(text)) = (file.path().to_str(), file.contents_utf8())
                    && path.ends_with(".toml")
                {
                    definitions.push((path, text));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_built_in_definition_reads_and_is_complete() {
        let mut definitions = Vec::new();
        collect(&BUILT_IN, &mut definitions);
        let bad: Vec<String> = definitions
            .iter()
            .filter_map(|(name, text)| Some(Tweak::parse(name, text).err()?.to_string()))
            .collect();
        assert!(bad.is_empty(), "{}", bad.join("\n"));
        let catalogue = Catalogue::from_definitions(definitions).unwrap();
        assert!(catalogue.iter().count() >= 130);
        for tweak in catalogue.iter() {
            for text in
                [&tweak.title, &tweak.what, &tweak.why, &tweak.may_break, &tweak.standing_reason]
            {
                assert!(!text.trim().is_empty(), "{} has an empty text", tweak.id);
            }
            assert!(!tweak.sources.is_empty(), "{} has no source", tweak.id);
        }
    }

    #[test]
    fn definitions_lie_where_their_name_says() {
        let mut definitions = Vec::new();
        collect(&BUILT_IN, &mut definitions);
        for (path, text) in definitions {
            let tweak = Tweak::parse(path, text).unwrap();
            assert_eq!(path, format!("{}.toml", tweak.id));
        }
    }

    #[test]
    fn what_touches_the_protected_is_graded_expert() {
        let mut milder = Vec::new();
        for tweak in Catalogue::built_in().unwrap().iter() {
            let settings = tweak.sample_settings().unwrap().into_iter();
            let touched = settings.filter(|wanted| protection(&wanted.address).is_some());
            let touched: Vec<_> = touched.map(|wanted| wanted.address.to_string()).collect();
            if !touched.is_empty() && tweak.risk != Risk::Expert {
                milder.push(format!("{}: {touched:?}", tweak.id));
            }
        }
        assert!(milder.is_empty(), "{milder:#?}");
    }

    #[test]
    fn an_owners_tweaks_are_added_and_can_loosen_nothing() {
        let text = BUILT_IN.get_file("looks/menu-delay.toml").unwrap().contents_utf8().unwrap();
        let own = text.replace("looks/menu-delay", "mine/menu-delay");
        let add = |name: &str, text: &str| Catalogue::built_in().unwrap().with_own([(name, text)]);
        let catalogue = add("/home/tweaks/mine/menu-delay.toml", &own).unwrap();
        assert!(catalogue.get(&"mine/menu-delay".parse().unwrap()).unwrap().is_own);
        let error = add("/home/tweaks/looks/menu-delay.toml", text).unwrap_err();
        assert!(matches!(error, CatalogueError::NameTaken { .. }), "{error}");
        let error = add("/home/tweaks/mine/other.toml", &own).unwrap_err();
        assert!(matches!(error, CatalogueError::Misplaced { .. }), "{error}");
        let guarded = own.replace("visual:menu-delay", "service:WinDefend#start");
        let guarded = guarded.replace("params.delay_ms", "'disabled'");
        let error = add("/home/tweaks/mine/menu-delay.toml", &guarded).unwrap_err();
        assert!(matches!(error, CatalogueError::Understated { .. }), "{error}");
    }

    #[test]
    fn a_wrong_area_is_put_right() {
        let catalogue = Catalogue::built_in().unwrap();
        assert_eq!(catalogue.nearest("energy/active-plan"), Some("power/active-plan"));
    }
}
