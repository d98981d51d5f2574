//! Failures: what happened, where, what to do next, and the exit code for it.
//!
//! Libraries return errors of their own; this is the one place that turns them into a kind, hints
//! and an exit code. docs/exit-codes.md lists the codes.

use frevin_core::document::{BadDocument, Problem, place_of};
use frevin_core::expression::ExpressionError;
use frevin_core::preview::PlanError;
use frevin_core::tweak::CatalogueError;
use frevin_ledger::LedgerError;
use frevin_pc::rehearsal::TemplateError;
use frevin_pc::{LockError, PcError};
use schemars::JsonSchema;
use serde::Serialize;

/// Kinds of failure, each with an exit code of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Kind {
    /// The command was not understood, or needs a word from its user.
    Usage,
    /// A file, a PC, a profile, a scene … that was named is not there.
    NotFound,
    /// A document or a log is broken.
    BadInput,
    /// A guard of Frevin's own refused.
    Guarded,
    /// The PC refused, and everything is as it was.
    RefusedAndUndone,
    /// A change or rollback is unfinished: `frevin recover` is needed.
    Unfinished,
    /// Another Frevin is at work on the PC.
    Busy,
    /// Somebody else changed the PC.
    ChangedByOthers,
    /// A file or folder could not be read or written.
    Files,
    /// What was waited for did not come in time.
    TimeRanOut,
    /// Something that should not happen.
    Internal,
}

impl Kind {
    /// The exit code. 0 is success and 1 means that the answer is no.
    pub(crate) fn exit_code(self) -> u8 {
        match self {
            Self::Usage => 2,
            Self::NotFound => 3,
            Self::BadInput => 4,
            Self::Guarded => 5,
            Self::RefusedAndUndone => 6,
            Self::Unfinished => 7,
            Self::Busy => 8,
            Self::ChangedByOthers => 9,
            Self::Files => 10,
            Self::TimeRanOut => 11,
            Self::Internal => 70,
        }
    }
}

/// Why a command did not do what it was asked.
#[derive(Debug)]
pub(crate) struct Failure {
    pub(crate) kind: Kind,
    /// What happened, in a sentence.
    pub(crate) message: String,
    /// More of what happened, a line each.
    pub(crate) details: Vec<String>,
    /// What to do next.
    pub(crate) hints: Vec<String>,
    /// What caused it, from the nearest cause to the first one.
    pub(crate) causes: Vec<String>,
    /// The document that is at fault.
    pub(crate) document: Option<Box<BadDocument>>,
    /// Whether an administrator could do it.
    pub(crate) takes_administrator: bool,
}

impl Failure {
    pub(crate) fn new(kind: Kind, message: impl Into<String>) -> Self {
        Self {
            kind,
            message: message.into(),
            details: Vec::new(),
            hints: Vec::new(),
            causes: Vec::new(),
            document: None,
            takes_administrator: false,
        }
    }

    /// The same, of what an administrator could do.
    #[must_use]
    pub(crate) fn taking_administrator(self) -> Self {
        Self { takes_administrator: true, ..self }
    }

    #[must_use]
    pub(crate) fn detail(mut self, line: impl Into<String>) -> Self {
        self.details.push(line.into());
        self
    }

    #[must_use]
    pub(crate) fn details(mut self, lines: impl IntoIterator<Item = String>) -> Self {
        self.details.extend(lines);
        self
    }

    /// With all that caused an error, below what the message says already.
    #[must_use]
    pub(crate) fn caused_by(mut self, error: &(dyn std::error::Error + 'static)) -> Self {
        let mut source = error.source();
        while let Some(cause) = source {
            let text = cause.to_string();
            if self.message != text && self.causes.last() != Some(&text) {
                self.causes.push(text);
            }
            source = cause.source();
        }
        self
    }

    #[must_use]
    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }

