//! The program as it is built for Windows, on a live PC: under Wine, where there is no Windows.
//!
//! `ci/windows` builds what is needed and runs these; without it they are passed over. Each test has
//! a PC of its own, a clone of a fresh one, and compares all of its registry and its tasks before
//! and after, byte for byte.
#![cfg(unix)]
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use serde_json::Value;
use tempfile::TempDir;

/// Registry, in both halves, with a key to be made and a value of an unknown type; a service's start
/// and its running; looks; a display.
const EVERYTHING: &str = r#"id = "test/everything"
title = "Something of every kind"
what = "Writes a setting of every kind that is real here."
why = "To see it come back."
may_break = "Nothing but this PC."
standing = "no-effect"
standing_reason = "It is a test."
risk = "safe"
takes_effect = "restart"

[[settings]]
address = 'registry:HKCU\Software\Frevin test#odd'
type = "dword"
value = 7

[[settings]]
address = 'registry:HKLM\SOFTWARE\Frevin test\Made\Deep#new'
type = "string"
value = "new"

[[settings]]
address = 'registry:HKLM\SOFTWARE\WOW6432Node\Frevin test#new'
type = "dword"
value = 1

[[settings]]
address = "service:FrevinPlain#start"
value = "disabled"

[[settings]]
address = "service:FrevinPlain#running"
value = "stopped"

[[settings]]
address = "visual:menu-delay"
value = 50

[[settings]]
address = "visual:client-area-animation"
value = false

[[settings]]
address = "visual:drag-full-windows"
value = true

[[settings]]
address = "display:Display1#mode"
value = "800x600@60"

[[sources]]
title = "Windows documentation"
states = "Where these settings are."
"#;

/// What [`EVERYTHING`] brings about, and what was there before.
const READINGS: [(&str, &str, &str); 6] = [
    (r"HKCU\Software\Frevin test /v odd", "0x7", "(null)"),
    (r"HKLM\SOFTWARE\Frevin test\Made\Deep /v new", "new", "Unable to find"),
    (r"HKLM\SOFTWARE\WOW6432Node\Frevin test /v new", "0x1", "Unable to find"),
    (r"HKLM\SYSTEM\CurrentControlSet\Services\FrevinPlain /v Start", "0x4", "0x2"),
    (r"HKCU\Control Panel\Desktop /v MenuShowDelay", "50", "400"),
    (r"HKCU\Control Panel\Desktop /v DragFullWindows", "1", "0"),
];

const TASK: &str = r#"<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers/><Settings><Hidden>false</Hidden></Settings><Actions Context="Author"><Exec><Command>C:\none.exe</Command></Exec></Actions></Task>
"#;

/// A value of a type that nobody knows, of an odd length, and one without a byte.
const ODD: &str = "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_CURRENT_USER\\Software\\Frevin test]\r\n\
                   \"odd\"=hex(4d):01,02,03\r\n\"empty\"=hex(0):\r\n";

/// A PC under Wine.
struct Wine {
    folder: TempDir,
    /// What keeps the PC on.
    stays: RefCell<Option<Child>>,
}

/// What a command answered.
struct Said {
    code: i32,
    out: String,
    err: String,
}

impl Said {
    fn ok(self) -> Self {
        assert_eq!(self.code, 0, "{}{}", self.out, self.err);
        self
    }

    fn fails(self, code: i32) -> Self {
        assert_eq!(self.code, code, "{}{}", self.out, self.err);
        self
    }

    fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {}", self.out))
    }
}

fn named_by(variable: &str) -> PathBuf {
    std::env::var_os(variable).unwrap_or_else(|| panic!("ci/windows sets {variable}")).into()
}

/// Copies a folder with all that is in it, its files as links: nothing writes into them.
fn link_all(from: &Path, to: &Path) {
    fs_err::create_dir_all(to).unwrap();
    for entry in fs_err::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let (from, to) = (entry.path(), to.join(entry.file_name()));
        let kind = entry.file_type().unwrap();
        if kind.is_symlink() {
            std::os::unix::fs::symlink(fs_err::read_link(from).unwrap(), to).unwrap();
        } else if kind.is_dir() {
            link_all(&from, &to);
        } else if entry.file_name().to_string_lossy().ends_with(".reg")
            || entry.file_name() == ".update-timestamp"
            || from
                .components()
                .any(|part| part.as_os_str() == "frevin" || part.as_os_str() == "tasks")
        {
            // What is written where it is would be written into the other's too.
            fs_err::copy(from, to).unwrap();
        } else {
            fs_err::hard_link(from, to).unwrap();
        }
    }
}

impl Wine {
    /// A fresh PC, with the test's services and task: a clone of one that is made once.
    fn new() -> Self {
        static FRESH: OnceLock<PathBuf> = OnceLock::new();
        let fresh = FRESH.get_or_init(|| {
            let pc = Self::clone_of(&named_by("FREVIN_WINE_BASE"));
            pc.furnish();
            // Kept for the other tests; `ci/windows` takes the folder away that it is in.
            pc.shut_down();
            let prefix = pc.prefix();
            std::mem::forget(pc);
            prefix
        });
        let pc = Self::clone_of(fresh);
        pc.restart();
        pc
    }

