//! A Windows whose answers are recorded, for what no Windows is at hand to be asked.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::path::PathBuf;
use std::rc::Rc;

use frevin_core::playing::{MemoryState, TimerPeriod};
use frevin_core::registry_text::{self, Operation};
use frevin_core::setting::{
    ColourRamp, DisplayMode, KeyPath, PowerSource, RegistryData, State, Value, VisualParameter,
    WinName,
};
use uuid::Uuid;

use crate::contract::ProgramUse;
use crate::contract::{RestorePoint, Written};
use crate::rehearsal::registry::Registry;
use crate::windows::adapters::NameServersApi;
use crate::windows::apis::{Apis, SystemApi};
use crate::windows::boot::{BootApi, Element};
use crate::windows::devices::DevicesApi;
use crate::windows::displays::{DisplaySeen, DisplaysApi};
use crate::windows::for_games::ForGamesApi;
use crate::windows::graphics_use::{GraphicsUseApi, NamedCard};
use crate::windows::hardware::{Battery, Cores, DriveSeen, FactsApi, Link};
use crate::windows::health::{GuardSeen, HealthApi};
use crate::windows::installed::{AppsApi, FeaturesApi, NamedApp};
use crate::windows::os_error::OsError;
use crate::windows::power::{PowerApi, ValuePath};
use crate::windows::protections::ProtectionsApi;
use crate::windows::registry::RegistryApi;
use crate::windows::services::{Doing, ServicesApi};
use crate::windows::starts::{Process, StartsApi};
use crate::windows::startup::StartupFolders;
use crate::windows::tasks::TasksApi;
use crate::windows::visual::VisualApi;

/// A service as it is recorded.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Service {
    pub(super) start: u32,
    pub(super) delayed: bool,
    pub(super) doing: Doing,
    pub(super) needs: Vec<&'static str>,
    /// What it answers to being told to stop.
    pub(super) stops: Stops,
}

/// What comes of telling a service to stop.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Stops {
    AtOnce,
    Never,
    Refused,
}

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Plan {
    pub(super) name: String,
    pub(super) description: String,
    pub(super) values: BTreeMap<(Uuid, Uuid), [u32; 2]>,
}

/// Everything that is recorded, and what calls have made of it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Recorded {
    pub(super) registry: Registry,
    /// Keys that this user may not write to.
    pub(super) closed: Vec<KeyPath>,
    pub(super) services: BTreeMap<&'static str, Service>,
    pub(super) active: Uuid,
    pub(super) plans: BTreeMap<Uuid, Plan>,
    pub(super) attributes: BTreeMap<(Uuid, Uuid), u32>,
    pub(super) visual: BTreeMap<VisualParameter, u32>,
    pub(super) pointer_acceleration: [u32; 3],
    /// Whether each is enabled, by path.
    pub(super) tasks: BTreeMap<String, bool>,
    pub(super) mode: DisplayMode,
    /// How often displays are still asked for while their driver has not told all of their modes.
    pub(super) short_mode_lists: u32,
    pub(super) ramps: BTreeMap<String, ColourRamp>,
    pub(super) devices: BTreeMap<String, bool>,
    /// Devices that were switched off and on.
    pub(super) restarted: Vec<String>,
    pub(super) boot: BTreeMap<(String, u32), Element>,
    pub(super) apps: BTreeSet<String>,
    pub(super) kept_apps: BTreeSet<String>,
    pub(super) app_folders: BTreeMap<String, PathBuf>,
    pub(super) features: BTreeMap<String, bool>,
    pub(super) preferences: BTreeMap<String, u32>,
    pub(super) exclusions: Vec<String>,
    pub(super) is_administrator: bool,
    /// Counters of the engines of graphics cards that are in use.
    pub(super) engines: Vec<(String, f64)>,
    pub(super) sign_in: String,
    pub(super) processes: Vec<Process>,
    pub(super) runs_as_another_user: bool,
    pub(super) guards: Vec<GuardSeen>,
    pub(super) devices_with_error: Vec<(String, u32)>,
    pub(super) servicing_log: String,
    /// Whether Windows lacks everything that it may lack.
    pub(super) offers_nothing: bool,
}

