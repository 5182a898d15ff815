//! Random databases: tables with all kinds of keys, links and values, and their rows read back as they are stored, by
//! statements of the testkit's own. A world is of one database, or of several with links between them.

use std::sync::Arc;

use base64::Engine as _;
use bson::Bson;
use futures_util::future::{BoxFuture, FutureExt as _};
use puente_core::catalog::{Catalog, Column, Engine};
use puente_core::error::{Code, Problem};
use puente_core::model::{self, FieldType, Model, SourceId};
use puente_core::plan::{Capabilities, Plan};
use puente_core::project;
use puente_core::value::{Datum, Scalar, StorageFormat};
use puente_run::snapshot::{self, Snapshot};
use puente_run::turns::Load;
use puente_run::{ChangeRequest, Connector, Explanation, Outcome, Prepared, Request, Source};
use puente_sql::{Dialect, Mariadb, Postgres, Sqlite};
use rand::RngExt as _;
use rusqlite::Connection;

use super::ask::Random;
use super::json::{DOCUMENTS, MISFITS};
use super::rule::Collation;
use crate::database::{Database, Spoken};

/// Random databases and what is in them.
#[derive(Debug)]
pub struct World {
    /// The model of it.
    pub model: Arc<Model>,
    /// Rows per type, in the order of the rows' storage; cells in the order of the type's columns, and behind them the JSON of those
    /// that hold JSON with types.
    pub rows: Vec<Vec<Vec<Datum>>>,
    /// The databases, one for each source of the model.
    pub databases: Vec<Database>,
    /// The source that is away, if one is.
    pub away: Option<SourceId>,
    /// How each column is compared, by type.
    collations: Vec<Vec<Collation>>,
}

