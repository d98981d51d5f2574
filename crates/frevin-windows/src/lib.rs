//! Windows, called through its own public functions: the traits of `frevin_pc::windows` carried out.
//!
//! The only crate that calls them, and the only one with `unsafe`. Functions that old versions of
//! Windows lack are looked up when they are needed (`library`); every other is imported.
#![cfg(windows)]
#![allow(unsafe_code, reason = "Windows is called here, and only here")]

mod apps;
mod boot;
mod com;
mod devices;
mod displays;
mod echo;
mod event_log;
mod facts;
mod features;
mod files;
mod folders;
mod for_games;
pub mod game_process;
mod graphics_use;
mod health;
mod library;
mod name_servers;
pub mod own_folder;
mod own_window;
mod power;
mod protections;
mod registry;
mod services;
mod starts;
mod system;
mod tasks;
mod tracing;
mod visual;
mod wide;
mod wmi;

use std::path::Path;
use std::time::Duration;

use frevin_pc::PcError;
use frevin_pc::windows::apis::Apis;
use frevin_pc::windows::own_pictures::{self, OwnPictures, OwnPicturesError};
use frevin_pc::windows::pc::LivePc;
use frevin_pc::windows::presents::{RecordError, RecordedPresents, record};

pub use echo::echo;
pub use files::rename_for_good;
pub use system::{owns_its_window, start_as_administrator};

/// The PC that this program runs on. `home` is Frevin's own folder: the lock lies in it, and what is
/// set aside.
///
/// # Errors
/// Where Windows cannot be asked which PC this is.
pub fn live_pc(home: &Path) -> Result<LivePc, PcError> {
    LivePc::over(apis(), home)
}

/// Records the frames that a running program shows, by what Windows itself traces: nothing is put into the
/// program. `program` is the name of its file, with or without `.exe`.
///
/// # Errors
/// [`RecordError`], among them where tracing is not offered or not allowed.
pub fn record_presents(program: &str, length: Duration) -> Result<RecordedPresents, RecordError> {
    record(&tracing::EventTracing, &graphics_use::GraphicsUse, program, length)
}

/// Shows pictures at a known pace in a small window of this program's own for some seconds, and traces them as a game's are:
/// whether what is traced is what was shown. Where nothing can be traced, no window opens.
///
/// # Errors
/// [`OwnPicturesError`].
pub fn trace_own_pictures() -> Result<OwnPictures, OwnPicturesError> {
    let process = std::process::id();
    own_pictures::trace_own_pictures(&tracing::EventTracing, &own_window::OwnWindow, process)
}

/// This PC's Windows.
fn apis() -> Apis {
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
        health: Box::new(health::Health),
        graphics_use: Box::new(graphics_use::GraphicsUse),
        for_games: Box::new(for_games::ForGames),
        starts: Box::new(starts::Starts),
        system: Box::new(system::ThisPc),
        replace_file: files::replace_file,
        move_new: files::move_new,
        places: folders::places(),
        clean_places: folders::clean_places(),
    }
}
