use super::*;
use crate::profile::Profile;
use crate::registry_text;
use crate::tweak::{Argument, Tweak};

const PACK: &str = r#"Windows Registry Editor Version 5.00

[HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Multimedia\SystemProfile]
"NetworkThrottlingIndex"=dword:ffffffff
"SystemResponsiveness"=dword:00000014

[HKEY_CURRENT_USER\Control Panel\Mouse]
"MouseSpeed"="0"
"MouseThreshold1"="0"
"MouseThreshold2"="0"

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\Session Manager]
"Win32PrioritySeparation"=dword:00000026

[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\GraphicsDrivers]
"TdrDelay"=hex(b):0a,00,00,00,00,00,00,00

[HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Microsoft\Windows Defender]
"DisableAntiSpyware"=dword:00000001

[HKEY_CURRENT_USER\SOFTWARE\Made Up]
"Odd"=hex(1000b):01,02
"Gone"=-
"Money"="${facts}"

[HKEY_CURRENT_USER\SOFTWARE\Empty]

[-HKEY_CURRENT_USER\SOFTWARE\Other]
"#;

fn pack(text: &str) -> Pack {
    let text = registry_text::read(text.as_bytes()).unwrap();
    let files = [PackFile { name: "pack.reg".into(), content: PackContent::Registry(text) }];
    read(&files, &Catalogue::built_in().unwrap(), &Facts::reference())
}

#[test]
fn what_the_catalogue_knows_is_named_with_its_choices() {
    let pack = pack(PACK);
    let named: Vec<_> = pack.recognised.iter().map(|r| r.tweak.as_str()).collect();
    assert_eq!(
        named,
        ["cpu/multimedia-reserve", "input/pointer-acceleration", "network/throttling"]
    );
    assert_eq!(pack.recognised[0].arguments["reserve_percent"], Argument::Whole(20));
    assert_eq!(pack.recognised[1].lines, ["pack.reg:10, pack.reg:8, pack.reg:9"]);
}

#[test]
fn the_rest_is_kept_with_what_is_to_be_said_against_it() {
    let pack = pack(PACK);
    let said: Vec<String> = pack
        .plain
        .iter()
        .map(|plain| {
            let guarded = plain.protected.map_or("", |_| " protected");
            format!("{}{guarded} {} | {}", plain.line, plain.state, plain.remarks.join("; "))
        })
        .collect();
    insta::assert_snapshot!(said.join("\n"), @r#"
    pack.reg:19 protected 1 | 
    pack.reg:16 10 (0xa) | `graphics/hang-timeout` sets this value with another type: with this one Windows may not read it
    pack.reg:13 38 (0x26) | in the wrong place: a value of this name is known under HKLM\SYSTEM\CurrentControlSet\Control\PriorityControl; nothing is known to read it here
    pack.reg:23 absent | 
    pack.reg:24 "${facts}" | 
    pack.reg:22 type 65547: 01 02 |
    "#);
    let unusable: Vec<_> =
        pack.unusable.iter().map(|u| format!("{} {}", u.line, u.reason)).collect();
    insta::assert_snapshot!(unusable.join("\n"), @r"
    pack.reg:26 it makes the key HKCU\SOFTWARE\Empty and puts nothing into it
    pack.reg:28 it deletes HKCU\SOFTWARE\Other with all that is in it; Frevin takes away values one by one, so that each comes back
    ");
}

#[test]
fn it_becomes_tweaks_and_a_profile_that_read_and_do_the_same() {
    let pack = pack(PACK);
    let made = documents(&"strangers".parse().unwrap(), &pack);
    assert_eq!(made.left_out.len(), 1);
    let definitions: Vec<(String, String)> =
        made.tweaks.iter().map(|(id, text)| (format!("/tweaks/{id}.toml"), text.clone())).collect();
    for (name, text) in &definitions {
        Tweak::parse(name, text).unwrap();
    }
    let own = definitions.iter().map(|(name, text)| (name.as_str(), text.as_str()));
    let catalogue = Catalogue::built_in().unwrap().with_own(own).unwrap();
    let document = made.profile.to_document();
    let profile = Profile::parse("strangers.toml", &document, &catalogue).unwrap();
    let mut wanted: BTreeMap<Address, State> = BTreeMap::new();
    let guarded = made.left_out.iter().map(|id| (id.clone(), Arguments::new()));
    let entries = profile.entries.into_iter().map(|entry| (entry.tweak, entry.arguments));
    for (tweak, arguments) in entries.chain(guarded) {
        let settings = catalogue.get(&tweak).unwrap().resolve(&arguments, &Facts::reference());
        wanted.extend(settings.unwrap().into_iter().map(|w| (w.address, w.state)));
    }
    let text = registry_text::read(PACK.as_bytes()).unwrap();
    let values = text.entries.iter().filter_map(|entry| match &entry.operation {
        Operation::SetValue(key, name, data) => {
            let state = Value::Registry(data.clone()).into();
            Some((Address::RegistryValue(key.clone(), name.clone()), state))
        }
        Operation::DeleteValue(key, name) => {
            Some((Address::RegistryValue(key.clone(), name.clone()), State::Absent))
        }
        _ => None,
    });
    let values = values.map(|(address, state)| (address, (state, String::new()))).collect();
    let apart = parts::take_apart(values).into_iter();
    assert_eq!(wanted, apart.map(|(address, (state, _))| (address, state)).collect());
}
