//! What is installed: apps of the signed-in user, and optional features of Windows.

use frevin_core::setting::{State, Value};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

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
