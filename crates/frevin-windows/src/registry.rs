//! The registry.

use frevin_core::setting::{Hive, KeyPath, RegistryData};
use windows::Win32::Foundation::{ERROR_MORE_DATA, ERROR_NO_MORE_ITEMS, FILETIME, WIN32_ERROR};
use windows::Win32::System::Registry::{
    HKEY, HKEY_CURRENT_USER, HKEY_LOCAL_MACHINE, HKEY_USERS, KEY_CREATE_SUB_KEY, KEY_READ,
    KEY_SET_VALUE, KEY_WOW64_64KEY, REG_OPTION_NON_VOLATILE, REG_SAM_FLAGS, REG_VALUE_TYPE,
    RegCloseKey, RegCreateKeyExW, RegDeleteKeyExW, RegDeleteValueW, RegEnumKeyExW, RegEnumValueW,
    RegFlushKey, RegOpenKeyExW, RegQueryInfoKeyW, RegQueryValueExW, RegSetValueExW,
};
use windows::core::{PCWSTR, PWSTR};

use super::wide::{Wide, text};
use frevin_pc::windows::os_error::{OsError, found};
use frevin_pc::windows::registry::RegistryApi;

/// This PC's registry.
pub(crate) struct SystemRegistry;

/// An open key.
struct Key(HKEY);

impl Drop for Key {
    fn drop(&mut self) {
        // SAFETY: the handle was opened by this program and is closed once. What could go wrong
        // leaves nothing to be done.
        let _ = unsafe { RegCloseKey(self.0) };
    }
}

fn root(hive: Hive) -> HKEY {
    match hive {
        Hive::LocalMachine => HKEY_LOCAL_MACHINE,
        Hive::CurrentUser => HKEY_CURRENT_USER,
        Hive::Users => HKEY_USERS,
    }
}

