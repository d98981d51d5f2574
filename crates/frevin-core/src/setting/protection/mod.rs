//! What is protected: settings that no profile touches without the owner's word for that tweak.
//!
//! Protection is by address, not by who asks, so it holds on every path alike: built-in
//! tweaks, users' own, imports. What it names is one table; here is how an address is found in it,
//! whatever way it is spelled.

mod table;

use schemars::JsonSchema;
use serde::Serialize;
use std::sync::LazyLock;

use unicode_normalization::UnicodeNormalization as _;
use unicode_security::confusable_detection::skeleton;

use self::table::{Guards, HARMLESS_BOOT_ELEMENTS, ROWS};
use super::{Address, FileSetting, Hive, KeyPath, ObjectKind, ObjectSetting, Place, WinName};
use crate::plain_text::is_hidden;

/// Why a setting is protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Protection {
    /// What is at stake, in words that complete "this is protected because it …".
    pub reason: &'static str,
}

/// What is at stake.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reason {
    Malware,
    Attacks,
    Updates,
    SignIn,
    AtSignIn,
    Boot,
    Firewall,
    FairPlay,
    RunsPrograms,
    RunsOthers,
}

impl Reason {
    fn words(self) -> &'static str {
        match self {
            Self::Malware => "guards the PC against malware",
            Self::Attacks => "guards the PC against attacks",
            Self::Updates => "keeps security updates coming",
            Self::SignIn => "keeps accounts and passwords",
            Self::AtSignIn => "decides what runs when somebody signs in",
            Self::Boot => "is needed for Windows to start",
            Self::Firewall => "belongs to the firewall",
            Self::FairPlay => "belongs to what guards games against cheats",
            Self::RunsPrograms => "can make Windows run any program",
            Self::RunsOthers => "can make Windows' own programs run others",
        }
    }
}

impl From<Reason> for Protection {
    fn from(reason: Reason) -> Self {
        Self { reason: reason.words() }
    }
}

/// Whose part of the registry a key is in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Whose {
    Pc,
    User,
    Either,
}

impl Whose {
    fn covers(self, other: Self) -> bool {
        self == Self::Either || self == other
    }
}

/// A key in the one form that it has whatever way it is written: the part of any user under one
/// root, classes of a user where they really lie, no 32-bit view, no letters that only look like others.
#[derive(Debug)]
struct PlainKey {
    whose: Whose,
    names: Vec<WinName>,
}

impl PlainKey {
    /// Nothing where the key is `HKU\<user>` itself: see [`Self::is_whole_user`].
    fn of(key: &KeyPath) -> Self {
        let mut names: Vec<WinName> = key.names().iter().map(as_it_looks).collect();
        let whose = match key.hive() {
            Hive::LocalMachine => Whose::Pc,
            Hive::CurrentUser => Whose::User,
            Hive::Users => {
                let user = names.remove(0);
                // `HKU\<user>_Classes` is where `SOFTWARE\Classes` of that user lies.
                if user.folded().ends_with("_CLASSES") {
                    names.splice(0..0, [WinName::new("SOFTWARE"), WinName::new("Classes")]);
                }
                Whose::User
            }
        };
        // 32-bit programs' part of the registry, some of which is the very key without it ("Registry
        // keys affected by WOW64" in the Windows documentation).
        let views = [WinName::new("Wow6432Node"), WinName::new("WowAA32Node")];
        names.retain(|name| !views.contains(name));
        Self { whose, names }
    }

    fn parse(text: &str) -> Self {
        let (whose, path) = text.split_once('\\').unwrap_or((text, ""));
        let whose = match whose {
            "PC" => Whose::Pc,
            "USER" => Whose::User,
            _ => Whose::Either,
        };
        Self { whose, names: path.split('\\').map(WinName::new).collect() }
    }

    fn contains(&self, other: &Self) -> bool {
        self.whose.covers(other.whose) && other.names.starts_with(&self.names)
    }

    fn is(&self, other: &Self) -> bool {
        self.whose.covers(other.whose) && self.names == other.names
    }
}

/// A row of the table, ready to be compared with.
enum Ready {
    Tree(PlainKey, Option<WinName>),
    Values { key: Option<PlainKey>, is_deep: bool, names: Vec<WinName> },
    Services { names: Vec<WinName>, is_whole_key: bool },
    Objects { kind: ObjectKind, beginnings: Vec<WinName> },
}

