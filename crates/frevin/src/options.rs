//! The options that every command takes.

use std::path::PathBuf;

use clap::Args;

/// Options that every command takes.
#[derive(Debug, Args)]
#[command(next_help_heading = "Everywhere")]
pub(crate) struct GlobalOptions {
    /// The PC that is meant: the folder of a rehearsal PC, or `live`
    #[arg(
        long,
        global = true,
        env = "FREVIN_PC",
        value_name = "live|FOLDER",
        hide_env_values = true
    )]
    pub(crate) pc: Option<String>,
    /// Where Frevin keeps its ledger and undo files
    #[arg(long, global = true, env = "FREVIN_HOME", value_name = "FOLDER", hide_env_values = true)]
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
}
