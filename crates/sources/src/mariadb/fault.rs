//! From MariaDB's errors to ours, by number. The database's own text goes to the log only.

use mysql_async::{DriverError, Error, IoError, ServerError};
use puente_core::error::{Code, Detail, Problem};

use crate::server::{CONTENTION, READ_ONLY, READ_WRITES, Unreached};
use puente_run::change::{ConstraintKind, ConstraintViolation};

/// The problem that an error of MariaDB is to a caller.
pub(super) fn problem(error: &Error) -> Problem {
    let Error::Server(server) = error else { return unreachable(error) };
    let (code, text) = match server.code {
        // Interrupted; over the time of a statement, as MariaDB and as MySQL say it.
        1317 | 1969 | 3024 => return Problem::timed_out().with_detail(told(error)),
        1142 | 1143 | 1370 => (Code::SourceRefused, "the database refuses this statement to Puente's login"),
        1146 | 1054 | 1305 | 1615 => (
            Code::SourceDrifted,
            "the tables no longer fit the survey; the operator has to run `puente survey` and restart",
        ),
        1205 | 1213 => (Code::Contention, CONTENTION),
        // A server that is read-only: a replica, or one that an operator has locked.
        1290 | 1792 | 1836 => (Code::SourceUnavailable, READ_ONLY),
        // A node of a cluster that has lost the others.
        1047 => {
            (Code::SourceUnavailable, "this node of the cluster takes no requests at the moment; ask again in a moment")
        }
        1264 | 1292 | 1366 | 1411 => (
            Code::InvalidArgument,
            "a value is not one that its column can be compared with; it is out of range or malformed",
        ),
        // Too many tables in a join, columns, placeholders; a packet, or a nesting, over the server's limit.
        1116 | 1117 | 1390 | 1153 | 1436 | 4062 => {
            (Code::TooCostly, "the request is more than the database takes in one statement; ask in parts")
        }
        1040 | 1041 | 1053 | 1203 | 1226 | 1927 => return unreachable(error),
        _ => (Code::Internal, "the statement failed; the log has the details under the request's id"),
    };
    Problem::new(code, text).with_detail(told(error))
}

/// The same of a statement that reads, in a transaction that cannot write.
pub(super) fn problem_of_reading(error: &Error) -> Problem {
    match error {
        Error::Server(server) if server.code == 1792 => {
            Problem::new(Code::SourceRefused, READ_WRITES).with_detail(told(error))
        }
        _ => problem(error),
    }
}

/// What a table does not take.
pub(super) fn refusal(error: &Error) -> Option<ConstraintViolation> {
    let Error::Server(server) = error else { return None };
    let (rule, columns, constraint) = refused(server)?;
    Some(ConstraintViolation { rule, columns, constraint, detail: told(error) })
}

/// What kind of constraint the server names, and its columns or its own name.
fn refused(server: &ServerError) -> Option<(ConstraintKind, Vec<String>, Option<String>)> {
    let text = &server.message;
    let quoted = |mark: char, number: usize| text.split(mark).nth(number * 2 + 1).map(str::to_owned);
    let (rule, columns, constraint) = match server.code {
        // `Duplicate entry 'x' for key 'huts_code'`: what was entered may hold quotes, too.
        1062 | 1586 => (
            ConstraintKind::Unique,
            None,
            text.rsplit('\'').nth(1).map(|key| key.rsplit('.').next().unwrap_or(key).to_owned()),
        ),
        // `… CONSTRAINT `fk` FOREIGN KEY (`hut_id`) REFERENCES …`
        1452 | 1216 => {
            let names = text.split_once("FOREIGN KEY (").and_then(|(_, rest)| rest.split_once(") REFERENCES"));
            let names =
                names.map(|(names, _)| names.split(", ").map(|name| name.trim_matches('`').to_owned()).collect());
            (ConstraintKind::Reference, names, None)
        }
        1451 | 1217 => (ConstraintKind::Reference, None, None),
        1048 | 1364 => (ConstraintKind::NotNull, quoted('\'', 0).map(|column| vec![column]), None),
        4025 | 3819 => (ConstraintKind::Check, None, quoted('`', 0)),
        1644 => (ConstraintKind::Check, None, None),
        1406 => (ConstraintKind::Length, quoted('\'', 0).map(|column| vec![column]), None),
        1264 | 1690 => (ConstraintKind::Range, quoted('\'', 0).map(|column| vec![column]), None),
        1265 | 1366 | 1292 => (ConstraintKind::Form, None, None),
        _ => return None,
    };
    Some((rule, columns.unwrap_or_default(), constraint))
}

/// Did the database itself take the transaction back, in favour of others?
pub(super) fn is_rolled_back(error: &Error) -> bool {
    matches!(error, Error::Server(server) if server.code == 1213)
}

/// The problem of a server that cannot be reached, or that went away.
pub(super) fn unreachable(error: &Error) -> Problem {
    let reason = match error {
        Error::Server(server) => match server.code {
            1045 | 1698 if server.message.contains("using password: NO") => Unreached::PasswordMissing,
            1044 | 1045 | 1698 => Unreached::LoginRefused,
            1049 => Unreached::NoSuchDatabase,
            1040 | 1203 | 1226 => Unreached::Full,
            _ => Unreached::Away,
        },
        Error::Driver(DriverError::NoClientSslFlagFromServer) => Unreached::WithoutTls,
        Error::Io(IoError::Tls(_)) => Unreached::CertificateRefused,
        _ => Unreached::Away,
    };
    reason.problem(told(error))
}

/// What the log says of an error. What the server says of a statement or of a login holds no value; its words about data may:
/// `Duplicate entry 'ann@example' for key 'email'`.
pub(super) fn told(error: &Error) -> Detail {
    match error {
        Error::Server(server) => {
            // Statements, tables, columns, logins, connections, limits, locks.
            const WITHOUT_VALUES: [&str; 7] = ["08", "25", "28", "3D", "40", "42", "70"];
            let number = format!("{} ({})", server.code, server.state);
            if WITHOUT_VALUES.iter().any(|class| server.state.starts_with(class)) {
                return Detail::plain(format_args!("{number}: {}", server.message));
            }
            let names =
                refused(server).into_iter().flat_map(|(_, columns, constraint)| columns.into_iter().chain(constraint));
            let names: String = names.map(|name| format!(", `{name}`")).collect();
            Detail::with_words(format_args!("{number}{names}"), &server.message)
        }
        Error::Driver(driver) => Detail::with_words("an error of the driver", driver),
        Error::Io(_) | Error::Url(_) | Error::Other(_) => Detail::plain(error),
    }
}

/// Did the session die?
pub(super) fn is_lost(problem: &Problem) -> bool {
    problem.code == Code::SourceUnavailable
}
