//! A folder that another program writes its logs into.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant, SystemTime};

use crate::failure::{Failure, Kind};

/// How often the folder is looked into.
const PAUSE: Duration = Duration::from_millis(200);

/// What is seen of a file from outside.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Stamp {
    bytes: u64,
    changed: Option<SystemTime>,
}

/// A file that is new, or has grown, and since when it has been as it is.
#[derive(Debug, Clone, Copy)]
struct Growing {
    stamp: Stamp,
    /// By the watch's own clock, counted from its beginning.
    since: Duration,
}

/// A folder that is watched.
#[derive(Debug)]
pub(crate) struct WatchedFolder {
    folder: PathBuf,
    begun: Instant,
    sightings: Sightings,
}

/// What has been seen in a folder. It knows no clock: moments are given to it.
#[derive(Debug)]
struct Sightings {
    /// Files as they were at first, or when they were given out.
    known: BTreeMap<PathBuf, Stamp>,
    growing: BTreeMap<PathBuf, Growing>,
}

impl Sightings {
    fn new(first: BTreeMap<PathBuf, Stamp>) -> Self {
        Self { known: first, growing: BTreeMap::new() }
    }

    /// Takes in what the folder holds now, and gives the file that was finished first, if one was:
    /// one that is not empty and has not changed for `unchanged_for`.
    fn observe(
        &mut self,
        now: Duration,
        listing: &BTreeMap<PathBuf, Stamp>,
        unchanged_for: Duration,
    ) -> Option<PathBuf> {
        self.growing.retain(|path, _| listing.contains_key(path));
        for (path, stamp) in listing {
            if self.known.get(path) == Some(stamp) {
                continue;
            }
            match self.growing.get(path) {
                Some(growing) if growing.stamp == *stamp => {}
                _ => {
                    let growing = Growing { stamp: *stamp, since: now };
                    self.growing.insert(path.clone(), growing);
                }
            }
        }
        let is_finished = |growing: &Growing| {
            growing.stamp.bytes > 0 && now.saturating_sub(growing.since) >= unchanged_for
        };
        let finished = self.growing.iter().filter(|(_, growing)| is_finished(growing));
        let (path, growing) = finished.min_by_key(|(_, growing)| growing.since)?;
        let (path, stamp) = (path.clone(), growing.stamp);
        self.growing.remove(&path);
        self.known.insert(path.clone(), stamp);
        Some(path)
    }
}

impl WatchedFolder {
    /// Begins to watch: what lies in the folder now, and does not change any more, is of the past.
    pub(crate) fn new(folder: &Path) -> Result<Self, Failure> {
        let first = listing(folder)?;
        let folder = folder.to_owned();
        Ok(Self { folder, begun: Instant::now(), sightings: Sightings::new(first) })
    }

    /// Waits for the next file that is finished, until `deadline`.
    pub(crate) fn next(
        &mut self,
        unchanged_for: Duration,
        deadline: Instant,
    ) -> Result<Option<PathBuf>, Failure> {
        loop {
            let listing = listing(&self.folder)?;
            let now = self.begun.elapsed();
            if let Some(path) = self.sightings.observe(now, &listing, unchanged_for) {
                return Ok(Some(path));
            }
            if Instant::now() >= deadline {
                return Ok(None);
            }
            std::thread::sleep(PAUSE);
        }
    }
}

fn listing(folder: &Path) -> Result<BTreeMap<PathBuf, Stamp>, Failure> {
    let not_there = |error: std::io::Error| {
        Failure::new(Kind::NotFound, format!("{} cannot be watched: {error}", folder.display()))
            .hint("name the folder that the other program writes its logs into")
    };
    let mut found = BTreeMap::new();
    for entry in std::fs::read_dir(folder).map_err(not_there)? {
        let entry = entry.map_err(not_there)?;
        // A file that goes while it is looked at is not there.
        let Ok(metadata) = std::fs::metadata(entry.path()) else { continue };
        if metadata.is_file() {
            let stamp = Stamp { bytes: metadata.len(), changed: metadata.modified().ok() };
            found.insert(entry.path(), stamp);
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(files: &[(&str, u64)]) -> BTreeMap<PathBuf, Stamp> {
        let file = |(name, bytes): &(&str, u64)| {
            (PathBuf::from(name), Stamp { bytes: *bytes, changed: None })
        };
        files.iter().map(file).collect()
    }

    #[test]
    fn a_file_is_finished_when_it_has_stopped_growing() {
        let quiet = Duration::from_secs(3);
        let mut seen = Sightings::new(files(&[("old", 5), ("older", 9)]));
        let mut at = |second: u64, listing: &[(&str, u64)]| {
            let found = seen.observe(Duration::from_secs(second), &files(listing), quiet);
            found.map(|path| path.display().to_string())
        };
        assert_eq!(at(0, &[("old", 5), ("older", 9)]), None, "what was there is of the past");
        assert_eq!(at(5, &[("old", 5), ("new", 0)]), None);
        assert_eq!(at(9, &[("old", 5), ("new", 0)]), None, "nothing has been written yet");
        assert_eq!(at(10, &[("old", 5), ("new", 70)]), None);
        assert_eq!(at(12, &[("old", 5), ("new", 90)]), None, "it grows still");
        assert_eq!(at(14, &[("old", 6), ("new", 90)]), None, "an old one that goes on counts too");
        assert_eq!(at(15, &[("old", 6), ("new", 90)]).as_deref(), Some("new"));
        assert_eq!(at(16, &[("old", 6), ("new", 90)]), None, "each is given once");
        assert_eq!(at(17, &[("old", 6), ("new", 90)]).as_deref(), Some("old"));
        assert_eq!(at(18, &[("old", 6), ("gone", 1)]), None);
        assert_eq!(at(19, &[("old", 6)]), None);
        assert_eq!(at(30, &[("old", 6)]), None, "a file that has gone is no log");
    }

    #[test]
    fn of_two_that_are_finished_the_one_that_was_finished_first_comes_first() {
        let mut seen = Sightings::new(BTreeMap::new());
        let mut at = |second: u64, listing: &[(&str, u64)]| {
            seen.observe(Duration::from_secs(second), &files(listing), Duration::from_secs(5))
        };
        at(1, &[("z", 1)]);
        at(2, &[("z", 1), ("a", 1)]);
        assert_eq!(at(20, &[("z", 1), ("a", 1)]), Some("z".into()));
        assert_eq!(at(20, &[("z", 1), ("a", 1)]), Some("a".into()));
    }
}
