//! Plain SQL: what a person would type at the engine's own prompt.

use std::path::PathBuf;

use mysql_async::prelude::Queryable as _;
use puente_core::catalog::Engine;
use puente_core::model::{Column, ColumnId, FieldType, Type};
use puente_core::value::{Scalar, StorageFormat};

use crate::database::Database;

/// A session with a database that stays open.
#[derive(Debug)]
pub struct Session {
    /// The database's kind.
    pub engine: Engine,
    to: To,
}

#[derive(Debug)]
enum To {
    Sqlite(PathBuf),
    Postgres(tokio::runtime::Runtime, tokio_postgres::Client),
    Mariadb(tokio::runtime::Runtime, mysql_async::Conn),
}

impl Session {
    /// Opens a session in which instants are told in UTC.
    ///
    /// # Panics
    /// Where the database does not take it.
    pub fn open(database: &Database) -> Self {
        let runtime =
            || tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().expect("a runtime");
        let (settings, folder) = (database.settings(""), database.folder());
        let to = match database.engine {
            Engine::Sqlite => To::Sqlite(database.file()),
            Engine::Postgres => {
                let runtime = runtime();
                let client = runtime.block_on(puente_sources::postgres::connect(&settings, folder)).expect("a session");
                runtime
                    .block_on(client.batch_execute("set time zone 'UTC'; set extra_float_digits = 3"))
                    .expect("settings");
                To::Postgres(runtime, client)
            }
            Engine::Mariadb => {
                let runtime = runtime();
                let mut session =
                    runtime.block_on(puente_sources::mariadb::connect(&settings, folder)).expect("a session");
                runtime.block_on(session.query_drop("set time_zone = '+00:00'")).expect("a setting");
                To::Mariadb(runtime, session)
            }
            Engine::Mongodb => panic!("documents are not asked in SQL"),
        };
        Session { engine: database.engine, to }
    }

    /// The rows of a query, every value as text.
    ///
    /// # Panics
    /// Where it is wrong.
    pub fn query(&mut self, sql: &str) -> Vec<Vec<Option<String>>> {
        match &mut self.to {
            To::Sqlite(file) => crate::database::query_file(file, sql),
            To::Postgres(runtime, client) => runtime.block_on(crate::database::query_postgres(client, sql)),
            To::Mariadb(runtime, session) => runtime.block_on(crate::database::query_mariadb(session, sql)),
        }
    }

    pub(super) fn quote(&self, name: &str) -> String {
        match self.engine {
            Engine::Sqlite | Engine::Postgres | Engine::Mongodb => format!("\"{}\"", name.replace('"', "\"\"")),
            Engine::Mariadb => format!("`{}`", name.replace('`', "``")),
        }
    }

    /// A table's own rows.
    pub(super) fn table(&self, of: &Type) -> String {
        let name = self.quote(&of.relation);
        let name = of.schema.as_ref().map_or(name.clone(), |schema| format!("{}.{name}", self.quote(schema)));
        if of.inherited { format!("only {name}") } else { name }
    }

    /// ORDER BY some columns, or nothing.
    pub(super) fn order(&self, of: &Type, columns: &[ColumnId], before: &str) -> String {
        let terms: Vec<String> = columns.iter().map(|column| self.order_term(of, *column, before, false)).collect();
        if terms.is_empty() { String::new() } else { format!(" order by {}", terms.join(", ")) }
    }

    pub(super) fn order_term(&self, of: &Type, column: ColumnId, before: &str, descending: bool) -> String {
        format!("{}{}", self.value(&of.columns[column], before), if descending { " desc" } else { "" })
    }

    /// A column as it is compared: what SQLite keeps as a mixture, and is served as texts, as texts.
    fn value(&self, column: &Column, before: &str) -> String {
        let name = format!("{before}{}", self.quote(&column.name));
        if column.form == StorageFormat::EngineText && self.engine == Engine::Sqlite {
            format!("cast({name} as text)")
        } else {
            name
        }
    }