/// A type of columns beside keys, with values that are stored in it. `@` stands for the column's name.
type Domain = (&'static str, &'static [&'static str]);

/// Doubles that need every digit.
const DOUBLES: &[&str] = &[
    "0.30000000000000004e0",
    "-123456.78901234567e0",
    "1.7976931348623157e308",
    "2.2250738585072014e-308",
    "8.98846567431158e307",
    "null",
];
/// What a long text begins with: longer than any engine's sort takes a look at by itself.
const LONG: &str = "é";
const LONG_TIMES: usize = 700;
/// For documents: the server of the tests takes regular expressions of 1,000 characters, for a list of texts together.
const LONG_TIMES_IN_DOCUMENTS: usize = 200;

/// SQLite's, some of whose values do not fit their type.
const SQLITE: &[Domain] = &[
    ("integer", &["1", "2", "2", "3", "-5", "null", "null", "'misfit'"]),
    ("bigint", &["9007199254740993", "-1", "0", "9223372036854775807", "null"]),
    ("text", &["'a'", "'A'", "'ab'", "'b%'", "'Ümlaut'", "''", "'a_b'", "null", "'50% off'"]),
    ("text collate nocase", &["'a'", "'A'", "'b'", "'B'", "'ab'", "null"]),
    ("text not null default 'x'", &["'x'", "'y'", "'X'", "'xy'"]),
    ("text", &["'{long}a'", "'{long}b'", "'{long}'", "'Z'", "null"]),
    ("integer", &["1", "2", "'two'", "'10'", "'a'", "null"]),
    ("real", &["0.5", "-1.25", "3.0", "1e10", "null"]),
    ("real", DOUBLES),
    ("decimal(8,2)", &["'1.50'", "'2'", "'10.25'", "'-0.5'", "null"]),
    ("boolean", &["0", "1", "1", "null", "2"]),
    ("date", &["'2026-01-31'", "'2026-02-01'", "'2025-12-31'", "null", "'2026-02-30'", "'soon'"]),
    ("timestamp", &["'2026-01-31 10:00:00'", "'2026-01-31 09:59:59.5'", "null"]),
    ("blob", &["x'00ff'", "x''", "x'0a'", "null"]),
    ("text check (@ in ('new', 'in use', 'done'))", &["'new'", "'in use'", "'done'", "null"]),
];

/// PostgreSQL's. Text is in the one collation whose order the oracle knows.
const POSTGRES: &[Domain] = &[
    ("integer", &["1", "2", "2", "3", "-5", "null"]),
    ("smallint", &["1", "2", "-3", "null"]),
    ("bigint", &["9007199254740993", "-1", "0", "9223372036854775807", "null"]),
    (
        "text collate \"C\"",
        &["'a'", "'A'", "'ab'", "'b%'", "'Ümlaut'", "''", "'a_b'", "null", "'50% off'", "'a\\\"b{,}'"],
    ),
    ("text collate \"C\"", &["'{long}a'", "'{long}b'", "'{long}'", "'Z'", "null"]),
    ("text collate folding", &["'ann'", "'ANN'", "'ánn'", "'bob'", "null"]),
    ("char(4) collate \"C\"", &["'a'", "'ab'", "'a b'", "'abcd'", "''", "null"]),
    ("varchar(20) collate \"C\" not null default 'x'", &["'x'", "'y'", "'X'", "'xy'"]),
    ("double precision", &["0.5", "-1.25", "3.0", "1e10", "null"]),
    ("double precision", DOUBLES),
    ("real", &["0.5", "-1.25", "0.1", "null"]),
    ("numeric(8,2)", &["1.50", "2", "10.25", "-0.5", "null"]),
    ("boolean", &["false", "true", "true", "null"]),
    ("date", &["'2026-01-31'", "'2026-02-01'", "'2025-12-31'", "null", "'infinity'"]),
    ("timestamp", &["'2026-01-31 10:00:00'", "'2026-01-31 09:59:59.5'", "null"]),
    ("timestamptz", &["'2026-01-31 10:00:00+00'", "'2026-02-01 00:30:00+01'", "null"]),
    ("time", &["'08:30:00'", "'23:59:59.25'", "null"]),
    ("uuid", &["'11111111-1111-4111-8111-111111111111'", "'a0000000-0000-4000-8000-a0000000000b'", "null"]),
    ("bytea", &["'\\x00ff'", "'\\x'", "'\\x0a'", "null"]),
    ("mood", &["'new'", "'in use'", "'done'", "null"]),
    ("percent", &["0", "50", "100", "null"]),
    ("text check (@ in ('new', 'in use', 'done')) collate \"C\"", &["'new'", "'in use'", "'done'", "null"]),
    ("integer[]", &["'{1,2}'", "'{}'", "'{2,null,3}'", "null"]),
    ("text[] collate \"C\"", &["'{a,b}'", "'{}'", "'{\"a b\",null}'", "null"]),
    ("inet", &["'10.0.0.1'", "'10.0.0.0/8'", "null"]),
];

/// What PostgreSQL's worlds need before their tables. The order of the enum's values is not that of their texts.
const POSTGRES_TYPES: &str = "create collation folding (provider = icu, locale = 'und-u-ks-level1', deterministic = false);\n\
                              create type mood as enum ('new', 'in use', 'done');\n\
                              create domain percent as integer check (value between 0 and 100);\n";

/// MariaDB's. Text is in a collation by code points that does not pad.
const MARIADB: &[Domain] = &[
    ("int", &["1", "2", "2", "3", "-5", "null"]),
    ("bigint", &["9007199254740993", "-1", "0", "9223372036854775807", "null"]),
    ("bigint unsigned", &["18446744073709551615", "0", "7", "null"]),
    (
        "varchar(20) collate utf8mb4_nopad_bin",
        &["'a'", "'A'", "'ab'", "'b%'", "'Ümlaut'", "''", "'a_b'", "null", "'50% off'"],
    ),
    ("varchar(20) collate utf8mb4_general_ci", &["'ann'", "'ANN'", "'ann '", "'ánn'", "'bob'", "null"]),
    ("longtext collate utf8mb4_nopad_bin", &["'{long}a'", "'{long}b'", "'{long}'", "'Z'", "null"]),
    ("char(4) collate utf8mb4_nopad_bin", &["'a'", "'ab'", "'a b'", "'abcd'", "''", "null"]),
    ("varchar(20) collate utf8mb4_nopad_bin not null default 'x'", &["'x'", "'y'", "'X'", "'xy'"]),
    ("text character set latin1 collate latin1_nopad_bin", &["'a'", "'Ä'", "'ä b'", "null"]),
    ("double", &["0.5", "-1.25", "3.0", "1e10", "null"]),
    ("double", DOUBLES),
    ("tinyint(1)", &["0", "1", "2", "-7", "null"]),
    ("int unsigned", &["4294967295", "0", "7", "null"]),
    ("float", &["0.5", "-1.25", "null"]),
    ("decimal(8,2)", &["1.50", "2", "10.25", "-0.5", "null"]),
    ("boolean", &["0", "1", "1", "null"]),
    ("date", &["'2026-01-31'", "'2026-02-01'", "'2025-12-31'", "null"]),
    ("datetime(6)", &["'2026-01-31 10:00:00'", "'2026-01-31 09:59:59.5'", "null"]),
    ("timestamp(6) null", &["'2026-01-31 10:00:00'", "'2026-01-31 23:30:00.25'", "null"]),
    ("time(6)", &["'08:30:00'", "'23:59:59.25'", "'30:00:00'", "null"]),
    ("uuid", &["'11111111-1111-4111-8111-111111111111'", "'a0000000-0000-4000-8000-a0000000000b'", "null"]),
    ("varbinary(10)", &["x'00ff'", "x''", "x'0a'", "null"]),
    ("enum('new', 'in use', 'done') collate utf8mb4_nopad_bin", &["'new'", "'in use'", "'done'", "null"]),
    ("bit(1)", &["b'0'", "b'1'", "null"]),
];

/// MongoDB's, by the words of the testkit for types of BSON. Some columns have a validator.
const MONGODB: &[Domain] = &[
    ("integer", &["1", "2", "2", "3", "-5", "null"]),
    ("integer typed", &["1", "2", "2", "3", "-5", "null"]),
    ("bigint", &["9007199254740993", "-1", "0", "9223372036854775807", "null"]),
    ("text", &["'a'", "'A'", "'ab'", "'b%'", "'Ümlaut'", "''", "'a_b'", "null", "'50% off'", "'$a'", "'a\n'"]),
    ("text typed", &["'a'", "'A'", "'ab'", "'b%'", "'Ümlaut'", "''", "'a_b'", "null", "'50% off'"]),
    ("text not null", &["'x'", "'y'", "'X'", "'xy'"]),
    ("text", &["'{long}a'", "'{long}b'", "'{long}'", "'Z'", "null"]),
    ("real", &["0.5", "-1.25", "3.0", "1e10", "null"]),
    ("real", DOUBLES),
    ("decimal(8,2)", &["'1.50'", "'2'", "'10.25'", "'-0.5'", "null"]),
    ("boolean", &["0", "1", "1", "null"]),
    ("date", &["'2026-01-31'", "'2026-02-01'", "'2025-12-31'", "null"]),
    ("instant", &["'2026-01-31 10:00:00'", "'2026-01-31 09:59:59.5'", "null"]),
    ("instant typed", &["'2026-01-31 10:00:00'", "'2026-01-31 09:59:59.5'", "null"]),
    ("uuid", &["'11111111-1111-4111-8111-111111111111'", "'a0000000-0000-4000-8000-a0000000000b'", "null"]),
    ("objectid", &["'64b7f9c2e13d5a0012ab34cd'", "'64b7f9c2e13d5a0012ab34ce'", "null"]),
    // All as long: the server of the tests compares bytes otherwise than the manual says, which puts shorter ones first.
    ("blob", &["x'00ff'", "x'0a0b'", "x'0a00'", "null"]),
    ("text check (@ in ('new', 'in use', 'done'))", &["'new'", "'in use'", "'done'", "null"]),
];

/// Bytes that an answer may have.
const MOST_BYTES: usize = 16 << 20;

impl World {
    /// Makes a world.
    ///
    /// # Panics
    /// Where the database or the survey refuses it: a mistake of the test.
    pub fn random(random: &mut Random, spoken: impl Into<Spoken>) -> World {
        World::made(random, &[spoken.into()], false)
    }

    /// Makes a world of one or several databases, with links between them, and with JSON that has types.
    ///
    /// # Panics
    /// As [`World::random`].
    pub fn of_sources(random: &mut Random, spoken: &[Spoken]) -> World {
        World::made(random, spoken, true)
    }

    fn made(random: &mut Random, spoken: &[Spoken], json: bool) -> World {
        let (mut databases, mut catalogs, mut text) = (Vec::new(), Vec::new(), String::new());
        let mut links = String::new();
        for (at, spoken) in spoken.iter().enumerate() {
            let (engine, database) = (spoken.engine(), Database::empty(*spoken));
            let mut script = Script { random: &mut *random, engine, json, misfits: String::new() };
            let (script, misfits) = (script.text(), script.misfits);
            database.execute(&script);
            let settings = database.settings(&lines(engine, "connections = 2\n"));
            let survey = puente_sources::survey(&settings, database.folder()).expect("the world can be surveyed");
            // That others inherit from a table is worth a word, and no mistake.
            let notices: Vec<_> = survey.notices.iter().filter(|notice| !notice.contains("inherit")).collect();
            assert!(notices.is_empty(), "{notices:?}");
            if !misfits.is_empty() {
                database.execute(&misfits);
            }
            text.push_str(&format!("[source.s{at}]\nurl = \"{}\"\n", database.url));
            links.push_str(&database.links(&format!("s{at}:")));
            databases.push(database);
            catalogs.push(survey.catalog);
        }
        text.push_str(&links);
        if spoken.len() > 1 {
            text.push_str(&crossing_links(random, &catalogs));
        }
        for (at, catalog) in catalogs.iter().enumerate() {
            for (table, column, _) in model::shaped(catalog) {
                let (table, column) = (&table.name, &column.name);
                text.push_str(&format!("[[type]]\ntable = \"s{at}:{table}\"\n[type.fields.{column}]\nshape = true\n"));
            }
        }
        let project = project::read(&text, &|_| None).expect("a project");
        let mut model = model::build(&catalogs.iter().collect::<Vec<_>>(), &project)
            .unwrap_or_else(|mistakes| panic!("{mistakes:#?}\n{text}"));
        // Worlds are small; a table that counts as large is read by another technique where an index is missing, and where the
        // condition is one over a link.
        const COUNTS: [Option<u64>; 6] = [None, Some(1), Some(1), Some(50), Some(200_000), Some(30_000_000)];
        for t in &mut model.types {
            t.about_rows = COUNTS[random.random_range(0..COUNTS.len())];
        }
        let model = Arc::new(model);
        let rows = read_all(&model, &databases);
        let collation = |engine: Engine, column: &model::Column| match column.kind {
            FieldType::Scalar(Scalar::Decimal | Scalar::BigInt) => Collation::Number,
            FieldType::Enum(id) if engine == Engine::Postgres && column.cast.as_deref() != Some("text") => {
                Collation::Rank(model.enums[id].values.iter().map(|(_, text)| text.clone()).collect())
            }
            FieldType::Scalar(Scalar::Bytes) if engine == Engine::Mongodb => Collation::Length,
            _ => match column.collation.as_deref() {
                Some("NOCASE") => Collation::NoCase,
                Some("utf8mb4_general_ci") => Collation::Folded { pads: true },
                Some("folding") => Collation::Folded { pads: false },
                _ => Collation::Plain,
            },
        };
        let collations = model
            .types
            .iter()
            .map(|t| t.columns.iter().map(|column| collation(databases[t.source].engine, column)).collect())
            .collect();
        World { model, rows, databases, away: None, collations }
    }

    /// The sources of it; one that is away answers nothing.
    ///
    /// # Panics
    /// Where one cannot be opened.
    pub fn sources(&self) -> Vec<Source> {
        let open = |(at, database): (usize, &Database)| -> Source {
            // It is answers that are judged here, not how long a busy machine takes for one.
            let patience = if database.engine == Engine::Sqlite { "" } else { "wait_ms = 10000\n" };
            let settings = database.settings(&lines(database.engine, &format!("connections = 1\n{patience}")));
            let source = puente_sources::open(&settings, database.folder(), MOST_BYTES).expect("a source");
            if self.away == Some(at) { Arc::new(Away(source)) } else { source }
        };
        self.databases.iter().enumerate().map(open).collect()
    }

    /// Reads every row again.
    pub fn read_again(&self) -> Vec<Vec<Vec<Datum>>> {
        read_all(&self.model, &self.databases)
    }

    /// The engine that has a type's rows.
    pub(super) fn engine(&self, of: usize) -> Engine {
        self.databases[self.model.types[of].source].engine
    }

    /// Are a type's rows where nobody can read them?
    pub(super) fn is_away(&self, of: usize) -> bool {
        self.away == Some(self.model.types[of].source)
    }

    /// How a column is compared.
    pub(super) fn collation(&self, of: usize, column: usize) -> &Collation {
        &self.collations[of][column]
    }

    /// Are nulls before everything else, where nothing is said?
    pub(super) fn nulls_are_smallest(&self, of: usize) -> bool {
        self.engine(of) != Engine::Postgres
    }
}

/// Random links between tables of different sources, by columns whose values can be equal.
fn crossing_links(random: &mut Random, catalogs: &[Catalog]) -> String {
    let columns = |catalog: &'_ Catalog| -> Vec<(String, String, Scalar, bool)> {
        let columns = catalog.tables.iter().flat_map(|table| table.columns.iter().map(move |column| (table, column)));
        // What is equal regardless of case, or of blanks, is so on one side only.
        let is_plain = |column: &Column| {
            !column.list
                && !matches!(column.collation.as_deref(), Some("NOCASE" | "utf8mb4_general_ci" | "folding"))
                && column.cast.as_deref() != Some("bpchar")
                && column.form != StorageFormat::EngineText
        };
        columns
            .filter(|(_, column)| is_plain(column))
            .map(|(table, column)| {
                let is_key = table.is_key(std::slice::from_ref(&column.name));
                (table.name.clone(), column.name.clone(), column.scalar, is_key)
            })
            .collect()
    };
    let columns: Vec<_> = catalogs.iter().map(columns).collect();
    let mut text = String::new();
    let mut known = std::collections::HashSet::new();
    for (source, own) in columns.iter().enumerate() {
        for _ in 0..random.random_range(1..=2) {
            let other = (source + random.random_range(1..catalogs.len())) % catalogs.len();
            // Most links lead to a key.
            let to_key = random.random_bool(0.7);
            let fitting: Vec<_> = own
                .iter()
                .flat_map(|own| columns[other].iter().map(move |key| (own, key)))
                .filter(|(own, key)| own.2.converts_to(key.2) && (key.3 || !to_key))
                .collect();
            if fitting.is_empty() {
                continue;
            }
            let ((table, column, ..), (target, key, ..)) = fitting[random.random_range(0..fitting.len())];
            let ends = [(source, table, column), (other, target, key)];
            if known.insert(ends) && !known.contains(&[ends[1], ends[0]]) {
                text.push_str(&format!(
                    "[[link]]\ntable = \"s{source}:{table}\"\ncolumns = [\"{column}\"]\nto = \"s{other}:{target}\"\n\
                     references = [\"{key}\"]\n"
                ));
            }
        }
    }
    text
}

/// A source that is out of reach.
#[derive(Debug)]
struct Away(Source);

fn out_of_reach<T>() -> Result<T, Problem> {
    Err(Problem::new(Code::SourceUnavailable, "the database is out of reach"))
}

impl Connector for Away {
    fn capabilities(&self) -> Capabilities {
        self.0.capabilities()
    }

    fn prepare(&self, plan: &Plan, source: SourceId) -> Arc<dyn Prepared> {
        self.0.prepare(plan, source)
    }

    fn answer(&self, _: Request) -> BoxFuture<'_, Result<Outcome, Problem>> {
        std::future::ready(out_of_reach()).boxed()
    }

    fn snapshot(&self, _: Request) -> Snapshot {
        let (snapshot, mut jobs) = snapshot::snapshot(None);
        jobs.refuse(&Problem::new(Code::SourceUnavailable, "the database is out of reach"));
        snapshot
    }

    fn change(&self, _: ChangeRequest) -> BoxFuture<'_, Result<Outcome, Problem>> {
        std::future::ready(out_of_reach()).boxed()
    }

    fn explain(&self, _: Request) -> BoxFuture<'_, Result<Vec<Explanation>, Problem>> {
        std::future::ready(out_of_reach()).boxed()
    }

    fn probe(&self) -> BoxFuture<'_, Result<(), Problem>> {
        std::future::ready(out_of_reach()).boxed()
    }

    fn load(&self) -> Load {
        self.0.load()
    }
}

