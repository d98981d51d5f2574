//! Going on as an administrator, where a command takes one and its owner says so.

use std::io::{self, IsTerminal as _};
use std::process::ExitCode;

use crate::options::GlobalOptions;
use crate::view::{Page, warn};

/// Starts this program with these words as an administrator, in a window of its own, which Windows asks its user for.
///
/// # Errors
/// Where that is refused, and where this is no Windows.
#[cfg(windows)]
pub(crate) fn start(words: &[String]) -> io::Result<()> {
    frevin_windows::start_as_administrator(words)
}

/// Only Windows has a question for that.
#[cfg(not(windows))]
pub(crate) fn start(_words: &[String]) -> io::Result<()> {
    Err(io::Error::new(io::ErrorKind::Unsupported, "only Windows asks for rights"))
}

/// Offers to go on with the same words as an administrator. Nothing where that is refused, where nobody is there to be
/// asked, or where this is no Windows.
pub(crate) fn offer(options: &GlobalOptions) -> Option<ExitCode> {
    let can_ask = io::stdin().is_terminal() && io::stderr().is_terminal();
    let is_wanted = !options.json && !options.quiet && !options.keep_window;
    if !cfg!(windows) || !is_wanted || !can_ask {
        return None;
    }
    let question =
        "Go on as an administrator? Windows asks for it, and it goes on in a window of its own";
    let agreed = dialoguer::Confirm::new().with_prompt(question).default(false).interact();
    if !agreed.unwrap_or(false) {
        return None;
    }
    match start(&words(options)) {
        Ok(()) => Some(ExitCode::SUCCESS),
        Err(error) => {
            let mut page = Page::default();
            page.line(warn(format_args!("It was not started as an administrator: {error}")));
            page.print_aside();
            None
        }
    }
}

/// The words that this was started with, behind what the other process would not know by itself: it gets neither this
/// one's folder nor its variables. Behind, since what stands after a `--` is a game's.
fn words(options: &GlobalOptions) -> Vec<String> {
    let mut words = vec!["--keep-window".to_owned()];
    let mut say = |option: &str, value: Option<String>| {
        if let Some(value) = value {
            words.extend([option.to_owned(), value]);
        }
    };
    let folder = std::env::current_dir().ok();
    say("--in-folder", folder.map(|folder| folder.display().to_string()));
    if options.home.is_none() {
        say("--home", std::env::var("FREVIN_HOME").ok());
    }
    if options.pc.is_none() {
        say("--pc", std::env::var("FREVIN_PC").ok());
    }
    words.extend(std::env::args().skip(1));
    words
}

#[cfg(test)]
mod tests {
    use clap::Parser as _;

    use super::*;

    #[derive(clap::Parser)]
    struct Words {
        #[command(flatten)]
        options: GlobalOptions,
    }

    #[test]
    fn the_other_process_is_told_where_this_one_is() {
        let words = words(&Words::parse_from(["frevin", "--home", "h", "--pc", "p"]).options);
        let folder = std::env::current_dir().unwrap().display().to_string();
        assert!(words.starts_with(&["--keep-window".to_owned(), "--in-folder".to_owned(), folder]));
    }
}
