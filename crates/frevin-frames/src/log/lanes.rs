//! Places of a byte and numbers out of text, several at once: as wide as the processor has it.

#[cfg(target_arch = "x86_64")]
use fearless_simd::{Avx2, Level, Simd as _, prelude::*};

use super::number::{POWERS, long_number, places_of, power_behind, short_number};

/// Bytes that are looked at together: as many as a word has bits.
pub(super) const WINDOW: usize = 64;
/// Numbers that are read together.
pub(super) const LANES: usize = 4;

/// Four numbers of at most eight bytes each.
pub(super) struct Words {
    /// Eight bytes from the first of each number on, the first byte lowest.
    pub(super) bytes: [u64; LANES],
    /// How many bits of those are not the number's: 0 to 56.
    pub(super) spare_bits: [u64; LANES],
}

/// Four numbers of eight to sixteen bytes each.
pub(super) struct LongWords {
    /// The last eight bytes of each.
    pub(super) last: [u64; LANES],
    /// Eight bytes from the first of each number on.
    pub(super) first: [u64; LANES],
    /// How many bits of those belong to `last` or to no number at all: 0 to 64.
    pub(super) spare_bits: [u64; LANES],
}

/// Where the points of the last four numbers were, and the powers of ten that follow: numbers of one
/// column are mostly written alike.
#[derive(Clone, Copy)]
pub(super) struct Powers {
    points: [u64; LANES],
    powers: [f64; LANES],
}

impl Default for Powers {
    fn default() -> Self {
        Self { points: [0; LANES], powers: [1.0; LANES] }
    }
}

/// What a processor can do with many bytes at once.
pub(super) trait Lanes: Copy {
    /// Which of the bytes of a window are this one: the lowest bit for the first.
    fn places_of(self, window: &[u8; WINDOW], byte: u8) -> u64;

    /// Four numbers of digits and at most one point each; nothing where one of them is none.
    fn numbers(self, words: &Words, powers: &mut Powers) -> Option<[f64; LANES]>;

    /// As [`Self::numbers`], of longer ones.
    fn long_numbers(self, words: &LongWords) -> Option<[f64; LANES]>;
}

/// Whatever every processor has.
#[derive(Clone, Copy)]
pub(super) struct Narrow;

impl Lanes for Narrow {
    #[inline(always)]
    fn places_of(self, window: &[u8; WINDOW], byte: u8) -> u64 {
        // Moves the highest bit of each of eight bytes together into the highest byte.
        const GATHER: u64 = 0x0002_0408_1020_4081;
        let mut places = 0;
        for (index, word) in window.as_chunks::<8>().0.iter().enumerate() {
            let found = places_of(byte, u64::from_le_bytes(*word));
            places |= (found.wrapping_mul(GATHER) >> 56) << (8 * index);
        }
        places
    }

    #[inline(always)]
    fn numbers(self, words: &Words, _: &mut Powers) -> Option<[f64; LANES]> {
        let mut numbers = [0.0; LANES];
        for (number, (word, spare)) in
            numbers.iter_mut().zip(words.bytes.iter().zip(words.spare_bits))
        {
            *number = short_number(*word, spare)?;
        }
        Some(numbers)
    }

    #[inline(always)]
    fn long_numbers(self, words: &LongWords) -> Option<[f64; LANES]> {
        let mut numbers = [0.0; LANES];
        for (lane, number) in numbers.iter_mut().enumerate() {
            let first = words.first[lane].checked_shl(words.spare_bits[lane] as u32).unwrap_or(0);
            let bytes = u128::from(words.last[lane]) << 64 | u128::from(first);
            *number = long_number(bytes, (128 - words.spare_bits[lane]) as usize / 8)?;
        }
        Some(numbers)
    }
}

/// What processors of 2013 and later have.
#[cfg(target_arch = "x86_64")]
#[derive(Clone, Copy)]
pub(super) struct Wide(Avx2);

#[cfg(target_arch = "x86_64")]
impl Wide {
    /// Where this processor has it.
    pub(super) fn new() -> Option<Self> {
        Level::new().as_avx2().map(Self)
    }

