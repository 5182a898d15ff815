//! The project file `puente.toml`: as typed, then checked. It holds only what differs from the survey.
//!
//! Reading never stops at the first mistake: every one is reported with its place and remedy.

mod identity;
mod reader;
mod role;
mod source;

use std::fmt;

use indexmap::IndexMap;

use crate::value::Scalar;
pub use identity::{ALGORITHMS, Identity, TokenKey, Tokens};
pub use reader::is_graphql_name;
use reader::{Reader, Section};
pub use role::{Action, Fields, GrantEdit, OWNER, RoleEdit, RuleText};
pub use source::{Replica, SourceSettings};

/// The project file's name.
pub const FILE: &str = "puente.toml";

/// A checked project file.
#[derive(Debug, Clone, PartialEq)]
pub struct Project {
    /// `[source.NAME]`.
    pub source: SourceSettings,
    /// `[service]`.
    pub service: Service,
    /// `[identity]`.
    pub identity: Identity,
    /// `[limits]`.
    pub limits: Limits,
    /// `[role.NAME]`.
    pub roles: IndexMap<String, RoleEdit>,
    /// `[[type]]`, by table.
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

/// `[service]`: how the service is reached.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Service {
    /// The secret from which cursors are sealed.
    pub secret: Option<Secret>,
    /// Host names, beside the listening address, under which browsers and programs may reach the service.
    pub hosts: Vec<String>,
    /// Origins of other web sites that may call the service (CORS).
    pub origins: Vec<String>,
}

/// `[limits]`: what one ask may cost.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Rows and filter leaves, estimated from the ask's page sizes.
    pub cost: u64,
    /// Rows of one page.
    pub page: u32,
    /// Rows of a page for which the ask names no size.
    pub default_page: u32,
    /// Values of one list in a filter.
    pub list: usize,
    /// Levels of one filter.
    pub filter_depth: usize,
    /// Levels of the selection.
    pub depth: usize,
    /// Statements of one ask.
    pub statements: usize,
    /// Bytes of an answer before compression.
    pub answer_bytes: usize,
    /// Bytes of a request body.
    pub body_bytes: usize,
    /// Milliseconds for one ask.
    pub time_ms: u64,
    /// Rows that one bulk change may touch, and rows that one mutation may create.
    pub changes: usize,
    /// Milliseconds for a rehearsal, which keeps others waiting for the rows that it locks.
    pub rehearse_ms: u64,
    /// Asks that one caller may begin in a second, on average; 0, any number.
    pub asks_per_second: u32,
    /// Asks of one caller that may run or wait at once; 0, any number.
    pub asks_at_once: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            cost: 250_000,
            page: 500,
            default_page: 50,
            list: 1_000,
            filter_depth: 8,
            depth: 20,
            statements: 200,
            answer_bytes: 16 << 20,
            body_bytes: 1 << 20,
            time_ms: 10_000,
            changes: 10_000,
            rehearse_ms: 2_000,
            asks_per_second: 0,
            asks_at_once: 0,
        }
    }
}

impl Limits {
    /// Each limit by its name in the file.
    fn entries(&self) -> [(&'static str, u64); 14] {
        let or_any = |number: u32| if number == 0 { u64::MAX } else { number.into() };
        [
            ("cost", self.cost),
            ("page", self.page.into()),
            ("default_page", self.default_page.into()),
            ("list", self.list as u64),
            ("filter_depth", self.filter_depth as u64),
            ("depth", self.depth as u64),
            ("statements", self.statements as u64),
            ("answer_bytes", self.answer_bytes as u64),
            ("body_bytes", self.body_bytes as u64),
            ("time_ms", self.time_ms),
            ("changes", self.changes as u64),
            ("rehearse_ms", self.rehearse_ms),
            ("asks_per_second", or_any(self.asks_per_second)),
            ("asks_at_once", or_any(self.asks_at_once)),
        ]
    }

    /// A limit that is looser than the other's, with both numbers.
    fn looser_than(&self, other: &Limits) -> Option<(&'static str, u64, u64)> {
        let pairs = self.entries().into_iter().zip(other.entries());
        pairs.map(|((name, own), (_, other))| (name, own, other)).find(|(_, own, other)| own > other)
    }
}

/// `[[type]]`: what differs from the survey for one table.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TypeEdit {
    /// The object type's name.
    pub name: Option<String>,
    /// The name of the field that finds one.
    pub one: Option<String>,
    /// The name of the field that lists many.
    pub list: Option<String>,
    /// Leave the table out.
    pub hidden: bool,
    /// The type's description.
    pub description: Option<String>,
    /// Columns that the API shows as nullable although the engine enforces a value.
    pub nullable: Vec<String>,
    /// Columns that tell its rows apart where the database promises no key: never null, and together unique.
    pub key: Vec<String>,
    /// The column that changes with every change of a row, and makes its revision.
    pub version: Option<String>,
    /// What differs for single columns.
    pub fields: IndexMap<String, FieldEdit>,
    /// Where in the file.
    pub place: Place,
}

