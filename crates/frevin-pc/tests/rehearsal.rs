//! The rehearsal PC behaves as its documentation says, and keeps the contract of every PC.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::collections::BTreeMap;
use std::path::Path;

use frevin_core::setting::{
    Address, Listed, ObjectKind, PageFileSize, RegistryData, RunState, ServiceStart, State,
    TakesEffect, Value,
};
use frevin_core::tweak::Catalogue;
use frevin_core::waiting::Start;
use frevin_frames::metrics;
use frevin_pc::conformance::{self, Sample, Samples};
use frevin_pc::rehearsal::{Event, Faults, RehearsalPc, Template, create};
use frevin_pc::{
    BroughtAbout, LockError, Pc, PcError, Restarts as _, WriteError, Written, fingerprint,
};
use proptest::prelude::*;
use strum::IntoEnumIterator as _;

const HIGH: &str = "8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c";
/// A plan that does not come with Windows.
const PLAY: &str = "6e7d9f10-2b3c-4d5e-8f90-a1b2c3d4e5f6";
const GRAPHICS: &str =
    r"registry-part:HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#DirectXUserGlobalSettings";
const LAYERS: &str = r"registry-part:HKCU\SOFTWARE\Microsoft\Windows NT\CurrentVersion\AppCompatFlags\Layers#C:\Games\Gorsehollow\riders.exe";
const STICKY: &str = r"registry-part:HKCU\Control Panel\Accessibility\StickyKeys#Flags";
const FILE_CACHE: &str = r"registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management#LargeSystemCache";

const OPTIONS: &str = "text:documents/Gorsehollow Riders/options.ini";
const ENGINE: &str = "text:local-app-data/Gorsehollow Riders/engine.json";
const BOOT: &str = "text:roaming-app-data/Gorsehollow Riders/boot.cfg";

fn at(text: &str) -> Address {
    text.parse().unwrap()
}

fn dword(number: u32) -> State {
    Value::Registry(RegistryData::dword(number)).into()
}

fn run(state: RunState) -> State {
    Value::Run(state).into()
}

fn start(word: &str) -> State {
    Value::Start(ServiceStart::from_word(word).unwrap()).into()
}

fn copy(of: &str) -> State {
    Value::PlanExists { copy_of: Some(of.parse().unwrap()), name: "Play".into() }.into()
}

fn flag(on: bool) -> State {
    Value::Flag(on).into()
}

fn text(text: &str) -> State {
    Value::Text(text.into()).into()
}

fn written(text: &str) -> State {
    Value::Written(text.into()).into()
}

fn new_pc(folder: &Path) -> RehearsalPc {
    create(&folder.join("pc"), Template::named("desktop").unwrap(), "Test", 1).unwrap()
}

/// Every file of the PC that says what it is, as opposed to what has happened to it.
fn files(pc: &RehearsalPc) -> BTreeMap<String, Vec<u8>> {
    let mut files = BTreeMap::new();
    let mut left = ["settings", "files", "quarantine"].map(|name| pc.folder().join(name)).to_vec();
    while let Some(path) = left.pop() {
        if path.is_dir() {
            left.extend(fs_err::read_dir(path).unwrap().map(|entry| entry.unwrap().path()));
        } else if path.exists() {
            files.insert(path.display().to_string(), fs_err::read(path).unwrap());
        }
    }
    if let Ok(bytes) = fs_err::read(pc.folder().join("in-effect.json")) {
        files.insert("in-effect".into(), bytes);
    }
    files
}

fn listed(text: &str) -> State {
    Value::Listed(Listed::new(text)).into()
}

/// The settings that the PC does not behave by yet.
fn waiting(pc: &RehearsalPc) -> Vec<Address> {
    pc.waiting().into_iter().map(|(address, _)| address).collect()
}

