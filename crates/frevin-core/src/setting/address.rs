//! Addresses: which setting is meant, as text and as a typed value.
//!
//! The text form is `kind:path#part`. It is parsed once; everything after works on the typed
//! value, so two spellings of one setting are one setting.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use uuid::Uuid;

use super::clean::{CleanPart, CleanSetting};
use super::error::{AddressError, escape, unescape};
use super::file_part::{FilePart, FileSetting};
use super::name::WinName;
use super::object::{ObjectKind, ObjectSetting};
use super::registry_key::{KeyPath, MAX_VALUE_NAME};
use super::registry_part::RegistryPart;
use super::visual::VisualParameter;

/// One setting of a PC.
///
/// | text | setting |
/// |---|---|
/// | `registry:HKLM\Key\Sub` | whether a registry key exists |
/// | `registry:HKLM\Key\Sub#Name` | a registry value (`#` alone: the key's default value) |
/// | `registry-part:HKCU\Key#Name#pair:Other` | a part of a registry value: see [`RegistryPart`] |
/// | `service:Name#start` | a service's start type |
/// | `service:Name#running` | whether a service runs |
/// | `power:active-plan` | the power plan in force |
/// | `power:PLAN#exists` | whether a power plan exists, and of which it is a copy |
/// | `power:SUBGROUP/SETTING#hidden` | whether Windows hides a power setting |
/// | `power:PLAN/SUBGROUP/SETTING#mains` | a value of a plan, on mains (or `#battery`) |
/// | `visual:menu-delay` | a system parameter of looks |
/// | `task:NAME#enabled` and the like | a part of a named thing: see [`ObjectKind`] |
/// | `text:PLACE/FILE#ini:[Section]Key` and the like | a part of a settings file: see [`FileSetting`] |
/// | `clean:PLACE#quarantine` | whether files of a place are set aside: see [`CleanSetting`] |
///
/// A `#` or `%` inside a registry key's path is written `%23` or `%25`.
#[derive(
    Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(try_from = "String", into = "String")]
pub enum Address {
    /// Whether a registry key exists.
    RegistryKey(KeyPath),
    /// A value under a registry key; an empty name is the key's default value.
    RegistryValue(KeyPath, WinName),
    /// A part of such a value.
    RegistryPart(KeyPath, WinName, RegistryPart),
    /// How a service starts.
    ServiceStart(WinName),
    /// Whether a service runs.
    ServiceRunning(WinName),
    /// The power plan in force.
    ActivePlan,
    /// Whether a power plan exists.
    PowerPlan(Uuid),
    /// Whether Windows hides a power setting from its own windows.
    PowerHidden {
        /// The group of settings, as Windows names it.
        subgroup: Uuid,
        /// The setting.
        setting: Uuid,
    },
    /// One value of a power plan.
    PowerValue {
        /// The plan.
        plan: Uuid,
        /// The group of settings, as Windows names it.
        subgroup: Uuid,
        /// The setting.
        setting: Uuid,
        /// Which of the two values.
        source: PowerSource,
    },
    /// A system parameter of looks.
    Visual(VisualParameter),
    /// A part of a named thing.
    Object(ObjectSetting),
    /// A settings file of a game or program, or a part of it.
    Text(FileSetting),
    /// Files that can be set aside.
    Clean(CleanSetting),
}

