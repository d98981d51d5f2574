//! The hardware, and Windows itself.

use std::path::PathBuf;

use windows::Win32::Foundation::{ERROR_BUFFER_OVERFLOW, ERROR_INSUFFICIENT_BUFFER};
use windows::Win32::NetworkManagement::IpHelper::{
    GAA_FLAG_SKIP_ANYCAST, GAA_FLAG_SKIP_MULTICAST, GetAdaptersAddresses, IP_ADAPTER_ADDRESSES_LH,
};
use windows::Win32::Networking::WinSock::AF_UNSPEC;
use windows::Win32::Storage::FileSystem::{
    CreateFileW, FILE_FLAGS_AND_ATTRIBUTES, FILE_SHARE_READ, FILE_SHARE_WRITE, GetDiskFreeSpaceExW,
    GetDriveTypeW, GetLogicalDrives, OPEN_EXISTING,
};
use windows::Win32::System::IO::DeviceIoControl;
use windows::Win32::System::Ioctl::{
    DEVICE_SEEK_PENALTY_DESCRIPTOR, IOCTL_STORAGE_QUERY_PROPERTY, PropertyStandardQuery,
    STORAGE_PROPERTY_QUERY, StorageDeviceSeekPenaltyProperty,
};
use windows::Win32::System::Power::{
    GetSystemPowerStatus, PROCESSOR_POWER_INFORMATION, SYSTEM_POWER_STATUS,
};
use windows::Win32::System::ProcessStatus::EnumProcesses;
use windows::Win32::System::SystemInformation::{
    GetLogicalProcessorInformationEx, GetSystemFirmwareTable, GlobalMemoryStatusEx, MEMORYSTATUSEX,
    OSVERSIONINFOW, RSMB, RelationProcessorCore, SYSTEM_LOGICAL_PROCESSOR_INFORMATION_EX,
};
use windows::Win32::System::Threading::{IsProcessorFeaturePresent, PROCESSOR_FEATURE_ID};
use windows::Win32::UI::WindowsAndMessaging::{GetSystemMetrics, SYSTEM_METRICS_INDEX};

use super::graphics_use::Card;
use super::library::function;
use super::system::Handle;
use super::wide::{Wide, failed, text_at};
use frevin_pc::windows::hardware::{Battery, Cores, DriveSeen, FactsApi, Link};
use frevin_pc::windows::os_error::OsError;

/// This PC's hardware.
pub(crate) struct Hardware;

fn length<T>() -> u32 {
    u32::try_from(size_of::<T>()).unwrap_or(u32::MAX)
}

/// Whether seeking costs time on a drive, where it says so.
fn seeks(letter: &str) -> Option<bool> {
    let device = Wide::new(&format!(r"\\.\{letter}"));
    // SAFETY: the name lives for the call. No access is asked for: properties need none.
    let handle = unsafe {
        CreateFileW(
            device.as_ptr(),
            0,
            FILE_SHARE_READ | FILE_SHARE_WRITE,
            None,
            OPEN_EXISTING,
            FILE_FLAGS_AND_ATTRIBUTES(0),
            None,
        )
    };
    let handle = Handle(handle.ok()?);
    let query = STORAGE_PROPERTY_QUERY {
        PropertyId: StorageDeviceSeekPenaltyProperty,
        QueryType: PropertyStandardQuery,
        ..Default::default()
    };
    let mut answer = DEVICE_SEEK_PENALTY_DESCRIPTOR::default();
    let mut given = 0;
    // SAFETY: both structures are those of this question, and as long as is said.
    unsafe {
        DeviceIoControl(
            handle.0,
            IOCTL_STORAGE_QUERY_PROPERTY,
            Some((&raw const query).cast()),
            length::<STORAGE_PROPERTY_QUERY>(),
            Some((&raw mut answer).cast()),
            length::<DEVICE_SEEK_PENALTY_DESCRIPTOR>(),
            Some(&raw mut given),
            None,
        )
    }
    .ok()?;
    (given >= length::<DEVICE_SEEK_PENALTY_DESCRIPTOR>()).then_some(answer.IncursSeekPenalty)
}

/// `DRIVE_FIXED`.
const FIXED: u32 = 3;

