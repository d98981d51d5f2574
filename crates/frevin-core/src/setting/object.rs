//! Settings of named things: tasks, displays, adapters, devices and the like.
//!
//! Kinds whose settings are a named thing and a part of it, `kind:NAME#part`, differ only in which
//! parts there are and what each holds. [`ObjectPart`] says that; reading, writing and showing go by it.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use super::error::AddressError;
use super::name::WinName;
use super::state::Value;

/// Kinds of named things.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ObjectKind {
    /// A scheduled task, by its path.
    Task,
    /// A display, by its name.
    Display,
    /// A network adapter, by its name.
    Adapter,
    /// A device, by its instance identifier.
    Device,
    /// Something that starts when somebody signs in, by where it is entered and its name.
    Startup,
    /// An app, by its package family.
    App,
    /// An optional feature of Windows, by its name.
    Feature,
    /// An entry of the boot store, by its identifier.
    Boot,
    /// A page file, by its drive.
    PageFile,
    /// The graphics driver: `global`, or a program's file name.
    Driver,
    /// A protection of Windows, by a name of ours.
    Protection,
}

/// What a part of a thing holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// On or off.
    Flag,
    /// A number in the unit that the part's name says.
    Number,
    /// A text.
    Text,
    /// Texts in order.
    Texts,
    /// A display mode.
    Mode,
    /// A page file's size.
    PageFileSize,
    /// What a display makes of colours.
    Colours,
}

/// Parts of named things, of every kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ObjectPart {
    /// Whether a task is enabled.
    TaskEnabled,
    /// The mode of a display.
    DisplayMode,
    /// The scaling of a display in percent.
    DisplayScaling,
    /// What a display makes of colours; absent: it shows them as they are.
    DisplayColours,
    /// The name servers of an adapter, first one first.
    AdapterNameServers,
    /// Whether Windows may switch an adapter off to save power.
    AdapterPowerSaving,
    /// An option of an adapter's driver.
    AdapterOption,
    /// Whether a device is enabled.
    DeviceEnabled,
    /// Whether a device's driver is told to use message-signalled interrupts.
    DeviceMessageSignalledInterrupts,
    /// The priority of a device's interrupts.
    DeviceInterruptPriority,
    /// Whether something starts when somebody signs in.
    StartupEnabled,
    /// Whether an app is installed.
    AppInstalled,
    /// Whether a feature is enabled.
    FeatureEnabled,
    /// An element of a boot entry.
    BootElement,
    /// The size of a page file.
    PageFileSize,
    /// A setting of the graphics driver.
    DriverSetting,
    /// Whether a protection is enabled.
    ProtectionEnabled,
    /// What a protection leaves alone.
    ProtectionExclusions,
}

/// What is known of a part.
struct Row {
    kind: ObjectKind,
    /// Its name, or its beginning where it ends in `*`.
    name: &'static str,
    holds: Holds,
    may_be_absent: bool,
}

const fn row(kind: ObjectKind, name: &'static str, holds: Holds, may_be_absent: bool) -> Row {
    Row { kind, name, holds, may_be_absent }
}

impl ObjectPart {
    /// Every part of every kind.
    pub const ALL: [Self; 18] = [
        Self::TaskEnabled,
        Self::DisplayMode,
        Self::DisplayScaling,
        Self::DisplayColours,
        Self::AdapterNameServers,
        Self::AdapterPowerSaving,
        Self::AdapterOption,
        Self::DeviceEnabled,
        Self::DeviceMessageSignalledInterrupts,
        Self::DeviceInterruptPriority,
        Self::StartupEnabled,
        Self::AppInstalled,
        Self::FeatureEnabled,
        Self::BootElement,
        Self::PageFileSize,
        Self::DriverSetting,
        Self::ProtectionEnabled,
        Self::ProtectionExclusions,
    ];

