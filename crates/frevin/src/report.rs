//! Reports: what a command found, as data, with its text beside it.

use serde::Serialize;
use serde_json::Value;

use crate::view::Page;

/// What a command found: plain data that can be shown.
pub(crate) trait Report: Serialize {
    /// Writes the report for a person.
    fn show(&self, page: &mut Page);
}

/// A report with its exit code.
pub(crate) struct Answer {
    pub(crate) json: Value,
    pub(crate) page: Page,
    /// False where the answer to what was asked is no: drift found, verdict worse, lint failed.
    pub(crate) is_yes: bool,
    /// Whether it only tells that something was done, which nobody who wants quiet asks for.
    pub(crate) is_receipt: bool,
}

impl Answer {
    /// An answer that is yes, or that no question was asked for.
    pub(crate) fn yes(report: &impl Report) -> Self {
        Self::with(report, true)
    }

    /// The receipt for something that was done.
    pub(crate) fn done(report: &impl Report) -> Self {
        Self { is_receipt: true, ..Self::yes(report) }
    }

    /// An answer that is no, and has been shown already.
    pub(crate) fn no_more_to_say(report: &impl Report) -> Self {
        Self { page: Page::default(), ..Self::with(report, false) }
    }

    /// An answer that is yes or no.
    pub(crate) fn with(report: &impl Report, is_yes: bool) -> Self {
        let mut page = Page::default();
        report.show(&mut page);
        let json = serde_json::to_value(report).unwrap_or(Value::Null);
        Self { json, page, is_yes, is_receipt: false }
    }
}
