//! The last step of all that is shown: what strangers wrote moves nothing on the terminal.

use std::fmt::Write as _;

use frevin_core::plain_text::is_hidden;

/// The beginnings of the marks that Frevin itself styles text with: they only colour what follows.
const STYLES: [&str; 6] =
    ["\u{1b}[0m", "\u{1b}[1m", "\u{1b}[2m", "\u{1b}[31m", "\u{1b}[32m", "\u{1b}[33m"];

/// Text for a terminal: lines and Frevin's own colours as they are, everything else that is hidden or
/// moves the cursor by its number.
pub(crate) fn for_terminal(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(style) = STYLES.iter().find(|style| rest.starts_with(**style)) {
            shown.push_str(style);
            rest = &rest[style.len()..];
            continue;
        }
        // The form of the character before is no more than that.
        let is_harmless = matches!(c, '\n' | '\t' | '\u{fe00}'..='\u{fe0f}');
        match is_hidden(c) && !is_harmless {
            true => shown.extend(c.escape_unicode()),
            false => shown.push(c),
        }
        rest = &rest[c.len_utf8()..];
    }
    shown
}

/// JSON, with what a terminal would take for more than text escaped as JSON escapes it: the same data.
pub(crate) fn json_for_terminal(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    for c in text.chars() {
        if is_hidden(c) && c != '\n' {
            for unit in c.encode_utf16(&mut [0; 2]) {
                let _ = write!(shown, "\\u{unit:04x}");
            }
        } else {
            shown.push(c);
        }
    }
    shown
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::view::{bad, dim, good, strong, warn};

    #[test]
    fn own_colours_stay_and_nothing_else_does() {
        let styled = [bad("a"), dim("b"), good("c"), strong("d"), warn("e")].concat();
        assert_eq!(for_terminal(&styled), styled);
        assert_eq!(for_terminal("a\r\u{1b}[2Jb\n"), "a\\u{d}\\u{1b}[2Jb\n");
        assert_eq!(for_terminal("\u{1b}]0;title\u{7}"), r"\u{1b}]0;title\u{7}");
        assert_eq!(for_terminal("x\u{202e}\u{2066}\u{9b}31m"), r"x\u{202e}\u{2066}\u{9b}31m");
    }

    #[test]
    fn json_says_the_same_without_a_hidden_character() {
        let data = serde_json::json!({ "a\u{202e}b": ["\u{9b}x", "\u{e0041}", "plain ü"] });
        let text = json_for_terminal(&serde_json::to_string_pretty(&data).unwrap_or_default());
        assert!(!text.contains(|c| is_hidden(c) && c != '\n'), "{text}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&text).ok(), Some(data));
    }
}
