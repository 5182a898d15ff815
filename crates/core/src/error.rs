//! One table of everything that can go wrong: its code, who is at fault, its HTTP status and its log level.

use std::fmt;

use serde::Serialize;

use crate::visible::visible;

/// Who has to act for the error to go away.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// Whoever sent the request.
    Caller,
    /// Whoever sent the request, as the rows are now: a well-formed write that they do not allow.
    Data,
    /// Whoever wrote the project file or runs the database's tables.
    Operator,
    /// The database or the way to it.
    Source,
    /// Puente itself.
    Puente,
}

/// How loudly the log reports an error.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Level {
    /// Expected in normal operation.
    Info,
    /// Somebody should look at it today.
    Warn,
    /// Somebody should look at it now.
    Error,
}

/// Problems of one answer at most: more than this nobody reads, and a flood of mistakes must not become a flood of answers.
pub const MOST_PROBLEMS: usize = 20;
/// Bytes of one message at most: a caller's own names in it may be as long as its request.
const MOST_MESSAGE_BYTES: usize = 2_000;

/// A text of a caller's as it is told back, or logged: at most so many bytes, the middle left out.
pub fn shortened(text: &str, most: usize) -> std::borrow::Cow<'_, str> {
    if text.len() <= most {
        return text.into();
    }
    let half = most / 2;
    let (head, tail) = (text.floor_char_boundary(half), text.ceil_char_boundary(text.len() - half));
    format!("{} … {}", &text[..head], &text[tail..]).into()
}

macro_rules! codes {
    ($($(#[$doc:meta])* $name:ident = $text:literal, $fault:ident, $status:literal, $level:ident;)*) => {
        /// A stable, machine-readable error code, sent as `extensions.code`.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum Code { $($(#[$doc])* $name,)* }

        impl Code {
            /// Every code there is.
            pub const ALL: &'static [Code] = &[$(Code::$name,)*];

            /// The code as clients see it.
            pub fn as_str(self) -> &'static str {
                match self { $(Code::$name => $text,)* }
            }

            /// Who is at fault.
            pub fn fault(self) -> Fault {
                match self { $(Code::$name => Fault::$fault,)* }
            }

            /// The status of an `application/graphql-response+json` answer that has no `data`.
            pub fn status(self) -> u16 {
                match self { $(Code::$name => $status,)* }
            }

            /// The level at which the log reports it.
            pub fn level(self) -> Level {
                match self { $(Code::$name => Level::$level,)* }
            }
        }
    };
}

codes! {
    /// The request is not a GraphQL-over-HTTP request.
    InvalidRequest = "INVALID_REQUEST", Caller, 400, Info;
    /// The request would change something, and came by a method that does not.
    MethodNotAllowed = "METHOD_NOT_ALLOWED", Caller, 405, Info;
    /// The request names a document by its hash alone, and this service has never seen it: send it along.
    PersistedQueryNotFound = "PERSISTED_QUERY_NOT_FOUND", Caller, 400, Info;
    /// The request names a document by its hash alone, and this service keeps none.
    PersistedQueryNotSupported = "PERSISTED_QUERY_NOT_SUPPORTED", Caller, 400, Info;
    /// The document does not parse.
    DocumentUnreadable = "DOCUMENT_UNREADABLE", Caller, 400, Info;
    /// The document does not fit the role's schema.
    DocumentInvalid = "DOCUMENT_INVALID", Caller, 400, Info;
    /// A variable's value does not fit its declared type.
    InvalidVariable = "INVALID_VARIABLE", Caller, 400, Info;
    /// An argument's value is not allowed here.
    InvalidArgument = "INVALID_ARGUMENT", Caller, 400, Info;
    /// A cursor was not made by this service for this list, order and role.
    InvalidCursor = "INVALID_CURSOR", Caller, 400, Info;
    /// The request exceeds a limit of the project.
    TooCostly = "TOO_COSTLY", Caller, 400, Info;
    /// The caller has so many requests waiting, or sends so many, that one more would be at the cost of others.
    TooBusy = "TOO_BUSY", Caller, 429, Info;
    /// Nobody proved who is asking.
    Unauthenticated = "UNAUTHENTICATED", Caller, 401, Info;
    /// The role may not be used by this caller, or from this origin.
    RoleRefused = "ROLE_REFUSED", Caller, 403, Info;
    /// The row that a change is about is not there.
    RowMissing = "ROW_MISSING", Data, 200, Info;
    /// A write outside the role's grant, or its check.
    NotPermitted = "NOT_PERMITTED", Data, 200, Info;
    /// A row with the same unique key is there already.
    Conflict = "CONFLICT", Data, 200, Info;
    /// A foreign key: the row referred to is not there, or the row is still referred to.
    ReferenceBroken = "REFERENCE_BROKEN", Data, 200, Info;
    /// A value that the table does not take: a check, not null, too long, out of range.
    ValueRefused = "VALUE_REFUSED", Data, 200, Info;
    /// The row was changed since its revision was read.
    StaleRevision = "STALE_REVISION", Data, 200, Info;
    /// The connection was lost after the commit was sent: the change is there, or it is not.
    OutcomeUnknown = "OUTCOME_UNKNOWN", Source, 200, Error;
    /// A stored value does not fit the type that the survey gave its column.
    ValueUnfit = "VALUE_UNFIT", Operator, 200, Warn;
    /// A statement no longer fits the tables.
    SourceDrifted = "SOURCE_DRIFTED", Operator, 503, Error;
    /// The database refused the statement for the login's privileges.
    SourceRefused = "SOURCE_REFUSED", Operator, 503, Error;
    /// The database cannot be reached or read.
    SourceUnavailable = "SOURCE_UNAVAILABLE", Source, 503, Error;
    /// The database gave the request up in favour of others, more than once: a deadlock, or a lock that was not had in time.
    Contention = "CONTENTION", Source, 503, Warn;
    /// The request took longer than the project allows.
    TimedOut = "TIMED_OUT", Source, 504, Warn;
    /// A mistake of ours.
    Internal = "INTERNAL", Puente, 500, Error;
}

/// One step of a response path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum PathStep {
    /// A response key.
    Key(String),
    /// A position in a list.
    Index(usize),
}