#[test]
fn it_keeps_the_contract() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let _lock = pc.lock().unwrap();
    let before = files(&pc);
    let sample = |address: &str, other: State| Sample { address: at(address), other };
    let minimum = "54533251-82be-4824-96c1-47b60b740d00/893dee8e-2bef-41e0-89c6-b55d0929964c";
    let odd = RegistryData { type_number: 77_777, bytes: vec![1, 2, 3] };
    let samples = Samples {
        writable: vec![
            sample(FILE_CACHE, dword(1)),
            sample(r"registry:HKCU\Control Panel\Mouse#New", Value::Registry(odd).into()),
            sample(r"registry:HKCU\Control Panel\Mouse#MouseSpeed", State::Absent),
            sample(r"registry:HKCU\SOFTWARE\Fresh", Value::Key.into()),
            sample("service:SysMain#start", start("disabled")),
            sample("service:SysMain#running", run(RunState::Stopped)),
            sample("power:active-plan", Value::Plan(HIGH.parse().unwrap()).into()),
            sample(&format!("power:{HIGH}/{minimum}#battery"), Value::PowerIndex(60).into()),
            sample(&format!("power:{PLAY}#exists"), copy("381b4222-f694-41f0-9685-ff5bb260df2e")),
            sample(&format!("power:{minimum}#hidden"), flag(true)),
            sample(&format!("{GRAPHICS}#pair:VRROptimizeEnable"), listed("1")),
            sample(&format!("{GRAPHICS}#pair:AutoHDREnable"), State::Absent),
            sample(&format!("{GRAPHICS}#pair:SwapEffectUpgradeEnable"), listed("1")),
            sample(r"registry-part:HKCU\Control Panel\Mouse#Fresh#text", Value::Key.into()),
            sample(&format!("{LAYERS}#word:RUNASADMIN"), State::Absent),
            sample(&format!("{LAYERS}#word:HIGHDPIAWARE"), listed("HIGHDPIAWARE")),
            sample(&format!("{STICKY}#bits:0x4"), Value::Number(0).into()),
            sample("visual:menu-delay", Value::Milliseconds(0).into()),
            sample("visual:drop-shadow", Value::Flag(false).into()),
            sample("visual:pointer-speed", Value::Number(3).into()),
            sample("visual:pointer-acceleration", Value::Text("0 0 0".into()).into()),
            sample(r"task:\Microsoft\Windows\Maps\MapsUpdateTask#enabled", flag(true)),
            sample("display:Lumet 27Q#mode", Value::Mode("2560x1440@165".parse().unwrap()).into()),
            sample("display:Lumet 27Q#scaling-percent", Value::Number(125).into()),
            sample("adapter:Ethernet#name-servers", Value::Texts(vec!["192.0.2.1".into()]).into()),
            sample("adapter:ethernet#power-saving", flag(false)),
            sample("adapter:Ethernet#option-*InterruptModeration", text("0")),
            sample(r"device:ROOT\SYSTEM\0001#enabled", flag(false)),
            sample(r"device:ROOT\SYSTEM\0001#message-signalled-interrupts", flag(true)),
            sample(r"device:ROOT\SYSTEM\0001#interrupt-priority", Value::Number(3).into()),
            sample("startup:user-registry/Gorsehollow Launcher#enabled", flag(false)),
            sample("app:Microsoft.BingNews_8wekyb3d8bbwe#installed", flag(false)),
            sample("feature:VirtualMachinePlatform#enabled", flag(false)),
            sample("boot:current#element-disabledynamictick", text("yes")),
            sample("boot:bootmgr#element-timeout", State::Absent),
            sample("pagefile:C:#size", Value::PageFile(PageFileSize::None).into()),
            sample("driver:global#setting-low-latency", text("ultra")),
            sample("driver:riders.exe#setting-frame-cap-fps", State::Absent),
            sample("protection:sample-submission#enabled", flag(false)),
            sample(&format!("{OPTIONS}#ini:[Video]VSync"), written("0")),
            sample(&format!("{OPTIONS}#ini:[Video]Reflections"), written("0")),
            sample(&format!("{OPTIONS}#ini:[Input]"), Value::Key.into()),
            sample(&format!("{ENGINE}#json:/graphics/renderScale"), written("0.75")),
            sample(&format!("{ENGINE}#json:/graphics/fog"), written("false")),
            sample(&format!("{BOOT}#keys:worker_threads"), written("6")),
            sample("clean:user-temp#quarantine", Value::Quarantined { untouched_days: 7 }.into()),
        ],
        refused: vec![
            sample(r"registry:HKLM\SAM\Domains#x", dword(1)),
            sample(r"registry:HKLM\SOFTWARE\Microsoft\Windows Defender\Features#T", dword(0)),
            sample(r"registry:HKCU\Nowhere\Deep#x", dword(1)),
            sample(r"registry:HKCU\Nowhere\Deep", Value::Key.into()),
            sample(r"registry-part:HKCU\Nowhere#x#text", Value::Key.into()),
            sample(r"registry-part:HKCU\Control Panel\Mouse#Fresh#pair:A", listed("1")),
            sample(&format!("{STICKY}#bits:0x4"), Value::Number(2).into()),
            sample(&format!("{STICKY}#bits:0x4"), State::Absent),
            sample(r"registry:HKCU\Control Panel\Mouse#MouseSpeed", Value::Key.into()),
            sample("service:NoSuch#start", start("manual")),
            sample("service:SysMain#start", State::Absent),
            sample("service:SysMain#running", run(RunState::Paused)),
            sample("service:RemoteRegistry#running", run(RunState::Running)),
            sample("power:active-plan", Value::Plan(uuid::Uuid::nil()).into()),
            sample("visual:menu-delay", Value::Flag(true).into()),
            sample(&format!("power:{HIGH}#exists"), State::Absent),
            sample(&format!("power:{PLAY}#exists"), copy(PLAY)),
            sample(&format!("power:{HIGH}/{HIGH}#hidden"), flag(true)),
            sample("task:NoSuch#enabled", flag(true)),
            sample("display:Lumet 22S#mode", Value::Mode("2560x1440@165".parse().unwrap()).into()),
            sample("display:Lumet 27Q#mode", State::Absent),
            sample("adapter:Ethernet#option-*NoSuch", text("1")),
            sample("driver:global#setting-low-latency", text("warp")),
            sample("pagefile:C:#size", flag(true)),
            sample(OPTIONS, written("")),
            sample(&format!("{OPTIONS}#ini:[Input]Raw"), written("1")),
            sample(&format!("{OPTIONS}#ini:[Video]VSync"), written("0\nEvil=1")),
            sample(&format!("{ENGINE}#json:/graphics/renderScale"), written("large")),
            sample("text:documents/Nowhere/options.ini#ini:x", written("1")),
            sample("clean:user-temp#files", State::Absent),
            sample("clean:user-temp#quarantine", flag(true)),
        ],
        full_keys: vec![
            at(r"registry:HKCU\Control Panel"),
            at(r"registry:HKCU\Control Panel\Mouse"),
            at(&format!("{OPTIONS}#ini:[Video]")),
        ],
    };
    let mut kinds: Vec<_> = samples.writable.iter().map(|sample| sample.address.kind()).collect();
    kinds.dedup();
    assert_eq!(kinds.len(), 7 + ObjectKind::ALL.len(), "every kind is exercised");
    let violations = conformance::check(&mut pc, &samples).unwrap();
    assert!(violations.is_empty(), "{violations:#?}");
    assert_eq!(files(&pc), before, "the files are the same bytes again");
}

