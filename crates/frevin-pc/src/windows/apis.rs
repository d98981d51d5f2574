//! All that Frevin asks of Windows, in one place.

use std::collections::BTreeMap;
use std::path::PathBuf;

use frevin_core::setting::{CleanPlace, Place};

use super::adapters::NameServersApi;
use super::boot::BootApi;
use super::devices::DevicesApi;
use super::displays::DisplaysApi;
use super::for_games::ForGamesApi;
use super::graphics_use::GraphicsUseApi;
use super::hardware::FactsApi;
use super::health::HealthApi;
use super::installed::{AppsApi, FeaturesApi};
use super::os_error::OsError;
use super::power::PowerApi;
use super::protections::ProtectionsApi;
use super::registry::RegistryApi;
use super::services::ServicesApi;
use super::starts::StartsApi;
use super::startup::StartupFolders;
use super::tasks::TasksApi;
use super::visual::VisualApi;
use crate::contract::RestorePoint;
use crate::durable::Replace;
use crate::files::MoveNew;

/// What Windows offers, object by object.
#[allow(missing_docs, reason = "the traits say what each is")]
pub struct Apis {
    pub registry: Box<dyn RegistryApi>,
    pub services: Box<dyn ServicesApi>,
    pub power: Box<dyn PowerApi>,
    pub visual: Box<dyn VisualApi>,
    pub tasks: Box<dyn TasksApi>,
    pub displays: Box<dyn DisplaysApi>,
    pub name_servers: Box<dyn NameServersApi>,
    pub devices: Box<dyn DevicesApi>,
    pub startup_folders: Box<dyn StartupFolders>,
    pub boot: Box<dyn BootApi>,
    pub apps: Box<dyn AppsApi>,
    pub features: Box<dyn FeaturesApi>,
    pub protections: Box<dyn ProtectionsApi>,
    pub facts: Box<dyn FactsApi>,
    pub health: Box<dyn HealthApi>,
    pub graphics_use: Box<dyn GraphicsUseApi>,
    pub for_games: Box<dyn ForGamesApi>,
    pub starts: Box<dyn StartsApi>,
    pub system: Box<dyn SystemApi>,
    /// Puts a file in the place of another.
    pub replace_file: Replace,
    /// Gives a file a name that nothing has.
    pub move_new: MoveNew,
    /// The folders of this user's and this PC's that settings files lie below.
    pub places: BTreeMap<Place, PathBuf>,
    /// The folders that can be cleaned.
    pub clean_places: BTreeMap<CleanPlace, PathBuf>,
}

/// What concerns the whole PC and this process.
pub trait SystemApi {
    /// The name of the PC.
    fn name(&self) -> String;
    /// The identifier of the user whom this process runs as; nothing where Windows does not tell.
    fn user_id(&self) -> Option<String>;
    /// Whether the process has an administrator's rights.
    fn is_administrator(&self) -> bool;
    /// Whether somebody else is signed in at the screen than the user whom this process runs as, as
    /// after starting a program with another account's password.
    fn runs_as_another_user(&self) -> bool;
    /// Takes the right to change the PC from all other processes; nothing where another has it. It
    /// ends with the value, or with the process.
    fn take_turn(&self) -> std::io::Result<Option<Box<dyn Send>>>;
    /// Restarts the PC after half a minute, in which its owner may stop that.
    fn restart(&self) -> Result<(), OsError>;
    /// Asks for a restore point.
    fn restore_point(&self, description: &str) -> RestorePoint;
}
