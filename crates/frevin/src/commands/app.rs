//! `frevin app`

use clap::Subcommand;
use frevin_core::setting::{Address, protection};
use frevin_pc::InstalledProgram;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::outcome::{Outcome, View};
use crate::view::{Page, Table, bytes, dim, strong};

/// Programs that are installed, with what they take on the disk
#[derive(Debug, Subcommand)]
pub(crate) enum AppCommand {
    /// List what is installed, the largest first, and how each is taken away
    List,
}

#[derive(Debug, Serialize)]
struct AppRow {
    #[serde(flatten)]
    program: InstalledProgram,
    /// Why it is protected; nothing of what may go.
    protected: Option<&'static str>,
}

#[derive(Debug, Serialize)]
struct AppsReport {
    apps: Vec<AppRow>,
}

pub(crate) fn run(context: &Context, command: &AppCommand) -> Result<Outcome, Failure> {
    match command {
        AppCommand::List => {
            let mut programs = context.pc()?.programs()?;
            programs.sort_by(|a, b| b.size_mib.cmp(&a.size_mib).then_with(|| a.name.cmp(&b.name)));
            Ok(Outcome::yes(&AppsReport { apps: programs.into_iter().map(row).collect() }))
        }
    }
}

fn row(program: InstalledProgram) -> AppRow {
    let address = program.family.as_ref();
    let address: Option<Address> =
        address.and_then(|family| format!("app:{family}#installed").parse().ok());
    let protected = address.and_then(|address| protection(&address)).map(|why| why.reason);
    AppRow { program, protected }
}

impl View for AppsReport {
    fn show(&self, page: &mut Page) {
        if self.apps.is_empty() {
            page.line("This PC tells of nothing that is installed.");
            return;
        }
        let mut table = Table::new(["program", "takes", "taken away by"]);
        for AppRow { program, protected } in &self.apps {
            let size = program.size_mib.map_or_else(|| dim("not told"), |mib| bytes(mib << 20));
            let way = match (&program.family, protected) {
                (_, Some(why)) => dim(format_args!("protected: it {why}")),
                (Some(family), None) => family.to_string(),
                (None, None) => dim("Windows' own list, by hand"),
            };
            table.row([strong(&program.name), size, way]);
        }
        page.table(table);
        page.blank();
        page.pairs([
            ("an app, by its family", "frevin preview --tweak apps/any-app --set apps=FAMILY"),
            ("another program", "frevin tweak show apps/desktop-programs"),
        ]);
    }
}
