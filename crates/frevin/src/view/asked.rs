//! Questions to the owner, as they are shown.

use frevin_core::owner_facts::{AnswerKind, OwnersFact, Question};
use frevin_pc::PcIdentity;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Page, count, dim, good, strong};
use crate::outcome::View;

/// What was asked of the owner.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct AskReport {
    pub(crate) pc: PcIdentity,
    /// The questions that are open.
    pub(crate) questions: Vec<Question>,
    /// The paths of the facts that were answered now.
    pub(crate) answered: Vec<&'static str>,
    /// The table of `config.toml` that answers go into.
    pub(crate) table: String,
    /// Whether somebody was there to be asked.
    #[serde(skip)]
    pub(crate) was_asked: bool,
}

impl View for AskReport {
    fn show(&self, page: &mut Page) {
        if self.was_asked {
            let answered = count(self.answered.len(), "answer");
            page.blank();
            page.line(good(format_args!("{answered} kept.")));
            if !self.questions.is_empty() {
                let open = count(self.questions.len(), "question");
                page.line(dim(format_args!(
                    "{open} left open: tweaks that need an answer say so."
                )));
            }
            return;
        }
        if self.questions.is_empty() {
            page.line(good(
                "Nothing needs to be asked: this PC tells what tweaks and findings need.",
            ));
            return;
        }
        page.heading("What this PC does not tell, what is most needed first");
        for question in &self.questions {
            show_question(question, page);
            page.paragraph(2, &self.as_written(question));
        }
        page.blank();
        page.paragraph_in(
            0,
            dim,
            "Answer in a terminal with `frevin inspect --ask`, or write the answers into config.toml in \
             Frevin's home, under the headings given here.",
        );
    }
}

impl AskReport {
    /// How an answer is written in `config.toml`.
    fn as_written(&self, question: &Question) -> String {
        let bare = |key: &&str| {
            let is_bare = key.chars().all(|c| c.is_ascii_alphanumeric() || "-_".contains(c));
            if is_bare { (*key).to_owned() } else { toml::Value::from(*key).to_string() }
        };
        let keys: Vec<String> = question.keys().iter().map(bare).collect();
        let (last, above) = keys.split_last().map_or(("", &[][..]), |(last, rest)| (last, rest));
        let table = [std::slice::from_ref(&self.table), above].concat().join(".");
        let value = match question.answer {
            AnswerKind::YesOrNo => "true or false".to_owned(),
            AnswerKind::OneOf { words } => {
                words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(" or ")
            }
            AnswerKind::Whole { .. } => question.answer.to_string(),
            AnswerKind::Day => "\"2026-05-20\"".to_owned(),
        };
        format!("[{table}]  {last} = {value}")
    }
}

/// Shows a question, where its answer is found, and what needs it.
pub(crate) fn show_question(question: &Question, page: &mut Page) {
    let (asked, found) = in_words(question.fact);
    let asked = question.of.as_ref().map_or(asked.to_owned(), |of| format!("{asked} ({of})"));
    page.paragraph_in(0, strong, &asked);
    if !found.is_empty() {
        page.paragraph(2, found);
    }
    let needs = [(question.tweaks.len(), "tweak"), (question.findings.len(), "finding")];
    let needs: Vec<String> = needs
        .into_iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, what)| count(number, what))
        .collect();
    page.paragraph_in(2, dim, &format!("Needed by {}.", needs.join(" and ")));
}

