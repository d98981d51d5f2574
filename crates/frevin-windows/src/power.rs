//! Power plans.

use frevin_core::setting::PowerSource;
use uuid::Uuid;
use windows::Win32::Foundation::{ERROR_NO_MORE_ITEMS, HLOCAL, LocalFree};
use windows::core::GUID;

use super::library::function;
use super::wide::{Wide, text};
use frevin_pc::windows::os_error::OsError;
use frevin_pc::windows::power::{PowerApi, ValuePath};

/// This PC's power plans.
pub(crate) struct PowerProfiles;

type Root = *const core::ffi::c_void;
const USER: Root = core::ptr::null();

fn guid(id: Uuid) -> GUID {
    GUID::from_u128(id.as_u128())
}

fn uuid(id: GUID) -> Uuid {
    Uuid::from_u128(id.to_u128())
}

fn checked(call: &'static str, answer: u32) -> Result<(), OsError> {
    if answer == 0 { Ok(()) } else { Err(OsError::code(call, answer)) }
}

/// What `PowerEnumerate` lists (`POWER_DATA_ACCESSOR`).
#[derive(Clone, Copy)]
enum Listed {
    Scheme = 16,
    Subgroup = 17,
    Setting = 18,
}

fn list(plan: Option<Uuid>, subgroup: Option<Uuid>, what: Listed) -> Result<Vec<Uuid>, OsError> {
    let enumerate = function!(
        "powrprof.dll",
        fn PowerEnumerate(Root, *const GUID, *const GUID, u32, u32, *mut u8, *mut u32) -> u32
    )?;
    let (plan, subgroup) = (plan.map(guid), subgroup.map(guid));
    let at = |id: &Option<GUID>| id.as_ref().map_or(core::ptr::null(), core::ptr::from_ref);
    let mut found = Vec::new();
    for index in 0.. {
        let mut id = GUID::default();
        let mut length = u32::try_from(size_of::<GUID>()).unwrap_or(16);
        let place = (&raw mut id).cast();
        // SAFETY: the GUIDs live for the call, and the buffer is as long as is said.
        let answer = unsafe {
            enumerate(USER, at(&plan), at(&subgroup), what as u32, index, place, &raw mut length)
        };
        if answer == ERROR_NO_MORE_ITEMS.0 {
            break;
        }
        checked("PowerEnumerate", answer)?;
        found.push(uuid(id));
    }
    Ok(found)
}

/// A text of a plan, by the function that reads it.
fn plan_text(
    call: &'static str,
    plan: Uuid,
    read: impl Fn(*const GUID, *mut u8, *mut u32) -> u32,
) -> Result<String, OsError> {
    let plan = guid(plan);
    let mut units = vec![0_u16; 1024];
    let mut length = u32::try_from(units.len() * 2).unwrap_or(u32::MAX);
    checked(call, read(&raw const plan, units.as_mut_ptr().cast(), &raw mut length))?;
    Ok(text(&units))
}

impl PowerApi for PowerProfiles {
    fn active(&self) -> Result<Uuid, OsError> {
        let get = function!("powrprof.dll", fn PowerGetActiveScheme(Root, *mut *mut GUID) -> u32)?;
        let mut plan: *mut GUID = core::ptr::null_mut();
        // SAFETY: Windows writes a pointer to a GUID of its own making, which is freed below.
        checked("PowerGetActiveScheme", unsafe { get(USER, &raw mut plan) })?;
        if plan.is_null() {
            return Err(OsError::NotOffered { call: "PowerGetActiveScheme" });
        }
        // SAFETY: as above; it is read once and freed once.
        let active = unsafe { uuid(*plan) };
        // SAFETY: as above.
        unsafe { LocalFree(Some(HLOCAL(plan.cast()))) };
        Ok(active)
    }

    fn set_active(&self, plan: Uuid) -> Result<(), OsError> {
        let set = function!("powrprof.dll", fn PowerSetActiveScheme(Root, *const GUID) -> u32)?;
        let plan = guid(plan);
        // SAFETY: the GUID lives for the call.
        checked("PowerSetActiveScheme", unsafe { set(USER, &raw const plan) })
    }

    fn plans(&self) -> Result<Vec<Uuid>, OsError> {
        list(None, None, Listed::Scheme)
    }

    fn settings(&self, plan: Uuid) -> Result<Vec<(Uuid, Uuid)>, OsError> {
        let mut found = Vec::new();
        for subgroup in list(Some(plan), None, Listed::Subgroup)? {
            let settings = list(Some(plan), Some(subgroup), Listed::Setting)?;
            found.extend(settings.into_iter().map(|setting| (subgroup, setting)));
        }
        Ok(found)
    }

    fn name(&self, plan: Uuid) -> Result<String, OsError> {
        let read = function!(
            "powrprof.dll",
            fn PowerReadFriendlyName(
                Root, *const GUID, *const GUID, *const GUID, *mut u8, *mut u32
            ) -> u32
        )?;
        let none = core::ptr::null();
        plan_text("PowerReadFriendlyName", plan, |plan, buffer, length| {
            // SAFETY: the buffer is as long as is said; no subgroup and no setting is meant.
            unsafe { read(USER, plan, none, none, buffer, length) }
        })
    }

