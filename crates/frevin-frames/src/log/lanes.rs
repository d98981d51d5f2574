//! Places of a byte and numbers out of text, several at once: as wide as the processor has it.

#[cfg(target_arch = "x86_64")]
use fearless_simd::{Avx2, Level, Simd as _, prelude::*};

use super::number::{POWERS, long_number, places_of, power_behind, short_number};

/// Bytes that are looked at together: as many as a word has bits.
pub(super) const WINDOW: usize = 64;
/// Numbers that are read together.
pub(super) const LANES: usize = 4;

/// Four cells of one column.
pub(super) struct FourCells<'a> {
    /// Eight bytes from the first of each on, the first byte lowest.
    pub(super) words: &'a [u64; LANES],
    /// Where they begin and end, in bytes.
    pub(super) start: &'a [u32; LANES],
    pub(super) end: &'a [u32; LANES],
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

    /// Whether all of four cells are this long and begin with the same: their words without so many of the highest
    /// bits, fewer than 64, are `first`, the last byte highest.
    fn are_all(self, cells: &FourCells<'_>, length: u32, first: u64, spare_bits: u64) -> bool;

    /// Four numbers of one to eight digits, of which one may be a point; nothing where one of them is none.
    fn numbers(self, cells: &FourCells<'_>, powers: &mut Powers) -> Option<[f64; LANES]>;

    /// As [`Self::numbers`], of eight to sixteen, of which these are the last eight bytes.
    fn long_numbers(self, cells: &FourCells<'_>, last: &[u64; LANES]) -> Option<[f64; LANES]>;
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
    fn are_all(self, cells: &FourCells<'_>, length: u32, first: u64, spare_bits: u64) -> bool {
        (0..LANES).all(|lane| {
            cells.end[lane].wrapping_sub(cells.start[lane]) == length
                && cells.words[lane] << (spare_bits % 64) == first
        })
    }

    #[inline(always)]
    fn numbers(self, cells: &FourCells<'_>, _: &mut Powers) -> Option<[f64; LANES]> {
        let mut numbers = [0.0; LANES];
        for (lane, number) in numbers.iter_mut().enumerate() {
            let length = cells.end[lane].wrapping_sub(cells.start[lane]);
            if !(1..=8).contains(&length) {
                return None;
            }
            *number = short_number(cells.words[lane], 64 - 8 * u64::from(length))?;
        }
        Some(numbers)
    }

    #[inline(always)]
    fn long_numbers(self, cells: &FourCells<'_>, last: &[u64; LANES]) -> Option<[f64; LANES]> {
        let mut numbers = [0.0; LANES];
        for (lane, number) in numbers.iter_mut().enumerate() {
            let length = cells.end[lane].wrapping_sub(cells.start[lane]);
            if !(8..=16).contains(&length) {
                return None;
            }
            let first = cells.words[lane].checked_shl(128 - 8 * length).unwrap_or(0);
            let bytes = u128::from(last[lane]) << 64 | u128::from(first);
            *number = long_number(bytes, length as usize)?;
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
    fn are_all(self, cells: &FourCells<'_>, length: u32, first: u64, spare_bits: u64) -> bool {
        four_are_all(self.0, cells, length, first, spare_bits)
    }

    #[inline(always)]
    fn numbers(self, cells: &FourCells<'_>, powers: &mut Powers) -> Option<[f64; LANES]> {
        four_numbers(self.0, cells, powers)
    }

    #[inline(always)]
    fn long_numbers(self, cells: &FourCells<'_>, last: &[u64; LANES]) -> Option<[f64; LANES]> {
        four_long_numbers(self.0, cells, last)
    }
}

#[cfg(target_arch = "x86_64")]
fearless_simd::kernel!(
    /// How many bytes each of four cells has.
    #[inline]
    fn four_lengths(avx2: Avx2, cells: &FourCells<'_>) -> std::arch::x86_64::__m128i {
        use fearless_simd::u32x4;

        std::arch::x86_64::_mm_sub_epi32(
            u32x4::simd_from(avx2, *cells.end).into(),
            u32x4::simd_from(avx2, *cells.start).into(),
        )
    }
);

#[cfg(target_arch = "x86_64")]
fearless_simd::kernel!(
    /// [`Lanes::are_all`].
    #[inline]
    fn four_are_all(
        avx2: Avx2,
        cells: &FourCells<'_>,
        length: u32,
        first: u64,
        spare_bits: u64,
    ) -> bool {
        use fearless_simd::u64x4;
        use std::arch::x86_64::*;

        let words: __m256i = u64x4::simd_from(avx2, *cells.words).into();
        let words = _mm256_sll_epi64(words, _mm_cvtsi64_si128((spare_bits % 64).cast_signed()));
        let words_apart = _mm256_xor_si256(words, _mm256_set1_epi64x(first.cast_signed()));
        let lengths_apart =
            _mm_xor_si128(four_lengths(avx2, cells), _mm_set1_epi32(length.cast_signed()));
        _mm256_testz_si256(words_apart, words_apart) & _mm_testz_si128(lengths_apart, lengths_apart)
            == 1
    }
);

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
    fn four_numbers(
        avx2: Avx2,
        cells: &FourCells<'_>,
        powers: &mut Powers,
    ) -> Option<[f64; LANES]> {
        use fearless_simd::{f64x4, u64x4};
        use std::arch::x86_64::*;

        let of = |numbers: [u64; LANES]| -> __m256i { u64x4::simd_from(avx2, numbers).into() };
        let each = |byte: u8| _mm256_set1_epi8(byte.cast_signed());
        let length = _mm256_cvtepu32_epi64(four_lengths(avx2, cells));
        // Bits of a word that are not the number's: 0 to 56 where it has one to eight bytes.
        let spare_bits = _mm256_sub_epi64(_mm256_set1_epi64x(64), _mm256_slli_epi64::<3>(length));
        if _mm256_testz_si256(spare_bits, _mm256_set1_epi64x(!63)) == 0 {
            return None;
        }
        // Digits become 0 to 9 and a point 254; the last byte becomes the highest, and those before the
        // number 0.
        let bytes = _mm256_sub_epi8(of(*cells.words), each(b'0'));
        let bytes = _mm256_sllv_epi64(bytes, spare_bits);
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
    fn four_long_numbers(
        avx2: Avx2,
        cells: &FourCells<'_>,
        last: &[u64; LANES],
    ) -> Option<[f64; LANES]> {
        use fearless_simd::{f64x4, u64x4};
        use std::arch::x86_64::*;

        const TWO_TO_THE_53: f64 = 9_007_199_254_740_992.0;
        let of = |numbers: [u64; LANES]| -> __m256i { u64x4::simd_from(avx2, numbers).into() };
        let each = |byte: u8| _mm256_set1_epi8(byte.cast_signed());
        let zero = _mm256_setzero_si256();
        let length = _mm256_cvtepu32_epi64(four_lengths(avx2, cells));
        // Bits of two words that are not the number's: 0 to 64 where it has eight to sixteen bytes.
        let spare_bits = _mm256_sub_epi64(_mm256_set1_epi64x(128), _mm256_slli_epi64::<3>(length));
        let is_beyond = _mm256_cmpgt_epi64(spare_bits, _mm256_set1_epi64x(64));
        if _mm256_testz_si256(spare_bits, _mm256_set1_epi64x(!127)) == 0
            || _mm256_testz_si256(is_beyond, is_beyond) == 0
        {
            return None;
        }
        let last = _mm256_sub_epi8(of(*last), each(b'0'));
        let first = _mm256_sub_epi8(of(*cells.words), each(b'0'));
        // Before the number there is 0.
        let first = _mm256_sllv_epi64(first, spare_bits);
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
                    1 => "[0-9]{1,7}[.]", 1 => "[-x0-9./:]{0,9}",
                ]),
                1..6,
            ),
        ) {
            let (mut of_wide, mut of_narrow) = (Powers::default(), Powers::default());
            for numbers in rows {
                let word = |text: &String| {
                    let mut bytes = [b';'; 8];
                    bytes.iter_mut().zip(text.bytes()).for_each(|(to, from)| *to = from);
                    u64::from_le_bytes(bytes)
                };
                let words = numbers.each_ref().map(word);
                let end = numbers.each_ref().map(|text| 7 + text.len() as u32);
                let cells = FourCells { words: &words, start: &[7; LANES], end: &end };
                let narrow = Narrow.numbers(&cells, &mut of_narrow);
                if let Some(wide) = Wide::new() {
                    prop_assert_eq!(wide.numbers(&cells, &mut of_wide), narrow);
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
                1 => "[0-9.]{8,16}", 1 => "[-x0-9./:]{8,16}", 1 => "[0-9]{0,20}",
            ]),
        ) {
            let word = |text: &[u8]| {
                let mut bytes = [b';'; 8];
                bytes.iter_mut().zip(text).for_each(|(to, from)| *to = *from);
                u64::from_le_bytes(bytes)
            };
            let words = numbers.each_ref().map(|text| word(text.as_bytes()));
            let end = numbers.each_ref().map(|text| 7 + text.len() as u32);
            let cells = FourCells { words: &words, start: &[7; LANES], end: &end };
            let last = numbers.each_ref().map(|text| match text.len() {
                0..8 => 0,
                length => word(&text.as_bytes()[length - 8..]),
            });
            let narrow = Narrow.long_numbers(&cells, &last);
            if let Some(wide) = Wide::new() {
                prop_assert_eq!(wide.long_numbers(&cells, &last), narrow);
            }
            if let Some(values) = narrow {
                let expected = numbers.map(|number| number.parse::<f64>().unwrap());
                prop_assert_eq!(values, expected);
            }
        }
    }
}
