//! Databases for tests, on every engine: made empty, filled by statements, gone with their server.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};

use mysql_async::prelude::Queryable as _;
use puente_core::catalog::Engine;
use puente_core::project::{self, SourceSettings};
use tempfile::TempDir;

use crate::leftovers::folder;

use crate::documents;
use crate::servers::{self, Server};

/// A database of one's own.
#[derive(Debug)]
pub struct Database {
    /// Its kind.
    pub engine: Engine,
    /// Its address, as the project file has it.
    pub url: String,
    folder: TempDir,
}

/// How a database is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Spoken {
    /// As its engine is.
    To(Engine),
    /// MariaDB, as if it were MySQL: without what that lacks.
    AsMysql,
}

impl Spoken {
    /// The engine.
    pub fn engine(self) -> Engine {
        match self {
            Spoken::To(engine) => engine,
            Spoken::AsMysql => Engine::Mariadb,
        }
    }
}

impl From<Engine> for Spoken {
    fn from(engine: Engine) -> Self {
        Spoken::To(engine)
    }
}

impl Database {
    /// An empty database.
    ///
    /// # Panics
    /// Where the server does not make one.
    pub fn empty(spoken: impl Into<Spoken>) -> Self {
        let spoken = spoken.into();
        let engine = spoken.engine();
        let folder = folder();
        let url = match engine {
            Engine::Sqlite => "sqlite:test.db".to_owned(),
            Engine::Postgres => create(servers::postgres()),
            Engine::Mariadb if spoken == Spoken::AsMysql => {
                create(servers::mariadb()).replacen("mariadb:", "mysql:", 1)
            }
            Engine::Mariadb => create(servers::mariadb()),
            Engine::Mongodb => format!("{}/{}", servers::mongodb().address, name()),
        };
        if engine == Engine::Sqlite {
            rusqlite::Connection::open(folder.path().join("test.db"))
                .and_then(|connection| connection.execute_batch("create table t (x); drop table t"))
                .expect("a file");
        }
        Database { engine, url, folder }
    }

    /// An empty database on a server of one's own.
    ///
    /// # Panics
    /// Where the server does not make one.
    pub fn on(server: &Server) -> Self {
        let engine = match server.address.split(':').next() {
            Some("postgres") => Engine::Postgres,
            Some("mongodb") => Engine::Mongodb,
            _ => Engine::Mariadb,
        };
        let url = if engine == Engine::Mongodb { format!("{}/{}", server.address, name()) } else { create(server) };
        Database { engine, url, folder: folder() }
    }

    /// A database that is there.
    ///
    /// # Panics
    /// Where the address is of no engine that is known.
    pub fn at(url: &str) -> Self {
        let engine = match url.split(':').next() {
            Some("sqlite") => Engine::Sqlite,
            Some("postgres" | "postgresql") => Engine::Postgres,
            Some("mariadb" | "mysql") => Engine::Mariadb,
            Some("mongodb" | "mongodb+srv") => Engine::Mongodb,
            _ => panic!("expected an address such as sqlite:shop.db or postgres://me@127.0.0.1/shop, found {url}"),
        };
        // Relative to where one is, not to a folder that is made for it.
        let path = url.strip_prefix("sqlite:").map(|path| std::path::absolute(path).expect("a path"));
        let url = path.map_or_else(|| url.to_owned(), |path| format!("sqlite:{}", path.display()));
        Database { engine, url, folder: folder() }
    }

    /// What the project file says of it, with more lines of `[source.test]`.
    ///
    /// # Panics
    /// Where the lines are wrong.
    pub fn settings(&self, lines: &str) -> SourceSettings {
        let text = format!("[source.test]\nurl = \"{}\"\n{lines}", self.url);
        project::read(&text, &|_| None).unwrap_or_else(|mistakes| panic!("{mistakes:?}")).sources.remove(0)
    }

    /// The folder from which relative paths count.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// The file of a SQLite database.
    pub fn file(&self) -> PathBuf {
        puente_sources::sqlite::file_of(&self.url, self.folder())
    }

    /// Runs statements, one after the other.
    ///
    /// # Panics
    /// Where one is wrong.
    pub fn execute(&self, sql: &str) {
        match self.engine {
            Engine::Sqlite => {
                let connection = rusqlite::Connection::open(self.file()).expect("the file");
                // References that lead nowhere are part of real databases.
                connection.execute_batch("pragma foreign_keys = off").expect("a pragma");
                connection.execute_batch(sql).unwrap_or_else(|error| panic!("{error}\n{sql}"));
            }
            Engine::Postgres => block_on(async {
                let client =
                    puente_sources::postgres::connect(&self.settings(""), self.folder()).await.expect("a client");
                client.batch_execute(sql).await.unwrap_or_else(|error| panic!("{error:?}\n{sql}"));
            }),
            Engine::Mariadb => block_on(async {
                let mut session =
                    puente_sources::mariadb::connect(&self.settings(""), self.folder()).await.expect("a client");
                for statement in sql.split(";\n").map(str::trim).filter(|statement| !statement.is_empty()) {
                    session.query_drop(statement).await.unwrap_or_else(|error| panic!("{error}\n{statement}"));
                }
                let _ = session.disconnect().await;
            }),
            Engine::Mongodb => documents::execute(self, sql),
        }
    }

    /// Inserts documents.
    ///
    /// # Panics
    /// Where it keeps none, or does not take one.
    pub fn insert(&self, collection: &str, documents: Vec<bson::Document>) {
        documents::insert(self, collection, documents);
    }

    /// Every document of a collection, as it is stored.
    ///
    /// # Panics
    /// Where it keeps none.
    pub fn documents(&self, collection: &str) -> Vec<bson::Document> {
        documents::read(self, collection)
    }

