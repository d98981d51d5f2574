//! Taking what is private out of a text before it goes to others.

/// Takes a person's name out of paths and mail addresses, and `words` (the names of the user and the
/// PC) wherever they stand, and says what was taken out.
pub fn without_private(text: &str, words: &[String]) -> (String, Vec<String>) {
    let mut taken = Vec::new();
    let mut clean = after_each(text, r"\Users\", &mut taken);
    clean = after_each(&clean, "/home/", &mut taken);
    clean = after_each(&clean, "/Users/", &mut taken);
    clean = without_addresses(&clean, &mut taken);
    // A name that a path gave away may stand elsewhere too.
    let names: Vec<String> = taken.iter().filter(|name| !name.contains('@')).cloned().collect();
    for word in words.iter().chain(&names).filter(|word| word.chars().count() >= 3) {
        clean = without_word(&clean, word, &mut taken);
    }
    taken.sort();
    taken.dedup();
    (clean, taken)
}

const INSTEAD: &str = "someone";

fn is_in_name(c: char) -> bool {
    !(c.is_control() || matches!(c, '\\' | '/' | '"' | '\'' | '<' | '>' | '|' | ':' | '*' | '?'))
}

/// Puts something else for the name that follows each `mark`.
fn after_each(text: &str, mark: &str, taken: &mut Vec<String>) -> String {
    let mut clean = String::new();
    let mut rest = text;
    let mark = mark.to_ascii_lowercase();
    while let Some(at) = rest.to_ascii_lowercase().find(&mark) {
        let (before, behind) = rest.split_at(at + mark.len());
        // In TOML a backslash may be written twice.
        let behind_mark = behind.trim_start_matches('\\');
        let end = behind_mark.find(|c| !is_in_name(c)).unwrap_or(behind_mark.len());
        let name = &behind_mark[..end];
        clean.push_str(before);
        clean.push_str(&behind[..behind.len() - behind_mark.len()]);
        if !name.is_empty() && name != INSTEAD {
            taken.push(name.to_owned());
            clean.push_str(INSTEAD);
        } else {
            clean.push_str(name);
        }
        rest = &behind_mark[end..];
    }
    clean + rest
}

fn without_addresses(text: &str, taken: &mut Vec<String>) -> String {
    let mut clean = String::new();
    let is_part = |c: char| c.is_alphanumeric() || "._%+-@".contains(c);
    let mut rest = text;
    while let Some(start) = rest.find(is_part) {
        clean.push_str(&rest[..start]);
        let word = &rest[start..];
        let word = &word[..word.find(|c| !is_part(c)).unwrap_or(word.len())];
        let is_address = word
            .split_once('@')
            .is_some_and(|(who, at)| !who.is_empty() && at.contains('.') && !at.contains('@'));
        if is_address {
            taken.push(word.to_owned());
            clean.push_str(INSTEAD);
        } else {
            clean.push_str(word);
        }
        rest = &rest[start + word.len()..];
    }
    clean + rest
}

fn without_word(text: &str, word: &str, taken: &mut Vec<String>) -> String {
    let mut clean = String::new();
    let mut rest = text;
    while let Some(start) = rest.find(char::is_alphanumeric) {
        clean.push_str(&rest[..start]);
        let found = &rest[start..];
        let found = &found[..found.find(|c: char| !c.is_alphanumeric()).unwrap_or(found.len())];
        // A name of several words is met as a whole.
        let candidate = rest[start..].get(..word.len()).unwrap_or_default();
        let ends = rest[start..]
            .get(word.len()..)
            .is_none_or(|behind| behind.chars().next().is_none_or(|c| !c.is_alphanumeric()));
        if ends && candidate.eq_ignore_ascii_case(word) {
            taken.push(candidate.to_owned());
            clean.push_str(INSTEAD);
            rest = &rest[start + word.len()..];
        } else {
            clean.push_str(found);
            rest = &rest[start + found.len()..];
        }
    }
    clean + rest
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_of_people_and_pcs_are_taken_out() {
        let text = r#"note = "Ida's PC, write to ida.b@example.org"
program = 'C:\Users\Ida Berg\Games\a.exe'
other = "C:\\Users\\Ida Berg\\x" and /home/ida/y, Idaho stays"#;
        let (clean, taken) = without_private(text, &["ida".to_owned(), "Big Blue".to_owned()]);
        let expected = r#"note = "someone's PC, write to someone"
program = 'C:\Users\someone\Games\a.exe'
other = "C:\\Users\\someone\\x" and /home/someone/y, Idaho stays"#;
        assert_eq!(clean, expected);
        assert_eq!(taken, ["Ida", "Ida Berg", "ida", "ida.b@example.org"]);
        assert_eq!(without_private("on Big Blue", &["big blue".to_owned()]).0, "on someone");
    }

    proptest! {
        #[test]
        fn what_is_clean_stays_as_it_is(text in r"[a-zA-Z0-9 .,\\/\n]{0,60}\PC{0,20}") {
            let (clean, _) = without_private(&text, &["ida".to_owned()]);
            let (again, taken) = without_private(&clean, &["ida".to_owned()]);
            prop_assert_eq!(again, clean);
            prop_assert_eq!(taken, Vec::<String>::new());
        }
    }
}
