//! The huts in MariaDB: tables in its own types, rows by inserts of many at once.

use std::path::Path;

use mysql_async::Value as Parameter;
use mysql_async::prelude::Queryable as _;
use puente_core::project::SourceSettings;
use puente_sql::{Dialect as _, Mariadb};
use rusqlite::types::Value;

use crate::server::{Rows, not_empty};

const SCHEMA: &str = include_str!("../huts.mariadb.sql");

/// Placeholders that one statement may have.
const MOST_PLACEHOLDERS: usize = 30_000;

pub(crate) async fn load(settings: &SourceSettings, base: &Path, tables: Vec<Rows>) -> Result<(), String> {
    let told = |error: mysql_async::Error| format!("the demo could not be loaded: {error}");
    let mut connection = puente_sources::mariadb::connect(settings, base).await.map_err(|problem| problem.message)?;
    let count = "select count(*) from information_schema.tables where table_schema = database()";
    let there: i64 = connection.query_first(count).await.map_err(told)?.unwrap_or(0);
    if there > 0 {
        return Err(not_empty(there));
    }
    for statement in SCHEMA.split(";\n").map(str::trim).filter(|statement| !statement.is_empty()) {
        connection.query_drop(statement).await.map_err(told)?;
    }
    for Rows { table, columns, rows } in tables {
        connection.query_drop("start transaction").await.map_err(told)?;
        let quoted: Vec<String> = columns.iter().map(|column| Mariadb.quote(column)).collect();
        let row = format!("({})", vec!["?"; columns.len()].join(", "));
        for chunk in rows.chunks(MOST_PLACEHOLDERS / columns.len()) {
            let values = vec![row.as_str(); chunk.len()].join(", ");
            let text = format!("insert into {} ({}) values {values}", Mariadb.quote(table), quoted.join(", "));
            let parameters: Vec<Parameter> = chunk.iter().flatten().map(parameter).collect();
            connection.exec_drop(text, parameters).await.map_err(told)?;
        }
        connection.query_drop("commit").await.map_err(told)?;
        connection.query_drop(format!("analyze table {}", Mariadb.quote(table))).await.map_err(told)?;
    }
    connection.disconnect().await.map_err(told)
}

fn parameter(value: &Value) -> Parameter {
    match value {
        Value::Null => Parameter::NULL,
        Value::Integer(value) => Parameter::Int(*value),
        Value::Real(value) => Parameter::Double(*value),
        Value::Text(text) => Parameter::Bytes(text.clone().into_bytes()),
        Value::Blob(bytes) => Parameter::Bytes(bytes.clone()),
    }
}
