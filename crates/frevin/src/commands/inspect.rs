//! `frevin inspect`

use clap::Args;
use frevin_core::findings::rules;
use frevin_core::owner_facts::questions;
use frevin_pc::Pc;
use serde_json::json;

use crate::context::{Context, owners_table};
use crate::failure::Failure;
use crate::operations::inspect::inspect;
use crate::operations::load::under_load;
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::asked::{AskReport, show_question};
use crate::view::loaded::LoadReport;
use crate::view::{Page, dim};

/// Show what is known of the PC, what is plainly wrong with it, and what Frevin has done to it
#[derive(Debug, Args)]
pub(crate) struct InspectArgs {
    /// Ask for what the PC does not tell and some tweak or finding needs, and keep the answers in
    /// config.toml; where there is no terminal, print the questions
    #[arg(long)]
    ask: bool,
    /// Let every thread of the processor compute for so many seconds, read the clock that it holds, and keep it in
    /// config.toml as what the processor holds: whether a change of the firmware took
    #[arg(long, value_name = "SECONDS", num_args = 0..=1, default_missing_value = "60",
          value_parser = clap::value_parser!(u32).range(5..=1800), conflicts_with = "ask")]
    load: Option<u32>,
}

pub(crate) fn run(context: &Context, args: &InspectArgs) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    if args.ask {
        return Ok(Outcome::yes(&ask(context, &*pc)?));
    }
    if let Some(seconds) = args.load {
        return Ok(Outcome::yes(&load(context, &*pc, seconds)?));
    }
    Ok(Outcome::yes(&inspect(context, &*pc, &context.ledger()?)?))
}

/// Reads the clock under load, and keeps it as the fact that it is.
fn load(context: &Context, pc: &dyn Pc, seconds: u32) -> Result<LoadReport, Failure> {
    let before = context.facts(pc)?.processor.sustained_mhz;
    let clock = under_load(context, pc, seconds)?;
    if !clock.tells_only_base {
        let mut told = context.owners_facts(pc)?;
        let processor = told.entry("processor").or_insert_with(|| json!({}));
        processor["sustained_mhz"] = json!(clock.held_mhz.round() as u32);
        context.configure_facts(pc, &told)?;
    }
    Ok(LoadReport { pc: pc.identity().clone(), seconds, clock, held_before_mhz: before })
}

/// The word that ends the questions.
const STOP: &str = "stop";

/// Asks for what the PC does not tell, where somebody can be asked.
pub(super) fn ask(context: &Context, pc: &dyn Pc) -> Result<AskReport, Failure> {
    let catalogue = context.catalogue()?;
    let rules = rules()?;
    let mut report = AskReport {
        pc: pc.identity().clone(),
        questions: questions(&context.facts(pc)?, catalogue.iter(), &rules),
        answered: Vec::new(),
        table: owners_table(pc.identity()),
        was_asked: context.can_ask(),
    };
    if !report.was_asked || report.questions.is_empty() {
        return Ok(report);
    }
    let mut told = context.owners_facts(pc)?;
    let mut page = Page::default();
    page.line(
        "An empty line passes over a question; `stop` ends them. Each answer is kept at once.",
    );
    page.print()?;
    let number = report.questions.len();
    for (at, question) in report.questions.iter().enumerate() {
        let mut page = Page::default();
        page.blank();
        page.line(dim(format_args!("{} of {number}", at + 1)));
        show_question(question, &mut page);
        page.print()?;
        let fault = |line: &str| {
            let is_heard = line.trim() == STOP || question.answer.read(line).is_some();
            (!is_heard).then(|| format!("it takes {}", question.answer))
        };
        match context.ask_for(&question.answer.to_string(), fault)? {
            None => {}
            Some(line) if line == STOP => break,
            Some(line) => {
                let Some(answer) = question.answer.read(&line) else { continue };
                question.tell(&mut told, answer);
                context.configure_facts(pc, &told)?;
                report.answered.push(question.path);
            }
        }
    }
    report.questions = questions(&context.facts(pc)?, catalogue.iter(), &rules);
    Ok(report)
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<crate::operations::inspect::InspectReport>("inspect");
    schemas.prints::<AskReport>("inspect");
    schemas.prints::<LoadReport>("inspect");
}
