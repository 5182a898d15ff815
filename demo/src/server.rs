//! The huts on a database server: its own tables, and the rows of the embedded database copied into them.

use std::path::Path;

use puente_core::catalog::Engine;
use puente_core::project::SourceSettings;
use rusqlite::Connection;
use rusqlite::types::Value;

#[cfg(feature = "mongodb")]
use crate::mongodb;
use crate::{mariadb, postgres};

/// The tables in an order in which every reference finds its target.
pub(crate) const TABLES: &[&str] = &[
    "regions",
    "wardens",
    "huts",
    "hikers",
    "bookings",
    "trails",
    "trail_huts",
    "badges",
    "hiker_badges",
    "supplies",
    "supply_deliveries",
    "weather_readings",
    "incidents",
    "incident_log",
];

/// One table's rows on their way.
pub(crate) struct Rows {
    pub(crate) table: &'static str,
    pub(crate) columns: Vec<String>,
    pub(crate) rows: Vec<Vec<Value>>,
}

/// Makes the tables, or the collections, in an empty database of the user's, and fills them.
///
/// # Errors
/// A sentence where the database is not empty, cannot be reached, or refuses.
pub async fn load(settings: &SourceSettings, base: &Path) -> Result<(), String> {
    let failed = |error: &rusqlite::Error| format!("the demo's rows cannot be made: {error}");
    let rows = || all_rows().map_err(|error| failed(&error));
    match settings.engine {
        Engine::Postgres => postgres::load(settings, base, rows()?).await,
        Engine::Mariadb => mariadb::load(settings, base, rows()?).await,
        #[cfg(not(feature = "mongodb"))]
        Engine::Mongodb => Err("this build of Puente is without that kind of database".to_owned()),
        #[cfg(feature = "mongodb")]
        Engine::Mongodb => {
            let mut huts = Connection::open_in_memory().map_err(|error| failed(&error))?;
            crate::fill(&mut huts).map_err(|error| failed(&error))?;
            mongodb::load(settings, base, &huts).await
        }
        Engine::Sqlite => Err("the embedded demo needs no loading".to_owned()),
    }
}

/// Says that a database of somebody's is left alone.
pub(crate) fn not_empty(tables: i64) -> String {
    format!("the database has {tables} tables already, and the demo only goes into an empty one; nothing was changed")
}

fn all_rows() -> rusqlite::Result<Vec<Rows>> {
    let mut connection = Connection::open_in_memory()?;
    crate::fill(&mut connection)?;
    TABLES.iter().map(|table| rows(&connection, table)).collect()
}

fn rows(connection: &Connection, table: &'static str) -> rusqlite::Result<Rows> {
    let mut statement = connection.prepare(&format!("select * from \"{table}\""))?;
    let columns: Vec<String> = statement.column_names().map(str::to_owned).collect();
    let width = columns.len();
    let rows = statement.query_map([], |row| (0..width).map(|at| row.get(at)).collect())?;
    let mut rows: Vec<Vec<Value>> = rows.collect::<Result<_, _>>()?;
    if let Some(at) = columns.iter().position(|column| column == "severity") {
        // The embedded database keeps what it is given; a server's JSON column wants JSON.
        for row in &mut rows {
            row[at] = match std::mem::replace(&mut row[at], Value::Null) {
                Value::Text(text) => Value::Text(format!("{text:?}")),
                Value::Integer(number) => Value::Text(number.to_string()),
                other => other,
            };
        }
    }
    Ok(Rows { table, columns, rows })
}
