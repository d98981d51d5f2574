//! Boot entries.

use frevin_core::setting::{State, Value};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// A value of an element of a boot entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Element {
    /// Yes or no.
    Boolean(bool),
    /// A number.
    Integer(u64),
    /// A text.
    Text(String),
}

/// The boot store as Windows offers it. Elements go by Windows' numbers.
pub trait BootApi {
    /// An element of an entry; nothing where the entry does not say.
    fn element(&self, entry: &str, number: u32) -> Result<Option<Element>, OsError>;
    /// Sets an element.
    fn set_element(&self, entry: &str, number: u32, element: &Element) -> Result<(), OsError>;
    /// Takes an element out of an entry.
    fn remove_element(&self, entry: &str, number: u32) -> Result<(), OsError>;
}

/// Entries by the names that addresses use, with the identifiers that Windows keeps for them
/// ("BcdStore class", well-known objects).
const ENTRIES: [(&str, &str); 2] = [
    ("current", "{fa926493-6f1c-4193-a414-58f0b2456d1e}"),
    ("bootmgr", "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"),
];

/// What an element holds, by what its number begins with (format nibble of a BCD element).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Format {
    Boolean,
    Integer(&'static [&'static str]),
    Text,
}

/// Elements by the names that addresses use (`BcdLibraryElementTypes`, `BcdOSLoaderElementTypes`
/// and `BcdBootMgrElementTypes` in the Windows documentation). Numbers with names of their own list
/// them from 0.
const ELEMENTS: [(&str, u32, Format); 9] = [
    ("description", 0x1200_0004, Format::Text),
    ("timeout", 0x2500_0004, Format::Integer(&[])),
    ("nx", 0x2500_0020, Format::Integer(&["OptIn", "OptOut", "AlwaysOff", "AlwaysOn"])),
    ("numproc", 0x2500_0061, Format::Integer(&[])),
    ("useplatformclock", 0x2600_00A2, Format::Boolean),
    ("useplatformtick", 0x2600_00A4, Format::Boolean),
    ("disabledynamictick", 0x2600_00A5, Format::Boolean),
    ("tscsyncpolicy", 0x2500_00A6, Format::Integer(&["Default", "Legacy", "Enhanced"])),
    ("hypervisorlaunchtype", 0x2500_00F0, Format::Integer(&["Off", "Auto"])),
];

fn find(entry: &str, element: &str) -> Option<(&'static str, u32, Format)> {
    let (_, id) = ENTRIES.into_iter().find(|(known, _)| known.eq_ignore_ascii_case(entry))?;
    let (_, number, format) =
        ELEMENTS.into_iter().find(|(known, ..)| known.eq_ignore_ascii_case(element))?;
    Some((id, number, format))
}

fn shown(element: &Element, format: Format) -> Option<String> {
    Some(match (element, format) {
        (Element::Boolean(flag), Format::Boolean) => (if *flag { "yes" } else { "no" }).to_owned(),
        (Element::Integer(number), Format::Integer([])) => number.to_string(),
        (Element::Integer(number), Format::Integer(names)) => {
            (*names.get(usize::try_from(*number).ok()?)?).to_owned()
        }
        (Element::Text(text), Format::Text) => text.clone(),
        _ => return None,
    })
}

fn parsed(text: &str, format: Format) -> Option<Element> {
    Some(match format {
        Format::Boolean if text == "yes" => Element::Boolean(true),
        Format::Boolean if text == "no" => Element::Boolean(false),
        Format::Boolean => return None,
        Format::Integer([]) => Element::Integer(text.parse().ok()?),
        Format::Integer(names) => {
            Element::Integer(names.iter().position(|name| *name == text)?.try_into().ok()?)
        }
        Format::Text => Element::Text(text.to_owned()),
    })
}

pub(super) fn read(boot: &dyn BootApi, entry: &str, element: &str) -> State {
    let Some((entry, number, format)) = find(entry, element) else {
        return State::Unreadable("Frevin does not know this element of a boot entry".to_owned());
    };
    state_of(boot.element(entry, number).map(|element| {
        let element = element?;
        let unusual = || State::Unreadable("the boot entry holds something unusual".to_owned());
        Some(shown(&element, format).map_or_else(unusual, |text| Value::Text(text).into()))
    }))
}

pub(super) fn write(
    boot: &dyn BootApi,
    entry: &str,
    element: &str,
    state: &State,
) -> Result<Written, WriteError> {
    let refused = |reason: String| WriteError::Refused(reason);
    let (id, number, format) = find(entry, element)
        .ok_or_else(|| refused(format!("Frevin does not know {element} of a boot entry")))?;
    match state {
        State::Absent => {
            if boot.element(id, number).map_err(OsError::before_write)?.is_some() {
                boot.remove_element(id, number)?;
            }
        }
        State::Value(Value::Text(text)) => {
            let element = parsed(text, format)
                .ok_or_else(|| refused(format!("{element} is never \"{text}\"")))?;
            if boot.element(id, number).map_err(OsError::before_write)?.as_ref() != Some(&element) {
                boot.set_element(id, number, &element)?;
            }
        }
        other => return Err(refused(format!("{element} cannot hold {other}"))),
    }
    Ok(Written::Done)
}

/// The names of the parts that entries have here, as addresses write them.
pub(super) fn parts() -> impl Iterator<Item = (&'static str, String)> {
    ENTRIES.into_iter().flat_map(|(entry, _)| {
        ELEMENTS.into_iter().map(move |(element, ..)| (entry, format!("element-{element}")))
    })
}
