//! Which program, service or device a setting belongs to, where its address tells.

use super::address::Address;
use super::name::WinName;
use super::object::ObjectKind;

/// Something that has to start anew before it behaves by a setting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Concern {
    /// A program, by the name of its file.
    Program(String),
    /// A service.
    Service(WinName),
    /// A device, by the name that Windows gives this one.
    Device(WinName),
}

/// What a setting belongs to; nothing where its address does not tell.
///
/// Programs are told by keys of their own ("Image File Execution Options") and by values that are named
/// by a program's path, as compatibility options and graphics preferences are; services by their key
/// below "Services"; devices by their name.
pub fn concern(address: &Address) -> Option<Concern> {
    match address {
        Address::RegistryKey(key) => in_key(key.names()),
        Address::RegistryValue(key, name) | Address::RegistryPart(key, name, _) => {
            in_key(key.names()).or_else(|| program(name.as_str()).map(Concern::Program))
        }
        Address::ServiceStart(service) | Address::ServiceRunning(service) => {
            Some(Concern::Service(service.clone()))
        }
        Address::Object(setting) => match setting.kind() {
            ObjectKind::Device | ObjectKind::Adapter | ObjectKind::Display => {
                Some(Concern::Device(setting.object().clone()))
            }
            ObjectKind::Driver => program(setting.object().as_str()).map(Concern::Program),
            ObjectKind::Task
            | ObjectKind::Startup
            | ObjectKind::App
            | ObjectKind::Feature
            | ObjectKind::Boot
            | ObjectKind::PageFile
            | ObjectKind::Protection => None,
        },
        Address::ActivePlan
        | Address::PowerPlan(_)
        | Address::PowerHidden { .. }
        | Address::PowerValue { .. }
        | Address::Visual(_)
        | Address::Text(_)
        | Address::Clean(_) => None,
    }
}

fn in_key(names: &[WinName]) -> Option<Concern> {
    let after = |key: &str| {
        let place = names.iter().position(|name| *name == WinName::from(key))?;
        names.get(place + 1)
    };
    if let Some(file) = after("Image File Execution Options") {
        return program(file.as_str()).map(Concern::Program);
    }
    after("Services").map(|service| Concern::Service(service.clone()))
}

/// The name of a program's file, where a text is its path or its name.
fn program(path: &str) -> Option<String> {
    let file = path.rsplit(['\\', '/']).next()?;
    file.to_ascii_lowercase().ends_with(".exe").then(|| file.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_tell_what_they_belong_to() {
        let of = |text: &str| concern(&text.parse().unwrap());
        let program = |name: &str| Some(Concern::Program(name.to_owned()));
        assert_eq!(
            of(
                r"registry:HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Image File Execution Options\Game.exe\PerfOptions#CpuPriorityClass"
            ),
            program("Game.exe")
        );
        assert_eq!(
            of(r"registry:HKCU\Software\Microsoft\DirectX\UserGpuPreferences#C:\Games\Rider.EXE"),
            program("Rider.EXE")
        );
        assert_eq!(
            of(r"registry:HKLM\SYSTEM\CurrentControlSet\Services\Dnscache\Parameters#x"),
            Some(Concern::Service("Dnscache".into()))
        );
        assert_eq!(of("service:SysMain#start"), Some(Concern::Service("SysMain".into())));
        assert_eq!(of(r"registry:HKCU\Control Panel\Mouse#MouseSpeed"), None);
    }
}
