//! Effects by least squares: for reading, for evidence, and of two factors together.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF as _, StudentsT};

use super::PRIOR_DEGREES;
use super::matrix::{Cholesky, dot, gram};

/// An effect by least squares, in natural logarithms where the values are.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Effect {
    /// The estimate.
    pub estimate: f64,
    /// Its standard error.
    pub standard_error: f64,
    /// The lower end of its 95 % interval.
    pub low: f64,
    /// The upper end.
    pub high: f64,
}

/// Two factors that do together something else than both effects added up.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Interaction {
    /// The first column.
    pub first: usize,
    /// The second.
    pub second: usize,
    /// What both together add, in natural logarithms.
    pub effect: f64,
    /// The chance of as much where they add nothing.
    pub p: f64,
}

/// A fit of values to columns; both without a constant and a trend.
struct Fit {
    coefficients: Vec<f64>,
    /// The diagonal of the inverse of the columns' products.
    inverse_diagonal: Vec<f64>,
    residual_squares: f64,
}

impl Fit {
    fn of(columns: &[Vec<f64>], values: &[f64]) -> Option<Self> {
        let factor = Cholesky::of(&gram(columns))?;
        let with_values: Vec<f64> = columns.iter().map(|column| dot(column, values)).collect();
        let coefficients = factor.solve(&with_values);
        let squares = dot(values, values) - dot(&coefficients, &with_values);
        let inverse_diagonal = factor.inverse_diagonal();
        Some(Self { coefficients, inverse_diagonal, residual_squares: squares.max(0.0) })
    }
}

/// The effect of one column beside others, over rows out of which so many degrees of freedom were taken: a constant, a
/// trend. Nothing where there are too few rows to tell, or where it is on whenever others are.
pub(super) fn effect(
    column: &[f64],
    others: &[&Vec<f64>],
    values: &[f64],
    degrees_taken_out: f64,
) -> Option<Effect> {
    let columns: Vec<Vec<f64>> =
        [column.to_vec()].into_iter().chain(others.iter().map(|other| (*other).clone())).collect();
    let degrees = values.len() as f64 - degrees_taken_out - columns.len() as f64;
    if degrees < 1.0 {
        return None;
    }
    let fit = Fit::of(&columns, values)?;
    let variance = fit.residual_squares / degrees;
    let standard_error = (variance * fit.inverse_diagonal[0]).sqrt();
    let estimate = fit.coefficients[0];
    let reach = StudentsT::new(0.0, 1.0, degrees).ok()?.inverse_cdf(0.975) * standard_error;
    Some(Effect { estimate, standard_error, low: estimate - reach, high: estimate + reach })
}

/// The pairs of flagged columns that act together: each is tried beside all flagged main effects, with what is known
/// of the variance, at .05 over all pairs. `both` gives the column that is on where both of a pair are.
pub(super) fn interactions(
    flagged: &[usize],
    columns: &[Vec<f64>],
    both: impl Fn(usize, usize) -> Vec<f64>,
    values: &[f64],
    prior_variance: f64,
) -> Vec<Interaction> {
    let pairs = flagged.len() * flagged.len().saturating_sub(1) / 2;
    let degrees = PRIOR_DEGREES + values.len() as f64 - 2.0 - flagged.len() as f64 - 1.0;
    let Ok(distribution) = StudentsT::new(0.0, 1.0, degrees) else { return Vec::new() };
    let mut found = Vec::new();
    for (at, &first) in flagged.iter().enumerate() {
        for &second in &flagged[at + 1..] {
            let mut tried = vec![both(first, second)];
            tried.extend(flagged.iter().map(|column| columns[*column].clone()));
            let Some(fit) = Fit::of(&tried, values) else { continue };
            let variance = (PRIOR_DEGREES * prior_variance + fit.residual_squares) / degrees;
            let t = fit.coefficients[0] / (variance * fit.inverse_diagonal[0]).sqrt();
            let p = 2.0 * distribution.cdf(-t.abs());
            if p < 0.05 / pairs as f64 {
                found.push(Interaction { first, second, effect: fit.coefficients[0], p });
            }
        }
    }
    found
}
