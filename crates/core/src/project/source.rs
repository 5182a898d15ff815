//! `[source.NAME]`: which database, and how it is reached.

use super::reader::{self, Reader, Section};
use super::{Secret, address};
use crate::catalog::Engine;

/// A checked `[source.NAME]`.
#[derive(Debug, Clone, PartialEq)]
pub struct SourceSettings {
    /// `NAME`.
    pub name: String,
    /// What kind of database the address names.
    pub engine: Engine,
    /// The address, environment variables filled in.
    pub url: Secret,
    /// The address as it may be told: variables by their names, and nothing secret.
    pub shown: String,
    /// Connections that read at the same time; absent, one per processor for SQLite, eight for a server.
    pub connections: Option<usize>,
    /// How long a request waits for a connection, in milliseconds.
    pub wait_ms: u64,
    /// Which schemas are surveyed, the first without its name before its tables'. Empty, the engine's usual one.
    pub schemas: Vec<String>,
    /// Patterns of tables that are left out, with `*` for any text.
    pub leave_out: Vec<String>,
    /// A file with the certificates of the authorities that are trusted, in PEM; absent, the system's.
    pub root_certificate: Option<String>,
    /// Are statements prepared once per connection? Not behind a proxy that hands out a connection per transaction.
    pub prepared: bool,
    /// Copies of the database for requests that only read.
    pub replicas: Vec<Replica>,
    /// How many values of a JSON column, or documents of a collection, the survey looks at.
    pub samples: u32,
    /// May several documents be changed at once on a server that has no transactions, so that some are and some are not where it
    /// fails halfway?
    pub without_transactions: bool,
    /// Are types called by the first word of their tables, too, where every table has the same?
    pub keep_first_word: bool,
}

/// A copy of the database that lags behind it.
#[derive(Debug, Clone, PartialEq)]
pub struct Replica {
    /// Its address.
    pub url: Secret,
    /// The roles whose requests it answers; empty, every role's.
    pub roles: Vec<String>,
}

/// Values of a JSON column that the survey looks at where nothing else is said.
const SAMPLES: u32 = 1_000;
/// Milliseconds that a request waits for a connection where nothing else is said.
const WAIT_MS: u64 = 2_000;

impl SourceSettings {
    fn placeholder() -> Self {
        SourceSettings {
            name: String::new(),
            engine: Engine::Sqlite,
            url: Secret(String::new()),
            shown: String::new(),
            connections: None,
            wait_ms: WAIT_MS,
            schemas: Vec::new(),
            leave_out: Vec::new(),
            root_certificate: None,
            prepared: true,
            replicas: Vec::new(),
            samples: SAMPLES,
            without_transactions: false,
            keep_first_word: false,
        }
    }

    /// Is a table left out by a pattern?
    pub fn leaves_out(&self, table: &str) -> bool {
        self.leave_out.iter().any(|pattern| matches(pattern, table))
    }
}

/// Does a pattern with `*` for any text match the whole text?
fn matches(pattern: &str, text: &str) -> bool {
    match pattern.split_once('*') {
        None => pattern == text,
        Some((head, rest)) => text.strip_prefix(head).is_some_and(|tail| {
            tail.char_indices().map(|(at, _)| at).chain([tail.len()]).any(|at| matches(rest, &tail[at..]))
        }),
    }
}

/// The addresses that are understood: how they begin, and what they lead to.
const SCHEMES: &[(&str, Engine)] = &[
    ("sqlite:", Engine::Sqlite),
    ("postgres:", Engine::Postgres),
    ("postgresql:", Engine::Postgres),
    ("mariadb:", Engine::Mariadb),
    ("mysql:", Engine::Mariadb),
    ("mongodb:", Engine::Mongodb),
    ("mongodb+srv:", Engine::Mongodb),
];

/// What can be said of some engines alone, and how those are called.
const ONLY_FOR: &[(&str, &[Engine], &str)] = &[
    ("schemas", &[Engine::Postgres], "PostgreSQL"),
    ("prepared", &[Engine::Postgres], "PostgreSQL"),
    ("root_certificate", &[Engine::Postgres, Engine::Mariadb, Engine::Mongodb], "database servers"),
    ("wait_ms", &[Engine::Postgres, Engine::Mariadb, Engine::Mongodb], "database servers"),
    (
        "replicas",
        &[Engine::Postgres, Engine::Mariadb],
        "PostgreSQL and MariaDB (MongoDB's `readPreference` is part of its `url`)",
    ),
    ("without_transactions", &[Engine::Mongodb], "MongoDB"),
];

/// Every `[source.NAME]`, in the order of the file; at least one.
pub(super) fn read_sources(reader: &mut Reader<'_>, root: &Section) -> Vec<SourceSettings> {
    let sources = reader.section(root, "source");
    let named = sources.as_ref().map(|s| reader.named_sections(s)).unwrap_or_default();
    if named.is_empty() {
        reader.mistake(
            super::Place::default(),
            "no source: add `[source.main]` with `url = \"sqlite:path/to/file.db\"` or `url = \"${DATABASE_URL}\"`",
        );
        return vec![SourceSettings::placeholder()];
    }
    named.iter().map(|(name, section)| read_source(reader, name, section)).collect()
}

/// Is it a name that a source may have?
///
/// # Errors
/// What such a name is made of, with one that is like it.
pub fn check_source_name(name: &str) -> Result<(), String> {
    if super::is_plain_name(name) {
        return Ok(());
    }
    let like = plain_name(name);
    Err(format!("`{name}` is not a source name: use lower-case letters, digits and `_`, such as `{like}`"))
}