    const fn row(self) -> Row {
        match self {
            Self::TaskEnabled => row(ObjectKind::Task, "enabled", Holds::Flag, false),
            Self::DisplayMode => row(ObjectKind::Display, "mode", Holds::Mode, false),
            Self::DisplayScaling => {
                row(ObjectKind::Display, "scaling-percent", Holds::Number, false)
            }
            Self::DisplayColours => row(ObjectKind::Display, "colours", Holds::Colours, true),
            Self::AdapterNameServers => {
                row(ObjectKind::Adapter, "name-servers", Holds::Texts, false)
            }
            Self::AdapterPowerSaving => row(ObjectKind::Adapter, "power-saving", Holds::Flag, true),
            Self::AdapterOption => row(ObjectKind::Adapter, "option-*", Holds::Text, false),
            Self::DeviceEnabled => row(ObjectKind::Device, "enabled", Holds::Flag, false),
            Self::DeviceMessageSignalledInterrupts => {
                row(ObjectKind::Device, "message-signalled-interrupts", Holds::Flag, true)
            }
            Self::DeviceInterruptPriority => {
                row(ObjectKind::Device, "interrupt-priority", Holds::Number, true)
            }
            Self::StartupEnabled => row(ObjectKind::Startup, "enabled", Holds::Flag, false),
            Self::AppInstalled => row(ObjectKind::App, "installed", Holds::Flag, false),
            Self::FeatureEnabled => row(ObjectKind::Feature, "enabled", Holds::Flag, false),
            Self::BootElement => row(ObjectKind::Boot, "element-*", Holds::Text, true),
            Self::PageFileSize => row(ObjectKind::PageFile, "size", Holds::PageFileSize, false),
            Self::DriverSetting => row(ObjectKind::Driver, "setting-*", Holds::Text, true),
            Self::ProtectionEnabled => row(ObjectKind::Protection, "enabled", Holds::Flag, false),
            Self::ProtectionExclusions => {
                row(ObjectKind::Protection, "exclusions", Holds::Texts, false)
            }
        }
    }

    /// The kind of thing it is a part of.
    pub fn kind(self) -> ObjectKind {
        self.row().kind
    }

    /// How it is written in addresses; a `*` at the end stands for any name.
    pub fn name(self) -> &'static str {
        self.row().name
    }

    /// What it holds.
    pub fn holds(self) -> Holds {
        self.row().holds
    }

    /// Whether it may be absent: the PC then goes by a default of its own.
    pub fn may_be_absent(self) -> bool {
        self.row().may_be_absent
    }
}

impl ObjectKind {
    /// Every kind.
    pub const ALL: [Self; 11] = [
        Self::Task,
        Self::Display,
        Self::Adapter,
        Self::Device,
        Self::Startup,
        Self::App,
        Self::Feature,
        Self::Boot,
        Self::PageFile,
        Self::Driver,
        Self::Protection,
    ];

    fn bad_part(self) -> AddressError {
        let parts = self.parts().map(ObjectPart::name).collect();
        AddressError::ObjectPart { kind: self.name(), parts }
    }

    /// The name that addresses of the kind begin with.
    pub fn name(self) -> &'static str {
        match self {
            Self::Task => "task",
            Self::Display => "display",
            Self::Adapter => "adapter",
            Self::Device => "device",
            Self::Startup => "startup",
            Self::App => "app",
            Self::Feature => "feature",
            Self::Boot => "boot",
            Self::PageFile => "pagefile",
            Self::Driver => "driver",
            Self::Protection => "protection",
        }
    }

    /// The kind of that name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// The parts that things of the kind have.
    pub fn parts(self) -> impl Iterator<Item = ObjectPart> {
        ObjectPart::ALL.into_iter().filter(move |part| part.kind() == self)
    }

    fn part(self, written: &str) -> Option<ObjectPart> {
        self.parts().find(|part| match part.name().strip_suffix('*') {
            Some(beginning) => written.len() > beginning.len() && written.starts_with(beginning),
            None => part.name() == written,
        })
    }
}

/// A part of a named thing of the PC.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectSetting {
    kind: ObjectKind,
    thing: WinName,
    part_name: WinName,
    part: ObjectPart,
}

impl ObjectSetting {
    /// What kind of thing it is of.
    pub fn kind(&self) -> ObjectKind {
        self.kind
    }

    /// The thing.
    pub fn object(&self) -> &WinName {
        &self.thing
    }

    /// The part of it, as it is written.
    pub fn part_name(&self) -> &WinName {
        &self.part_name
    }

