//! From MariaDB's errors to ours, by number. The database's own text goes to the log only.

use mysql_async::Error;
use puente_core::error::{Code, Problem};

/// The problem that an error of MariaDB is to a caller.
pub(super) fn problem(error: &Error) -> Problem {
    let Error::Server(server) = error else { return unreachable(error) };
    let (code, text) = match server.code {
        // Interrupted; over the time of a statement, as MariaDB and as MySQL say it.
        1317 | 1969 | 3024 => (Code::TimedOut, "the ask took too long; ask for less"),
        1142 | 1143 | 1370 => (Code::SourceRefused, "the database refuses this statement to Puente's login"),
        1146 | 1054 | 1305 | 1615 => (
            Code::SourceDrifted,
            "the tables no longer fit the survey; the operator has to run `puente survey` and restart",
        ),
        1205 | 1213 => (Code::SourceUnavailable, "the database gave this ask up in favour of others; ask again"),
        1264 | 1292 | 1366 | 1411 => (
            Code::InvalidArgument,
            "a value is not one that its column can be compared with; it is out of range or malformed",
        ),
        1040 | 1041 | 1053 | 1203 | 1226 | 1927 => return unreachable(error),
        _ => (Code::Internal, "the statement failed; the log has the details under the request's id"),
    };
    Problem::new(code, text).with_detail(error)
}

/// The problem of a server that cannot be reached, or that went away.
pub(super) fn unreachable(error: &Error) -> Problem {
    let code = if let Error::Server(server) = error { server.code } else { 0 };
    let text = match code {
        1044 | 1045 | 1698 => {
            "the database refuses the login; are the user and the password of the source's `url` right?"
        }
        1049 => "the server has no database of the name in the source's `url`",
        1040 | 1203 | 1226 => "the database takes no more connections; ask again in a moment",
        _ => "the database cannot be reached; is it running, and are host and port of the source's `url` right?",
    };
    Problem::new(Code::SourceUnavailable, text).with_detail(error)
}

/// Did the session die?
pub(super) fn is_lost(problem: &Problem) -> bool {
    problem.code == Code::SourceUnavailable
}