#[test]
fn what_is_written_is_there_for_the_next_process() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let mut other = RehearsalPc::open(pc.folder()).unwrap();
    {
        let _lock = pc.lock().unwrap();
        assert!(matches!(other.lock(), Err(LockError::Held(Some(_)))));
        pc.write(&at(FILE_CACHE), &dword(1)).unwrap();
    }
    let _lock = other.lock().unwrap();
    assert_eq!(other.read(&at(FILE_CACHE)).unwrap(), dword(1), "a lock shows the latest state");
}

#[test]
fn some_writes_wait_for_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let lock = pc.lock().unwrap();
    let before = files(&pc);
    pc.write(&at(FILE_CACHE), &dword(1)).unwrap();
    pc.write(&at("visual:menu-delay"), &Value::Milliseconds(1).into()).unwrap();
    assert_eq!(waiting(&pc), [at(FILE_CACHE)]);
    pc.write(&at(FILE_CACHE), &dword(0)).unwrap();
    pc.write(&at("visual:menu-delay"), &Value::Milliseconds(400).into()).unwrap();
    assert_eq!(waiting(&pc), [], "put back before it took effect");
    assert_eq!(files(&pc), before);

    pc.write(&at(FILE_CACHE), &dword(1)).unwrap();
    let boot = pc.boot().unwrap();
    pc.restart(&lock).unwrap();
    assert_ne!(pc.boot().unwrap(), boot);
    assert_eq!(waiting(&pc), []);
    pc.write(&at(FILE_CACHE), &dword(0)).unwrap();
    assert_eq!(waiting(&pc), [at(FILE_CACHE)], "the way back waits too");
}

