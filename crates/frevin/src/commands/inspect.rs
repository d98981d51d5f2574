//! `frevin inspect`

use clap::Args;
use frevin_core::findings::rules;
use frevin_core::owner_facts::questions;
use frevin_pc::Pc;

use crate::context::{Context, owners_table};
use crate::failure::Failure;
use crate::operations::inspect::inspect;
use crate::outcome::Outcome;
use crate::view::asked::{AskReport, show_question};
use crate::view::{Page, dim};

/// Show what is known of the PC, what is plainly wrong with it, and what Frevin has done to it
#[derive(Debug, Args)]
pub(crate) struct InspectArgs {
    /// Ask for what the PC does not tell and some tweak or finding needs, and keep the answers in
    /// config.toml; where there is no terminal, print the questions
    #[arg(long)]
    ask: bool,
}

pub(crate) fn run(context: &Context, args: &InspectArgs) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    if args.ask {
        return Ok(Outcome::yes(&ask(context, &*pc)?));
    }
    Ok(Outcome::yes(&inspect(context, &*pc, &context.ledger()?)?))
}

/// The word that ends the questions.
const STOP: &str = "stop";

fn ask(context: &Context, pc: &dyn Pc) -> Result<AskReport, Failure> {
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
