//! Numbers and times as logs write them.

use jiff::civil::DateTime;

/// The longest cell that can hold a number.
const LONGEST_NUMBER: usize = 64;
const NS_IN_S: f64 = 1e9;

/// A number. Where a comma is no separator it is the decimal mark. Where there are points as well, the
/// last of the two marks decimals and the other groups digits.
pub(super) fn number(cell: &[u8]) -> Option<f64> {
    if let Ok(number) = fast_float2::parse(cell) {
        return Some(number);
    }
    if cell.len() > LONGEST_NUMBER || !cell.contains(&b',') {
        return None;
    }
    let last_of = |mark: u8| cell.iter().rposition(|byte| *byte == mark);
    let group = match (last_of(b'.'), last_of(b',')) {
        (Some(point), Some(comma)) if comma > point => Some(b'.'),
        (Some(_), _) => Some(b','),
        _ => None,
    };
    let mut written = [0; LONGEST_NUMBER];
    let mut length = 0;
    for byte in cell.iter().filter(|byte| Some(**byte) != group) {
        written[length] = if *byte == b',' { b'.' } else { *byte };
        length += 1;
    }
    fast_float2::parse(&written[..length]).ok()
}

pub(super) const ONES: u64 = 0x0101_0101_0101_0101;
const LOW_BITS: u64 = 0x7f7f_7f7f_7f7f_7f7f;

/// The highest bit of each byte of a word that is this one, and no other bit.
#[inline(always)]
pub(super) fn places_of(byte: u8, word: u64) -> u64 {
    let word = word ^ (ONES * u64::from(byte));
    !(((word & LOW_BITS) + LOW_BITS) | word | LOW_BITS)
}

/// Where a cell of the row at the beginning of `bytes` begins and ends, if the row has as many.
///
/// Cells are a few bytes long: eight bytes are looked at together, which takes less than the calls of
/// searches that are made for long texts.
#[inline]
pub(super) fn nth_cell(bytes: &[u8], separator: u8, index: usize) -> Option<(usize, usize)> {
    let (mut start, mut left, mut at) = (0, index, 0);
    // Whether the search ends at a byte, and with what.
    let mut meet = |place: usize, is_end: bool| {
        if left == 0 {
            return Some(Some((start, place)));
        }
        (start, left) = (place + 1, left - 1);
        is_end.then_some(None)
    };
    while let Some(word) = bytes.get(at..at + 8).and_then(|word| word.first_chunk::<8>()) {
        let word = u64::from_le_bytes(*word);
        let ends = places_of(b'\n', word);
        let mut found = places_of(separator, word) | ends;
        while found != 0 {
            let bit = found.trailing_zeros();
            if let Some(end) = meet(at + bit as usize / 8, ends >> bit & 1 == 1) {
                return end;
            }
            found &= found - 1;
        }
        at += 8;
    }
    for (place, byte) in bytes.iter().enumerate().skip(at) {
        if (*byte == separator || *byte == b'\n')
            && let Some(end) = meet(place, *byte == b'\n')
        {
            return end;
        }
    }
    (left == 0).then_some((start, bytes.len()))
}

/// The number that a word holds: digits and at most one point, the first byte lowest, with so many bits
/// of the word beyond the number's own, 0 to 56.
///
/// A whole number below 2^53 and a power of ten up to 10^22 are floating point numbers exactly, so that
/// one division gives the nearest one (Clinger 1990).
#[inline(always)]
pub(super) fn short_number(word: u64, spare_bits: u64) -> Option<f64> {
    // Digits become 0 to 9; the last byte becomes the highest, and those before the number 0.
    let bytes = (word ^ (ONES * 0x30)) << spare_bits;
    let point = places_of(b'.' ^ b'0', bytes);
    // All bits from those of the point upwards.
    let from_point = ((point & point.wrapping_neg()) >> 7).wrapping_neg();
    // What is before the point moves up by its place, towards what is behind it.
    let digits = bytes & (from_point << 8) | (bytes & !from_point) << (from_point >> 60 & 8);
    let beyond = (digits | digits.wrapping_add(ONES * 6)) & (ONES * 0xf0);
    // A point that nothing follows is left to others: it may be all that there is.
    (beyond == 0 && point >> 63 == 0)
        .then(|| eight_digits(digits) as f64 / power_behind(from_point))
}

