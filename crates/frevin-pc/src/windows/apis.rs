//! All that Frevin asks of Windows, in one place.

use std::collections::BTreeMap;
use std::path::PathBuf;

use frevin_core::setting::{CleanPlace, Place};

use super::adapters::NameServersApi;
use super::boot::BootApi;
use super::devices::DevicesApi;
use super::displays::DisplaysApi;
use super::facts::FactsApi;
use super::installed::{AppsApi, FeaturesApi};
use super::power::PowerApi;
use super::protections::ProtectionsApi;
use super::registry::RegistryApi;
use super::services::ServicesApi;
use super::startup::StartupFolders;
use super::tasks::TasksApi;
use super::visual::VisualApi;
use crate::contract::RestorePoint;

/// What Windows offers, object by object.
pub(crate) struct Apis {
    pub(crate) registry: Box<dyn RegistryApi>,
    pub(crate) services: Box<dyn ServicesApi>,
    pub(crate) power: Box<dyn PowerApi>,
    pub(crate) visual: Box<dyn VisualApi>,
    pub(crate) tasks: Box<dyn TasksApi>,
    pub(crate) displays: Box<dyn DisplaysApi>,
    pub(crate) name_servers: Box<dyn NameServersApi>,
    pub(crate) devices: Box<dyn DevicesApi>,
    pub(crate) startup_folders: Box<dyn StartupFolders>,
    pub(crate) boot: Box<dyn BootApi>,
    pub(crate) apps: Box<dyn AppsApi>,
    pub(crate) features: Box<dyn FeaturesApi>,
    pub(crate) protections: Box<dyn ProtectionsApi>,
    pub(crate) facts: Box<dyn FactsApi>,
    pub(crate) system: Box<dyn SystemApi>,
    /// The folders of this user's and this PC's that settings files lie below.
    pub(crate) places: BTreeMap<Place, PathBuf>,
    /// The folders that can be cleaned.
    pub(crate) clean_places: BTreeMap<CleanPlace, PathBuf>,
}

/// What concerns the whole PC and this process.
pub(crate) trait SystemApi {
    /// The name of the PC.
    fn name(&self) -> String;
    /// Whether the process has an administrator's rights.
    fn is_administrator(&self) -> bool;
    /// Whether somebody else is signed in at the screen than the user whom this process runs as, as
    /// after starting a program with another account's password.
    fn runs_as_another_user(&self) -> bool;
    /// Takes the right to change the PC from all other processes; nothing where another has it. It
    /// ends with the value, or with the process.
    fn take_turn(&self) -> std::io::Result<Option<Box<dyn Send>>>;
    /// Asks for a restore point.
    fn restore_point(&self, description: &str) -> RestorePoint;
}