    /// The failure as `--json` shows it.
    pub(crate) fn told(&self) -> FailureTold {
        FailureTold {
            error: ErrorTold {
                kind: self.kind,
                exit_code: self.kind.exit_code(),
                message: self.message.clone(),
                details: self.details.clone(),
                causes: self.causes.clone(),
                hints: self.hints.clone(),
                problems: self.document.iter().flat_map(|document| problems_of(document)).collect(),
            },
        }
    }
}

/// A failure as `--json` shows it.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct FailureTold {
    error: ErrorTold,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ErrorTold {
    kind: Kind,
    /// The exit code that goes with the kind.
    exit_code: u8,
    /// What happened, in a sentence.
    message: String,
    /// More of what happened.
    details: Vec<String>,
    /// What caused it, from the nearest cause to the first one.
    causes: Vec<String>,
    /// What to do next.
    hints: Vec<String>,
    /// What is wrong with the document that is at fault.
    problems: Vec<ProblemTold>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ProblemTold {
    file: String,
    /// The line, from 1, where the problem has a place.
    line: Option<usize>,
    /// The character in that line, from 1.
    column: Option<usize>,
    message: String,
    /// What to do about it.
    advice: Option<String>,
}

fn problems_of(document: &BadDocument) -> Vec<ProblemTold> {
    let shown = |problem: &Problem| {
        let place = problem.span.as_ref().map(|span| place_of(&document.text, span.start));
        ProblemTold {
            file: document.name.clone(),
            line: place.map(|place| place.line),
            column: place.map(|place| place.column),
            message: problem.message.clone(),
            advice: problem.advice.clone(),
        }
    };
    document.problems.iter().map(shown).collect()
}

impl From<BadDocument> for Failure {
    fn from(document: BadDocument) -> Self {
        let count = document.problems.len();
        let things = if count == 1 { "a problem" } else { "problems" };
        let mut failure = Self::new(Kind::BadInput, format!("{things} in {}", document.name));
        failure.document = Some(Box::new(document));
        failure
    }
}

/// A ledger that is not believed, and the ways on from there.
fn damaged_ledger(message: String) -> Failure {
    Failure::new(Kind::BadInput, message)
        .hint("nothing was written, and nothing in it is acted on")
        .hint("`frevin ledger restore FILE` puts a copy in its place, `frevin ledger check` looks through one")
        .hint(
            "`frevin recover --from-undo-files` puts the PC back without it; the undo files for reading work \
             even without Frevin",
        )
}

impl From<LedgerError> for Failure {
    fn from(error: LedgerError) -> Self {
        let message = error.to_string();
        let causes = Self::new(Kind::Internal, &*message).caused_by(&error).causes;
        let mut failure = match error {
            LedgerError::NoProfile(_) => Self::new(Kind::NotFound, message)
                .hint("`frevin profile list` shows those there are"),
            LedgerError::NoRevision(name) => {
                let profile = name.split('@').next().unwrap_or_default();
                Self::new(Kind::NotFound, message)
                    .hint(format!("`frevin profile log {profile}` shows those there are"))
            }
            LedgerError::AmbiguousRevision(_) => Self::new(Kind::NotFound, message)
                .hint("write more digits, or the revision's number"),
            LedgerError::NoChange(_) => Self::new(Kind::NotFound, message)
                .hint("`frevin rollback --list` shows those there are"),
            LedgerError::NoSnapshot(_) => Self::new(Kind::NotFound, message)
                .hint("`frevin snapshot list` shows those there are"),
            LedgerError::NoScene(_) => Self::new(Kind::NotFound, message)
                .hint("`frevin scene list` shows those there are, `frevin scene add` adds one"),
            LedgerError::NoRun(_) | LedgerError::NoVisit(_) => {
                Self::new(Kind::NotFound, message).hint("`frevin run list` shows those there are")
            }
            LedgerError::SceneExists(_) => Self::new(Kind::BadInput, message).hint(
                "a scene stays what it is, so that its runs stay comparable; take another name",
            ),
            LedgerError::NoTrial(_) => Self::new(Kind::NotFound, message)
                .hint("`frevin trial list` shows those there are"),
            LedgerError::Newer(_) => {
                Self::new(Kind::BadInput, message).hint("update Frevin; nothing was written")
            }
            LedgerError::Damaged { .. } => damaged_ledger(message),
            LedgerError::Altered { parts, .. } => damaged_ledger(message)
                .details(parts.iter().map(|part| format!("not as it was written: {part}"))),
            LedgerError::Unreadable { .. } => Self::new(Kind::BadInput, message)
                .hint("nothing was written; was the ledger written by a newer Frevin, or by hand?"),
            LedgerError::Busy => Self::new(Kind::Busy, message)
                .hint("try again; a change that had begun is finished by `frevin recover`"),
            LedgerError::DiskFull => Self::new(Kind::Files, message)
                .hint("make room; a change that had begun is finished by `frevin recover`"),
            LedgerError::Drive(_) => Self::new(Kind::Files, message)
                .hint("may the home folder be written? See --home; `frevin recover` finishes a change that had begun"),
            LedgerError::CannotOpen { .. } => Self::new(Kind::Files, message).hint(
                "nothing was changed; is the home folder there, and may it be written? See --home",
            ),
            LedgerError::Io(_) => Self::new(Kind::Files, message)
                .hint("is the home folder there and may it be written? See --home"),
            LedgerError::NoRollback(_) | LedgerError::Database(_) => {
                Self::new(Kind::Internal, message)
            }
            other => Self::new(Kind::Internal, other.to_string()),
        };
        failure.causes = causes;
        failure
    }
}

impl From<PcError> for Failure {
    fn from(error: PcError) -> Self {
        let message = error.to_string();
        match error {
            PcError::NotAPc { .. } => {
                Self::new(Kind::NotFound, message).hint("`frevin rehearsal new FOLDER` makes one")
            }
            PcError::Broken { .. } => Self::new(Kind::BadInput, message),
            PcError::System(_) => Self::new(Kind::Files, message)
                .hint("is the service of Windows that answers it running?"),
            PcError::Io(error) => error.into(),
        }
    }
}

impl From<LockError> for Failure {
    fn from(error: LockError) -> Self {
        let message = error.to_string();
        match error {
            LockError::Held(_) => Self::new(Kind::Busy, message)
                .hint("nothing was changed; try again when it has ended, or say --wait SECONDS"),
            LockError::Io(error) => error.into(),
            LockError::Pc(error) => error.into(),
        }
    }
}

impl From<PlanError<PcError>> for Failure {
    fn from(error: PlanError<PcError>) -> Self {
        match error {
            PlanError::Conflict(_) => Self::new(Kind::BadInput, error.to_string())
                .hint("take one of the two out of the profile, or give both the same parameters"),
            PlanError::Pc(error) => error.into(),
        }
    }
}

impl From<CatalogueError> for Failure {
    fn from(error: CatalogueError) -> Self {
        match error {
            CatalogueError::Bad(document) => document.into(),
            CatalogueError::Twice(_) => Self::new(Kind::Internal, error.to_string()),
            other => Self::new(Kind::BadInput, other.to_string())
                .hint("mend the file, or take it out of the folder of your own tweaks"),
        }
    }
}

impl From<ExpressionError> for Failure {
    fn from(error: ExpressionError) -> Self {
        Self::new(Kind::BadInput, error.to_string())
    }
}

impl From<TemplateError> for Failure {
    fn from(error: TemplateError) -> Self {
        let message = error.to_string();
        match error {
            TemplateError::NotEmpty(_) => Self::new(Kind::BadInput, message)
                .hint("nothing was changed; name a folder that does not exist yet"),
            TemplateError::Pc(error) => error.into(),
            TemplateError::Io(_) => Self::new(Kind::Files, message)
                .hint("may the folder above be written, and is there room on the disk?"),
        }
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        match error.kind() {
            std::io::ErrorKind::NotFound => Self::new(Kind::NotFound, error.to_string()),
            _ => Self::new(Kind::Files, error.to_string())
                .hint("may it be read and written, and is there room on the disk?"),
        }
    }
}
