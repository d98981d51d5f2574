//! Addresses: which setting is meant, as text and as a typed value.
//!
//! The text form is `kind:path#part`. It is parsed once; everything after works on the typed
//! value, so two spellings of one setting are one setting.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;
use uuid::Uuid;

use super::name::WinName;
use super::thing::{ThingKind, ThingSetting};

/// One setting of a PC.
///
/// | text | setting |
/// |---|---|
/// | `registry:HKLM\Key\Sub` | whether a registry key exists |
/// | `registry:HKLM\Key\Sub#Name` | a registry value (`#` alone: the key's default value) |
/// | `service:Name#start` | a service's start type |
/// | `service:Name#running` | whether a service runs |
/// | `power:active-plan` | the power plan in force |
/// | `power:PLAN#exists` | whether a power plan exists, and of which it is a copy |
/// | `power:SUBGROUP/SETTING#hidden` | whether Windows hides a power setting |
/// | `power:PLAN/SUBGROUP/SETTING#mains` | a value of a plan, on mains (or `#battery`) |
/// | `visual:menu-delay` | a system parameter of looks |
/// | `task:NAME#enabled` and the like | a part of a named thing: see [`ThingKind`] |
///
/// A `#` or `%` inside a registry key's path is written `%23` or `%25`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Address {
    /// Whether a registry key exists.
    RegistryKey(KeyPath),
    /// A value under a registry key; an empty name is the key's default value.
    RegistryValue(KeyPath, WinName),
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
    Thing(ThingSetting),
}

impl Address {
    /// The kind, as the text form begins with it.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::RegistryKey(_) | Self::RegistryValue(..) => "registry",
            Self::ServiceStart(_) | Self::ServiceRunning(_) => "service",
            Self::ActivePlan
            | Self::PowerPlan(_)
            | Self::PowerHidden { .. }
            | Self::PowerValue { .. } => "power",
            Self::Visual(_) => "visual",
            Self::Thing(setting) => setting.kind().name(),
        }
    }

    /// Whether the setting can be made where it is absent, and be absent where it is there.
    pub fn may_be_absent(&self) -> bool {
        match self {
            Self::RegistryKey(_) | Self::RegistryValue(..) | Self::PowerPlan(_) => true,
            Self::Thing(setting) => setting.part().may_be_absent,
            _ => false,
        }
    }

    /// The setting without which this one is absent and cannot be written, if it goes and comes
    /// with another as a whole: a value of a power plan with its plan.
    pub fn container(&self) -> Option<Self> {
        match self {
            Self::PowerValue { plan, .. } => Some(Self::PowerPlan(*plan)),
            _ => None,
        }
    }

    /// The settings that must be present before this one can hold a value, outermost first.
    ///
    /// A registry value needs its key and every key above it. The hive itself is always there.
    pub fn supports(&self) -> Vec<Self> {
        let key = match self {
            Self::RegistryKey(key) => key.parent(),
            Self::RegistryValue(key, _) => Some(key.clone()),
            _ => None,
        };
        let mut supports: Vec<_> =
            std::iter::successors(key, KeyPath::parent).map(Self::RegistryKey).collect();
        supports.reverse();
        supports
    }

    /// The text that is the same for every spelling of this address: for storage look-ups.
    pub fn identity(&self) -> String {
        match self {
            Self::RegistryKey(key) => format!("registry:{}", key.folded()),
            Self::RegistryValue(key, name) => {
                format!("registry:{}#{}", key.folded(), name.folded())
            }
            Self::ServiceStart(name) => format!("service:{}#start", name.folded()),
            Self::ServiceRunning(name) => format!("service:{}#running", name.folded()),
            Self::ActivePlan
            | Self::PowerPlan(_)
            | Self::PowerHidden { .. }
            | Self::PowerValue { .. }
            | Self::Visual(_) => self.to_string(),
            Self::Thing(setting) => setting.identity(),
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
            Self::Thing(setting) => setting.fmt(f),
        }
    }
}

fn escape(path: &str) -> String {
    path.replace('%', "%25").replace('#', "%23")
}

fn unescape(path: &str) -> String {
    path.replace("%23", "#").replace("%25", "%")
}