/// More lines of the source.
fn lines(engine: Engine, lines: &str) -> String {
    let schemas = if engine == Engine::Postgres { "schemas = [\"public\", \"other\"]\n" } else { "" };
    format!("{lines}{schemas}")
}

/// Every row of every type, and the JSON in it. Items of lists are no rows of their own.
fn read_all(model: &Model, databases: &[Database]) -> Vec<Vec<Vec<Datum>>> {
    let rows_of = |(of, t): (usize, &model::Type)| {
        let rows = if t.items_of.is_some() { Vec::new() } else { read(&databases[t.source], t) };
        rows.into_iter().map(|row| super::json::typed(model, of, row)).collect()
    };
    model.types.iter().enumerate().map(rows_of).collect()
}

/// The columns that a table has.
fn own_columns(t: &model::Type) -> impl Iterator<Item = &model::Column> {
    t.columns.iter().filter(|column| column.member.is_none())
}

fn read(database: &Database, t: &model::Type) -> Vec<Vec<Datum>> {
    match database.engine {
        Engine::Sqlite => read_classes(database, t),
        Engine::Postgres | Engine::Mariadb => read_texts(database, t),
        Engine::Mongodb => read_documents(database, t),
    }
}

/// Documents, in the order of their keys.
fn read_documents(database: &Database, t: &model::Type) -> Vec<Vec<Datum>> {
    let mut documents = crate::documents::read(database, &t.relation);
    documents.sort_by_key(|document| format!("{:?}", document.get("_id")));
    let cell = |column: &model::Column, value: Option<&Bson>| match value {
        None | Some(Bson::Null) => Datum::Null,
        Some(value) if column.form == StorageFormat::JsonValue || column.kind == FieldType::Scalar(Scalar::Json) => {
            Datum::Text(value.clone().into_relaxed_extjson().to_string())
        }
        Some(Bson::Boolean(value)) => Datum::Integer(i64::from(*value)),
        Some(Bson::Int32(value)) => Datum::Integer(i64::from(*value)),
        Some(Bson::Int64(value)) => Datum::Integer(*value),
        Some(Bson::Double(value)) => Datum::Real(*value),
        Some(Bson::String(text)) => Datum::Text(text.clone()),
        Some(Bson::Decimal128(value)) => Datum::Text(value.to_string()),
        Some(Bson::ObjectId(id)) => Datum::Text(id.to_hex()),
        Some(Bson::DateTime(instant)) => Datum::Text(crate::documents::instant_text(*instant)),
        Some(Bson::Binary(binary)) if column.kind == FieldType::Scalar(Scalar::Uuid) => {
            Datum::Text(crate::documents::uuid_text(binary))
        }
        Some(Bson::Binary(binary)) => Datum::Blob(binary.bytes.clone()),
        Some(other) => panic!("a world has no {other:?}"),
    };
    let row =
        |document: &bson::Document| own_columns(t).map(|column| cell(column, document.get(&column.name))).collect();
    documents.iter().map(row).collect()
}

