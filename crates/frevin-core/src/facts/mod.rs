//! Facts: what is known of a PC and not changed by Frevin.
//!
//! Plain data, read from the PC once and passed around. Conditions of tweaks speak of facts by
//! the field names here, so renaming a field is a change to the catalogue's language.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// What is known of a PC.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Facts {
    /// Desktop, laptop or handheld.
    pub form: Form,
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
    /// How busy the PC is when nothing is asked of it.
    #[serde(default)]
    pub load: Load,
    /// What the firmware is set to.
    #[serde(default)]
    pub firmware: Firmware,
    /// Whether the maker of the PC has power and fan modes of its own.
    #[serde(default)]
    pub has_vendor_power_modes: bool,
}

/// The shape of a PC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Windows {
    /// The edition, as Windows names it: `Home`, `Pro`, …
    pub edition: String,
    /// The release the owner knows: 10 or 11.
    pub release: u32,
    /// The build number.
    pub build: u32,
    /// Whether it is a 64-bit Windows.
    pub is_64_bit: bool,
    /// Whether the edition obeys values written under the policy keys.
    pub obeys_policies: bool,
}

/// The main processor.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Processor {
    /// Its name.
    pub name: String,
    /// Physical cores.
    pub cores: u32,
    /// Hardware threads.
    pub threads: u32,
    /// Whether it mixes fast and frugal cores.
    pub mixed_cores: bool,
    /// The clock that it is sold for, in megahertz; null where it is not known.
    pub base_mhz: Option<u32>,
    /// The clock that it holds after minutes of load, in megahertz; null where nobody has looked.
    pub sustained_mhz: Option<u32>,
}

/// Main memory.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Memory {
    /// Size in mebibytes.
    pub size_mib: u64,
    /// The speed it is sold for, in millions of transfers a second.
    pub rated_mt_s: u32,
    /// The speed it runs at, in millions of transfers a second.
    pub actual_mt_s: u32,
}

/// A drive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Drive {
    /// Its letter and colon.
    pub letter: String,
    /// Solid-state or spinning.
    pub kind: DriveKind,
    /// Size in gibibytes.
    pub size_gib: u64,
    /// Free space in gibibytes.
    pub free_gib: u64,
    /// Whether Windows is on it.
    pub is_system: bool,
}

/// How a drive stores.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DriveKind {
    /// No moving parts: every place is as near as any other.
    SolidState,
    /// A spinning disk: seeking costs milliseconds.
    Spinning,
}

/// A graphics processor.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Graphics {
    /// Its name.
    pub name: String,
    /// Whether it has a board and memory of its own.
    pub is_discrete: bool,
    /// Video memory in mebibytes.
    pub video_memory_mib: u64,
    /// Driver version.
    pub driver_version: String,
    /// Driver date, year-month-day.
    pub driver_date: jiff::civil::Date,
    /// Whether card and driver can schedule their own work.
    pub can_schedule_itself: bool,
    /// The instance identifier of its device; null where it is not known.
    pub device_id: Option<String>,
}

/// A connected display.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
    pub scaling_percent: u32,
    /// Whether its refresh rate can follow the frames.
    #[serde(default)]
    pub can_vary_refresh: bool,
}

/// A network adapter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Adapter {
    /// Its name.
    pub name: String,
    /// Whether it works without a cable.
    pub is_wireless: bool,
    /// Speed of the link, in megabits a second.
    pub link_mbit_s: u32,
    /// The GUID that the registry knows its interface by, in braces; null where it is not known.
    pub interface_id: Option<String>,
    /// The instance identifier of its device; null where it is not known.
    pub device_id: Option<String>,
}