#[test]
fn each_moment_starts_anew_what_it_starts_and_nothing_else() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let lock = pc.lock().unwrap();
    let setting = at("service:Spooler#start");
    let starts = |pc: &RehearsalPc| -> Vec<(TakesEffect, Start)> {
        let start = |moment| (moment, pc.start_of(moment, &setting).unwrap());
        TakesEffect::iter().map(start).collect()
    };
    for (moment, anew) in [
        (TakesEffect::Now, vec![]),
        (TakesEffect::ProgramRestart, vec![TakesEffect::ProgramRestart]),
        (TakesEffect::ServiceRestart, vec![TakesEffect::ServiceRestart]),
        (TakesEffect::DeviceRestart, vec![TakesEffect::DeviceRestart]),
        (TakesEffect::SignOut, vec![TakesEffect::ProgramRestart, TakesEffect::SignOut]),
    ] {
        let (before, boot) = (starts(&pc), pc.boot().unwrap());
        pc.bring_about(&lock, moment).unwrap();
        let changed = starts(&pc).into_iter().filter(|start| !before.contains(start));
        assert_eq!(changed.map(|(moment, _)| moment).collect::<Vec<_>>(), anew, "{moment}");
        assert_eq!(pc.boot().unwrap(), boot);
    }
    let boot = pc.boot().unwrap();
    pc.write(&at(FILE_CACHE), &dword(1)).unwrap();
    let done = pc.bring_about(&lock, TakesEffect::Restart).unwrap();
    assert_eq!(done, BroughtAbout::Done { took_effect: vec![at(FILE_CACHE)] });
    assert_ne!(pc.boot().unwrap(), boot);
}

