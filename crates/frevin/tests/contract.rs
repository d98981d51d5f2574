//! The live PC keeps the contract of every PC, for the kinds that are real where this runs: Windows,
//! or Wine. `ci/windows` builds and runs it.
#![cfg(windows)]
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::collections::BTreeSet;
use std::path::PathBuf;

use frevin_core::setting::{
    Address, Listed, PageFileSize, RegistryData, RunState, ServiceStart, State, Value,
    VisualParameter,
};
use frevin_pc::Pc;
use frevin_pc::conformance::{self, Sample, Samples};
use frevin_pc::windows::pc::LivePc;

const NETWORK: &str =
    r"HKLM\SYSTEM\CurrentControlSet\Control\Network\{4d36e972-e325-11ce-bfc1-08002be10318}";
const CLASS: &str =
    r"HKLM\SYSTEM\CurrentControlSet\Control\Class\{4d36e972-e325-11ce-bfc1-08002be10318}";
const INTERFACE: &str = "{6b1f0c52-9d3e-4a87-8f21-3c5d7e9a1b04}";
const DEVICE: &str = r"HKLM\SYSTEM\CurrentControlSet\Enum\PCI\VEN_F00D&DEV_0007\1";
const MEMORY: &str =
    r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management#PagingFiles";

fn at(text: &str) -> Address {
    text.parse().unwrap_or_else(|error| panic!("{text}: {error}"))
}

fn sample(address: &str, other: impl Into<State>) -> Sample {
    Sample { address: at(address), other: other.into() }
}

fn string(text: &str) -> Value {
    Value::Registry(RegistryData::string(text))
}

fn dword(number: u32) -> Value {
    Value::Registry(RegistryData::dword(number))
}

fn odd(type_number: u32, bytes: &[u8]) -> Value {
    Value::Registry(RegistryData { type_number, bytes: bytes.to_vec() })
}

fn start(word: &str) -> Value {
    Value::Start(ServiceStart::from_word(word).unwrap())
}

/// Makes keys and values that some settings are kept in, with their keys; what is there stays.
fn furnish(pc: &mut LivePc, content: &[(&str, Value)]) {
    for (address, value) in content {
        let address = at(&format!("registry:{address}"));
        for key in address.supports() {
            pc.write(&key, &Value::Key.into()).unwrap();
        }
        pc.write(&address, &value.clone().into()).unwrap();
    }
}

fn home() -> PathBuf {
    let home = std::env::temp_dir().join(format!("frevin-live-{}", std::process::id()));
    std::fs::create_dir_all(&home).unwrap();
    home
}

