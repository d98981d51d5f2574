//! The owner's folder of tweaks: `tweaks/AREA/NAME.toml` in Frevin's home.

use std::path::Path;

use frevin_core::tweak::TweakId;

use crate::failure::{Failure, Kind};
use crate::strangers_file;

/// No definition is that long, in bytes; what is, is something else.
const LONGEST_BYTES: u64 = 1 << 20;
/// More than anybody writes.
const MOST_FILES: usize = 2000;

/// Every definition in the folder: its path, and its text. Links are not followed.
pub(crate) fn read(folder: &Path) -> Result<Vec<(String, String)>, Failure> {
    let mut definitions = Vec::new();
    if !folder.is_dir() {
        return Ok(definitions);
    }
    for area in entries(folder)? {
        if !fs_err::symlink_metadata(&area)?.is_dir() {
            continue;
        }
        for file in entries(&area)? {
            let metadata = fs_err::symlink_metadata(&file)?;
            if !metadata.is_file() || file.extension().is_none_or(|ending| ending != "toml") {
                continue;
            }
            let name = file.display().to_string();
            if definitions.len() >= MOST_FILES {
                let message = format!("{name} is one tweak too many: {MOST_FILES} are read");
                return Err(Failure::new(Kind::BadInput, message)
                    .hint("take what is no tweak out of the folder"));
            }
            let text = strangers_file::read_text(&file, LONGEST_BYTES, "tweak")
                .map_err(|failure| failure.hint("take what is no tweak out of the folder"))?;
            definitions.push((name, text));
        }
    }
    Ok(definitions)
}

/// Adds definitions to the folder. None of them may be there yet; where one is, none is added.
pub(crate) fn add(folder: &Path, definitions: &[(TweakId, String)]) -> Result<(), Failure> {
    let path = |id: &TweakId| folder.join(format!("{id}.toml"));
    if let Some((id, _)) = definitions.iter().find(|(id, _)| path(id).exists()) {
        let message = format!("there is a tweak of your own called `{id}` already");
        return Err(Failure::new(Kind::BadInput, message).hint(format!(
            "nothing was changed; take {} away, or use --name",
            path(id).display()
        )));
    }
    let is_too_long = |text: &str| text.len() as u64 > LONGEST_BYTES;
    if let Some((id, text)) = definitions.iter().find(|(_, text)| is_too_long(text)) {
        let message = format!("`{id}` would be a tweak of {} bytes; none is that long", text.len());
        return Err(Failure::new(Kind::BadInput, message)
            .hint("nothing was changed; take the files in one by one"));
    }
    for (id, text) in definitions {
        let path = path(id);
        if let Some(area) = path.parent() {
            fs_err::create_dir_all(area)?;
        }
        let draft = path.with_extension("new");
        fs_err::write(&draft, text)?;
        fs_err::rename(&draft, &path)?;
    }
    Ok(())
}

fn entries(folder: &Path) -> Result<Vec<std::path::PathBuf>, Failure> {
    let mut paths = Vec::new();
    for entry in fs_err::read_dir(folder)? {
        paths.push(entry?.path());
    }
    paths.sort();
    Ok(paths)
}
