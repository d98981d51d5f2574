//! Parts of objects of the live PC, from tasks to displays: who reads, writes and lists which.

use frevin_core::setting::{Address, ColourRamp, ObjectPart, ObjectSetting, State, Value};

use super::devices::Interrupt;
use super::pc::LivePc;
use super::{adapters, boot, devices, displays, installed, page_file, protections, startup, tasks};
use crate::contract::{WriteError, Written};

const NO_DRIVER: &str = "Windows offers no way to its settings, only the card's own program does";

impl LivePc {
    /// What a part of an object holds.
    pub(super) fn read_object(&self, setting: &ObjectSetting) -> State {
        let (apis, registry) = (&self.apis, self.registry());
        let thing = setting.object().as_str();
        match setting.part() {
            ObjectPart::TaskEnabled => tasks::read(&*apis.tasks, thing),
            ObjectPart::DisplayMode => displays::read_mode(&*apis.displays, thing),
            ObjectPart::DisplayScaling => displays::read_scaling(&*apis.displays, thing),
            ObjectPart::DisplayColours => displays::read_colours(&*apis.displays, thing),
            ObjectPart::AdapterNameServers => adapters::read_name_servers(registry, thing),
            ObjectPart::AdapterPowerSaving => adapters::read_power_saving(registry, thing),
            ObjectPart::AdapterOption => adapters::read_option(registry, thing, setting.own_name()),
            ObjectPart::DeviceEnabled => devices::read_enabled(&*apis.devices, thing),
            ObjectPart::DeviceMessageSignalledInterrupts => {
                devices::read_interrupt(registry, thing, Interrupt::MessageSignalled)
            }
            ObjectPart::DeviceInterruptPriority => {
                devices::read_interrupt(registry, thing, Interrupt::Priority)
            }
            ObjectPart::StartupEnabled => startup::read(registry, &*apis.startup_folders, thing),
            ObjectPart::AppInstalled => installed::read_app(&*apis.apps, thing),
            ObjectPart::FeatureEnabled => installed::read_feature(&*apis.features, thing),
            ObjectPart::BootElement => boot::read(&*apis.boot, thing, setting.own_name()),
            ObjectPart::PageFileSize => {
                page_file::read(registry, &apis.facts.system_drive(), thing)
            }
            ObjectPart::DriverSetting => State::Unreadable(NO_DRIVER.to_owned()),
            ObjectPart::ProtectionEnabled => protections::read_enabled(&*apis.protections, thing),
            ObjectPart::ProtectionExclusions => {
                protections::read_exclusions(&*apis.protections, thing)
            }
        }
    }

    /// Writes a part of an object.
    ///
    /// # Errors
    /// Where Windows refuses, or the part cannot hold such a state.
    pub(super) fn write_object(
        &self,
        setting: &ObjectSetting,
        state: &State,
    ) -> Result<Written, WriteError> {
        let (apis, registry) = (&self.apis, self.registry());
        let thing = setting.object().as_str();
        match (setting.part(), state) {
            (ObjectPart::TaskEnabled, State::Value(Value::Flag(on))) => {
                tasks::write(&*apis.tasks, thing, *on)
            }
            (ObjectPart::DisplayMode, State::Value(Value::Mode(mode))) => {
                displays::write_mode(&*apis.displays, thing, *mode, self.patience)
            }
            (ObjectPart::DisplayScaling, State::Value(Value::Number(percent))) => {
                displays::write_scaling(&*apis.displays, thing, *percent)
            }
            (ObjectPart::DisplayColours, State::Value(Value::Colours(ramp))) => {
                displays::write_colours(&*apis.displays, thing, ramp)
            }
            (ObjectPart::DisplayColours, State::Absent) => {
                displays::write_colours(&*apis.displays, thing, &ColourRamp::plain())
            }
            (ObjectPart::AdapterNameServers, State::Value(Value::Texts(servers))) => {
                adapters::write_name_servers(registry, &*apis.name_servers, thing, servers)
            }
            (ObjectPart::AdapterPowerSaving, state) => {
                adapters::write_power_saving(registry, thing, state)
            }
            (ObjectPart::AdapterOption, State::Value(Value::Text(text))) => {
                adapters::write_option(registry, thing, setting.own_name(), text)
            }
            (ObjectPart::DeviceEnabled, State::Value(Value::Flag(on))) => {
                devices::write_enabled(&*apis.devices, thing, *on)
            }
            (ObjectPart::DeviceMessageSignalledInterrupts, state) => {
                devices::write_interrupt(registry, thing, Interrupt::MessageSignalled, state)
            }
            (ObjectPart::DeviceInterruptPriority, state) => {
                devices::write_interrupt(registry, thing, Interrupt::Priority, state)
            }
            (ObjectPart::StartupEnabled, State::Value(Value::Flag(on))) => {
                startup::write(registry, &*apis.startup_folders, thing, *on)
            }
            (ObjectPart::AppInstalled, State::Value(Value::Flag(on))) => {
                installed::write_app(&*apis.apps, thing, *on)
            }
            (ObjectPart::FeatureEnabled, State::Value(Value::Flag(on))) => {
                installed::write_feature(&*apis.features, thing, *on)
            }
            (ObjectPart::BootElement, state) => {
                boot::write(&*apis.boot, thing, setting.own_name(), state)
            }
            (ObjectPart::PageFileSize, State::Value(Value::PageFile(size))) => {
                page_file::write(registry, &apis.facts.system_drive(), thing, *size)
            }
            (ObjectPart::DriverSetting, _) => Err(WriteError::Refused(NO_DRIVER.to_owned())),
            (ObjectPart::ProtectionEnabled, State::Value(Value::Flag(on))) => {
                protections::write_enabled(&*apis.protections, thing, *on)
            }
            (ObjectPart::ProtectionExclusions, State::Value(Value::Texts(folders))) => {
                protections::write_exclusions(&*apis.protections, folders)
            }
            (
                ObjectPart::TaskEnabled
                | ObjectPart::DisplayMode
                | ObjectPart::DisplayScaling
                | ObjectPart::DisplayColours
                | ObjectPart::AdapterNameServers
                | ObjectPart::AdapterOption
                | ObjectPart::DeviceEnabled
                | ObjectPart::StartupEnabled
                | ObjectPart::AppInstalled
                | ObjectPart::FeatureEnabled
                | ObjectPart::PageFileSize
                | ObjectPart::ProtectionEnabled
                | ObjectPart::ProtectionExclusions,
                other,
            ) => Err(WriteError::Refused(format!("{setting} cannot hold {other}"))),
        }
    }

