//! The project file `puente.toml`: as typed, then checked. It holds only what differs from the survey.
//!
//! Reading never stops at the first mistake: every one is reported with its place and remedy.

mod address;
mod edit;
mod identity;
mod json_schema;
mod keys;
mod limits;
mod links;
mod reader;
mod role;
mod service;
mod source;
mod types;
mod widened;

use std::fmt;

use indexmap::IndexMap;

use crate::visible::visible;

pub use address::{Ambiguous, SecretPart, secret_parts, shown as shown_address, states_secret};
pub use edit::{Edit, EditError, FieldRule, FieldSetting, GrantText, LinkText, Renamed, TypeSetting, apply, follow};
pub use identity::{ALGORITHMS, Identity, TokenKey, Tokens};
pub use json_schema::json_schema;
pub use keys::{KeyEdit, hash_of_digits, key_hash_text};
pub use limits::Limits;
pub use links::LinkEdit;
use reader::Reader;
pub use reader::is_graphql_name;
pub use role::{Action, Fields, GrantEdit, OWNER, RoleEdit, RuleText};
pub use service::{Service, Tls};
pub use source::{Replica, SourceSettings, check_source_name};
pub use types::{FieldEdit, LinkSettings, MemberEdit, TypeEdit};
pub use widened::widened;

/// The project file's name.
pub const FILE: &str = "puente.toml";

/// A checked project file.
#[derive(Debug, Clone, PartialEq)]
pub struct Project {
    /// `[source.NAME]`, in the order of the file; at least one.
    pub sources: Vec<SourceSettings>,
    /// `[service]`.
    pub service: Service,
    /// `[identity]`.
    pub identity: Identity,
    /// `[key.NAME]`.
    pub keys: IndexMap<String, KeyEdit>,
    /// `[limits]`.
    pub limits: Limits,
    /// `[role.NAME]`.
    pub roles: IndexMap<String, RoleEdit>,
    /// `[[type]]`, by table as the file names it.
    pub types: IndexMap<String, TypeEdit>,
    /// `[[link]]`.
    pub links: Vec<LinkEdit>,
    /// Secrets that are written in the file itself, where the environment should have them: not for production.
    pub exposed: Vec<Mistake>,
}

/// A text that must not be printed: an address with a password, a key.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(pub String);

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// A place in the project file, or in one that it includes; line and column count from 1, 0 is unknown.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Place {
    /// Which of the included files; none, the project file itself.
    pub file: Option<&'static str>,
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

/// A mistake in the project file: where, and what would be right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    /// Where in the file.
    pub place: Place,
    /// What was expected, what came, and the remedy.
    pub text: String,
}

impl fmt::Display for Mistake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let file = self.place.file.unwrap_or(FILE);
        if self.place.line > 0 {
            write!(f, "{file}:{}:{}: {}", self.place.line, self.place.column, visible(&self.text))
        } else {
            write!(f, "{file}: {}", visible(&self.text))
        }
    }
}

/// Reads and checks a project file. `environment` looks up `${VARIABLE}`.
///
/// # Errors
/// Every mistake in the file, in the order of the file.
pub fn read(text: &str, environment: &dyn Fn(&str) -> Option<String>) -> Result<Project, Vec<Mistake>> {
    read_files(&[(FILE.to_owned(), text.to_owned())], environment)
}

/// The same of a project file and those that it includes, with their names, in this order.
///
/// # Errors
/// Every mistake in the files, in their order.
pub fn read_files(
    files: &[(String, String)],
    environment: &dyn Fn(&str) -> Option<String>,
) -> Result<Project, Vec<Mistake>> {
    let mut reader = Reader::new(files, environment)?;
    let root = reader.root();
    reader.only(&root, SECTIONS);
    let sources = source::read_sources(&mut reader, &root);
    let service = reader.section(&root, "service").map(|s| service::read_service(&mut reader, &s)).unwrap_or_default();
    let asking = reader.section(&root, "identity");
    let identity = asking.as_ref().map(|s| identity::read_identity(&mut reader, s)).unwrap_or_default();
    let limits = Limits::default();
    let limits = reader.section(&root, "limits").map_or(limits, |s| limits::read_limits(&mut reader, &s, &limits));
    let roles = role::read_roles(&mut reader, &root, &limits);
    if let (Some(role), Some(section)) = (&identity.anonymous, &asking)
        && !roles.contains_key(role)
    {
        let hint = crate::suggest::did_you_mean(role, roles.keys().map(String::as_str));
        reader.mistake_at(section, "anonymous", format!("`{role}` is not a role{hint}; add `[role.{role}…]`"));
    }
    if let Some(role) = identity.tokens.as_ref().and_then(|tokens| tokens.fallback_role.as_ref())
        && let Some(section) = asking.as_ref().and_then(|section| reader.section(section, "tokens"))
        && !roles.contains_key(role)
    {
        let hint = crate::suggest::did_you_mean(role, roles.keys().map(String::as_str));
        reader.mistake_at(&section, "fallback_role", format!("`{role}` is not a role{hint}; add `[role.{role}…]`"));
    }
    let keys = keys::read_keys(&mut reader, &root);
    for (name, key) in &keys {
        if let Some(role) = key.role.as_ref().filter(|role| *role != OWNER && !roles.contains_key(*role)) {
            let hint = crate::suggest::did_you_mean(role, roles.keys().map(String::as_str));
            reader.mistake(key.place, format!("key `{name}` asks as `{role}`, which is not a role{hint}"));
        }
    }
    let mut types = IndexMap::new();
    for section in reader.sections(&root, "type") {
        if let Some((table, edit)) = types::read_type(&mut reader, &section) {
            if types.contains_key(&table) {
                reader.mistake(section.place, format!("a second `[[type]]` for table `{table}`; put both into one"));
            }
            types.insert(table, edit);
        }
    }
    let links = reader.sections(&root, "link").iter().filter_map(|s| links::read_link(&mut reader, s)).collect();
    let exposed = std::mem::take(&mut reader.exposed);
    reader.finish(Project { sources, service, identity, keys, limits, roles, types, links, exposed })
}

