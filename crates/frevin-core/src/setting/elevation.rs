//! Which settings belong to the PC and which to its user.

use super::{Address, CleanPlace, Hive, KeyPath, ObjectKind, Place};

/// Whether writing a setting takes an administrator on an ordinary Windows: what belongs to every
/// user of the PC does, what belongs to the signed-in user does not.
pub fn needs_administrator(address: &Address) -> bool {
    match address {
        Address::RegistryKey(key)
        | Address::RegistryValue(key, _)
        | Address::RegistryPart(key, ..) => is_of_the_pc(key),
        Address::ServiceStart(_) | Address::ServiceRunning(_) | Address::PowerHidden { .. } => true,
        // Windows lets its users choose and change power plans.
        Address::ActivePlan | Address::PowerPlan(_) | Address::PowerValue { .. } => false,
        Address::Visual(_) => false,
        Address::Object(setting) => match setting.kind() {
            ObjectKind::Display | ObjectKind::App | ObjectKind::Driver => false,
            ObjectKind::Startup => !setting.object().folded().starts_with("USER-"),
            ObjectKind::Task
            | ObjectKind::Adapter
            | ObjectKind::Device
            | ObjectKind::Feature
            | ObjectKind::Boot
            | ObjectKind::PageFile
            | ObjectKind::Protection => true,
        },
        Address::Text(setting) => matches!(
            setting.file().place(),
            Place::ProgramData | Place::ProgramFiles | Place::ProgramFilesX86
        ),
        Address::Clean(setting) => match setting.place {
            CleanPlace::UserTemp
            | CleanPlace::ShaderCache
            | CleanPlace::Thumbnails
            | CleanPlace::CrashDumps
            | CleanPlace::RecycleBin => false,
            CleanPlace::WindowsTemp
            | CleanPlace::ErrorReports
            | CleanPlace::UpdateDownloads
            | CleanPlace::DeliveryCache
            | CleanPlace::ServicingLogs => true,
        },
    }
}

/// Whether a setting is kept for each user of the PC apart: written by a program that runs as
/// somebody else, it would change that one's.
pub fn belongs_to_user(address: &Address) -> bool {
    match address {
        Address::RegistryKey(key)
        | Address::RegistryValue(key, _)
        | Address::RegistryPart(key, ..) => key.hive() == Hive::CurrentUser,
        Address::Visual(_) => true,
        Address::Object(setting) => match setting.kind() {
            ObjectKind::App => true,
            ObjectKind::Startup => !needs_administrator(address),
            ObjectKind::Task
            | ObjectKind::Display
            | ObjectKind::Adapter
            | ObjectKind::Device
            | ObjectKind::Feature
            | ObjectKind::Boot
            | ObjectKind::PageFile
            | ObjectKind::Driver
            | ObjectKind::Protection => false,
        },
        Address::Text(_) | Address::Clean(_) => !needs_administrator(address),
        Address::ServiceStart(_)
        | Address::ServiceRunning(_)
        | Address::ActivePlan
        | Address::PowerPlan(_)
        | Address::PowerHidden { .. }
        | Address::PowerValue { .. } => false,
    }
}

fn is_of_the_pc(key: &KeyPath) -> bool {
    let folded: Vec<&str> = key.names().iter().map(super::WinName::folded).collect();
    match key.hive() {
        Hive::LocalMachine | Hive::Users => true,
        // What administrators lay down for a user is not that user's to change.
        Hive::CurrentUser => matches!(
            folded[..],
            ["SOFTWARE", "POLICIES", ..]
                | ["SOFTWARE", "MICROSOFT", "WINDOWS", "CURRENTVERSION", "POLICIES", ..]
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_belongs_to_every_user_takes_an_administrator() {
        let needs = |text: &str| needs_administrator(&text.parse().unwrap());
        for mine in [
            r"registry:HKCU\Control Panel\Mouse#MouseSpeed",
            "visual:menu-delay",
            "power:active-plan",
            "display:Sample#mode",
            "startup:user-registry/x#enabled",
            "text:documents/a.ini#ini:b",
            "clean:user-temp#quarantine",
        ] {
            assert!(!needs(mine), "{mine}");
        }
        for everybodys in [
            r"registry:HKLM\SOFTWARE\x#y",
            r"registry:HKU\.DEFAULT\Control Panel\Keyboard#InitialKeyboardIndicators",
            r"registry:HKCU\software\policies\microsoft#x",
            "service:DiagTrack#start",
            r"task:\x#enabled",
            "startup:machine-registry/x#enabled",
            "text:program-files/a.ini#ini:b",
            "clean:windows-temp#quarantine",
            "boot:current#element-nx",
        ] {
            assert!(needs(everybodys), "{everybodys}");
        }
        let of_user = |text: &str| belongs_to_user(&text.parse().unwrap());
        for text in [r"registry:HKCU\software\policies#x", "visual:menu-delay", "app:x#installed"] {
            assert!(of_user(text), "{text}");
        }
        for text in ["power:active-plan", "display:x#mode", "startup:machine-folder/x#enabled"] {
            assert!(!of_user(text), "{text}");
        }
    }
}
