//! The live PC over recorded answers: what settings mean on Windows, where none is at hand.

mod recorded;

use std::cell::RefCell;
use std::rc::Rc;

use frevin_core::facts::{DriveKind, Form};
use frevin_core::setting::{
    Address, ColourRamp, Listed, ObjectKind, PageFileSize, PowerSource, RegistryData, RunState,
    ServiceStart, State, TakesEffect, Value, VisualParameter,
};
use frevin_core::waiting::Start;
use uuid::Uuid;

use self::recorded::{Plan, Recorded, Service, Stops, Windows, registry};
use super::boot::Element;
use super::health::GuardSeen;
use super::pc::LivePc;
use super::services::Doing;
use super::starts::Process;
use crate::conformance::{self, Sample, Samples};
use crate::contract::{LockError, OWN_TASK, Pc, WriteError, Written};
use crate::restarts::{BroughtAbout, Restarts as _};

const BALANCED: Uuid = Uuid::from_u128(0x381b4222_f694_41f0_9685_ff5bb260df2e);
const HIGH: Uuid = Uuid::from_u128(0x8c5e7fda_e8bf_4a96_9a85_a6e23a8c635c);
const COPY: Uuid = Uuid::from_u128(0x11111111_2222_4333_8444_555555555555);
const SUBGROUP: Uuid = Uuid::from_u128(0x54533251_82be_4824_96c1_47b60b740d00);
const SETTING: Uuid = Uuid::from_u128(0x893dee8e_2bef_41e0_89c6_b55d0929964c);
const GRAPHICS: &str =
    r"registry-part:HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#DirectXUserGlobalSettings";
/// What draws in the processor; the third that is recorded is no longer there.
const INTEGRATED: &str = r"PCI\VEN_F00D&DEV_0001\3&11583659&0&10";
const CARD: &str = r"PCI\VEN_F00D&DEV_0007\4&1A2B3C4D&0&0008";
const INTERFACE: &str = r"HKLM\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters\Interfaces\{6b1f0c52-9d3e-4a87-8f21-3c5d7e9a1b04}";
const NETWORK_CARD: &str = r"PCI\VEN_F00D&DEV_0110\3&11583659&0&FE";