#[test]
fn a_file_of_things_that_are_none_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let pc = new_pc(folder.path());
    let file = pc.folder().join("settings/display.json");
    for (content, why) in [
        (r#"{"X": {"values": {"mode": {"flag": true}}}}"#, "`X`: `mode` cannot hold on"),
        (r#"{"X": {"values": {"speed": {"flag": true}}}}"#, "`X` has no part `speed`"),
        (r#"{"X": {"values": {"mode": {"mode": "big"}}}}"#, "not a display mode"),
    ] {
        fs_err::write(&file, content).unwrap();
        let error = RehearsalPc::open(pc.folder()).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
    }
}

#[test]
fn a_copied_plan_goes_only_when_nothing_of_others_lives_in_it() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let _lock = pc.lock().unwrap();
    let before = files(&pc);
    let plan = at(&format!("power:{PLAY}#exists"));
    let subgroup = "54533251-82be-4824-96c1-47b60b740d00";
    let floor = at(&format!("power:{PLAY}/{subgroup}/893dee8e-2bef-41e0-89c6-b55d0929964c#mains"));
    pc.write(&plan, &copy(HIGH)).unwrap();
    assert_eq!(pc.read(&floor).unwrap(), Value::PowerIndex(100).into(), "as in the original");
    pc.write(&floor, &Value::PowerIndex(40).into()).unwrap();
    assert_eq!(pc.write(&plan, &State::Absent).unwrap(), Written::LeftInPlace);
    pc.write(&floor, &Value::PowerIndex(100).into()).unwrap();
    let active = at("power:active-plan");
    pc.write(&active, &Value::Plan(PLAY.parse().unwrap()).into()).unwrap();
    assert!(pc.write(&plan, &State::Absent).is_err(), "it is in force");
    let balanced = "381b4222-f694-41f0-9685-ff5bb260df2e".parse().unwrap();
    pc.write(&active, &Value::Plan(balanced).into()).unwrap();
    assert_eq!(pc.write(&plan, &State::Absent).unwrap(), Written::Done);
    assert_eq!(files(&pc), before);
}

#[test]
fn devices_boot_entries_features_and_page_files_wait_for_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let lock = pc.lock().unwrap();
    let cases = [
        ("feature:VirtualMachinePlatform#enabled", flag(false)),
        ("boot:current#element-disabledynamictick", text("yes")),
        ("pagefile:C:#size", Value::PageFile(PageFileSize::None).into()),
    ];
    for (address, state) in &cases {
        pc.write(&at(address), state).unwrap();
    }
    pc.write(&at("display:Lumet 27Q#scaling-percent"), &Value::Number(150).into()).unwrap();
    assert_eq!(waiting(&pc).len(), cases.len() + 1);
    pc.restart(&lock).unwrap();
    assert!(waiting(&pc).is_empty());
    assert_eq!(pc.read(&at(cases[1].0)).unwrap(), cases[1].1);
}

#[test]
fn services_stop_and_start_with_what_they_need() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let lock = pc.lock().unwrap();
    let first = fingerprint(&pc).unwrap();
    let spooler = at("service:Spooler#running");
    let notify = at("service:PrintNotify#running");
    assert_eq!(pc.dependents(&"spooler".into()).unwrap(), ["Fax".into(), "PrintNotify".into()]);
    pc.write(&spooler, &run(RunState::Stopped)).unwrap();
    assert_eq!(pc.read(&notify).unwrap(), run(RunState::Stopped));
    pc.write(&notify, &run(RunState::Running)).unwrap();
    assert_eq!(pc.read(&spooler).unwrap(), run(RunState::Running));
    assert_eq!(fingerprint(&pc).unwrap(), first);

    pc.restart(&lock).unwrap();
    assert_eq!(fingerprint(&pc).unwrap(), first, "a restart alone changes no setting");
    pc.write(&at("service:Spooler#start"), &start("disabled")).unwrap();
    pc.restart(&lock).unwrap();
    assert_eq!(pc.read(&spooler).unwrap(), run(RunState::Stopped));
    assert_eq!(pc.read(&notify).unwrap(), run(RunState::Stopped), "asked for, but cannot run");
    let refused = pc.write(&notify, &run(RunState::Running)).unwrap_err();
    assert_eq!(refused.to_string(), "refused: Spooler is disabled and cannot start");
}

#[test]
fn provoked_faults_happen() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let _lock = pc.lock().unwrap();
    let refuse = at("visual:menu-delay");
    let ignore = at("visual:drop-shadow");
    let faults = Faults {
        refuse: [refuse.clone()].into(),
        ignore: [ignore.clone()].into(),
        ..Faults::default()
    };
    pc.set_faults(&faults).unwrap();
    let first = fingerprint(&pc).unwrap();
    let refused = pc.write(&refuse, &Value::Milliseconds(5).into());
    assert!(matches!(refused, Err(WriteError::Refused(_))));
    let ignored = pc.write(&ignore, &Value::Flag(false).into()).unwrap();
    assert_eq!(ignored, Written::Done);
    assert_eq!(fingerprint(&pc).unwrap(), first);
    pc.set_faults(&Faults::default()).unwrap();
    pc.write(&ignore, &Value::Flag(false).into()).unwrap();
    assert_ne!(fingerprint(&pc).unwrap(), first);
}

