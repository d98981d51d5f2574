//! Why a text is no address, and the signs that stand for others in one.
//!
//! Every kind of address is parsed with these, so that they lie below all of them.

use thiserror::Error;

use super::place::PlaceError;

/// Writes the signs of a path that have a meaning in addresses as something else.
pub(super) fn escape(path: &str) -> String {
    path.replace('%', "%25").replace('#', "%23")
}

pub(super) fn unescape(path: &str) -> String {
    path.replace("%23", "#").replace("%25", "%")
}

/// Why a text is not an address.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum AddressError {
    #[error("an address begins with its kind and a colon, like `registry:` or `service:`")]
    NoKind,
    #[error(
        "there is no kind of setting `{kind}`; the kinds are registry, registry-part, service, power, visual, \
         text, clean, {}",
        objects.join(", ")
    )]
    UnknownKind { kind: String, objects: Vec<&'static str> },
    #[error("`{0}` cannot be the name of such an object")]
    BadObjectName(String),
    #[error(
        "a {kind} address is a name and one of its parts: {}",
        parts.iter().map(|part| format!("#{part}")).collect::<Vec<_>>().join(", ")
    )]
    ObjectPart { kind: &'static str, parts: Vec<&'static str> },
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
    #[error("a registry value's name holds no control characters and at most 16383 characters")]
    BadValueName,
    #[error(
        "a part of a registry value is `KEY#VALUE#` and `pair:NAME`, `word:NAME`, `bits:0x4` (bits that lie \
         together) or `text`"
    )]
    RegistryPart,
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
    #[error(transparent)]
    Place(#[from] PlaceError),
    #[error("`{file}` is not a settings file; those end in {endings}")]
    NotASettingsFile { file: String, endings: String },
    #[error(
        "a part of a settings file is `#ini:[Section]Key`, `#ini:Key`, `#ini:[Section]`, \
         `#keys:name` or `#json:/way/to/member`"
    )]
    FilePart,
    #[error("there is no place to clean called `{place}`; there are {}", places.join(", "))]
    UnknownCleanPlace { place: String, places: Vec<&'static str> },
    #[error("an address of a place to clean ends in `#quarantine` or `#files`")]
    CleanPart,
    #[error("there is no system parameter of looks called `{0}`")]
    UnknownVisual(String),
}