fn service(start: u32, doing: Doing, needs: &[&'static str], stops: Stops) -> Service {
    Service { start, delayed: false, doing, needs: needs.to_vec(), stops }
}

fn recording() -> Windows {
    let plan = |name: &str, mains| Plan {
        name: name.to_owned(),
        description: "As it came".to_owned(),
        values: [((SUBGROUP, SETTING), [mains, 5])].into(),
    };
    Windows(Rc::new(RefCell::new(Recorded {
        registry: registry(include_str!("registry.reg")),
        closed: Vec::new(),
        services: [
            ("Base", service(2, Doing::Running, &[], Stops::AtOnce)),
            ("Upper", service(2, Doing::Running, &["Base"], Stops::AtOnce)),
            ("Top", service(3, Doing::Stopped, &["Upper", "Base"], Stops::AtOnce)),
            ("Off", service(4, Doing::Stopped, &[], Stops::AtOnce)),
            ("Stubborn", service(2, Doing::Running, &[], Stops::Never)),
            ("Needed", service(2, Doing::Running, &[], Stops::Refused)),
        ]
        .into(),
        active: BALANCED,
        plans: [(BALANCED, plan("Balanced", 5)), (HIGH, plan("High performance", 100))].into(),
        attributes: [((SUBGROUP, SETTING), 2)].into(),
        visual: [(VisualParameter::MenuDelay, 400), (VisualParameter::PointerSpeed, 10)].into(),
        pointer_acceleration: [6, 10, 1],
        tasks: [(r"\Plain".to_owned(), true), (r"\Kept".to_owned(), true)].into(),
        mode: "2560x1440@60".parse().unwrap(),
        short_mode_lists: 0,
        ramps: std::collections::BTreeMap::default(),
        devices: [CARD, INTEGRATED, NETWORK_CARD].map(|id| (id.to_owned(), true)).into(),
        restarted: Vec::new(),
        boot: [
            (
                ("{9dea862c-5cdd-4e70-acc1-f32b344d4795}".to_owned(), 0x2500_0004),
                Element::Integer(30),
            ),
            (
                ("{fa926493-6f1c-4193-a414-58f0b2456d1e}".to_owned(), 0x2500_0020),
                Element::Integer(0),
            ),
        ]
        .into(),
        apps: ["News_8wekyb3d8bbwe", "Bought_8wekyb3d8bbwe"].map(str::to_owned).into(),
        kept_apps: ["News_8wekyb3d8bbwe".to_owned()].into(),
        features: [("SMB1Protocol".to_owned(), false)].into(),
        preferences: [
            ("DisableRealtimeMonitoring".to_owned(), 0),
            ("MAPSReporting".to_owned(), 2),
            ("SubmitSamplesConsent".to_owned(), 3),
        ]
        .into(),
        exclusions: vec![r"D:\Games".to_owned()],
        is_administrator: true,
        engines: Vec::new(),
        sign_in: "5".to_owned(),
        processes: Vec::new(),
        runs_as_another_user: false,
        guards: Vec::new(),
        devices_with_error: Vec::new(),
        servicing_log: String::new(),
        app_folders: Default::default(),
        offers_nothing: false,
    })))
}

fn listed(text: &str) -> State {
    Value::Listed(Listed::new(text)).into()
}

fn opened(windows: &Windows) -> (tempfile::TempDir, LivePc) {
    let home = tempfile::tempdir().unwrap();
    let mut pc = LivePc::over(windows.apis(), home.path()).unwrap();
    pc.be_patient_for(std::time::Duration::from_millis(80));
    (home, pc)
}

fn at(text: &str) -> Address {
    text.parse().unwrap_or_else(|error| panic!("{text}: {error}"))
}

fn flag(on: bool) -> State {
    Value::Flag(on).into()
}

fn text(text: &str) -> State {
    Value::Text(text.into()).into()
}

fn start(word: &str) -> State {
    Value::Start(ServiceStart::from_word(word).unwrap()).into()
}

fn texts(texts: &[&str]) -> State {
    Value::Texts(texts.iter().map(|text| (*text).to_owned()).collect()).into()
}

fn dword(number: u32) -> State {
    Value::Registry(RegistryData::dword(number)).into()
}

fn page_file(size: &str) -> State {
    Value::PageFile(size.parse().unwrap()).into()
}

fn refusal(written: Result<Written, WriteError>) -> String {
    match written {
        Err(WriteError::Refused(reason)) => reason,
        other => panic!("was to be refused, gave {other:?}"),
    }
}

#[test]
fn every_kind_keeps_the_contract() {
    let windows = recording();
    let first = windows.0.borrow().clone();
    let (_home, mut pc) = opened(&windows);
    let _lock = pc.lock().unwrap();
    let sample = |address: &str, other: State| Sample { address: at(address), other };
    let value = format!("{BALANCED}/{SUBGROUP}/{SETTING}");
    let copy = Value::PlanExists { copy_of: Some(HIGH), name: "Play".into() };
    let msi = "message-signalled-interrupts";
    let samples = Samples {
        writable: vec![
            sample(r"registry:HKCU\SOFTWARE\Frevin test#odd", dword(7)),
            sample(r"registry:HKCU\SOFTWARE\Frevin test#new", dword(7)),
            sample(r"registry:HKCU\SOFTWARE\Fresh", Value::Key.into()),
            sample("service:Base#start", start("disabled")),
            sample("service:Top#start", start("automatic-delayed")),
            sample("service:Upper#running", Value::Run(RunState::Stopped).into()),
            sample("service:Base#running", Value::Run(RunState::Paused).into()),
            sample("power:active-plan", Value::Plan(HIGH).into()),
            sample(&format!("power:{value}#mains"), Value::PowerIndex(60).into()),
            sample(&format!("power:{COPY}#exists"), copy.into()),
            sample(&format!("power:{SUBGROUP}/{SETTING}#hidden"), flag(true)),
            sample(&format!("{GRAPHICS}#pair:VRROptimizeEnable"), listed("1")),
            sample(&format!("{GRAPHICS}#pair:AutoHDREnable"), State::Absent),
            sample(&format!("{GRAPHICS}#pair:SwapEffectUpgradeEnable"), listed("1")),
            sample(
                r"registry-part:HKCU\Control Panel\Accessibility\StickyKeys#Flags#bits:0x4",
                Value::Number(0).into(),
            ),
            sample("visual:menu-delay", Value::Milliseconds(0).into()),
            sample("visual:pointer-speed", Value::Number(4).into()),
            sample("visual:pointer-acceleration", text("0 0 0")),
            sample(r"task:\Plain#enabled", flag(false)),
            sample("display:Lumet 27Q#mode", Value::Mode("2560x1440@165".parse().unwrap()).into()),
            sample("adapter:Ethernet#name-servers", texts(&["198.51.100.1"])),
            sample("adapter:Ethernet#name-servers", texts(&[])),
            sample("adapter:Ethernet#power-saving", flag(false)),
            sample("adapter:ethernet#option-*EEE", text("0")),
            sample(&format!("device:{CARD}#enabled"), flag(false)),
            sample(&format!("device:{CARD}#{msi}"), flag(false)),
            sample(&format!("device:{CARD}#{msi}"), State::Absent),
            sample(&format!("device:{CARD}#interrupt-priority"), Value::Number(3).into()),
            sample("startup:machine-registry/Orrinfell Tray#enabled", flag(true)),
            sample("app:News_8wekyb3d8bbwe#installed", flag(false)),
            sample("feature:SMB1Protocol#enabled", flag(true)),
            sample("boot:bootmgr#element-timeout", text("5")),
            sample("boot:current#element-disabledynamictick", text("yes")),
            sample("boot:current#element-nx", text("AlwaysOn")),
            sample("pagefile:C:#size", page_file("4096-8192 MiB")),
            sample("pagefile:C:#size", page_file("system-managed")),
            sample("protection:cloud-delivered#enabled", flag(false)),
            sample("protection:anti-virus#exclusions", texts(&[r"D:\Games", r"E:\More"])),
        ],
        refused: vec![
            sample(r"registry:HKCU\Nowhere\Deep#x", dword(1)),
            sample(r"registry:HKCU\Nowhere\Deep", Value::Key.into()),
            sample("service:NoSuch#start", start("manual")),
            sample("service:Top#running", Value::Run(RunState::Paused).into()),
            sample("service:Off#running", Value::Run(RunState::Running).into()),
            sample("service:Needed#running", Value::Run(RunState::Stopped).into()),
            sample("power:active-plan", Value::Plan(Uuid::nil()).into()),
            sample(&format!("power:{BALANCED}#exists"), State::Absent),
            sample(&format!("power:{HIGH}#exists"), State::Absent),
            sample(&format!("power:{HIGH}/{HIGH}#hidden"), flag(true)),
            sample("visual:menu-delay", flag(true)),
            sample(r"task:\NoSuch#enabled", flag(true)),
            sample(r"task:\Kept#enabled", flag(false)),
            sample("display:Lumet 27Q#mode", Value::Mode("800x600@60".parse().unwrap()).into()),
            sample("display:Lumet 27Q#scaling-percent", Value::Number(125).into()),
            sample("adapter:Ethernet#name-servers", texts(&["2001:db8::1", "192.0.2.1"])),
            sample("adapter:Ethernet#option-*EEE", text("7")),
            sample("adapter:Ethernet#option-*Odd", text("7")),
            sample("adapter:Ethernet#option-*NoSuch", text("7")),
            sample(r"device:PCI\NOSUCH\1#enabled", flag(false)),
            sample(&format!(r"device:PCI\NOSUCH\1#{msi}"), flag(false)),
            sample("startup:user-registry/NoSuch#enabled", flag(false)),
            sample("startup:user-registry/Gorsehollow Launcher#enabled", flag(false)),
            sample("app:Bought_8wekyb3d8bbwe#installed", flag(false)),
            sample("feature:NoSuch#enabled", flag(true)),
            sample("boot:current#element-nosuch", text("1")),
            sample("boot:current#element-nx", text("Sometimes")),
            sample("pagefile:D:#size", page_file("system-managed")),
            sample("driver:global#setting-low-latency", text("on")),
            sample("protection:sample-submission#enabled", flag(true)),
        ],
        full_keys: vec![at(r"registry:HKCU\SOFTWARE\Frevin test"), at(r"registry:HKCU\SOFTWARE")],
    };
    let violations = conformance::check(&mut pc, &samples).unwrap();
    assert!(violations.is_empty(), "{violations:#?}");
    let kinds: std::collections::BTreeSet<_> = samples
        .writable
        .iter()
        .chain(&samples.refused)
        .map(|sample| sample.address.kind())
        .collect();
    // Settings files and places to clean are real files: they are tested as such.
    assert_eq!(kinds.len(), 5 + ObjectKind::ALL.len());
    assert!(*windows.0.borrow() == first, "some answer is not as it was recorded");
}

#[test]
fn what_windows_lacks_is_unreadable_and_nothing_breaks() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    windows.0.borrow_mut().offers_nothing = true;
    for address in [
        "power:active-plan",
        &format!("power:{HIGH}#exists"),
        &format!("power:{SUBGROUP}/{SETTING}#hidden"),
        "visual:drop-shadow",
        r"task:\Plain#enabled",
        "display:Lumet 27Q#mode",
        &format!("device:{CARD}#enabled"),
        "app:News_8wekyb3d8bbwe#installed",
        "feature:SMB1Protocol#enabled",
        "boot:current#element-nx",
        "protection:real-time#enabled",
        "protection:anti-virus#exclusions",
    ] {
        let State::Unreadable(reason) = pc.read(&at(address)).unwrap() else { panic!("{address}") };
        assert!(reason.starts_with("this PC does not offer it"), "{address}: {reason}");
        let reason = refusal(pc.write(&at(address), &State::Absent));
        assert!(!reason.is_empty());
    }
    assert_eq!(pc.read(&at("service:Base#start")).unwrap(), start("automatic"));
    let servers = pc.write(&at("adapter:Ethernet#name-servers"), &texts(&["192.0.2.9"]));
    assert!(refusal(servers).contains("SetInterfaceDnsSettings"));
    assert!(pc.addresses().unwrap().contains(&at("service:Base#running")));
    let facts = pc.facts().unwrap();
    for lacking in ["adapters", "displays", "memory.actual_mt_s"] {
        assert!(facts.unknown.contains_key(lacking), "{lacking}: {:?}", facts.unknown);
    }
    assert_eq!(facts.form, Some(Form::Laptop), "it has a battery");
}

