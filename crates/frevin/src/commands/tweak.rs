//! `frevin tweak`

mod list;
mod steps;

use std::collections::BTreeMap;

use clap::Subcommand;
use frevin_core::expression::ExpressionError;
use frevin_core::facts::Facts;
use frevin_core::profile::ByHand;
use frevin_core::setting::{State, TakesEffect};
use frevin_core::tweak::{
    Arguments, Choice, Danger, Parameter, ParameterKind, Risk, Source, Standing, Tweak, TweakId,
    Wanted,
};
use frevin_core::verdict::Verdict;
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::measure::compare::{Measured, MeasuredUse, measured};
use crate::operations::choices::choices;
use crate::operations::evidence::{ToldEvidence, told};
use crate::operations::target::find_tweak;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::evidence::show_evidence;
use crate::view::plan::{DangersTold, show_by_hand, show_dangers};
use crate::view::{Page, Table, bad, count, dim, good, named_among, short, shown, strong, warn};

/// The catalogue of tweaks
#[derive(Debug, Subcommand)]
pub(crate) enum TweakCommand {
    /// List tweaks, and whether they fit this PC
    List(list::ListArgs),
    /// Show everything about a tweak: what it does, what it may break, what it would write here
    Show {
        /// The tweak
        #[arg(value_name = "AREA/NAME")]
        tweak: String,
        /// Show every setting's full address
        #[arg(long)]
        addresses: bool,
    },
    /// Go through the steps of a tweak that is done by hand, one at a time, and look whether it is done. Exit code 1
    /// where the PC says that it is not
    Steps {
        /// The tweak
        #[arg(value_name = "AREA/NAME")]
        tweak: String,
        /// A parameter of it
        #[arg(long = "set", value_name = "NAME=VALUE")]
        parameters: Vec<String>,
    },
}

#[derive(Debug, JsonSchema, Serialize)]
struct TweakReport<'a> {
    id: &'a TweakId,
    title: &'a str,
    also_called: &'a [String],
    dangers: &'a [Danger],
    what: &'a str,
    why: &'a str,
    may_break: &'a str,
    standing: Standing,
    standing_reason: &'a str,
    risk: Risk,
    takes_effect: TakesEffect,
    is_own: bool,
    parameters: &'a BTreeMap<String, Parameter>,
    conflicts: &'a [TweakId],
    needs: &'a [TweakId],
    alternatives: &'a [TweakId],
    sources: &'a [Source],
    /// What a person does, where it is done by hand.
    by_hand: Option<ByHand>,
    /// What there is to choose on the PC that is meant, by the parameter.
    choices: BTreeMap<String, Vec<String>>,
    /// What it is and would be on the PC that is meant, with nothing chosen.
    here: Option<Here>,
    /// What the ledger has measured of it.
    measured: Option<Measured>,
    /// What trials and sifts have told of it on this PC.
    evidence: Vec<ToldEvidence>,
    #[serde(skip)]
    addresses: bool,
}

