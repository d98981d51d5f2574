//! A use of a tweak: the tweak with the arguments chosen for it.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

use super::definition::{Tweak, TweakId};
use super::parameter::Arguments;

/// A tweak with its arguments. A profile may use one tweak several times; what is held, taken back
/// and measured is a use.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize)]
pub struct TweakUse {
    /// The tweak.
    pub tweak: TweakId,
    /// What is chosen for every parameter; nothing where an earlier Frevin did not keep it.
    pub arguments: Option<Arguments>,
}

impl TweakUse {
    /// A tweak with these arguments, and its defaults for the rest.
    pub fn of(tweak: &Tweak, given: &Arguments) -> Self {
        Self { tweak: tweak.id.clone(), arguments: Some(tweak.complete(given)) }
    }

    /// A tweak of which nothing can be chosen.
    pub fn plain(tweak: TweakId) -> Self {
        Self { tweak, arguments: Some(Arguments::new()) }
    }

    /// A tweak whose arguments are not known.
    pub fn unknown(tweak: TweakId) -> Self {
        Self { tweak, arguments: None }
    }

    /// Whether all of these are among its arguments.
    pub fn has(&self, some: &Arguments) -> bool {
        let Some(arguments) = &self.arguments else { return false };
        some.iter().all(|(name, value)| arguments.get(name) == Some(value))
    }

    /// What tells it from the other uses of its tweak among `others`: the arguments that differ.
    /// Empty where it is the only one.
    pub fn differing<'a>(&self, others: impl IntoIterator<Item = &'a Self>) -> Arguments {
        let mut differing = Arguments::new();
        let Some(own) = &self.arguments else { return differing };
        for other in others.into_iter().filter(|other| other.tweak == self.tweak) {
            let Some(theirs) = &other.arguments else { continue };
            let apart = own.iter().filter(|(name, value)| theirs.get(*name) != Some(value));
            differing.extend(apart.map(|(name, value)| (name.clone(), value.clone())));
        }
        differing
    }
}

/// The tweak's name; what was chosen is told where several uses have to be told apart.
impl fmt::Display for TweakUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.tweak.fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tweak::Argument;

    fn used(delay: i64) -> TweakUse {
        let arguments = [
            ("delay".to_owned(), Argument::Whole(delay)),
            ("fast".to_owned(), Argument::Flag(true)),
        ];
        TweakUse { tweak: "a/b".parse().unwrap(), arguments: Some(arguments.into()) }
    }

    #[test]
    fn uses_are_told_apart_by_what_differs() {
        let (one, two) = (used(1), used(2));
        let told = one.differing([&one, &two]);
        assert_eq!(told, [("delay".to_owned(), Argument::Whole(1))].into());
        assert!(one.differing([&one]).is_empty());
        assert!(one.has(&told) && !two.has(&told));
        assert!(!TweakUse::unknown(one.tweak.clone()).has(&told));
    }

    #[test]
    fn a_stored_use_comes_back_with_the_kinds_of_its_arguments() {
        let mut arguments = Arguments::new();
        arguments.insert("choice".into(), Argument::Choice("x".into()));
        arguments.insert("text".into(), Argument::Text("x".into()));
        arguments.insert("names".into(), Argument::Names(vec!["x".into()]));
        arguments.insert("subset".into(), Argument::Subset(["x".to_owned()].into()));
        let stored = TweakUse { tweak: "a/b".parse().unwrap(), arguments: Some(arguments) };
        let text = serde_json::to_string(&stored).unwrap();
        assert_eq!(serde_json::from_str::<TweakUse>(&text).unwrap(), stored);
    }
}