#[test]
fn the_event_log_tells_what_happened() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let lock = pc.lock().unwrap();
    pc.write(&at(FILE_CACHE), &dword(1)).unwrap();
    pc.write(&at(FILE_CACHE), &dword(1)).unwrap();
    pc.restart(&lock).unwrap();
    pc.record(&lock, "canyon-run", 1.0).unwrap();
    let (address, before, after) = (Box::new(at(FILE_CACHE)), dword(0), dword(1));
    assert_eq!(
        pc.events().unwrap(),
        [
            Event::Written { boot: 1, address, before, after },
            Event::Started { boot: 2 },
            Event::Played { boot: 2, scene: "canyon-run".into() },
        ]
    );
}

/// The mean over several runs after warm-up of average FPS, 1% low and stutters a minute.
fn measured(pc: &mut RehearsalPc) -> (f64, f64, f64) {
    let lock = pc.lock().unwrap();
    pc.restart(&lock).unwrap();
    pc.record(&lock, "canyon-run", 60.0).unwrap();
    let runs: Vec<_> =
        (0..6).map(|_| metrics(&pc.record(&lock, "canyon-run", 60.0).unwrap().series)).collect();
    let mean = |of: fn(&frevin_frames::Metrics) -> f64| {
        runs.iter().map(of).sum::<f64>() / runs.len() as f64
    };
    (
        mean(|run| run.average_fps),
        mean(|run| run.low_1_percent_fps),
        mean(|run| run.stutter.events_per_minute),
    )
}

#[test]
fn the_model_shows_in_the_frames_and_only_once_in_effect() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = new_pc(folder.path());
    let (average, low, stutters) = measured(&mut pc);
    assert!((80.0..92.0).contains(&average), "{average}");
    assert!(low < 0.85 * average, "{low}");
    let lock = pc.lock().unwrap();
    pc.write(&at(FILE_CACHE), &dword(1)).unwrap();
    let waiting = metrics(&pc.record(&lock, "canyon-run", 60.0).unwrap().series);
    assert!((waiting.average_fps / average - 1.0).abs() < 0.05, "not before the restart");
    drop(lock);
    let (hurt_average, hurt_low, hurt_stutters) = measured(&mut pc);
    assert!((hurt_average * 1.16 / average - 1.0).abs() < 0.03, "{hurt_average} of {average}");
    assert!(hurt_low < low);
    assert!(hurt_stutters > 1.5 * stutters, "{hurt_stutters} of {stutters}");
}

#[test]
fn the_first_run_after_a_restart_is_a_warm_up_and_seeds_decide_chance() {
    let folder = tempfile::tempdir().unwrap();
    let template = Template::named("desktop").unwrap();
    let runs = |name: &str, seed: u64| {
        let mut pc = create(&folder.path().join(name), template, name, seed).unwrap();
        let lock = pc.lock().unwrap();
        let first = pc.record(&lock, "canyon-run", 20.0).unwrap();
        assert_eq!(first.run_since_boot, 1);
        (first.series, pc.record(&lock, "canyon-run", 20.0).unwrap().series)
    };
    let (warm_up, second) = runs("a", 1);
    assert!(metrics(&warm_up).average_fps < 0.98 * metrics(&second).average_fps);
    assert_eq!(runs("b", 1), (warm_up.clone(), second));
    assert_ne!(runs("c", 2).0, warm_up);
}

