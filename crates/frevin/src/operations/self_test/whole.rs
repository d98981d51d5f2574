//! The whole program in a home of its own: changes over each other, kills, undo files.

use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use frevin_core::setting::Address;
use frevin_pc::{PcIdentity, PcKind};

use super::{Came, OWN_KEY};
use crate::context::Context;
use crate::failure::Failure;

/// A home that nothing else knows, which goes again with this.
pub(super) struct OwnHome<'a> {
    context: &'a Context,
    folder: tempfile::TempDir,
    pc: String,
}

/// So often a change is killed, at moments spread over the time that it takes.
const KILLS: u32 = 8;
/// What both tweaks want.
const SHARED: &str = "#shared";

impl<'a> OwnHome<'a> {
    pub(super) fn make(context: &'a Context) -> Result<Self, Failure> {
        let folder = tempfile::Builder::new().prefix("frevin-self-test-").tempdir()?;
        let pc = context.pc_as_named().unwrap_or_else(|| "live".to_owned());
        let home = Self { context, folder, pc };
        crate::own_home::make(&home.home())?;
        let tweaks = home.home().join("tweaks").join("self-test");
        fs_err::create_dir_all(&tweaks)?;
        for (name, own_values) in [("first", 12), ("second", 2)] {
            fs_err::write(tweaks.join(format!("{name}.toml")), definition(name, own_values))?;
        }
        Ok(home)
    }

    fn home(&self) -> PathBuf {
        self.folder.path().join("home")
    }

    fn command(&self, args: &[&str]) -> std::io::Result<Command> {
        let mut command = Command::new(std::env::current_exe()?);
        command
            .args(args)
            .args(["--yes", "--quiet", "--json", "--pc", &self.pc, "--home"])
            .arg(self.home())
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        Ok(command)
    }

    /// Runs a command of Frevin's, which has to succeed.
    fn frevin(&self, args: &[&str]) -> Result<(), String> {
        let output = self.command(args).and_then(|mut command| command.output());
        let output = output.map_err(|error| format!("{}: {error}", args.join(" ")))?;
        match output.status.success() {
            true => Ok(()),
            false => {
                let said = String::from_utf8_lossy(&output.stdout).into_owned();
                let said: serde_json::Value = serde_json::from_str(&said).unwrap_or_default();
                let why = said["error"]["message"].as_str().unwrap_or("no word why");
                Err(format!("`frevin {}` ended with {}: {why}", args.join(" "), output.status))
            }
        }
    }

    /// What a setting of the key holds now: the PC is opened anew, since other processes have written to it.
    fn read(&self, rest: &str) -> Result<String, String> {
        let pc = self.context.pc().map_err(|failure| failure.message)?;
        Ok(pc.read(&setting(rest)?).map_err(|error| error.to_string())?.to_string())
    }

    fn holds(&self, rest: &str, wanted: &str) -> Result<(), String> {
        let now = self.read(rest)?;
        match now == wanted {
            true => Ok(()),
            false => Err(format!("`{rest}` of the key should be {wanted} and is {now}")),
        }
    }

    /// Two changes over one value, the first taken back under the second.
    pub(super) fn changes_over_each_other(&self) -> Came {
        came(self.layers(), self, None)
    }

    fn layers(&self) -> Result<(), String> {
        self.frevin(&["apply", "--without-restore-point", "--tweak", "self-test/first"])?;
        self.frevin(&["apply", "--without-restore-point", "--tweak", "self-test/second"])?;
        self.holds(SHARED, "\"second\"")?;
        self.frevin(&["rollback", "1"])?;
        self.holds(SHARED, "\"second\"")?;
        self.holds("#first 1", "absent")?;
        self.frevin(&["rollback", "2"])?;
        self.holds("", "absent")
    }

    /// A change killed at several moments: each time one command puts the PC back.
    pub(super) fn killed(&self) -> Came {
        let begun = Instant::now();
        let whole = self
            .frevin(&["apply", "--without-restore-point", "--tweak", "self-test/first"])
            .map(|()| begun.elapsed())
            .and_then(|whole| self.frevin(&["rollback", "--all"]).map(|()| whole));
        let whole = match whole {
            Ok(whole) => whole,
            Err(seen) => return came(Err(seen), self, None),
        };
        let mut unfinished = 0;
        let mut steps = || -> Result<(), String> {
            for kill in 1..=KILLS {
                // The first half is spent on starting up.
                let after = whole * (KILLS + kill) / (2 * KILLS + 1);
                self.kill(after)?;
                unfinished += usize::from(self.read("")? != "absent");
                self.frevin(&["recover"])?;
                self.frevin(&["rollback", "--all"])?;
                self.holds("", "absent")
                    .map_err(|seen| format!("killed after {} ms: {seen}", after.as_millis()))?;
            }
            Ok(())
        };
        let steps = steps();
        came(steps, self, Some(format!("{KILLS} kills, {unfinished} of them after a first write")))
    }