/// The recording, shared by all that ask it.
#[derive(Clone)]
pub(super) struct Windows(pub(super) Rc<RefCell<Recorded>>);

impl Windows {
    pub(super) fn apis(&self) -> Apis {
        let this = || Box::new(self.clone());
        Apis {
            registry: this(),
            services: this(),
            power: this(),
            visual: this(),
            tasks: this(),
            displays: this(),
            name_servers: this(),
            devices: this(),
            startup_folders: this(),
            boot: this(),
            apps: this(),
            features: this(),
            protections: this(),
            facts: this(),
            health: this(),
            graphics_use: this(),
            for_games: this(),
            starts: this(),
            system: this(),
            replace_file: crate::durable::rename_over,
            move_new: crate::link_and_remove,
            places: BTreeMap::new(),
            clean_places: BTreeMap::new(),
        }
    }

    fn ask<T>(
        &self,
        call: &'static str,
        answer: impl FnOnce(&mut Recorded) -> T,
    ) -> Result<T, OsError> {
        let mut recorded = self.0.borrow_mut();
        if recorded.offers_nothing {
            return Err(OsError::NotOffered { call });
        }
        Ok(answer(&mut recorded))
    }
}

/// The registry that `text` describes.
pub(super) fn registry(text: &str) -> Registry {
    let mut registry = Registry::bare();
    for entry in registry_text::read(text.as_bytes()).unwrap().entries {
        let (key, value) = match entry.operation {
            Operation::MakeKey(key) => (key, None),
            Operation::SetValue(key, name, data) => (key, Some((name, data))),
            other => panic!("a recording only holds what is there: {other:?}"),
        };
        let mut keys: Vec<_> = std::iter::successors(Some(key.clone()), KeyPath::parent).collect();
        keys.reverse();
        for key in &keys {
            registry.write_key(key, &Value::Key.into()).unwrap();
        }
        if let Some((name, data)) = value {
            registry.write_value(&key, &name, &Value::Registry(data).into()).unwrap();
        }
    }
    registry
}

impl RegistryApi for Windows {
    fn has_key(&self, key: &KeyPath) -> Result<bool, OsError> {
        Ok(self.0.borrow().registry.read_key(key) != State::Absent)
    }

    fn value(&self, key: &KeyPath, name: &str) -> Result<Option<RegistryData>, OsError> {
        match self.0.borrow().registry.read_value(key, &name.into()) {
            State::Value(Value::Registry(data)) => Ok(Some(data)),
            _ => Ok(None),
        }
    }

    fn create_key(&self, key: &KeyPath) -> Result<(), OsError> {
        self.0.borrow_mut().registry.write_key(key, &Value::Key.into()).unwrap();
        Ok(())
    }

    fn remove_empty_key(&self, key: &KeyPath) -> Result<bool, OsError> {
        let removed = self.0.borrow_mut().registry.write_key(key, &State::Absent).unwrap();
        Ok(removed == Written::Done)
    }

    fn set_value(&self, key: &KeyPath, name: &str, data: &RegistryData) -> Result<(), OsError> {
        let data = Value::Registry(data.clone()).into();
        self.0.borrow_mut().registry.write_value(key, &name.into(), &data).unwrap();
        Ok(())
    }

    fn remove_value(&self, key: &KeyPath, name: &str) -> Result<(), OsError> {
        self.0.borrow_mut().registry.write_value(key, &name.into(), &State::Absent).unwrap();
        Ok(())
    }

    fn value_names(&self, key: &KeyPath) -> Result<Vec<String>, OsError> {
        let names = self.0.borrow().registry.value_names(key);
        Ok(names.iter().map(WinName::to_string).collect())
    }

    fn key_names(&self, key: &KeyPath) -> Result<Vec<String>, OsError> {
        let names = self.0.borrow().registry.key_names(key);
        Ok(names.iter().map(WinName::to_string).collect())
    }

    fn may_write(&self, key: &KeyPath) -> Result<bool, OsError> {
        if !self.has_key(key)? {
            return Err(OsError::code("RegOpenKeyExW", 2));
        }
        Ok(!self.0.borrow().closed.contains(key))
    }

    fn changed_at(&self, key: &KeyPath) -> Result<Option<u64>, OsError> {
        Ok(self.has_key(key)?.then_some(7))
    }

