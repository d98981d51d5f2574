//! Going on with a trial or a sift by itself after its owner has signed in again: an entry of Frevin's own that Windows
//! runs once.
//!
//! What the entry held is written down before it is set, and it is taken out again as soon as the trial goes on,
//! whether Windows has run it or not.

use frevin_core::setting::{Address, RegistryData, State, Value};
use frevin_pc::{Pc, Written};

use crate::context::Context;
use crate::failure::{Failure, Kind};

/// The entry. Windows takes it out when it runs it ("Run and RunOnce registry keys" in the Windows
/// documentation). No tweak may write below that key: it runs programs.
const ENTRY: &str =
    r"registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\RunOnce#Frevin goes on with a trial";
/// Windows runs no entry that is longer.
const LONGEST: usize = 260;

/// What goes on after the sign-in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Resumed {
    /// A trial.
    Trial,
    /// A sift.
    Sift,
}

/// The setting that the entry is.
pub(super) fn entry() -> Result<Address, Failure> {
    ENTRY.parse().map_err(|error| Failure::new(Kind::Internal, format!("{ENTRY}: {error}")))
}

/// What Windows is to run: this very program, for this home and this PC.
pub(super) fn command(context: &Context, resumed: Resumed) -> Result<String, Failure> {
    let program = std::env::current_exe()?;
    let home = std::path::absolute(context.home())?;
    let quoted = |path: &std::path::Path| {
        let text = path.to_string_lossy().into_owned();
        // Windows allows no such mark in a path; elsewhere it would end the quotation.
        if text.contains('"') {
            let message = format!("{text} cannot be written into an entry that Windows runs");
            return Err(Failure::new(Kind::Usage, message));
        }
        Ok(format!("\"{text}\""))
    };
    let what = match resumed {
        Resumed::Trial => "trial",
        Resumed::Sift => "sift",
    };
    let command = format!(
        "{} {what} resume --after-sign-in --pc live --home {}",
        quoted(&program)?,
        quoted(&home)?
    );
    if command.encode_utf16().count() > LONGEST {
        let message = format!(
            "the paths of Frevin and of its home are too long for an entry that Windows runs: {LONGEST} characters"
        );
        return Err(Failure::new(Kind::Usage, message)
            .hint("put Frevin into a folder with a shorter path, or restart the PC yourself, without --restart-by-itself"));
    }
    Ok(command)
}

/// Sets the entry, and reads it back.
pub(super) fn set(pc: &mut dyn Pc, command: &str) -> Result<(), Failure> {
    write(pc, &State::Value(Value::Registry(RegistryData::string(command))))
}

/// Takes the entry out: it holds again what it held before it was set.
pub(super) fn take_out(pc: &mut dyn Pc, before: &State) -> Result<(), Failure> {
    if pc.read(&entry()?)? == *before { Ok(()) } else { write(pc, before) }
}

fn write(pc: &mut dyn Pc, state: &State) -> Result<(), Failure> {
    let entry = entry()?;
    let refused = |reason: String| {
        Failure::new(Kind::Files, format!("{entry} could not be written: {reason}"))
            .hint("without --restart-by-itself, you restart the PC and type `frevin trial resume`")
    };
    match pc.write(&entry, state).map_err(|error| refused(error.to_string()))? {
        Written::Done => {}
        Written::LeftInPlace => return Err(refused("it was left in place".to_owned())),
    }
    pc.flush()?;
    if pc.read(&entry)? == *state {
        return Ok(());
    }
    Err(refused("it does not hold what was written".to_owned()))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;
    use frevin_core::setting::protection;
    use frevin_pc::fingerprint;
    use frevin_pc::rehearsal::{RehearsalPc, Template, create};

    #[test]
    fn the_entry_comes_and_goes_without_a_trace() {
        let folder = tempfile::tempdir().unwrap();
        let folder = folder.path().join("pc");
        create(&folder, Template::named("desktop").unwrap(), "A PC", 1).unwrap();
        let mut pc = RehearsalPc::open(&folder).unwrap();
        let key = ENTRY.split_once('#').unwrap().0.parse().unwrap();
        pc.write(&key, &State::Value(Value::Key)).unwrap();
        let at_first = fingerprint(&pc).unwrap();
        let before = pc.read(&entry().unwrap()).unwrap();
        set(&mut pc, r#""C:\frevin.exe" trial resume"#).unwrap();
        assert_ne!(fingerprint(&pc).unwrap(), at_first);
        take_out(&mut pc, &before).unwrap();
        take_out(&mut pc, &before).unwrap();
        assert_eq!(fingerprint(&pc).unwrap(), at_first);
        assert_eq!(before, State::Absent);
    }

    #[test]
    fn no_tweak_may_write_it() {
        assert!(protection(&entry().unwrap()).is_some());
    }
}
