//! Programs that guard a PC, and what belongs to them.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::setting::{Address, ObjectKind, WinName};

/// A program that guards the PC, with what belongs to it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Guard {
    /// What it is called.
    pub name: String,
    /// Its services.
    #[serde(default)]
    pub services: Vec<WinName>,
    /// What of it starts when somebody signs in, as addresses name it.
    #[serde(default)]
    pub startup_entries: Vec<WinName>,
}

impl Guard {
    /// Whether a setting is one of its own.
    pub fn has(&self, address: &Address) -> bool {
        match address {
            Address::ServiceStart(name) | Address::ServiceRunning(name) => {
                self.services.contains(name)
            }
            Address::Object(setting) => {
                setting.kind() == ObjectKind::Startup
                    && self.startup_entries.contains(setting.object())
            }
            Address::RegistryKey(key)
            | Address::RegistryValue(key, _)
            | Address::RegistryPart(key, ..) => match key.names() {
                [_, _, services, service, ..] => {
                    *services == WinName::new("Services") && self.services.contains(service)
                }
                _ => false,
            },
            Address::ActivePlan
            | Address::PowerPlan(_)
            | Address::PowerHidden { .. }
            | Address::PowerValue { .. }
            | Address::Visual(_)
            | Address::Text(_)
            | Address::Clean(_) => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_belongs_to_a_guard_is_guarded_however_it_is_addressed() {
        let guard = Guard {
            name: "Bulwark".to_owned(),
            services: vec!["BulwarkSvc".into()],
            startup_entries: vec!["machine-registry/Bulwark Tray".into()],
        };
        let is_its = |address: &str| guard.has(&address.parse().unwrap());
        for address in [
            "service:bulwarksvc#start",
            "service:BulwarkSvc#running",
            "startup:machine-registry/Bulwark Tray#enabled",
            r"registry:HKLM\SYSTEM\CurrentControlSet\Services\BulwarkSvc#Start",
            r"registry:HKLM\SYSTEM\CurrentControlSet\Services\BulwarkSvc\Parameters#x",
        ] {
            assert!(is_its(address), "{address}");
        }
        for address in [
            "service:Spooler#start",
            "startup:user-registry/Bulwark Tray#enabled",
            r"registry:HKLM\SYSTEM\CurrentControlSet\Services\Spooler#Start",
            r"registry:HKLM\SOFTWARE\BulwarkSvc#Start",
        ] {
            assert!(!is_its(address), "{address}");
        }
    }
}