    /// Does what is compiled for such processors together with this.
    #[inline(always)]
    pub(super) fn run<T>(self, work: impl FnOnce() -> T) -> T {
        self.0.vectorize(work)
    }
}

#[cfg(target_arch = "x86_64")]
impl Lanes for Wide {
    #[inline(always)]
    fn places_of(self, window: &[u8; WINDOW], byte: u8) -> u64 {
        let byte = fearless_simd::u8x32::splat(self.0, byte);
        let [low, high] = [0, 1].map(|half| {
            let half = fearless_simd::u8x32::from_slice(self.0, &window[32 * half..32 * half + 32]);
            half.simd_eq(byte).to_bitmask()
        });
        low | high << 32
    }

    #[inline(always)]
    fn numbers(self, words: &Words, powers: &mut Powers) -> Option<[f64; LANES]> {
        four_numbers(self.0, words, powers)
    }

    #[inline(always)]
    fn long_numbers(self, words: &LongWords) -> Option<[f64; LANES]> {
        four_long_numbers(self.0, words)
    }
}

#[cfg(target_arch = "x86_64")]
fearless_simd::kernel!(
    /// The numbers of four words of eight digits, 0 to 9, the first lowest: neighbours, then pairs, then fours.
    #[inline]
    fn eight_digits(avx2: Avx2, digits: std::arch::x86_64::__m256i) -> std::arch::x86_64::__m256d {
        use std::arch::x86_64::*;

        const TWO_TO_THE_52: f64 = 4_503_599_627_370_496.0;
        let pairs = _mm256_maddubs_epi16(digits, _mm256_set1_epi16(0x010A));
        let fours = _mm256_madd_epi16(pairs, _mm256_set1_epi32(0x0001_0064));
        let whole = _mm256_add_epi64(
            _mm256_mul_epu32(fours, _mm256_set1_epi64x(10_000)),
            _mm256_srli_epi64::<32>(fours),
        );
        // 2^52 with these as its last bits, less 2^52.
        let big = _mm256_set1_pd(TWO_TO_THE_52);
        _mm256_sub_pd(_mm256_or_pd(_mm256_castsi256_pd(whole), big), big)
    }
);

#[cfg(target_arch = "x86_64")]
fearless_simd::kernel!(
    /// [`short_number`] of four at once, without a multiplication of 64 bits, which is slow here.
    #[inline]
    fn four_numbers(avx2: Avx2, words: &Words, powers: &mut Powers) -> Option<[f64; LANES]> {
        use fearless_simd::{f64x4, u64x4};
        use std::arch::x86_64::*;

        let of = |numbers: [u64; LANES]| -> __m256i { u64x4::simd_from(avx2, numbers).into() };
        let each = |byte: u8| _mm256_set1_epi8(byte.cast_signed());
        // Digits become 0 to 9 and a point 254; the last byte becomes the highest, and those before the
        // number 0.
        let bytes = _mm256_sub_epi8(of(words.bytes), each(b'0'));
        let bytes = _mm256_sllv_epi64(bytes, of(words.spare_bits));
        let point = _mm256_cmpeq_epi8(bytes, each(b'.'.wrapping_sub(b'0')));
        let from_point = _mm256_or_si256(point, _mm256_sub_epi64(_mm256_setzero_si256(), point));
        // What is before the point moves up by its place, towards what is behind it.
        let behind = _mm256_and_si256(_mm256_slli_epi64::<8>(from_point), bytes);
        let before = _mm256_andnot_si256(from_point, bytes);
        let moved = _mm256_and_si256(_mm256_srli_epi64::<60>(from_point), _mm256_set1_epi64x(8));
        let digits = _mm256_or_si256(behind, _mm256_sllv_epi64(before, moved));
        let beyond = _mm256_subs_epu8(digits, each(9));
        if _mm256_testz_si256(beyond, beyond) == 0 {
            return None;
        }
        let apart = _mm256_xor_si256(point, of(powers.points));
        if _mm256_testz_si256(apart, apart) == 0 {
            let points: [u64; LANES] = u64x4::simd_from(avx2, point).into();
            // A point that nothing follows may be all that there is.
            if points.iter().any(|point| point >> 63 == 1) {
                return None;
            }
            powers.points = points;
            let from_point: [u64; LANES] = u64x4::simd_from(avx2, from_point).into();
            powers.powers = from_point.map(power_behind);
        }
        let whole: f64x4<Avx2> = eight_digits(avx2, digits).simd_into(avx2);
        let powers: f64x4<Avx2> = powers.powers.simd_into(avx2);
        Some((whole / powers).into())
    }
);

