//! Exit codes: 0 fine, 1 the work found something wrong, 2 the call or the project file is wrong, 3 a source is
//! unreachable.

use puente_core::error::{Code, Problem};
use puente_service::{FolderError, IdentityError, OpenError, RecordsError, ServeError, SurveyError};

/// Why a command ends with another code than 0.
#[derive(Debug)]
pub(crate) struct Failure {
    pub(crate) code: u8,
    /// What to say; empty where it was said already.
    pub(crate) text: String,
}

impl Failure {
    /// The work found something wrong; it was said already.
    pub(crate) fn found() -> Self {
        Failure { code: 1, text: String::new() }
    }

    /// The call or the project file is wrong.
    pub(crate) fn wrong(text: impl Into<String>) -> Self {
        Failure { code: 2, text: text.into() }
    }

    /// A source cannot be reached.
    pub(crate) fn unreachable(text: impl Into<String>) -> Self {
        Failure { code: 3, text: text.into() }
    }
}

impl From<FolderError> for Failure {
    fn from(error: FolderError) -> Self {
        Failure::wrong(error.to_string())
    }
}

impl From<RecordsError> for Failure {
    fn from(error: RecordsError) -> Self {
        Failure::wrong(error.to_string())
    }
}

impl From<ServeError> for Failure {
    fn from(error: ServeError) -> Self {
        Failure::wrong(error.to_string())
    }
}

impl From<SurveyError> for Failure {
    fn from(error: SurveyError) -> Self {
        match error {
            SurveyError::Source(problem) => problem.into(),
            SurveyError::Folder(error) => error.into(),
        }
    }
}

impl From<OpenError> for Failure {
    fn from(error: OpenError) -> Self {
        match error {
            OpenError::Folder(error) => error.into(),
            OpenError::Source(problem) => problem.into(),
            OpenError::Identity(error) => error.into(),
        }
    }
}

impl From<IdentityError> for Failure {
    fn from(error: IdentityError) -> Self {
        Failure::wrong(error.to_string())
    }
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        let detail =
            Some(problem.told()).filter(|told| !told.is_empty()).map_or_else(String::new, |told| format!(" ({told})"));
        let text = format!("{}{detail}", problem.message);
        match problem.code {
            Code::SourceUnavailable | Code::SourceRefused => Failure::unreachable(text),
            _ => Failure { code: 1, text },
        }
    }
}
