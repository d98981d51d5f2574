//! Arguments that name what is previewed or applied.

use clap::Args;
use frevin_core::facts::Facts;
use frevin_core::layers::ChangeId;
use frevin_core::tweak::Catalogue;
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use crate::failure::{Failure, Kind};
use crate::operations::target::{Named, Target, Unsaved, resolve};

/// A profile or a tweak.
#[derive(Debug, Args)]
pub(crate) struct TargetArgs {
    /// A saved profile: NAME, NAME@3, or NAME@ and the beginning of a hash
    #[arg(value_name = "PROFILE[@REV]", required_unless_present = "tweak")]
    profile: Option<String>,
    /// One tweak instead of a profile
    #[arg(long, value_name = "AREA/NAME", conflicts_with = "profile")]
    tweak: Option<String>,
    /// A parameter of that tweak
    #[arg(long = "set", value_name = "NAME=VALUE", requires = "tweak")]
    parameters: Vec<String>,
    /// Let this tweak touch what is protected
    #[arg(long, value_name = "AREA/NAME")]
    allow_protected: Vec<String>,
}

impl TargetArgs {
    pub(crate) fn resolve(
        &self,
        catalogue: &Catalogue,
        ledger: &Ledger,
        facts: &Facts,
        unsaved: Unsaved,
    ) -> Result<Target, Failure> {
        let named = match (&self.profile, &self.tweak) {
            (Some(profile), _) => Named::Profile(profile.clone()),
            (None, Some(id)) => {
                Named::Tweak { id: id.clone(), parameters: self.parameters.clone() }
            }
            (None, None) => {
                let message = "name a profile, or a tweak with --tweak";
                return Err(Failure::new(Kind::Usage, message));
            }
        };
        resolve(&named, &self.allow_protected, catalogue, ledger, facts, unsaved)
    }
}

/// A change that another takes the place of.
#[derive(Debug, Args)]
pub(crate) struct ReplacesArgs {
    /// Put it in the place of this change: from the one to the other in one step, with all other changes
    /// left alone
    #[arg(long, value_name = "CHANGE")]
    instead_of: Option<i64>,
}

impl ReplacesArgs {
    /// The change that is meant, which has to be in force on this PC.
    pub(crate) fn id(&self, ledger: &Ledger, pc: &dyn Pc) -> Result<Option<ChangeId>, Failure> {
        let Some(id) = self.instead_of.map(ChangeId) else { return Ok(None) };
        let change = ledger.change(id)?;
        if change.pc != pc.identity().id || change.layers_left == 0 {
            let message = format!("change {id} is not in force on this PC");
            return Err(Failure::new(Kind::NotFound, message)
                .hint("`frevin rollback --list` shows those that are"));
        }
        Ok(Some(id))
    }
}
