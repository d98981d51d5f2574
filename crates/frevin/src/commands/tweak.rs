//! `frevin tweak`

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
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::compare::{Measured, MeasuredUse, measured};
use crate::operations::evidence::{ToldEvidence, told};
use crate::operations::target::find_tweak;
use crate::outcome::{Outcome, View};
use crate::view::evidence::show_evidence;
use crate::view::plan::{DangersTold, show_by_hand, show_dangers};
use crate::view::{Page, Table, bad, count, dim, good, named_among, shown, strong, warn};

/// The catalogue of tweaks
#[derive(Debug, Subcommand)]
pub(crate) enum TweakCommand {
    /// List tweaks, and whether they fit this PC
    List {
        /// Only this area
        #[arg(long)]
        area: Option<String>,
        /// Only those that fit this PC
        #[arg(long)]
        fitting: bool,
        /// Only of this risk
        #[arg(long, value_parser = ["safe", "trade-off", "expert"])]
        risk: Option<String>,
        /// Only of this standing
        #[arg(long, value_parser = ["sound", "plausible", "contested", "no-effect", "harmful"])]
        standing: Option<String>,
        /// Only those that speak of this in their name, title or texts
        #[arg(long, value_name = "WORDS")]
        search: Option<String>,
    },
    /// Show everything about a tweak: what it does, what it may break, what it would write here
    Show {
        /// The tweak
        #[arg(value_name = "AREA/NAME")]
        tweak: String,
    },
}

#[derive(Debug, Serialize)]
struct TweakList {
    tweaks: Vec<ListedTweak>,
}

#[derive(Debug, Serialize)]
struct ListedTweak {
    id: TweakId,
    title: String,
    standing: Standing,
    risk: Risk,
    takes_effect: TakesEffect,
    /// Whether it is from the owner's folder.
    is_own: bool,
    /// Why it does not fit the PC that is meant; nothing where none is.
    misfits: Option<Vec<String>>,
    /// Whether something of it has to be chosen.
    needs_choice: bool,
    /// Whether a person does it.
    is_by_hand: bool,
}

#[derive(Debug, Serialize)]
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
    parameters: &'a std::collections::BTreeMap<String, Parameter>,
    conflicts: &'a [TweakId],
    needs: &'a [TweakId],
    alternatives: &'a [TweakId],
    sources: &'a [Source],
    /// What a person does, where it is done by hand.
    by_hand: Option<ByHand>,
    /// What it is and would be on the PC that is meant, with nothing chosen.
    here: Option<Here>,
    /// What the ledger has measured of it.
    measured: Option<Measured>,
    /// What trials and sifts have told of it on this PC.
    evidence: Vec<ToldEvidence>,
}

#[derive(Debug, Serialize)]
struct Here {
    misfits: Vec<String>,
    settings: Vec<HereSetting>,
}

#[derive(Debug, Serialize)]
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
        TweakCommand::List { area, fitting, risk, standing, search } => {
            let listed = |tweak: &Tweak| ListedTweak {
                id: tweak.id.clone(),
                title: tweak.title.clone(),
                standing: tweak.standing,
                risk: tweak.risk,
                takes_effect: tweak.takes_effect(),
                is_own: tweak.is_own,
                misfits: facts.as_ref().map(|facts| tweak.misfits(facts)),
                needs_choice: tweak.to_be_chosen(&Arguments::new()).next().is_some(),
                is_by_hand: tweak.manual.is_some(),
            };
            if *fitting && facts.is_none() {
                return Err(Failure::new(
                    Kind::Usage,
                    "what fits is known only where a PC is named",
                )
                .hint("say --pc FOLDER"));
            }
            let speaks =
                |tweak: &&Tweak| search.as_ref().is_none_or(|words| speaks_of(tweak, words));
            let mut tweaks: Vec<_> = catalogue.iter().filter(speaks).map(listed).collect();
            tweaks.retain(|tweak| {
                area.as_ref().is_none_or(|area| tweak.id.area() == area)
                    && risk.as_ref().is_none_or(|risk| tweak.risk.to_string() == *risk)
                    && standing.as_ref().is_none_or(|standing| {
                        tweak.standing.to_string().replace(' ', "-") == *standing
                    })
                    && (!fitting || tweak.misfits.as_ref().is_some_and(Vec::is_empty))
            });
            Ok(Outcome::yes(&TweakList { tweaks }))
        }
        TweakCommand::Show { tweak } => {
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

/// Whether every one of the words stands in a tweak's texts, in any spelling of case.
fn speaks_of(tweak: &Tweak, words: &str) -> bool {
    let mut texts = format!(
        "{} {} {} {} {} {}",
        tweak.id,
        tweak.title,
        tweak.also_called.join(" "),
        tweak.what,
        tweak.why,
        tweak.standing_reason
    );
    for spec in &tweak.settings {
        texts.push(' ');
        texts.push_str(&spec.whereabouts.source());
    }
    let known = words_of(&texts);
    // A word that is searched for begins a word there: `shader` finds `shaders`, and `mpo` not `important`.
    words_of(words).iter().all(|word| known.iter().any(|known| known.starts_with(word.as_str())))
}

/// The words of a text in small letters. Those that a hyphen or a stroke joins are words of their own.
fn words_of(text: &str) -> Vec<String> {
    let words = text.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
    words.map(str::to_lowercase).collect()
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

impl View for TweakList {
    fn show(&self, page: &mut Page) {
        if self.tweaks.is_empty() {
            page.line("No tweak is like that.");
            return;
        }
        let mut table = Table::new(["tweak", "title", "standing", "risk", "acts after", "here"]);
        for tweak in &self.tweaks {
            let here = match &tweak.misfits {
                None => String::new(),
                Some(misfits) if misfits.is_empty() && tweak.is_by_hand => good("by hand"),
                Some(misfits) if misfits.is_empty() && tweak.needs_choice => good("to be chosen"),
                Some(misfits) if misfits.is_empty() => good("fits"),
                Some(_) => dim("does not fit"),
            };
            let moment = match tweak.takes_effect {
                TakesEffect::Now => "at once".to_owned(),
                later => later.to_string(),
            };
            table.row([
                strong(&tweak.id),
                tweak.title.clone(),
                standing(tweak.standing),
                tweak.risk.to_string(),
                moment,
                here,
            ]);
        }
        page.table(table);
    }
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
        let acts_after = match self.takes_effect {
            TakesEffect::Now => "nothing more: at once".to_owned(),
            later => format!("a {later}"),
        };
        let mut lines = vec![("risk", self.risk.to_string()), ("acts after", acts_after)];
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
                    setting.wanted.address.to_string(),
                    shown(&setting.now),
                    shown(&setting.wanted.state),
                ]);
            }
            page.table(table);
        }
        page.heading("Sources");
        for source in self.sources {
            page.paragraph(2, &format!("{}: {}", source.title, source.states));
        }
        self.show_commands(page);
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
