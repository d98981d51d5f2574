//! Outcomes: a command's result as data, with its text beside it.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use crate::view::Page;

/// Plain data that can be shown.
pub(crate) trait View: Serialize + JsonSchema {
    /// Writes it for a person.
    fn show(&self, page: &mut Page);

    /// Writes what is to be said beside it, where the page itself may be passed on to another program.
    fn show_aside(&self, _page: &mut Page) {}
}

/// The result of a command, with what its exit code hangs on.
pub(crate) struct Outcome {
    /// The data, or why they cannot be written.
    pub(crate) json: Result<Value, String>,
    pub(crate) page: Page,
    /// What is told beside it, on standard error.
    pub(crate) aside: Page,
    /// False where the answer to what was asked is no: drift found, verdict worse, lint failed.
    pub(crate) is_yes: bool,
    /// Whether it only tells that something was done, which nobody who wants quiet asks for.
    pub(crate) is_receipt: bool,
}

impl Outcome {
    /// An answer that is yes, or that no question was asked for.
    pub(crate) fn yes(report: &impl View) -> Self {
        Self::with(report, true)
    }

    /// The receipt for something that was done.
    pub(crate) fn done(report: &impl View) -> Self {
        Self { is_receipt: true, ..Self::yes(report) }
    }

    /// An answer that is no, and has been shown already.
    pub(crate) fn no_more_to_say(report: &impl View) -> Self {
        Self { page: Page::default(), ..Self::with(report, false) }
    }

    /// An answer that is yes or no.
    pub(crate) fn with(report: &impl View, is_yes: bool) -> Self {
        let (mut page, mut aside) = (Page::default(), Page::default());
        report.show(&mut page);
        report.show_aside(&mut aside);
        let json = serde_json::to_value(report).map_err(|error| error.to_string());
        Self { json, page, aside, is_yes, is_receipt: false }
    }
}
