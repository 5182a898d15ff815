//! Three schemas as other people make them, each for every engine, filled at random: a shop, a monitoring system, a music
//! catalogue. What differs between engines stands in braces.

use std::collections::{BTreeSet, HashMap};

use puente_core::catalog::{Catalog, Column, Engine, ForeignKey, Table, TableKind};
use puente_core::value::Scalar;
use rand::{Rng as _, RngExt as _};

use crate::database::Database;
use crate::oracle::Random;

/// A schema: its name and its statements.
pub const SCHEMAS: [(&str, &str); 3] = [
    ("shop", include_str!("../schemas/shop.sql")),
    ("monitoring", include_str!("../schemas/monitoring.sql")),
    ("music", include_str!("../schemas/music.sql")),
];

/// What stands in braces, for SQLite, PostgreSQL and MariaDB.
const TYPES: [(&str, [&str; 3]); 10] = [
    ("{flag}", ["boolean", "boolean", "boolean"]),
    ("{long}", ["bigint", "bigint", "bigint"]),
    ("{unsigned}", ["integer", "numeric(20)", "bigint unsigned"]),
    ("{double}", ["double", "double precision", "double"]),
    ("{text}", ["text", "text", "longtext"]),
    ("{bytes}", ["blob", "bytea", "blob"]),
    ("{json}", ["json", "jsonb", "json"]),
    ("{uuid}", ["uuid", "uuid", "uuid"]),
    ("{moment}", ["datetime", "timestamp", "datetime(6)"]),
    ("{instant}", ["timestamptz", "timestamptz", "timestamp(6) null"]),
];
/// Rows of a table at most.
const ROWS: usize = 40;
/// Texts with letters of several bytes, quotes, and long common beginnings.
const WORDS: [&str; 12] = [
    "Hut",
    "hut",
    "HUT",
    "Höhe",
    "O'Neill",
    "50% off",
    "under_score",
    "日本",
    "e\u{301}",
    "Åre",
    "a \"quoted\" word",
    "zz top",
];

/// A database of a schema, without rows.
///
/// # Panics
/// Where the engine does not take it.
pub fn empty(engine: Engine, schema: &str) -> Database {
    let database = Database::empty(engine);
    for statement in statements(engine, schema) {
        database.execute(&format!("{statement};\n"));
    }
    database
}

/// A database of a schema with random rows.
///
/// # Panics
/// Where the engine does not take them.
pub fn filled(engine: Engine, schema: &str, random: &mut Random) -> Database {
    let database = empty(engine, schema);
    let catalog = puente_sources::survey(&database.settings(""), database.folder()).expect("a survey").catalog;
    let mut filler = Filler { engine, random, keys: HashMap::new() };
    let mut waiting: Vec<&Table> = catalog.tables.iter().filter(|table| table.kind == TableKind::Table).collect();
    while !waiting.is_empty() {
        let is_ready = |table: &Table| {
            let mut others = table.foreign_keys.iter().filter(|key| key.table != table.name);
            others.all(|key| !waiting.iter().any(|other| other.name == key.table))
        };
        let at = waiting.iter().position(|table| is_ready(table)).expect("no ring of references");
        let table = waiting.remove(at);
        let rows = filler.rows(&catalog, table);
        for chunk in rows.chunks(20).filter(|chunk| !chunk.is_empty()) {
            let names: Vec<String> = table.columns.iter().map(|column| quoted(engine, &column.name)).collect();
            let (table, names) = (quoted(engine, table.relation()), names.join(", "));
            database.execute(&format!("insert into {table} ({names}) values {};\n", chunk.join(",\n")));
        }
    }
    database
}

