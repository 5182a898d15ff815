//! The huts in PostgreSQL: tables in its own types, rows by COPY.

use std::path::Path;

use futures_util::SinkExt as _;
use puente_core::project::SourceSettings;
use puente_sql::{Dialect as _, Postgres};
use rusqlite::types::Value;

use crate::server::{Rows, not_empty};

const SCHEMA: &str = include_str!("../huts.postgres.sql");

pub(crate) async fn load(settings: &SourceSettings, base: &Path, tables: Vec<Rows>) -> Result<(), String> {
    let told = |error: tokio_postgres::Error| {
        let server = error.as_db_error().map(|error| error.message().to_owned());
        format!("the demo could not be loaded: {}", server.unwrap_or_else(|| error.to_string()))
    };
    let mut client = puente_sources::postgres::connect(settings, base).await.map_err(|problem| problem.message)?;
    let count =
        "select count(*) from pg_class where relnamespace = 'public'::regnamespace and relkind in ('r', 'p', 'v', 'm')";
    let there: i64 = client.query_one(count, &[]).await.map_err(told)?.get(0);
    if there > 0 {
        return Err(not_empty(there));
    }
    let transaction = client.transaction().await.map_err(told)?;
    transaction.batch_execute(SCHEMA).await.map_err(told)?;
    for Rows { table, columns, rows } in tables {
        let quoted: Vec<String> = columns.iter().map(|column| Postgres.quote(column)).collect();
        let copy = format!("copy {} ({}) from stdin", Postgres.quote(table), quoted.join(", "));
        let sink = transaction.copy_in(&copy).await.map_err(told)?;
        let mut sink = std::pin::pin!(sink);
        for chunk in rows.chunks(1_000) {
            let text: String = chunk.iter().map(|row| line(row)).collect();
            sink.send(bytes::Bytes::from(text)).await.map_err(told)?;
        }
        sink.close().await.map_err(told)?;
        if columns.first().is_some_and(|column| column == "id") {
            let next = format!(
                "select setval(pg_get_serial_sequence('{}', 'id'), (select max(id) from {}))",
                Postgres.quote(table),
                Postgres.quote(table)
            );
            transaction.batch_execute(&next).await.map_err(told)?;
        }
    }
    transaction.commit().await.map_err(told)?;
    client.batch_execute("analyze").await.map_err(told)
}

/// A row in COPY's text format.
fn line(row: &[Value]) -> String {
    let mut line = String::new();
    for (at, value) in row.iter().enumerate() {
        if at > 0 {
            line.push('\t');
        }
        match value {
            Value::Null => line.push_str("\\N"),
            Value::Integer(value) => line.push_str(&value.to_string()),
            Value::Real(value) => line.push_str(&value.to_string()),
            Value::Text(text) => {
                for c in text.chars() {
                    match c {
                        '\\' => line.push_str("\\\\"),
                        '\t' => line.push_str("\\t"),
                        '\n' => line.push_str("\\n"),
                        '\r' => line.push_str("\\r"),
                        other => line.push(other),
                    }
                }
            }
            Value::Blob(bytes) => {
                line.push_str("\\\\x");
                bytes.iter().for_each(|byte| line.push_str(&format!("{byte:02x}")));
            }
        }
    }
    line.push('\n');
    line
}
