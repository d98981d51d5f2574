//! What Windows tells of the hardware and of itself.

use super::os_error::OsError;

/// What Windows offers about the hardware and itself.
pub trait FactsApi {
    /// The build number.
    fn build(&self) -> Result<u32, OsError>;
    /// Memory that is fitted, in mebibytes.
    fn memory_mib(&self) -> Result<u64, OsError>;
    /// Memory that programs could have at once, in mebibytes.
    fn available_memory_mib(&self) -> Result<u64, OsError>;
    /// What each logical processor's clock is now, in MHz.
    fn processor_mhz(&self) -> Result<Vec<u32>, OsError>;
    /// Cores, threads, and how many kinds of cores there are.
    fn cores(&self) -> Result<Cores, OsError>;
    /// The firmware's tables.
    fn firmware_tables(&self) -> Result<Vec<u8>, OsError>;
    /// The drives that are fixed.
    fn drives(&self) -> Result<Vec<DriveSeen>, OsError>;
    /// The letter and colon of the drive that Windows is on.
    fn system_drive(&self) -> String;
    /// Whether there is a battery, and whether the PC runs from it.
    fn battery(&self) -> Result<Battery, OsError>;
    /// The links of network interfaces.
    fn links(&self) -> Result<Vec<Link>, OsError>;
    /// How many processes run.
    fn processes(&self) -> Result<u32, OsError>;
    /// Whether something can be touched or drawn on.
    fn has_touch_or_pen(&self) -> bool;
    /// Whether the firmware lets the processor run virtual machines.
    fn virtualization(&self) -> Option<bool>;
    /// Whether Windows was started in the firmware's compatibility mode; nothing where it does not tell.
    fn starts_in_compatibility_mode(&self) -> Option<bool>;
    /// Whether a graphics card can schedule its own work; nothing where Windows does not tell.
    fn can_schedule_itself(&self) -> Option<bool>;
    /// Threads of the processor that Windows lets rest now.
    fn parked_threads(&self) -> Result<u32, OsError>;
}

/// The main processor's cores.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cores {
    /// Cores.
    pub cores: u32,
    /// Threads that they run at once.
    pub threads: u32,
    /// Classes of efficiency; 1 where all cores are alike.
    pub kinds: u32,
}

/// A drive that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DriveSeen {
    /// Its letter and a colon.
    pub letter: String,
    /// What it can hold, in bytes.
    pub size_bytes: u64,
    /// What is free of it, in bytes.
    pub free_bytes: u64,
    /// Whether seeking costs time; nothing where the drive does not tell.
    pub seeks: Option<bool>,
}

/// Where power comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Battery {
    /// Whether there is one.
    pub is_there: bool,
    /// Whether power comes from it.
    pub is_in_use: bool,
}

/// The link of a network interface.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// The GUID of the interface, in braces.
    pub interface_id: String,
    /// The name of the connection.
    pub name: String,
    /// Whether it is by radio.
    pub is_wireless: bool,
    /// Its rate in megabits a second; nothing where it has none.
    pub mbit_s: Option<u32>,
}
