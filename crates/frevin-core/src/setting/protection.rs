//! What is protected: settings that no profile touches without the owner's word for that tweak.
//!
//! Protection is by address, not by who asks, so it holds on every path alike: built-in
//! tweaks, users' own, imports. It names what keeps a PC starting, safe and signed in.

use std::sync::LazyLock;

use serde::Serialize;

use unicode_normalization::UnicodeNormalization as _;
use unicode_security::confusable_detection::skeleton;

use super::{Address, FileSetting, KeyPath, ObjectKind, ObjectSetting, Place, WinName};

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
const FAIR_PLAY: Protection = Protection { reason: "belongs to what guards games against cheats" };
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
const KEYS: [(&str, Protection); 20] = [
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
    (r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\KnownDLLs", RUNS_PROGRAMS),
    (r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\AppCertDlls", RUNS_PROGRAMS),
    (r"HKLM\SYSTEM\CurrentControlSet\Control\Print\Monitors", RUNS_PROGRAMS),
    (r"HKCU\Environment", RUNS_PROGRAMS),
    (
        r"HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Image File Execution Options",
        Protection { reason: "can replace any program by another" },
    ),
];

const RUNS_PROGRAMS: Protection = Protection { reason: "can make Windows run any program" };

/// Keys below `SOFTWARE` of the PC or of any user in which the names of programs are written that
/// Windows then runs; everything under them is protected too.
const RUNNERS: [&str; 14] = [
    r"Microsoft\Windows\CurrentVersion\Run",
    r"Microsoft\Windows\CurrentVersion\RunOnce",
    r"Microsoft\Windows\CurrentVersion\RunServices",
    r"Microsoft\Windows\CurrentVersion\Policies\Explorer\Run",
    r"Microsoft\Windows\CurrentVersion\ShellServiceObjectDelayLoad",
    r"Microsoft\Windows\CurrentVersion\Explorer\ShellExecuteHooks",
    r"Microsoft\Windows\CurrentVersion\App Paths",
    r"Microsoft\Windows NT\CurrentVersion\Windows",
    r"Microsoft\Windows NT\CurrentVersion\SilentProcessExit",
    r"Microsoft\Windows NT\CurrentVersion\AppCompatFlags\Custom",
    r"Microsoft\Active Setup",
    r"Microsoft\Command Processor",
    r"Microsoft\NetSh",
    r"Classes",
];

/// Values of a service's key that say what it runs.
const SERVICE_PROGRAMS: [&str; 3] = ["ImagePath", "ServiceDll", "FailureCommand"];

const SERVICE_KEYS: &str = r"HKLM\SYSTEM\CurrentControlSet\Services";

struct Protected {
    keys: Vec<(KeyPath, Protection)>,
    services: Vec<(WinName, Protection)>,
    service_keys: Option<KeyPath>,
    runners: Vec<Vec<WinName>>,
}

static PROTECTED: LazyLock<Protected> = LazyLock::new(|| Protected {
    keys: KEYS.iter().filter_map(|(key, why)| Some((key.parse().ok()?, *why))).collect(),
    services: SERVICES.iter().map(|(name, why)| (WinName::new(*name), *why)).collect(),
    service_keys: SERVICE_KEYS.parse().ok(),
    runners: RUNNERS.iter().map(|path| path.split('\\').map(WinName::new).collect()).collect(),
});

/// Why `address` is protected, if it is.
///
/// A service is protected under its registry key as well. A key above a protected key is
/// protected where its existence is meant, since deleting it would take the protected one along.
/// A name that only looks like a protected one, by letters of another alphabet, is protected too:
/// nobody means well who writes it.
pub fn protection(address: &Address) -> Option<Protection> {
    match address {
        Address::ServiceStart(name) | Address::ServiceRunning(name) => service(name),
        Address::RegistryKey(key) => {
            let key = as_key_looks(key);
            key_or_service(&key).or_else(|| {
                let inside = PROTECTED.keys.iter().find(|(inner, _)| key.contains(inner));
                inside.map(|(_, why)| *why)
            })
        }
        Address::RegistryValue(key, name) => {
            let key = as_key_looks(key);
            key_or_service(&key).or_else(|| guarded_value(&key, name))
        }
        Address::Object(setting) => thing(setting),
        Address::Text(setting) => file(setting),
        Address::ActivePlan
        | Address::PowerPlan(_)
        | Address::PowerHidden { .. }
        | Address::PowerValue { .. }
        | Address::Visual(_)
        | Address::Clean(_) => None,
    }
}

/// A name as a reader sees it: letters that look like ASCII ones are those.
fn as_it_looks(name: &WinName) -> WinName {
    if name.as_str().is_ascii() {
        return name.clone();
    }
    let seen = name.as_str().nfkc().flat_map(|c| match c {
        _ if c.is_ascii() => vec![c],
        // One character at a time, since the skeleton of ASCII is not ASCII as it was.
        _ => skeleton(c.encode_utf8(&mut [0; 4])).collect(),
    });
    WinName::new(seen.collect::<String>())
}

fn as_key_looks(key: &KeyPath) -> KeyPath {
    key.with_names(as_it_looks).without_32_bit_view()
}

/// Values that guard the PC, in keys that hold harmless ones as well: whether programs are checked
/// for being known, whether they are asked for before they act as administrator, and what keeps
/// them from reading each other's memory.
const GUARDING_VALUES: [&str; 7] = [
    "EnableSmartScreen",
    "SmartScreenEnabled",
    "ShellSmartScreenLevel",
    "EnableLUA",
    "ConsentPromptBehaviorAdmin",
    "FeatureSettingsOverride",
    "FeatureSettingsOverrideMask",
];

/// Values that are protected in a key that holds harmless ones as well.
fn guarded_value(key: &KeyPath, value: &WinName) -> Option<Protection> {
    let is_one_of = |names: &[&str]| names.iter().any(|name| *value == WinName::new(*name));
    if is_one_of(&GUARDING_VALUES) {
        return Some(SECURITY);
    }
    let services = PROTECTED.service_keys.as_ref()?;
    let session: KeyPath = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager".parse().ok()?;
    let names_one = (services.contains(key) && is_one_of(&SERVICE_PROGRAMS))
        || (session == *key && is_one_of(&["BootExecute", "SetupExecute", "Execute"]));
    names_one.then_some(RUNS_PROGRAMS)
}

/// Whether a name says that it belongs to what guards games against cheats. The owner who takes
/// it away is shut out of the game, or banned.
fn is_fair_play(name: &WinName) -> bool {
    let letters: String = name.folded().chars().filter(|c| c.is_alphanumeric()).collect();
    letters.contains("ANTICHEAT")
}

/// Files that Windows' own programs go by, some of which run what is written there.
fn file(setting: &FileSetting) -> Option<Protection> {
    let path = setting.file();
    if path.names().iter().any(is_fair_play) {
        return Some(FAIR_PLAY);
    }
    let is_of_windows = match path.place() {
        Place::LocalAppData
        | Place::RoamingAppData
        | Place::ProgramData
        | Place::LocalLowAppData => ["Microsoft", "Packages", "Windows"]
            .iter()
            .any(|own| path.names()[0] == WinName::new(*own)),
        Place::ProgramFiles | Place::ProgramFilesX86 => {
            path.names()[0].starts_with(&WinName::new("Windows"))
                || path.names()[0] == WinName::new("Common Files")
        }
        Place::Documents => path.names()[0].folded().contains("POWERSHELL"),
        Place::SavedGames => false,
    };
    is_of_windows.then_some(Protection { reason: "can make Windows' own programs run others" })
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

fn thing(setting: &ObjectSetting) -> Option<Protection> {
    let seen = as_it_looks(setting.object());
    if is_fair_play(&seen) && setting.kind() != ObjectKind::Driver {
        return Some(FAIR_PLAY);
    }
    let is_guardian = || {
        let own = seen.as_str().rsplit('/').next().unwrap_or_default();
        GUARDIANS.iter().any(|name| WinName::new(own).starts_with(&WinName::new(*name)))
    };
    match setting.kind() {
        ObjectKind::Protection => Some(SECURITY),
        ObjectKind::Boot => {
            let part = setting.part_name();
            BOOT_ELEMENTS.iter().any(|name| *part == WinName::new(*name)).then_some(BOOT)
        }
        ObjectKind::Startup | ObjectKind::Task => is_guardian().then_some(SECURITY),
        ObjectKind::Display
        | ObjectKind::Adapter
        | ObjectKind::Device
        | ObjectKind::App
        | ObjectKind::Feature
        | ObjectKind::PageFile
        | ObjectKind::Driver => None,
    }
}

fn service(name: &WinName) -> Option<Protection> {
    let seen = as_it_looks(name);
    let listed = PROTECTED.services.iter().find(|(known, _)| *known == seen).map(|(_, why)| *why);
    listed.or_else(|| is_fair_play(&seen).then_some(FAIR_PLAY))
}

fn key_or_service(key: &KeyPath) -> Option<Protection> {
    if let Some((_, why)) = PROTECTED.keys.iter().find(|(outer, _)| outer.contains(key)) {
        return Some(*why);
    }
    if let Some(below) = key.below_software()
        && PROTECTED.runners.iter().any(|runner| below.starts_with(runner))
    {
        return Some(RUNS_PROGRAMS);
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
    fn names_that_only_look_like_protected_ones_are_protected() {
        assert!(is_protected("service:WinD\u{435}fend#start"));
        assert!(is_protected("service:\u{ff37}inDefend#start"));
        assert!(is_protected("registry:HKLM\\SOFTWARE\\Micr\u{43e}soft\\Windows Def\u{435}nder#x"));
        assert!(!is_protected(
            "service:\u{414}\u{438}\u{441}\u{43f}\u{435}\u{442}\u{447}\u{435}\u{440}#start"
        ));
    }

    #[test]
    fn what_makes_windows_run_a_program_is_protected() {
        for text in [
            r"registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\Run#x",
            r"registry:HKU\S-1-5-21-1\SOFTWARE\Microsoft\Windows\CurrentVersion\RunOnce#x",
            r"registry:HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows\CurrentVersion\Run#x",
            r"registry:HKCU\SOFTWARE\Classes\exefile\shell\open\command#",
            r"registry:HKLM\SYSTEM\CurrentControlSet\Services\SysMain#ImagePath",
            r"registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager#bootexecute",
            r"registry:HKCU\Software\Microsoft\Command Processor#AutoRun",
            r"registry:HKLM\SOFTWARE\Wow6432Node\Microsoft\Windows Defender#x",
        ] {
            assert!(is_protected(text), "{text}");
        }
        assert!(!is_protected(
            r"registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Power#HiberbootEnabled"
        ));
        assert!(!is_protected(
            r"registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\RunLater#x"
        ));
    }

    #[test]
    fn what_guards_fair_play_and_what_windows_runs_by_is_protected() {
        assert!(is_protected("service:Gorsehollow Anti-Cheat#start"));
        assert!(is_protected(
            r"registry:HKLM\SYSTEM\CurrentControlSet\Services\HollowAntiCheat#Start"
        ));
        assert!(is_protected("startup:user-registry/Hollow AntiCheat#enabled"));
        assert!(is_protected("text:program-files/Riders/AntiCheat/a.ini#ini:x"));
        assert!(is_protected("text:local-app-data/Packages/Any/LocalState/settings.json#json:/x"));
        assert!(is_protected(r"text:roaming-app-data\MICROSOFT\a.ini#ini:x"));
        assert!(!is_protected("text:documents/Riders/options.ini#ini:[Video]VSync"));
        assert!(!is_protected("text:saved-games/Microsoft/options.ini#ini:[Video]VSync"));
    }

    #[test]
    fn what_tweaks_are_for_is_not_protected() {
        assert!(!is_protected("service:SysMain#running"));
        assert!(!is_protected(r"registry:HKLM\SYSTEM\CurrentControlSet\Control\PriorityControl#x"));
        assert!(!is_protected(r"registry:HKLM\SYSTEM\CurrentControlSet\Services\SysMain#Start"));
    }
}
