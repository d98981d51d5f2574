//! The result of Windows' own file checker, from the log of its servicing.

use std::collections::BTreeSet;

use jiff::civil::{Date, DateTime};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What Windows' own file checker found when it last ran.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FileCheck {
    /// The day on which it ended.
    pub on: Date,
    /// Files that it repaired.
    pub repaired: u32,
    /// Files that it found broken and could not repair.
    pub not_repaired: u32,
}

/// Lines of one check are never further apart.
const ONE_CHECK_MINUTES: i64 = 30;

impl FileCheck {
    /// The last check that a log, or the end of one, tells of; nothing where it tells of none that ended.
    ///
    /// The lines of the checker are marked `[SR]`, and the words are those of "Analyze the log file entries that
    /// the SFC.exe program generates" in the Windows documentation.
    pub fn of_log(log: &str) -> Option<Self> {
        let mut check = Checked::default();
        for (at, said) in log.lines().filter_map(checkers_line) {
            if check.last.is_some_and(|last| !is_soon_after(last, at)) {
                check = Checked::default();
            }
            check.last = Some(at);
            check.hear(said);
        }
        let on = check.last.filter(|_| check.has_ended)?.date();
        let count = |files: BTreeSet<&str>| u32::try_from(files.len()).unwrap_or(u32::MAX);
        Some(Self { on, repaired: count(check.repaired), not_repaired: count(check.not_repaired) })
    }
}

/// The moment of a line of the checker, and what it says.
fn checkers_line(line: &str) -> Option<(DateTime, &str)> {
    let (before, said) = line.split_once("[SR] ")?;
    let at = before.split(',').next()?.trim();
    Some((DateTime::strptime("%Y-%m-%d %H:%M:%S", at).ok()?, said.trim()))
}

fn is_soon_after(earlier: DateTime, later: DateTime) -> bool {
    let minutes = earlier.until((jiff::Unit::Minute, later)).map(|span| span.get_minutes());
    minutes.is_ok_and(|minutes| (0..=ONE_CHECK_MINUTES).contains(&minutes))
}

#[derive(Default)]
struct Checked<'a> {
    last: Option<DateTime>,
    has_ended: bool,
    /// Told in the words of the log: a file is told again in each part of the check that meets it.
    repaired: BTreeSet<&'a str>,
    not_repaired: BTreeSet<&'a str>,
}

impl<'a> Checked<'a> {
    fn hear(&mut self, said: &'a str) {
        if let Some(rest) = said.strip_prefix("Cannot repair member file ") {
            let file = rest.split_once(" of ").map_or(rest, |(file, _)| file);
            self.not_repaired.insert(file);
        } else if let Some(file) =
            said.strip_prefix("Repairing corrupted file ").or(said.strip_prefix("Repairing file "))
        {
            self.repaired.insert(file);
        } else if said.starts_with("Verify complete") || said.starts_with("Repair complete") {
            self.has_ended = true;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn check(log: &str) -> Option<(String, u32, u32)> {
        let check = FileCheck::of_log(log)?;
        Some((check.on.to_string(), check.repaired, check.not_repaired))
    }

    #[test]
    fn the_last_check_of_a_log_counts_each_file_once() {
        let log = r#"2026-10-01 09:00:00, Info                  CSI    00000005 [SR] Cannot repair member file [l:8]"old.dll" of Old, hash mismatch
2026-10-01 09:10:00, Info                  CSI    00000006 [SR] Verify complete
2026-11-02 20:00:00, Info                  CBS    Session: 1 initialized
2026-11-02 20:01:00, Info                  CSI    00000009 [SR] Verifying 100 components
2026-11-02 20:01:10, Info                  CSI    0000000b [SR] Cannot repair member file [l:12]"settings.exe" of Sample-Part, Version = 10.0, hash mismatch
2026-11-02 20:01:11, Info                  CSI    0000000d [SR] Verify complete
2026-11-02 20:09:10, Info                  CSI    0000001b [SR] Cannot repair member file [l:12]"settings.exe" of Sample-Part, Version = 10.0, hash mismatch
2026-11-02 20:09:12, Info                  CSI    0000001c [SR] Repairing corrupted file \??\C:\Windows\System32\sample.dll from store
2026-11-02 20:10:00, Info                  CSI    0000001e [SR] Repair complete
"#;
        assert_eq!(check(log), Some(("2026-11-02".to_owned(), 1, 1)));
        let first: String = log.lines().take(2).collect::<Vec<_>>().join("\n");
        assert_eq!(check(&first), Some(("2026-10-01".to_owned(), 0, 1)));
    }

    #[test]
    fn a_log_without_a_check_that_ended_tells_of_none() {
        assert_eq!(check(""), None);
        assert_eq!(
            check("2026-11-02 20:00:00, Info CBS Session: 1\nnonsense [SR] Verify complete"),
            None
        );
        assert_eq!(check("2026-11-02 20:00:00, Info CSI 1 [SR] Verifying 100 components"), None);
    }
}
