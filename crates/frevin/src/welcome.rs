//! What is said to somebody who started the program by a double click: a window that only flashed up would say nothing.

use std::io::{BufRead, Write};

/// What they may choose, each with the words that it stands for on a command line.
const CHOICES: [(&str, &str, &[&str]); 4] = [
    ("1", "see all of it once, on a PC that is simulated: the demo", &["demo", "--open"]),
    ("2", "look at this PC, and see what is plainly wrong with it", &["inspect"]),
    ("3", "find out whether Frevin keeps its promises here", &["self-test"]),
    ("4", "list the commands", &["--help"]),
];

const WELCOME: &str = "\
Frevin tweaks a Windows gaming PC, measures what came of it, and takes back what made it worse.

It is a program for a terminal: open one in this folder, and type `frevin --help`. From here you can

";

/// Tells what this is and carries out what is chosen, until there is nothing more to be chosen. `run` carries out the words
/// of a command line.
pub(crate) fn welcome(
    mut answers: impl BufRead,
    mut out: impl Write,
    mut run: impl FnMut(&[&str]),
) -> std::io::Result<()> {
    loop {
        write!(out, "{WELCOME}")?;
        for (key, what, _) in CHOICES {
            writeln!(out, "  {key}  {what}")?;
        }
        write!(out, "\nNone of these changes this PC. A number, or Enter to close: ")?;
        out.flush()?;
        let mut answer = String::new();
        if answers.read_line(&mut answer)? == 0 || answer.trim().is_empty() {
            return Ok(());
        }
        match CHOICES.iter().find(|(key, ..)| *key == answer.trim()) {
            Some((_, _, words)) => run(words),
            None => writeln!(out, "That is none of them.")?,
        }
        writeln!(out)?;
    }
}

/// Whether this program has its window for itself, and no words: it was not started from a terminal.
pub(crate) fn is_alone() -> bool {
    std::env::args_os().len() == 1 && owns_its_window()
}

#[cfg(windows)]
fn owns_its_window() -> bool {
    frevin_windows::owns_its_window()
}

#[cfg(not(windows))]
fn owns_its_window() -> bool {
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(answers: &str) -> (String, Vec<String>) {
        let (mut out, mut ran) = (Vec::new(), Vec::new());
        welcome(answers.as_bytes(), &mut out, |words| ran.push(words.join(" "))).unwrap();
        (String::from_utf8(out).unwrap(), ran)
    }

    #[test]
    fn what_is_chosen_is_carried_out_until_enter() {
        let (out, ran) = said("2\nx\n1\n\n4\n");
        assert_eq!(ran, ["inspect", "demo --open"]);
        assert_eq!(out.matches("That is none of them.").count(), 1);
        assert_eq!(out.matches("or Enter to close").count(), 4);
        // A window that is closed ends it too.
        assert_eq!(said("").1, Vec::<String>::new());
    }

    #[test]
    fn whoever_typed_words_is_not_welcomed() {
        // The tests are started from a terminal or a script, with or without words.
        assert!(!is_alone());
    }
}
