//! A restart as it is told.

use frevin_core::setting::{Address, TakesEffect};

use super::{Page, count, good, short};
use crate::operations::restart::RestartReport;
use crate::outcome::View;

impl View for RestartReport {
    fn show(&self, page: &mut Page) {
        let what = match self.restarted {
            TakesEffect::Now => "Nothing was to be restarted.",
            TakesEffect::ProgramRestart => "Programs were started again.",
            TakesEffect::ServiceRestart => "Services were restarted.",
            TakesEffect::DeviceRestart => "Devices were switched off and on.",
            TakesEffect::SignOut => "Signed out and in.",
            TakesEffect::Restart => "The PC was restarted.",
        };
        page.line(format_args!("{} {what}", good("Done.")));
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