    /// Which part of it.
    pub fn part(&self) -> ObjectPart {
        self.part
    }

    /// What the `*` of a part's name stands for: the option, the element or the setting. The whole
    /// name where it has none.
    pub fn own_name(&self) -> &str {
        let written = self.part_name.as_str();
        let beginning = self.part.name().strip_suffix('*');
        beginning.and_then(|beginning| written.strip_prefix(beginning)).unwrap_or(written)
    }

    /// Whether the setting can hold a value.
    pub fn can_hold(&self, value: &Value) -> bool {
        if let (ObjectKind::Adapter, Value::Texts(servers)) = (self.kind, value) {
            return servers.iter().all(|server| server.parse::<IpAddr>().is_ok());
        }
        matches!(
            (self.part.holds(), value),
            (Holds::Flag, Value::Flag(_))
                | (Holds::Number, Value::Number(_))
                | (Holds::Text, Value::Text(_))
                | (Holds::Texts, Value::Texts(_))
                | (Holds::Mode, Value::Mode(_))
                | (Holds::PageFileSize, Value::PageFile(_))
                | (Holds::Colours, Value::Colours(_))
        )
    }

    /// The text that is the same for every spelling of it.
    pub(super) fn identity(&self) -> String {
        format!("{}:{}#{}", self.kind.name(), self.thing.folded(), self.part_name.folded())
    }

    /// Parses what follows the kind and its colon: `NAME#part`.
    pub(super) fn parse(kind: ObjectKind, rest: &str) -> Result<Self, AddressError> {
        // The last sign separates: names of devices and tasks may hold it, names of parts do not.
        let (thing, part) = rest.rsplit_once('#').ok_or_else(|| kind.bad_part())?;
        let is_name = !thing.trim().is_empty()
            && thing.chars().count() <= 400
            && !thing.chars().any(char::is_control)
            && !thing.split(['\\', '/']).any(|piece| piece == "..");
        if !is_name {
            return Err(AddressError::BadObjectName(thing.to_owned()));
        }
        let is_part = part.chars().all(|c| c.is_ascii_alphanumeric() || "-*_.{}".contains(c));
        let known = kind.part(part).filter(|_| is_part).ok_or_else(|| kind.bad_part())?;
        // Windows takes the path of a task with and without the separator that it begins with.
        let thing = match kind {
            ObjectKind::Task if !thing.starts_with('\\') => format!(r"\{thing}"),
            _ => thing.to_owned(),
        };
        Ok(Self { kind, thing: thing.into(), part_name: part.into(), part: known })
    }
}

impl fmt::Display for ObjectSetting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}#{}", self.kind.name(), self.thing, self.part_name)
    }
}

/// A display mode: `2560x1440@165`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DisplayMode {
    /// Width in pixels.
    pub width_px: u32,
    /// Height in pixels.
    pub height_px: u32,
    /// Refresh rate in hertz.
    pub refresh_hz: u32,
}

impl fmt::Display for DisplayMode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}x{}@{}", self.width_px, self.height_px, self.refresh_hz)
    }
}

impl FromStr for DisplayMode {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let parse = || {
            let (size, refresh_hz) = text.split_once('@')?;
            let (width_px, height_px) = size.split_once('x')?;
            Some(Self {
                width_px: width_px.parse().ok()?,
                height_px: height_px.parse().ok()?,
                refresh_hz: refresh_hz.parse().ok()?,
            })
        };
        parse().ok_or_else(|| format!("`{text}` is not a display mode like 2560x1440@165"))
    }
}

/// A page file's size: `automatic`, `system-managed`, `none`, or `4096-8192 MiB`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum PageFileSize {
    /// Windows chooses by itself which drives have page files, and sizes them.
    Automatic,
    /// There is one on the drive, and Windows sizes it.
    SystemManaged,
    /// There is none on the drive.
    None,
    /// It grows from one size to another, in mebibytes.
    Fixed {
        /// The size it begins with.
        initial_mib: u32,
        /// The size it may grow to.
        maximum_mib: u32,
    },
}

