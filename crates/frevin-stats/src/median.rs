//! Medians.

/// The median of values in ascending order: the middle one, or the mean of the middle two.
/// Nothing of nothing.
pub fn median_of_sorted(ascending: &[f64]) -> Option<f64> {
    let middle = ascending.len() / 2;
    let upper = *ascending.get(middle)?;
    if ascending.len().is_multiple_of(2) {
        Some(f64::midpoint(ascending[middle - 1], upper))
    } else {
        Some(upper)
    }
}

/// The median of values in any order. Nothing of nothing.
pub fn median(values: impl IntoIterator<Item = f64>) -> Option<f64> {
    let mut values: Vec<f64> = values.into_iter().collect();
    values.sort_by(f64::total_cmp);
    median_of_sorted(&values)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_middle_value_or_the_mean_of_the_middle_two() {
        assert_eq!(median([3.0, 1.0, 2.0]), Some(2.0));
        assert_eq!(median([4.0, 1.0, 2.0, 3.0]), Some(2.5));
        assert_eq!(median([]), None);
    }
}