/// The statements, each after those that make the tables it refers to.
fn statements(engine: Engine, schema: &str) -> Vec<String> {
    let at = match engine {
        Engine::Sqlite => 0,
        Engine::Postgres => 1,
        Engine::Mariadb => 2,
        Engine::Mongodb => panic!("these schemas are made of tables"),
    };
    let (_, text) = SCHEMAS.iter().find(|(name, _)| *name == schema).expect("a schema of this name");
    let mut text = text.lines().filter(|line| !line.starts_with("--")).collect::<Vec<_>>().join("\n");
    for (word, types) in TYPES {
        text = text.replace(word, types[at]);
    }
    let mut waiting: Vec<&str> = text.split(';').map(str::trim).filter(|statement| !statement.is_empty()).collect();
    let name = |statement: &str| statement.split_whitespace().nth(2).unwrap_or_default().to_owned();
    let mut sorted = Vec::new();
    while !waiting.is_empty() {
        let is_ready = |statement: &str| {
            let others = waiting.iter().filter(|other| **other != statement && other.starts_with("create table"));
            let refers = |other: &&str| {
                statement.contains(&format!("references {} ", name(other))) || statement.starts_with("create view")
            };
            !others.into_iter().any(refers)
        };
        let at = waiting.iter().position(|statement| is_ready(statement)).expect("no ring of references");
        let statement = waiting.remove(at);
        sorted.push(if engine == Engine::Mariadb { statement.replace('"', "`") } else { statement.to_owned() });
    }
    sorted
}

fn quoted(engine: Engine, name: &str) -> String {
    if engine == Engine::Mariadb { format!("`{name}`") } else { format!("\"{name}\"") }
}

struct Filler<'r> {
    engine: Engine,
    random: &'r mut Random,
    /// Of each table the rows, as literals by column.
    keys: HashMap<String, Vec<HashMap<String, String>>>,
}