/// SQLite's rows, with the storage classes that they have.
fn read_classes(database: &Database, t: &model::Type) -> Vec<Vec<Datum>> {
    let connection = Connection::open(database.file()).expect("the file");
    // What is served as text for want of one type is text.
    let column = |column: &model::Column| {
        let name = Sqlite.quote(&column.name);
        if column.form == StorageFormat::EngineText { format!("cast({name} as text)") } else { name }
    };
    let columns: Vec<String> = own_columns(t).map(column).collect();
    let order = if t.row_number { " order by rowid" } else { "" };
    let text = format!("select {} from {}{order}", columns.join(", "), Sqlite.quote(&t.table));
    let mut statement = connection.prepare(&text).expect("readable");
    let mut rows = statement.query([]).expect("readable");
    let mut found = Vec::new();
    while let Some(row) = rows.next().expect("readable") {
        let cells = (0..columns.len()).map(|at| match row.get(at).expect("readable") {
            rusqlite::types::Value::Null => Datum::Null,
            rusqlite::types::Value::Integer(value) => Datum::Integer(value),
            rusqlite::types::Value::Real(value) => Datum::Real(value),
            rusqlite::types::Value::Text(value) => Datum::Text(value),
            rusqlite::types::Value::Blob(value) => Datum::Blob(value),
        });
        found.push(cells.collect());
    }
    found
}

