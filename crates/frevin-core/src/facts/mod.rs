//! Facts: what is known of a PC and not changed by Frevin.
//!
//! Plain data, read from the PC once and passed around. Conditions of tweaks speak of facts by
//! the field names here, so renaming a field is a change to the catalogue's language.
//!
//! A fact that a PC does not tell is null, with its reason in [`Facts::unknown`]: a condition over
//! it is neither met nor unmet, and says so.

mod file_check;
mod guard;
mod unknown;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use uuid::Uuid;

pub use file_check::FileCheck;
pub use guard::Guard;
pub use unknown::{Told, facts_needed, tell};

/// What is known of a PC.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Facts {
    /// Desktop, laptop or handheld.
    pub form: Option<Form>,
    /// What the PC draws its power from now.
    pub power_source: super::setting::PowerSource,
    /// The operating system.
    pub windows: Windows,
    /// The main processor.
    pub processor: Processor,
    /// Main memory.
    pub memory: Memory,
    /// Drives, the system's among them.
    pub drives: Vec<Drive>,
    /// Graphics processors.
    pub graphics: Vec<Graphics>,
    /// Connected displays.
    pub displays: Vec<Display>,
    /// Network adapters.
    pub adapters: Vec<Adapter>,
    /// What the owner uses and therefore must not lose.
    pub uses: Uses,
    /// Power plans.
    #[serde(default)]
    pub power: Power,
    /// Games that Windows has met.
    #[serde(default)]
    pub games: Vec<Game>,
    /// How busy the PC is when nothing is asked of it.
    #[serde(default)]
    pub load: Load,
    /// What the firmware is set to.
    #[serde(default)]
    pub firmware: Firmware,
    /// Anti-virus programs and firewalls beside Windows' own.
    #[serde(default)]
    pub guards: Vec<Guard>,
    /// Devices that are connected and do not work.
    #[serde(default)]
    pub devices_with_error: Vec<DeviceError>,
    /// Whether the maker of the PC has power and fan modes of its own.
    #[serde(default = "no")]
    pub has_vendor_power_modes: Option<bool>,
    /// What the PC does not tell, by the path of its field, with the reason; a field of every
    /// drive, card or the like is named once (`drives.kind`).
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub unknown: BTreeMap<String, String>,
}

/// What a rehearsal PC holds for what its file does not speak of.
fn no() -> Option<bool> {
    Some(false)
}

/// The shape of a PC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// Stands on or under a desk.
    Desktop,
    /// Folds, has a battery.
    Laptop,
    /// Held in two hands, has a battery.
    Handheld,
}

/// The operating system.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Windows {
    /// The edition, as Windows names it: `Home`, `Pro`, …
    pub edition: Option<String>,
    /// The release the owner knows: 10 or 11.
    pub release: u32,
    /// The build number.
    pub build: u32,
    /// Whether it is a 64-bit Windows.
    pub is_64_bit: bool,
    /// Whether Windows itself waits for a restart, for an update or an installation.
    #[serde(default = "no")]
    pub waits_for_restart: Option<bool>,
    /// What its own file checker found last; null where it tells of no check.
    #[serde(default)]
    pub file_check: Option<FileCheck>,
}

/// A device that is connected and does not work.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DeviceError {
    /// Its name.
    pub name: String,
    /// Its instance identifier.
    pub device_id: String,
    /// Windows' number of what is wrong ("Error codes in Device Manager").
    pub code: u32,
}

/// The main processor.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Processor {
    /// Its name.
    pub name: String,
    /// Physical cores.
    pub cores: u32,
    /// Hardware threads.
    pub threads: u32,
    /// Whether it mixes fast and frugal cores.
    pub mixed_cores: Option<bool>,
    /// The clock that it is sold for, in megahertz; null where it is not known.
    pub base_mhz: Option<u32>,
    /// The clock that it holds after minutes of load, in megahertz; null where nobody has looked.
    pub sustained_mhz: Option<u32>,
}

/// Main memory.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Memory {
    /// Size in mebibytes.
    pub size_mib: u64,
    /// The speed it is sold for, in millions of transfers a second.
    pub rated_mt_s: Option<u32>,
    /// The speed it runs at, in millions of transfers a second.
    pub actual_mt_s: Option<u32>,
    /// How many modules there are; null where it is not known.
    #[serde(default)]
    pub modules: Option<u32>,
}

/// A drive.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Drive {
    /// Its letter and colon.
    pub letter: String,
    /// Solid-state or spinning.
    pub kind: Option<DriveKind>,
    /// Size in gibibytes.
    pub size_gib: u64,
    /// Free space in gibibytes.
    pub free_gib: u64,
    /// Whether Windows is on it.
    pub is_system: bool,
}

/// How a drive stores.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DriveKind {
    /// No moving parts: every place is as near as any other.
    SolidState,
    /// A spinning disk: seeking costs milliseconds.
    Spinning,
}