/// A question, and where its answer is found.
fn in_words(fact: OwnersFact) -> (&'static str, &'static str) {
    match fact {
        OwnersFact::Form => ("Is this a desktop, a laptop or a handheld?", ""),
        OwnersFact::Edition => (
            "Which edition of Windows is it?",
            "Settings, System, About, under Windows specifications.",
        ),
        OwnersFact::MixedCores => (
            "Does the processor have both fast and frugal cores?",
            "Its maker's page lists performance and efficiency cores apart.",
        ),
        OwnersFact::BaseClock => (
            "Which base clock is the processor sold for?",
            "Task Manager, Performance, CPU: the base speed, 3.6 GHz being 3600 MHz.",
        ),
        OwnersFact::SustainedClock => (
            "Which clock does the processor hold after ten minutes of full load?",
            "Task Manager, Performance, CPU: the speed, while a long game or a render runs.",
        ),
        OwnersFact::RatedMemorySpeed => (
            "Which speed is the memory sold for?",
            "On the modules' label or their box: the number after DDR4- or DDR5-.",
        ),
        OwnersFact::ActualMemorySpeed => {
            ("Which speed does the memory run at?", "Task Manager, Performance, Memory: the speed.")
        }
        OwnersFact::MemoryModules => (
            "How many modules of memory are there?",
            "Task Manager, Performance, Memory: the slots used.",
        ),
        OwnersFact::DriveKind => (
            "Is this drive solid-state, or does it spin?",
            "Task Manager, Performance, under the drive's name: SSD or HDD.",
        ),
        OwnersFact::CardIsDiscrete => (
            "Is this graphics card one of its own, and not a part of the processor?",
            "A card of its own has memory of its own: Task Manager, Performance, GPU, dedicated memory.",
        ),
        OwnersFact::CardMemory => (
            "How much memory of its own does this graphics card have?",
            "Task Manager, Performance, GPU, dedicated memory: 8 GB being 8192 MiB.",
        ),
        OwnersFact::CardDriverDate => (
            "Of which day is this graphics card's driver?",
            "Task Manager, Performance, GPU: the driver's date.",
        ),
        OwnersFact::CardSchedulesItself => (
            "Does Windows offer hardware-accelerated GPU scheduling for this card?",
            "Settings, System, Display, Graphics, the default settings: the switch is there or not.",
        ),
        OwnersFact::DisplayScaling => {
            ("Which scale does this display have?", "Settings, System, Display, Scale.")
        }
        OwnersFact::DisplayVariesRefresh => (
            "Can this display's refresh rate follow the frames (variable refresh rate)?",
            "Settings, System, Display, Graphics offers a switch for it, or the display's manual says so.",
        ),
        OwnersFact::Printer => ("Do you print from this PC, be it to a file?", ""),
        OwnersFact::VirtualMachines => {
            ("Do you run virtual machines, or Linux or Android inside Windows?", "")
        }
        OwnersFact::Recording => ("Do you record or stream your play?", ""),
        OwnersFact::FileSearch => {
            ("Do you search for your files from the task bar or the start menu?", "")
        }
        OwnersFact::TouchOrPen => ("Do you touch the display, or draw with a pen?", ""),
        OwnersFact::Camera => ("Do you use a camera on this PC?", ""),
        OwnersFact::Bluetooth => ("Do you use Bluetooth: headphones, a controller, a mouse?", ""),
        OwnersFact::OtherAntivirus => (
            "Is there an anti-virus other than Windows' own?",
            "Windows Security, Virus & threat protection: who manages providers.",
        ),
        OwnersFact::RemoteDesktop => ("Do you reach this PC from another one?", ""),
        OwnersFact::FileSharing => {
            ("Does this PC share files or printers with others in the house?", "")
        }
        OwnersFact::Scanner => ("Do you scan or fax from this PC?", ""),
        OwnersFact::Biometrics => ("Do you sign in by face or finger?", ""),
        OwnersFact::StoreGames => {
            ("Do you play games from Windows' own store, or from its game subscription?", "")
        }
        OwnersFact::GameBar => {
            ("Do you use the game bar, its captures, or a controller's home button?", "")
        }
        OwnersFact::Location => ("Do you use apps that want to know where this PC is?", ""),
        OwnersFact::Virtualization => (
            "Is virtualization switched on in the firmware?",
            "Task Manager, Performance, CPU: virtualization.",
        ),
        OwnersFact::CompatibilityStart => (
            "Does Windows start in the firmware's compatibility mode (legacy, CSM)?",
            "Run msinfo32: the BIOS mode is Legacy (yes) or UEFI (no).",
        ),
        OwnersFact::LargeGraphicsWindow => (
            "Does the processor see all of the graphics card's memory (resizable BAR)?",
            "The graphics driver's own panel says so, on its page about the system.",
        ),
        OwnersFact::GraphicsCarveOut => (
            "How much memory does the firmware set aside for the graphics in the processor?",
            "Task Manager, Performance, GPU, dedicated memory; or the firmware's own pages.",
        ),
        OwnersFact::VendorPowerModes => (
            "Does the maker of this PC have power and fan modes of its own?",
            "A program of the maker's, or keys for silent, balanced and performance.",
        ),
    }
}