/// `[type.fields.COLUMN]`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FieldEdit {
    /// The field's name.
    pub name: Option<String>,
    /// Leave the column out.
    pub hidden: bool,
    /// The field's description.
    pub description: Option<String>,
    /// Another scalar than the survey's.
    pub scalar: Option<Scalar>,
    /// Where in the file.
    pub place: Place,
}

/// `[[link]]`: a link that no foreign key declares.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkEdit {
    /// The referencing table.
    pub table: String,
    /// The referencing columns; with `through`, those of the table between that refer to `table`, empty where one foreign key
    /// does.
    pub columns: Vec<String>,
    /// The table between the two, for a direct link over it.
    pub through: Option<String>,
    /// The referenced table.
    pub to: String,
    /// The referenced columns; with `through`, those of the table between that refer to `to`, empty where one foreign key does.
    pub references: Vec<String>,
    /// The name of the link on the referencing type.
    pub name: Option<String>,
    /// The name of the link back.
    pub back: Option<String>,
    /// Where in the file.
    pub place: Place,
}

/// A place in the project file; line and column count from 1, 0 is unknown.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Place {
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
        if self.place.line > 0 {
            write!(f, "{FILE}:{}:{}: {}", self.place.line, self.place.column, self.text)
        } else {
            write!(f, "{FILE}: {}", self.text)
        }
    }
}

/// Reads and checks a project file. `environment` looks up `${VARIABLE}`.
///
/// # Errors
/// Every mistake in the file, in the order of the file.
pub fn read(text: &str, environment: &dyn Fn(&str) -> Option<String>) -> Result<Project, Vec<Mistake>> {
    let mut reader = Reader::new(text, environment)?;
    let root = reader.root();
    reader.only(&root, &["source", "service", "identity", "limits", "role", "type", "link"]);
    let source = source::read_source(&mut reader, &root);
    let service = reader.section(&root, "service").map(|s| read_service(&mut reader, &s)).unwrap_or_default();
    let asking = reader.section(&root, "identity");
    let identity = asking.as_ref().map(|s| identity::read_identity(&mut reader, s)).unwrap_or_default();
    let limits = Limits::default();
    let limits = reader.section(&root, "limits").map_or(limits, |s| read_limits(&mut reader, &s, &limits));
    let roles = role::read_roles(&mut reader, &root, &limits);
    if let (Some(role), Some(section)) = (&identity.anonymous, &asking)
        && !roles.contains_key(role)
    {
        let hint = crate::suggest::did_you_mean(role, roles.keys().map(String::as_str));
        reader.mistake_at(section, "anonymous", format!("`{role}` is no role{hint}; add `[role.{role}…]`"));
    }
    let mut types = IndexMap::new();
    for section in reader.sections(&root, "type") {
        if let Some((table, edit)) = read_type(&mut reader, &section) {
            if types.contains_key(&table) {
                reader.mistake(section.place, format!("a second `[[type]]` for table `{table}`; put both into one"));
            }
            types.insert(table, edit);
        }
    }
    let links = reader.sections(&root, "link").iter().filter_map(|s| read_link(&mut reader, s)).collect();
    let exposed = std::mem::take(&mut reader.exposed);
    reader.finish(Project { source, service, identity, limits, roles, types, links, exposed })
}

fn read_service(reader: &mut Reader<'_>, section: &Section) -> Service {
    reader.only(section, &["secret", "hosts", "origins"]);
    let secret = reader.secret(section, "secret", reader::is_stated);
    if secret.as_ref().is_some_and(|secret| secret.0.len() < 32) {
        reader.mistake_at(section, "secret", "the secret is shorter than 32 bytes; `openssl rand -hex 32` makes one");
    }
    let origins = reader.texts(section, "origins");
    for origin in &origins {
        if !(origin.starts_with("https://") || origin.starts_with("http://")) || origin.ends_with('/') {
            reader.mistake_at(
                section,
                "origins",
                format!("`{origin}` is no origin: write scheme, host and port, such as `https://app.example`"),
            );
        }
    }
    Service { secret, hosts: reader.texts(section, "hosts"), origins }
}