impl FromStr for Address {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let (kind, rest) = text.split_once(':').ok_or(AddressError::NoKind)?;
        match kind {
            "registry" => parse_registry(rest),
            "service" => parse_service(rest),
            "power" => parse_power(rest),
            "visual" => rest.parse().map(Self::Visual),
            _ => match ThingKind::named(kind) {
                Some(kind) => ThingSetting::parse(kind, rest).map(Self::Thing),
                None => Err(AddressError::UnknownKind(kind.to_owned())),
            },
        }
    }
}

fn parse_registry(rest: &str) -> Result<Address, AddressError> {
    let Some((path, name)) = rest.split_once('#') else {
        return unescape(rest).parse().map(Address::RegistryKey);
    };
    if name.contains('\0') || name.encode_utf16().count() > MAX_VALUE_NAME {
        return Err(AddressError::BadValueName);
    }
    Ok(Address::RegistryValue(unescape(path).parse()?, WinName::new(name)))
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

/// The longest registry key name and value name that Windows takes, in UTF-16 units
/// ("Registry element size limits" in the Windows documentation).
const MAX_KEY_NAME: usize = 255;
const MAX_VALUE_NAME: usize = 16_383;
/// The deepest tree that the registry takes (same source).
const MAX_DEPTH: usize = 512;

/// A root of the registry that settings are addressed under.
///
/// The other roots are views of these, so a setting has one address only.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Hive {
    /// `HKEY_LOCAL_MACHINE`, what holds for every user.
    LocalMachine,
    /// `HKEY_CURRENT_USER`, what holds for the signed-in user.
    CurrentUser,
    /// `HKEY_USERS`, all loaded users and the sign-in screen's (`.DEFAULT`).
    Users,
}

impl Hive {
    /// The short name used in addresses.
    pub fn short_name(self) -> &'static str {
        match self {
            Self::LocalMachine => "HKLM",
            Self::CurrentUser => "HKCU",
            Self::Users => "HKU",
        }
    }

    /// The name used in Windows' registry text format.
    pub fn full_name(self) -> &'static str {
        match self {
            Self::LocalMachine => "HKEY_LOCAL_MACHINE",
            Self::CurrentUser => "HKEY_CURRENT_USER",
            Self::Users => "HKEY_USERS",
        }
    }

    fn parse(text: &str) -> Result<Self, AddressError> {
        match text.to_ascii_uppercase().as_str() {
            "HKLM" | "HKEY_LOCAL_MACHINE" => Ok(Self::LocalMachine),
            "HKCU" | "HKEY_CURRENT_USER" => Ok(Self::CurrentUser),
            "HKU" | "HKEY_USERS" => Ok(Self::Users),
            "HKCR" | "HKEY_CLASSES_ROOT" => {
                Err(AddressError::HiveIsAView("HKCR", r"HKLM\SOFTWARE\Classes"))
            }
            "HKCC" | "HKEY_CURRENT_CONFIG" => Err(AddressError::HiveIsAView(
                "HKCC",
                r"HKLM\SYSTEM\CurrentControlSet\Hardware Profiles\Current",
            )),
            _ => Err(AddressError::UnknownHive(text.to_owned())),
        }
    }
}

/// A registry key below a hive: at least one name.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct KeyPath {
    hive: Hive,
    names: Vec<WinName>,
}

impl KeyPath {
    /// The hive that the key is in.
    pub fn hive(&self) -> Hive {
        self.hive
    }

    /// The names from below the hive down to the key.
    pub fn names(&self) -> &[WinName] {
        &self.names
    }

    /// The key above, unless that is the hive itself.
    pub fn parent(&self) -> Option<Self> {
        let names = self.names[..self.names.len() - 1].to_vec();
        (!names.is_empty()).then_some(Self { hive: self.hive, names })
    }

    /// Whether `other` is this key or lies under it.
    pub fn contains(&self, other: &Self) -> bool {
        self.hive == other.hive && other.names.starts_with(&self.names)
    }

    /// The path spelled the same for every spelling of it.
    pub fn folded(&self) -> String {
        let names: Vec<_> = self.names.iter().map(WinName::folded).collect();
        format!(r"{}\{}", self.hive.short_name(), names.join(r"\"))
    }
}

impl fmt::Display for KeyPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.hive.short_name())?;
        self.names.iter().try_for_each(|name| write!(f, r"\{name}"))
    }
}