#[test]
fn what_is_no_pc_says_so() {
    let folder = tempfile::tempdir().unwrap();
    let error = RehearsalPc::open(folder.path()).unwrap_err();
    assert!(matches!(error, PcError::NotAPc { missing: "pc.toml", .. }), "{error}");
    let pc = new_pc(folder.path());
    let again = create(pc.folder(), Template::named("desktop").unwrap(), "x", 1);
    assert!(again.is_err(), "a folder in use is left alone");
    fs_err::write(pc.folder().join("settings/power.json"), "{").unwrap();
    let error = RehearsalPc::open(pc.folder()).unwrap_err();
    assert!(matches!(&error, PcError::Broken { file, .. } if file.ends_with("power.json")));
    fs_err::remove_file(pc.folder().join("model.toml")).unwrap();
    let error = RehearsalPc::open(pc.folder()).unwrap_err();
    assert!(matches!(error, PcError::NotAPc { missing: "model.toml", .. }), "{error}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn any_row_of_writes_put_back_in_reverse_leaves_the_same_bytes(
        writes in prop::collection::vec((0..8usize, 0..3u32), 1..12)
    ) {
        let folder = tempfile::tempdir().unwrap();
        let mut pc = new_pc(folder.path());
        let _lock = pc.lock().unwrap();
        let before = files(&pc);
        let targets = [
            (r"registry:HKCU\New", [State::Absent, Value::Key.into(), Value::Key.into()]),
            (r"registry:HKCU\New\Deep", [State::Absent, Value::Key.into(), Value::Key.into()]),
            (r"registry:HKCU\New\Deep#v", [State::Absent, dword(1), dword(2)]),
            (FILE_CACHE, [State::Absent, dword(1), dword(2)]),
            ("service:Spooler#start", ["manual", "disabled", "automatic"].map(start)),
            ("visual:menu-delay", [1, 2, 3].map(|ms| Value::Milliseconds(ms).into())),
            ("visual:drop-shadow", [true, false, true].map(|on| Value::Flag(on).into())),
            ("power:active-plan", [HIGH, "381b4222-f694-41f0-9685-ff5bb260df2e", HIGH]
                .map(|plan| Value::Plan(plan.parse().unwrap()).into())),
        ];
        let mut journal = Vec::new();
        for (target, choice) in writes {
            let (address, states) = &targets[target];
            let address = at(address);
            let held = pc.read(&address).unwrap();
            if pc.write(&address, &states[choice as usize]).is_ok() {
                journal.push((address, held));
            }
        }
        for (address, held) in journal.iter().rev() {
            pc.write(address, held).unwrap();
        }
        prop_assert_eq!(files(&pc), before);
    }
}

/// What a definition says of when it is felt and what a rehearsal PC does are one: otherwise a profile
/// is previewed as acting at once and measured while nothing of it does.
#[test]
fn definitions_and_rehearsal_pcs_agree_on_when_a_write_is_felt() {
    let folder = tempfile::tempdir().unwrap();
    let mut disagree = std::collections::BTreeSet::new();
    for (index, template) in Template::all().into_iter().enumerate() {
        let pc = create(&folder.path().join(index.to_string()), template, "A PC", 1).unwrap();
        for tweak in Catalogue::built_in().unwrap().iter() {
            for wanted in tweak.sample_settings().unwrap() {
                let felt = pc.takes_effect(&wanted.address);
                if felt != wanted.takes_effect {
                    let (said, address) = (wanted.takes_effect, &wanted.address);
                    disagree.insert(format!("{}: {address}: says {said}, is {felt}", tweak.id));
                }
            }
        }
    }
    assert!(disagree.is_empty(), "{disagree:#?}");
}

/// A PC whose model has one scene as `scene` says, and one effect of the menu's delay.
fn with_play(folder: &Path, scene: &str, effect: &str) -> RehearsalPc {
    let pc = create(folder, Template::named("desktop").unwrap(), "Play", 5).unwrap();
    drop(pc);
    let path = folder.join("model.toml");
    let model = fs_err::read_to_string(&path).unwrap();
    let (_, noise) = model.split_once("[noise]").unwrap();
    let (noise, _) = noise.split_once("[[effects]]").unwrap();
    let own = format!(
        "[[scenes]]\nname = \"own\"\ngame = \"g\"\ngraphics = \"g\"\nresolution = \"r\"\nroute = \"r\"\nframe_ms = 10.0\n\
         {scene}\n[noise]{noise}[[effects]]\nname = \"menu\"\nreads = {{ delay = \"visual:menu-delay\" }}\n\
         when = \"delay == 50\"\n{effect}\n"
    );
    fs_err::write(path, own).unwrap();
    RehearsalPc::open(folder).unwrap()
}