impl Address {
    /// The kind, as the text form begins with it.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::RegistryKey(_) | Self::RegistryValue(..) => "registry",
            Self::RegistryPart(..) => "registry-part",
            Self::ServiceStart(_) | Self::ServiceRunning(_) => "service",
            Self::ActivePlan
            | Self::PowerPlan(_)
            | Self::PowerHidden { .. }
            | Self::PowerValue { .. } => "power",
            Self::Visual(_) => "visual",
            Self::Object(setting) => setting.kind().name(),
            Self::Text(_) => "text",
            Self::Clean(_) => "clean",
        }
    }

    /// Whether the setting can be made where it is absent, and be absent where it is there.
    pub fn may_be_absent(&self) -> bool {
        match self {
            Self::RegistryKey(_) | Self::RegistryValue(..) | Self::PowerPlan(_) => true,
            Self::RegistryPart(_, _, part) => part.may_be_absent(),
            Self::Object(setting) => setting.part().may_be_absent(),
            Self::Text(setting) => *setting.part() != FilePart::Whole,
            Self::Clean(setting) => setting.part == CleanPart::Quarantine,
            Self::ServiceStart(_)
            | Self::ServiceRunning(_)
            | Self::ActivePlan
            | Self::PowerHidden { .. }
            | Self::PowerValue { .. }
            | Self::Visual(_) => false,
        }
    }

    /// The registry value that this is a part of, if it is.
    pub fn whole_value(&self) -> Option<Self> {
        match self {
            Self::RegistryPart(key, name, _) => {
                Some(Self::RegistryValue(key.clone(), name.clone()))
            }
            Self::RegistryKey(_)
            | Self::RegistryValue(..)
            | Self::ServiceStart(_)
            | Self::ServiceRunning(_)
            | Self::ActivePlan
            | Self::PowerPlan(_)
            | Self::PowerHidden { .. }
            | Self::PowerValue { .. }
            | Self::Visual(_)
            | Self::Object(_)
            | Self::Text(_)
            | Self::Clean(_) => None,
        }
    }

    /// The setting without which this one is absent and cannot be written, if it goes and comes
    /// with another as a whole: a value of a power plan with its plan.
    pub fn container(&self) -> Option<Self> {
        match self {
            Self::PowerValue { plan, .. } => Some(Self::PowerPlan(*plan)),
            Self::RegistryKey(_)
            | Self::RegistryValue(..)
            | Self::RegistryPart(..)
            | Self::ServiceStart(_)
            | Self::ServiceRunning(_)
            | Self::ActivePlan
            | Self::PowerPlan(_)
            | Self::PowerHidden { .. }
            | Self::Visual(_)
            | Self::Object(_)
            | Self::Text(_)
            | Self::Clean(_) => None,
        }
    }

    /// The settings that must be present before this one can hold a value, outermost first.
    ///
    /// A registry value needs its key and every key above it; the hive itself is always there. A
    /// pair or word in a registry value needs that value, a key of an INI file its section.
    pub fn supports(&self) -> Vec<Self> {
        let key = match self {
            Self::RegistryPart(key, name, RegistryPart::Pair(_) | RegistryPart::Word(_)) => {
                let text = Self::RegistryPart(key.clone(), name.clone(), RegistryPart::Text);
                return text.supports().into_iter().chain([text]).collect();
            }
            // Of bits of a number that is not there, nothing can be made.
            Self::RegistryPart(_, _, RegistryPart::Bits(_)) => None,
            Self::RegistryPart(key, _, RegistryPart::Text) => Some(key.clone()),
            Self::Text(setting) => {
                return setting.support().into_iter().map(Self::Text).collect();
            }
            Self::RegistryKey(key) => key.parent(),
            Self::RegistryValue(key, _) => Some(key.clone()),
            Self::ServiceStart(_)
            | Self::ServiceRunning(_)
            | Self::ActivePlan
            | Self::PowerPlan(_)
            | Self::PowerHidden { .. }
            | Self::PowerValue { .. }
            | Self::Visual(_)
            | Self::Object(_)
            | Self::Clean(_) => None,
        };
        let mut supports: Vec<_> =
            std::iter::successors(key, KeyPath::parent).map(Self::RegistryKey).collect();
        supports.reverse();
        supports
    }

    /// The text that is the same for every spelling of this address: for storage look-ups.
    pub fn identity(&self) -> String {
        match self {
            Self::RegistryKey(key) => format!("registry:{}", escape(&key.folded())),
            Self::RegistryValue(key, name) => {
                format!("registry:{}#{}", escape(&key.folded()), name.folded())
            }
            Self::RegistryPart(key, name, part) => {
                let (key, name) = (escape(&key.folded()), name.folded());
                format!("registry-part:{key}#{name}#{}", part.identity())
            }
            Self::ServiceStart(name) => format!("service:{}#start", name.folded()),
            Self::ServiceRunning(name) => format!("service:{}#running", name.folded()),
            Self::ActivePlan
            | Self::PowerPlan(_)
            | Self::PowerHidden { .. }
            | Self::PowerValue { .. }
            | Self::Visual(_)
            | Self::Clean(_) => self.to_string(),
            Self::Object(setting) => setting.identity(),
            Self::Text(setting) => setting.identity(),
        }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::RegistryKey(key) => write!(f, "registry:{}", escape(&key.to_string())),
            Self::RegistryValue(key, name) => {
                write!(f, "registry:{}#{name}", escape(&key.to_string()))
            }
            Self::RegistryPart(key, name, part) => {
                write!(f, "registry-part:{}#{name}#{part}", escape(&key.to_string()))
            }
            Self::ServiceStart(name) => write!(f, "service:{name}#start"),
            Self::ServiceRunning(name) => write!(f, "service:{name}#running"),
            Self::ActivePlan => f.write_str("power:active-plan"),
            Self::PowerPlan(plan) => write!(f, "power:{plan}#exists"),
            Self::PowerHidden { subgroup, setting } => {
                write!(f, "power:{subgroup}/{setting}#hidden")
            }
            Self::PowerValue { plan, subgroup, setting, source } => {
                write!(f, "power:{plan}/{subgroup}/{setting}#{source}")
            }
            Self::Visual(parameter) => write!(f, "visual:{parameter}"),
            Self::Object(setting) => setting.fmt(f),
            Self::Text(setting) => setting.fmt(f),
            Self::Clean(setting) => setting.fmt(f),
        }
    }
}