/// A server's rows, every value made text by the server and then read by its type.
fn read_texts(database: &Database, t: &model::Type) -> Vec<Vec<Datum>> {
    let (dialect, postgres): (&dyn Dialect, bool) =
        if database.engine == Engine::Postgres { (&Postgres, true) } else { (&Mariadb, false) };
    let columns: Vec<String> = own_columns(t)
        .map(|column| {
            let name = dialect.quote(&column.name);
            if column.form == StorageFormat::JsonValue {
                return if postgres { format!("{name}::text") } else { name };
            }
            match (column.kind, postgres) {
                (FieldType::Scalar(Scalar::Bytes), true) => format!("encode({name}, 'base64')"),
                (FieldType::Scalar(Scalar::Bytes), false) => format!("to_base64({name})"),
                (FieldType::Scalar(Scalar::DateTime), true) => format!("({name} at time zone 'UTC')::text"),
                (FieldType::List(_), true) => format!("to_json({name})::text"),
                // A cast to text would lose the blanks of char(n).
                (_, true) if column.cast.as_deref() == Some("bpchar") => format!("nullif(format('%s', {name}), '')"),
                (_, true) => format!("{name}::text"),
                (FieldType::Scalar(Scalar::Boolean), false) => format!("{name} + 0"),
                (_, false) => format!("convert({name} using utf8mb4)"),
            }
        })
        .collect();
    let order = if postgres { " order by ctid" } else { "" };
    let schema = t.schema.as_ref().filter(|_| postgres).map(|schema| format!("{}.", dialect.quote(schema)));
    let only = if t.inherited { "only " } else { "" };
    let table = format!("{only}{}{}", schema.unwrap_or_default(), dialect.quote(&t.relation));
    let text = format!("select {} from {table}{order}", columns.join(", "));
    let cell = |column: &model::Column, text: Option<String>| match text {
        None => Datum::Null,
        Some(text) if column.form == StorageFormat::JsonValue => Datum::Text(text),
        Some(text) => read_text(column.kind, text),
    };
    let rows = database.query(&text);
    rows.into_iter().map(|row| own_columns(t).zip(row).map(|(column, text)| cell(column, text)).collect()).collect()
}

