//! From PostgreSQL's errors to ours, by SQLSTATE. The database's own text goes to the log only.

use puente_core::error::{Code, Detail, Problem};
use tokio_postgres::Error;

use crate::server::{CONTENTION, READ_ONLY, READ_WRITES, Unreached};
use puente_run::change::{ConstraintKind, ConstraintViolation};

/// The problem that an error of PostgreSQL is to a caller.
pub(super) fn problem(error: &Error) -> Problem {
    let Some(server) = error.as_db_error() else { return unreachable(error) };
    match judged(server.code().code(), server.routine().unwrap_or_default(), server.message()) {
        Judged::Unreached => unreachable(error),
        Judged::TimedOut => Problem::timed_out().with_detail(told(error)),
        Judged::As(code, text) => Problem::new(code, text).with_detail(told(error)),
    }
}

/// What an error comes to.
#[derive(Debug, PartialEq, Eq)]
enum Judged {
    /// There is no session any more, or none to be had.
    Unreached,
    /// The time was up.
    TimedOut,
    /// This, in these words.
    As(Code, &'static str),
}

const DRIFTED: &str = "the tables no longer fit the survey; the operator has to run `puente survey` and restart";
const UNPREPARED: &str = "a statement that was prepared is not there any more: a proxy before the database hands out a session for each \
                          transaction; the source has to say `prepared = false`";

/// By SQLSTATE, and where that says too little by the routine that raised it, which is the same in every language.
fn judged(state: &str, routine: &str, message: &str) -> Judged {
    let (code, text) = match state {
        "" => return Judged::Unreached,
        "57014" => return Judged::TimedOut,
        "42501" => (Code::SourceRefused, "the database refuses this statement to Puente's login"),
        // A write on a standby, or where `default_transaction_read_only` is set.
        "25006" => (Code::SourceUnavailable, READ_ONLY),
        // What a standby cannot do while it replays.
        "0A000" | "55000" if routine.contains("Recovery") || message.contains("during recovery") => {
            (Code::SourceUnavailable, READ_ONLY)
        }
        "26000" | "42P05" => (Code::SourceRefused, UNPREPARED),
        // A materialised view that nothing was put into yet.
        "55000" if routine == "ExecOpenScanRelation" || message.contains("has not been populated") => (
            Code::SourceRefused,
            "the materialised view was not populated yet; the operator has to run `refresh materialized view`",
        ),
        "42P01" | "42703" | "42704" | "42883" | "42804" | "0A000" | "3F000" => (Code::SourceDrifted, DRIFTED),
        // Read-only replicas cancel what stands in the way of what they replay; serialization never concerns a read.
        "40001" | "40P01" | "55P03" => (Code::Contention, CONTENTION),
        // Others answer infinity, which is not a number either.
        "22003" if routine == "float_overflow_error" => {
            (Code::ValueUnfit, "a `sum` or `avg` is beyond what a Float can hold; leave it out, or filter the rows")
        }
        _ if state.starts_with("22") => (
            Code::InvalidArgument,
            "a value is not one that its column can be compared with; it is out of range or malformed",
        ),
        _ if state.starts_with("08") || state.starts_with("57P") => return Judged::Unreached,
        // Program limits: too many columns, a statement too complex.
        _ if state.starts_with("54") => {
            (Code::TooCostly, "the request is more than the database takes in one statement; ask in parts")
        }
        _ if state.starts_with("53") => {
            (Code::SourceUnavailable, "the database is at its limits; ask again in a moment")
        }
        // A syntax error in a value of a type that parses it itself, such as `tsvector` or `jsonpath`.
        "42601" if !routine.is_empty() && !routine.starts_with("scanner") && !routine.starts_with("base_yy") => {
            (Code::InvalidArgument, "a value is malformed for the type of its column")
        }
        _ => (Code::Internal, "the statement failed; the log has the details under the request's id"),
    };
    Judged::As(code, text)
}

/// The same of a statement that reads, in a transaction that cannot write.
pub(super) fn problem_of_reading(error: &Error) -> Problem {
    match error.code().map(tokio_postgres::error::SqlState::code) {
        Some("25006") => Problem::new(Code::SourceRefused, READ_WRITES).with_detail(told(error)),
        _ => problem(error),
    }
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
        "08P01" if words.contains("startup parameter") => Unreached::ParameterRefused,
        _ if words.contains("password missing") => Unreached::PasswordMissing,
        _ if words.contains("does not support TLS") => Unreached::WithoutTls,
        _ if words.contains("invalid peer certificate") => Unreached::CertificateRefused,
        _ => Unreached::Away,
    };
    reason.problem(told(error))
}

/// Is it worth a second try with a statement prepared again?
pub(super) fn is_stale_plan(problem: &Problem) -> bool {
    problem.code == Code::SourceDrifted || problem.told().starts_with("26000")
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::a_write_on_a_standby(
        "25006",
        "PreventCommandIfReadOnly",
        "cannot execute INSERT in a read-only transaction",
        Code::SourceUnavailable
    )]
    #[case::in_recovery(
        "0A000",
        "PreventCommandDuringRecovery",
        "cannot execute LISTEN during recovery",
        Code::SourceUnavailable
    )]
    #[case::another_result(
        "0A000",
        "RevalidateCachedQuery",
        "cached plan must not change result type",
        Code::SourceDrifted
    )]
    #[case::no_such_table("42P01", "parserOpenTable", "relation \"x\" does not exist", Code::SourceDrifted)]
    #[case::behind_a_proxy(
        "26000",
        "FetchPreparedStatement",
        "prepared statement \"s1\" does not exist",
        Code::SourceRefused
    )]
    #[case::prepared_by_others(
        "42P05",
        "StorePreparedStatement",
        "prepared statement \"s1\" already exists",
        Code::SourceRefused
    )]
    #[case::deadlock("40P01", "DeadLockReport", "deadlock detected", Code::Contention)]
    #[case::serialization("40001", "ExecUpdate", "could not serialize access", Code::Contention)]
    #[case::no_lock_in_time("55P03", "ProcessInterrupts", "canceling statement due to lock timeout", Code::Contention)]
    #[case::not_populated(
        "55000",
        "ExecOpenScanRelation",
        "materialized view \"m\" has not been populated",
        Code::SourceRefused
    )]
    #[case::no_privilege("42501", "aclcheck_error", "permission denied for table x", Code::SourceRefused)]
    #[case::too_many("53300", "InitPostgres", "too many connections", Code::SourceUnavailable)]
    #[case::malformed("22P02", "DateTimeParseError", "invalid input syntax", Code::InvalidArgument)]
    #[case::too_complex("54001", "check_stack_depth", "stack depth limit exceeded", Code::TooCostly)]
    #[case::ours("XX000", "elog", "unexpected", Code::Internal)]
    fn each_state_has_a_code_with_its_remedy(
        #[case] state: &str,
        #[case] routine: &str,
        #[case] message: &str,
        #[case] expected: Code,
    ) {
        match judged(state, routine, message) {
            Judged::As(code, text) => assert_eq!(code, expected, "{text}"),
            other => panic!("{state}: {other:?}"),
        }
    }

    #[test]
    fn what_ends_a_session_is_told_apart() {
        for state in ["08006", "57P01", "57P03"] {
            assert_eq!(judged(state, "", ""), Judged::Unreached, "{state}");
        }
        assert_eq!(judged("57014", "ProcessInterrupts", ""), Judged::TimedOut);
    }
}