fn path(key: &KeyPath) -> Wide {
    let names: Vec<&str> = key.names().iter().map(|name| name.as_str()).collect();
    Wide::new(&names.join(r"\"))
}

fn checked(call: &'static str, answer: WIN32_ERROR) -> Result<(), OsError> {
    if answer.0 == 0 { Ok(()) } else { Err(OsError::code(call, answer.0)) }
}

fn open(key: &KeyPath, access: REG_SAM_FLAGS) -> Result<Key, OsError> {
    let path = path(key);
    let mut opened = HKEY::default();
    let access = access | KEY_WOW64_64KEY;
    // SAFETY: the path lives for the call, and the handle is written to a place of its own.
    let answer =
        unsafe { RegOpenKeyExW(root(key.hive()), path.as_ptr(), None, access, &raw mut opened) };
    checked("RegOpenKeyExW", answer)?;
    Ok(Key(opened))
}

#[derive(Default)]
struct Content {
    keys: u32,
    values: u32,
    changed_at: FILETIME,
}

fn content(key: &Key) -> Result<Content, OsError> {
    let mut content = Content::default();
    // SAFETY: the handle is open, and every pointer is to a place of its own.
    let answer = unsafe {
        RegQueryInfoKeyW(
            key.0,
            None,
            None,
            None,
            Some(&raw mut content.keys),
            None,
            None,
            Some(&raw mut content.values),
            None,
            None,
            None,
            Some(&raw mut content.changed_at),
        )
    };
    checked("RegQueryInfoKeyW", answer)?;
    Ok(content)
}

/// The longest name that a registry has, of a value, with its zero.
const LONGEST_NAME: usize = 16_384;

/// Names one after the other, until there are no more.
fn names(
    call: &'static str,
    mut next: impl FnMut(u32, PWSTR, *mut u32) -> WIN32_ERROR,
) -> Result<Vec<String>, OsError> {
    let mut names = Vec::new();
    let mut buffer = vec![0_u16; LONGEST_NAME];
    for index in 0.. {
        let mut length = u32::try_from(LONGEST_NAME).unwrap_or(u32::MAX);
        let answer = next(index, PWSTR(buffer.as_mut_ptr()), &raw mut length);
        if answer == ERROR_NO_MORE_ITEMS {
            break;
        }
        checked(call, answer)?;
        names.push(text(buffer.get(..length as usize).unwrap_or_default()));
    }
    Ok(names)
}

impl RegistryApi for SystemRegistry {
    fn has_key(&self, key: &KeyPath) -> Result<bool, OsError> {
        Ok(found(open(key, KEY_READ))?.is_some())
    }

    fn value(&self, key: &KeyPath, name: &str) -> Result<Option<RegistryData>, OsError> {
        let Some(key) = found(open(key, KEY_READ))? else { return Ok(None) };
        let name = Wide::new(name);
        let mut bytes = vec![0_u8; 256];
        loop {
            let mut kind = REG_VALUE_TYPE::default();
            let mut length = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
            // SAFETY: the buffer holds as many bytes as `length` says, and the rest as in `open`.
            let answer = unsafe {
                RegQueryValueExW(
                    key.0,
                    name.as_ptr(),
                    None,
                    Some(&raw mut kind),
                    Some(bytes.as_mut_ptr()),
                    Some(&raw mut length),
                )
            };
            if answer == ERROR_MORE_DATA {
                // It may grow between two calls: the loop ends when it fits.
                bytes.resize((length as usize).max(bytes.len() * 2), 0);
                continue;
            }
            if found(checked("RegQueryValueExW", answer))?.is_none() {
                return Ok(None);
            }
            bytes.truncate(length as usize);
            return Ok(Some(RegistryData { type_number: kind.0, bytes }));
        }
    }

    fn create_key(&self, key: &KeyPath) -> Result<(), OsError> {
        let path = path(key);
        let mut made = HKEY::default();
        // SAFETY: as in `open`.
        let answer = unsafe {
            RegCreateKeyExW(
                root(key.hive()),
                path.as_ptr(),
                None,
                PCWSTR::null(),
                REG_OPTION_NON_VOLATILE,
                KEY_READ | KEY_WOW64_64KEY,
                None,
                &raw mut made,
                None,
            )
        };
        checked("RegCreateKeyExW", answer)?;
        drop(Key(made));
        Ok(())
    }

    fn remove_empty_key(&self, key: &KeyPath) -> Result<bool, OsError> {
        // Windows removes a key with its values, and refuses only where it has keys.
        let held = content(&open(key, KEY_READ)?)?;
        if held.keys > 0 || held.values > 0 {
            return Ok(false);
        }
        let path = path(key);
        // SAFETY: the path lives for the call.
        let answer =
            unsafe { RegDeleteKeyExW(root(key.hive()), path.as_ptr(), KEY_WOW64_64KEY.0, None) };
        checked("RegDeleteKeyExW", answer)?;
        Ok(true)
    }

    fn set_value(&self, key: &KeyPath, name: &str, data: &RegistryData) -> Result<(), OsError> {
        let key = open(key, KEY_SET_VALUE)?;
        let name = Wide::new(name);
        let kind = REG_VALUE_TYPE(data.type_number);
        // No bytes have no address that could be read from.
        let bytes = (!data.bytes.is_empty()).then_some(&data.bytes[..]);
        // SAFETY: the handle is open, and name and bytes live for the call.
        let answer = unsafe { RegSetValueExW(key.0, name.as_ptr(), None, kind, bytes) };
        checked("RegSetValueExW", answer)
    }

    fn remove_value(&self, key: &KeyPath, name: &str) -> Result<(), OsError> {
        let key = open(key, KEY_SET_VALUE)?;
        let name = Wide::new(name);
        // SAFETY: the handle is open, and the name lives for the call.
        checked("RegDeleteValueW", unsafe { RegDeleteValueW(key.0, name.as_ptr()) })
    }

    fn value_names(&self, key: &KeyPath) -> Result<Vec<String>, OsError> {
        let key = open(key, KEY_READ)?;
        names("RegEnumValueW", |index, name, length| {
            // SAFETY: the buffer behind `name` holds as many characters as `length` says.
            unsafe { RegEnumValueW(key.0, index, Some(name), length, None, None, None, None) }
        })
    }

    fn key_names(&self, key: &KeyPath) -> Result<Vec<String>, OsError> {
        let key = open(key, KEY_READ)?;
        names("RegEnumKeyExW", |index, name, length| {
            // SAFETY: as in `value_names`.
            unsafe { RegEnumKeyExW(key.0, index, Some(name), length, None, None, None, None) }
        })
    }

    fn may_write(&self, key: &KeyPath) -> Result<bool, OsError> {
        match open(key, KEY_SET_VALUE | KEY_CREATE_SUB_KEY) {
            Ok(_) => Ok(true),
            Err(error) if error.is_denial() => Ok(false),
            Err(error) => Err(error),
        }
    }

    fn changed_at(&self, key: &KeyPath) -> Result<Option<u64>, OsError> {
        let Some(key) = found(open(key, KEY_READ))? else { return Ok(None) };
        let moment = content(&key)?.changed_at;
        Ok(Some(u64::from(moment.dwHighDateTime) << 32 | u64::from(moment.dwLowDateTime)))
    }

    fn flush(&self, key: &KeyPath) -> Result<(), OsError> {
        let key = open(key, KEY_READ)?;
        // SAFETY: the handle is open.
        checked("RegFlushKey", unsafe { RegFlushKey(key.0) })
    }
}