    fn clone_of(base: &Path) -> Self {
        let beside = named_by("FREVIN_WINE_BASE");
        let folder = tempfile::tempdir_in(beside.parent().unwrap()).unwrap();
        let pc = Self { folder, stays: RefCell::new(None) };
        link_all(base, &pc.prefix());
        pc
    }

    fn furnish(&self) {
        fs_err::copy(named_by("FREVIN_WINE_FIXTURE"), self.drive().join("fixture.exe")).unwrap();
        self.write("task.xml", TASK);
        self.write("odd.reg", ODD);
        self.stock(&["regedit", "/S", r"C:\odd.reg"]);
        for (name, kind, start) in
            [("FrevinPlain", "plain", "auto"), ("FrevinStubborn", "stubborn", "demand")]
        {
            let program = format!(r"C:\fixture.exe serve {kind}");
            self.stock(&["sc", "create", name, "binPath=", &program, "start=", start]);
        }
        self.stock(&["schtasks", "/create", "/xml", r"C:\task.xml", "/tn", r"Frevin\Test"]);
        // The first use of looks and displays writes what Windows has as defaults.
        self.frevin(&["snapshot", "take"]).ok();
        self.restart();
        self.shut_down();
        self.restart();
        self.shut_down();
        fs_err::remove_dir_all(self.home()).unwrap();
        self.own_tweak("everything", EVERYTHING);
    }

    fn prefix(&self) -> PathBuf {
        self.folder.path().join("prefix")
    }

    fn drive(&self) -> PathBuf {
        self.prefix().join("drive_c")
    }

    fn home(&self) -> PathBuf {
        self.drive().join("frevin")
    }

    fn write(&self, name: &str, text: &str) {
        fs_err::write(self.drive().join(name), text).unwrap();
    }

    fn own_tweak(&self, name: &str, text: &str) {
        let folder = self.home().join("tweaks/test");
        fs_err::create_dir_all(&folder).unwrap();
        fs_err::write(folder.join(format!("{name}.toml")), text).unwrap();
    }

    fn wine(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        command
            .env_remove("DISPLAY")
            .env("WINEPREFIX", self.prefix())
            .env("WINEDEBUG", "-all")
            .env("WINEDLLOVERRIDES", "winedbg.exe=d")
            .env("FREVIN_HOME", r"C:\frevin")
            .env("NO_COLOR", "1")
            .stdin(Stdio::null())
            .current_dir(self.drive());
        command
    }

    fn run(mut command: Command) -> Said {
        // Not through pipes: a service that a command happens to start would keep them open.
        let files = [(); 2].map(|()| tempfile::NamedTempFile::new().unwrap());
        let [out, err] = files.each_ref().map(|file| file.reopen().unwrap());
        let status = command.stdout(out).stderr(err).status().unwrap();
        let [out, err] = files.map(|file| {
            String::from_utf8_lossy(&fs_err::read(file.path()).unwrap()).replace("\r\n", "\n")
        });
        Said { code: status.code().unwrap_or(-1), out, err }
    }

    /// Runs one of Windows' own commands.
    fn stock(&self, arguments: &[&str]) -> Said {
        let mut command = self.wine("wine");
        command.args(arguments);
        Self::run(command)
    }

    fn frevin(&self, arguments: &[&str]) -> Said {
        let mut command = self.wine("wine");
        command.arg(named_by("FREVIN_WINE_EXE")).args(arguments);
        Self::run(command)
    }