/// A graphics processor.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Graphics {
    /// Its name.
    pub name: String,
    /// Whether it has a board and memory of its own.
    pub is_discrete: Option<bool>,
    /// Video memory in mebibytes.
    pub video_memory_mib: Option<u64>,
    /// Driver version.
    pub driver_version: Option<String>,
    /// Driver date, year-month-day.
    pub driver_date: Option<jiff::civil::Date>,
    /// Whether card and driver can schedule their own work.
    pub can_schedule_itself: Option<bool>,
    /// The instance identifier of its device; null where it is not known.
    pub device_id: Option<String>,
}

/// A connected display.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Display {
    /// Its name.
    pub name: String,
    /// Width in use, in pixels.
    pub width_px: u32,
    /// Height in use, in pixels.
    pub height_px: u32,
    /// Refresh rate in use, in hertz.
    pub refresh_hz: u32,
    /// The highest rate it offers at this size, in hertz.
    pub highest_refresh_hz: u32,
    /// Scaling of text and windows, in percent.
    pub scaling_percent: Option<u32>,
    /// The width of the largest size that it offers, in pixels; null where it is not known.
    #[serde(default)]
    pub largest_width_px: Option<u32>,
    /// The height of that size, in pixels.
    #[serde(default)]
    pub largest_height_px: Option<u32>,
    /// The highest rate that it offers at any size, in hertz; null where it is not known.
    #[serde(default)]
    pub highest_refresh_at_any_size_hz: Option<u32>,
    /// Whether its refresh rate can follow the frames.
    #[serde(default = "no")]
    pub can_vary_refresh: Option<bool>,
}

/// A network adapter.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Adapter {
    /// Its name.
    pub name: String,
    /// Whether it works without a cable.
    pub is_wireless: bool,
    /// Speed of the link, in megabits a second.
    pub link_mbit_s: Option<u32>,
    /// The GUID that the registry knows its interface by, in braces; null where it is not known.
    pub interface_id: Option<String>,
    /// The instance identifier of its device; null where it is not known.
    pub device_id: Option<String>,
}

/// Power plans.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Power {
    /// The plan in force; in a profile that puts another one in force, that one.
    pub plan_in_force: Option<Uuid>,
    /// Every plan that the PC has.
    #[serde(default)]
    pub plans: Vec<Uuid>,
}

/// A game that Windows has met, from the list that it keeps for its own game features.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Game {
    /// What it is called.
    pub name: String,
    /// Its program, with the folders that it is in.
    pub program: String,
}

impl Game {
    /// The name of its program's file, without folders.
    pub fn file(&self) -> &str {
        self.program.rsplit(['\\', '/']).next().unwrap_or(&self.program)
    }
}

/// What the owner uses.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Uses {
    /// Prints.
    pub printer: Option<bool>,
    /// Runs virtual machines.
    pub virtual_machines: Option<bool>,
    /// Records or streams play.
    pub recording: Option<bool>,
    /// Searches files from the task bar.
    pub file_search: Option<bool>,
    /// Touches the display, or draws with a pen.
    #[serde(default = "no")]
    pub touch_or_pen: Option<bool>,
    /// Uses a camera.
    #[serde(default = "no")]
    pub camera: Option<bool>,
    /// Uses things without a cable that are not the network.
    #[serde(default = "no")]
    pub bluetooth: Option<bool>,
    /// Has an anti-virus other than Windows' own.
    #[serde(default = "no")]
    pub other_antivirus: Option<bool>,
    /// Reaches the PC from another.
    #[serde(default = "no")]
    pub remote_desktop: Option<bool>,
    /// Shares files or printers in the house.
    #[serde(default = "no")]
    pub file_sharing: Option<bool>,
    /// Scans or faxes.
    #[serde(default = "no")]
    pub scanner: Option<bool>,
    /// Signs in by face or finger.
    #[serde(default = "no")]
    pub biometrics: Option<bool>,
    /// Plays games from Windows' own store.
    #[serde(default = "no")]
    pub store_games: Option<bool>,
    /// Plays with a game controller's home button, or captures from the game bar.
    #[serde(default = "no")]
    pub game_bar: Option<bool>,
    /// Uses apps that want to know where the PC is.
    #[serde(default = "no")]
    pub location: Option<bool>,
}

impl Uses {
    /// An owner who uses none of it.
    pub fn none() -> Self {
        Self {
            printer: no(),
            virtual_machines: no(),
            recording: no(),
            file_search: no(),
            touch_or_pen: no(),
            camera: no(),
            bluetooth: no(),
            other_antivirus: no(),
            remote_desktop: no(),
            file_sharing: no(),
            scanner: no(),
            biometrics: no(),
            store_games: no(),
            game_bar: no(),
            location: no(),
        }
    }
}

