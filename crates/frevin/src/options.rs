//! The options that every command takes.

use std::path::PathBuf;

use clap::Args;

/// Options that every command takes.
#[derive(Debug, Clone, Args)]
#[command(next_help_heading = "Everywhere")]
pub(crate) struct GlobalOptions {
    /// The PC that is meant: the folder of a rehearsal PC, or `live` [or FREVIN_PC]
    #[arg(long, global = true, value_name = "live|FOLDER")]
    pub(crate) pc: Option<String>,
    /// Where Frevin keeps its ledger and undo files [or FREVIN_HOME]
    #[arg(long, global = true, value_name = "FOLDER")]
    pub(crate) home: Option<PathBuf>,
    /// Print JSON
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Do not ask: yes to everything
    #[arg(long, short = 'y', global = true)]
    pub(crate) yes: bool,
    /// Print nothing but what was asked for
    #[arg(long, short, global = true)]
    pub(crate) quiet: bool,
    /// Log what is done, more for each v
    #[arg(long, short, global = true, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
    /// Wait so long for another Frevin that is changing the PC, instead of giving up at once
    #[arg(
        long,
        global = true,
        value_name = "SECONDS",
        default_value_t = 0,
        hide_default_value = true
    )]
    pub(crate) wait: u32,
    /// Work in this folder, and not in the one that it was started in: for what Windows starts elsewhere
    #[arg(long, global = true, hide = true, value_name = "FOLDER")]
    pub(crate) in_folder: Option<PathBuf>,
    /// Wait at the end, so that what was printed can be read before the window closes
    #[arg(long, global = true, hide = true)]
    pub(crate) keep_window: bool,
}