#[cfg(target_arch = "x86_64")]
fearless_simd::kernel!(
    /// [`long_number`] of four at once.
    #[inline]
    fn four_long_numbers(avx2: Avx2, words: &LongWords) -> Option<[f64; LANES]> {
        use fearless_simd::{f64x4, u64x4};
        use std::arch::x86_64::*;

        const TWO_TO_THE_53: f64 = 9_007_199_254_740_992.0;
        let of = |numbers: [u64; LANES]| -> __m256i { u64x4::simd_from(avx2, numbers).into() };
        let each = |byte: u8| _mm256_set1_epi8(byte.cast_signed());
        let zero = _mm256_setzero_si256();
        let last = _mm256_sub_epi8(of(words.last), each(b'0'));
        let first = _mm256_sub_epi8(of(words.first), each(b'0'));
        // Before the number there is 0.
        let first = _mm256_sllv_epi64(first, of(words.spare_bits));
        let point = |bytes| _mm256_cmpeq_epi8(bytes, each(b'.'.wrapping_sub(b'0')));
        let (in_last, in_first) = (point(last), point(first));
        let from = |point| _mm256_or_si256(point, _mm256_sub_epi64(zero, point));
        let whole_word = |point| _mm256_cmpeq_epi64(point, zero);
        // Whether the point is in the first word; all bits of the last one are behind it then.
        let is_in_first = _mm256_andnot_si256(whole_word(in_first), _mm256_set1_epi64x(-1));
        let from_last = _mm256_or_si256(from(in_last), is_in_first);
        let from_first = from(in_first);
        let has_point = _mm256_or_si256(
            is_in_first,
            _mm256_andnot_si256(whole_word(in_last), _mm256_set1_epi64x(-1)),
        );
        // What is before the point moves up by its place, from the first word into the last where the point
        // is there.
        let eight = _mm256_and_si256(has_point, _mm256_set1_epi64x(8));
        let behind_first = _mm256_and_si256(_mm256_slli_epi64::<8>(from_first), first);
        let before_first = _mm256_andnot_si256(from_first, first);
        let digits_first = _mm256_or_si256(behind_first, _mm256_sllv_epi64(before_first, eight));
        let point_place = _mm256_andnot_si256(is_in_first, _mm256_slli_epi64::<8>(from_last));
        let behind_last = _mm256_and_si256(_mm256_or_si256(point_place, is_in_first), last);
        let before_last = _mm256_andnot_si256(from_last, last);
        let carried = _mm256_andnot_si256(
            is_in_first,
            _mm256_and_si256(has_point, _mm256_srli_epi64::<56>(first)),
        );
        let digits_last = _mm256_or_si256(
            _mm256_or_si256(behind_last, carried),
            _mm256_sllv_epi64(before_last, eight),
        );
        let beyond = _mm256_or_si256(
            _mm256_subs_epu8(digits_first, each(9)),
            _mm256_subs_epu8(digits_last, each(9)),
        );
        if _mm256_testz_si256(beyond, beyond) == 0 {
            return None;
        }
        let whole = _mm256_add_pd(
            _mm256_mul_pd(eight_digits(avx2, digits_first), _mm256_set1_pd(1e8)),
            eight_digits(avx2, digits_last),
        );
        let is_beyond = _mm256_cmp_pd::<_CMP_GE_OQ>(whole, _mm256_set1_pd(TWO_TO_THE_53));
        if _mm256_movemask_pd(is_beyond) != 0 {
            return None;
        }
        let behind: [[u64; LANES]; 2] = [
            u64x4::simd_from(avx2, _mm256_slli_epi64::<8>(from_first)).into(),
            u64x4::simd_from(avx2, _mm256_or_si256(point_place, is_in_first)).into(),
        ];
        let mut powers = [1.0; LANES];
        for (lane, power) in powers.iter_mut().enumerate() {
            let bits = behind[0][lane].count_ones() + behind[1][lane].count_ones();
            *power = POWERS[(bits as usize / 8) & 15];
        }
        let whole: f64x4<Avx2> = whole.simd_into(avx2);
        Some((whole / f64x4::simd_from(avx2, powers)).into())
    }
);

