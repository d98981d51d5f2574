//! `frevin compare`

use clap::Args;
use frevin_core::ids::{SceneName, StateName};
use frevin_core::verdict::{LARGEST_PAIR_COUNTS, Margins, PairLimit, Verdict};

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::compare::{CompareOptions, compare_states};
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;

/// Say whether state B is better or worse than state A, by their recorded visits. Exit code 1 if worse
#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The state that is the measure
    a: StateName,
    /// The state that is measured by it
    b: StateName,
    /// The scene, where both were recorded in several
    #[arg(long)]
    scene: Option<SceneName>,
    /// The difference worth having in average FPS, in percent
    #[arg(long, default_value_t = 1.0, value_name = "PERCENT")]
    average_margin: f64,
    /// The difference worth having in 1% low, in percent
    #[arg(long, default_value_t = 3.0, value_name = "PERCENT")]
    low_margin: f64,
    /// The most pairs of visits to take: 8, 12 or 20
    #[arg(long, default_value_t = 12)]
    most_pairs: usize,
}

pub(crate) fn run(context: &Context, args: &CompareArgs) -> Result<Outcome, Failure> {
    let limit = PairLimit::new(args.most_pairs).ok_or_else(|| {
        let known = LARGEST_PAIR_COUNTS.map(|pairs| pairs.to_string()).join(", ");
        Failure::new(Kind::Usage, format!("bounds are known for these limits of pairs: {known}"))
    })?;
    for margin in [args.average_margin, args.low_margin] {
        if !(margin > 0.0 && margin <= 50.0) {
            let message = format!("a margin of {margin} % is none; write one above 0, up to 50");
            return Err(Failure::new(Kind::Usage, message));
        }
    }
    let options = CompareOptions {
        scene: args.scene.clone(),
        margins: Margins {
            average_fps: args.average_margin / 100.0,
            low_1_percent_fps: args.low_margin / 100.0,
            ..Margins::default()
        },
        limit,
    };
    let compared = compare_states(&context.ledger()?, &args.a, &args.b, &options)?;
    let is_yes = compared.comparison.verdict != Verdict::Worse;
    Ok(Outcome::with(&compared, is_yes))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<crate::measure::compare::Compared>("compare");
}
