//! A saved profile as it is told.

use super::{Page, dim, good, strong};
use crate::operations::profiles::SaveReport;
use crate::outcome::View;

impl View for SaveReport {
    fn show(&self, page: &mut Page) {
        let (name, hash) = (self.revision.name(), self.revision.hash.short());
        if self.is_new {
            page.line(format_args!("{} Saved as {} {}.", good("Done."), strong(name), dim(hash)));
        } else {
            page.line(format_args!("Nothing new: the document is {name} {} already.", dim(hash)));
        }
    }
}
