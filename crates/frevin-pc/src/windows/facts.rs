//! What is known of the live PC.

use std::collections::BTreeMap;

use frevin_core::facts::{
    Adapter, Display, Drive, DriveKind, Facts, FileCheck, Firmware, Form, Game, Graphics, Guard,
    Load, Memory, Power, Processor, Uses, Windows,
};
use frevin_core::setting::{KeyPath, PowerSource, RegistryData, Value};
use jiff::civil::Date;

use super::apis::Apis;
use super::hardware::Link;
use super::os_error::OsError;
use super::registry::{self, RegistryApi};
use super::services::Doing;
use super::{adapters, displays, firmware_tables, health, startup};

const NOT_TOLD: &str = "Windows does not tell it";

/// Notes what is not known while facts are collected.
#[derive(Default)]
struct Unknown(BTreeMap<String, String>);

impl Unknown {
    fn note(&mut self, path: &str, reason: impl ToString) {
        self.0.entry(path.to_owned()).or_insert_with(|| reason.to_string());
    }

    /// The answer, or nothing and a note.
    fn answer<T>(&mut self, path: &str, asked: Result<T, OsError>) -> Option<T> {
        asked.map_err(|error| self.note(path, error)).ok()
    }

    /// What is known, or nothing and a note.
    fn known<T>(&mut self, path: &str, known: Option<T>, reason: &str) -> Option<T> {
        if known.is_none() {
            self.note(path, reason);
        }
        known
    }
}

/// Collects the facts. What cannot be had is null, with its reason.
pub(super) fn collect(apis: &Apis) -> Result<Facts, OsError> {
    let unknown = &mut Unknown::default();
    let registry = &*apis.registry;
    let tables = match apis.facts.firmware_tables() {
        Ok(raw) => firmware_tables::read(&raw),
        Err(error) => {
            unknown.note("form", &error);
            firmware_tables::FirmwareTables::default()
        }
    };
    let battery = apis.facts.battery()?;
    let form = tables.form.or(battery.is_there.then_some(Form::Laptop));
    let no_entry = "the firmware's tables do not say";
    let memory = Memory {
        size_mib: apis.facts.memory_mib()?,
        rated_mt_s: unknown.known("memory.rated_mt_s", tables.rated_mt_s, no_entry),
        actual_mt_s: unknown.known("memory.actual_mt_s", tables.actual_mt_s, no_entry),
        modules: unknown.known("memory.modules", tables.modules, no_entry),
    };
    let facts = Facts {
        form: unknown.known("form", form, no_entry),
        power_source: match battery.is_in_use {
            true => PowerSource::Battery,
            false => PowerSource::Mains,
        },
        windows: windows(apis, unknown)?,
        processor: processor(apis, unknown)?,
        memory,
        drives: drives(apis, unknown),
        graphics: graphics(apis, unknown),
        displays: displays_seen(apis, unknown),
        adapters: adapters_seen(apis, unknown),
        uses: uses(apis, unknown),
        power: Power {
            plan_in_force: unknown.answer("power.plan_in_force", apis.power.active()),
            plans: unknown.answer("power.plans", apis.power.plans()).unwrap_or_default(),
        },
        games: games(registry),
        guards: guards(apis, unknown),
        devices_with_error: health::devices_with_error(
            unknown
                .answer("devices_with_error", apis.health.devices_with_error())
                .unwrap_or_default(),
            registry,
        ),
        load: Load {
            available_memory_mib: apis.facts.available_memory_mib().ok(),
            processes: unknown.answer("load.processes", apis.facts.processes()),
            services_running: services_running(apis),
            starts_with_pc: startup::entries(registry, &*apis.startup_folders).ok().and_then(
                |entries| {
                    let is_on = |entry: &&String| {
                        let switch = startup::read(registry, &*apis.startup_folders, entry);
                        switch == Value::Flag(true).into()
                    };
                    entries.iter().filter(is_on).count().try_into().ok()
                },
            ),
        },
        firmware: Firmware {
            virtualization: unknown.known(
                "firmware.virtualization",
                apis.facts.virtualization(),
                NOT_TOLD,
            ),
            compatibility_start: unknown.known(
                "firmware.compatibility_start",
                apis.facts.starts_in_compatibility_mode(),
                NOT_TOLD,
            ),
            large_graphics_window: unknown.known("firmware.large_graphics_window", None, NOT_TOLD),
            graphics_carve_out_mib: unknown.known(
                "firmware.graphics_carve_out_mib",
                None,
                NOT_TOLD,
            ),
        },
        has_vendor_power_modes: unknown.known("has_vendor_power_modes", None, NOT_TOLD),
        unknown: BTreeMap::new(),
    };
    Ok(Facts { unknown: std::mem::take(&mut unknown.0), ..facts })
}