#[derive(Debug, JsonSchema, Serialize)]
struct Here {
    misfits: Vec<String>,
    settings: Vec<HereSetting>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct HereSetting {
    #[serde(flatten)]
    wanted: Wanted,
    now: State,
}

pub(crate) fn run(context: &Context, command: &TweakCommand) -> Result<Outcome, Failure> {
    let catalogue = context.catalogue()?;
    let pc = context.pc_if_named()?;
    let facts = pc.as_ref().map(|pc| context.facts(&**pc)).transpose()?;
    match command {
        TweakCommand::List(args) => list::list(&catalogue, pc.as_deref().zip(facts.as_ref()), args),
        TweakCommand::Steps { tweak, parameters } => {
            steps::steps(context, &catalogue, facts.as_ref(), tweak, parameters)
        }
        TweakCommand::Show { tweak, addresses } => {
            let tweak = find_tweak(&catalogue, tweak)?;
            let here = match (&pc, &facts) {
                (Some(pc), Some(facts)) => Some(here(tweak, &**pc, facts)?),
                _ => None,
            };
            Ok(Outcome::yes(&TweakReport {
                id: &tweak.id,
                title: &tweak.title,
                also_called: &tweak.also_called,
                dangers: &tweak.dangers,
                what: &tweak.what,
                why: &tweak.why,
                may_break: &tweak.may_break,
                standing: tweak.standing,
                standing_reason: &tweak.standing_reason,
                risk: tweak.risk,
                takes_effect: tweak.takes_effect(),
                is_own: tweak.is_own,
                parameters: &tweak.parameters,
                conflicts: &tweak.conflicts,
                needs: &tweak.needs,
                alternatives: &tweak.alternatives,
                sources: &tweak.sources,
                by_hand: facts
                    .as_ref()
                    .and_then(|facts| ByHand::of(tweak, &Arguments::new(), facts))
                    .or_else(|| ByHand::general(tweak)),
                addresses: *addresses,
                choices: match (&pc, &facts) {
                    (Some(pc), Some(facts)) => all_choices(tweak, &**pc, facts)?,
                    _ => BTreeMap::new(),
                },
                here,
                evidence: match &pc {
                    Some(pc) => {
                        let ledger = context.ledger()?;
                        told(context, &**pc, &ledger, Some(std::slice::from_ref(&tweak.id)))?
                    }
                    None => Vec::new(),
                },
                measured: pc
                    .as_ref()
                    .map(|pc| measured(&context.ledger()?, &pc.identity().id, &tweak.id))
                    .transpose()?,
            }))
        }
    }
}

fn all_choices(
    tweak: &Tweak,
    pc: &dyn Pc,
    facts: &Facts,
) -> Result<BTreeMap<String, Vec<String>>, Failure> {
    let of = |name: &String| Ok((name.clone(), choices(tweak, name, pc, facts)?));
    let all = tweak.parameters.keys().map(of).collect::<Result<BTreeMap<_, _>, Failure>>()?;
    Ok(all.into_iter().filter(|(_, choices)| !choices.is_empty()).collect())
}

fn here(tweak: &Tweak, pc: &dyn Pc, facts: &Facts) -> Result<Here, Failure> {
    let mut misfits = tweak.misfits(facts);
    let wanted = match tweak.resolve(&tweak.complete(&Default::default()), facts) {
        Err(ExpressionError::Untold { reason }) => {
            misfits.push(reason);
            Vec::new()
        }
        // The page says what is to be chosen.
        Err(ExpressionError::NotChosen { .. }) => Vec::new(),
        wanted => wanted?,
    };
    let settings = wanted
        .into_iter()
        .map(|wanted| Ok(HereSetting { now: pc.read(&wanted.address)?, wanted }))
        .collect::<Result<_, Failure>>()?;
    Ok(Here { misfits, settings })
}

fn standing(standing: Standing) -> String {
    match standing {
        Standing::Sound => good(standing),
        Standing::Plausible => standing.to_string(),
        Standing::Harmful => bad(standing),
        _ => warn(standing),
    }
}

/// When a tweak takes effect.
fn moment(takes_effect: TakesEffect) -> String {
    match takes_effect {
        TakesEffect::Now => "at once".to_owned(),
        later => format!("after a {later}"),
    }
}

fn show_measured(measured: &Measured, page: &mut Page) {
    page.heading("Measured on this PC");
    if measured.comparisons.is_empty() {
        let evidence = &measured.evidence;
        page.line(match (evidence.visits_with, evidence.visits_without) {
            (0, _) => "  Never: no visit was recorded with it in force.".to_owned(),
            (with, without) => format!(
                "  {} with it in force, {without} without; no two states differ in it alone.",
                count(with, "visit")
            ),
        });
    }
    if measured.evidence.visits_not_known > 0 {
        let visits = count(measured.evidence.visits_not_known, "visit");
        page.line(dim(format_args!("  {visits} of which it is not known what was in force.")));
    }
    let uses: Vec<_> = measured.comparisons.iter().map(|measured| &measured.of).collect();
    for MeasuredUse { of, compared } in &measured.comparisons {
        page.line(format_args!(
            "  {} in {}: {} → {}: {}",
            named_among(of, uses.iter().copied()),
            compared.scene,
            compared.a,
            compared.b,
            strong(match compared.comparison.verdict {
                Verdict::Better => "better",
                Verdict::Worse => "worse",
                Verdict::Same => "no difference worth having",
                Verdict::Undecided => "undecided",
            })
        ));
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<TweakReport<'static>>("tweak show");
    list::schemas(schemas);
    steps::schemas(schemas);
}

impl View for TweakReport<'_> {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!("{}  {}", self.id, self.title));
        if self.is_own {
            page.line(warn("  This tweak is yours: nobody but you has checked it."));
        }
        if !self.also_called.is_empty() {
            page.paragraph_in(2, dim, &format!("Also called: {}", self.also_called.join(", ")));
        }
        show_dangers(self.dangers.iter(), page);
        for text in [self.what, self.why] {
            page.paragraph(2, text);
        }
        page.heading("May break");
        page.paragraph(2, self.may_break);
        page.heading(format_args!("Standing: {}", standing(self.standing)));
        page.paragraph(2, self.standing_reason);
        page.blank();
        let mut lines =
            vec![("risk", self.risk.to_string()), ("takes effect", moment(self.takes_effect))];
        let related = [
            ("does nothing without", self.needs),
            ("cannot be combined with", self.conflicts),
            ("the same end by", self.alternatives),
        ];
        let names =
            |ids: &[TweakId]| ids.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let related = related.into_iter().filter(|(_, ids)| !ids.is_empty());
        lines.extend(related.map(|(how, ids)| (how, names(ids))));
        page.pairs(lines);
        for (name, parameter) in self.parameters {
            page.heading(format_args!("Parameter {name}"));
            page.paragraph(2, &parameter.meaning);
            let default = match &parameter.default {
                Some(default) => ("default", default.to_string()),
                None => ("default", warn("none: it has to be chosen")),
            };
            match &parameter.kind {
                ParameterKind::Choice { choices } | ParameterKind::Subset { choices } => {
                    let choice = |choice: &Choice| (choice.name.clone(), choice.meaning.clone());
                    page.pairs(choices.iter().map(choice));
                    page.pairs([default]);
                }
                _ => page.pairs([("takes", parameter.range()), default]),
            }
            if let Some(choices) = self.choices.get(name) {
                show_choices(choices, page);
            }
        }
        if let Some(by_hand) = &self.by_hand {
            show_by_hand(std::slice::from_ref(by_hand), DangersTold::Above, page);
        }
        if let Some(measured) = &self.measured {
            let is_told = !self.evidence.is_empty() && measured.comparisons.is_empty();
            if is_told {
                page.heading("Measured on this PC");
            } else {
                show_measured(measured, page);
            }
            if !self.evidence.is_empty() {
                show_evidence(&self.evidence, page);
            }
        }
        let is_told = |here: &&Here| !here.settings.is_empty() || !here.misfits.is_empty();
        if let Some(here) = self.here.as_ref().filter(is_told) {
            page.heading("On this PC, with nothing chosen");
            for misfit in &here.misfits {
                page.line(format_args!("  {} {misfit}", warn("does not fit:")));
            }
            let mut table = Table::new(["setting", "now", "would be"]);
            for setting in &here.settings {
                table.row([
                    match self.addresses {
                        true => setting.wanted.address.to_string(),
                        false => short(&setting.wanted.address),
                    },
                    shown(&setting.now),
                    shown(&setting.wanted.state),
                ]);
            }
            if !here.settings.is_empty() {
                page.table(table);
                if !self.addresses {
                    page.line(dim("  --addresses shows where each is"));
                }
            }
        }
        page.heading("Sources");
        for source in self.sources {
            page.paragraph(2, &format!("{}: {}", source.title, source.states));
        }
        self.show_commands(page);
    }
}