    fn flush(&self, _key: &KeyPath) -> Result<(), OsError> {
        Ok(())
    }
}

impl Windows {
    fn service<T>(&self, name: &str, answer: impl FnOnce(&mut Service) -> T) -> Option<T> {
        self.0.borrow_mut().services.get_mut(name).map(answer)
    }

    fn told(&self, name: &str, answer: impl FnOnce(&mut Service)) -> Result<(), OsError> {
        self.service(name, answer).ok_or(OsError::code("OpenServiceW", 1060))
    }
}

impl ServicesApi for Windows {
    fn start_type(&self, name: &str) -> Result<Option<u32>, OsError> {
        Ok(self.service(name, |service| service.start))
    }

    fn is_delayed(&self, name: &str) -> Result<Option<bool>, OsError> {
        if self.0.borrow().offers_nothing {
            return Err(OsError::code("QueryServiceConfig2W", 124));
        }
        Ok(self.service(name, |service| service.delayed))
    }

    fn set_start_type(&self, name: &str, number: u32) -> Result<(), OsError> {
        self.told(name, |service| service.start = number)
    }

    fn set_delayed(&self, name: &str, delayed: bool) -> Result<(), OsError> {
        // Windows takes it for services that start by themselves only.
        match self.service(name, |service| service.start == 2) {
            Some(true) => self.told(name, |service| service.delayed = delayed),
            _ => Err(OsError::code("ChangeServiceConfig2W", 87)),
        }
    }

    fn doing(&self, name: &str) -> Result<Option<Doing>, OsError> {
        Ok(self.service(name, |service| service.doing))
    }

    fn start(&self, name: &str) -> Result<(), OsError> {
        match self.service(name, |service| service.start) {
            Some(4) => Err(OsError::code("StartServiceW", 1058)),
            _ => self.told(name, |service| service.doing = Doing::Running),
        }
    }

    fn stop(&self, name: &str) -> Result<(), OsError> {
        match self.service(name, |service| service.stops) {
            Some(Stops::Refused) => Err(OsError::code("ControlService", 1052)),
            Some(Stops::Never) => self.told(name, |service| service.doing = Doing::from_number(3)),
            _ => self.told(name, |service| service.doing = Doing::Stopped),
        }
    }

    fn pause(&self, name: &str) -> Result<(), OsError> {
        self.told(name, |service| service.doing = Doing::Paused)
    }

    fn go_on(&self, name: &str) -> Result<(), OsError> {
        self.told(name, |service| service.doing = Doing::Running)
    }

    fn dependents(&self, name: &str) -> Result<Vec<String>, OsError> {
        let recorded = self.0.borrow();
        let needing = recorded.services.iter().filter(|(_, other)| other.needs.contains(&name));
        Ok(needing.map(|(other, _)| (*other).to_owned()).collect())
    }

    fn needs(&self, name: &str) -> Result<Vec<String>, OsError> {
        let needs = self.service(name, |service| service.needs.clone());
        let needs = needs.ok_or(OsError::code("OpenServiceW", 1060))?;
        Ok(needs.into_iter().map(str::to_owned).collect())
    }

    fn names(&self) -> Result<Vec<String>, OsError> {
        Ok(self.0.borrow().services.keys().map(|name| (*name).to_owned()).collect())
    }
}

fn side(source: PowerSource) -> usize {
    usize::from(source == PowerSource::Battery)
}

impl PowerApi for Windows {
    fn active(&self) -> Result<Uuid, OsError> {
        self.ask("PowerGetActiveScheme", |recorded| recorded.active)
    }

    fn set_active(&self, plan: Uuid) -> Result<(), OsError> {
        self.ask("PowerSetActiveScheme", |recorded| recorded.active = plan)
    }

    fn plans(&self) -> Result<Vec<Uuid>, OsError> {
        self.ask("PowerEnumerate", |recorded| recorded.plans.keys().copied().collect())
    }

    fn settings(&self, plan: Uuid) -> Result<Vec<(Uuid, Uuid)>, OsError> {
        self.ask("PowerEnumerate", |recorded| {
            recorded.plans[&plan].values.keys().copied().collect()
        })
    }

