//! `frevin help`
use schemars::JsonSchema;
use serde::Serialize;

use crate::failure::{Failure, Kind};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::Page;

/// The ideas that are explained, with their texts.
const TOPICS: [(&str, &str); 8] = [
    ("snapshot", include_str!("../help/snapshot.txt")),
    ("undo", include_str!("../help/undo.txt")),
    ("verdict", include_str!("../help/verdict.txt")),
    ("sift", include_str!("../help/sift.txt")),
    ("tune", include_str!("../help/tune.txt")),
    ("evidence", include_str!("../help/evidence.txt")),
    ("play", include_str!("../help/play.txt")),
    ("exit-codes", include_str!("../help/exit-codes.txt")),
];

/// Topics, or one of them.
#[derive(Debug, JsonSchema, Serialize)]
struct HelpText {
    topics: Vec<Topic>,
    /// Whether one was asked for, and not the list.
    #[serde(skip)]
    is_one: bool,
}

#[derive(Debug, JsonSchema, Serialize)]
struct Topic {
    topic: &'static str,
    text: &'static str,
}

/// Explains a topic, or lists them.
pub(crate) fn run(topic: Option<&str>) -> Result<Outcome, Failure> {
    let all = || TOPICS.iter().map(|(topic, text)| Topic { topic, text });
    let topics: Vec<Topic> = match topic {
        None => all().collect(),
        Some(asked) => all().filter(|one| one.topic == asked).collect(),
    };
    if topics.is_empty() {
        let names: Vec<&str> = TOPICS.iter().map(|(name, _)| *name).collect();
        let message = format!("there is no topic `{}`", topic.unwrap_or_default());
        return Err(Failure::new(Kind::NotFound, message)
            .detail(format!("topics: {}", names.join(", ")))
            .hint("`frevin COMMAND --help` tells of a command"));
    }
    Ok(Outcome::yes(&HelpText { topics, is_one: topic.is_some() }))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<HelpText>("help");
}

impl View for HelpText {
    fn show(&self, page: &mut Page) {
        if self.is_one {
            for topic in &self.topics {
                for (at, paragraph) in topic.text.trim().split("\n\n").enumerate() {
                    if at > 0 {
                        page.blank();
                    }
                    page.paragraph(0, paragraph);
                }
            }
            return;
        }
        page.line("frevin COMMAND --help    tells of a command; frevin --help lists them");
        page.blank();
        page.line("frevin help TOPIC        explains an idea:");
        page.blank();
        let first = |text: &str| text.split("\n\n").next().unwrap_or_default().to_owned();
        page.pairs(self.topics.iter().map(|one| (one.topic, first(one.text))));
    }
}