#[test]
fn facts_come_from_many_places_and_what_is_not_told_has_a_reason() {
    let windows = recording();
    let (_home, pc) = opened(&windows);
    let facts = pc.facts().unwrap();
    assert_eq!(facts.windows.edition.as_deref(), Some("Home"));
    assert_eq!((facts.windows.release, facts.windows.waits_for_restart), (11, Some(false)));
    assert_eq!(facts.processor.name, "Halden Six 12-thread");
    assert_eq!((facts.processor.mixed_cores, facts.processor.base_mhz), (Some(true), Some(3600)));
    assert_eq!(facts.power_source, PowerSource::Battery);
    let kinds: Vec<_> = facts.drives.iter().map(|drive| drive.kind).collect();
    assert_eq!(kinds, [Some(DriveKind::SolidState), None]);
    let [card, integrated] = &facts.graphics[..] else { panic!("{:?}", facts.graphics) };
    assert_eq!((card.video_memory_mib, card.device_id.as_deref()), (Some(8192), Some(CARD)));
    assert_eq!(card.is_discrete, Some(true), "it has 8 GiB of its own, behind a bridge");
    assert_eq!(integrated.is_discrete, Some(false), "nothing else sits on the first bus");
    let names: Vec<&str> = facts.displays.iter().map(|display| display.name.as_str()).collect();
    assert_eq!(names, ["Lumet 27Q", "Lumet 27Q 2"]);
    assert_eq!(facts.displays[0].highest_refresh_hz, 165);
    assert_eq!(facts.adapters[0].name, "Ethernet");
    assert_eq!(facts.adapters[0].device_id.as_deref(), Some(NETWORK_CARD));
    assert_eq!((facts.uses.printer, facts.uses.remote_desktop), (Some(false), Some(false)));
    let games: Vec<_> = facts.games.iter().map(|game| (game.name.as_str(), game.file())).collect();
    assert_eq!(games, [("Gorsehollow Riders", "riders.exe"), ("tides", "tides.exe")]);
    assert_eq!(facts.power.plan_in_force, Some(BALANCED));
    assert_eq!(facts.firmware.compatibility_start, Some(false));
    assert_eq!(facts.load.starts_with_pc, Some(2), "what is switched off does not start");
    assert_eq!(facts.load.services_running, Some(4));
    insta::assert_snapshot!(
        facts.unknown.iter().map(|(fact, why)| format!("{fact}: {why}\n")).collect::<String>()
    );
}