fn key(text: &str) -> Option<KeyPath> {
    text.parse().ok()
}

fn text(registry: &dyn RegistryApi, at: &str, name: &str) -> Option<String> {
    registry::text(registry, &key(at)?, name).ok().flatten().map(|text| text.trim().to_owned())
}

fn number(registry: &dyn RegistryApi, at: &str, name: &str) -> Option<u64> {
    registry::number(registry, &key(at)?, name).ok().flatten()
}

fn has_keys(registry: &dyn RegistryApi, at: &str) -> Option<bool> {
    let key = key(at)?;
    match registry.has_key(&key).ok()? {
        true => Some(!registry.key_names(&key).ok()?.is_empty()),
        false => Some(false),
    }
}

fn windows(apis: &Apis, unknown: &mut Unknown) -> Result<Windows, OsError> {
    const VERSION: &str = r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion";
    let build = apis.facts.build()?;
    let registry = &*apis.registry;
    // Windows' own names for its editions: `Core` is the one sold as Home; those that end in `N` lack
    // players of media, and in `S` are kept for longer.
    let id = text(registry, VERSION, "EditionID");
    let edition = id.map(|id| match id.as_str() {
        "Core" | "CoreN" | "CoreSingleLanguage" | "CoreCountrySpecific" => "Home".to_owned(),
        "Professional"
        | "ProfessionalN"
        | "ProfessionalWorkstation"
        | "ProfessionalWorkstationN"
        | "ProfessionalEducation"
        | "ProfessionalEducationN" => "Pro".to_owned(),
        "Education" | "EducationN" => "Education".to_owned(),
        _ if id.starts_with("Enterprise") || id.starts_with("IoTEnterprise") => {
            "Enterprise".to_owned()
        }
        _ => id,
    });
    let edition = unknown.known("windows.edition", edition, "the registry does not name it");
    let log = unknown.answer("windows.file_check", apis.health.servicing_log_end());
    Ok(Windows {
        file_check: log.and_then(|log| FileCheck::of_log(&log)),
        waits_for_restart: Some(waits_for_restart(registry)),
        edition,
        // The first build that is called 11 ("Windows 11 release information").
        release: if build >= 22_000 { 11 } else { 10 },
        build,
        is_64_bit: true,
    })
}

/// What guards the PC beside Windows' own programs.
fn guards(apis: &Apis, unknown: &mut Unknown) -> Vec<Guard> {
    let seen = unknown.answer("guards", apis.health.guards()).unwrap_or_default();
    let services =
        if seen.is_empty() { Vec::new() } else { apis.services.names().unwrap_or_default() };
    health::guards(&seen, &services, &*apis.registry, &*apis.startup_folders)
}

/// Whether Windows itself waits for a restart, by the marks that its servicing and its updates leave
/// ("Restart is pending" in the documentation of update troubleshooting).
fn waits_for_restart(registry: &dyn RegistryApi) -> bool {
    const MARKS: [&str; 2] = [
        r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending",
        r"HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\WindowsUpdate\Auto Update\RebootRequired",
    ];
    let is_there = |at: &str| key(at).is_some_and(|key| registry.has_key(&key).unwrap_or(false));
    MARKS.into_iter().any(is_there)
}

