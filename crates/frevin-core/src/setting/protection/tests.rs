//! Protection holds for all that its table names, in every spelling, and for nothing that tweaks are for.
#![allow(clippy::unwrap_used, reason = "a test may fail")]

use super::*;

fn is_protected(text: &str) -> bool {
    protection(&text.parse().unwrap()).is_some()
}

#[test]
fn every_row_is_found_by_what_it_names() {
    let mut rows = 0;
    for (guards, why) in ROWS {
        let whole = |key: &str| {
            let key = key.replacen("ANY", "HKCU", 1).replacen("USER", "HKCU", 1);
            format!("registry:{}", key.replacen("PC", "HKLM", 1))
        };
        let addresses: Vec<String> = match guards {
            Guards::Tree(key) | Guards::TreeBut(key, _) => {
                vec![whole(key), format!("{}#x", whole(key)), format!(r"{}\deep\er#x", whole(key))]
            }
            Guards::Values(key, values) | Guards::ValuesBelow(key, values) => {
                values.iter().map(|value| format!("{}#{value}", whole(key))).collect()
            }
            Guards::ValuesAnywhere(values) => {
                values.iter().map(|value| format!(r"registry:HKLM\SOFTWARE\Any#{value}")).collect()
            }
            Guards::Services(names) | Guards::Starts(names) => names
                .iter()
                .flat_map(|name| {
                    let key = format!(r"registry:HKLM\SYSTEM\CurrentControlSet\Services\{name}");
                    [format!("service:{name}#start"), format!("{key}#Start"), key]
                })
                .collect(),
            Guards::Tasks(paths) => {
                paths.iter().map(|path| format!(r"task:{path}\Any#enabled")).collect()
            }
            Guards::StartupEntries(names) => {
                names.iter().map(|name| format!("startup:user-registry/{name}#enabled")).collect()
            }
            Guards::Features(names) => {
                names.iter().map(|name| format!("feature:{name}#enabled")).collect()
            }
            Guards::Apps(names) => {
                names.iter().map(|name| format!("app:{name}#installed")).collect()
            }
        };
        for address in addresses {
            assert!(is_protected(&address), "{address} {why:?}");
            rows += 1;
        }
    }
    assert!(rows > 300, "{rows}");
}

/// Every way in which a setting can be written that names the same thing.
fn spellings(text: &str) -> Vec<String> {
    let mut ways = vec![text.to_owned(), text.to_lowercase()];
    if let Some((kind, rest)) = text.split_once(':') {
        ways.push(format!("{kind}:{}", rest.to_uppercase().replace("#START", "#start")));
        ways.push(format!("{kind}:{}", rest.replacen('o', "\u{43e}", 1)));
        ways.push(format!("{kind}:{}", rest.replacen('e', "\u{200b}e", 1)));
    }
    if let Some(rest) = text.strip_prefix(r"registry:HKCU\") {
        ways.push(format!(r"registry:HKU\S-1-5-21-1-2-3-1001\{rest}"));
        ways.push(format!(r"registry:HKU\.DEFAULT\{rest}"));
        ways.push(format!(r"registry:HKU\S-1-5-18\{rest}"));
    }
    if let Some(rest) = text.strip_prefix(r"registry:HKLM\SOFTWARE\") {
        ways.push(format!(r"registry:HKLM\SOFTWARE\Wow6432Node\{rest}"));
        ways.push(format!(r"registry:HKLM\SOFTWARE\WowAA32Node\{rest}"));
    }
    if let Some(rest) = text.strip_prefix(r"registry:HKCU\SOFTWARE\Classes\") {
        ways.push(format!(r"registry:HKU\S-1-5-21-1-2-3-1001_Classes\{rest}"));
    }
    if let Some(rest) = text.strip_prefix(r"registry:HKLM\SYSTEM\CurrentControlSet\") {
        ways.push(format!(r"registry:HKLM\SYSTEM\ControlSet001\{rest}"));
    }
    if let Some(rest) = text.strip_prefix(r"task:\") {
        ways.push(format!("task:{rest}"));
    }
    ways
}

