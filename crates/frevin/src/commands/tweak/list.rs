//! `frevin tweak list`

use clap::Args;
use frevin_core::facts::Facts;
use frevin_core::setting::TakesEffect;
use frevin_core::tweak::{Arguments, Catalogue, Risk, Standing, Tweak, TweakId};
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Here, HereSetting, here, moment, standing};
use crate::failure::{Failure, Kind};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, count, dim, strong};

/// Which tweaks are listed.
#[derive(Debug, Args)]
pub(crate) struct ListArgs {
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
}

#[derive(Debug, JsonSchema, Serialize)]
struct TweakList {
    tweaks: Vec<ListedTweak>,
}

#[derive(Debug, JsonSchema, Serialize)]
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
    /// What it would come to on the PC that is meant, with nothing chosen; nothing where none is.
    here: Option<HereInShort>,
    /// Whether something of it has to be chosen.
    needs_choice: bool,
    /// Whether a person does it.
    is_by_hand: bool,
}

/// What a tweak would come to on a PC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "what")]
enum HereInShort {
    DoesNotFit,
    /// A person does it.
    ByHand,
    /// Something of it has to be chosen first.
    ToBeChosen,
    /// Every setting is as it would have it.
    AlreadySo,
    /// So many settings would be written.
    WouldWrite {
        settings: usize,
    },
}

/// Lists the tweaks that are asked for, `on` a PC where one is meant.
pub(super) fn list(
    catalogue: &Catalogue,
    on: Option<(&dyn Pc, &Facts)>,
    args: &ListArgs,
) -> Result<Outcome, Failure> {
    let ListArgs { area, fitting, risk, standing, search } = args;
    if let Some(area) = area {
        refuse_unknown_area(catalogue, area)?;
    }
    if *fitting && on.is_none() {
        return Err(Failure::new(Kind::Usage, "what fits is known only where a PC is named")
            .hint("say --pc FOLDER"));
    }
    let speaks = |tweak: &&Tweak| search.as_ref().is_none_or(|words| speaks_of(tweak, words));
    let is_meant = |tweak: &&Tweak| {
        area.as_ref().is_none_or(|area| tweak.id.area() == area)
            && risk.as_ref().is_none_or(|risk| tweak.risk.to_string() == *risk)
            && standing
                .as_ref()
                .is_none_or(|standing| tweak.standing.to_string().replace(' ', "-") == *standing)
    };
    let mut tweaks = catalogue
        .iter()
        .filter(speaks)
        .filter(is_meant)
        .map(|tweak| ListedTweak::of(tweak, on))
        .collect::<Result<Vec<_>, _>>()?;
    tweaks.retain(|tweak| !fitting || tweak.misfits.as_ref().is_some_and(Vec::is_empty));
    Ok(Outcome::yes(&TweakList { tweaks }))
}

/// Refuses an area that no tweak is of, and names those there are.
fn refuse_unknown_area(catalogue: &Catalogue, area: &str) -> Result<(), Failure> {
    let areas: std::collections::BTreeSet<&str> =
        catalogue.iter().map(|tweak| tweak.id.area()).collect();
    if areas.contains(area) {
        return Ok(());
    }
    let areas = areas.into_iter().collect::<Vec<_>>().join(", ");
    Err(Failure::new(Kind::NotFound, format!("there is no area `{area}`"))
        .hint(format!("there are {areas}")))
}

impl ListedTweak {
    fn of(tweak: &Tweak, on: Option<(&dyn Pc, &Facts)>) -> Result<Self, Failure> {
        let misfits = on.map(|(_, facts)| tweak.misfits(facts));
        let needs_choice = tweak.to_be_chosen(&Arguments::new()).next().is_some();
        let here = match on {
            None => None,
            Some(_) if misfits.as_ref().is_some_and(|misfits| !misfits.is_empty()) => {
                Some(HereInShort::DoesNotFit)
            }
            Some(_) if tweak.manual.is_some() => Some(HereInShort::ByHand),
            Some(_) if needs_choice => Some(HereInShort::ToBeChosen),
            Some((pc, facts)) => Some(HereInShort::of(&here(tweak, pc, facts)?)),
        };
        Ok(Self {
            id: tweak.id.clone(),
            title: tweak.title.clone(),
            standing: tweak.standing,
            risk: tweak.risk,
            takes_effect: tweak.takes_effect(),
            is_own: tweak.is_own,
            misfits,
            here,
            needs_choice,
            is_by_hand: tweak.manual.is_some(),
        })
    }
}

impl HereInShort {
    fn of(here: &Here) -> Self {
        let differs = |one: &&HereSetting| one.now != one.wanted.state;
        match (here.misfits.is_empty(), here.settings.iter().filter(differs).count()) {
            (false, _) => Self::DoesNotFit,
            (true, 0) => Self::AlreadySo,
            (true, settings) => Self::WouldWrite { settings },
        }
    }

    fn in_words(self) -> String {
        match self {
            Self::DoesNotFit => dim("does not fit"),
            Self::ByHand => "by hand".to_owned(),
            Self::ToBeChosen => "to be chosen".to_owned(),
            Self::AlreadySo => dim("already so"),
            Self::WouldWrite { settings } => format!("would write {}", count(settings, "setting")),
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

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<TweakList>("tweak list");
}

impl View for TweakList {
    fn show(&self, page: &mut Page) {
        if self.tweaks.is_empty() {
            page.line("No tweak is like that.");
            return;
        }
        // Narrower than that, titles would be columns of single words.
        const ONE_LINE_EACH: usize = 125;
        match Page::width() >= ONE_LINE_EACH {
            true => self.show_as_table(page),
            false => self.show_in_two_lines_each(page),
        }
        let number = count(self.tweaks.len(), "tweak");
        page.blank();
        page.line(dim(format_args!(
            "{number}. Fewer: --area NAME, --fitting, --search WORDS. All of one: frevin tweak show AREA/NAME"
        )));
    }
}

impl TweakList {
    fn show_as_table(&self, page: &mut Page) {
        let mut table = Table::new(["tweak", "title", "standing", "risk", "takes effect", "here"]);
        for tweak in &self.tweaks {
            table.row([
                strong(&tweak.id),
                tweak.title.clone(),
                standing(tweak.standing),
                tweak.risk.to_string(),
                moment(tweak.takes_effect),
                tweak.here.map(HereInShort::in_words).unwrap_or_default(),
            ]);
        }
        page.table(table);
    }

    fn show_in_two_lines_each(&self, page: &mut Page) {
        let mut area = "";
        for tweak in &self.tweaks {
            if tweak.id.area() != area {
                area = tweak.id.area();
                page.heading(area);
            }
            let whole = format!("{}  {}", tweak.id, tweak.title);
            match whole.chars().count() + 2 <= Page::width() {
                true => page.line(format_args!("  {}  {}", strong(&tweak.id), tweak.title)),
                false => {
                    page.line(format_args!("  {}", strong(&tweak.id)));
                    page.paragraph(4, &tweak.title);
                }
            }
            let mut told =
                vec![standing(tweak.standing), tweak.risk.to_string(), moment(tweak.takes_effect)];
            told.extend(tweak.here.map(HereInShort::in_words));
            page.line(format_args!("    {}", told.join(", ")));
        }
    }
}