/// The games of Windows' game configuration store, each program once.
fn games(registry: &dyn RegistryApi) -> Vec<Game> {
    const STORE: &str = r"HKCU\System\GameConfigStore\Children";
    let children = key(STORE).and_then(|store| registry.key_names(&store).ok()).unwrap_or_default();
    let mut games: Vec<Game> = Vec::new();
    for child in children {
        let at = format!(r"{STORE}\{child}");
        let Some(program) = text(registry, &at, "MatchedExeFullPath") else { continue };
        let file = program.rsplit('\\').next().unwrap_or(&program);
        let file_name = file.rsplit_once('.').map_or(file, |(name, _)| name);
        let folder = text(registry, &at, "ExeParentDirectory").filter(|name| !name.is_empty());
        let name = folder.unwrap_or_else(|| file_name.to_owned());
        if !games.iter().any(|known| known.program.eq_ignore_ascii_case(&program)) {
            games.push(Game { name, program });
        }
    }
    games.sort_by(|a, b| a.program.cmp(&b.program));
    games
}

fn processor(apis: &Apis, unknown: &mut Unknown) -> Result<Processor, OsError> {
    const FIRST: &str = r"HKLM\HARDWARE\DESCRIPTION\System\CentralProcessor\0";
    let registry = &*apis.registry;
    let cores = apis.facts.cores()?;
    let base_mhz = number(registry, FIRST, "~MHz").and_then(|mhz| mhz.try_into().ok());
    Ok(Processor {
        name: text(registry, FIRST, "ProcessorNameString")
            .unwrap_or_else(|| "a processor without a name".to_owned()),
        cores: cores.cores,
        threads: cores.threads,
        mixed_cores: Some(cores.kinds > 1),
        base_mhz: unknown.known("processor.base_mhz", base_mhz, "the registry does not say"),
        sustained_mhz: unknown.known("processor.sustained_mhz", None, "nobody has measured it"),
    })
}

fn drives(apis: &Apis, unknown: &mut Unknown) -> Vec<Drive> {
    let system = apis.facts.system_drive();
    let found = unknown.answer("drives", apis.facts.drives()).unwrap_or_default();
    found
        .into_iter()
        .map(|drive| Drive {
            kind: unknown.known(
                "drives.kind",
                drive.seeks.map(|seeks| match seeks {
                    true => DriveKind::Spinning,
                    false => DriveKind::SolidState,
                }),
                "a drive does not tell whether seeking costs time",
            ),
            size_gib: drive.size_bytes >> 30,
            free_gib: drive.free_bytes >> 30,
            is_system: drive.letter.eq_ignore_ascii_case(&system),
            letter: drive.letter,
        })
        .collect()
}