    fn name(&self, plan: Uuid) -> Result<String, OsError> {
        self.ask("PowerReadFriendlyName", |recorded| recorded.plans[&plan].name.clone())
    }

    fn description(&self, plan: Uuid) -> Result<String, OsError> {
        self.ask("PowerReadDescription", |recorded| recorded.plans[&plan].description.clone())
    }

    fn duplicate(&self, plan: Uuid, copy: Uuid) -> Result<(), OsError> {
        self.ask("PowerDuplicateScheme", |recorded| {
            let plan = recorded.plans[&plan].clone();
            recorded.plans.insert(copy, plan);
        })
    }

    fn describe(&self, plan: Uuid, name: &str, description: &str) -> Result<(), OsError> {
        self.ask("PowerWriteFriendlyName", |recorded| {
            let plan = recorded.plans.get_mut(&plan).unwrap();
            (plan.name, plan.description) = (name.to_owned(), description.to_owned());
        })
    }

    fn delete(&self, plan: Uuid) -> Result<(), OsError> {
        self.ask("PowerDeleteScheme", |recorded| drop(recorded.plans.remove(&plan)))
    }

    fn index(&self, path: ValuePath, source: PowerSource) -> Result<Option<u32>, OsError> {
        let [plan, subgroup, setting] = path;
        self.ask("PowerReadValueIndex", |recorded| {
            Some(recorded.plans.get(&plan)?.values.get(&(subgroup, setting))?[side(source)])
        })
    }

    fn set_index(&self, path: ValuePath, source: PowerSource, index: u32) -> Result<(), OsError> {
        let [plan, subgroup, setting] = path;
        self.ask("PowerWriteValueIndex", |recorded| {
            let plan = recorded.plans.get_mut(&plan).unwrap();
            plan.values.get_mut(&(subgroup, setting)).unwrap()[side(source)] = index;
        })
    }

    fn attributes(&self, subgroup: Uuid, setting: Uuid) -> Result<Option<u32>, OsError> {
        self.ask("PowerReadSettingAttributes", |recorded| {
            recorded.attributes.get(&(subgroup, setting)).copied()
        })
    }

    fn set_attributes(&self, subgroup: Uuid, setting: Uuid, bits: u32) -> Result<(), OsError> {
        self.ask("PowerWriteSettingAttributes", |recorded| {
            recorded.attributes.insert((subgroup, setting), bits);
        })
    }
}

impl VisualApi for Windows {
    fn get(&self, parameter: VisualParameter) -> Result<u32, OsError> {
        self.ask("SystemParametersInfoW", |recorded| {
            recorded.visual.get(&parameter).copied().unwrap_or(1)
        })
    }

    fn set(&self, parameter: VisualParameter, value: u32) -> Result<(), OsError> {
        self.ask("SystemParametersInfoW", |recorded| {
            recorded.visual.insert(parameter, value);
        })
    }

    fn pointer_acceleration(&self) -> Result<[u32; 3], OsError> {
        self.ask("SystemParametersInfoW", |recorded| recorded.pointer_acceleration)
    }

    fn set_pointer_acceleration(&self, values: [u32; 3]) -> Result<(), OsError> {
        self.ask("SystemParametersInfoW", |recorded| recorded.pointer_acceleration = values)
    }
}

impl TasksApi for Windows {
    fn is_enabled(&self, path: &str) -> Result<Option<bool>, OsError> {
        self.ask("IRegisteredTask::Enabled", |recorded| recorded.tasks.get(path).copied())
    }

    fn set_enabled(&self, path: &str, enabled: bool) -> Result<(), OsError> {
        self.ask("IRegisteredTask::SetEnabled", |recorded| {
            // One that belongs to Windows: the switch is accepted, and nothing comes of it.
            if path != r"\Kept" {
                recorded.tasks.insert(path.to_owned(), enabled);
            }
        })
    }

    fn paths(&self) -> Result<Vec<String>, OsError> {
        self.ask("ITaskFolder::GetTasks", |recorded| recorded.tasks.keys().cloned().collect())
    }

    fn register(&self, path: &str, definition: &str) -> Result<(), OsError> {
        self.ask("ITaskFolder::RegisterTask", |recorded| {
            let enabled = !definition.contains("<Enabled>false</Enabled>");
            recorded.tasks.insert(path.to_owned(), enabled);
        })
    }

