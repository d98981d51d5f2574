//! Rows of a sift: which factors each of them switches on.

use rand::SeedableRng as _;
use rand_pcg::Pcg64;
use thiserror::Error;

use super::matrix::{Cholesky, gram};
use super::{EFFECT_SPREAD, MOST_COLUMNS, hadamard};
use crate::portable::{coin, shuffle};

/// Of so many designs the best is kept.
const DESIGNS: usize = 8;
/// It is the best after these numbers of rows together.
const COMPARED_AT: [usize; 3] = [16, 24, 32];

/// What is sifted: columns, each of something that is on or off, counted from 0.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Factors {
    columns: usize,
    exclusive: Vec<Vec<usize>>,
    needs: Vec<(usize, usize)>,
}

/// Why factors cannot be sifted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum FactorsError {
    #[error("there is nothing to sift")]
    None,
    #[error("at most {MOST_COLUMNS} can be sifted at once")]
    TooMany,
    #[error("a group or a need speaks of something that is not sifted, or of one thing twice")]
    Unknown,
    #[error("two need each other, or need what excludes them")]
    Impossible,
}

impl Factors {
    /// So many columns; groups of which at most one is on; and pairs of which the first needs the second.
    ///
    /// # Errors
    /// [`FactorsError`].
    pub fn new(
        columns: usize,
        exclusive: Vec<Vec<usize>>,
        needs: Vec<(usize, usize)>,
    ) -> Result<Self, FactorsError> {
        if columns == 0 {
            return Err(FactorsError::None);
        }
        if columns > MOST_COLUMNS {
            return Err(FactorsError::TooMany);
        }
        let mut grouped = vec![false; columns];
        for member in exclusive.iter().flatten() {
            match grouped.get_mut(*member) {
                Some(is_grouped) if !*is_grouped => *is_grouped = true,
                _ => return Err(FactorsError::Unknown),
            }
        }
        if needs.iter().any(|(a, b)| a.max(b) >= &columns || a == b) {
            return Err(FactorsError::Unknown);
        }
        let factors = Self { columns, exclusive, needs };
        let all = (0..columns).all(|column| factors.with_needs(column).is_some());
        if all { Ok(factors) } else { Err(FactorsError::Impossible) }
    }

    /// So many that have nothing to do with each other.
    ///
    /// # Errors
    /// [`FactorsError`].
    pub fn independent(columns: usize) -> Result<Self, FactorsError> {
        Self::new(columns, Vec::new(), Vec::new())
    }

    /// How many columns.
    pub fn columns(&self) -> usize {
        self.columns
    }

    /// Whether a column is one of a group of which at most one is on.
    pub fn is_exclusive(&self, column: usize) -> bool {
        self.exclusive.iter().flatten().any(|member| *member == column)
    }

    /// A column and all that it needs; nothing where that cannot all be on, or goes round in a circle.
    fn with_needs(&self, column: usize) -> Option<Vec<usize>> {
        let mut all = vec![column];
        let mut at = 0;
        while at < all.len() {
            let here = all[at];
            for (_, needed) in self.needs.iter().filter(|(dependent, _)| *dependent == here) {
                if *needed == column {
                    return None;
                }
                if !all.contains(needed) {
                    all.push(*needed);
                }
            }
            at += 1;
        }
        let clash =
            |group: &Vec<usize>| group.iter().filter(|member| all.contains(member)).count() > 1;
        (!self.exclusive.iter().any(clash)).then_some(all)
    }

    /// Brings a row to where everything has what it needs: a coin switches the needed one on, or the dependent off.
    fn settle(&self, row: &mut [bool], rng: &mut Pcg64) {
        // Each step settles one, and what is switched on needs less than what it was switched on for; the bound is
        // never met.
        for _ in 0..self.columns * self.columns + 1 {
            let unmet =
                self.needs.iter().find(|(dependent, needed)| row[*dependent] && !row[*needed]);
            let Some((dependent, needed)) = unmet else { return };
            if coin(rng) {
                if let Some(group) = self.exclusive.iter().find(|group| group.contains(needed)) {
                    group.iter().for_each(|member| row[*member] = false);
                }
                row[*needed] = true;
            } else {
                row[*dependent] = false;
            }
        }
        row.fill(false);
    }
}