/// The graphics processors, from the class of devices that their drivers are entered under.
fn graphics(apis: &Apis, unknown: &mut Unknown) -> Vec<Graphics> {
    const CLASS: &str =
        r"HKLM\SYSTEM\CurrentControlSet\Control\Class\{4d36e968-e325-11ce-bfc1-08002be10318}";
    let registry = &*apis.registry;
    let devices = display_devices(apis);
    let numbers = key(CLASS)
        .filter(|class| registry.has_key(class).unwrap_or(false))
        .and_then(|class| registry.key_names(&class).ok())
        .unwrap_or_default();
    let is_number = |name: &String| name.len() == 4 && name.bytes().all(|b| b.is_ascii_digit());
    let mut cards = Vec::new();
    for number in numbers.iter().filter(|name| is_number(name)) {
        let at = format!(r"{CLASS}\{number}");
        let Some(name) = text(registry, &at, "DriverDesc") else { continue };
        let device = devices.iter().find(|device| {
            device.driver.rsplit_once('\\').is_some_and(|(_, driver)| driver == number)
        });
        let memory = key(&at)
            .and_then(|key| registry.value(&key, "HardwareInformation.qwMemorySize").ok()?)
            .and_then(|data| bytes_as_number(&data));
        // A card that was taken out leaves its driver's entry behind.
        let Some(device) = device.filter(|device| device.is_there) else { continue };
        cards.push(Graphics {
            name,
            is_discrete: unknown.known(
                "graphics.is_discrete",
                is_discrete(device.bus, memory),
                "Windows does not tell whether a card has a board of its own",
            ),
            video_memory_mib: unknown.known(
                "graphics.video_memory_mib",
                memory.map(|bytes| bytes >> 20),
                "its driver does not say",
            ),
            driver_version: text(registry, &at, "DriverVersion"),
            driver_date: unknown.known(
                "graphics.driver_date",
                text(registry, &at, "DriverDate").and_then(|date| month_day_year(&date)),
                "its driver does not say",
            ),
            can_schedule_itself: unknown.known(
                "graphics.can_schedule_itself",
                apis.facts.can_schedule_itself(),
                NOT_TOLD,
            ),
            device_id: Some(device.id.clone()),
        });
    }
    if cards.is_empty() {
        unknown.note("graphics", "no driver of a graphics card is entered in the registry");
    }
    cards
}

/// Whether a graphics processor has a board of its own. One in the main processor is on the first bus, or
/// shares main memory and so reports at most a small part as its own; a card behind a bridge with
/// gibibytes of memory of its own is one.
fn is_discrete(bus: Option<u32>, memory_bytes: Option<u64>) -> Option<bool> {
    const OWN_MEMORY: u64 = 3 << 30;
    match (bus?, memory_bytes) {
        (0, _) => Some(false),
        (_, Some(bytes)) if bytes >= OWN_MEMORY => Some(true),
        // On a bus of its own some processors have theirs too, with a small share of memory.
        (_, _) => None,
    }
}

struct DisplayDevice {
    id: String,
    /// Whether it is in the PC now: Windows keeps a key for it that goes with it.
    is_there: bool,
    /// The class and number of its driver.
    driver: String,
    bus: Option<u32>,
}

/// The devices on the main bus that have a driver of the display class.
fn display_devices(apis: &Apis) -> Vec<DisplayDevice> {
    let registry = &*apis.registry;
    const PCI: &str = r"HKLM\SYSTEM\CurrentControlSet\Enum\PCI";
    let below = |at: &str| -> Vec<String> {
        key(at).and_then(|key| registry.key_names(&key).ok()).unwrap_or_default()
    };
    let mut found = Vec::new();
    for device in below(PCI) {
        for instance in below(&format!(r"{PCI}\{device}")) {
            let at = format!(r"{PCI}\{device}\{instance}");
            let Some(driver) = text(registry, &at, "Driver") else { continue };
            if !driver.to_ascii_lowercase().starts_with("{4d36e968-") {
                continue;
            }
            // It ends in the bus, the device and the function: `…;(1,0,0)`.
            let bus = text(registry, &at, "LocationInformation").and_then(|location| {
                let (_, place) = location.rsplit_once('(')?;
                place.split(',').next()?.trim().parse().ok()
            });
            let id = format!(r"PCI\{device}\{instance}");
            // Where it cannot be asked, it is taken for there.
            let is_there = !matches!(apis.devices.is_enabled(&id), Ok(None));
            found.push(DisplayDevice { id, is_there, driver, bus });
        }
    }
    found
}

/// A number that drivers store as one or as plain bytes.
fn bytes_as_number(data: &RegistryData) -> Option<u64> {
    data.as_number().or_else(|| Some(u64::from_le_bytes(data.bytes.as_slice().try_into().ok()?)))
}

/// The way drivers write their date: `8-18-2026`.
fn month_day_year(text: &str) -> Option<Date> {
    let mut parts = text.split('-');
    let (month, day, year) = (parts.next()?, parts.next()?, parts.next()?);
    Date::new(year.parse().ok()?, month.parse().ok()?, day.parse().ok()?).ok()
}

