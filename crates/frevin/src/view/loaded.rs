//! The clock that a processor held under load, as it is shown.

use frevin_core::clock_held::ClockHeld;
use frevin_pc::PcIdentity;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Page, dim, good, warn};
use crate::outcome::View;

/// What came of loading the processor.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct LoadReport {
    pub(crate) pc: PcIdentity,
    pub(crate) seconds: u32,
    #[serde(flatten)]
    pub(crate) clock: ClockHeld,
    /// What was known before of the clock that it holds, in MHz.
    pub(crate) held_before_mhz: Option<u32>,
}

impl View for LoadReport {
    fn show(&self, page: &mut Page) {
        let clock = &self.clock;
        page.heading(format_args!(
            "The processor of {} under load for {} s",
            self.pc.name, self.seconds
        ));
        let mhz = |mhz: f64| format!("{mhz:.0} MHz");
        let mut lines = vec![
            ("at first", mhz(clock.at_first_mhz)),
            ("held", mhz(clock.held_mhz)),
            ("lowest", mhz(clock.lowest_mhz)),
        ];
        lines.extend(clock.base_mhz.map(|base| ("sold for", mhz(base.into()))));
        lines.extend(self.held_before_mhz.map(|held| ("held before", mhz(held.into()))));
        page.pairs(lines);
        page.blank();
        if clock.tells_only_base {
            page.paragraph_in(
                0,
                warn,
                "Windows tells only the clock that this processor is sold for, so nothing was seen. Watch it in \
                 the maker's own program, and tell it: `frevin inspect --ask`.",
            );
            return;
        }
        match clock.base_mhz {
            Some(base) if clock.held_mhz < f64::from(base) => page.paragraph_in(
                0,
                warn,
                "It sags below what it is sold for: heat or power holds it back (`frevin tweak show \
                 firmware/fan-curve`).",
            ),
            Some(_) => page.line(good("It holds what it is sold for.")),
            None => {}
        }
        page.line(dim(
            "Kept as processor.sustained_mhz. After a change in the firmware, look again.",
        ));
    }
}
