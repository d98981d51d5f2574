//! Text of strangers where somebody reads it: nothing in it is hidden, and it moves nothing.

use std::borrow::Cow;

/// Whether a character is not seen where it stands, or moves what stands around it: controls, line
/// ends, marks of direction, joiners of no width, tags ("Default ignorable code points" and
/// "Bidirectional formatting characters" in the Unicode standard).
pub fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}'..='\u{1160}'
            | '\u{17b4}'..='\u{17b5}' | '\u{180b}'..='\u{180f}' | '\u{200b}'..='\u{200f}'
            | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{3164}'
            | '\u{fe00}'..='\u{fe0f}' | '\u{feff}' | '\u{ffa0}' | '\u{fff9}'..='\u{fffb}'
            | '\u{e0000}'..='\u{e0fff}')
}

/// A text with every hidden character written as its number, so that it stays on its line and shows
/// all that is in it.
pub fn in_one_line(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hidden) {
        return text.into();
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match is_hidden(c) {
            true => shown.extend(c.escape_unicode()),
            false => shown.push(c),
        }
    }
    shown.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_hidden_is_shown_by_its_number() {
        assert_eq!(in_one_line("Größe 4:3 – ok"), "Größe 4:3 – ok");
        assert_eq!(in_one_line("a\nb\r\u{1b}[2J"), r"a\u{a}b\u{d}\u{1b}[2J");
        assert_eq!(in_one_line("txt.\u{202e}exe"), r"txt.\u{202e}exe");
        assert_eq!(in_one_line("\u{9b}31m\u{2066}x\u{200b}"), r"\u{9b}31m\u{2066}x\u{200b}");
    }
}