#[test]
fn what_windows_knows_of_its_health_is_told() {
    let windows = recording();
    {
        let mut recorded = windows.0.borrow_mut();
        let seen = |name: &str, program: &str| GuardSeen {
            name: name.to_owned(),
            is_antivirus: true,
            program: program.to_owned(),
        };
        recorded.guards = vec![
            seen("Windows' own", "windowsdefender://"),
            seen("Orrinfell Shield", r"C:\Program Files\Orrinfell\shield.exe"),
        ];
        recorded.devices_with_error =
            vec![(NETWORK_CARD.to_owned(), 10), (r"USB\X".to_owned(), 28)];
        recorded.servicing_log =
            "2026-11-02 20:00:00, Info CSI 1 [SR] Verify complete\n".to_owned();
    }
    let (_home, pc) = opened(&windows);
    let facts = pc.facts().unwrap();
    let [guard] = &facts.guards[..] else { panic!("{:?}", facts.guards) };
    assert_eq!(guard.name, "Orrinfell Shield");
    assert_eq!(guard.startup_entries, ["machine-registry/Orrinfell Tray".into()]);
    assert_eq!(facts.uses.other_antivirus, Some(true));
    let obstacle = pc.obstacle(&at("startup:machine-registry/Orrinfell Tray#enabled")).unwrap();
    assert!(obstacle.unwrap().contains("Orrinfell Shield"));
    let codes: Vec<u32> = facts.devices_with_error.iter().map(|device| device.code).collect();
    assert_eq!(codes, [10, 28]);
    assert_eq!(facts.devices_with_error[1].name, r"USB\X", "for want of a name");
    let check = facts.windows.file_check.unwrap();
    assert_eq!((check.repaired, check.not_repaired), (0, 0));
}

