//! Arguments that name what is previewed or applied.

use clap::Args;
use frevin_core::facts::Facts;
use frevin_core::layers::ChangeId;
use frevin_core::tweak::{Arguments, Catalogue, Tweak};
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use crate::failure::{Failure, Kind};
use crate::operations::target::{Named, Target, Unsaved, find_uses, resolve};

/// Tweaks by name, with what is chosen of them.
#[derive(Debug, Args)]
pub(crate) struct TweakArgs {
    /// A tweak instead of a profile; may be said several times
    #[arg(long, value_name = "AREA/NAME")]
    tweak: Vec<String>,
    /// A parameter of that tweak; of several tweaks AREA/NAME:NAME=VALUE
    #[arg(long = "set", value_name = "NAME=VALUE", requires = "tweak")]
    parameters: Vec<String>,
}

impl TweakArgs {
    /// What is named: the profile, or else these tweaks; nothing where nothing is.
    pub(crate) fn or_profile(&self, profile: Option<&String>) -> Option<Named> {
        match profile {
            Some(profile) => Some(Named::Profile(profile.clone())),
            None if self.tweak.is_empty() => None,
            None => Some(self.named()),
        }
    }

    /// Each tweak with what is chosen of it.
    pub(crate) fn uses<'a>(
        &self,
        catalogue: &'a Catalogue,
    ) -> Result<Vec<(&'a Tweak, Arguments)>, Failure> {
        find_uses(catalogue, &self.tweak, &self.parameters)
    }

    /// The tweaks.
    pub(crate) fn named(&self) -> Named {
        Named::Tweaks { ids: self.tweak.clone(), parameters: self.parameters.clone() }
    }
}

/// A profile, or tweaks.
#[derive(Debug, Args)]
pub(crate) struct TargetArgs {
    /// A saved profile, or one that comes with Frevin: NAME, NAME@3, or NAME@ and the beginning of a hash
    #[arg(
        value_name = "PROFILE[@REV]",
        required_unless_present = "tweak",
        conflicts_with = "tweak"
    )]
    profile: Option<String>,
    #[command(flatten)]
    tweaks: TweakArgs,
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
        let named = self.named()?;
        resolve(&named, &self.allow_protected, catalogue, ledger, facts, unsaved)
    }

    /// What is meant.
    pub(crate) fn named(&self) -> Result<Named, Failure> {
        let named = self.tweaks.or_profile(self.profile.as_ref());
        named.ok_or_else(|| Failure::new(Kind::Usage, "name a profile, or a tweak with --tweak"))
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