/// As [`short_number`], of a cell of up to sixteen bytes; nothing where there are too few bytes behind it.
#[inline]
pub(super) fn longer_number(bytes: &[u8], start: usize, end: usize) -> Option<f64> {
    let length = end - start;
    if !(1..=16).contains(&length) {
        return None;
    }
    let word = u128::from_le_bytes(*bytes.get(start..start + 16)?.first_chunk()?);
    long_number(word << (128 - 8 * length), length)
}

/// The number of so many bytes that a word ends with, the last byte highest; whatever is below is 0.
#[inline(always)]
pub(super) fn long_number(word: u128, length: usize) -> Option<f64> {
    const ONES: u128 = 0x0101_0101_0101_0101_0101_0101_0101_0101;
    const LOW_BITS: u128 = ONES * 0x7f;
    let bytes = word ^ ((ONES * 0x30) << (128 - 8 * length));
    let apart = bytes ^ (ONES * u128::from(b'.' ^ b'0'));
    let point = !(((apart & LOW_BITS) + LOW_BITS) | apart | LOW_BITS);
    let from_point = ((point & point.wrapping_neg()) >> 7).wrapping_neg();
    let digits =
        bytes & (from_point << 8) | (bytes & !from_point) << ((from_point >> 120) as u32 & 8);
    let beyond = (digits | digits.wrapping_add(ONES * 6)) & (ONES * 0xf0);
    let whole = eight_digits(digits as u64) * 100_000_000 + eight_digits((digits >> 64) as u64);
    let behind = (from_point << 8).count_ones() / 8;
    let is_one = beyond == 0 && (point == 0 || length > 1) && whole < 1 << 53;
    is_one.then(|| whole as f64 / POWERS[behind as usize & 15])
}

/// Powers of ten, each a floating point number exactly.
pub(super) const POWERS: [f64; 16] =
    [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15];

/// The power of ten that a number of eight bytes is divided by, from all bits of its word from the point
/// upwards.
#[inline(always)]
pub(super) fn power_behind(from_point: u64) -> f64 {
    POWERS[((from_point << 8).count_ones() / 8) as usize & 7]
}

/// Eight digits, 0 to 9, the first lowest, by three multiplications: neighbours, then pairs, then fours.
#[inline(always)]
fn eight_digits(digits: u64) -> u64 {
    let pairs = digits.wrapping_mul(2561) >> 8;
    let fours = (pairs & 0x00ff_00ff_00ff_00ff).wrapping_mul(6_553_601) >> 16;
    (fours & 0x0000_ffff_0000_ffff).wrapping_mul(42_949_672_960_001) >> 32
}

/// The whole part of a number, exactly, and the part below one: what was shown days after its
/// clock began has more digits than one floating point number holds.
pub(super) fn exact(cell: &[u8]) -> Option<(i64, f64)> {
    let text = std::str::from_utf8(cell).ok()?;
    let mark = text.find(['.', ',']).unwrap_or(text.len());
    let (whole, below) = text.split_at(mark);
    let below = match below.get(1..) {
        None | Some("") => 0.0,
        Some(digits) if digits.bytes().all(|digit| digit.is_ascii_digit()) => {
            format!("0.{digits}").parse().ok()?
        }
        Some(_) => return None,
    };
    let whole: i64 = whole.parse().ok()?;
    Some((whole, if text.starts_with('-') { -below } else { below }))
}

/// A time of day or a date with one, in nanoseconds; whether it has a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Clock {
    pub(super) ns: i64,
    pub(super) is_dated: bool,
}