impl FromStr for KeyPath {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let (hive, path) = text.split_once('\\').ok_or(AddressError::NoKeyPath)?;
        let hive = Hive::parse(hive)?;
        let names: Vec<WinName> = path.split('\\').map(WinName::new).collect();
        let bad = |name: &&WinName| {
            let text = name.as_str();
            text.is_empty()
                || text.encode_utf16().count() > MAX_KEY_NAME
                || text.chars().any(char::is_control)
        };
        if let Some(name) = names.iter().find(bad) {
            return Err(AddressError::BadKeyName(name.to_string()));
        }
        if names.len() > MAX_DEPTH {
            return Err(AddressError::TooDeep);
        }
        let key = Self { hive, names };
        key.refuse_numbered_control_set()?;
        Ok(key)
    }
}

impl KeyPath {
    /// `ControlSet001` and its like are what `CurrentControlSet` points to: a second spelling
    /// under which a setting would be guarded, layered and undone as if it were another.
    fn refuse_numbered_control_set(&self) -> Result<(), AddressError> {
        let [system, set, ..] = &self.names[..] else { return Ok(()) };
        let numbered = set
            .folded()
            .strip_prefix("CONTROLSET")
            .is_some_and(|digits| digits.chars().all(|c| c.is_ascii_digit()));
        if self.hive == Hive::LocalMachine && system.folded() == "SYSTEM" && numbered {
            return Err(AddressError::NumberedControlSet);
        }
        Ok(())
    }
}

/// Which of the two values of a power setting is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
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

/// A parameter of looks that Windows keeps for the signed-in user.
///
/// Each is read and written through `SystemParametersInfo`; the names are ours, the action is
/// in the table of [`VisualParameter::windows_action`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum VisualParameter {
    /// Animations inside windows (controls and elements).
    ClientAreaAnimation,
    /// Combo boxes slide open.
    ComboBoxAnimation,
    /// Shadows under the mouse pointer.
    CursorShadow,
    /// The contents of a window are drawn while it is dragged.
    DragFullWindows,
    /// Shadows under windows.
    DropShadow,
    /// Smooth edges of screen fonts.
    FontSmoothing,
    /// List boxes scroll smoothly.
    ListBoxSmoothScrolling,
    /// Menus fade or slide into view.
    MenuAnimation,
    /// How long a submenu waits before it opens, in milliseconds.
    MenuDelay,
    /// A chosen menu item fades out.
    SelectionFade,
    /// Tool tips fade or slide into view.
    ToolTipAnimation,
    /// The main switch over all of the above animations and fades.
    UiEffects,
}

/// What a system parameter holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VisualKind {
    /// On or off.
    Flag,
    /// A time in milliseconds.
    Milliseconds,
}

impl VisualParameter {
    /// Every parameter, in the order of their names.
    pub const ALL: [Self; 12] = [
        Self::ClientAreaAnimation,
        Self::ComboBoxAnimation,
        Self::CursorShadow,
        Self::DragFullWindows,
        Self::DropShadow,
        Self::FontSmoothing,
        Self::ListBoxSmoothScrolling,
        Self::MenuAnimation,
        Self::MenuDelay,
        Self::SelectionFade,
        Self::ToolTipAnimation,
        Self::UiEffects,
    ];

    /// The name used in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Self::ClientAreaAnimation => "client-area-animation",
            Self::ComboBoxAnimation => "combo-box-animation",
            Self::CursorShadow => "cursor-shadow",
            Self::DragFullWindows => "drag-full-windows",
            Self::DropShadow => "drop-shadow",
            Self::FontSmoothing => "font-smoothing",
            Self::ListBoxSmoothScrolling => "list-box-smooth-scrolling",
            Self::MenuAnimation => "menu-animation",
            Self::MenuDelay => "menu-delay",
            Self::SelectionFade => "selection-fade",
            Self::ToolTipAnimation => "tool-tip-animation",
            Self::UiEffects => "ui-effects",
        }
    }

    /// The `SystemParametersInfo` action that writes it, less its `SPI_SET` prefix
    /// (documentation of `SystemParametersInfoW`).
    pub fn windows_action(self) -> &'static str {
        match self {
            Self::ClientAreaAnimation => "CLIENTAREAANIMATION",
            Self::ComboBoxAnimation => "COMBOBOXANIMATION",
            Self::CursorShadow => "CURSORSHADOW",
            Self::DragFullWindows => "DRAGFULLWINDOWS",
            Self::DropShadow => "DROPSHADOW",
            Self::FontSmoothing => "FONTSMOOTHING",
            Self::ListBoxSmoothScrolling => "LISTBOXSMOOTHSCROLLING",
            Self::MenuAnimation => "MENUANIMATION",
            Self::MenuDelay => "MENUSHOWDELAY",
            Self::SelectionFade => "SELECTIONFADE",
            Self::ToolTipAnimation => "TOOLTIPANIMATION",
            Self::UiEffects => "UIEFFECTS",
        }
    }

    /// What it holds.
    pub fn kind(self) -> VisualKind {
        match self {
            Self::MenuDelay => VisualKind::Milliseconds,
            _ => VisualKind::Flag,
        }
    }
}