fn read_text(kind: FieldType, text: String) -> Datum {
    let scalar = match kind {
        FieldType::Enum(_) => return Datum::Text(text),
        FieldType::List(element) => {
            let items: Vec<serde_json::Value> = serde_json::from_str(&text).expect("JSON");
            let item = |item: serde_json::Value| match item {
                serde_json::Value::Null => Datum::Null,
                serde_json::Value::String(text) => read_text(element.kind(), text),
                other => read_text(element.kind(), other.to_string()),
            };
            return Datum::List(items.into_iter().map(item).collect());
        }
        FieldType::Object(_) | FieldType::Items(_) => return Datum::Text(text),
        FieldType::Scalar(scalar) => scalar,
    };
    // Six digits of a second are shown where the column has room for them.
    let trimmed = |text: String| {
        if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
    };
    match scalar {
        Scalar::Boolean => Datum::Integer(i64::from(text == "true" || text == "1")),
        Scalar::Int => Datum::Integer(text.parse().expect("an integer")),
        Scalar::BigInt => text.parse().map_or(Datum::Text(text), Datum::Integer),
        Scalar::Float => Datum::Real(text.parse().expect("a number")),
        Scalar::Bytes => {
            let text = text.replace('\n', "");
            Datum::Blob(base64::engine::general_purpose::STANDARD.decode(text).expect("base64"))
        }
        Scalar::DateTime => Datum::Text(format!("{}Z", trimmed(text))),
        Scalar::LocalDateTime | Scalar::Time => Datum::Text(trimmed(text)),
        _ => Datum::Text(text),
    }
}

/// How a random table is identified.
#[derive(Clone, Copy, PartialEq)]
enum KeyKind {
    Integer,
    Wide,
    Text,
    Composite,
    None,
}

/// Writes the statements of a world.
struct Script<'r> {
    random: &'r mut Random,
    engine: Engine,
    /// Are there columns of JSON?
    json: bool,
    /// What is done to the rows after the survey: JSON as it did not find it.
    misfits: String,
}

