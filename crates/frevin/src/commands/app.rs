//! `frevin app`

use clap::Subcommand;
use frevin_core::setting::{Address, protection};
use frevin_pc::{InstalledProgram, StartLength, StartupCosts, StartupEntry};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::operations::choices::quoted;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, bytes, dim, strong};

/// Programs that are installed, with what they take on the disk
#[derive(Debug, Subcommand)]
pub(crate) enum AppCommand {
    /// List what is installed, the largest first, and how each is taken away
    List,
    /// Show what starts with the PC: what each entry takes, the most memory first, and how long the latest start took
    Startup,
}

#[derive(Debug, JsonSchema, Serialize)]
struct AppRow {
    #[serde(flatten)]
    program: InstalledProgram,
    /// Why it is protected; nothing of what may go.
    protected: Option<&'static str>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct AppsReport {
    apps: Vec<AppRow>,
}

/// What starts with the PC.
#[derive(Debug, JsonSchema, Serialize)]
struct StartupReport {
    #[serde(flatten)]
    costs: StartupCosts,
}

pub(crate) fn run(context: &Context, command: &AppCommand) -> Result<Outcome, Failure> {
    match command {
        AppCommand::List => {
            let mut programs = context.pc()?.programs()?;
            programs.sort_by(|a, b| b.size_mib.cmp(&a.size_mib).then_with(|| a.name.cmp(&b.name)));
            Ok(Outcome::yes(&AppsReport { apps: programs.into_iter().map(row).collect() }))
        }
        AppCommand::Startup => {
            let mut costs = context.pc()?.startup()?;
            let memory_mib = |entry: &StartupEntry| entry.running.map(|running| running.memory_mib);
            costs.entries.sort_by(|a, b| {
                memory_mib(b).cmp(&memory_mib(a)).then_with(|| a.entry.cmp(&b.entry))
            });
            Ok(Outcome::yes(&StartupReport { costs }))
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

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<AppsReport>("app list");
    schemas.prints::<StartupReport>("app startup");
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

impl View for StartupReport {
    fn show(&self, page: &mut Page) {
        let StartupCosts { entries, latest_start } = &self.costs;
        if entries.is_empty() {
            page.line("Nothing starts with this PC that Frevin could tell.");
        } else {
            let mut table =
                Table::new(["entry", "program", "starts", ">memory", ">processor time"]);
            for StartupEntry { entry, is_on, program, running } in entries {
                let told = |of: Option<String>| of.unwrap_or_default();
                table.row([
                    strong(entry),
                    program.clone().unwrap_or_else(|| dim("not told")),
                    match is_on {
                        Some(true) => "yes".to_owned(),
                        Some(false) => dim("switched off"),
                        None => dim("not told"),
                    },
                    told(running.map(|running| bytes(running.memory_mib << 20))),
                    told(running.map(|running| format!("{:.1} s", running.processor_s))),
                ]);
            }
            page.table(table);
            let running = entries.iter().filter_map(|entry| entry.running);
            let memory_mib: u64 = running.map(|running| running.memory_mib).sum();
            let on = entries.iter().filter(|entry| entry.is_on == Some(true)).count();
            page.blank();
            page.line(format_args!(
                "{on} of {} are on; their programs hold {}.",
                entries.len(),
                bytes(memory_mib << 20)
            ));
        }
        if let Some(StartLength { to_desktop_s, whole_s }) = latest_start {
            page.line(format_args!(
                "The latest start took {whole_s:.1} s, {to_desktop_s:.1} s of it to the desktop."
            ));
        }
        if let Some(first) = entries.iter().find(|entry| entry.is_on == Some(true)) {
            page.heading("Next");
            let set = quoted(&format!("entries={}", first.entry));
            page.pairs([
                ("switch one off", format!("frevin apply --tweak startup/entries --set {set}")),
                ("see what comes of it", "frevin app startup".to_owned()),
            ]);
        }
    }
}