/// How busy a PC is when nothing is asked of it; null where it is not known.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Load {
    /// Programs that run.
    pub processes: Option<u32>,
    /// Services that run.
    pub services_running: Option<u32>,
    /// Things that start when somebody signs in.
    pub starts_with_pc: Option<u32>,
    /// Memory that programs could have at once, in mebibytes.
    #[serde(default)]
    pub available_memory_mib: Option<u64>,
}

/// What the firmware is set to; null where Windows does not tell.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Firmware {
    /// Whether the processor may run virtual machines.
    pub virtualization: Option<bool>,
    /// Whether the processor sees all of the graphics card's memory at once.
    pub large_graphics_window: Option<bool>,
    /// Whether Windows is started in the firmware's compatibility mode, from a drive that is divided in
    /// the old way (MBR).
    #[serde(default)]
    pub compatibility_start: Option<bool>,
    /// Memory that is set aside for graphics in the processor, in mebibytes.
    pub graphics_carve_out_mib: Option<u32>,
}

impl Facts {
    /// The drive that Windows is on.
    pub fn system_drive(&self) -> Option<&Drive> {
        self.drives.iter().find(|drive| drive.is_system)
    }

    /// The facts as expressions see them, under the name `facts`: every field, `facts.system_drive` for
    /// the drive that Windows is on (null where none is known), and of each game the `file` of its program.
    pub fn variables(&self) -> Value {
        let mut facts = json!(self);
        facts["system_drive"] = json!(self.system_drive());
        for (at, game) in self.games.iter().enumerate() {
            facts["games"][at]["file"] = json!(game.file());
        }
        facts
    }

    /// Facts of sample PCs that between them take every branch of formulas: [`Self::reference`], and one like
    /// it with cores of two kinds, a wireless adapter and a display below its rate.
    pub fn references() -> [Self; 2] {
        let mut other = Self::reference();
        other.processor.mixed_cores = Some(true);
        other.adapters[0].is_wireless = true;
        other.displays[0].refresh_hz = 60;
        [Self::reference(), other]
    }

    /// Facts of an unremarkable desktop: what conditions are checked against when a catalogue
    /// is loaded, and a start for tests.
    pub fn reference() -> Self {
        use super::setting::{BALANCED, HIGH_PERFORMANCE, POWER_SAVER};
        Self {
            form: Some(Form::Desktop),
            power_source: super::setting::PowerSource::Mains,
            windows: Windows {
                edition: Some("Pro".into()),
                release: 11,
                build: 26_100,
                is_64_bit: true,
                waits_for_restart: no(),
                file_check: None,
            },
            processor: Processor {
                name: "Sample processor".into(),
                cores: 8,
                threads: 16,
                mixed_cores: Some(false),
                base_mhz: Some(3600),
                sustained_mhz: Some(4400),
            },
            memory: Memory {
                size_mib: 32_768,
                rated_mt_s: Some(6000),
                actual_mt_s: Some(4800),
                modules: Some(2),
            },
            drives: vec![Drive {
                letter: "C:".into(),
                kind: Some(DriveKind::SolidState),
                size_gib: 931,
                free_gib: 402,
                is_system: true,
            }],
            graphics: vec![Graphics {
                name: "Sample graphics".into(),
                is_discrete: Some(true),
                video_memory_mib: Some(12_288),
                driver_version: Some("1.0".into()),
                driver_date: Some(jiff::civil::date(2026, 9, 1)),
                can_schedule_itself: Some(true),
                device_id: Some(r"PCI\VEN_0000&DEV_0001\0".into()),
            }],
            displays: vec![Display {
                name: "Sample display".into(),
                width_px: 2560,
                height_px: 1440,
                refresh_hz: 144,
                highest_refresh_hz: 144,
                scaling_percent: Some(100),
                largest_width_px: Some(2560),
                largest_height_px: Some(1440),
                highest_refresh_at_any_size_hz: Some(144),
                can_vary_refresh: Some(true),
            }],
            adapters: vec![Adapter {
                name: "Ethernet".into(),
                is_wireless: false,
                link_mbit_s: Some(1000),
                interface_id: Some("{00000000-0000-0000-0000-000000000001}".into()),
                device_id: Some(r"PCI\VEN_0000&DEV_0002\0".into()),
            }],
            uses: Uses { file_search: Some(true), ..Uses::none() },
            power: Power {
                plan_in_force: Some(BALANCED),
                plans: vec![POWER_SAVER, BALANCED, HIGH_PERFORMANCE],
            },
            games: vec![Game {
                name: "Sample game".into(),
                program: r"C:\Games\Sample\sample.exe".into(),
            }],
            load: Load {
                processes: Some(160),
                services_running: Some(90),
                starts_with_pc: Some(6),
                available_memory_mib: Some(24_000),
            },
            firmware: Firmware {
                virtualization: Some(true),
                large_graphics_window: Some(true),
                compatibility_start: no(),
                graphics_carve_out_mib: None,
            },
            guards: Vec::new(),
            devices_with_error: Vec::new(),
            has_vendor_power_modes: no(),
            unknown: BTreeMap::new(),
        }
    }
}