    fn description(&self, plan: Uuid) -> Result<String, OsError> {
        let read = function!(
            "powrprof.dll",
            fn PowerReadDescription(
                Root, *const GUID, *const GUID, *const GUID, *mut u8, *mut u32
            ) -> u32
        )?;
        let none = core::ptr::null();
        plan_text("PowerReadDescription", plan, |plan, buffer, length| {
            // SAFETY: as in `name`.
            unsafe { read(USER, plan, none, none, buffer, length) }
        })
    }

    fn duplicate(&self, plan: Uuid, copy: Uuid) -> Result<(), OsError> {
        let duplicate = function!(
            "powrprof.dll",
            fn PowerDuplicateScheme(Root, *const GUID, *mut *mut GUID) -> u32
        )?;
        let plan = guid(plan);
        let mut copy = guid(copy);
        let mut place = &raw mut copy;
        // SAFETY: a pointer to a GUID says under which the copy is made; Windows keeps neither.
        let answer = unsafe { duplicate(USER, &raw const plan, &raw mut place) };
        checked("PowerDuplicateScheme", answer)
    }

    fn describe(&self, plan: Uuid, name: &str, description: &str) -> Result<(), OsError> {
        type Id = *const GUID;
        let write_name = function!(
            "powrprof.dll",
            fn PowerWriteFriendlyName(Root, Id, Id, Id, *const u8, u32) -> u32
        )?;
        let write_description = function!(
            "powrprof.dll",
            fn PowerWriteDescription(Root, Id, Id, Id, *const u8, u32) -> u32
        )?;
        let plan = guid(plan);
        let none = core::ptr::null();
        let (name_text, description_text) = (Wide::new(name), Wide::new(description));
        let length =
            |text: &str| u32::try_from((text.encode_utf16().count() + 1) * 2).unwrap_or(u32::MAX);
        let name_place = name_text.as_ptr().0.cast();
        // SAFETY: the text lives for the call and is as long as is said, its zero included.
        checked("PowerWriteFriendlyName", unsafe {
            write_name(USER, &raw const plan, none, none, name_place, length(name))
        })?;
        let description_place = description_text.as_ptr().0.cast();
        // SAFETY: as above.
        checked("PowerWriteDescription", unsafe {
            write_description(
                USER,
                &raw const plan,
                none,
                none,
                description_place,
                length(description),
            )
        })
    }

    fn delete(&self, plan: Uuid) -> Result<(), OsError> {
        let delete = function!("powrprof.dll", fn PowerDeleteScheme(Root, *const GUID) -> u32)?;
        let plan = guid(plan);
        // SAFETY: the GUID lives for the call.
        checked("PowerDeleteScheme", unsafe { delete(USER, &raw const plan) })
    }

    fn index(&self, path: ValuePath, source: PowerSource) -> Result<Option<u32>, OsError> {
        type Id = *const GUID;
        let read = match source {
            PowerSource::Mains => function!(
                "powrprof.dll",
                fn PowerReadACValueIndex(Root, Id, Id, Id, *mut u32) -> u32
            ),
            PowerSource::Battery => function!(
                "powrprof.dll",
                fn PowerReadDCValueIndex(Root, Id, Id, Id, *mut u32) -> u32
            ),
        }?;
        let [plan, subgroup, setting] = path.map(guid);
        let mut index = 0;
        // SAFETY: the GUIDs live for the call, and the number is written to a place of its own.
        let answer = unsafe {
            read(USER, &raw const plan, &raw const subgroup, &raw const setting, &raw mut index)
        };
        match checked("PowerReadValueIndex", answer) {
            Ok(()) => Ok(Some(index)),
            Err(error) if error.is_absence() => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn set_index(&self, path: ValuePath, source: PowerSource, index: u32) -> Result<(), OsError> {
        type Id = *const GUID;
        let write = match source {
            PowerSource::Mains => {
                function!("powrprof.dll", fn PowerWriteACValueIndex(Root, Id, Id, Id, u32) -> u32)
            }
            PowerSource::Battery => {
                function!("powrprof.dll", fn PowerWriteDCValueIndex(Root, Id, Id, Id, u32) -> u32)
            }
        }?;
        let [plan, subgroup, setting] = path.map(guid);
        // SAFETY: the GUIDs live for the call.
        let answer =
            unsafe { write(USER, &raw const plan, &raw const subgroup, &raw const setting, index) };
        checked("PowerWriteValueIndex", answer)
    }

    fn attributes(&self, subgroup: Uuid, setting: Uuid) -> Result<Option<u32>, OsError> {
        let read = function!(
            "powrprof.dll",
            fn PowerReadSettingAttributes(*const GUID, *const GUID) -> u32
        )?;
        if !list(None, Some(subgroup), Listed::Setting)?.contains(&setting) {
            return Ok(None);
        }
        let (subgroup, setting) = (guid(subgroup), guid(setting));
        // SAFETY: the GUIDs live for the call.
        Ok(Some(unsafe { read(&raw const subgroup, &raw const setting) }))
    }

    fn set_attributes(&self, subgroup: Uuid, setting: Uuid, bits: u32) -> Result<(), OsError> {
        let write = function!(
            "powrprof.dll",
            fn PowerWriteSettingAttributes(*const GUID, *const GUID, u32) -> u32
        )?;
        let (subgroup, setting) = (guid(subgroup), guid(setting));
        // SAFETY: the GUIDs live for the call.
        let answer = unsafe { write(&raw const subgroup, &raw const setting, bits) };
        checked("PowerWriteSettingAttributes", answer)
    }
}
