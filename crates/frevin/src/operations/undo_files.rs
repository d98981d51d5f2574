//! The undo files of a change: its way back without Frevin.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use frevin_core::ids::PcId;
use frevin_core::layers::ChangeId;
use frevin_core::preview::Undoing;
use frevin_core::registry_text;
use frevin_core::setting::undo::sheet;
use frevin_core::setting::{Address, State};
use frevin_pc::durable::sync_folder;
use frevin_pc::limited;
use frevin_pc::{Pc, PcError};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Where the undo files of a change are.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub(crate) struct UndoFiles {
    /// For the registry, in Windows' registry text format.
    pub(crate) registry: PathBuf,
    /// For everything else, to be read.
    pub(crate) sheet: PathBuf,
    /// For `frevin recover --from-undo-files`.
    pub(crate) copy: PathBuf,
}

/// A change as its undo file for Frevin itself tells it: the second copy, where the ledger is lost.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct UndoCopy {
    format: u32,
    pub(crate) pc: PcId,
    pub(crate) change: i64,
    pub(crate) title: String,
    pub(crate) settings: Vec<UndoSetting>,
}

/// A setting of a change, in the order in which it is undone.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct UndoSetting {
    pub(crate) address: Address,
    /// What it held before the change.
    pub(crate) before: State,
    /// What the change made it hold, one after another.
    pub(crate) during: Vec<State>,
}

const FORMAT: u32 = 1;
/// No change is that long, in bytes.
const LONGEST_BYTES: u64 = 64 << 20;
const ENDING: &str = "undo.json";
/// What a copy is called once it was put back from.
const ENDING_DONE: &str = "undone.json";

/// The copies for Frevin in a folder, by number of change, and those that cannot be used, with why.
pub(crate) type Copies = (BTreeMap<i64, UndoCopy>, Vec<(PathBuf, String)>);

/// The highest number of a change in the names of undo files, over the folders of all PCs; 0 where there
/// is none.
pub(crate) fn last_change(folder: &Path) -> std::io::Result<i64> {
    let mut last = 0;
    for pc in entries_if_there(folder)? {
        for file in entries_if_there(&pc)? {
            let name = file.file_name().unwrap_or_default().to_string_lossy();
            let number = name.strip_prefix("change-").and_then(|rest| rest.split('.').next());
            last = last.max(number.and_then(|number| number.parse().ok()).unwrap_or(0));
        }
    }
    Ok(last)
}

fn entries_if_there(folder: &Path) -> std::io::Result<Vec<PathBuf>> {
    match fs_err::read_dir(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Vec::new()),
        entries => entries?.map(|entry| Ok(entry?.path())).collect(),
    }
}

/// Reads the copies in the folder of a PC's undo files. A copy is a line of JSON, and a line with the
/// digest of that one.
pub(crate) fn read_copies(folder: &Path, pc: &PcId) -> std::io::Result<Copies> {
    let (mut copies, mut unusable) = (BTreeMap::new(), Vec::new());
    for path in entries_if_there(folder)? {
        if !path.to_string_lossy().ends_with(ENDING) {
            continue;
        }
        match read_copy(&path) {
            Ok(copy) if copy.pc == *pc => drop(copies.insert(copy.change, copy)),
            Ok(copy) => unusable.push((path, format!("it is of another PC, {}", copy.pc))),
            Err(reason) => unusable.push((path, reason)),
        }
    }
    unusable.sort();
    Ok((copies, unusable))
}

fn read_copy(path: &Path) -> Result<UndoCopy, String> {
    let bytes = limited::read(path, LONGEST_BYTES).map_err(|error| error.to_string())?;
    let text = String::from_utf8(bytes).map_err(|_| "it is no text".to_owned())?;
    let (line, digest) = text.split_once('\n').ok_or("it is cut short")?;
    if blake3::hash(line.as_bytes()).to_hex().as_str() != digest.trim_end() {
        return Err("it is not as it was written".to_owned());
    }
    let copy: UndoCopy = serde_json::from_str(line).map_err(|error| error.to_string())?;
    match copy.format {
        FORMAT => Ok(copy),
        other => Err(format!("it is of format {other}, and this Frevin reads {FORMAT}")),
    }
}

/// Notes that a PC was put back from these copies: they are not used again.
pub(crate) fn note_put_back(folder: &Path, changes: &[i64]) -> std::io::Result<()> {
    for change in changes {
        let name = |ending: &str| folder.join(format!("change-{change}.{ending}"));
        fs_err::rename(name(ENDING), name(ENDING_DONE))?;
    }
    sync_folder(folder)
}

/// What the settings of a change hold before it, as Windows' registry text format can say it: of a part
/// of a registry value, the value, which is read while it is still as before.
fn before_in_wholes(pc: &dyn Pc, settings: &[Undoing]) -> Result<Vec<(Address, State)>, PcError> {
    let mut states: Vec<(Address, State)> = Vec::new();
    for setting in settings {
        match setting.address.whole_value() {
            Some(whole) if states.iter().any(|(known, _)| *known == whole) => {}
            Some(whole) => states.push((whole.clone(), pc.read(&whole)?)),
            None => states.push((setting.address.clone(), setting.before.clone())),
        }
    }
    Ok(states)
}

/// Writes the undo files of a change that is about to be made, durably.
pub(super) fn write(
    folder: &Path,
    pc: &dyn Pc,
    change: ChangeId,
    title: &str,
    settings: &[Undoing],
) -> std::io::Result<UndoFiles> {
    let wholes = before_in_wholes(pc, settings).map_err(std::io::Error::other)?;
    let states = || wholes.iter().map(|(address, state)| (address, state));
    let heading = format!("Undo of change {change}: {title}");
    let files = UndoFiles {
        registry: folder.join(format!("change-{change}.reg")),
        sheet: folder.join(format!("change-{change}.txt")),
        copy: folder.join(format!("change-{change}.{ENDING}")),
    };
    fs_err::create_dir_all(folder)?;
    write_durably(&files.registry, &registry_text::encode(&registry_text::write(states())))?;
    write_durably(&files.sheet, sheet(&heading, states()).as_bytes())?;
    let copy = UndoCopy {
        format: FORMAT,
        pc: pc.identity().id.clone(),
        change: change.0,
        title: title.to_owned(),
        settings: settings
            .iter()
            .map(|setting| UndoSetting {
                address: setting.address.clone(),
                before: setting.before.clone(),
                during: setting.during.clone(),
            })
            .collect(),
    };
    let line = serde_json::to_string(&copy).map_err(std::io::Error::other)?;
    let digest = blake3::hash(line.as_bytes()).to_hex();
    write_durably(&files.copy, format!("{line}\n{digest}\n").as_bytes())?;
    // The folders above may be new as well, and their names are in the home's own folder.
    folder.ancestors().take(3).try_for_each(sync_folder)?;
    Ok(files)
}

#[cfg(windows)]
use frevin_windows::rename_for_good;

/// A rename whose new name is on the disk once the folder is synced, as it is after all files.
#[cfg(not(windows))]
fn rename_for_good(from: &Path, to: &Path) -> std::io::Result<()> {
    fs_err::rename(from, to)
}

/// Writes a file so that it is there whole, on the disk, or not at all. Only who holds the PC's
/// lock writes, so one name will do for the draft.
fn write_durably(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let draft = path.with_extension("new");
    let mut file = fs_err::File::create(&draft)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    rename_for_good(&draft, path)
}