impl FromStr for Address {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let (kind, rest) = text.split_once(':').ok_or(AddressError::NoKind)?;
        match kind {
            "registry" => parse_registry(rest),
            "registry-part" => parse_registry_part(rest),
            "service" => parse_service(rest),
            "power" => parse_power(rest),
            "visual" => rest.parse().map(Self::Visual),
            "text" => FileSetting::parse(rest).map(Self::Text),
            "clean" => rest.parse().map(Self::Clean),
            _ => match ObjectKind::named(kind) {
                Some(kind) => ObjectSetting::parse(kind, rest).map(Self::Object),
                None => Err(AddressError::UnknownKind {
                    kind: kind.to_owned(),
                    objects: ObjectKind::ALL.map(ObjectKind::name).to_vec(),
                }),
            },
        }
    }
}

fn parse_registry(rest: &str) -> Result<Address, AddressError> {
    let Some((path, name)) = rest.split_once('#') else {
        return unescape(rest).parse().map(Address::RegistryKey);
    };
    Ok(Address::RegistryValue(unescape(path).parse()?, value_name(name)?))
}

/// What follows the last sign is the part: a value's name may hold that sign, no part does.
fn parse_registry_part(rest: &str) -> Result<Address, AddressError> {
    let (path, rest) = rest.split_once('#').ok_or(AddressError::RegistryPart)?;
    let (name, part) = rest.rsplit_once('#').ok_or(AddressError::RegistryPart)?;
    let part = RegistryPart::parse(part).ok_or(AddressError::RegistryPart)?;
    Ok(Address::RegistryPart(unescape(path).parse()?, value_name(name)?, part))
}

fn value_name(name: &str) -> Result<WinName, AddressError> {
    if name.contains(char::is_control) || name.encode_utf16().count() > MAX_VALUE_NAME {
        return Err(AddressError::BadValueName);
    }
    Ok(WinName::new(name))
}

fn parse_service(rest: &str) -> Result<Address, AddressError> {
    let (name, part) = rest.split_once('#').ok_or(AddressError::ServicePart)?;
    // Limits of CreateService: 256 characters, neither slash.
    let bad = |c: char| c == '/' || c == '\\' || c.is_control();
    if name.is_empty() || name.encode_utf16().count() > 256 || name.contains(bad) {
        return Err(AddressError::BadServiceName(name.to_owned()));
    }
    match part {
        "start" => Ok(Address::ServiceStart(name.into())),
        "running" => Ok(Address::ServiceRunning(name.into())),
        _ => Err(AddressError::ServicePart),
    }
}

fn parse_power(rest: &str) -> Result<Address, AddressError> {
    if rest == "active-plan" {
        return Ok(Address::ActivePlan);
    }
    let (path, part) = rest.split_once('#').ok_or(AddressError::PowerPath)?;
    let ids: Vec<Uuid> = path
        .split('/')
        .map(|id| Uuid::parse_str(id).map_err(|_| AddressError::PowerPath))
        .collect::<Result<_, _>>()?;
    let value = |source| match ids[..] {
        [plan, subgroup, setting] => Ok(Address::PowerValue { plan, subgroup, setting, source }),
        _ => Err(AddressError::PowerPath),
    };
    match (part, &ids[..]) {
        ("exists", [plan]) => Ok(Address::PowerPlan(*plan)),
        ("hidden", [subgroup, setting]) => {
            Ok(Address::PowerHidden { subgroup: *subgroup, setting: *setting })
        }
        ("mains", _) => value(PowerSource::Mains),
        ("battery", _) => value(PowerSource::Battery),
        _ => Err(AddressError::PowerPath),
    }
}

impl TryFrom<String> for Address {
    type Error = AddressError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<Address> for String {
    fn from(address: Address) -> Self {
        address.to_string()
    }
}

/// Which of the two values of a power setting is meant.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum PowerSource {
    /// Running from the wall.
    Mains,
    /// Running from the battery.
    Battery,
}