/// What there is on a PC to choose from.
fn show_choices(choices: &[String], page: &mut Page) {
    const LISTED: usize = 30;
    page.line(dim("  on this PC"));
    choices.iter().take(LISTED).for_each(|choice| page.line(format_args!("    {choice}")));
    if choices.len() > LISTED {
        let more = choices.len() - LISTED;
        page.line(dim(format_args!(
            "    and {more} more: frevin tweak show … --json has them all"
        )));
    }
}

impl TweakReport<'_> {
    /// The commands that see, apply and try it: last, where the eye is when the page has scrolled. None
    /// where a person does it, where it does not fit, and of what does damage.
    fn show_commands(&self, page: &mut Page) {
        let fits = self.here.as_ref().is_none_or(|here| here.misfits.is_empty());
        let is_advised = match self.standing {
            Standing::Sound | Standing::Plausible | Standing::Contested | Standing::NoEffect => {
                true
            }
            Standing::Harmful => false,
        };
        if self.by_hand.is_some() || !fits || !is_advised {
            return;
        }
        let mut tweak = format!("--tweak {}", self.id);
        for (name, parameter) in self.parameters {
            if parameter.default.is_none() {
                tweak.push_str(&format!(" --set {name}=…"));
            }
        }
        page.heading("Next");
        page.pairs([
            ("see what it would change", format!("frevin preview {tweak}")),
            ("apply it", format!("frevin apply {tweak}")),
            ("find out whether it helps", format!("frevin trial start {tweak}")),
        ]);
    }
}
