//! From the database's errors to ours, by number. Its own text goes to the log only.

use crate::server::CONTENTION;
use bson::Document;
use mongodb::error::{Error, ErrorKind, TRANSIENT_TRANSACTION_ERROR, WriteFailure};
use puente_core::error::{Code, Detail, Problem};
use puente_run::change::{ConstraintKind, ConstraintViolation};

/// The number of an error, where the server gave one.
fn code(error: &Error) -> Option<i32> {
    match &*error.kind {
        ErrorKind::Command(command) => Some(command.code),
        ErrorKind::Write(WriteFailure::WriteError(write)) => Some(write.code),
        ErrorKind::Write(WriteFailure::WriteConcernError(concern)) => Some(concern.code),
        _ => None,
    }
}

/// The problem that an error is to a caller.
pub(super) fn problem(error: &Error) -> Problem {
    let (code, text) = match code(error) {
        None => return driver_problem(error),
        // MaxTimeMSExpired, Interrupted.
        Some(50 | 11_601) => return Problem::timed_out().with_detail(told(error)),
        Some(13) => (Code::SourceRefused, "the database refuses this command to Puente's login"),
        // NamespaceNotFound, CommandNotSupportedOnView.
        Some(26 | 166) => (
            Code::SourceDrifted,
            "the collections no longer fit the survey; the operator has to run `puente survey` and restart",
        ),
        // LockTimeout, WriteConflict, NoSuchTransaction, SnapshotTooOld.
        Some(24 | 112 | 251 | 239) => (Code::Contention, CONTENTION),
        // IllegalOperation: a standalone server has no transactions.
        Some(20) => (
            Code::SourceRefused,
            "the server has no transactions; it has to be a member of a replica set, or the source says \
             `without_transactions = true`",
        ),
        // BSONObjectTooLarge, ExceededMemoryLimit, QueryExceededMemoryLimitNoDiskUseAllowed.
        Some(10_334 | 146 | 292) => {
            (Code::TooCostly, "the request is more than the database takes in one command; ask in parts")
        }
        Some(18) => return unreachable(error),
        // Shutting down, not the primary any more.
        Some(89 | 91 | 189 | 10_107 | 11_600 | 13_435 | 13_436) => return unreachable(error),
        Some(_) => (Code::Internal, "the command failed; the log has the details under the request's id"),
    };
    Problem::new(code, text).with_detail(told(error))
}

/// What the driver itself finds, before or after the server is asked.
fn driver_problem(error: &Error) -> Problem {
    let (code, text) = match &*error.kind {
        // What BSON has no bytes for was said by a caller: the texts of ours have been tried.
        ErrorKind::BsonSerialization(_) | ErrorKind::Bson(_) | ErrorKind::InvalidArgument { .. } => {
            (Code::ValueRefused, NO_BSON)
        }
        ErrorKind::BsonDeserialization(_) | ErrorKind::InvalidResponse { .. } | ErrorKind::Internal { .. } => {
            (Code::Internal, "the database's answer could not be read; the log has the details under the request's id")
        }
        _ => return unreachable(error),
    };
    Problem::new(code, text).with_detail(told(error))
}

/// What is said of a value that BSON has no bytes for.
pub(super) const NO_BSON: &str =
    "a value has no form in BSON; a member's name in JSON may not hold the character U+0000, for one";

/// The problem of a deployment that cannot be reached, or that went away.
pub(super) fn unreachable(error: &Error) -> Problem {
    let is_login = matches!(&*error.kind, ErrorKind::Authentication { .. }) || code(error) == Some(18);
    let text = if is_login {
        "the database refuses the login; are user, password and `authSource` of the source's `url` right?"
    } else {
        "the database cannot be reached; is it running, and are the hosts of the source's `url` right?"
    };
    Problem::new(Code::SourceUnavailable, text).with_detail(told(error))
}

/// What the log says of an error. The server's words about documents may hold their values; those about a connection do not.
pub(super) fn told(error: &Error) -> Detail {
    match &*error.kind {
        ErrorKind::Command(command) => {
            Detail::with_words(format_args!("{} ({})", command.code_name, command.code), error)
        }
        ErrorKind::Write(_) | ErrorKind::InsertMany(_) | ErrorKind::BulkWrite(_) => {
            Detail::with_words(format_args!("a write failed ({})", code(error).unwrap_or_default()), error)
        }
        ErrorKind::Io(_)
        | ErrorKind::ServerSelection { .. }
        | ErrorKind::Authentication { .. }
        | ErrorKind::DnsResolve { .. }
        | ErrorKind::ConnectionPoolCleared { .. }
        | ErrorKind::InvalidTlsConfig { .. }
        | ErrorKind::Shutdown => Detail::plain(error),
        _ => Detail::with_words("an error of the driver", error),
    }
}

/// Did the deployment go away?
pub(super) fn is_lost(problem: &Problem) -> bool {
    problem.code == Code::SourceUnavailable
}

/// Did the database itself take the transaction back, in favour of others?
pub(super) fn is_rolled_back(error: &Error) -> bool {
    error.contains_label(TRANSIENT_TRANSACTION_ERROR)
}

/// What a collection does not take, from the error of one write.
pub(super) fn refusal(write: &Document) -> Option<ConstraintViolation> {
    let code = write.get_i32("code").ok()?;
    let rule = match code {
        11_000 | 11_001 | 12_582 => ConstraintKind::Unique,
        // DocumentValidationFailure.
        121 => ConstraintKind::Check,
        // BSONObjectTooLarge, TypeMismatch.
        10_334 | 17_280 => ConstraintKind::Length,
        14 => ConstraintKind::Form,
        _ => return None,
    };
    let pattern = write.get_document("keyPattern").ok();
    let pattern = pattern.or_else(|| write.get_document("errInfo").ok()?.get_document("keyPattern").ok());
    let columns = pattern.map(|pattern| pattern.keys().cloned().collect()).unwrap_or_default();
    let columns: Vec<String> = columns;
    let names: String = columns.iter().map(|name| format!(", `{name}`")).collect();
    let words = write.get_str("errmsg").unwrap_or_default();
    let detail = Detail::with_words(format_args!("{code}{names}"), words);
    Some(ConstraintViolation { rule, columns, constraint: None, detail })
}

/// The same from the error of a whole command.
pub(super) fn refused(error: &Error) -> Option<ConstraintViolation> {
    let ErrorKind::Command(command) = &*error.kind else { return None };
    let mut write = Document::new();
    write.insert("code", command.code);
    write.insert("errmsg", command.message.clone());
    let mut violation = refusal(&write)?;
    // `… dup key: { code: "x", year: 5 }`
    let (_, key) = command.message.split_once("dup key: {").unwrap_or_default();
    let name = key.split(':').next().unwrap_or_default().trim();
    violation.columns = (!name.is_empty()).then(|| name.to_owned()).into_iter().collect();
    Some(violation)
}

#[cfg(test)]
mod tests {
    use bson::doc;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(11_000, Some(ConstraintKind::Unique))]
    #[case(121, Some(ConstraintKind::Check))]
    #[case(14, Some(ConstraintKind::Form))]
    #[case(8_000, None)]
    fn what_a_collection_does_not_take_has_a_kind(#[case] code: i32, #[case] expected: Option<ConstraintKind>) {
        let error = doc! { "code": code, "errmsg": "…", "keyPattern": { "code": 1, "year": 1 } };
        let found = refusal(&error);
        assert_eq!(found.as_ref().map(|violation| violation.rule), expected);
        if let Some(violation) = found {
            assert_eq!(violation.columns, ["code", "year"]);
        }
    }
}