/// What the owner uses.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
#[allow(clippy::struct_excessive_bools, reason = "independent facts, not a state in disguise")]
pub struct Uses {
    /// Prints.
    pub printer: bool,
    /// Runs virtual machines.
    pub virtual_machines: bool,
    /// Records or streams play.
    pub recording: bool,
    /// Searches files from the task bar.
    pub file_search: bool,
    /// Touches the display, or draws with a pen.
    #[serde(default)]
    pub touch_or_pen: bool,
    /// Uses a camera.
    #[serde(default)]
    pub camera: bool,
    /// Uses things without a cable that are not the network.
    #[serde(default)]
    pub bluetooth: bool,
    /// Has an anti-virus other than Windows' own.
    #[serde(default)]
    pub other_antivirus: bool,
    /// Reaches the PC from another.
    #[serde(default)]
    pub remote_desktop: bool,
    /// Shares files or printers in the house.
    #[serde(default)]
    pub file_sharing: bool,
    /// Scans or faxes.
    #[serde(default)]
    pub scanner: bool,
    /// Signs in by face or finger.
    #[serde(default)]
    pub biometrics: bool,
    /// Plays games from Windows' own store.
    #[serde(default)]
    pub store_games: bool,
    /// Plays with a game controller's home button, or captures from the game bar.
    #[serde(default)]
    pub game_bar: bool,
    /// Uses apps that want to know where the PC is.
    #[serde(default)]
    pub location: bool,
}

/// How busy a PC is when nothing is asked of it; null where it is not known.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Load {
    /// Programs that run.
    pub processes: Option<u32>,
    /// Services that run.
    pub services_running: Option<u32>,
    /// Things that start when somebody signs in.
    pub starts_with_pc: Option<u32>,
}

/// What the firmware is set to; null where Windows does not tell.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Firmware {
    /// Whether the processor may run virtual machines.
    pub virtualization: Option<bool>,
    /// Whether the processor sees all of the graphics card's memory at once.
    pub large_graphics_window: Option<bool>,
    /// Memory that is set aside for graphics in the processor, in mebibytes.
    pub graphics_carve_out_mib: Option<u32>,
}

impl Facts {
    /// The drive that Windows is on.
    pub fn system_drive(&self) -> Option<&Drive> {
        self.drives.iter().find(|drive| drive.is_system)
    }

    /// The facts as expressions see them, under the name `facts`: every field, and
    /// `facts.system_drive` for the drive that Windows is on (null where none is known).
    pub fn variables(&self) -> Value {
        let mut facts = json!(self);
        facts["system_drive"] = json!(self.system_drive());
        facts
    }

    /// Facts of an unremarkable desktop: what conditions are checked against when a catalogue
    /// is loaded, and a start for tests.
    pub fn sample() -> Self {
        Self {
            form: Form::Desktop,
            power_source: super::setting::PowerSource::Mains,
            windows: Windows {
                edition: "Pro".into(),
                release: 11,
                build: 26_100,
                is_64_bit: true,
                obeys_policies: true,
            },
            processor: Processor {
                name: "Sample processor".into(),
                cores: 8,
                threads: 16,
                mixed_cores: false,
                base_mhz: Some(3600),
                sustained_mhz: Some(4400),
            },
            memory: Memory { size_mib: 32_768, rated_mt_s: 6000, actual_mt_s: 4800 },
            drives: vec![Drive {
                letter: "C:".into(),
                kind: DriveKind::SolidState,
                size_gib: 931,
                free_gib: 402,
                is_system: true,
            }],
            graphics: vec![Graphics {
                name: "Sample graphics".into(),
                is_discrete: true,
                video_memory_mib: 12_288,
                driver_version: "1.0".into(),
                driver_date: jiff::civil::date(2026, 9, 1),
                can_schedule_itself: true,
                device_id: Some(r"PCI\VEN_0000&DEV_0001\0".into()),
            }],
            displays: vec![Display {
                name: "Sample display".into(),
                width_px: 2560,
                height_px: 1440,
                refresh_hz: 144,
                highest_refresh_hz: 144,
                scaling_percent: 100,
                can_vary_refresh: true,
            }],
            adapters: vec![Adapter {
                name: "Ethernet".into(),
                is_wireless: false,
                link_mbit_s: 1000,
                interface_id: Some("{00000000-0000-0000-0000-000000000001}".into()),
                device_id: Some(r"PCI\VEN_0000&DEV_0002\0".into()),
            }],
            uses: Uses {
                printer: false,
                virtual_machines: false,
                recording: false,
                file_search: true,
                ..Uses::default()
            },
            load: Load {
                processes: Some(160),
                services_running: Some(90),
                starts_with_pc: Some(6),
            },
            firmware: Firmware {
                virtualization: Some(true),
                large_graphics_window: Some(true),
                graphics_carve_out_mib: None,
            },
            has_vendor_power_modes: false,
        }
    }
}
