//! A random database: tables with all kinds of keys, links and values, and their rows read back as they are stored.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use puente_core::access::{TypeView, View};
use puente_core::model::{self, Model};
use puente_core::project;
use puente_core::value::Cell;
use rand::RngExt as _;
use rusqlite::Connection;

use super::ask::Random;
use super::rule;

/// A random database and what is in it.
#[derive(Debug)]
pub struct World {
    /// The model of it.
    pub model: Arc<Model>,
    /// Rows per type, in the order of the rows' storage; cells in the order of the type's columns.
    pub rows: Vec<Vec<Vec<Cell>>>,
    /// The file.
    pub file: PathBuf,
    /// Tables and columns that compare regardless of case.
    pub(super) nocase: Vec<(String, String)>,
}

/// Types of columns beside keys, each with values that are stored in it. Some values do not fit their type.
const COLUMNS: &[(&str, &[&str])] = &[
    ("integer", &["1", "2", "2", "3", "-5", "null", "null", "'misfit'"]),
    ("bigint", &["9007199254740993", "-1", "0", "9223372036854775807", "null"]),
    ("text", &["'a'", "'A'", "'ab'", "'b%'", "'Ümlaut'", "''", "'a_b'", "null", "'50% off'"]),
    ("text collate nocase", &["'a'", "'A'", "'b'", "'B'", "'ab'", "null"]),
    ("text not null default 'x'", &["'x'", "'y'", "'X'", "'xy'"]),
    ("real", &["0.5", "-1.25", "3.0", "1e10", "null"]),
    ("decimal(8,2)", &["'1.50'", "'2'", "'10.25'", "'-0.5'", "null"]),
    ("boolean", &["0", "1", "1", "null", "2"]),
    ("date", &["'2026-01-31'", "'2026-02-01'", "'2025-12-31'", "null", "'2026-02-30'", "'soon'"]),
    ("timestamp", &["'2026-01-31 10:00:00'", "'2026-01-31 09:59:59.5'", "null"]),
    ("blob", &["x'00ff'", "x''", "x'0a'", "null"]),
    ("text check (@ in ('new', 'in use', 'done'))", &["'new'", "'in use'", "'done'", "null"]),
];

impl World {
    /// Makes a world in a folder.
    ///
    /// # Panics
    /// Where SQLite or the survey refuses it: a mistake of the test.
    pub fn random(random: &mut Random, folder: &Path) -> World {
        let sql = script(random);
        let file = folder.join("world.db");
        let connection = Connection::open(&file).expect("a new file");
        // References that lead nowhere are part of real databases.
        connection.execute_batch("pragma foreign_keys = off").expect("a pragma");
        connection.execute_batch(&sql).unwrap_or_else(|error| panic!("{error}\n{sql}"));
        let project = project::read("[source.world]\nurl = \"sqlite:world.db\"\n", &|_| None).expect("a project");
        let survey = puente_sources::survey(&project.source, folder).expect("the world can be surveyed");
        assert!(survey.notices.is_empty(), "{:?}", survey.notices);
        let mut model = model::build(&survey.catalog, &project).expect("a model");
        // Worlds are small; a table that counts as large is read by another technique where an index is missing.
        for t in &mut model.types {
            t.small = random.random_bool(0.7);
        }
        let model = Arc::new(model);
        let rows = model.types.iter().map(|t| read(&connection, t)).collect();
        let nocase = survey.catalog.tables.iter().flat_map(|table| {
            let columns = table.columns.iter().filter(|column| column.collation.is_some());
            columns.map(|column| (table.name.clone(), column.name.clone()))
        });
        World { model, rows, file, nocase: nocase.collect() }
    }

    /// A random role's view of it.
    pub fn random_view(&self, random: &mut Random) -> View {
        let types = (0..self.model.types.len())
            .map(|id| {
                let mut view = TypeView::whole(&self.model, id);
                if random.random_bool(0.08) {
                    return None;
                }
                for granted in view.columns.iter_mut().chain(&mut view.links) {
                    *granted = random.random_bool(0.9);
                }
                if random.random_bool(0.5) {
                    view.rows = Some(Arc::new(rule::random_rule(random, self, id, 2)));
                }
                view.count = random.random_bool(0.9);
                view.max_page = random.random_bool(0.2).then_some(5);
                Some(view)
            })
            .collect();
        View::new("walker", Arc::clone(&self.model), types)
    }
}

fn read(connection: &Connection, t: &model::Type) -> Vec<Vec<Cell>> {
    let columns: Vec<String> = t.columns.iter().map(|column| format!("\"{}\"", column.name)).collect();
    let order = if t.row_number { " order by rowid" } else { "" };
    let mut statement =
        connection.prepare(&format!("select {} from \"{}\"{order}", columns.join(", "), t.table)).expect("readable");
    let mut rows = statement.query([]).expect("readable");
    let mut found = Vec::new();
    while let Some(row) = rows.next().expect("readable") {
        let cells = (0..columns.len()).map(|at| match row.get(at).expect("readable") {
            rusqlite::types::Value::Null => Cell::Null,
            rusqlite::types::Value::Integer(value) => Cell::Integer(value),
            rusqlite::types::Value::Real(value) => Cell::Real(value),
            rusqlite::types::Value::Text(value) => Cell::Text(value),
            rusqlite::types::Value::Blob(value) => Cell::Blob(value),
        });
        found.push(cells.collect());
    }
    found
}

