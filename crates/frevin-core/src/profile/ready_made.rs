//! Profiles to start from, which come with Frevin.

use include_dir::{Dir, include_dir};

use crate::ids::ProfileName;

static READY_MADE: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../profiles");

/// A profile that comes with Frevin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadyMade {
    /// Its name.
    pub name: ProfileName,
    /// Its document.
    pub document: &'static str,
}

/// Every profile that comes with Frevin, by name.
pub fn ready_made() -> Vec<ReadyMade> {
    let mut all: Vec<ReadyMade> = READY_MADE
        .files()
        .filter_map(|file| {
            let name = file.path().file_stem()?.to_str()?.parse().ok()?;
            Some(ReadyMade { name, document: file.contents_utf8()? })
        })
        .collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::profile::{NoBase, Profile, remarks, stand_alone};
    use crate::tweak::Catalogue;

    #[test]
    fn each_is_a_profile_that_stands_and_gives_every_line_its_reason() {
        let catalogue = Catalogue::built_in().unwrap();
        let all = ready_made();
        assert!(all.len() >= 9, "{all:?}");
        for profile in &all {
            let name = format!("{}.toml", profile.name);
            let read = Profile::parse(&name, profile.document, &catalogue).unwrap();
            assert_eq!(read.name, profile.name);
            for entry in &read.entries {
                assert!(entry.note.is_some(), "{name}: {} has no reason", entry.tweak);
            }
            let whole = stand_alone(&name, profile.document, &read, &mut |base| {
                let known = all.iter().find(|known| known.name == base.profile);
                let known = known.ok_or(NoBase::Unknown)?;
                Ok(Profile::parse("base.toml", known.document, &catalogue).unwrap())
            });
            let whole = whole.unwrap();
            let faults: Vec<_> = remarks(&whole, &catalogue, None)
                .into_iter()
                .filter(|remark| remark.kind.is_fault())
                .collect();
            assert_eq!(faults, [], "{name}");
        }
    }
}
