//! The mountain huts: an invented network of huts, with all the shapes that real databases have, and beside it the log of a rescue
//! service, which is another database.
//!
//! Everything is generated from a fixed seed: the same database every time. People and places do not exist.

mod data;
mod mariadb;
#[cfg(feature = "mongodb")]
mod mongodb;
mod postgres;
mod random;
mod rescue;
mod server;

use std::path::{Path, PathBuf};

use rusqlite::Connection;

pub use server::load;

/// The demo's tables, as SQL.
pub const SCHEMA: &str = include_str!("../huts.sql");
/// What the demo's project file says of the huts.
pub const PROJECT: &str = include_str!("../puente.toml");
/// What it says of the log of the rescue service.
pub const RESCUE: &str = include_str!("../rescue.toml");
/// What it says of the database of documents, whose address stands for `${REPORTS_URL}`.
pub const REPORTS_SOURCE: &str = include_str!("../reports.toml");
/// The name of that source.
pub const DOCUMENTS: &str = "reports";
/// Asks to try, each with what it shows.
pub const ASKS: [(&str, &str); 5] = [
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
    (
        "reports that are JSON in the database: falls in deep snow, who was hurt and what was done",
        "{ incidents(first: 2, orderBy: [{ report: { weather: { snow: DESC_NULLS_LAST } } }], filter: { report: { people: { exists: { injured: { eq: true } } } } }) { totalCount nodes { hut { name } report { kind weather { snow wind { from gusts } } people(filter: { injured: { eq: true } }) { name injuries } steps(first: 1) { at text } } } } }",
    ),
    (
        "one request over two databases: huts that were in need of rescue, and who was",
        "{ huts(first: 3, filter: { callouts: { exists: { severity: { eq: 5 } } } }) { nodes { name callouts(first: 2, orderBy: [{ severity: DESC }]) { totalCount nodes { kind severity member { name } } } } } }",
    ),
];

/// What to ask of documents, where the demo has some: what it shows, who asks, and what.
pub const DOCUMENT_ASKS: [(&str, &str, &str); 4] = [
    (
        "rows and documents in one request: the latest reports of the highest huts, and which medics were there",
        "",
        "{ huts(first: 2, orderBy: [{ altitude: DESC }]) { nodes { name reports(first: 2, orderBy: [{ at: DESC }]) { totalCount nodes { at kind severity crew(filter: { role: { eq: \"medic\" } }) { member { name skills } } } } } } }",
    ),
    (
        "deep snow, and the worst of it first",
        "",
        "{ reports(first: 3, filter: { weather: { snow: { gt: 200 } } }, orderBy: [{ weather: { snow: DESC } }]) { totalCount nodes { hut { name } weather { snow wind { from gusts } } steps { at text } } } }",
    ),
    (
        "gear that failed its last look, and what it is worth",
        "",
        "{ gears(first: 3, filter: { checks: { exists: { passed: { eq: false } } } }) { totalCount summary { price { sum } } nodes { serial item state price checks { on passed } hut { name } } } }",
    ),
    (
        "a rescuer on duty, who sees no colleague that has left, and adds a step; --rehearse rolls it back",
        "--as rescuer --rehearse",
        "mutation { updateReports(filter: { kind: { eq: \"lost\" }, severity: { eq: 4 } }, set: { push: { steps: [{ at: \"2026-07-14T08:30:00Z\", text: \"found\" }] } }) { count nodes { at crew { member { name } } steps { text } } } }",
    ),
];

/// A question that the roles of the demo answer differently.
pub const QUESTION: &str =
    "{ bookings(first: 3) { totalCount nodes { startsOn status hut { name } hiker { name phone } } } }";
/// Who asks it, as options of `puente ask`.
pub const ASKERS: [&str; 4] =
    ["--as visitor", "--as hiker --claim sub=7", "--as warden --claim sub=14", "--as coordinator"];

/// What each role can do with reports, which are JSON: what it shows, who asks, and what.
pub const REPORTS: [(&str, &str, &str); 4] = [
    (
        "where it was dangerous, and in which weather",
        "--as visitor",
        "{ incidents(first: 2, orderBy: [{ report: { severity: DESC } }]) { nodes { hut { name } report { kind severity weather { snow wind { gusts } } } } } }",
    ),
    (
        "what was written about oneself, as a whole",
        "--as hiker --claim sub=7",
        "{ incidents(first: 2, filter: { report: { people: { isNull: false } } }) { totalCount nodes { hut { name } report { kind people { name injured } steps { at text } } } } }",
    ),
    (
        "a warden adds a step to the grave ones; --rehearse rolls it back",
        "--as warden --claim sub=14 --rehearse",
        "mutation { updateIncidents(filter: { report: { severity: { gte: 4 } } }, set: { report: { push: { steps: [{ at: \"2026-07-14T08:30:00Z\", text: \"seen again\" }] } } }) { count nodes { report { kind severity steps { at text } } } } }",
    ),
    (
        "what children had to do with",
        "--as coordinator",
        "{ incidents(first: 2, filter: { report: { people: { exists: { age: { lt: 16 } } } } }) { totalCount nodes { hut { name } report { kind people(filter: { age: { lt: 16 } }) { name age injured } } } } }",
    ),
];