impl fmt::Display for PowerSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Mains => "mains",
            Self::Battery => "battery",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn spellings_of_one_setting_are_one_setting() {
        let a: Address = r"registry:HKLM\SOFTWARE\Object#Value".parse().unwrap();
        let b: Address = r"registry:hkey_local_machine\Software\OBJECT#value".parse().unwrap();
        assert_eq!(a, b);
        assert_eq!(a.identity(), b.identity());
        assert_eq!(a.to_string(), r"registry:HKLM\SOFTWARE\Object#Value");
    }

    #[test]
    fn a_value_is_supported_by_its_keys_from_the_outermost() {
        let value: Address = r"registry:HKCU\A\B\C#".parse().unwrap();
        let supports: Vec<_> = value.supports().iter().map(ToString::to_string).collect();
        assert_eq!(supports, [r"registry:HKCU\A", r"registry:HKCU\A\B", r"registry:HKCU\A\B\C"]);
    }

    #[test]
    fn parts_of_a_value_need_it_and_its_keys() {
        let text = r"registry-part:HKCU\A\B#C:\x#1.exe#pair:AutoHDREnable";
        let pair: Address = text.parse().unwrap();
        assert_eq!(pair.to_string(), text);
        let other = r"registry-part:hkcu\a\b#c:\X#1.EXE#pair:autohdrenable".parse::<Address>();
        assert_eq!(other.as_ref().map(Address::identity), Ok(pair.identity()));
        assert_eq!(other, Ok(pair.clone()));
        let supports: Vec<_> = pair.supports().iter().map(ToString::to_string).collect();
        let whole = r"registry-part:HKCU\A\B#C:\x#1.exe#text";
        assert_eq!(supports, [r"registry:HKCU\A", r"registry:HKCU\A\B", whole]);
        let bits: Address = r"registry-part:HKCU\A#Flags#bits:0x4".parse().unwrap();
        assert!(bits.supports().is_empty() && !bits.may_be_absent());
        for bad in [r"registry-part:HKCU\A#v", r"registry-part:HKCU\A#v#pair:"] {
            assert_eq!(bad.parse::<Address>(), Err(AddressError::RegistryPart), "{bad}");
        }
    }

    #[test]
    fn second_spellings_that_would_slip_past_a_guard_are_refused() {
        let refused = |text: &str| text.parse::<Address>().unwrap_err();
        assert_eq!(
            refused(r"registry:HKLM\system\ControlSet001\Services#x"),
            AddressError::NumberedControlSet
        );
        assert!(matches!(refused(r"registry:HKCR\.txt#"), AddressError::HiveIsAView(..)));
        assert!(matches!(refused(r"registry:HKLM\A\\B#x"), AddressError::BadKeyName(_)));
        assert!(matches!(refused(r"registry:HKLM\A\#x"), AddressError::BadKeyName(_)));
        assert!(matches!(refused("service:a/b#start"), AddressError::BadServiceName(_)));
    }

    #[test]
    fn broken_addresses_say_what_is_expected() {
        for (text, expected) in [
            ("HKLM", AddressError::NoKind),
            (
                "disk:C",
                AddressError::UnknownKind {
                    kind: "disk".into(),
                    objects: ObjectKind::ALL.map(ObjectKind::name).to_vec(),
                },
            ),
            ("registry:HKLM", AddressError::NoKeyPath),
            ("registry:HKXX\\A", AddressError::UnknownHive("HKXX".into())),
            ("service:Spooler", AddressError::ServicePart),
            ("power:balanced", AddressError::PowerPath),
            ("visual:sparkles", AddressError::UnknownVisual("sparkles".into())),
        ] {
            assert_eq!(text.parse::<Address>(), Err(expected), "{text}");
        }
    }

    proptest! {
        #[test]
        fn text_and_value_agree(
            names in prop::collection::vec(r"[a-zA-Z0-9 #%._{}\-]{1,12}", 1..5),
            value in prop::option::of(r"\PC{0,12}"),
        ) {
            let path = format!(r"HKCU\{}", names.join(r"\"));
            let key: KeyPath = path.parse().unwrap();
            let address = match value {
                Some(name) => Address::RegistryValue(key, WinName::new(name)),
                None => Address::RegistryKey(key),
            };
            prop_assert_eq!(address.to_string().parse::<Address>(), Ok(address));
        }

        #[test]
        fn no_text_makes_the_parser_panic(text in r"(registry|registry-part|service|power|visual|text:documents/|clean|task)?:?.{0,60}") {
            if let Ok(address) = text.parse::<Address>() {
                prop_assert_eq!(address.to_string().parse::<Address>(), Ok(address));
            }
        }
    }
}
