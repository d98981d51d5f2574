//! What is protected: settings that no profile touches without the owner's word for that tweak.
//!
//! Protection is by address, not by who asks, so it holds on every path alike: built-in
//! tweaks, users' own, imports. It names what keeps a PC starting, safe and signed in.

use std::sync::LazyLock;

use serde::Serialize;

use super::{Address, KeyPath, ThingKind, ThingSetting, WinName};

/// Why a setting is protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Protection {
    /// What is at stake, in words that complete "this is protected because it …".
    pub reason: &'static str,
}

const SECURITY: Protection = Protection { reason: "guards the PC against malware and attacks" };
const SIGN_IN: Protection = Protection { reason: "keeps accounts and passwords" };
const BOOT: Protection = Protection { reason: "is needed for Windows to start" };
const FIREWALL: Protection = Protection { reason: "belongs to the firewall" };
const AT_SIGN_IN: Protection = Protection { reason: "decides what runs when somebody signs in" };

/// Services by the names that Windows gives them.
const SERVICES: [(&str, Protection); 20] = [
    ("BFE", FIREWALL),
    ("mpssvc", FIREWALL),
    ("MsSense", SECURITY),
    ("SecurityHealthService", SECURITY),
    ("Sense", SECURITY),
    ("WdNisSvc", SECURITY),
    ("WinDefend", SECURITY),
    ("wscsvc", SECURITY),
    ("wuauserv", SECURITY),
    ("CryptSvc", SECURITY),
    ("KeyIso", SIGN_IN),
    ("Netlogon", SIGN_IN),
    ("SamSs", SIGN_IN),
    ("VaultSvc", SIGN_IN),
    ("DcomLaunch", BOOT),
    ("EventLog", BOOT),
    ("PlugPlay", BOOT),
    ("RpcEptMapper", BOOT),
    ("RpcSs", BOOT),
    ("TrustedInstaller", BOOT),
];

