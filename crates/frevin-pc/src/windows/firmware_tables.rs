//! What the firmware's tables say of the PC ("System Management BIOS Reference Specification",
//! DSP0134), as Windows hands them over (`RawSMBIOSData`).

use frevin_core::facts::Form;

/// What is taken from the tables.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct FirmwareTables {
    /// The shape of the case.
    pub(super) form: Option<Form>,
    /// The lowest speed that the memory modules are made for, in millions of transfers a second.
    pub(super) rated_mt_s: Option<u32>,
    /// The lowest speed that the memory modules run at.
    pub(super) actual_mt_s: Option<u32>,
    /// How many modules of memory are fitted.
    pub(super) modules: Option<u32>,
}

const SYSTEM_ENCLOSURE: u8 = 3;
const MEMORY_DEVICE: u8 = 17;

/// Reads Windows' header and the structures after it. What is cut off or makes no sense is left out.
pub(super) fn read(raw: &[u8]) -> FirmwareTables {
    let mut tables = FirmwareTables::default();
    // The calling method, two version numbers, a revision, and the length of what follows.
    let Some((header, mut rest)) = raw.split_at_checked(8) else { return tables };
    let length = u32::from_le_bytes([header[4], header[5], header[6], header[7]]);
    rest = rest.get(..usize::try_from(length).unwrap_or(usize::MAX)).unwrap_or(rest);
    while let Some((structure, after)) = next(rest) {
        match structure.first() {
            Some(&SYSTEM_ENCLOSURE) if tables.form.is_none() => tables.form = form(structure),
            Some(&MEMORY_DEVICE) => {
                let lowest = |held: Option<u32>, new: Option<u32>| match (held, new) {
                    (Some(held), Some(new)) => Some(held.min(new)),
                    (held, new) => held.or(new),
                };
                if is_fitted(structure) {
                    tables.modules = Some(tables.modules.unwrap_or(0) + 1);
                    tables.rated_mt_s = lowest(tables.rated_mt_s, speed(structure, 0x15, 0x54));
                    tables.actual_mt_s = lowest(tables.actual_mt_s, speed(structure, 0x20, 0x58));
                }
            }
            _ => {}
        }
        rest = after;
    }
    tables
}

/// The formatted part of the first structure, and what follows its texts.
fn next(tables: &[u8]) -> Option<(&[u8], &[u8])> {
    let length = usize::from(*tables.get(1)?);
    if length < 4 {
        return None;
    }
    let (structure, texts) = tables.split_at_checked(length)?;
    let end = texts.windows(2).position(|pair| pair == [0, 0])?;
    Some((structure, &texts[end + 2..]))
}

fn form(enclosure: &[u8]) -> Option<Form> {
    // The highest bit says that the case can be locked.
    match enclosure.get(5)? & 0x7F {
        3..=7 | 13 | 15 | 16 | 24 | 35 | 36 => Some(Form::Desktop),
        8..=10 | 14 | 31 | 32 => Some(Form::Laptop),
        11 => Some(Form::Handheld),
        _ => None,
    }
}

fn word(structure: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes([*structure.get(at)?, *structure.get(at + 1)?]))
}

fn is_fitted(memory: &[u8]) -> bool {
    word(memory, 0x0C).is_some_and(|size| size != 0)
}

/// A speed, or the longer field for it where it is too high for the first. 0 is not known.
fn speed(memory: &[u8], at: usize, longer_at: usize) -> Option<u32> {
    match word(memory, at)? {
        0 => None,
        0xFFFF => {
            let (low, high) = (word(memory, longer_at)?, word(memory, longer_at + 2)?);
            Some((u32::from(high) << 16 | u32::from(low)) & 0x7FFF_FFFF)
        }
        speed => Some(speed.into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A structure of a type and a length, with bytes at places, and texts.
    fn structure(kind: u8, length: u8, bytes: &[(usize, u16)], texts: &[u8]) -> Vec<u8> {
        let mut structure = vec![0; length.into()];
        structure[..2].copy_from_slice(&[kind, length]);
        for (at, word) in bytes {
            structure[*at..*at + 2].copy_from_slice(&word.to_le_bytes());
        }
        structure.extend(texts);
        structure.extend([0, 0]);
        structure
    }

    fn raw(structures: &[Vec<u8>]) -> Vec<u8> {
        let tables = structures.concat();
        let length = u32::try_from(tables.len()).unwrap().to_le_bytes();
        [&[0, 3, 2, 0], &length[..], &tables].concat()
    }

    #[test]
    fn the_lowest_speeds_of_the_modules_that_are_fitted_count() {
        let enclosure = structure(3, 0x16, &[(5, 0x8A)], b"Maker\0Model");
        let slow = structure(17, 0x5C, &[(0x0C, 8192), (0x15, 3600), (0x20, 2666)], b"A");
        let empty = structure(17, 0x5C, &[(0x0C, 0), (0x15, 800), (0x20, 800)], b"B");
        let fast =
            structure(17, 0x5C, &[(0x0C, 0x7FFF), (0x15, 0xFFFF), (0x54, 6400), (0x20, 5600)], b"");
        let tables = read(&raw(&[enclosure, slow.clone(), empty, fast.clone()]));
        assert_eq!(
            tables,
            FirmwareTables {
                form: Some(Form::Laptop),
                rated_mt_s: Some(3600),
                actual_mt_s: Some(2666),
                modules: Some(2),
            }
        );
        assert_eq!(read(&raw(&[fast])).rated_mt_s, Some(6400));
        let short = structure(17, 0x15, &[(0x0C, 1024)], b"before speeds were told");
        let one = FirmwareTables { modules: Some(1), ..FirmwareTables::default() };
        assert_eq!(read(&raw(&[short])), one);
    }

    proptest! {
        #[test]
        fn nothing_in_the_tables_stops_it(raw in prop::collection::vec(any::<u8>(), 0..300)) {
            read(&raw);
        }
    }
}