impl Filler<'_> {
    fn rows(&mut self, catalog: &Catalog, table: &Table) -> Vec<String> {
        let wanted = self.random.random_range(ROWS / 2..=ROWS);
        let mut taken: BTreeSet<(usize, Vec<String>)> = BTreeSet::new();
        let mut rows = Vec::new();
        for _ in 0..wanted * 3 {
            if rows.len() >= wanted {
                break;
            }
            let Some(row) = self.row(catalog, table) else { continue };
            let keys: Vec<(usize, Vec<String>)> = table
                .keys()
                .enumerate()
                .map(|(at, key)| (at, key.iter().map(|column| row[column].to_lowercase()).collect::<Vec<_>>()))
                .filter(|(_, values)| !values.iter().any(|value| value == "null"))
                .collect();
            if keys.iter().any(|key| taken.contains(key)) {
                continue;
            }
            taken.extend(keys);
            rows.push(format!(
                "({})",
                table.columns.iter().map(|c| row[&c.name].clone()).collect::<Vec<_>>().join(", ")
            ));
            self.keys.entry(table.name.clone()).or_default().push(row);
        }
        rows
    }

    /// One row, as literals by column; none where a reference has nowhere to lead.
    fn row(&mut self, catalog: &Catalog, table: &Table) -> Option<HashMap<String, String>> {
        let mut row: HashMap<String, String> = HashMap::new();
        // Keys of several columns first: what they share with others is settled by them.
        let mut keys: Vec<&ForeignKey> = table.foreign_keys.iter().collect();
        keys.sort_by_key(|key| std::cmp::Reverse(key.columns.len()));
        for key in keys {
            let column = |name: &String| table.column(name).expect("a column of the key");
            let may_be_null = key.columns.iter().any(|name| column(name).nullable && !row.contains_key(name));
            let targets = self.keys.get(&key.table).map(Vec::as_slice).unwrap_or_default();
            let fits = |target: &&HashMap<String, String>| {
                key.columns
                    .iter()
                    .zip(&key.references)
                    .all(|(own, other)| row.get(own).is_none_or(|known| known == &target[other]))
            };
            let fitting: Vec<&HashMap<String, String>> = targets.iter().filter(fits).collect();
            let values: Option<Vec<String>> = if fitting.is_empty() || may_be_null && self.random.random_bool(0.25) {
                None
            } else {
                let target = fitting[self.random.random_range(0..fitting.len())];
                Some(key.references.iter().map(|other| target[other].clone()).collect())
            };
            match values {
                Some(values) => row.extend(key.columns.iter().cloned().zip(values)),
                None if may_be_null => {
                    for name in &key.columns {
                        if column(name).nullable {
                            row.entry(name.clone()).or_insert_with(|| "null".to_owned());
                        }
                    }
                }
                None => return None,
            }
        }
        let _ = catalog;
        for column in &table.columns {
            if !row.contains_key(&column.name) {
                let is_key = table.keys().any(|key| key.contains(&column.name));
                let value = if column.nullable && !is_key && self.random.random_bool(0.2) {
                    "null".to_owned()
                } else {
                    self.value(column)
                };
                row.insert(column.name.clone(), value);
            }
        }
        Some(row)
    }

    /// A value of a column, as a literal.
    fn value(&mut self, column: &Column) -> String {
        let declared = column.declared.to_ascii_lowercase();
        let length = declared.split(['(', ')']).nth(1).and_then(|digits| digits.parse::<usize>().ok());
        let random = &mut *self.random;
        if !column.values.is_empty() {
            return format!("'{}'", column.values[random.random_range(0..column.values.len())]);
        }
        match column.scalar {
            Scalar::Boolean => if random.random_bool(0.5) { "true" } else { "false" }.to_owned(),
            Scalar::Int => {
                random.random_range(1..=if declared.starts_with("small") { 300 } else { 100_000 }).to_string()
            }
            Scalar::BigInt if random.random_bool(0.2) => {
                (9_007_199_254_740_993_i64 + random.random_range(0..99)).to_string()
            }
            Scalar::BigInt => random.random_range(1..1_000_000_000_i64).to_string(),
            Scalar::Decimal if declared.contains("20") || declared.contains("unsigned") => {
                (u64::MAX - random.random_range(0..1_000_000_u64)).to_string()
            }
            Scalar::Decimal => format!("{}.{:02}", random.random_range(0..100), random.random_range(0..100)),
            // All the digits that a double has.
            Scalar::Float => format!("{:e}", (random.random::<f64>() - 0.3) * 10_f64.powi(random.random_range(-3..9))),
            Scalar::String => {
                let word = WORDS[random.random_range(0..WORDS.len())];
                let number = random.random_range(0..10_000);
                let beginning = if length.is_none() && random.random_bool(0.3) {
                    "long and alike ".repeat(90)
                } else {
                    String::new()
                };
                let text = match length {
                    Some(length) if length < 8 => format!("{number:0>length$}").chars().take(length).collect(),
                    Some(length) => {
                        format!("{word} {number}").chars().take(length).collect::<String>().trim_end().to_owned()
                    }
                    None => format!("{beginning}{word} {number}"),
                };
                format!("'{}'", text.replace('\'', "''"))
            }
            Scalar::Date => format!(
                "'20{:02}-{:02}-{:02}'",
                random.random_range(0..27),
                random.random_range(1..13),
                random.random_range(1..29)
            ),
            Scalar::Time => format!("'{:02}:{:02}:00'", random.random_range(0..24), random.random_range(0..60)),
            Scalar::DateTime | Scalar::LocalDateTime => {
                let (month, day, hour) =
                    (random.random_range(1..13), random.random_range(1..29), random.random_range(4..24));
                let zone = match (self.engine, column.scalar) {
                    (Engine::Postgres, Scalar::DateTime) => "+00",
                    (Engine::Sqlite, Scalar::DateTime) => "Z",
                    _ => "",
                };
                let between = if zone == "Z" { 'T' } else { ' ' };
                format!(
                    "'20{:02}-{month:02}-{day:02}{between}{hour:02}:10:20.{:03}{zone}'",
                    random.random_range(0..27),
                    random.random_range(0..1000)
                )
            }
            Scalar::Uuid => {
                let digits = format!("{:032x}", random.random::<u128>());
                // Version 4, and its variant: not every engine takes others.
                format!(
                    "'{}-{}-4{}-8{}-{}'",
                    &digits[..8],
                    &digits[8..12],
                    &digits[13..16],
                    &digits[17..20],
                    &digits[20..]
                )
            }
            Scalar::Bytes => {
                let digits = format!("{:08x}", random.random::<u32>());
                if self.engine == Engine::Postgres { format!("'\\x{digits}'") } else { format!("x'{digits}'") }
            }
            Scalar::Json => {
                let number = random.next_u32();
                format!("'{{\"a\": [{number}, null, 0.1], \"b\": {{\"c\": \"ö\"}}}}'")
            }
            Scalar::Duration | Scalar::ObjectId => "null".to_owned(),
        }
    }
}