/// Registry keys; everything under them is protected too.
const KEYS: [(&str, Protection); 16] = [
    (r"HKLM\SAM", SIGN_IN),
    (r"HKLM\SECURITY", SIGN_IN),
    (r"HKLM\BCD00000000", BOOT),
    (r"HKLM\SYSTEM\Select", BOOT),
    (r"HKLM\SYSTEM\Setup", BOOT),
    (r"HKLM\SYSTEM\MountedDevices", BOOT),
    (r"HKLM\SYSTEM\CurrentControlSet\Control\Lsa", SIGN_IN),
    (r"HKLM\SYSTEM\CurrentControlSet\Control\SafeBoot", BOOT),
    (r"HKLM\SYSTEM\CurrentControlSet\Control\CI", SECURITY),
    (r"HKLM\SYSTEM\CurrentControlSet\Control\DeviceGuard", SECURITY),
    (r"HKLM\SYSTEM\CurrentControlSet\Services\SharedAccess", FIREWALL),
    (r"HKLM\SOFTWARE\Policies\Microsoft\WindowsFirewall", FIREWALL),
    (r"HKLM\SOFTWARE\Policies\Microsoft\Windows Defender", SECURITY),
    (r"HKLM\SOFTWARE\Microsoft\Windows Defender", SECURITY),
    (r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Winlogon", AT_SIGN_IN),
    (
        r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Image File Execution Options",
        Protection { reason: "can replace any program by another" },
    ),
];

const SERVICE_KEYS: &str = r"HKLM\SYSTEM\CurrentControlSet\Services";

struct Protected {
    keys: Vec<(KeyPath, Protection)>,
    services: Vec<(WinName, Protection)>,
    service_keys: Option<KeyPath>,
}

static PROTECTED: LazyLock<Protected> = LazyLock::new(|| Protected {
    keys: KEYS.iter().filter_map(|(key, why)| Some((key.parse().ok()?, *why))).collect(),
    services: SERVICES.iter().map(|(name, why)| (WinName::new(*name), *why)).collect(),
    service_keys: SERVICE_KEYS.parse().ok(),
});

/// Why `address` is protected, if it is.
///
/// A service is protected under its registry key as well. A key above a protected key is
/// protected where its existence is meant, since deleting it would take the protected one along.
pub fn protection(address: &Address) -> Option<Protection> {
    match address {
        Address::ServiceStart(name) | Address::ServiceRunning(name) => service(name),
        Address::RegistryKey(key) => key_or_service(key).or_else(|| {
            let inside = PROTECTED.keys.iter().find(|(inner, _)| key.contains(inner));
            inside.map(|(_, why)| *why)
        }),
        Address::RegistryValue(key, _) => key_or_service(key),
        Address::Thing(setting) => thing(setting),
        Address::ActivePlan
        | Address::PowerPlan(_)
        | Address::PowerHidden { .. }
        | Address::PowerValue { .. }
        | Address::Visual(_) => None,
    }
}

/// Boot elements that weaken what Windows checks when it starts, or keep it from starting.
const BOOT_ELEMENTS: [&str; 7] = [
    "element-testsigning",
    "element-nointegritychecks",
    "element-loadoptions",
    "element-nx",
    "element-safeboot",
    "element-path",
    "element-systemroot",
];

/// Startup entries and tasks whose names begin like this belong to what guards the PC.
const GUARDIANS: [&str; 4] = [
    "SecurityHealth",
    r"\Microsoft\Windows\Windows Defender",
    r"\Microsoft\Windows\ExploitGuard",
    r"\Microsoft\Windows\UpdateOrchestrator",
];

fn thing(setting: &ThingSetting) -> Option<Protection> {
    let is_guardian = || {
        let own = setting.thing().as_str().rsplit('/').next().unwrap_or_default();
        GUARDIANS.iter().any(|name| WinName::new(own).starts_with(&WinName::new(*name)))
    };
    match setting.kind() {
        ThingKind::Protection => Some(SECURITY),
        ThingKind::Boot => {
            let part = setting.part_name();
            BOOT_ELEMENTS.iter().any(|name| *part == WinName::new(*name)).then_some(BOOT)
        }
        ThingKind::Startup | ThingKind::Task => is_guardian().then_some(SECURITY),
        _ => None,
    }
}

fn service(name: &WinName) -> Option<Protection> {
    PROTECTED.services.iter().find(|(known, _)| known == name).map(|(_, why)| *why)
}

fn key_or_service(key: &KeyPath) -> Option<Protection> {
    if let Some((_, why)) = PROTECTED.keys.iter().find(|(outer, _)| outer.contains(key)) {
        return Some(*why);
    }
    let services = PROTECTED.service_keys.as_ref()?;
    let name = key.names().get(services.names().len())?;
    services.contains(key).then(|| service(name)).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn is_protected(text: &str) -> bool {
        protection(&text.parse().unwrap()).is_some()
    }

    #[test]
    fn every_listed_key_is_a_key() {
        assert_eq!(PROTECTED.keys.len(), KEYS.len());
        assert!(PROTECTED.service_keys.is_some());
    }

    #[test]
    fn protection_holds_for_other_spellings_and_ways_round() {
        assert!(is_protected("service:windefend#start"));
        assert!(is_protected(
            r"registry:HKEY_LOCAL_MACHINE\system\currentcontrolset\SERVICES\WINDEFEND#Start"
        ));
        assert!(is_protected(r"registry:HKLM\Software\Microsoft\windows defender\Features#x"));
        assert!(is_protected(r"registry:HKLM\SYSTEM"), "deleting it would delete what it holds");
    }

    #[test]
    fn things_that_guard_the_pc_or_let_it_start_are_protected() {
        assert!(is_protected("protection:cloud-delivered#enabled"));
        assert!(is_protected("boot:current#element-TestSigning"));
        assert!(is_protected("startup:machine-registry/securityhealth#enabled"));
        assert!(is_protected(r"task:\microsoft\windows\windows defender\Scheduled Scan#enabled"));
        assert!(!is_protected("boot:current#element-disabledynamictick"));
        assert!(!is_protected("startup:user-registry/Launcher#enabled"));
        assert!(!is_protected(r"task:\Microsoft\Windows\Diagnosis\Scheduled#enabled"));
    }

    #[test]
    fn what_tweaks_are_for_is_not_protected() {
        assert!(!is_protected("service:SysMain#running"));
        assert!(!is_protected(r"registry:HKLM\SYSTEM\CurrentControlSet\Control\PriorityControl#x"));
        assert!(!is_protected(r"registry:HKLM\SYSTEM\CurrentControlSet\Services\SysMain#Start"));
    }
}
