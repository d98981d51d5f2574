//! The restore points of a rehearsal PC.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::folder::Folder;
use crate::contract::{PcError, RestorePoint};

pub(super) const RESTORE_POINTS: &str = "restore-points.json";

/// What `restore-points.json` holds. Without the file, the PC does not offer restore points.
#[derive(Debug, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct RestorePoints {
    is_switched_on: bool,
    #[serde(default)]
    points: Vec<Point>,
}

#[derive(Debug, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Point {
    number: u32,
    description: String,
}

pub(super) fn make(folder: &Folder, description: &str) -> Result<RestorePoint, PcError> {
    if !folder.path(RESTORE_POINTS).exists() {
        return Ok(RestorePoint::NotOffered);
    }
    let mut held: RestorePoints = folder.read_json(RESTORE_POINTS)?;
    if !held.is_switched_on {
        return Ok(RestorePoint::SwitchedOff);
    }
    let number = held.points.last().map_or(1, |point| point.number + 1);
    held.points.push(Point { number, description: description.to_owned() });
    folder.write_json(RESTORE_POINTS, &held)?;
    Ok(RestorePoint::Made { number })
}
