//! A restart as it is told.

use frevin_core::setting::Address;

use super::{Page, count, good, short};
use crate::operations::restart::RestartReport;
use crate::outcome::View;

impl View for RestartReport {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("{} The PC has started {} times.", good("Restarted."), self.boots));
        show_took_effect(&self.took_effect, page);
    }
}

/// The settings that took effect.
pub(crate) fn show_took_effect(settings: &[Address], page: &mut Page) {
    if settings.is_empty() {
        page.line("Nothing was waiting for it.");
        return;
    }
    page.line(format_args!("{} took effect:", count(settings.len(), "setting")));
    settings.iter().for_each(|address| page.line(format_args!("  {}", short(address))));
}
