//! Who asks: a role, and the claims that are believed.

use std::fmt;
use std::sync::Arc;

use puente_core::error::{Code, Problem, shortened};
use puente_run::turns::Party;
use serde_json::{Map, Value as Json};

/// Who asks.
#[derive(Debug, Clone)]
pub struct Principal {
    /// As which role.
    pub role: String,
    /// The claims that are believed.
    pub claims: Arc<Map<String, Json>>,
    /// How it is known, for the log.
    pub by: AuthMethod,
    /// Whose turn it is, where things are scarce.
    pub party: Party,
}

/// How it is known who asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AuthMethod {
    /// The owner's access key.
    OwnerKey,
    /// The owner's access key, asking as another role.
    OwnerKeyAs,
    /// An access key, by its name.
    AccessKey(Arc<str>),
    /// An access key for counters alone, by its name.
    MetricsKey(Arc<str>),
    /// A token, by its subject.
    Token(String),
    /// Nothing: the role of whoever says nothing.
    Nothing,
    /// The command line, in process.
    CommandLine,
}

/// Bytes of a token's subject that are logged.
const MOST_SUBJECT_BYTES: usize = 100;

impl fmt::Display for AuthMethod {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AuthMethod::OwnerKey => f.write_str("owner key"),
            AuthMethod::OwnerKeyAs => f.write_str("owner key, as another"),
            AuthMethod::AccessKey(name) | AuthMethod::MetricsKey(name) => write!(f, "key {name}"),
            AuthMethod::Token(subject) => write!(f, "token {}", shortened(subject, MOST_SUBJECT_BYTES)),
            AuthMethod::Nothing => f.write_str("nobody"),
            AuthMethod::CommandLine => f.write_str("command line"),
        }
    }
}

impl Principal {
    /// Somebody at the command line, who has the project file and so may ask as anybody.
    pub fn at_command_line(role: impl Into<String>, claims: Map<String, Json>) -> Self {
        Principal {
            role: role.into(),
            claims: Arc::new(claims),
            by: AuthMethod::CommandLine,
            party: Party::new("command line"),
        }
    }

    /// May statements be shown? To the owner, also where it asks as another.
    pub(crate) fn sees_statements(&self) -> bool {
        matches!(self.by, AuthMethod::OwnerKey | AuthMethod::OwnerKeyAs | AuthMethod::CommandLine)
    }
}

/// The problem of a role that is not there, or not for who asks: both look the same.
pub(crate) fn no_such_role(role: &str) -> Problem {
    Problem::new(Code::RoleRefused, format!("`{role}` is not a role that you can ask as"))
}

/// Claims from words of the form `NAME=VALUE`: a value is JSON, or text where it is none.
///
/// # Errors
/// What a word lacks.
pub fn claims_of(words: &[String]) -> Result<Map<String, Json>, String> {
    let mut claims = Map::new();
    for word in words {
        let Some((name, value)) = word.split_once('=').filter(|(name, _)| !name.is_empty()) else {
            return Err(format!("a claim is said as NAME=VALUE, found `{word}`"));
        };
        let read: Option<Json> = serde_json::from_str(value).ok();
        // A subject is text (RFC 7519, section 4.1.2), also where it looks like a number: of JSON it is a text in quotes only.
        let read = read.filter(|read| name != "sub" || read.is_string());
        claims.insert(name.to_owned(), read.unwrap_or_else(|| Json::from(value)));
    }
    Ok(claims)
}
