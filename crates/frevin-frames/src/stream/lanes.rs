//! Folds over many numbers in lanes, which a processor computes at once.

const LANES: usize = 8;

/// Does what is compiled for the widest instructions of a processor, where it is marked to be put in
/// place of its call; the result is the same to the bit.
#[inline(always)]
pub(crate) fn on_lanes<T>(work: impl FnOnce() -> T) -> T {
    #[cfg(target_arch = "x86_64")]
    if let Some(avx2) = fearless_simd::Level::new().as_avx2() {
        return fearless_simd::Simd::vectorize(avx2, work);
    }
    work()
}

/// The sum of a term of each number. Lanes lose fewer digits than one sum does.
#[inline(always)]
pub(crate) fn sum(numbers: &[f64], term: impl Fn(f64) -> f64) -> f64 {
    let (full, rest) = numbers.as_chunks::<LANES>();
    let mut lanes = [0.0; LANES];
    for numbers in full {
        for (lane, number) in lanes.iter_mut().zip(numbers) {
            *lane += term(*number);
        }
    }
    lanes.iter().sum::<f64>() + rest.iter().map(|number| term(*number)).sum::<f64>()
}

/// The sum of the changes from each number to the next, whatever their sign.
#[inline(always)]
pub(crate) fn sum_of_steps(numbers: &[f64]) -> f64 {
    let Some(later) = numbers.get(1..) else { return 0.0 };
    let (full, rest) = later.as_chunks::<LANES>();
    let mut lanes = [0.0; LANES];
    for (after, before) in full.iter().zip(numbers.as_chunks::<LANES>().0) {
        for ((lane, after), before) in lanes.iter_mut().zip(after).zip(before) {
            *lane += (after - before).abs();
        }
    }
    let before = &numbers[later.len() - rest.len()..];
    let steps = rest.iter().zip(before).map(|(after, before)| (after - before).abs());
    lanes.iter().sum::<f64>() + steps.sum::<f64>()
}

/// The greatest of numbers above zero; zero of none.
#[inline(always)]
pub(crate) fn greatest(numbers: &[f64]) -> f64 {
    fold(numbers, 0.0, |a, b| if b > a { b } else { a })
}

/// The least of numbers; infinity of none.
#[inline(always)]
pub(crate) fn least(numbers: &[f64]) -> f64 {
    fold(numbers, f64::INFINITY, |a, b| if b < a { b } else { a })
}

#[inline(always)]
fn fold(numbers: &[f64], from: f64, choose: impl Fn(f64, f64) -> f64) -> f64 {
    let (full, rest) = numbers.as_chunks::<LANES>();
    let mut lanes = [from; LANES];
    for numbers in full {
        for (lane, number) in lanes.iter_mut().zip(numbers) {
            *lane = choose(*lane, *number);
        }
    }
    lanes.iter().chain(rest).fold(from, |a, b| choose(a, *b))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn lanes_come_to_what_one_after_another_does(
            numbers in prop::collection::vec(0.1..100.0f64, 0..60)
        ) {
            let close = |a: f64, b: f64| (a - b).abs() <= 1e-9 * b.abs().max(1.0);
            prop_assert!(close(sum(&numbers, |n| n * n), numbers.iter().map(|n| n * n).sum()));
            let steps = numbers.windows(2).map(|two| (two[1] - two[0]).abs()).sum();
            prop_assert!(close(sum_of_steps(&numbers), steps));
            prop_assert_eq!(greatest(&numbers), numbers.iter().copied().fold(0.0, f64::max));
            prop_assert_eq!(least(&numbers), numbers.iter().copied().fold(f64::INFINITY, f64::min));
        }
    }
}