fn read_limits(reader: &mut Reader<'_>, section: &Section, default: &Limits) -> Limits {
    let keys = default.entries().map(|(name, _)| name);
    reader.only(section, &keys);
    let mut number = |key: &str, or: u64, least: u64, most: u64| reader.number(section, key, least, most).unwrap_or(or);
    let limits = Limits {
        cost: number("cost", default.cost, 1, 1_000_000_000),
        page: reader::as_u32(number("page", default.page.into(), 1, 100_000)),
        default_page: reader::as_u32(number("default_page", default.default_page.into(), 1, 100_000)),
        list: reader::as_usize(number("list", default.list as u64, 1, 100_000)),
        filter_depth: reader::as_usize(number("filter_depth", default.filter_depth as u64, 1, 32)),
        depth: reader::as_usize(number("depth", default.depth as u64, 1, 50)),
        statements: reader::as_usize(number("statements", default.statements as u64, 1, 10_000)),
        answer_bytes: reader::as_usize(number("answer_bytes", default.answer_bytes as u64, 1_024, 1 << 30)),
        body_bytes: reader::as_usize(number("body_bytes", default.body_bytes as u64, 1_024, 1 << 28)),
        time_ms: number("time_ms", default.time_ms, 10, 3_600_000),
        changes: reader::as_usize(number("changes", default.changes as u64, 1, 1_000_000)),
        rehearse_ms: number("rehearse_ms", default.rehearse_ms, 10, 600_000),
        asks_per_second: reader::as_u32(number("asks_per_second", default.asks_per_second.into(), 0, 1_000_000)),
        asks_at_once: reader::as_u32(number("asks_at_once", default.asks_at_once.into(), 0, 1_000_000)),
    };
    if limits.default_page > limits.page && section.has("default_page") {
        let text = format!("default_page {} is over page {}; lower it", limits.default_page, limits.page);
        reader.mistake_at(section, "default_page", text);
    }
    Limits { default_page: limits.default_page.min(limits.page), ..limits }
}

fn read_type(reader: &mut Reader<'_>, section: &Section) -> Option<(String, TypeEdit)> {
    reader.only(
        section,
        &["table", "name", "one", "list", "hidden", "description", "nullable", "key", "version", "fields"],
    );
    let mut fields = IndexMap::new();
    if let Some(section) = reader.section(section, "fields") {
        for (column, field) in reader.named_sections(&section) {
            reader.only(&field, &["name", "hidden", "description", "scalar"]);
            let scalar = reader.text(&field, "scalar").and_then(|name| {
                let known = Scalar::from_name(&name);
                if known.is_none() {
                    let names: Vec<_> = Scalar::ALL.iter().map(|scalar| scalar.name()).collect();
                    let text = format!("`{name}` is no scalar; expected one of {}", names.join(", "));
                    reader.mistake_at(&field, "scalar", text);
                }
                known
            });
            let edit = FieldEdit {
                name: reader.graphql_name(&field, "name"),
                hidden: reader.flag(&field, "hidden"),
                description: reader.text(&field, "description"),
                scalar,
                place: field.place,
            };
            fields.insert(column, edit);
        }
    }
    let edit = TypeEdit {
        name: reader.graphql_name(section, "name"),
        one: reader.graphql_name(section, "one"),
        list: reader.graphql_name(section, "list"),
        hidden: reader.flag(section, "hidden"),
        description: reader.text(section, "description"),
        nullable: reader.texts(section, "nullable"),
        key: reader.texts(section, "key"),
        version: reader.text(section, "version"),
        fields,
        place: section.place,
    };
    let Some(table) = reader.text(section, "table") else {
        reader.missing(section, "table", "the table or view that this `[[type]]` is about");
        return None;
    };
    Some((table, edit))
}

fn read_link(reader: &mut Reader<'_>, section: &Section) -> Option<LinkEdit> {
    reader.only(section, &["table", "columns", "through", "to", "references", "name", "back"]);
    let is_direct = section.has("through");
    for (key, what, needed) in [
        ("table", "the table that refers", true),
        ("columns", "the columns that refer", !is_direct),
        ("to", "the table referred to", true),
        ("references", "the columns referred to", !is_direct),
    ] {
        if needed && !section.has(key) {
            reader.missing(section, key, what);
        }
    }
    let columns = reader.texts(section, "columns");
    let references = reader.texts(section, "references");
    let both = section.has("columns") && section.has("references");
    if both && !is_direct && (columns.len() != references.len() || columns.is_empty()) {
        let text =
            format!("{} columns cannot match {} references; name them in pairs", columns.len(), references.len());
        reader.mistake_at(section, "references", text);
    }
    Some(LinkEdit {
        table: reader.text(section, "table")?,
        columns,
        through: reader.text(section, "through"),
        to: reader.text(section, "to")?,
        references,
        name: reader.graphql_name(section, "name"),
        back: reader.graphql_name(section, "back"),
        place: section.place,
    })
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
        assert_eq!(project.source.url.0, "sqlite:/data/huts.db");
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