#[test]
fn what_is_real_here_keeps_the_contract() {
    let mut pc = frevin_windows::live_pc(&home()).unwrap();
    let _lock = pc.lock().unwrap();
    furnish(
        &mut pc,
        &[
            (r"HKCU\Software\Frevin test\Deep#odd", odd(0x77, &[1, 2, 3])),
            (r"HKCU\Software\Frevin test\Deep#", string("the default value")),
            (r"HKCU\Software\Frevin test\Deep#list", string("Here=1;There=0;")),
            (r"HKCU\Software\Frevin test\Deep#flags", string("510")),
            (r"HKLM\SOFTWARE\Frevin test#none", odd(0, &[])),
            (r"HKLM\SOFTWARE\WOW6432Node\Frevin test#long", odd(3, &[7; 70_001])),
            (r"HKCU\Software\Microsoft\Windows\CurrentVersion\Run#Frevin test", string("none.exe")),
            (MEMORY, Value::Registry(RegistryData::multi_string([r"?:\pagefile.sys"]))),
            (&format!(r"{NETWORK}\{INTERFACE}\Connection#Name"), string("Frevin test")),
            (&format!(r"{CLASS}\0042#NetCfgInstanceId"), string(INTERFACE)),
            (&format!(r"{CLASS}\0042#*EEE"), string("1")),
            (&format!(r"{DEVICE}\Device Parameters#x"), dword(1)),
        ],
    );
    let device = "device:PCI\\VEN_F00D&DEV_0007\\1";
    let startup = at("startup:user-registry/Frevin test#enabled");
    let msi = at(&format!("{device}#message-signalled-interrupts"));
    let priority = at(&format!("{device}#interrupt-priority"));
    let keys: Vec<_> =
        [&startup, &msi, &priority].iter().flat_map(|address| pc.supports(address)).collect();
    for key in keys {
        for support in key.supports() {
            pc.write(&support, &Value::Key.into()).unwrap();
        }
        pc.write(&key, &Value::Key.into()).unwrap();
    }
    let display = pc.facts().unwrap().displays[0].name.clone();
    let mut samples = Samples {
        writable: vec![
            sample(r"registry:HKCU\Software\Frevin test\Deep#odd", dword(1)),
            sample(r"registry:HKCU\Software\Frevin test\Deep#new", odd(0xABCD_EF01, &[9; 5])),
            sample(r"registry:HKCU\Software\Frevin test\Deep#", State::Absent),
            sample(r"registry:HKCU\Software\Frevin test\Fresh", Value::Key),
            sample(
                r"registry-part:HKCU\Software\Frevin test\Deep#list#pair:Here",
                Value::Listed(Listed::new("2")),
            ),
            sample(
                r"registry-part:HKCU\Software\Frevin test\Deep#list#pair:Fresh",
                Value::Listed(Listed::new("1")),
            ),
            sample(
                r"registry-part:HKCU\Software\Frevin test\Deep#flags#bits:0x4",
                Value::Number(0),
            ),
            sample(r"registry:HKLM\SOFTWARE\Frevin test#none", odd(7, &[1])),
            sample(r"registry:HKLM\SOFTWARE\WOW6432Node\Frevin test#long", string("short")),
            sample("service:BITS#start", start("disabled")),
            sample("visual:menu-delay", Value::Milliseconds(7)),
            // The pointer's speed is not among them: Wine takes it from the other parameter of the call, which
            // the documentation of SPI_SETMOUSESPEED leaves unused, and reads 0 back.
            sample("visual:pointer-acceleration", Value::Text("0 0 0".into())),
            sample(&format!("display:{display}#mode"), Value::Mode("800x600@60".parse().unwrap())),
            sample(&startup.to_string(), Value::Flag(false)),
            sample("adapter:Frevin test#option-*EEE", Value::Text("0".into())),
            sample("adapter:Frevin test#power-saving", Value::Flag(false)),
            sample(&msi.to_string(), Value::Flag(true)),
            sample(&priority.to_string(), Value::Number(3)),
            sample("pagefile:C:#size", Value::PageFile(PageFileSize::SystemManaged)),
        ],
        refused: vec![
            sample(r"registry:HKCU\Nowhere\Deep#x", dword(1)),
            sample(r"registry:HKCU\Nowhere\Deep", Value::Key),
            sample("service:NoSuch#start", start("manual")),
            sample("service:NoSuch#running", Value::Run(RunState::Running)),
            sample(r"task:\NoSuch#enabled", Value::Flag(true)),
            sample(&format!("display:{display}#mode"), Value::Mode("7x7@7".parse().unwrap())),
            sample("driver:global#setting-low-latency", Value::Text("on".into())),
            sample("adapter:Frevin test#option-*NoSuch", Value::Text("0".into())),
            sample(r"device:PCI\NOSUCH\1#enabled", Value::Flag(false)),
        ],
        full_keys: vec![
            at(r"registry:HKCU\Software\Frevin test"),
            at(r"registry:HKCU\Software\Frevin test\Deep"),
        ],
    };
    // Every parameter of looks that this Windows keeps.
    for parameter in VisualParameter::ALL {
        let address = Address::Visual(parameter);
        if let State::Value(Value::Flag(on)) = pc.read(&address).unwrap() {
            samples.writable.push(sample(&address.to_string(), Value::Flag(!on)));
        }
    }
    let violations = conformance::check(&mut pc, &samples).unwrap();
    assert!(violations.is_empty(), "{violations:#?}");
    let kinds: BTreeSet<_> = samples.writable.iter().map(|sample| sample.address.kind()).collect();
    assert_eq!(kinds.len(), 9, "{kinds:?}");
}

/// What Wine does not have, and some Windows do not: nothing ends the program, and every reading
/// says why there is none.
#[test]
fn what_this_windows_lacks_is_told() {
    let pc = frevin_windows::live_pc(&home()).unwrap();
    let balanced = "381b4222-f694-41f0-9685-ff5bb260df2e";
    let setting = "54533251-82be-4824-96c1-47b60b740d00/893dee8e-2bef-41e0-89c6-b55d0929964c";
    for address in [
        "power:active-plan",
        &format!("power:{balanced}#exists"),
        &format!("power:{setting}#hidden"),
        &format!("power:{balanced}/{setting}#mains"),
        "app:Nobody.Sells_8wekyb3d8bbwe#installed",
        "feature:SMB1Protocol#enabled",
        "boot:current#element-nx",
        "protection:real-time#enabled",
        "protection:anti-virus#exclusions",
        "driver:global#setting-low-latency",
    ] {
        match pc.read(&at(address)).unwrap() {
            State::Unreadable(reason) => assert!(!reason.is_empty(), "{address}"),
            // On a real Windows most of these are there.
            other => println!("{address} is {other}"),
        }
    }
    let facts = pc.facts().unwrap();
    assert!(facts.windows.build > 10_000 && facts.memory.size_mib > 100, "{facts:?}");
    assert!(facts.system_drive().is_some() && facts.processor.threads > 0, "{facts:?}");
    for (fact, reason) in &facts.unknown {
        assert!(!reason.is_empty(), "{fact}");
    }
    let addresses = pc.addresses().unwrap();
    assert!(addresses.is_sorted() && addresses.len() > 20, "{}", addresses.len());
}
