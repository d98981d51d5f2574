//! Trying out in a scratch folder how files are set aside and how settings files are written, before any of the owner's is.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::Path;
use std::time::{Duration, SystemTime};

use frevin_core::setting::{Address, CleanPart, CleanPlace, CleanSetting, Place, State, Value};
use frevin_core::settings_file;

use super::below::files_below;
use super::folder::{FolderPath, MoveNew, OpenFolder};
use super::quarantine::Quarantine;
use super::text::TextFiles;
use crate::durable::Replace;

/// A settings file with a value, and what stands beside it.
const SETTINGS: &[u8] = b"[Look]\r\nwidth=1\r\n; mine\r\n";
/// The same with another value.
const CHANGED: &[u8] = b"[Look]\r\nwidth=2\r\n; mine\r\n";

/// Sets files in a folder aside and brings them back, and changes a settings file and puts it back, by the ways that the PC
/// has for that. The folder is empty before, and may be thrown away afterwards.
///
/// # Errors
/// What was seen that is not as promised.
pub(crate) fn try_out(
    scratch: &Path,
    move_new: MoveNew,
    replace: Option<Replace>,
) -> Result<(), String> {
    let words = |error: std::io::Error| error.to_string();
    let (place, own) = (scratch.join("place"), scratch.join("own"));
    fs_err::create_dir_all(place.join("below")).map_err(words)?;
    fs_err::create_dir_all(&own).map_err(words)?;
    let trusted = || FolderPath::trusted(&place);
    let long_ago = SystemTime::now() - Duration::from_hours(3 * 24);
    let samples: [(&str, Vec<u8>); 3] = [
        ("long.bin", vec![7; 70_001]),
        ("empty.tmp", Vec::new()),
        ("below/text.log", b"a".to_vec()),
    ];
    for (name, bytes) in &samples {
        let path = place.join(name);
        fs_err::write(&path, bytes).map_err(words)?;
        let file = File::options().write(true).open(path).map_err(words)?;
        file.set_modified(long_ago).map_err(words)?;
    }

    let before = contents(&trusted())?;
    let places = BTreeMap::from([(CleanPlace::UserTemp, trusted())]);
    let quarantine =
        Quarantine::new(places, FolderPath::trusted(&own).join("quarantine"), move_new);
    let setting = CleanSetting { place: CleanPlace::UserTemp, part: CleanPart::Quarantine };
    let aside = State::from(Value::Quarantined { untouched_days: 1 });
    for (state, left) in [(&aside, 0), (&State::Absent, samples.len())] {
        quarantine.write(setting, state).map_err(|error| error.to_string())?;
        let now = quarantine.read(setting);
        let here = contents(&trusted())?;
        if now != *state || here.len() != left {
            return Err(format!("{left} files should be there, and {} are: {now}", here.len()));
        }
    }
    if contents(&trusted())? != before {
        return Err("files that came back are not what they were".to_owned());
    }

    let path = place.join("settings.ini");
    fs_err::write(&path, SETTINGS).map_err(words)?;
    let texts = TextFiles::new(BTreeMap::from([(Place::Documents, trusted())]), own, replace);
    let address = format!("text:{}/settings.ini#ini:[Look]width", Place::Documents.name());
    let setting = match address.parse() {
        Ok(Address::Text(setting)) => setting,
        other => return Err(format!("{address}: {other:?}")),
    };
    for bytes in [CHANGED, SETTINGS] {
        let state = settings_file::read(bytes, setting.part());
        texts.write(&setting, &state).map_err(|error| error.to_string())?;
        if fs_err::read(&path).map_err(words)? != bytes {
            return Err(format!("a settings file was set to {state} and holds something else"));
        }
    }
    Ok(())
}

/// What lies below a folder.
fn contents(folder: &FolderPath) -> Result<BTreeMap<String, Vec<u8>>, String> {
    let words = |error: std::io::Error| error.to_string();
    let Some(root) = folder.open().map_err(words)? else { return Ok(BTreeMap::new()) };
    let read = |root: &OpenFolder, below: &str| fs_err::read(root.path().join(below));
    files_below(&root)
        .map_err(words)?
        .into_iter()
        .map(|file| Ok((file.below.clone(), read(&root, &file.below).map_err(words)?)))
        .collect()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::super::link_and_remove;
    use super::*;

    #[test]
    fn files_that_are_as_promised_pass_and_others_are_told() {
        let scratch = tempfile::tempdir().unwrap();
        assert_eq!(try_out(scratch.path(), link_and_remove, None), Ok(()));
        // A way to replace a file that says it did, and did nothing.
        let scratch = tempfile::tempdir().unwrap();
        let replaces_nothing: Replace = |_, _, _| Ok(());
        let seen = try_out(scratch.path(), link_and_remove, Some(replaces_nothing)).unwrap_err();
        assert!(seen.contains("holds something else"), "{seen}");
    }
}