#[test]
fn memory_is_told_and_given_back_and_the_timer_granted_where_windows_lets_it() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let memory = pc.memory().unwrap().unwrap();
    assert_eq!((memory.total_mib, memory.standby_mib), (16_384, 6_200));
    pc.purge_standby().unwrap();
    let half: frevin_core::playing::TimerPeriod = "0.5".parse().unwrap();
    assert_eq!(pc.ask_for_timer(half).unwrap(), half);
    // Who is no administrator is told nothing, which is no error: it is said before a game begins.
    windows.0.borrow_mut().offers_nothing = true;
    assert_eq!(pc.memory().unwrap(), None);
    assert!(pc.purge_standby().is_err() && pc.ask_for_timer(half).is_err());
}

#[test]
fn a_mode_is_waited_for_while_the_driver_makes_its_list() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let address: Address = "display:Lumet 27Q#mode".parse().unwrap();
    let fast = State::Value(Value::Mode("2560x1440@165".parse().unwrap()));
    let _lock = pc.lock().unwrap();
    windows.0.borrow_mut().short_mode_lists = u32::MAX;
    assert!(pc.write(&address, &fast).is_err(), "not for ever");
    windows.0.borrow_mut().short_mode_lists = 1;
    assert_eq!(pc.write(&address, &fast).unwrap(), Written::Done);
    assert_eq!(pc.read(&address).unwrap(), fast);
}

#[test]
fn colours_of_a_display_come_back_to_the_last_bit() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let address: Address = "display:Lumet 27Q#colours".parse().unwrap();
    assert_eq!(pc.read(&address).unwrap(), State::Absent, "shown as they are");
    let _lock = pc.lock().unwrap();
    let bright = |gamma: f64| State::Value(Value::Colours(ColourRamp::made(gamma, 50.0, 50.0)));
    for state in [bright(1.2), bright(0.9), State::Absent] {
        assert_eq!(pc.write(&address, &state).unwrap(), Written::Done);
        assert_eq!(pc.read(&address).unwrap(), state);
    }
    let none: Address = "display:Nowhere#colours".parse().unwrap();
    assert!(pc.write(&none, &bright(1.2)).is_err());
}

#[test]
fn programs_are_apps_and_what_brings_its_uninstaller() {
    let windows = recording();
    let folder = tempfile::tempdir().unwrap();
    fs_err::create_dir(folder.path().join("inner")).unwrap();
    fs_err::write(folder.path().join("inner/a"), vec![0; (1 << 20) + 1]).unwrap();
    let app = windows.0.borrow().apps.first().unwrap().clone();
    windows.0.borrow_mut().app_folders.insert(app.clone(), folder.path().to_owned());
    let (_home, pc) = opened(&windows);
    let programs = pc.programs().unwrap();
    let of_app = programs.iter().find(|one| one.family == Some(app.as_str().into())).unwrap();
    assert_eq!(of_app.size_mib, Some(2));
    let others: Vec<_> = programs
        .iter()
        .filter(|one| one.family.is_none())
        .map(|one| (one.name.as_str(), one.size_mib))
        .collect();
    assert_eq!(
        others,
        [("Orrinfell Tray", Some(181))],
        "no update, no part, nothing without a name"
    );
    assert_eq!(pc.processor_mhz().unwrap(), Some(4200.0));
}