fn displays_seen(apis: &Apis, unknown: &mut Unknown) -> Vec<Display> {
    let found = unknown.answer("displays", displays::named(&*apis.displays)).unwrap_or_default();
    let display = |display: displays::DisplaySeen| {
        let same_size = |mode: &&frevin_core::setting::DisplayMode| {
            (mode.width_px, mode.height_px) == (display.mode.width_px, display.mode.height_px)
        };
        let area = |mode: &&frevin_core::setting::DisplayMode| {
            u64::from(mode.width_px) * u64::from(mode.height_px)
        };
        let largest = display.modes.iter().max_by_key(area);
        let (largest_width_px, largest_height_px) =
            (largest.map(|mode| mode.width_px), largest.map(|mode| mode.height_px));
        let highest_refresh_at_any_size_hz = display.modes.iter().map(|mode| mode.refresh_hz).max();
        let rates: Vec<u32> =
            display.modes.iter().filter(same_size).map(|mode| mode.refresh_hz).collect();
        Display {
            highest_refresh_hz: highest_refresh_hz(&rates, display.mode.refresh_hz),
            largest_width_px,
            largest_height_px,
            highest_refresh_at_any_size_hz,
            width_px: display.mode.width_px,
            height_px: display.mode.height_px,
            refresh_hz: display.mode.refresh_hz,
            scaling_percent: unknown.known(
                "displays.scaling_percent",
                display.scaling_percent,
                NOT_TOLD,
            ),
            can_vary_refresh: unknown.known("displays.can_vary_refresh", None, NOT_TOLD),
            name: display.name,
        }
    };
    found.into_iter().map(display).collect()
}

/// The highest rate that reads back as it was set. Windows lists a rate of 59.94 Hz as 59 and as 60, and says
/// 59 when 60 was set ("Screen refresh rate in Windows does not apply the user-selected settings", knowledge
/// base), as with its like: where both are listed and the upper is not in use, it is the lower.
fn highest_refresh_hz(rates: &[u32], in_use_hz: u32) -> u32 {
    let highest = rates.iter().copied().max().unwrap_or(in_use_hz);
    let is_listed_twice = rates.contains(&highest.saturating_sub(1));
    if is_listed_twice && in_use_hz != highest { highest - 1 } else { highest }
}

fn adapters_seen(apis: &Apis, unknown: &mut Unknown) -> Vec<Adapter> {
    let links = unknown.answer("adapters", apis.facts.links()).unwrap_or_default();
    let connections = adapters::connections(&*apis.registry).unwrap_or_default();
    let adapter = |link: Link| {
        let same = |connection: &&adapters::Connection| {
            connection.interface_id.eq_ignore_ascii_case(&link.interface_id)
        };
        let connection = connections.iter().find(same);
        Adapter {
            name: connection.map_or(link.name, |connection| connection.name.clone()),
            is_wireless: link.is_wireless,
            link_mbit_s: unknown.known(
                "adapters.link_mbit_s",
                link.mbit_s,
                "an adapter has no link now",
            ),
            device_id: connection.and_then(|connection| connection.device_id.clone()),
            interface_id: Some(link.interface_id),
        }
    };
    links.into_iter().map(adapter).collect()
}

fn services_running(apis: &Apis) -> Option<u32> {
    let names = apis.services.names().ok()?;
    let runs = |name: &&String| apis.services.doing(name) == Ok(Some(Doing::Running));
    names.iter().filter(runs).count().try_into().ok()
}