    /// The parts of things that can be listed, as addresses.
    pub(super) fn listed_objects(&self) -> Vec<Address> {
        let apis = &self.apis;
        let mut texts = Vec::new();
        let mut add = |part: ObjectPart, things: &[String]| {
            let kind = part.kind().name();
            texts.extend(things.iter().map(|thing| format!("{kind}:{thing}#{}", part.name())));
        };
        for part in ObjectPart::ALL {
            match part {
                ObjectPart::TaskEnabled => add(part, &apis.tasks.paths().unwrap_or_default()),
                ObjectPart::DisplayMode
                | ObjectPart::DisplayScaling
                | ObjectPart::DisplayColours => {
                    let displays = displays::named(&*apis.displays).unwrap_or_default();
                    let names: Vec<_> = displays.into_iter().map(|display| display.name).collect();
                    add(part, &names);
                }
                ObjectPart::AdapterNameServers | ObjectPart::AdapterPowerSaving => {
                    let connections = adapters::connections(self.registry()).unwrap_or_default();
                    let names: Vec<_> =
                        connections.into_iter().map(|connection| connection.name).collect();
                    add(part, &names);
                }
                ObjectPart::StartupEnabled => {
                    let entries = startup::entries(self.registry(), &*apis.startup_folders);
                    add(part, &entries.unwrap_or_default());
                }
                ObjectPart::AppInstalled => add(part, &apis.apps.families().unwrap_or_default()),
                ObjectPart::FeatureEnabled => add(part, &apis.features.names().unwrap_or_default()),
                ObjectPart::PageFileSize => {
                    let drives = apis.facts.drives().unwrap_or_default();
                    let letters: Vec<_> = drives.into_iter().map(|drive| drive.letter).collect();
                    add(part, &letters);
                }
                ObjectPart::ProtectionEnabled => {
                    let switches: Vec<_> = protections::switches().map(str::to_owned).collect();
                    add(part, &switches);
                }
                ObjectPart::ProtectionExclusions => add(part, &["anti-virus".to_owned()]),
                // Their names are added below, as those of the part are.
                ObjectPart::BootElement => {}
                // Named by drivers and programs: nothing lists them all.
                ObjectPart::AdapterOption
                | ObjectPart::DriverSetting
                | ObjectPart::DeviceEnabled
                | ObjectPart::DeviceMessageSignalledInterrupts
                | ObjectPart::DeviceInterruptPriority => {}
            }
        }
        texts.extend(boot::parts().map(|(entry, part)| format!("boot:{entry}#{part}")));
        texts.iter().filter_map(|text| text.parse().ok()).collect()
    }
}