    fn delete(&self, path: &str) -> Result<(), OsError> {
        self.ask("ITaskFolder::DeleteTask", |recorded| {
            recorded.tasks.remove(path);
        })
    }
}

impl DisplaysApi for Windows {
    fn displays(&self) -> Result<Vec<DisplaySeen>, OsError> {
        self.ask("EnumDisplayDevicesW", |recorded| {
            let mut modes: Vec<DisplayMode> =
                vec!["2560x1440@165".parse().unwrap(), "2560x1440@60".parse().unwrap()];
            if let Some(left) = recorded.short_mode_lists.checked_sub(1) {
                recorded.short_mode_lists = left;
                modes.remove(0);
            }
            let display = |device: &str, mode: DisplayMode| DisplaySeen {
                device: device.to_owned(),
                name: "Lumet 27Q".to_owned(),
                mode,
                modes: modes.clone(),
                scaling_percent: Some(100),
            };
            let second = "2560x1440@60".parse().unwrap();
            vec![display(r"\\.\DISPLAY1", recorded.mode), display(r"\\.\DISPLAY2", second)]
        })
    }

    fn set_mode(&self, device: &str, mode: DisplayMode) -> Result<(), OsError> {
        assert_eq!(device, r"\\.\DISPLAY1");
        self.ask("ChangeDisplaySettingsExW", |recorded| recorded.mode = mode)
    }

    fn ramp(&self, device: &str) -> Result<ColourRamp, OsError> {
        let device = device.to_owned();
        self.ask("GetDeviceGammaRamp", |recorded| {
            recorded.ramps.get(&device).cloned().unwrap_or_else(ColourRamp::plain)
        })
    }

    fn set_ramp(&self, device: &str, ramp: &ColourRamp) -> Result<(), OsError> {
        let (device, ramp) = (device.to_owned(), ramp.clone());
        self.ask("SetDeviceGammaRamp", |recorded| drop(recorded.ramps.insert(device, ramp)))
    }
}

impl NameServersApi for Windows {
    fn set(&self, interface: &str, servers: &[IpAddr], is_v6: bool) -> Result<(), OsError> {
        if self.0.borrow().offers_nothing {
            return Err(OsError::NotOffered { call: "SetInterfaceDnsSettings" });
        }
        if is_v6 && servers.is_empty() {
            return Ok(());
        }
        let service = if is_v6 { "Tcpip6" } else { "Tcpip" };
        let key: KeyPath = format!(
            r"HKLM\SYSTEM\CurrentControlSet\Services\{service}\Parameters\Interfaces\{interface}"
        )
        .parse()
        .unwrap();
        let list: Vec<String> = servers.iter().map(IpAddr::to_string).collect();
        self.set_value(&key, "NameServer", &RegistryData::string(&list.join(",")))
    }
}

impl DevicesApi for Windows {
    fn is_enabled(&self, id: &str) -> Result<Option<bool>, OsError> {
        self.ask("CM_Locate_DevNodeW", |recorded| recorded.devices.get(id).copied())
    }

    fn set_enabled(&self, id: &str, enabled: bool) -> Result<(), OsError> {
        self.ask("CM_Disable_DevNode", |recorded| {
            recorded.devices.insert(id.to_owned(), enabled);
        })
    }

    fn restart(&self, id: &str) -> Result<(), OsError> {
        self.ask("CM_Disable_DevNode", |recorded| recorded.restarted.push(id.to_owned()))
    }
}

impl StartupFolders for Windows {
    fn files(&self, of_everybody: bool) -> Result<Vec<String>, OsError> {
        Ok(if of_everybody { vec![] } else { vec!["Notes.lnk".into(), "desktop.ini".into()] })
    }
}

impl BootApi for Windows {
    fn element(&self, entry: &str, number: u32) -> Result<Option<Element>, OsError> {
        self.ask("BcdObject", |recorded| recorded.boot.get(&(entry.to_owned(), number)).cloned())
    }

    fn set_element(&self, entry: &str, number: u32, element: &Element) -> Result<(), OsError> {
        self.ask("BcdObject", |recorded| {
            recorded.boot.insert((entry.to_owned(), number), element.clone());
        })
    }