/// The rows of a sift in the order in which they are measured, each with what is on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rows(Vec<Vec<bool>>);

impl Rows {
    /// The best of eight designs: a Hadamard matrix with random columns, signs and order of rows, and then its
    /// negation, again and again; groups in balanced random order; needs by a coin.
    pub fn draw(factors: &Factors, count: usize, row_variance: f64, seed: u64) -> Self {
        let mut rng = Pcg64::seed_from_u64(seed);
        let ridge = row_variance / (EFFECT_SPREAD * EFFECT_SPREAD);
        let designs = (0..DESIGNS).map(|_| {
            let rows = Self::one(factors, count, &mut rng);
            (rows.uncertainty(ridge), rows)
        });
        let best = designs.min_by(|a, b| a.0.total_cmp(&b.0));
        best.map_or_else(|| Self(Vec::new()), |(_, rows)| rows)
    }

    fn one(factors: &Factors, count: usize, rng: &mut Pcg64) -> Self {
        let alone: Vec<usize> =
            (0..factors.columns).filter(|column| !factors.is_exclusive(*column)).collect();
        let mut rows: Vec<Vec<bool>> = Vec::new();
        while rows.len() < count {
            let mut columns = hadamard::columns(alone.len()).unwrap_or_default();
            shuffle(rng, &mut columns);
            columns.truncate(alone.len());
            let signs: Vec<bool> = alone.iter().map(|_| coin(rng)).collect();
            let size = columns.first().map_or(FOLD_WITHOUT_FACTORS, Vec::len);
            for negated in [false, true] {
                let mut order: Vec<usize> = (0..size).collect();
                shuffle(rng, &mut order);
                for at in order {
                    let mut row = vec![false; factors.columns];
                    for ((column, bits), sign) in alone.iter().zip(&columns).zip(&signs) {
                        row[*column] = bits[at] ^ sign ^ negated;
                    }
                    rows.push(row);
                }
            }
        }
        rows.truncate(count);
        for group in &factors.exclusive {
            let levels = group.len() + 1;
            for rows in rows.chunks_mut(levels) {
                let mut order: Vec<usize> = (0..levels).collect();
                shuffle(rng, &mut order);
                for (row, level) in rows.iter_mut().zip(order) {
                    // The last level is none of them.
                    if let Some(member) = group.get(level) {
                        row[*member] = true;
                    }
                }
            }
        }
        rows.iter_mut().for_each(|row| factors.settle(row, rng));
        Self(rows)
    }

    /// How uncertain effects are after some numbers of rows, together.
    fn uncertainty(&self, ridge: f64) -> f64 {
        let at = |rows: usize| {
            let columns = self.0.first().map_or(0, Vec::len);
            let centred: Vec<Vec<f64>> = (0..columns)
                .map(|column| {
                    let coded = self.coded(column, rows);
                    let mean = coded.iter().sum::<f64>() / rows as f64;
                    coded.iter().map(|value| value - mean).collect()
                })
                .collect();
            let mut products = gram(&centred);
            for (at, row) in products.iter_mut().enumerate() {
                row[at] += ridge;
            }
            Cholesky::of(&products)
                .map_or(f64::INFINITY, |factor| factor.inverse_diagonal().iter().sum())
        };
        COMPARED_AT.into_iter().map(at).sum()
    }

    /// What is on in a row; nothing beyond the last.
    pub fn row(&self, row: usize) -> Option<&[bool]> {
        self.0.get(row).map(Vec::as_slice)
    }

    /// A column over the first rows, on as +1/2 and off as -1/2.
    pub(super) fn coded(&self, column: usize, rows: usize) -> Vec<f64> {
        self.0.iter().take(rows).map(|row| if row[column] { 0.5 } else { -0.5 }).collect()
    }
}

/// Rows that are drawn at once where there are groups only.
const FOLD_WITHOUT_FACTORS: usize = 12;