impl Ready {
    fn of(guards: &Guards) -> Self {
        let names = |names: &[&str]| names.iter().map(|name| WinName::new(*name)).collect();
        let objects =
            |kind, beginnings: &[&str]| Self::Objects { kind, beginnings: names(beginnings) };
        match guards {
            Guards::Tree(key) => Self::Tree(PlainKey::parse(key), None),
            Guards::TreeBut(key, free) => {
                Self::Tree(PlainKey::parse(key), Some(WinName::new(*free)))
            }
            Guards::Values(key, values) => Self::Values {
                key: Some(PlainKey::parse(key)),
                is_deep: false,
                names: names(values),
            },
            Guards::ValuesBelow(key, values) => Self::Values {
                key: Some(PlainKey::parse(key)),
                is_deep: true,
                names: names(values),
            },
            Guards::ValuesAnywhere(values) => {
                Self::Values { key: None, is_deep: true, names: names(values) }
            }
            Guards::Services(services) => {
                Self::Services { names: names(services), is_whole_key: true }
            }
            Guards::Starts(services) => {
                Self::Services { names: names(services), is_whole_key: false }
            }
            Guards::Tasks(tasks) => objects(ObjectKind::Task, tasks),
            Guards::StartupEntries(entries) => objects(ObjectKind::Startup, entries),
            Guards::Features(features) => objects(ObjectKind::Feature, features),
            Guards::Apps(apps) => objects(ObjectKind::App, apps),
        }
    }
}

static TABLE: LazyLock<Vec<(Ready, Reason)>> =
    LazyLock::new(|| ROWS.iter().map(|(guards, why)| (Ready::of(guards), *why)).collect());
static SERVICES: LazyLock<PlainKey> =
    LazyLock::new(|| PlainKey::parse(r"PC\SYSTEM\CurrentControlSet\Services"));

/// Why `address` is protected, if it is.
///
/// A service is protected under its registry key as well. A key above a protected key is
/// protected where its existence is meant, since deleting it would take the protected one along.
/// A name that only looks like a protected one, by letters of another alphabet or by some that are
/// not seen, is protected too: nobody means well who writes it.
pub fn protection(address: &Address) -> Option<Protection> {
    let reason = match address {
        Address::ServiceStart(name) | Address::ServiceRunning(name) => service(name),
        Address::RegistryKey(key) => {
            let key = PlainKey::of(key);
            of_key(&key).or_else(|| above_protected(&key))
        }
        Address::RegistryValue(key, name) | Address::RegistryPart(key, name, _) => {
            let key = PlainKey::of(key);
            of_key(&key).or_else(|| of_value(&key, &as_it_looks(name)))
        }
        Address::Object(setting) => of_object(setting),
        Address::Text(setting) => of_file(setting),
        Address::ActivePlan
        | Address::PowerPlan(_)
        | Address::PowerHidden { .. }
        | Address::PowerValue { .. }
        | Address::Visual(_)
        | Address::Clean(_) => None,
    };
    reason.map(Protection::from)
}

/// A name as a reader sees it: letters that look like ASCII ones are those, and what is not seen is
/// not there.
fn as_it_looks(name: &WinName) -> WinName {
    if name.as_str().is_ascii() {
        return name.clone();
    }
    let seen = name.as_str().nfkc().filter(|c| !is_hidden(*c)).flat_map(|c| match c {
        _ if c.is_ascii() => vec![c],
        // One character at a time, since the skeleton of ASCII is not ASCII as it was.
        _ => skeleton(c.encode_utf8(&mut [0; 4])).collect(),
    });
    WinName::new(seen.collect::<String>())
}

fn of_key(key: &PlainKey) -> Option<Reason> {
    let tree = TABLE.iter().find_map(|(row, why)| match row {
        Ready::Tree(tree, free) => {
            let below = tree.contains(key).then(|| &key.names[tree.names.len()..])?;
            (!free.as_ref().is_some_and(|free| below.contains(free))).then_some(*why)
        }
        Ready::Services { names, is_whole_key: true } => {
            service_of(key).is_some_and(|name| names.contains(name)).then_some(*why)
        }
        Ready::Services { is_whole_key: false, .. }
        | Ready::Values { .. }
        | Ready::Objects { .. } => None,
    });
    tree.or_else(|| service_of(key).and_then(told_by_name))
}

/// The service that a key belongs to.
fn service_of(key: &PlainKey) -> Option<&WinName> {
    SERVICES.contains(key).then(|| key.names.get(SERVICES.names.len()))?
}

/// Why a key must not go: what is protected lies below it, or in it.
fn above_protected(key: &PlainKey) -> Option<Reason> {
    let lies_in =
        |inner: &PlainKey| inner.whose.covers(key.whose) && inner.names.starts_with(&key.names);
    TABLE.iter().find_map(|(row, why)| {
        let is_above = match row {
            Ready::Tree(tree, _) => lies_in(tree),
            Ready::Values { key: Some(inner), .. } => lies_in(inner),
            Ready::Services { names, .. } => {
                lies_in(&SERVICES)
                    || (service_of(key).is_some_and(|name| names.contains(name))
                        && key.names.len() == SERVICES.names.len() + 1)
            }
            Ready::Values { key: None, .. } | Ready::Objects { .. } => false,
        };
        is_above.then_some(*why)
    })
}