    fn remove_element(&self, entry: &str, number: u32) -> Result<(), OsError> {
        self.ask("BcdObject", |recorded| drop(recorded.boot.remove(&(entry.to_owned(), number))))
    }
}

impl AppsApi for Windows {
    fn is_installed(&self, family: &str) -> Result<bool, OsError> {
        self.ask("FindPackagesForUser", |recorded| recorded.apps.contains(family))
    }

    fn is_kept(&self, family: &str) -> Result<bool, OsError> {
        self.ask("FindProvisionedPackages", |recorded| recorded.kept_apps.contains(family))
    }

    fn remove(&self, family: &str) -> Result<(), OsError> {
        self.ask("RemovePackageAsync", |recorded| {
            recorded.apps.remove(family);
        })
    }

    fn bring_back(&self, family: &str) -> Result<(), OsError> {
        self.ask("RegisterPackage", |recorded| {
            recorded.apps.insert(family.to_owned());
        })
    }

    fn named(&self) -> Result<Vec<NamedApp>, OsError> {
        self.ask("FindPackagesForUser", |recorded| {
            let app = |family: &String| {
                let folder = recorded.app_folders.get(family).cloned();
                NamedApp { family: family.clone(), name: family.replace('_', " "), folder }
            };
            recorded.apps.iter().map(app).collect()
        })
    }

    fn families(&self) -> Result<Vec<String>, OsError> {
        self.ask("FindPackagesForUser", |recorded| recorded.apps.iter().cloned().collect())
    }
}

impl FeaturesApi for Windows {
    fn is_enabled(&self, feature: &str) -> Result<Option<bool>, OsError> {
        self.ask("DismGetFeatures", |recorded| recorded.features.get(feature).copied())
    }

    fn set_enabled(&self, feature: &str, enabled: bool) -> Result<(), OsError> {
        self.ask("DismEnableFeature", |recorded| {
            recorded.features.insert(feature.to_owned(), enabled);
        })
    }

    fn names(&self) -> Result<Vec<String>, OsError> {
        self.ask("DismGetFeatures", |recorded| recorded.features.keys().cloned().collect())
    }
}

impl ProtectionsApi for Windows {
    fn number(&self, preference: &str) -> Result<Option<u32>, OsError> {
        self.ask("MSFT_MpPreference", |recorded| recorded.preferences.get(preference).copied())
    }

    fn set_number(&self, preference: &str, number: u32) -> Result<(), OsError> {
        self.ask("MSFT_MpPreference", |recorded| {
            recorded.preferences.insert(preference.to_owned(), number);
        })
    }

    fn exclusions(&self) -> Result<Option<Vec<String>>, OsError> {
        self.ask("MSFT_MpPreference", |recorded| Some(recorded.exclusions.clone()))
    }

    fn change_exclusions(&self, add: &[String], remove: &[String]) -> Result<(), OsError> {
        self.ask("MSFT_MpPreference", |recorded| {
            recorded.exclusions.retain(|folder| !remove.contains(folder));
            recorded.exclusions.extend_from_slice(add);
        })
    }
}

impl GraphicsUseApi for Windows {
    fn engines(&self) -> Result<Vec<(String, f64)>, OsError> {
        self.ask("IWbemServices::ExecQuery", |recorded| recorded.engines.clone())
    }

    fn cards(&self) -> Result<Vec<NamedCard>, OsError> {
        self.ask("D3DKMTEnumAdapters2", |_| Vec::new())
    }
}

impl ForGamesApi for Windows {
    fn memory(&self) -> Result<MemoryState, OsError> {
        self.ask("NtQuerySystemInformation", |_| MemoryState {
            total_mib: 16_384,
            free_mib: 400,
            standby_mib: 6_200,
            cached_mib: 900,
            committed_mib: 11_000,
            commit_limit_mib: 24_000,
        })
    }

    fn purge_standby(&self) -> Result<(), OsError> {
        self.ask("NtSetSystemInformation", |_| ())
    }

    fn ask_for_timer(&self, period: TimerPeriod) -> Result<TimerPeriod, OsError> {
        self.ask("NtSetTimerResolution", |_| period)
    }
}

impl FactsApi for Windows {
    fn build(&self) -> Result<u32, OsError> {
        Ok(26_100)
    }

