//! What Windows knows of the PC's health: what guards it, which devices do not work, and its own files.

use frevin_core::facts::{DeviceError, Guard};
use frevin_core::setting::{KeyPath, WinName};

use super::os_error::OsError;
use super::registry::{self, RegistryApi};
use super::startup::{self, StartupFolders};

/// What Windows offers about the PC's health.
pub trait HealthApi {
    /// The anti-virus programs and firewalls that Windows' security centre lists.
    fn guards(&self) -> Result<Vec<GuardSeen>, OsError>;
    /// Devices that are connected and do not work: their instance identifiers, and Windows' number of what is wrong.
    fn devices_with_error(&self) -> Result<Vec<(String, u32)>, OsError>;
    /// The end of the log of Windows' servicing.
    fn servicing_log_end(&self) -> Result<String, OsError>;
}

/// A program of the security centre's list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GuardSeen {
    /// What it is called.
    pub name: String,
    /// Whether it is an anti-virus, and no firewall.
    pub is_antivirus: bool,
    /// Its program, with its folder; of Windows' own, no file.
    pub program: String,
}

impl GuardSeen {
    /// Whether it is not Windows' own.
    pub(super) fn is_anothers(&self) -> bool {
        self.folder().is_some()
    }

    /// The folder that its program lies in, folded; nothing of Windows' own, which is protected by name.
    fn folder(&self) -> Option<String> {
        let path = self.program.trim().trim_matches('"').replace('/', "\\").to_ascii_lowercase();
        let (folder, _) = path.rsplit_once('\\')?;
        // `C:\` alone would be everything, and what lies in Windows' folder is Windows'.
        let is_own = folder.contains(r"\windows\system32") || folder.contains(r"\windows defender");
        (folder.get(1..3) == Some(r":\") && folder.len() > 3 && !is_own).then(|| folder.to_owned())
    }
}

/// The programs of a list that are not Windows' own, with the services and startup entries that run from their folders.
pub(super) fn guards(
    seen: &[GuardSeen],
    services: &[String],
    registry: &dyn RegistryApi,
    folders: &dyn StartupFolders,
) -> Vec<Guard> {
    let mut guards: Vec<Guard> = Vec::new();
    for one in seen {
        let Some(folder) = one.folder() else { continue };
        if guards.iter().any(|known| known.name == one.name) {
            continue;
        }
        let runs_from_it = |command: &str| {
            let command = command.trim_start_matches(['"', ' ']).to_ascii_lowercase();
            let rest = command.strip_prefix(r"\??\").unwrap_or(&command).strip_prefix(&folder);
            rest.is_some_and(|rest| rest.starts_with('\\'))
        };
        let image = |service: &str| {
            let at = format!(r"HKLM\SYSTEM\CurrentControlSet\Services\{service}");
            let key: KeyPath = at.parse().ok()?;
            registry::text(registry, &key, "ImagePath").ok()?
        };
        let own_services =
            services.iter().filter(|service| image(service).is_some_and(|i| runs_from_it(&i)));
        let entries = startup::entries(registry, folders).unwrap_or_default();
        let own_entries = entries.into_iter().filter(|entry| {
            startup::command(registry, entry).is_some_and(|command| runs_from_it(&command))
        });
        guards.push(Guard {
            name: one.name.clone(),
            services: own_services.map(|name| WinName::new(name.as_str())).collect(),
            startup_entries: own_entries.map(WinName::new).collect(),
        });
    }
    guards
}

/// Devices that do not work, by the names that people know them by.
pub(super) fn devices_with_error(
    seen: Vec<(String, u32)>,
    registry: &dyn RegistryApi,
) -> Vec<DeviceError> {
    let named = |(device_id, code): (String, u32)| {
        let key: Option<KeyPath> =
            format!(r"HKLM\SYSTEM\CurrentControlSet\Enum\{device_id}").parse().ok();
        let text = |value| registry::text(registry, key.as_ref()?, value).ok().flatten();
        // What a driver file describes is written as `@file,place;text`.
        let name = text("FriendlyName").or_else(|| text("DeviceDesc"));
        let name = name.map(|name| name.rsplit(';').next().unwrap_or_default().trim().to_owned());
        let name = name.filter(|name| !name.is_empty()).unwrap_or_else(|| device_id.clone());
        DeviceError { name, device_id, code }
    };
    seen.into_iter().map(named).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_folder_of_a_guard_is_its_own() {
        let folder = |program: &str| {
            let (name, program) = ("x".to_owned(), program.to_owned());
            GuardSeen { name, is_antivirus: true, program }.folder()
        };
        assert_eq!(
            folder(r#""C:\Program Files\Bulwark\bw.exe""#).as_deref(),
            Some(r"c:\program files\bulwark")
        );
        for program in [
            "windowsdefender://",
            r"%ProgramFiles%\Windows Defender\MsMpeng.exe",
            r"C:\Program Files\Windows Defender\MsMpeng.exe",
            r"C:\Windows\System32\x.exe",
            r"C:\bw.exe",
            "",
        ] {
            assert_eq!(folder(program), None, "{program}");
        }
    }
}