impl Project {
    /// A project in which nobody has begun yet: without a source, which no file may be.
    pub fn empty() -> Self {
        Project {
            sources: Vec::new(),
            service: Service::default(),
            identity: Identity::default(),
            keys: IndexMap::new(),
            limits: Limits::default(),
            roles: IndexMap::new(),
            types: IndexMap::new(),
            links: Vec::new(),
            exposed: Vec::new(),
        }
    }

    /// The source of this name.
    pub fn source(&self, name: &str) -> Option<&SourceSettings> {
        self.sources.iter().find(|source| source.name == name)
    }
}

/// What the file has at its outermost level.
const SECTIONS: &[&str] = &["include", "source", "service", "identity", "key", "limits", "role", "type", "link"];

/// The patterns of files that a project file includes, with the place where it says so; empty where it is no TOML, which reading it
/// tells.
///
/// # Errors
/// Patterns that lead out of the folder, or to what is no TOML file.
pub fn included(text: &str) -> Result<(Vec<String>, Place), Vec<Mistake>> {
    let nothing = |_: &str| None;
    let Ok(mut reader) = Reader::new(&[(FILE.to_owned(), text.to_owned())], &nothing) else {
        return Ok(Default::default());
    };
    let root = reader.root();
    let patterns = reader.texts(&root, "include");
    for pattern in &patterns {
        let leads_out = pattern.starts_with(['/', '\\']) || pattern.split(['/', '\\']).any(|part| part == "..");
        if leads_out || !pattern.ends_with(".toml") {
            let text = format!(
                "`{pattern}` is not a file of this folder: write a path in it that ends with `.toml`, with `*` for any text"
            );
            reader.mistake_at(&root, "include", text);
        }
    }
    let place = reader.place_in(&root, "include");
    reader.finish((patterns, place))
}

/// What stands for a variable of the environment that is not set, where a command needs none of the secrets.
pub const UNSET: &str = "\u{1}not set: ";

/// Does a name in the project file, perhaps with its source's before it, mean the table that is called so?
pub fn names_table(name: &str, called: &str) -> bool {
    name == called || name.split_once(':').is_some_and(|(_, table)| table == called)
}

fn is_plain_name(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read_plain(text: &str) -> Result<Project, Vec<Mistake>> {
        read(text, &|name| (name == "DATA").then(|| "/data".to_owned()))
    }

    #[test]
    fn an_almost_empty_file_has_every_default() {
        let project = read_plain("[source.main]\nurl = \"sqlite:${DATA}/huts.db\"\n").unwrap();
        assert_eq!(project.sources[0].url.0, "sqlite:/data/huts.db");
        assert_eq!(project.limits, Limits::default());
        assert!(!format!("{project:?}").contains("/data"), "addresses are not printed");
    }

    #[test]
    fn five_mistakes_are_reported_together_with_their_places() {
        let text = "\
[source.main]
url = \"sqlite:${NOWHERE}/huts.db\"
[limits]
pages = 10
time_ms = \"long\"
[[type]]
table = \"huts\"
name = \"9huts\"
[[link]]
table = \"readings\"
columns = [\"a\"]
references = []
to = \"huts\"
";
        let mistakes = read_plain(text).unwrap_err();
        let lines: Vec<_> = mistakes.iter().map(|mistake| mistake.place.line).collect();
        assert_eq!(lines, [2, 4, 5, 8, 12], "{mistakes:#?}");
        assert!(mistakes[0].text.contains("`NOWHERE` is not set"));
        assert!(mistakes[1].text.contains("did you mean `page`?"));
    }

    #[test]
    fn text_that_is_no_toml_names_its_line() {
        let mistakes = read_plain("[source.main\n").unwrap_err();
        assert_eq!(mistakes.len(), 1);
        assert_eq!(mistakes[0].place.line, 1);
    }
}