/// How a random table is identified.
#[derive(Clone, Copy, PartialEq)]
enum KeyKind {
    Integer,
    Text,
    Composite,
    None,
}

fn script(random: &mut Random) -> String {
    let count = random.random_range(2..=4);
    let kinds: Vec<KeyKind> = (0..count)
        .map(|at| match random.random_range(0..10) {
            _ if at == 0 => KeyKind::Integer,
            0..=5 => KeyKind::Integer,
            6 => KeyKind::Text,
            7 | 8 => KeyKind::Composite,
            _ => KeyKind::None,
        })
        .collect();
    let mut sql = String::new();
    for (at, kind) in kinds.iter().enumerate() {
        sql.push_str(&table(random, at, *kind, &kinds));
    }
    if random.random_bool(0.7) {
        sql.push_str(&join_table(random, &kinds));
    }
    sql
}

fn table(random: &mut Random, at: usize, kind: KeyKind, kinds: &[KeyKind]) -> String {
    let name = format!("thing{at}s");
    let mut columns = Vec::new();
    let mut values: Vec<Vec<String>> = Vec::new();
    let rows = random.random_range(0..=24);
    match kind {
        KeyKind::Integer => columns.push("id integer primary key".to_owned()),
        KeyKind::Text => columns.push("id text not null primary key".to_owned()),
        KeyKind::Composite => columns.extend(["a integer not null".to_owned(), "b text not null".to_owned()]),
        KeyKind::None => {}
    }
    for row in 0..rows {
        values.push(match kind {
            KeyKind::Integer => vec![(row * 3 % 29 + 1).to_string()],
            KeyKind::Text => vec![format!("'k{row}'")],
            KeyKind::Composite => vec![(row % 4).to_string(), format!("'b{}'", row / 4)],
            KeyKind::None => vec![],
        });
    }
    let extra = random.random_range(1..=5);
    for number in 0..extra {
        let (declared, domain) = COLUMNS[random.random_range(0..COLUMNS.len())];
        let column = format!("c{number}");
        columns.push(format!("{column} {}", declared.replace('@', &column)));
        for row in &mut values {
            row.push(domain[random.random_range(0..domain.len())].to_owned());
        }
    }
    // References to tables with an integer key, itself included; some lead nowhere, some are null.
    let targets: Vec<usize> = (0..kinds.len()).filter(|target| kinds[*target] == KeyKind::Integer).collect();
    for number in 0..random.random_range(0..=2) {
        let target = targets[random.random_range(0..targets.len())];
        columns.push(format!("ref{number}_id integer references thing{target}s"));
        for row in &mut values {
            row.push(if random.random_bool(0.2) { "null".to_owned() } else { random.random_range(1..=30).to_string() });
        }
    }
    let mut tail = Vec::new();
    if kind == KeyKind::Composite {
        tail.push("primary key (a, b)".to_owned());
    }
    let without_rowid = kind == KeyKind::Composite && random.random_bool(0.5);
    let body = columns.iter().chain(&tail).cloned().collect::<Vec<_>>().join(", ");
    let mut sql = format!("create table {name} ({body}){};\n", if without_rowid { " without rowid" } else { "" });
    for row in values.iter().filter(|row| !row.is_empty()) {
        sql.push_str(&format!("insert into {name} values ({});\n", row.join(", ")));
    }
    if random.random_bool(0.5) {
        sql.push_str(&format!("create index {name}_index on {name} (c0);\n"));
    }
    sql
}

fn join_table(random: &mut Random, kinds: &[KeyKind]) -> String {
    let targets: Vec<usize> = (0..kinds.len()).filter(|target| kinds[*target] == KeyKind::Integer).collect();
    let [one, other] = [0; 2].map(|_| targets[random.random_range(0..targets.len())]);
    let with_edge = random.random_bool(0.7);
    let edge = if with_edge { ", position integer, c1 text" } else { "" };
    let mut sql = format!(
        "create table pairs (left_id integer not null references thing{one}s, right_id integer not null references \
         thing{other}s{edge}, primary key (left_id, right_id)) without rowid;\n"
    );
    for _ in 0..random.random_range(0..=50) {
        let (left, right) = (random.random_range(1..=30), random.random_range(1..=30));
        let edge = if with_edge {
            format!(", {}, 'e{}'", random.random_range(0..4), random.random_range(0..3))
        } else {
            String::new()
        };
        sql.push_str(&format!("insert or ignore into pairs values ({left}, {right}{edge});\n"));
    }
    sql
}