    fn begin(&self, arguments: &[&str]) -> Child {
        let mut command = self.wine("wine");
        command.arg(named_by("FREVIN_WINE_EXE")).args(arguments);
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    /// Ends everything that runs, so that all of the registry is on disk.
    fn shut_down(&self) {
        for end in ["-k", "-w"] {
            let _ = self.wine("wineserver").arg(end).status();
        }
        if let Some(mut stays) = self.stays.take() {
            let _ = stays.wait();
        }
    }

    /// Starts the PC, or starts it again: what starts with it has started when this returns.
    fn restart(&self) {
        self.shut_down();
        let mut stays = self.wine("wine");
        stays.args([r"C:\fixture.exe", "stay"]).stdout(Stdio::null()).stderr(Stdio::null());
        *self.stays.borrow_mut() = Some(stays.spawn().unwrap());
        for _ in 0..100 {
            let starts = self.registry_says(READINGS[3].0, "0x2");
            let runs = self.stock(&["sc", "query", "FrevinPlain"]).out.contains("RUNNING");
            if runs || !starts {
                break;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    fn registry_says(&self, query: &str, wanted: &str) -> bool {
        self.registry(query).contains(wanted)
    }

    /// What the PC's own command says of a value.
    fn registry(&self, query: &str) -> String {
        let (key, value) = query.split_once(" /v ").unwrap();
        for _ in 0..5 {
            let said = self.stock(&["reg", "query", key, "/v", value]);
            let told = format!("{}{}", said.out, said.err);
            // On a busy machine Wine now and then ends a command before it has said anything.
            if !told.trim().is_empty() {
                return told;
            }
        }
        panic!("nothing is said of {query}");
    }

    /// All of the registry and the tasks as they lie on disk, but for when keys were changed. What
    /// Wine itself writes at every start is left out.
    fn everything(&self) -> BTreeMap<String, String> {
        self.shut_down();
        let mut found = BTreeMap::new();
        for file in ["system.reg", "user.reg", "userdef.reg"] {
            let text = fs_err::read_to_string(self.prefix().join(file)).unwrap();
            let mut key = String::new();
            for line in text.lines().filter(|line| !is_wines_own(line)) {
                if line.starts_with('[') {
                    key = format!("{file} {}", line.rsplit_once(']').unwrap().0);
                    if !is_wines_key(&key) {
                        found.insert(key.clone(), String::new());
                    }
                } else if !line.is_empty() && !is_wines_key(&key) {
                    let held: &mut String = found.entry(key.clone()).or_default();
                    held.push_str(line);
                    held.push('\n');
                }
            }
        }
        let task = self.drive().join("windows/system32/tasks/Frevin/Test");
        // Wine's scheduler writes a shorter definition over a longer one and leaves the last bytes.
        let task = fs_err::read_to_string(task).unwrap().trim_end().to_owned();
        found.insert("task".into(), task);
        found
    }
}

impl Drop for Wine {
    fn drop(&mut self) {
        self.shut_down();
    }
}

/// The key in which Wine keeps what it finds out about its own display.
const WINES_DISPLAY: &str = "{4D36E968-E325-11CE-BFC1-08002BE10318}";

/// The keys in which Wine keeps which fonts go with a code page: written anew by the first program whose manifest asks for
/// another code page than the one before.
const WINES_FONTS: [&str; 2] = [r"Software\\Wine\\Fonts", r"Current\\Software\\Fonts"];

/// What Wine writes anew whenever it starts: moments.
fn is_wines_own(line: &str) -> bool {
    line.starts_with("#time")
}

/// Whether a key is one that Wine keeps for itself.
fn is_wines_key(key: &str) -> bool {
    key.contains(WINES_DISPLAY) || WINES_FONTS.iter().any(|fonts| key.ends_with(fonts))
}

/// What differs between two readings of everything.
fn differences(first: &BTreeMap<String, String>, second: &BTreeMap<String, String>) -> Vec<String> {
    let keys: std::collections::BTreeSet<_> = first.keys().chain(second.keys()).collect();
    let differs = |key: &&&String| first.get(**key) != second.get(**key);
    keys.iter()
        .filter(differs)
        .map(|key| format!("{key}\n- {:?}\n+ {:?}", first.get(*key), second.get(*key)))
        .collect()
}

fn is_applied(pc: &Wine) -> bool {
    let told: Vec<String> = READINGS.iter().map(|(query, ..)| pc.registry(query)).collect();
    let held: Vec<bool> =
        READINGS.iter().zip(&told).map(|((_, applied, _), told)| told.contains(applied)).collect();
    assert!(held.iter().all(|is| *is == held[0]), "half of it is applied: {held:?}: {told:?}");
    held[0]
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn what_is_applied_survives_a_restart_and_comes_back_to_the_byte() {
    let pc = Wine::new();
    let first = pc.everything();
    pc.restart();
    let said = pc.frevin(&["preview", "--tweak", "test/everything", "--json"]).ok();
    assert!(said.json()["denied"].as_array().unwrap().is_empty(), "{}", said.out);
    let preview = differences(&first, &pc.everything());
    assert!(preview.is_empty(), "a preview changes nothing: {}", preview.join("\n"));
    pc.restart();

    let said = pc.frevin(&["apply", "--tweak", "test/everything", "--yes"]).ok();
    assert!(said.out.contains("13 settings written and read back"), "{}", said.out);
    assert!(said.out.contains("restart"), "{}", said.out);
    assert!(is_applied(&pc));
    let inspected = pc.frevin(&["inspect", "--json"]).ok().json();
    assert_eq!(inspected["pc"]["kind"], "live");
    assert_eq!(inspected["facts"]["displays"][0]["width_px"], 800);
    assert_eq!(inspected["waiting"].as_array().unwrap().len(), 9);

    pc.restart();
    assert!(is_applied(&pc), "it is there after a restart");
    let inspected = pc.frevin(&["inspect", "--json"]).ok().json();
    assert!(inspected["waiting"].as_array().unwrap().is_empty(), "it has happened");
    // A screen that is only thought of does not keep its mode: the one thing that is not as left.
    let drift = pc.frevin(&["drift", "--json"]).fails(1).json();
    let drifted = drift["drifted"].as_array().unwrap();
    assert_eq!(drifted.len(), 1, "{drift}");
    assert_eq!(drifted[0]["address"], "display:Display1#mode");
    pc.frevin(&["drift", "--force", "--yes"]).ok();
    pc.frevin(&["drift"]).ok();

    pc.frevin(&["rollback", "--all", "--yes"]).ok();
    for (query, _, before) in READINGS {
        let told = pc.registry(query);
        assert!(told.contains(before), "{query}: {told}");
    }
    pc.restart();
    assert!(pc.stock(&["sc", "query", "FrevinPlain"]).out.contains("RUNNING"));
    let differences = differences(&first, &pc.everything());
    assert!(differences.is_empty(), "{}", differences.join("\n"));
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn killed_at_any_moment_it_goes_back_with_one_command() {
    let kills: u32 =
        std::env::var("FREVIN_KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(10);
    let pc = Wine::new();
    let first = pc.everything();
    pc.restart();
    // Undo files are written right before the first write.
    let undo_files = || {
        let folders = fs_err::read_dir(pc.home().join("undo")).into_iter().flatten().flatten();
        folders.filter_map(|folder| fs_err::read_dir(folder.path()).ok()).flatten().count()
    };
    let (mut unfinished, mut applied) = (0, 0);
    for kill in 0..kills {
        pc.restart();
        let before = undo_files();
        let mut child = pc.begin(&["apply", "--tweak", "test/everything", "--yes"]);
        while undo_files() < before + 2 && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        std::thread::sleep(Duration::from_millis(u64::from(kill) * 7));
        child.kill().unwrap();
        child.wait().unwrap();
        let said = pc.frevin(&["recover", "--json"]).ok().json();
        unfinished += u32::from(said["recovered"] != Value::Null && said["recovered"] != "nothing");
        assert!(pc.frevin(&["recover"]).ok().out.contains("Nothing"), "twice changes nothing more");
        if is_applied(&pc) {
            applied += 1;
            pc.frevin(&["rollback", "--all", "--yes"]).ok();
        }
        assert!(!is_applied(&pc));
        let differences = differences(&first, &pc.everything());
        assert!(differences.is_empty(), "kill {kill}: {}", differences.join("\n"));
    }
    // Seen with --nocapture: how many of the kills came at a moment that mattered.
    let told = format!("{kills} kills: {unfinished} left it unfinished, {applied} after the end\n");
    std::io::Write::write_all(&mut std::io::stderr(), told.as_bytes()).unwrap();
    assert!(unfinished > 0, "{told}");
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn the_undo_file_puts_the_registry_back_without_frevin() {
    let pc = Wine::new();
    let first = pc.everything();
    pc.restart();
    let said = pc.frevin(&["apply", "--tweak", "test/everything", "--yes", "--json"]).ok().json();
    let undo = said["undo_files"]["registry"].as_str().unwrap().to_owned();
    pc.stock(&["regedit", "/S", &undo]);
    let left = differences(&first, &pc.everything());
    // What is not of the registry is for a person to put back, and stands in the other file.
    let is_of_the_registry = |key: &&String| key.contains("Frevin test");
    let of_the_registry: Vec<_> = left.iter().filter(is_of_the_registry).collect();
    assert!(of_the_registry.is_empty(), "{of_the_registry:#?}");
    assert!(left.iter().any(|key| key.contains("FrevinPlain")), "the service is not: {left:#?}");
}

/// A task, which Wine's scheduler says it has switched off and leaves as it was.
const KEPT_TASK: &str = r#"id = "test/task"
title = "A task"
what = "Switches a task off."
why = "To see it refused."
may_break = "Nothing but this PC."
standing = "no-effect"
standing_reason = "It is a test."
risk = "safe"
takes_effect = "now"

[[settings]]
address = "visual:menu-delay"
value = 50

[[settings]]
address = 'task:\Frevin\Test#enabled'
value = false

[[sources]]
title = "Windows documentation"
states = "Where these settings are."
"#;

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn a_task_that_stays_as_it_was_is_refused_and_all_else_undone() {
    let pc = Wine::new();
    pc.own_tweak("task", KEPT_TASK);
    let first = pc.everything();
    pc.restart();
    let said = pc.frevin(&["apply", "--tweak", "test/task", "--yes"]).fails(6);
    assert!(said.err.contains("left"), "{}", said.err);
    assert_eq!(differences(&first, &pc.everything()), Vec::<String>::new());
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn others_hands_are_seen_and_respected() {
    let pc = Wine::new();
    pc.frevin(&["apply", "--tweak", "test/everything", "--yes"]).ok();
    pc.stock(&[
        "reg",
        "add",
        r"HKCU\Software\Frevin test",
        "/v",
        "odd",
        "/t",
        "REG_SZ",
        "/d",
        "x",
        "/f",
    ]);
    pc.stock(&["reg", "add", r"HKLM\SOFTWARE\Frevin test\Made", "/v", "theirs", "/d", "x", "/f"]);
    let said = pc.frevin(&["drift"]).fails(1);
    assert!(said.out.contains("odd"), "{}", said.out);
    pc.frevin(&["rollback", "--all", "--yes"]).fails(9);
    pc.frevin(&["rollback", "--all", "--keep", "--yes"]).ok();
    assert!(pc.registry_says(r"HKCU\Software\Frevin test /v odd", "x"));
    assert!(pc.registry_says(r"HKLM\SOFTWARE\Frevin test\Made /v theirs", "x"), "it was theirs");
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn what_may_not_be_written_is_told_before_anything_is() {
    let pc = Wine::new();
    pc.stock(&["reg", "add", r"HKCU\Software\Frevin test\Closed", "/v", "held", "/d", "1"]);
    let closed = EVERYTHING
        .replace("test/everything", "test/closed")
        .replace(r"Software\Frevin test#odd", r"Software\Frevin test\Closed\Below#odd");
    pc.own_tweak("closed", &closed);
    pc.frevin(&["snapshot", "take"]).ok();
    pc.stock(&[r"C:\fixture.exe", "deny", r"Software\Frevin test\Closed"]);
    let said = pc.frevin(&["preview", "--tweak", "test/closed"]).ok();
    assert!(said.out.contains("Closed does not let this user write"), "{}", said.out);
    let said = pc.frevin(&["apply", "--tweak", "test/closed", "--yes"]).fails(5);
    assert!(said.err.contains("nothing was changed"), "{}", said.err);
    assert!(!pc.registry_says(READINGS[3].0, "0x4"));
    let changes = pc.frevin(&["rollback", "--list", "--json"]).ok().json();
    assert!(changes["changes"].as_array().unwrap().is_empty(), "{changes}");
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn a_service_that_will_not_stop_undoes_the_rest() {
    let pc = Wine::new();
    let stubborn = EVERYTHING
        .replace("test/everything", "test/stubborn")
        .replace("FrevinPlain#running", "FrevinStubborn#running");
    pc.own_tweak("stubborn", &stubborn);
    pc.stock(&["sc", "start", "FrevinStubborn"]);
    let said = pc.frevin(&["apply", "--tweak", "test/stubborn", "--yes"]).fails(7);
    assert!(said.err.contains("FrevinStubborn"), "{}", said.err);
    assert!(said.err.contains("is stopping"), "{}", said.err);
    assert!(!pc.registry_says(READINGS[3].0, "0x4"), "the others are back");
    pc.frevin(&["apply", "--tweak", "looks/menu-delay", "--yes"]).fails(7);
    // It ends with the PC, and starts with nobody: then there is nothing left to settle.
    pc.restart();
    pc.stock(&["sc", "start", "FrevinStubborn"]);
    pc.frevin(&["recover"]).ok();
    pc.frevin(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn a_home_that_others_could_have_planted_something_in_is_not_believed() {
    use std::os::unix::fs::PermissionsExt as _;

    let pc = Wine::new();
    pc.frevin(&["profile", "list"]).ok();
    let open_to_all = std::fs::Permissions::from_mode(0o777);
    for planted in [pc.home(), pc.home().join("config.toml")] {
        let before = planted.exists().then(|| fs_err::metadata(&planted).unwrap().permissions());
        if before.is_none() {
            fs_err::write(&planted, "pc = 'live'\n").unwrap();
        }
        fs_err::set_permissions(&planted, open_to_all.clone()).unwrap();
        let said = pc.frevin(&["profile", "list"]).fails(5);
        assert!(said.err.contains("others may change"), "{}", said.err);
        fs_err::set_permissions(&planted, before.unwrap_or(std::fs::Permissions::from_mode(0o600)))
            .unwrap();
        pc.frevin(&["profile", "list"]).ok();
    }
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn the_whole_story_is_told_on_windows_too() {
    let pc = Wine::new();
    let said = pc.frevin(&["demo"]).ok();
    assert!(said.out.contains("better"), "{}", said.out);
    // Files of games, which keep what Windows keeps of them beside their bytes.
    let documents = pc.drive().join("users").join(whoami()).join("Documents");
    // Wine makes it a link to the documents of whoever runs the tests: those are left alone.
    if fs_err::symlink_metadata(&documents).is_ok_and(|found| found.is_symlink()) {
        fs_err::remove_file(&documents).unwrap();
    }
    let documents = documents.join("Gorsehollow Riders");
    fs_err::create_dir_all(&documents).unwrap();
    let options = documents.join("options.ini");
    fs_err::write(&options, "[Video]\r\nVSync=1 ; tearing\r\n").unwrap();
    let value =
        ["file=documents/Gorsehollow Riders/options.ini", "section=Video", "key=VSync", "value=0"];
    let mut arguments = vec!["apply", "--tweak", "games/ini-value", "--yes"];
    value.iter().for_each(|value| arguments.extend(["--set", value]));
    pc.frevin(&arguments).ok();
    assert_eq!(fs_err::read_to_string(&options).unwrap(), "[Video]\r\nVSync=0 ; tearing\r\n");
    pc.frevin(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(fs_err::read_to_string(&options).unwrap(), "[Video]\r\nVSync=1 ; tearing\r\n");
    // One that is marked as read-only stays, and so does everything else.
    let mut permissions = fs_err::metadata(&options).unwrap().permissions();
    permissions.set_readonly(true);
    fs_err::set_permissions(&options, permissions).unwrap();
    let said = pc.frevin(&arguments).fails(6);
    assert!(said.err.contains("marked as read-only"), "{}", said.err);
    assert_eq!(fs_err::read_to_string(&options).unwrap(), "[Video]\r\nVSync=1 ; tearing\r\n");
    pc.frevin(&["recover"]).ok();
}

/// Restarts are its owner's: the trial says so, and goes on after each of them.
#[test]
#[ignore = "needs Wine: run ci/windows"]
fn a_trial_goes_on_after_restarts_and_puts_the_pc_back() {
    let pc = Wine::new();
    let at_first = pc.everything();
    let scene = [
        "--game",
        "None",
        "--graphics",
        "none",
        "--resolution",
        "none",
        "--route",
        "the test loop",
    ];
    pc.frevin(&[&["scene", "add", "loop"][..], &scene].concat()).ok();
    pc.frevin(&["scene", "record-by", "loop", "--test-loop"]).ok();
    // Wine forgets a display's mode when it is shut down: that would be somebody else's hand.
    let display = "[[settings]]\naddress = \"display:Display1#mode\"\nvalue = \"800x600@60\"\n\n";
    assert!(EVERYTHING.contains(display));
    let lasting = EVERYTHING.replace(display, "").replace("test/everything", "test/lasting");
    pc.own_tweak("lasting", &lasting);
    let start = ["trial", "start", "--tweak", "test/lasting", "--scene", "loop", "--yes"];
    let short = ["--runs", "1", "--seconds", "5", "--seed", "1"];
    let mut said = pc.frevin(&[&start[..], &short].concat()).ok();
    for visits in 0..3 {
        assert!(said.out.contains("restart the PC"), "{visits}: {}{}", said.out, said.err);
        pc.restart();
        said = pc.frevin(&["trial", "resume"]).ok();
    }
    let status = pc.frevin(&["trial", "status", "--json"]).ok().json();
    assert_eq!((&status["pairs_made"], &status["progress"]), (&1.into(), &"going".into()));
    pc.frevin(&["apply", "--tweak", "looks/menu-delay", "--yes"]).fails(5);
    pc.frevin(&["trial", "abandon"]).ok();
    pc.restart();
    let differences = differences(&at_first, &pc.everything());
    assert!(differences.is_empty(), "{differences:#?}");
}

/// The entry comes before the restart, what it says goes on with the trial, and it leaves nothing behind.
#[test]
#[ignore = "needs Wine: run ci/windows"]
fn a_trial_restarts_the_pc_by_itself_and_goes_on_after_the_sign_in() {
    const ENTRY: &str =
        r"HKCU\Software\Microsoft\Windows\CurrentVersion\RunOnce /v Frevin goes on with a trial";
    let pc = Wine::new();
    // Every Windows has the key; Wine makes it when it is first needed.
    pc.stock(&["reg", "add", ENTRY.split_once(" /v").unwrap().0, "/f"]);
    let at_first = pc.everything();
    let scene = ["--game", "None", "--graphics", "none", "--resolution", "none", "--route", "-"];
    pc.frevin(&[&["scene", "add", "loop"][..], &scene].concat()).ok();
    pc.frevin(&["scene", "record-by", "loop", "--test-loop"]).ok();
    let display = "[[settings]]\naddress = \"display:Display1#mode\"\nvalue = \"800x600@60\"\n\n";
    let lasting = EVERYTHING.replace(display, "").replace("test/everything", "test/lasting");
    pc.own_tweak("lasting", &lasting);
    let start = ["trial", "start", "--tweak", "test/lasting", "--scene", "loop", "--yes"];
    let short = ["--runs", "1", "--seconds", "5", "--seed", "1", "--restart-by-itself"];
    pc.frevin(&[&start[..], &short].concat()).ok();
    let entry = pc.registry(ENTRY);
    let command = r#"trial resume --after-sign-in --pc live --home "C:\frevin""#;
    assert!(entry.contains(command), "{entry}");
    pc.restart();
    // A sign-in, which Wine does not do: Windows takes the entry out and runs it. It goes on by itself: its first visit,
    // and the next restart.
    let (key, value) = ENTRY.split_once(" /v ").unwrap();
    pc.stock(&["reg", "delete", key, "/v", value, "/f"]);
    pc.frevin(&["trial", "resume", "--after-sign-in", "--pc", "live", "--home", r"C:\frevin"]).ok();
    let seen = pc.frevin(&["log", "--all", "--json"]).ok().out;
    assert!(seen.contains("\"visit\""), "{seen}");
    assert!(pc.registry(ENTRY).contains(command), "it is set again for the next sign-in");
    pc.frevin(&["trial", "abandon"]).ok();
    pc.restart();
    assert!(!pc.registry(ENTRY).contains("after-sign-in"));
    let differences = differences(&at_first, &pc.everything());
    assert!(differences.is_empty(), "{differences:#?}");
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn old_files_are_set_aside_and_come_back() {
    let pc = Wine::new();
    let temp = pc.drive().join("users").join(whoami()).join("AppData/Local/Temp/old");
    fs_err::create_dir_all(&temp).unwrap();
    fs_err::write(temp.join("a.tmp"), "old").unwrap();
    let long_ago = std::time::SystemTime::UNIX_EPOCH + Duration::from_secs(1_500_000_000);
    fs_err::File::options()
        .write(true)
        .open(temp.join("a.tmp"))
        .unwrap()
        .into_file()
        .set_modified(long_ago)
        .unwrap();
    fs_err::write(temp.join("b.tmp"), "new").unwrap();
    pc.frevin(&["apply", "--tweak", "clean/old-files", "--set", "places=user-temp", "--yes"]).ok();
    assert!(!temp.join("a.tmp").exists() && temp.join("b.tmp").exists());
    pc.restart();
    let kept = pc.frevin(&["cleaned", "list"]).ok();
    assert!(kept.out.contains("user-temp"), "{}", kept.out);
    pc.frevin(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(fs_err::read_to_string(temp.join("a.tmp")).unwrap(), "old");
    let metadata = fs_err::metadata(temp.join("a.tmp")).unwrap();
    assert_eq!(metadata.modified().unwrap(), long_ago);
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn the_self_test_passes_leaves_nothing_and_is_asked_for_once_before_the_first_change() {
    let pc = Wine::new();
    let apply = ["apply", "--tweak", "looks/menu-delay", "--yes"];
    let first = pc.frevin(&apply).ok();
    assert!(first.err.contains("No self-test of Frevin's has passed"), "{}", first.err);
    pc.frevin(&["rollback", "--all", "--yes"]).ok();
    let again = pc.frevin(&apply).ok();
    assert!(!again.err.contains("No self-test"), "{}", again.err);
    pc.frevin(&["rollback", "--all", "--yes"]).ok();
    let before = pc.everything();
    let report = pc.frevin(&["self-test", "--json"]).ok().json();
    let came = |look: &str| {
        let mut looked = report["looked"].as_array().unwrap().iter();
        looked.find(|one| one["look"] == look).unwrap()["came"].clone()
    };
    assert_eq!(report["pc"], "live", "{report}");
    for look in ["registry-data", "changes-over-each-other", "killed", "undo-file", "nothing-left"]
    {
        assert_eq!(came(look), "passed", "{report}");
    }
    // Wine has no power plans of its own to be copied.
    assert_eq!(came("power-plan-copy"), "not-possible", "{report}");
    let differing = differences(&before, &pc.everything());
    assert!(differing.is_empty(), "{differing:?}");
    let startup = pc.frevin(&["app", "startup", "--json"]).ok().json();
    assert_eq!(startup["latest_start"], Value::Null, "{startup}");
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn what_the_owner_tells_is_known_and_what_nobody_asked_is_told() {
    let pc = Wine::new();
    let unknown = |pc: &Wine| -> Vec<String> {
        let facts = pc.frevin(&["inspect", "--json"]).ok().json()["facts"].clone();
        facts["unknown"].as_object().unwrap().keys().cloned().collect()
    };
    assert!(unknown(&pc).contains(&"uses.recording".to_owned()));
    let preview = ["preview", "--tweak", "recording/background"];
    let said = pc.frevin(&preview).ok();
    assert!(said.out.contains("facts.uses.recording is not known"), "{}", said.out);
    let asked = pc.frevin(&["inspect", "--ask"]).ok().out;
    assert!(asked.contains("Do you record or stream your play?"), "{asked}");
    assert!(asked.contains("[facts.uses]  recording = true or false"), "{asked}");
    let tell = |text: &str| {
        let path = pc.home().join("config.toml");
        fs_err::write(&path, text).unwrap();
    };
    tell(
        "[facts.windows]\nwaits_for_restart = false\n[facts.uses]\nrecording = false\n[facts.drives.\"C:\"]\nkind = \"solid-state\"\n",
    );
    let known = unknown(&pc);
    assert!(!known.contains(&"uses.recording".to_owned()), "{known:?}");
    assert!(pc.frevin(&preview).ok().out.contains("would be written"));
    assert!(!pc.frevin(&["inspect", "--ask"]).ok().out.contains("record or stream"));
    tell("[facts.uses]\nteapot = false\n");
    let said = pc.frevin(&["inspect"]).fails(4);
    assert!(said.err.contains("this PC has no uses.teapot"), "{}", said.err);
}

/// The name of the user that Wine runs for.
fn whoami() -> String {
    let said = Command::new("id").arg("-un").output().unwrap();
    String::from_utf8(said.stdout).unwrap().trim().to_owned()
}

#[test]
#[ignore = "needs Wine: ci/windows"]
fn measuring_works_where_wine_offers_it_and_says_so_where_not() {
    let pc = Wine::new();
    let scene = ["scene", "add", "mill", "--game", "g", "--graphics", "high", "--resolution", "r"];
    pc.frevin(&[&scene[..], &["--route", "x"]].concat()).ok();
    let record = ["run", "record", "--state", "a", "--runs", "1", "--seconds", "1"];
    let program = |name| [&record[..], &["--scene", "mill", "--program", name]].concat();
    let refused = pc.frevin(&program("services")).fails(3);
    assert!(refused.err.contains("tracing"), "{}", refused.err);
    assert!(refused.err.contains("--from-folder"), "{}", refused.err);
    let missing = pc.frevin(&program("nobody.exe")).fails(3);
    assert!(missing.err.contains("no program called `nobody.exe` runs"), "{}", missing.err);
    let looped = pc.frevin(&[&record[..], &["--test-loop", "--json"]].concat()).ok().json();
    let around = &looped["visit"]["environment"]["before"];
    assert!(around["available_memory_mib"].as_u64().unwrap() > 0, "{around}");
    assert!(around["processes"].as_u64().unwrap() > 0, "{around}");
    let run = &looped["visit"]["runs"][0];
    assert_eq!(run["conditions"]["on_battery"], false, "{run}");
}

/// The processes of a game as this machine, and not Wine, sees them.
fn processes_of_game(pc: &Wine) -> Vec<String> {
    let prefix = pc.prefix().display().to_string();
    let ids = std::fs::read_dir("/proc").unwrap().flatten();
    let ids = ids.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    let is_its = |id: &u32| {
        let read = |file: &str| std::fs::read(format!("/proc/{id}/{file}")).unwrap_or_default();
        let line = String::from_utf8_lossy(&read("cmdline")).replace('\0', " ");
        let environment = String::from_utf8_lossy(&read("environ")).into_owned();
        line.contains("rehearsal game") && !line.contains(" play ") && environment.contains(&prefix)
    };
    ids.filter(is_its)
        .map(|id| std::fs::read_to_string(format!("/proc/{id}/status")).unwrap_or_default())
        .collect()
}

#[test]
#[ignore = "needs Wine: run ci/windows"]
fn what_is_held_while_a_program_runs_is_seen_from_outside_and_put_back() {
    let pc = Wine::new();
    let before = pc.everything();
    let exe = format!("Z:{}", named_by("FREVIN_WINE_EXE").display()).replace('/', r"\");
    let words = [
        "--yes",
        "play",
        "--tweak",
        "looks/menu-delay",
        "--set",
        "delay_ms=20",
        "--processors",
        "0",
        "--timer-ms",
        "1",
        "--program",
        &exe,
        "--",
        "rehearsal",
        "game",
        "--seconds",
    ];
    let mut child = pc.begin(&[&words[..], &["30"]].concat());
    let runs = || pc.frevin(&["play", "status", "--json"]).json()["processes"][0].is_number();
    // On a busy machine it takes its time to begin; one that has ended will not run any more.
    let comes_to_run = |child: &mut Child| {
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(180) && child.try_wait().unwrap().is_none() {
            if runs() {
                return true;
            }
        }
        false
    };
    assert!(comes_to_run(&mut child), "the game runs");
    let seen = processes_of_game(&pc);
    let is_held = |status: &String| status.lines().any(|line| line == "Cpus_allowed_list:\t0");
    assert!(seen.iter().any(is_held), "{seen:?}");
    assert!(child.wait().unwrap().success());
    let ended = pc.frevin(&["play", "list", "--json"]).json();
    assert_eq!(ended["plays"][0]["ended"][1], "game-ended", "{ended}");
    let timer = &ended["plays"][0]["events"][0];
    assert!(timer["event"] == "timer" && timer["granted_ms"].is_number(), "{ended}");
    // A game that goes on has again what it had.
    let mut child = pc.begin(&[&words[..], &["30"]].concat());
    assert!(comes_to_run(&mut child), "the game runs");
    assert!(processes_of_game(&pc).iter().any(is_held));
    pc.frevin(&["play", "stop"]).ok();
    let seen = processes_of_game(&pc);
    assert!(!seen.is_empty() && !seen.iter().any(is_held), "{seen:?}");
    assert!(child.wait().unwrap().success());
    pc.restart();
    let differences = differences(&before, &pc.everything());
    assert!(differences.is_empty(), "{differences:?}");
}