impl fmt::Display for PageFileSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Automatic => f.write_str("automatic"),
            Self::SystemManaged => f.write_str("system-managed"),
            Self::None => f.write_str("none"),
            Self::Fixed { initial_mib, maximum_mib } => {
                write!(f, "{initial_mib}-{maximum_mib} MiB")
            }
        }
    }
}

impl FromStr for PageFileSize {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fixed = || {
            let (initial, maximum) = text.strip_suffix(" MiB")?.split_once('-')?;
            let (initial_mib, maximum_mib) = (initial.parse().ok()?, maximum.parse().ok()?);
            (initial_mib <= maximum_mib).then_some(Self::Fixed { initial_mib, maximum_mib })
        };
        match text {
            "automatic" => Ok(Self::Automatic),
            "system-managed" => Ok(Self::SystemManaged),
            "none" => Ok(Self::None),
            _ => fixed().ok_or_else(|| {
                format!(
                    "`{text}` is no page file size: automatic, system-managed, none, or like 4096-8192 MiB"
                )
            }),
        }
    }
}

/// Types that are stored as the text they are shown as.
macro_rules! stored_as_text {
    ($($name:ty),*) => {$(
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }

        impl schemars::JsonSchema for $name {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                stringify!($name).into()
            }

            fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
                String::json_schema(generator)
            }
        }

        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                let text = String::deserialize(from)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }
    )*};
}

stored_as_text!(DisplayMode, PageFileSize);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setting::{Address, State};
    use proptest::prelude::*;

    #[test]
    fn every_kind_has_parts_and_a_name_of_its_own() {
        for kind in ObjectKind::ALL {
            assert!(kind.parts().count() > 0, "{kind:?}");
            assert_eq!(ObjectKind::named(kind.name()), Some(kind));
        }
    }

    #[test]
    fn names_may_hold_what_separates_and_parts_may_not() {
        let address = |text: &str| text.parse::<Address>();
        for good in [
            r"task:\Microsoft\Windows\Diagnosis\Scheduled#enabled",
            r"device:PCI\VEN_0000&DEV_0001\4&1#2#interrupt-priority",
            "adapter:Ethernet 2#option-*InterruptModeration",
            "pagefile:C:#size",
            "boot:current#element-disabledynamictick",
            "driver:riders.exe#setting-low-latency",
        ] {
            assert_eq!(address(good).unwrap().to_string(), good);
        }
        for bad in [
            "task:#enabled",
            "task:x",
            "task:x#speed",
            "display:x#option-y",
            "adapter:x#option-",
            r"startup:..\x#enabled",
            "app:a\u{0}b#installed",
        ] {
            assert!(address(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn spellings_of_one_thing_are_one_setting() {
        let a: Address = "task:\\A\\B#enabled".parse().unwrap();
        let b: Address = "task:\\a\\b#enabled".parse().unwrap();
        assert_eq!(a, b);
        assert_eq!(a.identity(), b.identity());
    }

    #[test]
    fn modes_and_sizes_read_as_they_are_shown() {
        let mode: DisplayMode = "2560x1440@165".parse().unwrap();
        assert_eq!(mode.to_string(), "2560x1440@165");
        assert!("2560x1440".parse::<DisplayMode>().is_err());
        assert!("ax1@1".parse::<DisplayMode>().is_err());
        for size in ["automatic", "system-managed", "none", "1024-4096 MiB"] {
            assert_eq!(size.parse::<PageFileSize>().unwrap().to_string(), size);
        }
        assert!("4096-1024 MiB".parse::<PageFileSize>().is_err(), "it cannot shrink as it grows");
    }

    proptest! {
        #[test]
        fn modes_and_sizes_survive_storage(w: u32, h: u32, hz: u32, a: u32, b: u32) {
            let mode = Value::Mode(DisplayMode { width_px: w, height_px: h, refresh_hz: hz });
            let (initial_mib, maximum_mib) = (a.min(b), a.max(b));
            let size = Value::PageFile(PageFileSize::Fixed { initial_mib, maximum_mib });
            for value in [mode, size] {
                let state = State::from(value);
                let stored = serde_json::to_string(&state).unwrap();
                prop_assert_eq!(serde_json::from_str::<State>(&stored).unwrap(), state);
            }
        }
    }
}