#[test]
fn a_plan_whose_copying_was_interrupted_goes_and_one_with_a_life_of_its_own_stays() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let address = at(&format!("power:{COPY}#exists"));
    let high = windows.0.borrow().plans[&HIGH].clone();
    // Copied, and not named yet.
    windows.0.borrow_mut().plans.insert(COPY, high.clone());
    pc.write(&address, &State::Absent).unwrap();
    assert!(!windows.0.borrow().plans.contains_key(&COPY));
    let mut own = high;
    own.values.insert((SUBGROUP, SETTING), [1, 2]);
    windows.0.borrow_mut().plans.insert(COPY, own);
    assert_eq!(pc.write(&address, &State::Absent).unwrap(), Written::LeftInPlace);
}

#[test]
fn a_service_that_will_not_stop_is_told_and_its_state_is_no_guess() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let stubborn = at("service:Stubborn#running");
    let stopped = Value::Run(RunState::Stopped).into();
    // It was told to: that is no refusal, after which nothing would have changed.
    let Err(WriteError::Failed(error)) = pc.write(&stubborn, &stopped) else { panic!() };
    assert!(error.to_string().ends_with("it is stopping"), "{error}");
    let held = pc.read(&stubborn).unwrap();
    assert_eq!(held, State::Unreadable("it is stopping".into()));
    let running = Value::Run(RunState::Running).into();
    let reason = refusal(pc.write(&stubborn, &running));
    assert!(reason.contains("stays at it"), "{reason}");
    assert_eq!(pc.dependents(&"Base".into()).unwrap(), ["Top".into(), "Upper".into()]);
    assert_eq!(pc.dependencies(&"Top".into()).unwrap(), ["Base".into(), "Upper".into()]);
    assert!(pc.dependencies(&"NoSuch".into()).unwrap().is_empty());
}

#[test]
fn a_task_of_frevins_own_is_off_when_it_is_made_and_goes_again() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let task = at(&format!("task:{OWN_TASK}#enabled"));
    assert_eq!(pc.read(&task).unwrap(), State::Absent);
    pc.own_task(false).unwrap();
    for _ in 0..2 {
        pc.own_task(true).unwrap();
        assert_eq!(pc.read(&task).unwrap(), flag(false));
    }
    pc.write(&task, &flag(true)).unwrap();
    assert_eq!(pc.read(&task).unwrap(), flag(true));
    pc.own_task(false).unwrap();
    assert_eq!(pc.read(&task).unwrap(), State::Absent);
}

#[test]
fn what_this_user_may_not_write_is_known_beforehand() {
    let windows = recording();
    let (_home, pc) = opened(&windows);
    let closed = r"HKLM\SOFTWARE\Microsoft";
    windows.0.borrow_mut().closed.push(closed.parse().unwrap());
    let obstacle = |address: &str| pc.obstacle(&at(address)).unwrap();
    let told = obstacle(r"registry:HKLM\SOFTWARE\Microsoft\New\Deep#x").unwrap();
    assert_eq!(told, format!("{closed} does not let this user write"));
    assert_eq!(obstacle(r"registry:HKCU\SOFTWARE\New\Deep#x"), None);
    windows.0.borrow_mut().runs_as_another_user = true;
    assert!(obstacle("visual:menu-delay").unwrap().contains("another user"));
    assert_eq!(obstacle("service:Base#start"), None, "that is everybody's");
    windows.0.borrow_mut().runs_as_another_user = false;
    windows.0.borrow_mut().is_administrator = false;
    let needs = Some("it needs an administrator".to_owned());
    assert_eq!(obstacle(r"registry:HKLM\SYSTEM\New#x"), needs);
    assert_eq!(obstacle("service:Base#start"), needs);
    assert_eq!(obstacle("visual:menu-delay"), None);
}

#[test]
fn what_the_pc_is_like_around_a_visit_is_told_where_windows_tells_it() {
    let windows = recording();
    let (_home, pc) = opened(&windows);
    let around = pc.environment().unwrap();
    assert_eq!(around.parked_threads, Some(4));
    assert_eq!(around.processor_mhz.map(|clock| clock.highest_mhz), Some(4200.0));
    assert_eq!(around.refresh_hz.len(), pc.facts().unwrap().displays.len());
    assert_eq!(around.is_recording(), Some(false));
    let encodes = "pid_77_luid_0x00000000_0x0000C4F9_phys_0_eng_4_engtype_VideoEncode";
    windows.0.borrow_mut().engines = vec![(encodes.to_owned(), 12.5)];
    windows.0.borrow_mut().processes =
        vec![Process { id: 77, file: "grab.exe".to_owned(), created: None }];
    let around = pc.environment().unwrap();
    assert_eq!(around.encoders, Some(vec!["grab.exe".to_owned()]));
    assert_eq!(around.is_recording(), Some(true));
}