impl PathStep {
    /// About how many bytes it takes in an answer.
    pub(crate) fn weight(&self) -> usize {
        const INDEX: usize = 8;
        match self {
            PathStep::Key(key) => key.len(),
            PathStep::Index(_) => INDEX,
        }
    }
}

/// A place in the document: line and column, both counted from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Location {
    /// The line, from 1.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
}

/// One error of an answer, in the form of the GraphQL specification.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// What kind of error it is.
    pub code: Code,
    /// What was expected, what came, and the remedy, in the API's own names.
    pub message: String,
    /// Where in the document.
    pub locations: Vec<Location>,
    /// Where in the answer.
    pub path: Vec<PathStep>,
    /// What only the log may say.
    pub detail: Option<Box<Detail>>,
}

/// What the log says of a problem beside its message. What a database says may hold whole rows, also some that the caller may not
/// read: of that the log has the code and the names, and the words only for whoever asks for them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Detail {
    /// Without a value of anybody's.
    told: String,
    /// The database's own words, where they may hold values.
    words: Option<String>,
}

impl Detail {
    /// Words of ours, of a driver about a connection, or of a database about a statement: none of them holds a value.
    pub fn plain(told: impl fmt::Display) -> Self {
        Detail { told: visible(&told.to_string()).into_owned(), words: None }
    }

    /// What a database says of values: `told` is its code with the names that go with it, `words` all of it.
    pub fn with_words(told: impl fmt::Display, words: impl fmt::Display) -> Self {
        let [told, words] = [told.to_string(), words.to_string()].map(|text| visible(&text).into_owned());
        Detail { told, words: Some(words) }
    }

    /// What every log may say.
    pub fn told(&self) -> &str {
        &self.told
    }

    /// The database's own words, which may hold values.
    pub fn words(&self) -> Option<&str> {
        self.words.as_deref()
    }
}

impl Problem {
    /// A problem without a place.
    pub fn new(code: Code, message: impl Into<String>) -> Self {
        let mut message: String = message.into();
        // It may name what is not ours: a table, a value.
        if let std::borrow::Cow::Owned(shown) = visible(&message) {
            message = shown;
        }
        if message.len() > MOST_MESSAGE_BYTES {
            message = shortened(&message, MOST_MESSAGE_BYTES).into_owned();
        }
        Problem { code, message, locations: Vec::new(), path: Vec::new(), detail: None }
    }

    /// The time of a request is up, or its source's patience.
    pub fn timed_out() -> Self {
        Problem::new(Code::TimedOut, "the request took too long; ask for less")
    }

    /// The same problem, at a place in the document.
    pub fn at(mut self, location: Option<Location>) -> Self {
        self.locations.extend(location);
        self
    }

    /// The same problem, told of one of several sources.
    pub fn of_source(mut self, name: &str) -> Self {
        self.message = format!("source `{name}`: {}", self.message);
        self
    }

    /// The same problem, with what only the log may say.
    pub fn with_detail(mut self, detail: Detail) -> Self {
        self.detail = Some(Box::new(detail));
        self
    }

    /// What every log may say of it beside its message; empty where there is nothing.
    pub fn told(&self) -> &str {
        self.detail.as_deref().map_or("", Detail::told)
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.code.as_str(), self.message)
    }
}

impl std::error::Error for Problem {}

impl Serialize for Problem {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeMap;
        #[derive(Serialize)]
        struct Extensions {
            code: &'static str,
        }
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("message", &self.message)?;
        if !self.locations.is_empty() {
            map.serialize_entry("locations", &self.locations)?;
        }
        if !self.path.is_empty() {
            map.serialize_entry("path", &self.path)?;
        }
        map.serialize_entry("extensions", &Extensions { code: self.code.as_str() })?;
        map.end()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn every_code_is_unique_and_upper_case() {
        let texts: HashSet<_> = Code::ALL.iter().map(|code| code.as_str()).collect();
        assert_eq!(texts.len(), Code::ALL.len());
        assert!(texts.iter().all(|text| text.chars().all(|c| c.is_ascii_uppercase() || c == '_')));
    }

    #[test]
    fn the_caller_is_never_blamed_with_a_server_status() {
        for code in Code::ALL {
            assert_eq!(code.fault() == Fault::Caller, (400..500).contains(&code.status()), "{code:?}");
        }
    }

    #[test]
    fn the_database_text_is_not_serialised() {
        let problem =
            Problem::new(Code::SourceDrifted, "the tables changed").with_detail(Detail::plain("no such column: pin"));
        assert!(!serde_json::to_string(&problem).unwrap().contains("pin"));
    }
}