const QUIET: &str =
    "content = { deviation = 0.001, memory_s = 20, menu_s = 0, between_menus_s = 90 }";

/// The mean of frames that began between two moments, in seconds.
fn mean_ms(frames: &[(f64, f64)], from_s: f64, to_s: f64) -> f64 {
    let within = frames.iter().filter(|(begin, _)| (from_s * 1e3..to_s * 1e3).contains(begin));
    let lengths: Vec<f64> = within.map(|(_, length)| *length).collect();
    lengths.iter().sum::<f64>() / lengths.len() as f64
}

#[test]
fn play_goes_on_while_settings_are_switched_and_follows_them() {
    let folder = tempfile::tempdir().unwrap();
    let mut pc = with_play(&folder.path().join("pc"), QUIET, "frame_time = 0.8");
    let lock = pc.lock().unwrap();
    let mut play = pc.begin_play(&lock, "own").unwrap();
    let mut frames = pc.play_on(&mut play, 20_000.0).unwrap();
    pc.write(&at("visual:menu-delay"), &Value::Milliseconds(50).into()).unwrap();
    frames.extend(pc.play_on(&mut play, 40_000.0).unwrap());
    // Without a break: each begins where the last one ended.
    let gaps = frames.windows(2).map(|two| two[1].0 - (two[0].0 + two[0].1));
    assert!(gaps.into_iter().all(|gap| gap.abs() < 1e-6));
    let ratio = mean_ms(&frames, 20.0, 40.0) / mean_ms(&frames, 0.0, 20.0);
    assert!((ratio - 0.8).abs() < 0.02, "{ratio}");
    let played = pc.clock().unwrap().played_seconds;
    pc.end_play(&lock, &play).unwrap();
    assert!((pc.clock().unwrap().played_seconds - played - 40.0).abs() < 0.1, "time has passed");
    assert!(pc.begin_play(&lock, "nowhere").is_err());
}

#[test]
fn an_effect_may_build_up_over_seconds_and_a_benchmark_repeats() {
    let folder = tempfile::tempdir().unwrap();
    let mut slow =
        with_play(&folder.path().join("slow"), QUIET, "frame_time = 0.5\nbuilds_up_s = 5.0");
    let lock = slow.lock().unwrap();
    let mut play = slow.begin_play(&lock, "own").unwrap();
    let mut frames = slow.play_on(&mut play, 10_000.0).unwrap();
    slow.write(&at("visual:menu-delay"), &Value::Milliseconds(50).into()).unwrap();
    frames.extend(slow.play_on(&mut play, 60_000.0).unwrap());
    let whole = mean_ms(&frames, 0.0, 10.0);
    let (soon, late) = (mean_ms(&frames, 10.0, 11.0) / whole, mean_ms(&frames, 40.0, 60.0) / whole);
    assert!(soon > 0.88 && (late - 0.5).abs() < 0.03, "{soon} {late}");

    let content = "loop_s = 20.0\ncontent = { deviation = 0.3, memory_s = 3, menu_s = 0, between_menus_s = 90 }";
    let mut looped = with_play(&folder.path().join("loop"), content, "frame_time = 0.9");
    let lock = looped.lock().unwrap();
    let mut play = looped.begin_play(&lock, "own").unwrap();
    let frames = looped.play_on(&mut play, 60_000.0).unwrap();
    for second in 0..20_u32 {
        let at = f64::from(second);
        let first = mean_ms(&frames, at, at + 1.0);
        let again = mean_ms(&frames, at + 20.0, at + 21.0);
        assert!((first / again - 1.0).abs() < 0.15, "{second}: {first} {again}");
    }
}