fn drive(letter: &str) -> Option<DriveSeen> {
    let root = Wide::new(&format!(r"{letter}\"));
    // SAFETY: the name lives for the call.
    if unsafe { GetDriveTypeW(root.as_ptr()) } != FIXED {
        return None;
    }
    let (mut size, mut free) = (0, 0);
    // SAFETY: as above; two numbers are written to places of their own.
    unsafe { GetDiskFreeSpaceExW(root.as_ptr(), None, Some(&raw mut size), Some(&raw mut free)) }
        .ok()?;
    let seeks = seeks(letter);
    Some(DriveSeen { letter: letter.to_owned(), size_bytes: size, free_bytes: free, seeks })
}

/// The bit of a card's abilities that says that it can schedule its own work
/// (`D3DKMT_WDDM_2_7_CAPS`).
const CAN_SCHEDULE_ITSELF: u32 = 1;

/// The entry that begins so many bytes into a buffer.
///
/// # Safety
/// An entry begins there.
unsafe fn place_at(buffer: &[u64], at: usize) -> *const SYSTEM_LOGICAL_PROCESSOR_INFORMATION_EX {
    // SAFETY: as the caller promises, it lies in the buffer.
    unsafe { buffer.as_ptr().cast::<u8>().add(at).cast() }
}

impl FactsApi for Hardware {
    fn build(&self) -> Result<u32, OsError> {
        // Not through `GetVersionExW`, which tells programs what they expect.
        let get = function!("ntdll.dll", fn RtlGetVersion(*mut OSVERSIONINFOW) -> i32)?;
        let mut version = OSVERSIONINFOW {
            dwOSVersionInfoSize: length::<OSVERSIONINFOW>(),
            ..Default::default()
        };
        // SAFETY: the structure says its size.
        match unsafe { get(&raw mut version) } {
            0 => Ok(version.dwBuildNumber),
            code => Err(OsError::code("RtlGetVersion", code.cast_unsigned())),
        }
    }

    fn memory_mib(&self) -> Result<u64, OsError> {
        let fitted = function!(
            "kernel32.dll",
            fn GetPhysicallyInstalledSystemMemory(*mut u64) -> i32
        );
        if let Ok(fitted) = fitted {
            let mut kib = 0;
            // SAFETY: a number is written to a place of its own.
            if unsafe { fitted(&raw mut kib) } != 0 && kib > 0 {
                return Ok(kib >> 10);
            }
        }
        let mut status =
            MEMORYSTATUSEX { dwLength: length::<MEMORYSTATUSEX>(), ..Default::default() };
        // SAFETY: the structure says its size.
        unsafe { GlobalMemoryStatusEx(&raw mut status) }.map_err(failed("GlobalMemoryStatusEx"))?;
        Ok(status.ullTotalPhys >> 20)
    }

    fn available_memory_mib(&self) -> Result<u64, OsError> {
        let mut status =
            MEMORYSTATUSEX { dwLength: length::<MEMORYSTATUSEX>(), ..Default::default() };
        // SAFETY: the structure says how long it is.
        unsafe { GlobalMemoryStatusEx(&raw mut status) }.map_err(failed("GlobalMemoryStatusEx"))?;
        Ok(status.ullAvailPhys >> 20)
    }

    fn processor_mhz(&self) -> Result<Vec<u32>, OsError> {
        /// `ProcessorInformation` of `POWER_INFORMATION_LEVEL`.
        const PROCESSOR_INFORMATION: i32 = 11;
        let ask = function!(
            "powrprof.dll",
            fn CallNtPowerInformation(i32, *const u8, u32, *mut PROCESSOR_POWER_INFORMATION, u32) -> i32
        )?;
        let count = self.cores()?.threads as usize;
        let mut processors = vec![PROCESSOR_POWER_INFORMATION::default(); count];
        let bytes = u32::try_from(size_of_val(&processors[..])).unwrap_or(u32::MAX);
        let place = processors.as_mut_ptr();
        // SAFETY: nothing is given, and the buffer is as long as is said.
        let status = unsafe { ask(PROCESSOR_INFORMATION, core::ptr::null(), 0, place, bytes) };
        if status < 0 {
            return Err(OsError::Said(format!("the clocks are not told (status {status:#x})")));
        }
        Ok(processors.iter().map(|processor| processor.CurrentMhz).collect())
    }

    fn cores(&self) -> Result<Cores, OsError> {
        let mut bytes = 0;
        // SAFETY: no buffer of no length: only what is needed is told.
        let _ = unsafe {
            GetLogicalProcessorInformationEx(RelationProcessorCore, None, &raw mut bytes)
        };
        let mut buffer = vec![0_u64; (bytes as usize).div_ceil(8).max(1)];
        let place = buffer.as_mut_ptr().cast();
        // SAFETY: the buffer is as long as is said, and aligned.
        unsafe {
            GetLogicalProcessorInformationEx(RelationProcessorCore, Some(place), &raw mut bytes)
        }
        .map_err(failed("GetLogicalProcessorInformationEx"))?;
        let mut cores = Cores { cores: 0, threads: 0, kinds: 0 };
        let mut classes = Vec::new();
        let mut at = 0;
        while at < bytes as usize {
            // SAFETY: entries follow each other, each as long as it says, up to `bytes`.
            let entry = unsafe { place_at(&buffer, at) };
            // SAFETY: the last entry is shorter than the structure, which is a union with longer ones. Only
            // its fields are read, by pointer: no reference is made to what lies behind it. Only entries of
            // cores were asked for, and a core has at least one group.
            let (size, class, mask) = unsafe {
                let core = &raw const (*entry).Anonymous.Processor;
                (
                    (&raw const (*entry).Size).read(),
                    (&raw const (*core).EfficiencyClass).read(),
                    (&raw const (*core).GroupMask[0].Mask).read(),
                )
            };
            cores.cores += 1;
            cores.threads += mask.count_ones();
            if !classes.contains(&class) {
                classes.push(class);
            }
            if size == 0 {
                break;
            }
            at += size as usize;
        }
        cores.kinds = u32::try_from(classes.len()).unwrap_or(1);
        Ok(cores)
    }

    fn firmware_tables(&self) -> Result<Vec<u8>, OsError> {
        // SAFETY: no buffer: only what is needed is told.
        let needed = unsafe { GetSystemFirmwareTable(RSMB, 0, None) };
        let mut tables = vec![0; needed as usize];
        // SAFETY: the buffer is a slice.
        let given = unsafe { GetSystemFirmwareTable(RSMB, 0, Some(&mut tables)) };
        if given == 0 {
            return Err(OsError::NotOffered { call: "GetSystemFirmwareTable" });
        }
        tables.truncate(given as usize);
        Ok(tables)
    }

    fn drives(&self) -> Result<Vec<DriveSeen>, OsError> {
        // SAFETY: it takes nothing.
        let letters = unsafe { GetLogicalDrives() };
        let named = ('A'..='Z').enumerate().filter(|(index, _)| letters >> index & 1 == 1);
        Ok(named.filter_map(|(_, letter)| drive(&format!("{letter}:"))).collect())
    }

    fn system_drive(&self) -> String {
        let windows = super::folders::windows_folder().unwrap_or_else(|| PathBuf::from(r"C:\"));
        windows.to_string_lossy().chars().take(2).collect()
    }

    fn battery(&self) -> Result<Battery, OsError> {
        let mut status = SYSTEM_POWER_STATUS::default();
        // SAFETY: the structure is written to a place of its own.
        unsafe { GetSystemPowerStatus(&raw mut status) }.map_err(failed("GetSystemPowerStatus"))?;
        /// Bits of `BatteryFlag`, or all of it: there is none, or nobody knows.
        const NO_BATTERY: u8 = 128;
        const UNKNOWN: u8 = 255;
        let flag = status.BatteryFlag;
        let is_there = flag != UNKNOWN && flag & NO_BATTERY == 0;
        Ok(Battery { is_there, is_in_use: is_there && status.ACLineStatus == 0 })
    }

    fn links(&self) -> Result<Vec<Link>, OsError> {
        let mut bytes = 16 << 10;
        let flags = GAA_FLAG_SKIP_ANYCAST | GAA_FLAG_SKIP_MULTICAST;
        let family = u32::from(AF_UNSPEC.0);
        for _ in 0..4 {
            let mut buffer = vec![0_u64; (bytes as usize).div_ceil(8)];
            let place: *mut IP_ADAPTER_ADDRESSES_LH = buffer.as_mut_ptr().cast();
            // SAFETY: the buffer is as long as is said, and aligned.
            let answer =
                unsafe { GetAdaptersAddresses(family, flags, None, Some(place), &raw mut bytes) };
            match answer {
                0 => {}
                // It may grow between two calls.
                code if code == ERROR_BUFFER_OVERFLOW.0 || code == ERROR_INSUFFICIENT_BUFFER.0 => {
                    continue;
                }
                code => return Err(OsError::code("GetAdaptersAddresses", code)),
            }
            let mut links = Vec::new();
            let mut here: *const IP_ADAPTER_ADDRESSES_LH = place;
            while !here.is_null() {
                // SAFETY: the list's entries and their texts lie in the buffer.
                let adapter = unsafe { &*here };
                here = adapter.Next;
                /// `IF_TYPE_ETHERNET_CSMACD` and `IF_TYPE_IEEE80211`.
                const ETHERNET: u32 = 6;
                const WIRELESS: u32 = 71;
                if ![ETHERNET, WIRELESS].contains(&adapter.IfType) {
                    continue;
                }
                let speed = adapter.TransmitLinkSpeed;
                links.push(Link {
                    // SAFETY: as above.
                    interface_id: unsafe { adapter.AdapterName.to_string() }.unwrap_or_default(),
                    // SAFETY: as above.
                    name: unsafe { text_at(adapter.FriendlyName) },
                    is_wireless: adapter.IfType == WIRELESS,
                    mbit_s: (speed > 0 && speed != u64::MAX)
                        .then(|| u32::try_from(speed / 1_000_000).unwrap_or(u32::MAX)),
                });
            }
            return Ok(links);
        }
        Err(OsError::Said("the list of adapters grows and grows".to_owned()))
    }

    fn processes(&self) -> Result<u32, OsError> {
        let mut ids = vec![0_u32; 16 << 10];
        let mut given = 0;
        let room = u32::try_from(ids.len() * 4).unwrap_or(u32::MAX);
        // SAFETY: the buffer is as long as is said.
        unsafe { EnumProcesses(ids.as_mut_ptr(), room, &raw mut given) }
            .map_err(failed("EnumProcesses"))?;
        Ok(given / 4)
    }

    fn has_touch_or_pen(&self) -> bool {
        /// `SM_DIGITIZER`; its lower bits say what there is, one above them that it is ready.
        const DIGITIZER: SYSTEM_METRICS_INDEX = SYSTEM_METRICS_INDEX(94);
        // SAFETY: it takes a number.
        let kinds = unsafe { GetSystemMetrics(DIGITIZER) };
        kinds & 0xF != 0
    }

    fn virtualization(&self) -> Option<bool> {
        /// `PF_VIRT_FIRMWARE_ENABLED`.
        const VIRT_FIRMWARE_ENABLED: PROCESSOR_FEATURE_ID = PROCESSOR_FEATURE_ID(21);
        // SAFETY: it takes a number. While a hypervisor runs, it answers no: then nobody knows.
        let is_on = unsafe { IsProcessorFeaturePresent(VIRT_FIRMWARE_ENABLED) }.as_bool();
        is_on.then_some(true)
    }

    fn starts_in_compatibility_mode(&self) -> Option<bool> {
        // `FirmwareTypeBios` and `FirmwareTypeUefi`.
        const COMPATIBLE: u32 = 1;
        const OWN: u32 = 2;
        let get = function!("kernel32.dll", fn GetFirmwareType(*mut u32) -> i32).ok()?;
        let mut kind = 0;
        // SAFETY: a number is written to a place of its own.
        let is_told = unsafe { get(&raw mut kind) } != 0;
        match kind {
            COMPATIBLE if is_told => Some(true),
            OWN if is_told => Some(false),
            _ => None,
        }
    }

    fn can_schedule_itself(&self) -> Option<bool> {
        /// `KMTQAITYPE_WDDM_2_7_CAPS`.
        const ABILITIES: u32 = 70;
        let cards = Card::all().ok()?;
        // SAFETY: the answer to this question is a number of four bytes.
        let abilities = cards.iter().filter_map(|card| unsafe { card.ask(ABILITIES, 0_u32) });
        abilities.map(|abilities| abilities & CAN_SCHEDULE_ITSELF != 0).reduce(|a, b| a || b)
    }

    fn parked_threads(&self) -> Result<u32, OsError> {
        /// Where its flags lie in an entry (`SYSTEM_CPU_SET_INFORMATION`), and the one that says that it rests.
        const FLAGS_AT: usize = 19;
        const PARKED: u8 = 1;
        let ask = function!(
            "kernel32.dll",
            fn GetSystemCpuSetInformation(*mut u8, u32, *mut u32, isize, u32) -> i32
        )?;
        let mut needed = 0_u32;
        // SAFETY: no buffer of no length: only what is needed is told. This process is meant (-1).
        let _ = unsafe { ask(core::ptr::null_mut(), 0, &raw mut needed, -1, 0) };
        let mut entries = vec![0_u8; needed as usize];
        // SAFETY: the buffer is as long as is said.
        let answer = unsafe { ask(entries.as_mut_ptr(), needed, &raw mut needed, -1, 0) };
        if answer == 0 || entries.is_empty() {
            return Err(OsError::Said("Windows does not tell which cores rest".to_owned()));
        }
        let (mut parked, mut rest) = (0, &entries[..]);
        while let Some(size) = rest.first_chunk::<4>().map(|size| u32::from_le_bytes(*size)) {
            // Entries follow each other, each as long as it says.
            let Some(entry) = rest.get(..size as usize).filter(|entry| entry.len() > FLAGS_AT)
            else {
                break;
            };
            parked += u32::from(entry[FLAGS_AT] & PARKED != 0);
            rest = &rest[entry.len()..];
        }
        Ok(parked)
    }
}
