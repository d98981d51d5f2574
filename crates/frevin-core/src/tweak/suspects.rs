//! From a symptom to a tweak: which of those in force may have broken something.

use super::definition::Tweak;

/// Words that say nothing of what is broken.
const EMPTY: [&str; 34] = [
    "a", "all", "and", "any", "any more", "are", "at", "broken", "can", "cannot", "does", "doesn",
    "gone", "has", "in", "is", "it", "longer", "my", "no", "not", "nothing", "of", "on", "since",
    "still", "stopped", "t", "the", "to", "when", "with", "work", "works",
];
/// Words of this length and more are told by how they begin: `printing` and `printer`.
const BEGINNING: usize = 5;

fn words(text: &str) -> Vec<String> {
    text.split(|c: char| !c.is_alphanumeric())
        .filter(|word| !word.is_empty())
        .map(str::to_lowercase)
        .collect()
}

/// Whether two words are of one kind: the same, or one begins as the other does.
fn are_alike(one: &str, other: &str) -> bool {
    let begin = |text: &str| text.chars().take(BEGINNING).collect::<String>();
    one == other
        || (one.chars().count() >= BEGINNING
            && other.chars().count() >= BEGINNING
            && begin(one) == begin(other))
}

/// How much a tweak speaks of a symptom, in a player's own words: 0 where it does not. What it may break counts most,
/// then its names, then what it does.
pub fn speaks_of_symptom(tweak: &Tweak, symptom: &str) -> u32 {
    let asked: Vec<String> =
        words(symptom).into_iter().filter(|word| !EMPTY.contains(&word.as_str())).collect();
    let names =
        [tweak.title.as_str(), tweak.id.as_str()].join(" ") + " " + &tweak.also_called.join(" ");
    let weighed = [(3, words(&tweak.may_break)), (2, words(&names)), (1, words(&tweak.what))];
    asked
        .iter()
        .map(|word| {
            let of = |(weight, text): &(u32, Vec<String>)| {
                if text.iter().any(|known| are_alike(known, word)) { *weight } else { 0 }
            };
            weighed.iter().map(of).max().unwrap_or(0)
        })
        .sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tweak::Catalogue;

    fn most_suspect(symptom: &str) -> Vec<String> {
        let catalogue = Catalogue::built_in().unwrap();
        let mut found: Vec<(u32, String)> = catalogue
            .iter()
            .map(|tweak| (speaks_of_symptom(tweak, symptom), tweak.id.to_string()))
            .filter(|(score, _)| *score > 0)
            .collect();
        found.sort_by(|a, b| b.cmp(a));
        found.into_iter().map(|(_, id)| id).collect()
    }

    #[test]
    fn a_symptom_in_a_players_words_leads_to_what_may_have_broken_it() {
        for (symptom, tweak) in [
            ("my printer doesn't print any more", "services/printing"),
            ("search is gone from the task bar", "services/file-search"),
            ("the recycle bin is empty", "clean/old-files"),
        ] {
            let found = most_suspect(symptom);
            let place = found.iter().position(|id| id == tweak);
            assert!(place.is_some_and(|place| place < 6), "{symptom}: {found:?}");
        }
    }

    #[test]
    fn words_that_say_nothing_lead_nowhere() {
        assert!(most_suspect("it is not working since").len() < 20);
        assert_eq!(most_suspect("the is not"), Vec::<String>::new());
        assert_eq!(most_suspect(""), Vec::<String>::new());
        assert!(are_alike("printing", "printer") && !are_alike("print", "prism"));
    }
}