/// What can be told of what the owner uses. What nobody can tell from the PC is not known: the owner
/// says it.
fn uses(apis: &Apis, unknown: &mut Unknown) -> Uses {
    let registry = &*apis.registry;
    let runs = |service: &str| match apis.services.doing(service) {
        Ok(Some(doing)) => Some(doing == Doing::Running),
        Ok(None) => Some(false),
        Err(_) => None,
    };
    const PRINTERS: &str = r"HKLM\SYSTEM\CurrentControlSet\Control\Print\Printers";
    let printer = key(PRINTERS).and_then(|key| match registry.has_key(&key).ok()? {
        // Windows brings printers of its own that print to files.
        true => registry.key_names(&key).ok().map(|names| {
            let own = ["Microsoft Print to PDF", "Microsoft XPS Document Writer", "Fax"];
            names.iter().any(|name| !own.contains(&name.as_str()) && !name.starts_with("OneNote"))
        }),
        false => Some(false),
    });
    let class = |guid: &str| {
        has_keys(registry, &format!(r"HKLM\SYSTEM\CurrentControlSet\Control\Class\{guid}"))
    };
    const TERMINAL_SERVER: &str = r"HKLM\SYSTEM\CurrentControlSet\Control\Terminal Server";
    let remote = number(registry, TERMINAL_SERVER, "fDenyTSConnections").map(|denied| denied == 0);
    // Where Windows tells of none at all, it does not tell of all.
    let other_antivirus = apis.health.guards().ok().filter(|seen| !seen.is_empty());
    let other_antivirus = other_antivirus
        .map(|seen| seen.iter().any(|guard| guard.is_antivirus && guard.is_anothers()));
    let owner = "only the owner can say";
    let mut told =
        |name: &str, known: Option<bool>| unknown.known(&format!("uses.{name}"), known, owner);
    Uses {
        printer: told("printer", printer),
        virtual_machines: told("virtual_machines", runs("vmms").filter(|runs| *runs)),
        recording: told("recording", None),
        file_search: told("file_search", None),
        touch_or_pen: told("touch_or_pen", Some(apis.facts.has_touch_or_pen())),
        // Classes of devices: cameras, Bluetooth radios, sensors of faces and fingers, scanners.
        camera: told("camera", class("{ca3e7ab9-b4c3-4ae6-8251-579ef933890f}")),
        bluetooth: told("bluetooth", class("{e0cbf06c-cd8b-4647-bb8a-263b43f0f974}")),
        other_antivirus: told("other_antivirus", other_antivirus),
        remote_desktop: told("remote_desktop", remote),
        file_sharing: told("file_sharing", None),
        scanner: told("scanner", class("{6bdd1fc6-810f-11d0-bec7-08002be2092f}")),
        biometrics: told("biometrics", class("{53d29ef7-377c-4d14-864b-eb3a85769359}")),
        store_games: told("store_games", None),
        game_bar: told("game_bar", None),
        location: told("location", None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rate_that_is_listed_twice_is_the_one_that_reads_back() {
        assert_eq!(highest_refresh_hz(&[30, 59, 60], 30), 59);
        assert_eq!(highest_refresh_hz(&[30, 59, 60], 59), 59);
        assert_eq!(highest_refresh_hz(&[59, 60], 60), 60);
        assert_eq!(highest_refresh_hz(&[60, 120, 165], 60), 165);
        assert_eq!(highest_refresh_hz(&[], 75), 75);
    }

    #[test]
    fn a_card_is_told_by_its_bus_and_its_memory() {
        let gib = |count: u64| Some(count << 30);
        assert_eq!(is_discrete(Some(0), gib(8)), Some(false));
        assert_eq!(is_discrete(Some(1), gib(8)), Some(true));
        assert_eq!(is_discrete(Some(4), gib(1)), None, "in some processors, on a bus of its own");
        assert_eq!(is_discrete(None, gib(8)), None);
    }

    #[test]
    fn drivers_write_their_date_in_their_own_way() {
        assert_eq!(month_day_year("8-18-2026"), Date::new(2026, 8, 18).ok());
        for bad in ["", "2026-08-18", "13-1-2026", "8-18", "a-b-c"] {
            assert_eq!(month_day_year(bad), None, "{bad}");
        }
    }
}
