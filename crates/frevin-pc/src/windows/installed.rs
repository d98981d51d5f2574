//! What is installed: apps of the signed-in user, and optional features of Windows.

use std::path::{Path, PathBuf};

use frevin_core::setting::{KeyPath, State, Value, WinName};

use super::os_error::{OsError, state_of};
use super::registry::{self, RegistryApi};
use crate::contract::{InstalledProgram, WriteError, Written};

/// Apps as Windows offers them, by the name of their package family.
pub trait AppsApi {
    /// Whether the user has the app.
    fn is_installed(&self, family: &str) -> Result<bool, OsError>;
    /// Whether Windows keeps the app for users who do not have it yet: only such an app can be
    /// brought back without a network.
    fn is_kept(&self, family: &str) -> Result<bool, OsError>;
    /// Takes the app from the user.
    fn remove(&self, family: &str) -> Result<(), OsError>;
    /// Gives the user an app that is kept.
    fn bring_back(&self, family: &str) -> Result<(), OsError>;
    /// The apps that the user has.
    fn families(&self) -> Result<Vec<String>, OsError>;
    /// The apps that the user has, with what they are called and the folders that they lie in.
    fn named(&self) -> Result<Vec<NamedApp>, OsError>;
}

/// An app of the user's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedApp {
    /// Its package family.
    pub family: String,
    /// What it is called.
    pub name: String,
    /// The folder that it lies in; nothing where Windows does not tell.
    pub folder: Option<PathBuf>,
}

/// Optional features as Windows offers them.
pub trait FeaturesApi {
    /// Whether a feature is switched on, or will be after the next restart; nothing where this
    /// Windows has no such feature.
    fn is_enabled(&self, feature: &str) -> Result<Option<bool>, OsError>;
    /// Switches a feature on or off. Its files stay on the disk, so that it can come back.
    fn set_enabled(&self, feature: &str, enabled: bool) -> Result<(), OsError>;
    /// The names of all features.
    fn names(&self) -> Result<Vec<String>, OsError>;
}

pub(super) fn read_app(apps: &dyn AppsApi, family: &str) -> State {
    let read = || {
        if apps.is_installed(family)? {
            return Ok(Some(Value::Flag(true).into()));
        }
        Ok(apps.is_kept(family)?.then(|| Value::Flag(false).into()))
    };
    state_of(read())
}

/// An app that Windows does not keep is not taken away: there would be no way back.
pub(super) fn write_app(
    apps: &dyn AppsApi,
    family: &str,
    installed: bool,
) -> Result<Written, WriteError> {
    if apps.is_installed(family).map_err(OsError::before_write)? == installed {
        return Ok(Written::Done);
    }
    if !apps.is_kept(family).map_err(OsError::before_write)? {
        let reason = format!("Windows keeps no copy of {family}: it could not come back");
        return Err(WriteError::Refused(reason));
    }
    if installed {
        apps.bring_back(family)?
    } else {
        apps.remove(family)?
    }
    Ok(Written::Done)
}

/// Where programs that bring an uninstaller enter themselves ("Uninstall Registry Key" in the Windows documentation).
const UNINSTALLERS: [&str; 3] = [
    r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall",
    r"HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall",
    r"HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall",
];

/// Everything that is installed: apps, then programs.
pub(super) fn programs(
    apps: &dyn AppsApi,
    registry: &dyn RegistryApi,
) -> Result<Vec<InstalledProgram>, OsError> {
    let named = |app: NamedApp| InstalledProgram {
        size_mib: app.folder.as_deref().and_then(size_mib),
        family: Some(WinName::new(app.family)),
        name: app.name,
    };
    let mut found: Vec<InstalledProgram> = apps.named()?.into_iter().map(named).collect();
    for at in UNINSTALLERS {
        let Ok(uninstallers) = at.parse::<KeyPath>() else { continue };
        if !registry.has_key(&uninstallers)? {
            continue;
        }
        for entry in registry.key_names(&uninstallers)? {
            let Ok(key) = format!(r"{at}\{entry}").parse::<KeyPath>() else { continue };
            found.extend(program(registry, &key)?.filter(|one| !found.contains(one)));
        }
    }
    Ok(found)
}

/// A program that people see in Windows' own list; nothing of an update or a part of another.
fn program(registry: &dyn RegistryApi, key: &KeyPath) -> Result<Option<InstalledProgram>, OsError> {
    let text = |name: &str| registry::text(registry, key, name);
    let is_part = registry::number(registry, key, "SystemComponent")? == Some(1)
        || text("ParentKeyName")?.is_some();
    let name =
        text("DisplayName")?.map(|name| name.trim().to_owned()).filter(|name| !name.is_empty());
    let kib = registry::number(registry, key, "EstimatedSize")?.filter(|kib| *kib > 0);
    let program =
        |name| InstalledProgram { name, family: None, size_mib: kib.map(|kib| kib.div_ceil(1024)) };
    Ok(name.filter(|_| !is_part).map(program))
}

/// What the files of a folder take together; nothing where they cannot be looked at.
fn size_mib(folder: &Path) -> Option<u64> {
    /// A larger one is not an app's.
    const MOST_FILES: usize = 200_000;
    let (mut bytes, mut files) = (0, 0);
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).ok()? {
            let entry = entry.ok()?;
            let kind = entry.file_type().ok()?;
            if kind.is_dir() {
                folders.push(entry.path());
            } else if kind.is_file() {
                bytes += entry.metadata().ok()?.len();
                files += 1;
            }
            if files > MOST_FILES {
                return None;
            }
        }
    }
    Some(bytes.div_ceil(1 << 20))
}

pub(super) fn read_feature(features: &dyn FeaturesApi, name: &str) -> State {
    state_of(features.is_enabled(name).map(|enabled| enabled.map(|on| Value::Flag(on).into())))
}

pub(super) fn write_feature(
    features: &dyn FeaturesApi,
    name: &str,
    enabled: bool,
) -> Result<Written, WriteError> {
    match features.is_enabled(name).map_err(OsError::before_write)? {
        None => Err(WriteError::Refused(format!("this Windows has no feature {name}"))),
        Some(held) if held == enabled => Ok(Written::Done),
        Some(_) => {
            features.set_enabled(name, enabled)?;
            Ok(Written::Done)
        }
    }
}