#[cfg(target_arch = "x86_64")]
#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn places_are_found_by_every_processor(
            window in prop::array::uniform32(prop_oneof![
                Just(b','), Just(b'\n'), Just(b'-'), Just(b'.'), any::<u8>(),
            ]),
            byte in prop_oneof![Just(b','), Just(b'\n'), Just(0), Just(255), any::<u8>()],
        ) {
            let mut whole = [b'x'; WINDOW];
            whole[..32].copy_from_slice(&window);
            whole[32..].iter_mut().zip(window.iter().rev()).for_each(|(to, from)| *to = *from);
            let expected = (0..WINDOW)
                .filter(|place| whole[*place] == byte)
                .fold(0_u64, |places, place| places | 1 << place);
            prop_assert_eq!(Narrow.places_of(&whole, byte), expected);
            if let Some(wide) = Wide::new() {
                prop_assert_eq!(wide.places_of(&whole, byte), expected);
            }
        }

        /// Powers that are left from one row serve the next only where it is written alike.
        #[test]
        fn short_numbers_are_the_same_on_every_processor(
            rows in prop::collection::vec(
                prop::array::uniform4(prop_oneof![
                    4 => "[0-9]{2}[.][0-9]{4}", 2 => "[0-9]{1,8}", 2 => "[0-9]{0,4}[.][0-9]{1,3}",
                    1 => "[0-9]{1,7}[.]", 1 => "[-x0-9./:]{1,8}",
                ]),
                1..6,
            ),
        ) {
            let (mut of_wide, mut of_narrow) = (Powers::default(), Powers::default());
            for numbers in rows {
                let word = |text: &String| {
                    let mut bytes = [b';'; 8];
                    bytes[..text.len()].copy_from_slice(text.as_bytes());
                    u64::from_le_bytes(bytes)
                };
                let words = Words {
                    bytes: numbers.each_ref().map(word),
                    spare_bits: numbers.each_ref().map(|text| 64 - 8 * text.len() as u64),
                };
                let narrow = Narrow.numbers(&words, &mut of_narrow);
                if let Some(wide) = Wide::new() {
                    prop_assert_eq!(wide.numbers(&words, &mut of_wide), narrow);
                }
                if let Some(values) = narrow {
                    let expected = numbers.map(|number| number.parse::<f64>().unwrap());
                    prop_assert_eq!(values, expected);
                }
            }
        }

        #[test]
        fn long_numbers_are_the_same_on_every_processor(
            numbers in prop::array::uniform4(prop_oneof![
                4 => "[0-9]{8,16}", 4 => "[0-9]{1,8}[.][0-9]{7,7}", 2 => "[0-9]{7,7}[.][0-9]{0,8}",
                1 => "[0-9.]{8,16}", 1 => "[-x0-9./:]{8,16}",
            ]),
        ) {
            let word = |bytes: &[u8]| u64::from_le_bytes(*bytes.first_chunk().unwrap());
            let words = LongWords {
                last: numbers.each_ref().map(|text| word(&text.as_bytes()[text.len() - 8..])),
                first: numbers.each_ref().map(|text| word(text.as_bytes())),
                spare_bits: numbers.each_ref().map(|text| 128 - 8 * text.len() as u64),
            };
            let narrow = Narrow.long_numbers(&words);
            if let Some(wide) = Wide::new() {
                prop_assert_eq!(wide.long_numbers(&words), narrow);
            }
            if let Some(values) = narrow {
                let expected = numbers.map(|number| number.parse::<f64>().unwrap());
                prop_assert_eq!(values, expected);
            }
        }
    }
}