#[test]
fn what_the_attack_wrote_is_protected_or_no_address_in_every_spelling() {
    let control = r"registry:HKLM\SYSTEM\CurrentControlSet\Control";
    let services = r"registry:HKLM\SYSTEM\CurrentControlSet\Services";
    let nt = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion";
    let windows = r"SOFTWARE\Microsoft\Windows\CurrentVersion";
    let mut all: Vec<String> = [
        r"registry:HKCU\Environment#UserInitMprLogonScript",
        r"registry:HKCU\SOFTWARE\Classes\exefile\shell\open\command#",
        r"task:\Microsoft\Windows\Windows Defender\Windows Defender Scheduled Scan#enabled",
        "service:LSM#start",
        "service:ProfSvc#start",
        "service:gpsvc#running",
        "service:BrokerInfrastructure#start",
        "feature:Windows-Defender#enabled",
        "app:Microsoft.SecHealthUI_8wekyb3d8bbwe#installed",
        "boot:current#element-hypervisorlaunchtype",
        "boot:current#element-recoveryenabled",
        r"registry:HKLM\SYSTEM\CurrentControlSet\Enum\PCI\VEN_1#Service",
        r"registry:HKLM\SOFTWARE\Policies\Microsoft\FVE#x",
        r"registry:HKLM\SOFTWARE\Microsoft\SystemCertificates\ROOT\Certificates\A#Blob",
        r"registry:HKCU\SOFTWARE\Microsoft\SystemCertificates\Root\Certificates\A#Blob",
        r"registry:HKLM\SOFTWARE\Microsoft\Security Center#x",
        r"registry:HKCU\Control Panel\Desktop#SCRNSAVE.EXE",
    ]
    .map(str::to_owned)
    .into();
    for name in
        ["disk", "stornvme", "storahci", "volmgr", "partmgr", "ACPI", "pci", "FltMgr", "mountmgr"]
    {
        all.push(format!(r"{services}\{name}#Start"));
        all.push(format!("service:{name}#start"));
    }
    for name in ["WdFilter", "WdBoot", "WdNisDrv", "mpsdrv"] {
        all.push(format!(r"{services}\{name}#Start"));
    }
    for below in [
        r"Session Manager#PendingFileRenameOperations",
        r"Session Manager#S0InitialCommand",
        r"Session Manager\SubSystems#Windows",
        r"Session Manager\Environment#Path",
        r"Class\{4d36e967-e325-11ce-bfc1-08002be10318}#UpperFilters",
        r"Class\{4d36e967-e325-11ce-bfc1-08002be10318}\0000#LowerFilters",
        r"ServiceGroupOrder#List",
        r"SecurityProviders\WDigest#UseLogonCredential",
        r"EarlyLaunch#DriverLoadPolicy",
        r"Terminal Server#fDenyTSConnections",
        r"Terminal Server\WinStations\RDP-Tcp#InitialProgram",
        r"Print\Providers\x#Name",
        r"BootVerificationProgram#ImagePath",
    ] {
        all.push(format!(r"{control}\{below}"));
    }
    for below in [r"W32Time\TimeProviders\x#DllName", r"WinSock2\Parameters#AutodialDLL"] {
        all.push(format!(r"{services}\{below}"));
    }
    for hive in ["HKLM", "HKCU"] {
        for below in [r"Winlogon#Shell", r"Schedule\TaskCache\Tasks\x#Actions", r"AeDebug#Debugger"]
        {
            all.push(format!(r"registry:{hive}\{nt}\{below}"));
        }
        for below in [
            r"RunOnceEx\1#x",
            "RunServicesOnce#x",
            r"Explorer\ShellServiceObjects\x#",
            r"Explorer\User Shell Folders#Startup",
            r"Group Policy\Scripts\Logon#x",
            r"Policies\System#Shell",
            r"Policies\System#PromptOnSecureDesktop",
            r"Policies\System#LocalAccountTokenFilterPolicy",
            r"Policies\System#FilterAdministratorToken",
            r"Policies\System#ConsentPromptBehaviorUser",
        ] {
            all.push(format!(r"registry:{hive}\{windows}\{below}"));
        }
    }
    all.push(format!(r"registry:HKLM\{nt}\ProfileList\S-1-5-21-1#ProfileImagePath"));
    all.push(format!(r"registry:HKLM\{windows}\Authentication\Credential Providers\x#Disabled"));
    let mut seen = 0;
    for way in all.iter().flat_map(|text| spellings(text)) {
        if let Ok(address) = way.parse() {
            assert!(protection(&address).is_some(), "{way}");
        }
        seen += 1;
    }
    assert!(seen > 300, "{seen}");
}

#[test]
fn what_others_need_of_protected_parts_is_free() {
    for text in [
        r"registry:HKLM\SYSTEM\CurrentControlSet\Enum\PCI\X\Device Parameters\Disk#CacheIsPowerProtected",
        r"registry:HKLM\SYSTEM\CurrentControlSet\Services\mouclass\Parameters#MouseDataQueueSize",
        r"registry:HKLM\SYSTEM\CurrentControlSet\Control\Class\{4d36e968-e325-11ce-bfc1-08002be10318}\0000#PowerLevel",
        r"registry:HKLM\SOFTWARE\Policies\Microsoft\Windows\WindowsUpdate\AU#NoAutoRebootWithLoggedOnUsers",
        r"registry:HKCU\Control Panel\Desktop#MenuShowDelay",
        "boot:current#element-useplatformclock",
        "boot:bootmgr#element-timeout",
        "app:Example.Weather_abc#installed",
    ] {
        assert!(!is_protected(text), "{text}");
    }
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
    assert!(!is_protected(r"registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\RunLater#x"));
}

#[test]
fn what_guards_fair_play_and_what_windows_runs_by_is_protected() {
    assert!(is_protected("service:Gorsehollow Anti-Cheat#start"));
    assert!(is_protected(r"registry:HKLM\SYSTEM\CurrentControlSet\Services\HollowAntiCheat#Start"));
    assert!(is_protected("startup:user-registry/Hollow AntiCheat#enabled"));
    assert!(is_protected("startup:machine-registry/Gorsehollow Anti-Virus#enabled"));
    assert!(is_protected("service:Gorsehollow Antimalware Host#start"));
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
