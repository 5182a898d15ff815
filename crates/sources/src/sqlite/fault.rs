//! From SQLite's errors to ours. The database's own text goes to the log only.

use puente_core::error::{Code, Detail, Problem};
use rusqlite::{Error, ErrorCode, ffi};

use super::DatabaseFile;

/// The problem that an error of SQLite is to a caller.
pub fn problem(error: &Error, file: &DatabaseFile) -> Problem {
    let name = &file.shown;
    let (code, text) = match error.sqlite_error_code() {
        Some(ErrorCode::OperationInterrupted) => return Problem::timed_out().with_detail(told(error)),
        Some(ErrorCode::CannotOpen) => (
            Code::SourceUnavailable,
            format!("the database file `{name}` cannot be opened; is it there, and readable?"),
        ),
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => {
            (Code::SourceUnavailable, format!("the file `{name}` is not an intact SQLite database; restore it"))
        }
        Some(ErrorCode::DiskFull) => (
            Code::SourceUnavailable,
            format!("the disk with the database file `{name}` is full; free some space, and ask again"),
        ),
        Some(ErrorCode::SystemIoFailure | ErrorCode::FileLockingProtocolFailed) => {
            (Code::SourceUnavailable, format!("the database file `{name}` cannot be read"))
        }
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            (Code::Contention, "the database is locked by another process; ask again".to_owned())
        }
        Some(ErrorCode::ReadOnly) if is_unfinished(error) => {
            let what =
                "was left in the middle of a change; open it once with a program that may write it, to roll that back";
            (Code::SourceUnavailable, format!("the database file `{name}` {what}"))
        }
        Some(ErrorCode::ReadOnly) => {
            (Code::SourceRefused, format!("the database file `{name}` cannot be written; may this user write it?"))
        }
        Some(ErrorCode::PermissionDenied | ErrorCode::AuthorizationForStatementDenied) => {
            (Code::SourceRefused, "the database refuses this statement".to_owned())
        }
        Some(ErrorCode::SchemaChanged) => (Code::SourceDrifted, drifted()),
        Some(ErrorCode::TooBig) => (Code::TooCostly, TOO_MUCH.to_owned()),
        // Our statements name no schema: this is said of what a foreign key refers to.
        _ if error.to_string().contains("no such table: main.") => (Code::SourceRefused, MISSING_TARGET.to_owned()),
        _ if error.to_string().contains("no such ") => (Code::SourceDrifted, drifted()),
        _ if LIMITS.iter().any(|limit| error.to_string().contains(limit)) => (Code::TooCostly, TOO_MUCH.to_owned()),
        _ => (Code::Internal, "the statement failed; the log has the details under the request's id".to_owned()),
    };
    Problem::new(code, text).with_detail(told(error))
}

/// What is said of a row that SQLite cannot check.
const MISSING_TARGET: &str = "a foreign key of this table refers to a table that is not there, and SQLite takes no such row then; \
                              `puente survey` says which";

/// What the log says of an error. SQLite's own words name tables and columns; a trigger's may hold values.
pub(super) fn told(error: &Error) -> Detail {
    match error.sqlite_error() {
        Some(code) if code.extended_code == ffi::SQLITE_CONSTRAINT_TRIGGER => {
            Detail::with_words(format_args!("a trigger refused it ({})", code.extended_code), error)
        }
        _ => Detail::plain(error),
    }
}

/// Is there a change that nobody finished, in the way of a connection that may not roll it back?
pub(super) fn is_unfinished(error: &Error) -> bool {
    error.sqlite_error().is_some_and(|error| error.extended_code == ffi::SQLITE_READONLY_ROLLBACK)
}

/// What SQLite says of statements that are over one of its limits: it has no codes of their own for them.
const LIMITS: &[&str] = &[
    "tables in a join",
    "Expression tree is too large",
    "too many SQL variables",
    "too many terms",
    "parser stack overflow",
    "too many columns",
    "too many arguments",
];

const TOO_MUCH: &str = "the request is more than the database takes in one statement; ask in parts";

fn drifted() -> String {
    "the tables no longer fit the survey; the operator has to run `puente survey` and restart".to_owned()
}
