//! What Windows answers when it does not do what it was asked.

use std::fmt;

use frevin_core::setting::State;

use crate::contract::{PcError, WriteError};

/// Why Windows did not do what it was asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OsError {
    /// This Windows does not have the function, or has it without content.
    NotOffered {
        /// The function or the interface.
        call: &'static str,
    },
    /// Windows gave a number for the reason.
    Code {
        /// The function.
        call: &'static str,
        /// The number: of a system error, or all of an `HRESULT` that is none.
        code: u32,
    },
    /// Something else, in words.
    Said(String),
}

/// System error codes by their meaning ("System Error Codes" in the Windows documentation).
mod code {
    pub(super) const FILE_NOT_FOUND: u32 = 2;
    pub(super) const PATH_NOT_FOUND: u32 = 3;
    pub(super) const ACCESS_DENIED: u32 = 5;
    pub(super) const NOT_SUPPORTED: u32 = 50;
    pub(super) const CALL_NOT_IMPLEMENTED: u32 = 120;
    pub(super) const INVALID_LEVEL: u32 = 124;
    pub(super) const SERVICE_DOES_NOT_EXIST: u32 = 1060;
    pub(super) const NOT_FOUND: u32 = 1168;
    pub(super) const PRIVILEGE_NOT_HELD: u32 = 1314;
    /// `E_NOTIMPL`, `E_NOINTERFACE`, `REGDB_E_CLASSNOTREG`, `WBEM_E_INVALID_NAMESPACE`,
    /// `WBEM_E_NOT_FOUND`, `WBEM_E_INVALID_CLASS`.
    pub(super) const INTERFACE_NOT_OFFERED: [u32; 6] =
        [0x8000_4001, 0x8000_4002, 0x8004_0154, 0x8004_100E, 0x8004_1002, 0x8004_1010];
}

/// What the numbers mean that settings meet, in words.
const WORDS: [(u32, &str); 14] = [
    (code::ACCESS_DENIED, "access denied"),
    (32, "another program has it open"),
    (87, "it does not take such a value"),
    (1051, "services that run need it"),
    (1052, "it does not take being stopped"),
    (1053, "it did not answer in time"),
    (1056, "it runs already"),
    (1058, "it is disabled"),
    (1060, "there is no such service"),
    (1061, "it takes no commands now"),
    (1062, "it does not run"),
    (1069, "it could not sign in"),
    (1072, "it is marked to be deleted"),
    (code::PRIVILEGE_NOT_HELD, "it needs an administrator"),
];

impl OsError {
    /// The answer to `call`. An `HRESULT` that wraps a system error is that error.
    pub fn code(call: &'static str, code: u32) -> Self {
        let code = if code >> 16 == 0x8007 { code & 0xFFFF } else { code };
        let is_missing = matches!(code, code::NOT_SUPPORTED | code::CALL_NOT_IMPLEMENTED)
            || code::INTERFACE_NOT_OFFERED.contains(&code);
        if is_missing { Self::NotOffered { call } } else { Self::Code { call, code } }
    }

    /// Whether what was asked for does not exist.
    pub fn is_absence(&self) -> bool {
        let absent = [
            code::FILE_NOT_FOUND,
            code::PATH_NOT_FOUND,
            code::SERVICE_DOES_NOT_EXIST,
            code::NOT_FOUND,
        ];
        matches!(self, Self::Code { code, .. } if absent.contains(code))
    }

    /// Whether this Windows does not know the level of information that was asked for.
    pub fn is_unknown_level(&self) -> bool {
        matches!(self, Self::NotOffered { .. } | Self::Code { code: code::INVALID_LEVEL, .. })
    }

    /// Whether the process may not do it.
    pub fn is_denial(&self) -> bool {
        let denied = [code::ACCESS_DENIED, code::PRIVILEGE_NOT_HELD];
        matches!(self, Self::Code { code, .. } if denied.contains(code))
    }

    /// Why nothing was written, where this was the answer to a question before the write.
    pub fn before_write(self) -> WriteError {
        WriteError::Refused(self.to_string())
    }

    /// Whether Windows says no before it does anything: it lacks the function, the right or the object, or
    /// the object is in no condition for it.
    fn is_refusal(&self) -> bool {
        let refused = [32, 87, 1051, 1052, 1056, 1058, 1061, 1062, 1072];
        match self {
            Self::NotOffered { .. } => true,
            Self::Code { code, .. } => {
                refused.contains(code) || self.is_denial() || self.is_absence()
            }
            Self::Said(_) => false,
        }
    }

    /// The state of a setting whose reading got this answer.
    pub fn into_state(self) -> State {
        State::Unreadable(self.to_string())
    }
}

impl fmt::Display for OsError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotOffered { call } => write!(f, "this PC does not offer it ({call})"),
            Self::Code { call, code } => match WORDS.iter().find(|(known, _)| known == code) {
                Some((_, words)) => write!(f, "{words} ({call})"),
                None if *code > 0xFFFF => write!(f, "error 0x{code:08x} ({call})"),
                None => write!(f, "error {code} ({call})"),
            },
            Self::Said(reason) => f.write_str(reason),
        }
    }
}

/// What is no refusal may have been done in part: what the setting holds then is not known.
impl From<OsError> for WriteError {
    fn from(error: OsError) -> Self {
        if error.is_refusal() {
            Self::Refused(error.to_string())
        } else {
            Self::Failed(PcError::System(error.to_string()))
        }
    }
}

/// Whether what was asked for is there: absence is an answer, everything else that fails is none.
pub fn found<T>(asked: Result<T, OsError>) -> Result<Option<T>, OsError> {
    match asked {
        Ok(found) => Ok(Some(found)),
        Err(error) if error.is_absence() => Ok(None),
        Err(error) => Err(error),
    }
}

/// The state of a setting that was asked for: absent where it does not exist.
pub fn state_of(asked: Result<Option<State>, OsError>) -> State {
    match found(asked) {
        Ok(state) => state.flatten().unwrap_or(State::Absent),
        Err(error) => error.into_state(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn absent_denied_and_not_offered_are_three_things() {
        let absent = OsError::code("RegOpenKeyExW", 2);
        let denied = OsError::code("RegOpenKeyExW", 0x8007_0005);
        let missing = OsError::code("PowerGetActiveScheme", 120);
        assert_eq!(
            [absent.is_absence(), denied.is_absence(), missing.is_absence()],
            [true, false, false]
        );
        assert!(denied.is_denial() && !missing.is_denial());
        assert_eq!(state_of(Err(absent)), State::Absent);
        assert_eq!(
            state_of(Err(denied)),
            State::Unreadable("access denied (RegOpenKeyExW)".into())
        );
        let not_offered = "this PC does not offer it (PowerGetActiveScheme)";
        assert_eq!(state_of(Err(missing)), State::Unreadable(not_offered.into()));
        assert_eq!(OsError::code("X", 0x8007_04ff).to_string(), "error 1279 (X)");
        assert_eq!(OsError::code("X", 0x8004_1003).to_string(), "error 0x80041003 (X)");
    }
}