/// A name like this one that a source may have.
fn plain_name(name: &str) -> String {
    let plain: String = name.to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
    let plain = plain.trim_matches('_').to_owned();
    if plain.is_empty() { "main".to_owned() } else { plain }
}

fn read_source(reader: &mut Reader<'_>, name: &str, section: &Section) -> SourceSettings {
    if let Err(text) = check_source_name(name) {
        reader.mistake(section.place, text);
    }
    let keys = [
        "url",
        "connections",
        "wait_ms",
        "schemas",
        "leave_out",
        "root_certificate",
        "prepared",
        "replicas",
        "samples",
        "without_transactions",
        "keep_first_word",
    ];
    reader.only(section, &keys);
    if !section.has("url") {
        reader.missing(section, "url", "such as `url = \"sqlite:huts.db\"`, or `url = \"${DATABASE_URL}\"`");
    }
    let (engine, url) = read_url(reader, section).unwrap_or((Engine::Sqlite, Secret(String::new())));
    let shown = section.get("url").and_then(|(item, _)| item.as_str()).map(address::shown).unwrap_or_default();
    let is_known = !url.0.starts_with(super::UNSET);
    for (key, engines, are) in ONLY_FOR {
        if is_known && section.has(key) && !engines.contains(&engine) {
            reader.mistake_at(section, key, format!("`{key}` is for {are} only; remove it"));
        }
    }
    let replicas = reader.sections_or_inline(section, "replicas");
    SourceSettings {
        name: name.to_owned(),
        engine,
        url,
        shown,
        connections: reader.number(section, "connections", 1, 256).map(reader::as_usize),
        wait_ms: reader.number(section, "wait_ms", 1, 600_000).unwrap_or(WAIT_MS),
        schemas: reader.texts(section, "schemas"),
        leave_out: reader.texts(section, "leave_out"),
        root_certificate: reader.text(section, "root_certificate"),
        prepared: !section.has("prepared") || reader.flag(section, "prepared"),
        samples: reader.number(section, "samples", 1, 1_000_000).map_or(SAMPLES, reader::as_u32),
        without_transactions: reader.flag(section, "without_transactions"),
        keep_first_word: reader.flag(section, "keep_first_word"),
        replicas: replicas.iter().filter_map(|replica| read_replica(reader, replica, engine)).collect(),
    }
}

fn read_replica(reader: &mut Reader<'_>, section: &Section, engine: Engine) -> Option<Replica> {
    reader.only(section, &["url", "roles"]);
    if !section.has("url") {
        reader.missing(section, "url", "the address of the copy");
    }
    let (found, url) = read_url(reader, section)?;
    if found != engine {
        reader.mistake_at(section, "url", "a replica is a copy of the source, so its address begins the same way");
    }
    Some(Replica { url, roles: reader.texts(section, "roles") })
}

fn read_url(reader: &mut Reader<'_>, section: &Section) -> Option<(Engine, Secret)> {
    let Secret(url) = reader.secret(section, "url", address::states_secret)?;
    match SCHEMES.iter().find(|(scheme, _)| url.starts_with(scheme)) {
        Some((_, engine)) => Some((*engine, Secret(url))),
        // The survey knows what it is.
        None if url.starts_with(super::UNSET) => Some((Engine::Sqlite, Secret(url))),
        None => {
            // Only what stands before the first colon is shown: what follows may hold a password. Of a variable nothing is.
            let written = section.get("url").and_then(|(item, _)| item.as_str()).unwrap_or_default();
            let scheme = written.split_once(':').map_or("", |(scheme, _)| scheme);
            let is_of_file = !scheme.contains("${") && url.starts_with(scheme);
            let scheme = if is_of_file { scheme.to_owned() } else { String::new() };
            let known: Vec<&str> = SCHEMES.iter().map(|(scheme, _)| *scheme).collect();
            let text = match scheme.as_str() {
                "" => {
                    "expected an address, found a path, or a name alone; for a file write `sqlite:` before it, such as \
                       `sqlite:data/huts.db`"
                        .to_owned()
                }
                scheme => format!("expected an address that begins with one of {}, found `{scheme}:`", known.join(" ")),
            };
            reader.mistake_at(section, "url", text);
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("postgres://u:hush@h/d", true)]
    #[case("postgres://u:${PW}@h/d", false)]
    #[case("postgres://u@h/d", false)]
    #[case("${DATABASE_URL}", false)]
    #[case("postgres://h/d?password=hush", true)]
    #[case("mariadb://u:pre${PW}@h/d", true)]
    fn a_password_in_an_address_is_noted(#[case] url: &str, #[case] noted: bool) {
        assert_eq!(address::states_secret(url), noted);
        let text = format!("[source.main]\nurl = \"{url}\"\n");
        let project = crate::project::read(&text, &|_| Some("postgres://u:p@h/d".to_owned())).unwrap();
        assert_eq!(!project.exposed.is_empty(), noted, "{:?}", project.exposed);
    }

    #[test]
    fn patterns_match_whole_names() {
        assert!(
            matches("tmp_*", "tmp_a") && matches("*", "") && matches("a*b*c", "aXbYc") && matches("*_old", "x_old")
        );
        assert!(!matches("tmp_*", "xtmp_a") && !matches("a*b", "abc") && !matches("a", "ab"));
    }
}