    fn kill(&self, after: Duration) -> Result<(), String> {
        let apply = ["apply", "--without-restore-point", "--tweak", "self-test/first"];
        let begun = self
            .command(&apply)
            .and_then(|mut command| command.stdout(Stdio::null()).stderr(Stdio::null()).spawn());
        let mut child: Child = begun.map_err(|error| format!("apply: {error}"))?;
        std::thread::sleep(after);
        // One that has ended by itself cannot be killed any more.
        let _ = child.kill();
        child.wait().map(drop).map_err(|error| format!("apply: {error}"))
    }

    /// The registry file that undoes a change, imported by the command that Windows has for that.
    pub(super) fn undo_file(&self) -> Came {
        let pc = match self.context.pc() {
            Ok(pc) => pc.identity().clone(),
            Err(failure) => return Came::Failed { seen: failure.message },
        };
        if pc.kind == PcKind::Rehearsal {
            let reason = "a rehearsal PC has no command of Windows' to import it by".to_owned();
            return Came::NotPossible { reason };
        }
        came(self.import(&pc), self, None)
    }

    fn import(&self, pc: &PcIdentity) -> Result<(), String> {
        self.frevin(&["apply", "--without-restore-point", "--tweak", "self-test/first"])?;
        let folder = self.home().join("undo").join(pc.id.as_str());
        let files = fs_err::read_dir(folder).map_err(|error| error.to_string())?;
        let mut files: Vec<PathBuf> = files.filter_map(|entry| Some(entry.ok()?.path())).collect();
        files.retain(|file| file.extension().is_some_and(|ending| ending == "reg"));
        files.sort_by_key(|file| file.metadata().and_then(|data| data.modified()).ok());
        let file = files.pop().ok_or("there is no undo file")?;
        let windows = std::env::var_os("SystemRoot").ok_or("Windows' folder is not told")?;
        let status = Command::new(PathBuf::from(windows).join("System32").join("reg.exe"))
            .arg("import")
            .arg(&file)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status()
            .map_err(|error| format!("reg.exe: {error}"))?;
        if !status.success() {
            return Err(format!("reg.exe import ended with {status}"));
        }
        self.holds(SHARED, "absent")?;
        self.frevin(&["rollback", "--all", "--force"])?;
        self.holds("", "absent")
    }
}

/// What came of it; where something failed, what is left is put back all the same.
fn came(steps: Result<(), String>, home: &OwnHome<'_>, seen: Option<String>) -> Came {
    match steps {
        Ok(()) => Came::Passed { seen },
        Err(seen) => {
            // The last look tells whether that was of use.
            let _ = home.frevin(&["recover"]);
            let _ = home.frevin(&["rollback", "--all", "--force"]);
            Came::Failed { seen }
        }
    }
}

fn setting(rest: &str) -> Result<Address, String> {
    format!("registry:{OWN_KEY}{rest}").parse().map_err(|error| format!("{rest}: {error}"))
}

/// A tweak over the shared value and some of its own.
fn definition(name: &str, own_values: u32) -> String {
    let mut text = format!(
        "id = \"self-test/{name}\"\ntitle = \"The self-test's {name}\"\nwhat = \"Writes values that nobody reads.\"\n\
         why = \"To see whether they are put back.\"\nmay_break = \"Nothing.\"\nstanding = \"no-effect\"\n\
         standing_reason = \"Nothing reads it.\"\nrisk = \"safe\"\ntakes_effect = \"now\"\n\n\
         [[settings]]\naddress = 'registry:{OWN_KEY}{SHARED}'\ntype = \"string\"\nvalue = \"{name}\"\n"
    );
    for number in 1..=own_values {
        text.push_str(&format!(
            "\n[[settings]]\naddress = 'registry:{OWN_KEY}#{name} {number}'\ntype = \"dword\"\nvalue = {number}\n"
        ));
    }
    text.push_str("\n[[sources]]\ntitle = \"Frevin\"\nstates = \"That the key is its own.\"\n");
    text
}