    fn available_memory_mib(&self) -> Result<u64, OsError> {
        Ok(9_210)
    }

    fn processor_mhz(&self) -> Result<Vec<u32>, OsError> {
        Ok(vec![3600, 4200])
    }

    fn memory_mib(&self) -> Result<u64, OsError> {
        Ok(16_384)
    }

    fn cores(&self) -> Result<Cores, OsError> {
        Ok(Cores { cores: 6, threads: 12, kinds: 2 })
    }

    fn firmware_tables(&self) -> Result<Vec<u8>, OsError> {
        self.ask("GetSystemFirmwareTable", |_| vec![0; 8])
    }

    fn drives(&self) -> Result<Vec<DriveSeen>, OsError> {
        let drive = |letter: &str, seeks| DriveSeen {
            letter: letter.to_owned(),
            size_bytes: 476 << 30,
            free_bytes: 118 << 30,
            seeks,
        };
        Ok(vec![drive("C:", Some(false)), drive("D:", None)])
    }

    fn system_drive(&self) -> String {
        "C:".to_owned()
    }

    fn battery(&self) -> Result<Battery, OsError> {
        Ok(Battery { is_there: true, is_in_use: true })
    }

    fn links(&self) -> Result<Vec<Link>, OsError> {
        self.ask("GetAdaptersAddresses", |_| {
            vec![Link {
                interface_id: "{6b1f0c52-9d3e-4a87-8f21-3c5d7e9a1b04}".into(),
                name: "another name".into(),
                is_wireless: false,
                mbit_s: Some(1000),
            }]
        })
    }

    fn processes(&self) -> Result<u32, OsError> {
        Ok(171)
    }

    fn parked_threads(&self) -> Result<u32, OsError> {
        Ok(4)
    }

    fn has_touch_or_pen(&self) -> bool {
        false
    }

    fn starts_in_compatibility_mode(&self) -> Option<bool> {
        Some(false)
    }

    fn virtualization(&self) -> Option<bool> {
        None
    }

    fn can_schedule_itself(&self) -> Option<bool> {
        Some(true)
    }
}

impl HealthApi for Windows {
    fn guards(&self) -> Result<Vec<GuardSeen>, OsError> {
        self.ask("IWSCProductList", |recorded| recorded.guards.clone())
    }

    fn devices_with_error(&self) -> Result<Vec<(String, u32)>, OsError> {
        self.ask("CM_Get_DevNode_Status", |recorded| recorded.devices_with_error.clone())
    }

    fn servicing_log_end(&self) -> Result<String, OsError> {
        self.ask("the log", |recorded| recorded.servicing_log.clone())
    }
}

impl StartsApi for Windows {
    fn sign_in(&self) -> Option<String> {
        Some(self.0.borrow().sign_in.clone())
    }

    fn processes(&self) -> Result<Vec<Process>, OsError> {
        Ok(self.0.borrow().processes.clone())
    }

    fn process_use(&self, _: u32) -> Option<ProgramUse> {
        Some(ProgramUse { processes: 1, memory_mib: 64, processor_s: 1.5 })
    }

    fn latest_start_event(&self) -> Option<String> {
        None
    }

    fn service_process(&self, name: &str) -> Result<Option<u32>, OsError> {
        Ok(self.service(name, |_| 7))
    }

    fn device_arrival(&self, _: &str) -> Option<u64> {
        None
    }
}

impl SystemApi for Windows {
    fn user_id(&self) -> Option<String> {
        Some("S-1-5-21-1-2-3-1001".to_owned())
    }

    fn name(&self) -> String {
        "RECORDED".to_owned()
    }

    fn restart(&self) -> Result<(), OsError> {
        self.ask("InitiateShutdownW", |_| ())
    }

    fn is_administrator(&self) -> bool {
        self.0.borrow().is_administrator
    }

    fn runs_as_another_user(&self) -> bool {
        self.0.borrow().runs_as_another_user
    }

    fn take_turn(&self) -> std::io::Result<Option<Box<dyn Send>>> {
        Ok(Some(Box::new(())))
    }

    fn restore_point(&self, _description: &str) -> RestorePoint {
        RestorePoint::SwitchedOff
    }
}
