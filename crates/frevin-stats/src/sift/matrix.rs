//! Symmetric matrices, small: their factors, and what follows.

/// A symmetric positive definite matrix in Cholesky's form.
pub(super) struct Cholesky {
    /// The lower triangle, a row after another.
    lower: Vec<Vec<f64>>,
}

impl Cholesky {
    /// The factor of a matrix; nothing where it is singular, or nearly so.
    pub(super) fn of(matrix: &[Vec<f64>]) -> Option<Self> {
        const NEARLY: f64 = 1e-10;
        let mut lower: Vec<Vec<f64>> = Vec::with_capacity(matrix.len());
        for (i, row) in matrix.iter().enumerate() {
            let mut made = Vec::with_capacity(i + 1);
            for j in 0..=i {
                let above: &[f64] = if j == i { &made } else { &lower[j] };
                let product: f64 = made.iter().zip(above).take(j).map(|(a, b)| a * b).sum();
                let left = row[j] - product;
                if j < i {
                    made.push(left / lower[j][j]);
                } else if left > NEARLY * row[i].abs() {
                    made.push(left.sqrt());
                } else {
                    return None;
                }
            }
            lower.push(made);
        }
        Some(Self { lower })
    }

    /// `L^-1 b`.
    fn forward(&self, b: &[f64]) -> Vec<f64> {
        let mut solved = Vec::with_capacity(b.len());
        for (row, value) in self.lower.iter().zip(b) {
            let known: f64 = row.iter().zip(&solved).map(|(l, x)| l * x).sum();
            solved.push((value - known) / row[solved.len()]);
        }
        solved
    }

    /// The solution of `matrix x = b`.
    pub(super) fn solve(&self, b: &[f64]) -> Vec<f64> {
        let mut x = self.forward(b);
        for i in (0..x.len()).rev() {
            let known: f64 = (i + 1..x.len()).map(|j| self.lower[j][i] * x[j]).sum();
            x[i] = (x[i] - known) / self.lower[i][i];
        }
        x
    }

    /// The logarithm of the determinant.
    #[cfg(test)]
    pub(super) fn log_determinant(&self) -> f64 {
        2.0 * self.lower.iter().enumerate().map(|(at, row)| row[at].ln()).sum::<f64>()
    }

    /// The diagonal of the inverse.
    pub(super) fn inverse_diagonal(&self) -> Vec<f64> {
        let size = self.lower.len();
        let of = |at: usize| {
            let mut unit = vec![0.0; size];
            unit[at] = 1.0;
            self.solve(&unit)[at]
        };
        (0..size).map(of).collect()
    }
}

pub(super) fn dot(a: &[f64], b: &[f64]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

/// Takes a constant and a linear trend over the places given out of a column.
pub(super) fn without_trend(column: &[f64], places: &[f64]) -> Vec<f64> {
    let count = column.len() as f64;
    let mean = |values: &[f64]| values.iter().sum::<f64>() / count;
    let (middle, place) = (mean(column), mean(places));
    let centred: Vec<f64> = places.iter().map(|at| at - place).collect();
    let squares = dot(&centred, &centred);
    let slope = if squares > 0.0 { dot(&centred, column) / squares } else { 0.0 };
    column.iter().zip(&centred).map(|(value, at)| value - middle - slope * at).collect()
}

/// The products of columns with each other.
pub(super) fn gram(columns: &[Vec<f64>]) -> Vec<Vec<f64>> {
    columns.iter().map(|a| columns.iter().map(|b| dot(a, b)).collect()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_system_is_solved_and_its_inverse_known() {
        let matrix = vec![vec![4.0, 2.0, 0.4], vec![2.0, 5.0, 1.0], vec![0.4, 1.0, 3.0]];
        let factor = Cholesky::of(&matrix).unwrap();
        let x = factor.solve(&[1.0, 2.0, 3.0]);
        for (row, b) in matrix.iter().zip([1.0, 2.0, 3.0]) {
            assert!((dot(row, &x) - b).abs() < 1e-12);
        }
        // By cofactors: 14 / 44.8, 11.84 / 44.8, 16 / 44.8.
        let known = [14.0 / 44.8, 11.84 / 44.8, 16.0 / 44.8];
        for (given, known) in factor.inverse_diagonal().iter().zip(known) {
            assert!((given - known).abs() < 1e-12, "{given} {known}");
        }
        assert!(Cholesky::of(&[vec![1.0, 1.0], vec![1.0, 1.0]]).is_none());
    }

    #[test]
    fn a_line_has_nothing_left_without_its_trend() {
        let places = [1.0, 2.0, 3.0, 4.0];
        let left = without_trend(&[5.0, 7.0, 9.0, 11.0], &places);
        assert!(left.iter().all(|value| value.abs() < 1e-12));
    }
}