#[test]
fn a_restart_by_itself_is_begun_and_one_that_is_refused_is_told() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let lock = pc.lock().unwrap();
    assert_eq!(pc.restart_by_itself(&lock).unwrap(), BroughtAbout::Begun);
    assert!(pc.has_administrator_rights().unwrap());
    // Without the owner's word it stays theirs.
    let left = pc.bring_about(&lock, TakesEffect::Restart).unwrap();
    assert_eq!(left, BroughtAbout::LeftToOwner);
    windows.0.borrow_mut().offers_nothing = true;
    windows.0.borrow_mut().is_administrator = false;
    let refused = pc.restart_by_itself(&lock).unwrap_err().to_string();
    assert!(refused.contains("InitiateShutdownW"), "{refused}");
    assert!(!pc.has_administrator_rights().unwrap());
}

#[test]
fn keys_that_a_driver_or_windows_looks_in_are_made_first() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let msi = at(&format!("device:{NETWORK_CARD}#message-signalled-interrupts"));
    assert_eq!(pc.read(&msi).unwrap(), State::Absent);
    assert!(refusal(pc.write(&msi, &flag(true))).contains("does not exist"));
    let supports = pc.supports(&msi);
    assert_eq!(supports.len(), 2);
    for key in &supports {
        pc.write(key, &Value::Key.into()).unwrap();
    }
    pc.write(&msi, &flag(true)).unwrap();
    assert_eq!(pc.read(&msi).unwrap(), flag(true));
    let launcher = at("startup:user-registry/Gorsehollow Launcher#enabled");
    for key in pc.supports(&launcher) {
        pc.write(&key, &Value::Key.into()).unwrap();
    }
    for on in [false, true] {
        pc.write(&launcher, &flag(on)).unwrap();
        assert_eq!(pc.read(&launcher).unwrap(), flag(on));
    }
    let switches = r"HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\Run";
    assert!(pc.values_of(&switches.parse().unwrap()).unwrap().is_empty());
}

#[test]
fn what_starts_is_told_with_what_its_program_takes() {
    let windows = recording();
    let process = |id, file: &str| Process { id, file: file.to_owned(), created: None };
    windows.0.borrow_mut().processes =
        vec![process(1, "LAUNCHER.exe"), process(2, "launcher.exe"), process(3, "other.exe")];
    let (_home, mut pc) = opened(&windows);
    let of = |pc: &LivePc, entry: &str| {
        let startup = pc.startup().unwrap();
        assert_eq!(startup.latest_start, None);
        startup.entries.into_iter().find(|one| one.entry == entry).unwrap()
    };
    let entry = "user-registry/Gorsehollow Launcher";
    let launcher = of(&pc, entry);
    assert_eq!((launcher.is_on, launcher.program.as_deref()), (Some(true), Some("launcher.exe")));
    let taken = launcher.running.unwrap();
    assert_eq!((taken.processes, taken.memory_mib), (2, 128));
    let tray = of(&pc, "machine-registry/Orrinfell Tray");
    assert!(tray.running.is_none(), "{tray:?}");
    // Switched off, it is told so, also while its program still runs.
    let switch = at(&format!("startup:{entry}#enabled"));
    for key in pc.supports(&switch) {
        pc.write(&key, &Value::Key.into()).unwrap();
    }
    pc.write(&switch, &flag(false)).unwrap();
    let launcher = of(&pc, entry);
    assert!(launcher.is_on == Some(false) && launcher.running.is_some());
}

#[test]
fn one_page_file_may_be_set_while_others_are() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let list = at(
        r"registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management#PagingFiles",
    );
    let (system, other) = (at("pagefile:C:#size"), at("pagefile:d:#size"));
    let automatic = pc.read(&list).unwrap();
    assert_eq!(pc.read(&system).unwrap(), Value::PageFile(PageFileSize::Automatic).into());
    assert_eq!(pc.read(&other).unwrap(), Value::PageFile(PageFileSize::None).into());
    pc.write(&system, &page_file("1024-4096 MiB")).unwrap();
    pc.write(&other, &page_file("system-managed")).unwrap();
    let both = RegistryData::multi_string([r"C:\pagefile.sys 1024 4096", r"d:\pagefile.sys 0 0"]);
    assert_eq!(pc.read(&list).unwrap(), Value::Registry(both).into());
    assert!(refusal(pc.write(&system, &page_file("automatic"))).contains("other drives"));
    pc.write(&other, &page_file("none")).unwrap();
    pc.write(&system, &page_file("automatic")).unwrap();
    assert_eq!(pc.read(&list).unwrap(), automatic);
    pc.write(&list, &Value::Registry(RegistryData::multi_string(["C:\\odd.sys 1 2"])).into())
        .unwrap();
    assert!(!pc.read(&system).unwrap().is_readable());
}

