//! A place of its own for each test: a folder, a rehearsal PC, a clock that goes on by a second with
//! each command, and an environment with nothing else in it.
#![allow(dead_code, reason = "each test file uses a part of it")]

mod described;
pub(crate) mod knobs;

use std::cell::Cell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::Duration;

use serde_json::Value;
use tempfile::TempDir;

/// What every schema refers to.
fn types() -> Value {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/output");
    serde_json::from_str(&fs_err::read_to_string(folder.join("types.json")).unwrap()).unwrap()
}

/// The schema of what a command prints: the one with the most words of it.
fn schema_of(args: &[&str], printed: &Value) -> Value {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/output");
    if printed.get("error").is_some_and(|error| error.get("exit_code").is_some()) {
        let text = fs_err::read_to_string(folder.join("failure.json")).unwrap();
        return serde_json::from_str(&text).unwrap();
    }
    let words: Vec<&str> = args.iter().copied().filter(|word| !word.starts_with('-')).collect();
    let file = (1..=words.len().min(3)).rev().find_map(|count| {
        let known = |words: &[&str]| folder.join(format!("{}.json", words.join("-")));
        // What stands before the command is the value of an option.
        words.windows(count).map(known).find(|file| file.exists())
    });
    let file = file.unwrap_or_else(|| panic!("nothing describes what {args:?} prints"));
    serde_json::from_str(&fs_err::read_to_string(file).unwrap()).unwrap()
}

/// The profile most tests apply: registry with a key to be made, services, a plan, looks.
pub(crate) const EVENING: &str = r#"format = 1
name = "evening"
purpose = "Smooth frames"
scene = "canyon-run"

[[tweaks]]
use = "power/active-plan"

[[tweaks]]
use = "recording/background"

[[tweaks]]
use = "services/prefetch"

[[tweaks]]
use = "looks/menu-delay"
with = { delay_ms = 50 }

[[tweaks]]
use = "memory/large-file-cache"
"#;

/// How many settings applying [`EVENING`] writes.
pub(crate) const EVENING_WRITES: u64 = 9;

pub(crate) struct Place {
    folder: TempDir,
    clock: Cell<Clock>,
}

/// How the clock of a place goes.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Clock {
    /// On by a second with each command, of which there were so many.
    Runs(u32),
    /// It says this whenever it is asked.
    Stands(&'static str),
}

/// What a command answered.
pub(crate) struct Said {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Place {
    /// A place with a rehearsal PC.
    pub(crate) fn new() -> Self {
        let place = Self::empty();
        place.run(&["rehearsal", "new", "pc", "--name", "Test desktop"]).ok();
        place
    }

    /// A place without a PC.
    pub(crate) fn empty() -> Self {
        Self { folder: tempfile::tempdir().unwrap(), clock: Cell::new(Clock::Runs(0)) }
    }

    /// A place with a rehearsal PC and the saved profile `evening`.
    pub(crate) fn with_evening() -> Self {
        let place = Self::new();
        place.write("evening.toml", EVENING);
        place.run(&["profile", "save", "evening.toml", "-m", "first"]).ok();
        place
    }

    /// Holds the clock still at a time, or sets it back.
    pub(crate) fn set_clock(&self, at: &'static str) {
        self.clock.set(Clock::Stands(at));
    }

    /// What the clock says to the next command.
    fn time(&self) -> String {
        match self.clock.get() {
            Clock::Stands(at) => at.to_owned(),
            Clock::Runs(commands) => {
                self.clock.set(Clock::Runs(commands + 1));
                let (minutes, seconds) = (commands / 60 % 60, commands % 60);
                format!("2026-03-01T20:{minutes:02}:{seconds:02}Z")
            }
        }
    }

    /// Adds the scene `mill` to the ledger.
    pub(crate) fn add_mill(&self) {
        let what = ["--game", "Gorsehollow Riders", "--graphics", "low"];
        let how = ["--resolution", "1920x1080", "--route", "The built-in benchmark"];
        self.run(&[&["scene", "add", "mill"][..], &what, &how].concat()).ok();
    }

    pub(crate) fn path(&self) -> &Path {
        self.folder.path()
    }

    pub(crate) fn pc(&self) -> PathBuf {
        self.path().join("pc")
    }

    pub(crate) fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        fs_err::write(self.path().join(name), text).unwrap();
    }

