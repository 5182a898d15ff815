//! The mountain huts: an invented network of huts, with all the shapes that real databases have.
//!
//! Everything is generated from a fixed seed: the same database every time. People and places do not exist.

mod data;
mod mariadb;
mod postgres;
mod random;
mod server;

use std::path::{Path, PathBuf};

use rusqlite::Connection;

pub use server::load;

/// The demo's tables, as SQL.
pub const SCHEMA: &str = include_str!("../huts.sql");
/// The demo's project file.
pub const PROJECT: &str = include_str!("../puente.toml");
/// Three asks to try, each with what it shows.
pub const ASKS: [(&str, &str); 3] = [
    (
        "huts with their region and next guests",
        "{ huts(first: 3, orderBy: [{ altitude: DESC }]) { nodes { name altitude region { name } bookings(first: 2) { nodes { startsOn hiker { name } } } } } }",
    ),
    (
        "who guides whom this summer",
        "{ bookings(filter: { guide: { name: { isNull: false } } }, first: 5) { totalCount nodes { hut { name } hiker { name } guide { name } } } }",
    ),
    (
        "the way from hut to hut, with the position on the trail",
        "{ trails(first: 2) { nodes { name huts(first: 5) { edges { position node { name } } } } } }",
    ),
];

/// A question that the roles of the demo answer differently.
pub const QUESTION: &str =
    "{ bookings(first: 3) { totalCount nodes { startsOn status hut { name } hiker { name phone } } } }";
/// Who asks it, as options of `puente ask`.
pub const ASKERS: [&str; 4] =
    ["--as visitor", "--as hiker --claim sub=7", "--as warden --claim sub=14", "--as coordinator"];

/// The file name of the demo's database.
pub const DATABASE: &str = "huts.db";

/// Writes the demo's project file into a folder, unless one is there: for the embedded database, or for another address.
///
/// # Errors
/// A sentence that says which file could not be written.
pub fn write_project(folder: &Path, url: Option<&str>) -> Result<(), String> {
    std::fs::create_dir_all(folder).map_err(|error| failed(folder, &error))?;
    let project = folder.join("puente.toml");
    let text = match url {
        None => PROJECT.to_owned(),
        Some(url) => PROJECT.replace("\"sqlite:huts.db\"", &format!("{url:?}")),
    };
    if project.exists() { Ok(()) } else { std::fs::write(&project, text).map_err(|error| failed(&project, &error)) }
}

fn failed(what: &Path, error: &dyn std::fmt::Display) -> String {
    format!("{} cannot be written: {error}", what.display())
}

/// Writes the demo project into a folder: the project file and the database. What is there already is kept.
///
/// # Errors
/// A sentence that says which file could not be written.
pub fn write(folder: &Path) -> Result<PathBuf, String> {
    write_project(folder, None)?;
    let database = folder.join(DATABASE);
    if !database.exists() {
        // Built beside and then renamed, so that an interrupted run leaves no half database.
        let draft = folder.join("huts.db.draft");
        let _ = std::fs::remove_file(&draft);
        let mut connection = Connection::open(&draft).map_err(|error| failed(&draft, &error))?;
        fill(&mut connection).map_err(|error| failed(&draft, &error))?;
        drop(connection);
        std::fs::rename(&draft, &database).map_err(|error| failed(&database, &error))?;
    }
    Ok(database)
}

/// Creates and fills the tables in an empty database.
///
/// # Errors
/// What SQLite reports.
pub fn fill(connection: &mut Connection) -> rusqlite::Result<()> {
    connection.execute_batch("pragma synchronous = off;")?;
    let transaction = connection.transaction()?;
    transaction.execute_batch(SCHEMA)?;
    data::insert(&transaction)?;
    transaction.commit()?;
    connection.execute_batch("analyze;")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(connection: &Connection, table: &str) -> i64 {
        connection.query_row(&format!("select count(*) from {table}"), [], |row| row.get(0)).unwrap()
    }

    #[test]
    fn the_database_is_the_same_every_time_and_breaks_no_rule() {
        let mut one = Connection::open_in_memory().unwrap();
        fill(&mut one).unwrap();
        assert_eq!(rows(&one, "weather_readings"), 100_000);
        assert_eq!(rows(&one, "bookings"), 20_000);
        assert_eq!(rows(&one, "pragma_foreign_key_check"), 0);
        let mut two = Connection::open_in_memory().unwrap();
        fill(&mut two).unwrap();
        let digest = |connection: &Connection| -> String {
            connection
                .query_row("select sum(id * nights) || ' ' || group_concat(distinct note) from bookings", [], |row| {
                    row.get(0)
                })
                .unwrap()
        };
        assert_eq!(digest(&one), digest(&two));
    }
}