    /// Columns as texts that lose nothing.
    pub(super) fn texts(&self, of: &Type, columns: &[ColumnId], before: &str) -> String {
        let text = |column: &ColumnId| {
            let c = &of.columns[*column];
            let name = format!("{before}{}", self.quote(&c.name));
            let text = match (self.engine, c.kind) {
                (Engine::Postgres, FieldType::List(_)) => format!("to_json({name})::text"),
                (Engine::Postgres, FieldType::Scalar(Scalar::Bytes)) => format!("encode({name}, 'hex')"),
                (Engine::Postgres, FieldType::Scalar(Scalar::Duration)) => format!("extract(epoch from {name})::text"),
                // The output function keeps the blanks of char(n), which a cast to text loses.
                (Engine::Postgres, _) if c.cast.as_deref() == Some("bpchar") => {
                    format!("case when {name} is not null then format('%s', {name}) end")
                }
                (Engine::Postgres, _) => format!("{name}::text"),
                (Engine::Mariadb | Engine::Sqlite | Engine::Mongodb, FieldType::Scalar(Scalar::Bytes)) => {
                    format!("hex({name})")
                }
                (Engine::Mariadb, FieldType::Scalar(Scalar::Float)) => format!("cast({name} as double)"),
                (Engine::Sqlite, FieldType::Scalar(Scalar::Float)) => {
                    format!(
                        "case when typeof({name}) in ('real', 'integer') then printf('%!.17g', {name}) else {name} end"
                    )
                }
                (Engine::Mariadb | Engine::Sqlite | Engine::Mongodb, _) => name.clone(),
            };
            match (self.engine, c.kind) {
                // hex(null) is an empty text.
                (Engine::Sqlite, FieldType::Scalar(Scalar::Bytes)) => {
                    format!("case when {name} is not null then {text} end")
                }
                _ => text,
            }
        };
        // A name of its own: PostgreSQL would order by the text where that is called as the column.
        let named = |(at, column): (usize, &ColumnId)| format!("{} as told_{at}", text(column));
        columns.iter().enumerate().map(named).collect::<Vec<_>>().join(", ")
    }

    pub(super) fn is_null(&self, of: &Type, column: ColumnId, expected: bool) -> String {
        format!("{} is {}null", self.quote(&of.columns[column].name), if expected { "" } else { "not " })
    }

    /// Is a part in a text, or at its beginning or end? Code point by code point.
    pub(super) fn part(&self, of: &Type, column: ColumnId, word: &str, part: &str) -> Option<String> {
        if part.contains(['\\', '\0']) {
            return None;
        }
        let c = &of.columns[column];
        let text = match self.engine {
            Engine::Sqlite | Engine::Mongodb => self.value(c, ""),
            Engine::Postgres => format!("format('%s', {})", self.quote(&c.name)),
            Engine::Mariadb => format!("cast({} as binary)", self.quote(&c.name)),
        };
        let part = format!("'{}'", part.replace('\'', "''"));
        let is_there = format!("{} is not null and ", self.quote(&c.name));
        let (at, length) = match self.engine {
            Engine::Sqlite | Engine::Mongodb => (format!("instr({text}, {part})"), format!("length({part})")),
            Engine::Postgres => (format!("strpos({text}, {part})"), format!("length({part})")),
            Engine::Mariadb => (format!("locate(cast({part} as binary), {text})"), format!("length({part})")),
        };
        Some(match word {
            "contains" => format!("{is_there}{at} > 0"),
            "startsWith" => format!("{is_there}{at} = 1"),
            _ => match self.engine {
                Engine::Sqlite | Engine::Mongodb => format!("{is_there}substr({text}, -{length}) = {part}"),
                Engine::Postgres => format!("{is_there}right({text}, {length}) = {part}"),
                Engine::Mariadb => format!("{is_there}right({text}, {length}) = cast({part} as binary)"),
            },
        })
    }

    /// Does the engine take different texts of a column for one?
    pub(super) fn folds(&self, column: &Column) -> bool {
        match self.engine {
            Engine::Mariadb => true,
            Engine::Sqlite | Engine::Mongodb => column.collation.is_some(),
            Engine::Postgres => false,
        }
    }
}