impl fmt::Display for VisualParameter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl FromStr for VisualParameter {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Self::ALL
            .into_iter()
            .find(|parameter| parameter.name() == text)
            .ok_or_else(|| AddressError::UnknownVisual(text.to_owned()))
    }
}

/// Why a text is not an address.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum AddressError {
    #[error("an address begins with its kind and a colon, like `registry:` or `service:`")]
    NoKind,
    #[error(
        "there is no kind of setting `{0}`; the kinds are registry, service, power, visual, {things}",
        things = ThingKind::ALL.map(ThingKind::name).join(", ")
    )]
    UnknownKind(String),
    #[error("`{0}` cannot be the name of such a thing")]
    BadThing(String),
    #[error(
        "a {kind} address is a name and one of its parts: {parts}",
        kind = .0.name(),
        parts = .0.part_names().map(|part| format!("#{part}")).collect::<Vec<_>>().join(", ")
    )]
    ThingPart(ThingKind),
    #[error("`{0}` is not a registry root; write HKLM, HKCU or HKU")]
    UnknownHive(String),
    #[error("{0} is a view of other keys; address the key itself, under {1}")]
    HiveIsAView(&'static str, &'static str),
    #[error("a registry address needs a key below its root, like `HKLM\\SOFTWARE`")]
    NoKeyPath,
    #[error("`{0}` cannot be the name of a registry key")]
    BadKeyName(String),
    #[error("the registry does not nest keys this deep")]
    TooDeep,
    #[error("a registry value's name holds no nul and at most 16383 characters")]
    BadValueName,
    #[error("numbered control sets are chosen by Windows at start; write `CurrentControlSet`")]
    NumberedControlSet,
    #[error("a service address ends in `#start` or `#running`")]
    ServicePart,
    #[error("`{0}` cannot be the name of a service")]
    BadServiceName(String),
    #[error(
        "a power address is `active-plan`, or GUIDs: `PLAN#exists`, `SUBGROUP/SETTING#hidden`, \
         `PLAN/SUBGROUP/SETTING#mains` or `#battery`"
    )]
    PowerPath,
    #[error("there is no system parameter of looks called `{0}`")]
    UnknownVisual(String),
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn spellings_of_one_setting_are_one_setting() {
        let a: Address = r"registry:HKLM\SOFTWARE\Thing#Value".parse().unwrap();
        let b: Address = r"registry:hkey_local_machine\Software\THING#value".parse().unwrap();
        assert_eq!(a, b);
        assert_eq!(a.identity(), b.identity());
        assert_eq!(a.to_string(), r"registry:HKLM\SOFTWARE\Thing#Value");
    }

    #[test]
    fn a_value_is_supported_by_its_keys_from_the_outermost() {
        let value: Address = r"registry:HKCU\A\B\C#".parse().unwrap();
        let supports: Vec<_> = value.supports().iter().map(ToString::to_string).collect();
        assert_eq!(supports, [r"registry:HKCU\A", r"registry:HKCU\A\B", r"registry:HKCU\A\B\C"]);
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
            ("disk:C", AddressError::UnknownKind("disk".into())),
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
            value in prop::option::of(r"[^\x00]{0,12}"),
        ) {
            let key = KeyPath {
                hive: Hive::CurrentUser,
                names: names.iter().map(|n| WinName::new(n.as_str())).collect(),
            };
            let address = match value {
                Some(name) => Address::RegistryValue(key, WinName::new(name)),
                None => Address::RegistryKey(key),
            };
            prop_assert_eq!(address.to_string().parse::<Address>(), Ok(address));
        }

        #[test]
        fn no_text_makes_the_parser_panic(text in r"(registry|service|power|visual)?:?.{0,60}") {
            if let Ok(address) = text.parse::<Address>() {
                prop_assert_eq!(address.to_string().parse::<Address>(), Ok(address));
            }
        }
    }
}
