//! Problems found in a person's document, each with the place it was found at.
//!
//! Documents come from people and from strangers, so a problem always says what is wrong, where
//! (as a byte range of the text that was read) and what to do next. How it is drawn is the
//! business of the shell.

use schemars::JsonSchema;
use serde::Serialize;
use std::fmt;
use std::ops::Range;

/// One thing wrong with a document.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Problem {
    /// What is wrong.
    pub message: String,
    /// What the reader can do about it.
    pub advice: Option<String>,
    /// The bytes of the document that it is about, where it is about a part of it.
    pub span: Option<Range<usize>>,
    /// Another place that it has to do with, and what stands there.
    pub related: Option<(Range<usize>, &'static str)>,
}

impl Problem {
    /// A problem at a place in the text.
    pub fn at(span: Range<usize>, message: impl Into<String>) -> Self {
        Self { message: message.into(), advice: None, span: Some(span), related: None }
    }

    /// A problem with the document as a whole.
    pub fn overall(message: impl Into<String>) -> Self {
        Self { message: message.into(), advice: None, span: None, related: None }
    }

    /// The same problem with another place that it has to do with.
    #[must_use]
    pub fn related(mut self, span: Range<usize>, what: &'static str) -> Self {
        self.related = Some((span, what));
        self
    }

    /// The same problem with what to do about it.
    #[must_use]
    pub fn advise(mut self, advice: impl Into<String>) -> Self {
        self.advice = Some(advice.into());
        self
    }
}

/// A line and a column, both counted from 1; the column counts characters, not bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Place {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

/// Where a byte offset of `text` lies. An offset past the end is placed at the end.
pub fn place_of(text: &str, offset: usize) -> Place {
    let mut end = offset.min(text.len());
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let before = &text[..end];
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    Place {
        line: before.matches('\n').count() + 1,
        column: before[line_start..].chars().count() + 1,
    }
}

/// A document that cannot be used, with every problem found in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadDocument {
    /// How the reader knows the document: a file name as a rule.
    pub name: String,
    /// The text that was read.
    pub text: String,
    /// What is wrong with it; never empty.
    pub problems: Vec<Problem>,
}

impl BadDocument {
    /// A document that is not TOML, with every place where it is not; or else one that does not
    /// have the shape that was expected of it, as `error` says.
    pub(crate) fn from_toml(name: &str, text: &str, error: &toml::de::Error) -> Self {
        let (_, syntax_errors) = toml::de::DeTable::parse_recoverable(text);
        let errors = if syntax_errors.is_empty() {
            std::slice::from_ref(error)
        } else {
            syntax_errors.as_slice()
        };
        let problem = |error: &toml::de::Error| Problem {
            message: error.message().to_owned(),
            advice: None,
            span: error.span(),
            related: None,
        };
        Self::new(name, text, errors.iter().map(problem).collect())
    }

    /// A document with its problems, put into the order of their places.
    pub(crate) fn new(name: &str, text: &str, mut problems: Vec<Problem>) -> Self {
        problems.sort_by_key(|problem| problem.span.as_ref().map(|span| span.start));
        Self { name: name.to_owned(), text: text.to_owned(), problems }
    }
}

impl fmt::Display for BadDocument {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, problem) in self.problems.iter().enumerate() {
            if index > 0 {
                writeln!(f)?;
            }
            match &problem.span {
                Some(span) => {
                    let Place { line, column } = place_of(&self.text, span.start);
                    write!(f, "{}:{line}:{column}: {}", self.name, problem.message)?;
                }
                None => write!(f, "{}: {}", self.name, problem.message)?,
            }
            if let Some((span, what)) = &problem.related {
                write!(f, " ({what} is on line {})", place_of(&self.text, span.start).line)?;
            }
        }
        Ok(())
    }
}

impl std::error::Error for BadDocument {}

/// The known word that is nearest to what somebody wrote, if any is near enough to be a slip.
pub fn nearest<'a>(written: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = (written.chars().count() / 3).max(1);
    known
        .into_iter()
        .map(|word| (strsim::levenshtein(written, word), word))
        .filter(|(distance, _)| *distance <= limit)
        .min()
        .map(|(_, word)| word)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_count_lines_and_characters_from_one() {
        let text = "ab\nçd\n";
        assert_eq!(place_of(text, 0), Place { line: 1, column: 1 });
        assert_eq!(place_of(text, 5), Place { line: 2, column: 2 });
        assert_eq!(place_of(text, 4), Place { line: 2, column: 1 }, "inside the two bytes of ç");
        assert_eq!(place_of(text, 99), Place { line: 3, column: 1 });
    }

    #[test]
    fn a_slip_is_recognised_and_a_different_word_is_not() {
        let known = ["power/active-plan", "looks/effects"];
        assert_eq!(nearest("power/active-plam", known), Some("power/active-plan"));
        assert_eq!(nearest("network/dns", known), None);
    }
}
