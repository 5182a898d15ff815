//! Large catalogs: 1,000 and 5,000 tables of 20 columns, each with 1.5 foreign keys, from the survey to the owner's first answer; and
//! how much longer each step takes for five times the tables.

use std::fmt::Write as _;
use std::time::{Duration, Instant};

use puente_core::access::View;
use puente_core::catalog::Engine;
use puente_core::model;
use puente_core::project;
use puente_core::schema;
use puente_testkit::database::Database;

use crate::report;

const TABLES: [usize; 2] = [1_000, 5_000];
const COLUMNS: usize = 20;

pub(crate) fn measure() {
    let [small, large] = TABLES.map(measured);
    let growth =
        small.iter().zip(large).map(|(small, large)| format!("{:.1}", large.as_secs_f64() / small.as_secs_f64()));
    let growth: Vec<String> = growth.collect();
    report::line(&format!(
        "For five times the tables, survey, model and schema take {} times as long",
        growth.join(", ")
    ));
}

/// How long the survey, the model and the owner's schema take.
fn measured(tables: usize) -> [Duration; 3] {
    let database = Database::empty(Engine::Postgres);
    let mut sql = String::new();
    for table in 0..tables {
        let columns: Vec<String> = (0..COLUMNS - 3).map(|column| format!("c{column} text")).collect();
        writeln!(
            sql,
            "create table t{table} (id integer primary key, a_id integer, b_id integer, {});",
            columns.join(", ")
        )
        .expect("memory");
    }
    for table in 0..tables {
        writeln!(sql, "alter table t{table} add foreign key (a_id) references t{};", (table + 1) % tables)
            .expect("memory");
        if table % 2 == 0 {
            writeln!(sql, "alter table t{table} add foreign key (b_id) references t{};", (table + 7) % tables)
                .expect("memory");
        }
    }
    database.execute(&sql);
    let start = Instant::now();
    let survey = puente_sources::survey(&database.settings(""), database.folder()).expect("a survey");
    let surveyed = start.elapsed();
    let text = format!("[source.test]\nurl = \"{}\"\n", database.url);
    let project = project::read(&text, &|_| None).expect("a project");
    let model = std::sync::Arc::new(model::build(&[&survey.catalog], &project).expect("a model"));
    let modelled = start.elapsed();
    let owner = schema::build(&View::owner(std::sync::Arc::clone(&model))).expect("a schema");
    let built = start.elapsed();
    report::line(&format!(
        "\nA catalog of {tables} tables × {COLUMNS} columns with {} links on PostgreSQL: survey {} ms, model {} ms, the owner's schema {} ms, together {} ms; resident {}",
        model.types.iter().map(|t| t.links.len()).sum::<usize>(),
        surveyed.as_millis(),
        (modelled - surveyed).as_millis(),
        (built - modelled).as_millis(),
        built.as_millis(),
        report::resident(std::process::id()),
    ));
    let start = Instant::now();
    let second = schema::build(&View::owner(model)).expect("a schema");
    report::line(&format!(
        "A second role's schema: {} ms; resident with both {}",
        start.elapsed().as_millis(),
        report::resident(std::process::id())
    ));
    drop((owner, second));
    [surveyed, modelled - surveyed, built - modelled]
}