impl Script<'_> {
    fn text(&mut self) -> String {
        let count = self.random.random_range(2..=4);
        let kinds: Vec<KeyKind> = (0..count)
            .map(|at| match self.random.random_range(0..10) {
                _ if at == 0 => KeyKind::Integer,
                0..=4 => KeyKind::Integer,
                5 => KeyKind::Wide,
                6 => KeyKind::Text,
                7 | 8 => KeyKind::Composite,
                // MariaDB promises no order of rows that have no key.
                _ if matches!(self.engine, Engine::Mariadb | Engine::Mongodb) => KeyKind::Composite,
                _ => KeyKind::None,
            })
            .collect();
        let mut sql = String::new();
        if self.engine == Engine::Postgres {
            sql.push_str(POSTGRES_TYPES);
        }
        for (at, kind) in kinds.iter().enumerate() {
            sql.push_str(&self.table(at, *kind, &kinds));
        }
        if self.random.random_bool(0.7) {
            sql.push_str(&self.join_table(&kinds));
        }
        if self.engine == Engine::Postgres && self.random.random_bool(0.3) {
            // Rows with keys that the parent's rows have, too.
            sql.push_str("create table heirs (extra integer) inherits (thing0s);\n");
            for row in 0..self.random.random_range(0..9) {
                sql.push_str(&format!("insert into heirs (id, extra) values ({}, {row});\n", row * 3 % 29 + 1));
            }
        }
        if self.engine == Engine::Postgres && self.random.random_bool(0.3) {
            // A table of a name that is there already.
            sql.push_str("create schema other;\ncreate table other.thing0s (id integer primary key, c9 integer);\n");
            for row in 0..self.random.random_range(0..9) {
                sql.push_str(&format!("insert into other.thing0s values ({row}, {});\n", row % 3));
            }
        }
        // A table may refer to one that is made after it.
        let (later, first): (Vec<&str>, Vec<&str>) = sql.lines().partition(|line| line.starts_with("alter "));
        let checks = |on: u8| {
            if self.engine == Engine::Mariadb { format!("set foreign_key_checks = {on};\n") } else { String::new() }
        };
        let text = format!("{}\n{}{}\n{}", first.join("\n"), checks(0), later.join("\n"), checks(1));
        let times = if self.engine == Engine::Mongodb { LONG_TIMES_IN_DOCUMENTS } else { LONG_TIMES };
        text.replace("{long}", &LONG.repeat(times))
    }

    fn domains(&self) -> &'static [Domain] {
        match self.engine {
            Engine::Sqlite => SQLITE,
            Engine::Postgres => POSTGRES,
            Engine::Mariadb => MARIADB,
            Engine::Mongodb => MONGODB,
        }
    }

    /// Text of a key, in the collation whose order the oracle knows.
    fn key_text(&self) -> &'static str {
        match self.engine {
            Engine::Sqlite | Engine::Mongodb => "text",
            Engine::Postgres => "text collate \"C\"",
            Engine::Mariadb => "varchar(20) collate utf8mb4_nopad_bin",
        }
    }

    /// A reference: some lead nowhere, which servers only allow where the key is not enforced.
    fn reference(&self, column: &str, target: usize) -> (String, String) {
        match self.engine {
            Engine::Sqlite | Engine::Mongodb => (format!("{column} integer references thing{target}s"), String::new()),
            _ => (format!("{column} integer"), format!("foreign key ({column}) references thing{target}s (id)")),
        }
    }

    fn table(&mut self, at: usize, kind: KeyKind, kinds: &[KeyKind]) -> String {
        let name = format!("thing{at}s");
        let mut columns = Vec::new();
        let mut values: Vec<Vec<String>> = Vec::new();
        let mut tail: Vec<String> = Vec::new();
        // Of a collection without documents nothing is known.
        let least = if self.engine == Engine::Mongodb { 1 } else { 0 };
        let rows = self.random.random_range(least..=24);
        match kind {
            KeyKind::Integer => columns.push("id integer primary key".to_owned()),
            KeyKind::Wide if self.engine == Engine::Mariadb => {
                columns.push("id bigint unsigned not null primary key".to_owned());
            }
            KeyKind::Wide => columns.push("id bigint not null primary key".to_owned()),
            KeyKind::Text => columns.push(format!("id {} not null primary key", self.key_text())),
            KeyKind::Composite => {
                columns.extend(["a integer not null".to_owned(), format!("b {} not null", self.key_text())]);
                tail.push("primary key (a, b)".to_owned());
            }
            KeyKind::None => {}
        }
        for row in 0..rows {
            values.push(match kind {
                KeyKind::Integer => vec![(row * 3 % 29 + 1).to_string()],
                KeyKind::Wide => vec![(9_007_199_254_740_992_i64 + row * 7 % 29).to_string()],
                KeyKind::Text => vec![format!("'k{row}'")],
                KeyKind::Composite => vec![(row % 4).to_string(), format!("'b{}'", row / 4)],
                KeyKind::None => vec![],
            });
        }
        for number in 0..self.random.random_range(1..=5) {
            let domains = self.domains();
            let (declared, domain) = domains[self.random.random_range(0..domains.len())];
            let column = format!("c{number}");
            columns.push(format!("{column} {}", declared.replace('@', &column)));
            for row in &mut values {
                row.push(domain[self.random.random_range(0..domain.len())].to_owned());
            }
        }
        let has_json = self.json && self.random.random_bool(0.5);
        if has_json {
            columns.push(format!("doc {}", if self.engine == Engine::Postgres { "jsonb" } else { "json" }));
            for row in &mut values {
                row.push(self.document(DOCUMENTS));
            }
            if kind == KeyKind::Integer {
                for rest in 0..2 {
                    let misfit = self.document(MISFITS);
                    self.misfits.push_str(&format!("update {name} set doc = {misfit} where id % 7 = {rest};\n"));
                }
            }
        }
        let mut references = Vec::new();
        // References to tables with an integer key, itself included; some lead nowhere, some are null.
        let targets: Vec<usize> = (0..kinds.len()).filter(|target| kinds[*target] == KeyKind::Integer).collect();
        for number in 0..self.random.random_range(0..=2) {
            let target = targets[self.random.random_range(0..targets.len())];
            let (column, constraint) = self.reference(&format!("ref{number}_id"), target);
            columns.push(column);
            references.push(constraint);
            for row in &mut values {
                let is_null = self.random.random_bool(0.2);
                row.push(if is_null { "null".to_owned() } else { self.random.random_range(1..=30).to_string() });
            }
        }
        let without_rowid = kind == KeyKind::Composite && self.engine == Engine::Sqlite && self.random.random_bool(0.5);
        let body = columns.iter().chain(&tail).cloned().collect::<Vec<_>>().join(", ");
        let mut sql = format!("create table {name} ({body}){};\n", if without_rowid { " without rowid" } else { "" });
        for row in values.iter().filter(|row| !row.is_empty()) {
            sql.push_str(&format!("insert into {name} values ({});\n", row.join(", ")));
        }
        sql.push_str(&self.unenforced(&name, &references));
        if self.random.random_bool(0.5) && matches!(self.engine, Engine::Sqlite | Engine::Mongodb) {
            sql.push_str(&format!("create index {name}_index on {name} (c0);\n"));
        }
        if has_json && self.random.random_bool(0.5) {
            for (at, member) in self.member_indexes().iter().enumerate() {
                sql.push_str(&format!("create index {name}_member{at} on {name} (({member}));\n"));
            }
        }
        sql
    }

    /// Expressions of members of JSON that an index can be on, whatever the values are.
    fn member_indexes(&self) -> &'static [&'static str] {
        match self.engine {
            Engine::Sqlite => &[
                "doc ->> '$.n'",
                "json_extract(doc, '$.t')",
                "doc ->> 'b'",
                "json_extract(doc,'$.o.n')",
                "doc->>'$.f'",
            ],
            Engine::Postgres => &["doc ->> 't'", "doc -> 'o' ->> 't'", "doc ->> 'n'"],
            Engine::Mariadb | Engine::Mongodb => &[],
        }
    }

    /// One of these, as a statement says it, or null.
    fn document(&mut self, documents: &[&str]) -> String {
        match documents.get(self.random.random_range(0..=documents.len())) {
            Some(document) => format!("'{}'", document.replace('\n', " ")),
            None => "null".to_owned(),
        }
    }

    /// Foreign keys added after the rows, without a look at them: real databases have such, too.
    fn unenforced(&self, table: &str, constraints: &[String]) -> String {
        let mut sql = String::new();
        for constraint in constraints.iter().filter(|constraint| !constraint.is_empty()) {
            let unchecked = if self.engine == Engine::Postgres { " not valid" } else { "" };
            sql.push_str(&format!("alter table {table} add {constraint}{unchecked};\n"));
        }
        sql
    }

    fn join_table(&mut self, kinds: &[KeyKind]) -> String {
        let targets: Vec<usize> = (0..kinds.len()).filter(|target| kinds[*target] == KeyKind::Integer).collect();
        let [one, other] = [0; 2].map(|_| targets[self.random.random_range(0..targets.len())]);
        let with_edge = self.random.random_bool(0.7);
        let text = self.key_text();
        let edge = if with_edge { format!(", position integer, c1 {text}") } else { String::new() };
        let [(left, left_key), (right, right_key)] =
            [self.reference("left_id", one), self.reference("right_id", other)];
        let tail = if self.engine == Engine::Sqlite { " without rowid" } else { "" };
        let with_id = self.random.random_bool(0.4);
        let (id, key) = if with_id { ("id integer primary key, ", "unique") } else { ("", "primary key") };
        let tail = if with_id { "" } else { tail };
        let mut sql = format!("create table pairs ({id}{left}, {right}{edge}, {key} (left_id, right_id)){tail};\n");
        let mut seen = std::collections::HashSet::new();
        let least = if self.engine == Engine::Mongodb { 1 } else { 0 };
        for _ in 0..self.random.random_range(least..=50) {
            let pair = (self.random.random_range(1..=30), self.random.random_range(1..=30));
            let edge = if with_edge {
                format!(", {}, 'e{}'", self.random.random_range(0..4), self.random.random_range(0..3))
            } else {
                String::new()
            };
            if seen.insert(pair) {
                let id = if with_id { format!("{}, ", seen.len()) } else { String::new() };
                sql.push_str(&format!("insert into pairs values ({id}{}, {}{edge});\n", pair.0, pair.1));
            }
        }
        sql + &self.unenforced("pairs", &[left_key, right_key])
    }
}
