//! Everything that is served of databases as other people make them, compared with plain SQL; and the names that their tables,
//! columns and links get.

use std::fmt::Write as _;
use std::path::Path;

use puente_core::catalog::Engine;
use puente_core::model::Cardinality;
use puente_testkit::crawl::{Report, compare, crawl};
use puente_testkit::database::Database;
use puente_testkit::oracle::Random;
use puente_testkit::project::TestProject;
use puente_testkit::schemas::{empty, filled};
use puente_testkit::seeds::{Repeat, Seeds};
use rand::SeedableRng as _;
use rstest::rstest;

fn is_clean(report: &Report) {
    assert!(
        report.differences.is_empty(),
        "{} of {}:\n{}",
        report.differences.len(),
        report.compared,
        report.differences.join("\n")
    );
}

#[rstest]
fn what_is_served_of_other_peoples_schemas_is_what_is_there(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
    #[values("shop", "monitoring", "music")] schema: &str,
) {
    for seed in Seeds::of_run(1, 0).all() {
        let _repeat = Repeat { test: "crawl", seed };
        let database = filled(engine, schema, &mut Random::seed_from_u64(seed));
        let report = crawl(&database, "", "");
        assert!(report.compared > 3_000, "{} compared", report.compared);
        is_clean(&report);
        assert_eq!(report.unfit, [""; 0]);
    }
}

#[test]
fn what_is_served_of_the_demo_is_what_is_there() {
    let project = TestProject::huts();
    let report = crawl(&Database::at(&format!("sqlite:{}", project.database().display())), "", "");
    assert!(report.compared > 3_000, "{} compared", report.compared);
    is_clean(&report);
    assert!(report.unfit.iter().all(|text| text.contains("IncidentLog.severity")), "{:?}", report.unfit);
}

/// A crawl that could not see a difference would be worth nothing.
#[test]
fn a_crawl_sees_each_thing_that_is_served_otherwise_than_it_is_there() {
    let made = |more: &str| {
        let database = Database::empty(Engine::Sqlite);
        database.execute(
            "create table huts (id integer primary key, name text, beds integer);
            create table notes (id integer primary key, hut_id integer references huts (id));
            insert into huts values (1, 'a', 5), (2, 'b', 6), (3, 'c', 7);
            insert into notes values (1, 1), (2, 1), (3, 2);",
        );
        database.execute(more);
        database
    };
    let served = made("");
    let told = |more: &str| compare(&served, &made(more), "", "").differences.join("\n");
    assert_eq!(told(""), "");
    let one = told("update huts set beds = 9 where id = 2");
    for seen in
        ["the rows of huts", "huts with beds", "the groups of huts by beds", "max of huts.beds", "sum of huts.beds"]
    {
        assert!(one.contains(seen), "{seen}: {one}");
    }
    assert!(told("update huts set beds = 1 where id = 3").contains("the walk over huts by orderBy: [{ beds: ASC }]"));
    let link = told("update notes set hut_id = 3 where id = 2");
    assert!(
        link.contains("the link Hut.notes")
            && link.contains("the link Note.hut")
            && link.contains("how many Hut.notes")
    );
    assert!(told("delete from notes where id = 3").contains("how many notes: 2 in the database, 3 in the answer"));
}

/// The names are the API: they change only where somebody means it. `PUENTE_NAMES=write` writes the files again.
#[rstest]
fn names_are_as_they_were(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
    #[values("shop", "monitoring", "music")] schema: &str,
) {
    let database = empty(engine, schema);
    let names = names(&database);
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("schemas/{schema}.names"));
    if engine == Engine::Sqlite && std::env::var_os("PUENTE_NAMES").is_some() {
        std::fs::write(&file, &names).expect("a file");
    }
    let known = std::fs::read_to_string(&file).expect("the names as they were");
    for (known, found) in known.lines().zip(names.lines()) {
        assert_eq!(found, known, "{engine:?}");
    }
    assert_eq!(known, names);
}

fn names(database: &Database) -> String {
    let model = TestProject::of(database, "", "").open().model().expect("a model");
    let mut types: Vec<_> = model.types.iter().collect();
    types.sort_by_key(|t| t.name.clone());
    let mut text = String::new();
    for t in types {
        let helpers = if t.helpers == t.name { String::new() } else { format!(", helpers {}…", t.helpers) };
        let _ = writeln!(text, "{} ({}, {}{helpers})", t.name, t.one, t.list);
        let fields: Vec<&str> = t.columns.iter().filter_map(|column| column.field.as_deref()).collect();
        let _ = writeln!(text, "  {}", fields.join(" "));
        let mut links: Vec<_> = t.links.iter().collect();
        links.sort_by_key(|link| &link.field);
        for link in links {
            let many = if link.cardinality == Cardinality::Many { "many " } else { "" };
            let _ = writeln!(text, "  {}: {many}{}", link.field, model.types[link.target].name);
        }
    }
    text
}
