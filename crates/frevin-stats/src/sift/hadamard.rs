//! Hadamard matrices of Paley's first construction (1933): squares of +1 and -1 whose rows are at right angles.

/// The orders `p + 1` for the primes `p = 3` modulo 4 up to what is needed: those whose matrix is of skew type.
const ORDERS: [usize; 10] = [4, 8, 12, 20, 24, 32, 44, 48, 60, 68];

/// The columns of the smallest such matrix that has at least `columns` beside its first, which is dropped: it is
/// all +1. `true` is +1. Nothing where no order is large enough.
pub(super) fn columns(columns: usize) -> Option<Vec<Vec<bool>>> {
    let order = ORDERS.into_iter().find(|order| *order > columns)?;
    let prime = order - 1;
    let mut is_square = vec![false; prime];
    for root in 1..prime {
        is_square[root * root % prime] = true;
    }
    // H = I + S with S skew: its first row is +1 beside the diagonal, its first column -1, and the rest the
    // quadratic characters of the differences.
    let entry = |row: usize, column: usize| match (row, column) {
        _ if row == column => true,
        (0, _) => true,
        (_, 0) => false,
        _ => is_square[(column + prime - row) % prime],
    };
    // A row is turned over where it begins with -1, so that the first column is all +1.
    let column = |column: usize| -> Vec<bool> {
        (0..order).map(|row| entry(row, column) == entry(row, 0)).collect()
    };
    Some((1..order).map(column).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_balanced_and_at_right_angles() {
        for wanted in [1, 3, 7, 11, 12, 23, 30, 43, 45, 59, 60] {
            let columns = columns(wanted).unwrap();
            assert!(columns.len() >= wanted);
            let sign = |bit: bool| if bit { 1_i32 } else { -1 };
            for (at, a) in columns.iter().enumerate() {
                assert_eq!(a.iter().map(|bit| sign(*bit)).sum::<i32>(), 0, "{wanted}: {at}");
                for b in &columns[..at] {
                    let product: i32 = a.iter().zip(b).map(|(a, b)| sign(*a) * sign(*b)).sum();
                    assert_eq!(product, 0, "{wanted}: {at}");
                }
            }
        }
        assert_eq!(columns(10).unwrap()[0].len(), 12);
        assert_eq!(columns(20).unwrap()[0].len(), 24);
        assert_eq!(columns(40).unwrap()[0].len(), 44);
        assert!(columns(68).is_none());
    }
}