    pub(crate) fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_frevin"));
        command
            .args(args)
            .current_dir(self.path())
            .env_clear()
            .env("FREVIN_HOME", self.path().join("home"))
            .env("FREVIN_PC", self.pc())
            .env("FREVIN_CLOCK", self.time())
            .env("TZ", "UTC")
            .env("TMPDIR", self.path());
        command
    }

    pub(crate) fn run(&self, args: &[&str]) -> Said {
        self.said(self.command(args).output().unwrap())
    }

    /// Begins a command and kills it after some time, wherever it is by then.
    pub(crate) fn run_and_kill(&self, args: &[&str], after: Duration) {
        let mut command = self.command(args);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(after);
        child.kill().unwrap();
        child.wait().unwrap();
    }

    /// Begins a command and kills it as soon as it has written to the PC's settings; one that writes nothing ends by itself.
    pub(crate) fn run_and_kill_at_a_write(&self, args: &[&str]) {
        let events = self.path().join("pc/events.jsonl");
        let written = || std::fs::metadata(&events).map_or(0, |events| events.len());
        let before = written();
        let mut command = self.command(args);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        while written() == before && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        child.kill().unwrap();
        child.wait().unwrap();
    }

    /// What a command printed as JSON, whatever its exit code.
    pub(crate) fn json(&self, args: &[&str]) -> Value {
        let args: Vec<&str> = args.iter().copied().chain(["--json"]).collect();
        let said = self.run(&args);
        let value =
            serde_json::from_str(&said.out).unwrap_or_else(|_| panic!("{}{}", said.out, said.err));
        if let Some(fault) = described::fault(&schema_of(&args, &value), &types(), &value) {
            panic!("{args:?} prints what its schema does not describe: {fault}\n{value:#}");
        }
        value
    }

    fn said(&self, output: Output) -> Said {
        // Paths and the PC's random identifier differ from run to run.
        let id = fs_err::read_to_string(self.pc().join("pc.toml")).unwrap_or_default();
        let id = id.split('"').nth(1).unwrap_or("no id").to_owned();
        let tidy = |bytes: Vec<u8>| {
            let text = String::from_utf8(bytes).unwrap();
            text.replace(&self.path().display().to_string(), "[HERE]").replace(&id, "[ID]")
        };
        Said {
            code: output.status.code().unwrap_or(-1),
            out: tidy(output.stdout),
            err: tidy(output.stderr),
        }
    }

    /// What all of its settings hold, by file.
    pub(crate) fn settings(&self) -> BTreeMap<String, Value> {
        let files = fs_err::read_dir(self.pc().join("settings")).unwrap();
        let read = |path: PathBuf| {
            let text = fs_err::read_to_string(&path).unwrap();
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            (name, serde_json::from_str(&text).unwrap_or(text.into()))
        };
        files.map(|one| read(one.unwrap().path())).collect()
    }

    /// Every file that says what the PC is, byte for byte, drafts of files included.
    pub(crate) fn pc_files(&self) -> BTreeMap<String, Vec<u8>> {
        let mut files = BTreeMap::new();
        let folders = ["settings", "files", "quarantine"].map(|name| self.pc().join(name));
        let mut left: Vec<PathBuf> = folders.into_iter().filter(|folder| folder.exists()).collect();
        let top = fs_err::read_dir(self.pc()).unwrap().map(|entry| entry.unwrap().path());
        left.extend(top.filter(|path| path.is_file()));
        while let Some(path) = left.pop() {
            if path.is_dir() {
                left.extend(fs_err::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
                continue;
            }
            let name = path.strip_prefix(self.pc()).unwrap().to_string_lossy().into_owned();
            let is_history = ["events.jsonl", "clock.json", "faults.json", "restore-points.json"]
                .contains(&&*name);
            if !is_history {
                files.insert(name, fs_err::read(path).unwrap());
            }
        }
        files
    }
}

impl Said {
    /// The command must have succeeded.
    #[track_caller]
    pub(crate) fn ok(self) -> Self {
        assert_eq!(self.code, 0, "{}{}", self.out, self.err);
        self
    }

    /// The command must have failed with this exit code, and said why and what to do.
    #[track_caller]
    pub(crate) fn fails(self, code: i32) -> Self {
        assert_eq!(self.code, code, "{}{}", self.out, self.err);
        self
    }
}