    /// Runs a command of MongoDB.
    ///
    /// # Panics
    /// Where it is wrong.
    pub fn command(&self, command: bson::Document) {
        documents::command(self, command);
    }

    /// What the project file has to say of links that the database does not declare; tables are called behind `prefix`.
    pub fn links(&self, prefix: &str) -> String {
        let has_tables = self.engine == Engine::Mongodb && documents::has_tables(self);
        if has_tables { documents::links(self, prefix) } else { String::new() }
    }

    /// The rows of a query, every value as text.
    ///
    /// # Panics
    /// Where it is wrong.
    pub fn query(&self, sql: &str) -> Vec<Vec<Option<String>>> {
        match self.engine {
            Engine::Sqlite => query_file(&self.file(), sql),
            Engine::Postgres => block_on(async {
                let client =
                    puente_sources::postgres::connect(&self.settings(""), self.folder()).await.expect("a client");
                query_postgres(&client, sql).await
            }),
            Engine::Mariadb => block_on(async {
                let mut session =
                    puente_sources::mariadb::connect(&self.settings(""), self.folder()).await.expect("a client");
                let rows = query_mariadb(&mut session, sql).await;
                let _ = session.disconnect().await;
                rows
            }),
            Engine::Mongodb => documents::query(self, sql),
        }
    }
}

/// The rows of a query on a SQLite file, every value as text.
pub(crate) fn query_file(file: &Path, sql: &str) -> Vec<Vec<Option<String>>> {
    let connection = rusqlite::Connection::open(file).expect("the file");
    let mut statement = connection.prepare(sql).unwrap_or_else(|error| panic!("{error}\n{sql}"));
    let width = statement.column_count();
    let text = |value: rusqlite::types::Value| match value {
        rusqlite::types::Value::Null => None,
        rusqlite::types::Value::Integer(value) => Some(value.to_string()),
        rusqlite::types::Value::Real(value) => Some(value.to_string()),
        rusqlite::types::Value::Text(value) => Some(value),
        rusqlite::types::Value::Blob(value) => Some(format!("{value:02x?}")),
    };
    let rows = statement.query_map([], |row| (0..width).map(|at| row.get(at).map(text)).collect());
    rows.and_then(Iterator::collect).unwrap_or_else(|error| panic!("{error}\n{sql}"))
}

/// The same on a session with PostgreSQL.
pub(crate) async fn query_postgres(client: &tokio_postgres::Client, sql: &str) -> Vec<Vec<Option<String>>> {
    let messages = client.simple_query(sql).await.unwrap_or_else(|error| panic!("{error:?}\n{sql}"));
    let rows = messages.into_iter().filter_map(|message| match message {
        tokio_postgres::SimpleQueryMessage::Row(row) => {
            Some((0..row.len()).map(|at| row.get(at).map(str::to_owned)).collect())
        }
        _ => None,
    });
    rows.collect()
}

/// The same on a session with MariaDB, by the text protocol: every value comes as its digits or its text.
pub(crate) async fn query_mariadb(session: &mut mysql_async::Conn, sql: &str) -> Vec<Vec<Option<String>>> {
    let rows: Vec<mysql_async::Row> = session.query(sql).await.unwrap_or_else(|error| panic!("{error}\n{sql}"));
    let text = |value: mysql_async::Value| match value {
        mysql_async::Value::NULL => None,
        mysql_async::Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
        other => Some(other.as_sql(true).trim_matches('\'').to_owned()),
    };
    rows.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect()
}

/// Does a server take logins?
pub(crate) fn answers(server: &Server) -> bool {
    let settings = settings(server, maintenance(server));
    let folder = Path::new(".");
    if server.address.starts_with("postgres") {
        block_on(async { puente_sources::postgres::connect(&settings, folder).await.is_ok() })
    } else if server.address.starts_with("mongodb") {
        block_on(async { puente_sources::mongodb::connect(&settings, folder).await.is_ok() })
    } else {
        block_on(async { puente_sources::mariadb::connect(&settings, folder).await.is_ok() })
    }
}

/// A database that every server has.
fn maintenance(server: &Server) -> &'static str {
    match server.address.split(':').next() {
        Some("postgres") => "postgres",
        Some("mongodb") => "admin",
        _ => "mysql",
    }
}

fn settings(server: &Server, database: &str) -> SourceSettings {
    let text = format!("[source.test]\nurl = \"{}/{database}\"\n", server.address);
    project::read(&text, &|_| None).expect("an address").sources.remove(0)
}

/// A name that no other test's database has.
fn name() -> String {
    static NEXT: AtomicU32 = AtomicU32::new(1);
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    format!("puente_test_{}_{number}", std::process::id())
}

/// Makes a database on a server; gives its address.
fn create(server: &Server) -> String {
    let name = name();
    let settings = settings(server, maintenance(server));
    let folder = Path::new(".");
    block_on(async {
        if server.address.starts_with("postgres") {
            let client = puente_sources::postgres::connect(&settings, folder).await.expect("a client");
            client.batch_execute(&format!("create database {name}")).await.expect("a database");
        } else {
            let mut session = puente_sources::mariadb::connect(&settings, folder).await.expect("a client");
            let text = format!("create database {name} character set utf8mb4");
            session.query_drop(text).await.expect("a database");
            let _ = session.disconnect().await;
        }
    });
    format!("{}/{name}", server.address)
}

/// Runs something asynchronous, wherever the test runs.
pub(crate) fn block_on<T: Send>(work: impl Future<Output = T> + Send) -> T {
    std::thread::scope(|scope| {
        let thread = scope.spawn(|| {
            tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime").block_on(work)
        });
        thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}