#[test]
fn name_servers_that_are_no_text_are_unreadable_and_not_none() {
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let servers = at("adapter:Ethernet#name-servers");
    assert!(pc.read(&servers).unwrap().is_readable());
    let value = at(&format!(r"registry:{INTERFACE}#NameServer"));
    pc.write(&value, &Value::Registry(RegistryData::dword(1)).into()).unwrap();
    assert!(!pc.read(&servers).unwrap().is_readable(), "a rollback would write none");
}

#[test]
fn each_moment_has_come_when_what_is_waited_for_has_started_anew() {
    let windows = recording();
    let (_home, pc) = opened(&windows);
    let process = |id, file: &str| Process { id, file: file.to_owned(), created: Some(9) };
    windows.0.borrow_mut().processes = vec![process(7, "svchost.exe"), process(8, "game.exe")];
    let game = at(r"registry:HKCU\Software\Microsoft\DirectX\UserGpuPreferences#C:\game.exe");
    let service = at("service:Base#start");
    let start = |moment, address: &Address| pc.start_of(moment, address).unwrap();
    let moments = [
        (TakesEffect::SignOut, &game),
        (TakesEffect::ProgramRestart, &game),
        (TakesEffect::ProgramRestart, &service),
        (TakesEffect::ServiceRestart, &service),
    ];
    let before = moments.map(|(moment, address)| start(moment, address));
    assert_eq!(before, moments.map(|(moment, address)| start(moment, address)));
    assert!(before.iter().all(|start| matches!(start, Start::Since(_))), "{before:?}");
    windows.0.borrow_mut().sign_in.push('2');
    windows.0.borrow_mut().processes = vec![process(7, "svchost.exe")];
    let after = moments.map(|(moment, address)| start(moment, address));
    assert_eq!(after[1], Start::NotRunning);
    // A service goes on over a sign-out; a program that nobody can tell is ended by it.
    assert_eq!([0, 2, 3].map(|i| before[i] == after[i]), [false, false, true]);
    assert_eq!(start(TakesEffect::DeviceRestart, &service), Start::Unknown);
}

#[test]
fn the_pc_and_its_start_are_known() {
    let windows = recording();
    let (_home, pc) = opened(&windows);
    assert_eq!(pc.boot().unwrap().as_str(), "since-7");
    assert_eq!(pc.identity().id.as_str(), "live-5a1cbb5e-7d21-4a55-9c8b-0a2b4d1a7c11");
    assert_eq!(pc.identity().name, "RECORDED");
}

#[test]
fn one_process_changes_it_at_a_time() {
    let windows = recording();
    let (home, mut pc) = opened(&windows);
    let lock = pc.lock().unwrap();
    let mut second = LivePc::over(windows.apis(), home.path()).unwrap();
    let Err(LockError::Held(Some(holder))) = second.lock() else { panic!("it was taken twice") };
    assert_eq!(holder.process_id, std::process::id());
    drop(lock);
    drop(second.lock().unwrap());
}

#[test]
fn the_users_own_part_of_the_registry_has_one_address() {
    let (_home, pc) = opened(&recording());
    let reason = |text: &str| pc.obstacle(&at(text)).unwrap();
    let own = reason(r"registry:HKU\S-1-5-21-1-2-3-1001\Software\X#y").unwrap();
    assert!(own.contains("HKCU"), "{own}");
    assert_eq!(reason(r"registry:HKCU\Software\X#y"), None);
}

#[test]
fn only_what_can_be_spared_is_restarted() {
    use crate::restarts::{DeviceRestarted, Restarts as _};
    let windows = recording();
    let (_home, mut pc) = opened(&windows);
    let lock = pc.lock().unwrap();
    let mut restart = |device: &str| pc.restart_device(&lock, &device.into()).unwrap();
    let took_effect = Vec::new();
    assert_eq!(restart("Ethernet"), DeviceRestarted::Done { took_effect });
    assert_eq!(restart(CARD), DeviceRestarted::NotSafe, "nobody could go on without a picture");
    assert_eq!(restart(r"PCI\VEN_0000\1"), DeviceRestarted::NotThere);
    windows.0.borrow_mut().is_administrator = false;
    assert!(matches!(restart(NETWORK_CARD), DeviceRestarted::Denied { .. }));
    assert_eq!(windows.0.borrow().restarted, [NETWORK_CARD]);
}
