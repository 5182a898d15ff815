//! From PostgreSQL's errors to ours, by SQLSTATE. The database's own text goes to the log only.

use puente_core::error::{Code, Detail, Problem};
use tokio_postgres::Error;

use crate::server::Unreached;
use puente_run::change::{ConstraintKind, ConstraintViolation};

/// The problem that an error of PostgreSQL is to a caller.
pub(super) fn problem(error: &Error) -> Problem {
    let state = error.code().map(tokio_postgres::error::SqlState::code).unwrap_or_default();
    let (code, text) = match state {
        "" => return unreachable(error),
        "57014" => return Problem::timed_out().with_detail(told(error)),
        "42501" => (Code::SourceRefused, "the database refuses this statement to Puente's login"),
        "42P01" | "42703" | "42704" | "42883" | "42804" | "0A000" | "3F000" | "26000" => (
            Code::SourceDrifted,
            "the tables no longer fit the survey; the operator has to run `puente survey` and restart",
        ),
        // Read-only replicas cancel what stands in the way of what they replay; serialization never concerns a read.
        "40001" | "40P01" => {
            (Code::SourceUnavailable, "the database gave this request up in favour of others; ask again")
        }
        // Others answer infinity, which is not a number either.
        "22003" if error.as_db_error().and_then(|told| told.routine()) == Some("float_overflow_error") => {
            (Code::ValueUnfit, "a `sum` or `avg` is beyond what a Float can hold; leave it out, or filter the rows")
        }
        _ if state.starts_with("22") => (
            Code::InvalidArgument,
            "a value is not one that its column can be compared with; it is out of range or malformed",
        ),
        _ if state.starts_with("08") || state.starts_with("57P") => return unreachable(error),
        // Program limits: too many columns, a statement too complex.
        _ if state.starts_with("54") => {
            (Code::TooCostly, "the request is more than the database takes in one statement; ask in parts")
        }
        _ if state.starts_with("53") => {
            (Code::SourceUnavailable, "the database is at its limits; ask again in a moment")
        }
        _ => (Code::Internal, "the statement failed; the log has the details under the request's id"),
    };
    Problem::new(code, text).with_detail(told(error))
}

/// What a table does not take.
pub(super) fn refusal(error: &Error) -> Option<ConstraintViolation> {
    let told = error.as_db_error()?;
    let rule = match told.code().code() {
        "23505" | "23P01" => ConstraintKind::Unique,
        "23503" | "23001" => ConstraintKind::Reference,
        "23502" => ConstraintKind::NotNull,
        "23514" | "P0001" | "44000" => ConstraintKind::Check,
        "22001" => ConstraintKind::Length,
        "22003" | "22008" => ConstraintKind::Range,
        "22P02" | "22007" | "22P03" | "22021" | "22P05" => ConstraintKind::Form,
        _ => return None,
    };
    // `Key (hut_id, starts_on)=(7, 2026-07-14) already exists.`: in every language the names come first, in parentheses.
    let detail = told.detail().unwrap_or_default();
    let key = detail.split_once('(').and_then(|(_, rest)| rest.split_once(")=(")).map(|(names, _)| names);
    let columns = match (told.column(), key) {
        (Some(column), _) => vec![column.to_owned()],
        (None, Some(names)) => names.split(", ").map(|name| name.trim_matches('"').to_owned()).collect(),
        (None, None) => Vec::new(),
    };
    // The same error says that the row itself is still referred to: then the key is that of the row.
    let columns =
        if rule == ConstraintKind::Reference && detail.contains("still referenced") { Vec::new() } else { columns };
    Some(ConstraintViolation {
        rule,
        columns,
        constraint: told.constraint().map(str::to_owned),
        detail: self::told(error),
    })
}

/// Did the database itself take the transaction back, in favour of others?
pub(super) fn is_rolled_back(error: &Error) -> bool {
    matches!(error.code().map(tokio_postgres::error::SqlState::code), Some("40001" | "40P01"))
}

/// The problem of a server that cannot be reached, or that went away.
pub(super) fn unreachable(error: &Error) -> Problem {
    let state = error.code().map(tokio_postgres::error::SqlState::code).unwrap_or_default();
    let words = words(error);
    let reason = match state {
        "28P01" | "28000" => Unreached::LoginRefused,
        "3D000" => Unreached::NoSuchDatabase,
        "53300" => Unreached::Full,
        // What the driver finds has no code, only words.
        _ if words.contains("password missing") => Unreached::PasswordMissing,
        _ if words.contains("does not support TLS") => Unreached::WithoutTls,
        _ if words.contains("invalid peer certificate") => Unreached::CertificateRefused,
        _ => Unreached::Away,
    };
    reason.problem(told(error))
}

/// Is it worth a second try with a statement prepared again?
pub(super) fn is_stale_plan(problem: &Problem) -> bool {
    problem.code == Code::SourceDrifted
}

/// What the log says of an error. What the server says of a statement, of a login, or of itself holds no value; its words about
/// data may hold whole rows: `Failing row contains (…)`, `Key (email)=(…)`.
pub(super) fn told(error: &Error) -> Detail {
    let Some(server) = error.as_db_error() else { return Detail::plain(words(error)) };
    let state = server.code().code();
    // Syntax and access rules, transactions, limits of the server and of statements, connections, logins.
    const WITHOUT_VALUES: [&str; 9] = ["08", "25", "28", "3D", "40", "42", "53", "54", "57"];
    if WITHOUT_VALUES.iter().any(|class| state.starts_with(class)) {
        return Detail::plain(format_args!("{state}: {}", server.message()));
    }
    let names = [("table", server.table()), ("column", server.column()), ("constraint", server.constraint())];
    let names: String = names.iter().filter_map(|(what, name)| name.map(|name| format!(", {what} `{name}`"))).collect();
    Detail::with_words(format_args!("{state}{names}"), words(error))
}

/// The driver's words and the server's.
fn words(error: &Error) -> String {
    match std::error::Error::source(error) {
        Some(source) => format!("{error}: {source}"),
        None => error.to_string(),
    }
}
