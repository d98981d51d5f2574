//! Where a registry key is: its hive, and the names below it.

use std::fmt;
use std::str::FromStr;

use super::error::AddressError;
use super::name::WinName;

/// The longest registry key name and value name that Windows takes, in UTF-16 units
/// ("Registry element size limits" in the Windows documentation).
const MAX_KEY_NAME: usize = 255;
pub(super) const MAX_VALUE_NAME: usize = 16_383;
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
        key.refuse_second_names_of_users()?;
        Ok(key)
    }
}

impl KeyPath {
    /// The sign-in screen's part is `.DEFAULT` and `S-1-5-18`, and the classes of a user are a file of
    /// their own that shows below the user's `SOFTWARE` too: one address each.
    fn refuse_second_names_of_users(&self) -> Result<(), AddressError> {
        if self.hive != Hive::Users {
            return Ok(());
        }
        let user = &self.names[0];
        if *user == WinName::new("S-1-5-18") {
            return Err(AddressError::HiveIsAView(r"HKU\S-1-5-18", r"HKU\.DEFAULT"));
        }
        if user.folded().ends_with("_CLASSES") {
            return Err(AddressError::HiveIsAView(
                r"HKU\USER_Classes",
                r"HKU\USER\SOFTWARE\Classes",
            ));
        }
        Ok(())
    }

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