/// The file name of the huts' database.
pub const DATABASE: &str = "huts.db";
/// The file name of the rescue service's.
pub const RESCUE_DATABASE: &str = "rescue.db";

/// Writes the demo into a folder, with the huts at another address, and the log of the rescue service. What is there already is
/// kept.
///
/// # Errors
/// A sentence that says which file could not be written.
pub fn write_at(folder: &Path, url: &str) -> Result<(), String> {
    write_project(folder, &format!("{}{RESCUE}", huts_at(url)))?;
    let mut huts = Connection::open_in_memory().map_err(|error| failed(folder, &error))?;
    fill(&mut huts).map_err(|error| failed(folder, &error))?;
    write_rescue(folder, &huts)
}

/// Writes the demo into a folder, with documents at an address, beside the embedded databases. What is there already is kept.
///
/// # Errors
/// A sentence that says which file could not be written.
pub fn write_with_documents(folder: &Path, url: &str) -> Result<(), String> {
    let documents = REPORTS_SOURCE.replace("\"${REPORTS_URL}\"", &format!("{url:?}"));
    write_project(folder, &format!("{PROJECT}{RESCUE}{documents}"))?;
    write_databases(folder)
}

/// What the project file says of huts at another address.
fn huts_at(url: &str) -> String {
    PROJECT.replace("\"sqlite:huts.db\"", &format!("{url:?}"))
}

fn write_project(folder: &Path, text: &str) -> Result<(), String> {
    std::fs::create_dir_all(folder).map_err(|error| failed(folder, &error))?;
    let project = folder.join("puente.toml");
    if project.exists() { Ok(()) } else { std::fs::write(&project, text).map_err(|error| failed(&project, &error)) }
}

fn failed(what: &Path, error: &dyn std::fmt::Display) -> String {
    format!("{} cannot be written: {error}", what.display())
}

/// Writes the demo project into a folder: the project file and the databases. What is there already is kept.
///
/// # Errors
/// A sentence that says which file could not be written.
pub fn write(folder: &Path) -> Result<(), String> {
    write_project(folder, &format!("{PROJECT}{RESCUE}"))?;
    write_databases(folder)
}

fn write_databases(folder: &Path) -> Result<(), String> {
    let database = write_database(folder, DATABASE, fill)?;
    let huts = Connection::open(&database).map_err(|error| failed(&database, &error))?;
    write_rescue(folder, &huts)
}

/// The same with the huts alone, at this address if there is one: a project of one source.
///
/// # Errors
/// A sentence that says which file could not be written.
pub fn write_huts(folder: &Path, url: Option<&str>) -> Result<(), String> {
    match url {
        Some(url) => write_project(folder, &huts_at(url)),
        None => write_project(folder, PROJECT).and_then(|()| write_database(folder, DATABASE, fill).map(|_| ())),
    }
}

fn write_rescue(folder: &Path, huts: &Connection) -> Result<(), String> {
    let filled = |connection: &mut Connection| {
        let club = rescue::Club::of(huts)?;
        let transaction = connection.transaction()?;
        transaction.execute_batch(rescue::SCHEMA)?;
        rescue::insert(&transaction, &club)?;
        transaction.commit()?;
        connection.execute_batch("analyze;")
    };
    write_database(folder, RESCUE_DATABASE, filled).map(|_| ())
}

/// Writes a database, unless it is there.
fn write_database(
    folder: &Path,
    name: &str,
    fill: impl FnOnce(&mut Connection) -> rusqlite::Result<()>,
) -> Result<PathBuf, String> {
    let database = folder.join(name);
    if !database.exists() {
        // Built beside and then renamed, so that an interrupted run leaves no half database.
        let draft = folder.join(format!("{name}.draft"));
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
    fn the_log_of_the_rescue_service_knows_huts_by_code_and_members_by_number() {
        let folder = tempfile::tempdir().unwrap();
        write(folder.path()).unwrap();
        let log = Connection::open(folder.path().join(RESCUE_DATABASE)).unwrap();
        log.execute("attach ? as huts", [folder.path().join(DATABASE).to_str()]).unwrap();
        assert_eq!((rows(&log, "callouts"), rows(&log, "pragma_foreign_key_check")), (1_000, 0));
        let linked = |table: &str, own: &str, key: &str| {
            rows(&log, &format!("callouts where {own} in (select {key} from huts.{table})"))
        };
        assert!(linked("huts", "hut_code", "code") > 900 && linked("hikers", "member_no", "member_no") > 400);
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