fn of_value(key: &PlainKey, value: &WinName) -> Option<Reason> {
    TABLE.iter().find_map(|(row, why)| {
        let is_it = match row {
            Ready::Values { key: within, is_deep, names } => {
                let is_here = match (within, is_deep) {
                    (None, _) => true,
                    (Some(within), true) => within.contains(key),
                    (Some(within), false) => within.is(key),
                };
                is_here && names.contains(value)
            }
            Ready::Services { names, is_whole_key: false } => {
                let decides = ["Start", "Type", "Group", "DependOnService", "DependOnGroup"];
                service_of(key).is_some_and(|name| names.contains(name))
                    && key.names.len() == SERVICES.names.len() + 1
                    && decides.iter().any(|own| *value == WinName::new(*own))
            }
            Ready::Services { is_whole_key: true, .. }
            | Ready::Tree(..)
            | Ready::Objects { .. } => false,
        };
        is_it.then_some(*why)
    })
}

fn service(name: &WinName) -> Option<Reason> {
    let seen = as_it_looks(name);
    // A service of one user is named after the one that it is made of: `NAME_1a2b3`.
    let (own, _) = seen.folded().rsplit_once('_').unwrap_or((seen.folded(), ""));
    let own = WinName::new(own);
    let listed = TABLE.iter().find_map(|(row, why)| match row {
        Ready::Services { names, .. } => {
            (names.contains(&seen) || names.contains(&own)).then_some(*why)
        }
        Ready::Tree(..) | Ready::Values { .. } | Ready::Objects { .. } => None,
    });
    listed.or_else(|| told_by_name(&seen))
}

fn of_object(setting: &ObjectSetting) -> Option<Reason> {
    let seen = as_it_looks(setting.object());
    if let Some(reason) = told_by_name(&seen)
        && setting.kind() != ObjectKind::Driver
    {
        return Some(reason);
    }
    match setting.kind() {
        ObjectKind::Protection => return Some(Reason::Malware),
        ObjectKind::Boot => {
            let part = setting.own_name();
            let is_harmless =
                HARMLESS_BOOT_ELEMENTS.iter().any(|own| WinName::new(*own) == WinName::new(part));
            return (!is_harmless).then_some(Reason::Boot);
        }
        ObjectKind::Startup
        | ObjectKind::Task
        | ObjectKind::Display
        | ObjectKind::Adapter
        | ObjectKind::Device
        | ObjectKind::App
        | ObjectKind::Feature
        | ObjectKind::PageFile
        | ObjectKind::Driver => {}
    }
    let own = match setting.kind() {
        ObjectKind::Startup => WinName::new(seen.as_str().rsplit('/').next().unwrap_or_default()),
        _ => seen,
    };
    TABLE.iter().find_map(|(row, why)| match row {
        Ready::Objects { kind, beginnings } if *kind == setting.kind() => {
            beginnings.iter().any(|beginning| own.starts_with(beginning)).then_some(*why)
        }
        Ready::Objects { .. } | Ready::Tree(..) | Ready::Values { .. } | Ready::Services { .. } => {
            None
        }
    })
}

/// What a name says of itself: that it guards games against cheats, and the owner who takes it away is shut
/// out of the game or banned; or that it guards the PC against malware.
fn told_by_name(name: &WinName) -> Option<Reason> {
    let letters: String = name.folded().chars().filter(|c| c.is_alphanumeric()).collect();
    let says = |words: &[&str]| words.iter().any(|word| letters.contains(word));
    if says(&["ANTICHEAT"]) {
        Some(Reason::FairPlay)
    } else if says(&["ANTIVIRUS", "ANTIMALWARE", "ANTISPYWARE"]) {
        Some(Reason::Malware)
    } else {
        None
    }
}

/// Files that Windows' own programs go by, some of which run what is written there.
fn of_file(setting: &FileSetting) -> Option<Reason> {
    let path = setting.file();
    if let Some(reason) = path.names().iter().find_map(told_by_name) {
        return Some(reason);
    }
    let is_of_windows = match path.place() {
        Place::LocalAppData
        | Place::RoamingAppData
        | Place::ProgramData
        | Place::LocalLowAppData => ["Microsoft", "Packages", "Windows"]
            .iter()
            .any(|own| path.names()[0] == WinName::new(*own)),
        Place::ProgramFiles | Place::ProgramFilesX86 => {
            path.names()[0].starts_with(&WinName::new("Windows"))
                || path.names()[0] == WinName::new("Common Files")
        }
        Place::Documents => path.names()[0].folded().contains("POWERSHELL"),
        Place::SavedGames => false,
    };
    is_of_windows.then_some(Reason::RunsOthers)
}

#[cfg(test)]
mod tests;
