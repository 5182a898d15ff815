//! A survey of JSON: 10,000 sampled values of 50 members each, of a table with as many rows, and of one ten times as long.

use std::time::Instant;

use puente_core::catalog::Engine;
use puente_testkit::database::Database;

use crate::report;

const SAMPLES: usize = 10_000;
const MEMBERS: usize = 50;
const ROWS: [usize; 2] = [10_000, 100_000];
/// Rows that one statement inserts.
const ROWS_PER_INSERT: usize = 500;

pub(crate) fn measure() {
    for (name, engine) in [("SQLite", Engine::Sqlite), ("PostgreSQL", Engine::Postgres), ("MariaDB", Engine::Mariadb)] {
        for rows in ROWS {
            let database = filled(engine, rows);
            let settings = database.settings(&format!("samples = {SAMPLES}\n"));
            let before = resident();
            let start = Instant::now();
            let survey = puente_sources::survey(&settings, database.folder()).expect("a survey");
            let took = start.elapsed();
            let shape = survey.catalog.tables[0].columns[1].shape.as_ref().expect("a shape");
            assert_eq!(shape.samples, SAMPLES as u64, "as many as were asked for");
            assert_eq!(shape.shape.members.len(), MEMBERS, "all members were found");
            report::line(&format!(
                "A survey of {SAMPLES} values of {MEMBERS} members out of {rows} rows on {name}: {} ms; resident {before} kB \
                 before, {} kB after",
                took.as_millis(),
                resident()
            ));
        }
    }
}

fn filled(engine: Engine, rows: usize) -> Database {
    let database = Database::empty(engine);
    let json = if engine == Engine::Postgres { "jsonb" } else { "json" };
    database.execute(&format!("create table reports (id integer primary key, report {json});\n"));
    let value = |row: usize| {
        let members: Vec<String> = (0..MEMBERS)
            .map(|member| match member % 5 {
                0 => format!("\"m{member}\": {}", row * member),
                1 => format!("\"m{member}\": \"a text of row {row}\""),
                2 => format!("\"m{member}\": {}.5", row % 100),
                3 => format!("\"m{member}\": [\"a\", \"b\"]"),
                _ => format!("\"m{member}\": {{\"inner\": {row}, \"day\": \"2026-01-31\"}}"),
            })
            .collect();
        format!("({row}, '{{{}}}')", members.join(", "))
    };
    for first in (0..rows).step_by(ROWS_PER_INSERT) {
        let values: Vec<String> = (first..rows.min(first + ROWS_PER_INSERT)).map(value).collect();
        database.execute(&format!("insert into reports values {};\n", values.join(", ")));
    }
    database
}

/// Memory that this process has at hand, in kB.
fn resident() -> usize {
    let told = report::resident(std::process::id());
    told.chars().filter(char::is_ascii_digit).collect::<String>().parse().unwrap_or_default()
}
