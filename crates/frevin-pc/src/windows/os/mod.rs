//! What Windows offers, through its own public functions.
//!
//! The only part of the program that calls them. Functions that old versions of Windows lack are
//! looked up when they are needed ([`library`]); every other is imported.
#![allow(unsafe_code, reason = "Windows is called here, and only here")]

mod apps;
mod boot;
mod com;
mod devices;
mod displays;
pub(super) mod echo;
mod facts;
mod features;
mod files;
mod folders;
mod library;
mod name_servers;
pub mod own_folder;
mod power;
mod protections;
mod registry;
mod services;
mod system;
mod tasks;
pub(crate) mod tracing;
mod visual;
mod wide;
mod wmi;

pub(crate) use files::replace_file;

use super::apis::Apis;

/// This PC's Windows.
pub(super) fn apis() -> Apis {
    Apis {
        registry: Box::new(registry::SystemRegistry),
        services: Box::new(services::ServiceManager),
        power: Box::new(power::PowerProfiles),
        visual: Box::new(visual::SystemParameters),
        tasks: Box::new(tasks::TaskScheduler),
        displays: Box::new(displays::DisplayDevices),
        name_servers: Box::new(name_servers::InterfaceSettings),
        devices: Box::new(devices::DeviceManager),
        startup_folders: Box::new(folders::Startup),
        boot: Box::new(boot::BootStore),
        apps: Box::new(apps::Packages),
        features: Box::new(features::OptionalFeatures),
        protections: Box::new(protections::AntiVirus),
        facts: Box::new(facts::Hardware),
        system: Box::new(system::ThisPc),
        places: folders::places(),
        clean_places: folders::clean_places(),
    }
}