/// A time written with colons: `1:02:03.5`, `02:03,5`, or after a date as ISO 8601 writes it.
pub(super) fn clock(cell: &[u8]) -> Option<Clock> {
    let text = std::str::from_utf8(cell).ok().filter(|text| text.contains(':'))?;
    if text.len() > LONGEST_NUMBER {
        return None;
    }
    if text.starts_with(|first: char| first.is_ascii_digit()) && text.contains('-') {
        let ns = match text.parse::<jiff::Timestamp>() {
            Ok(timestamp) => timestamp.as_nanosecond(),
            Err(_) => {
                let zoned = text.parse::<DateTime>().ok()?.to_zoned(jiff::tz::TimeZone::UTC);
                zoned.ok()?.timestamp().as_nanosecond()
            }
        };
        return Some(Clock { ns: i64::try_from(ns).ok()?, is_dated: true });
    }
    let parts: Vec<&str> = text.split(':').collect();
    let (last, before) = parts.split_last()?;
    if before.len() > 2 || !last.starts_with(|first: char| first.is_ascii_digit()) {
        return None;
    }
    let (seconds, below) = exact(last.as_bytes())?;
    let mut whole = 0_i64;
    for part in before {
        let digits =
            (1..=4).contains(&part.len()) && part.bytes().all(|byte| byte.is_ascii_digit());
        whole = whole * 60 + part.parse::<i64>().ok().filter(|_| digits)?;
    }
    let whole = whole.checked_mul(60)?.checked_add(seconds)?.checked_mul(1_000_000_000)?;
    Some(Clock { ns: whole + (below * NS_IN_S).round() as i64, is_dated: false })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_are_read_as_they_are_written() {
        for (cell, expected) in [
            ("16.7", 16.7),
            ("16,7", 16.7),
            ("1,234.5", 1234.5),
            ("1.234,5", 1234.5),
            ("1e-3", 0.001),
            ("-4", -4.0),
            ("+4", 4.0),
        ] {
            assert_eq!(number(cell.as_bytes()), Some(expected), "{cell}");
        }
        for cell in ["", "x", "16.7 ms", "1,2,3", "--1", "12:30"] {
            assert_eq!(number(cell.as_bytes()), None, "{cell}");
        }
        assert_eq!(exact(b"1763900000123456789"), Some((1_763_900_000_123_456_789, 0.0)));
        assert_eq!(exact(b"-2.25"), Some((-2, -0.25)));
        assert_eq!(exact(b"1e5"), None);
    }

    proptest! {
        #[test]
        fn plain_numbers_are_what_the_library_reads(
            number in prop_oneof![
                "[0-9]{1,16}", "[0-9]{0,6}[.][0-9]{0,6}", "[0-9]{1,9}[.][0-9]{0,7}", "[-+0-9.e/:]{0,17}"
            ],
            rest in "[,;\n x][0-9]{16}",
        ) {
            let text = format!("x{number}{rest}");
            let end = 1 + number.len();
            let expected: Option<f64> = number.parse().ok();
            let is_plain = number.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
            match longer_number(text.as_bytes(), 1, end) {
                Some(value) => prop_assert_eq!(expected, Some(value)),
                None => {
                    let is_long = number.len() > 16 || expected >= Some(2_f64.powi(53));
                    prop_assert!(expected.is_none() || is_long || !is_plain);
                }
            }
            if (1..=8).contains(&number.len()) {
                let word = u64::from_le_bytes(*text.as_bytes()[1..].first_chunk().unwrap());
                match short_number(word, 64 - 8 * number.len() as u64) {
                    Some(value) => prop_assert_eq!(expected, Some(value)),
                    None => prop_assert!(expected.is_none() || number.ends_with('.') || !is_plain),
                }
            }
        }

        #[test]
        fn cells_are_found(text in "[ab,\n]{0,40}", index in 0..5_usize) {
            let line = text.split('\n').next().unwrap_or_default();
            let expected = line.split(',').nth(index);
            let found = nth_cell(text.as_bytes(), b',', index).map(|(start, end)| &text[start..end]);
            prop_assert_eq!(found, expected);
        }
    }

    #[test]
    fn clocks_are_read_to_the_nanosecond() {
        let ns = |text: &str| clock(text.as_bytes()).map(|clock| clock.ns);
        assert_eq!(ns("00:00:01.016"), Some(1_016_000_000));
        assert_eq!(ns("1:02:03,5"), Some(3_723_500_000_000));
        assert_eq!(ns("02:03"), Some(123_000_000_000));
        let dated = clock(b"2026-11-23 10:00:00.25").unwrap();
        assert!(dated.is_dated);
        assert_eq!(dated.ns - ns("2026-11-23T10:00:00Z").unwrap(), 250_000_000);
        for text in ["12", "a:b", "1:2:3:4", ":", "12:-3", "2026-13-01 10:00:00"] {
            assert_eq!(ns(text), None, "{text}");
        }
    }
}
