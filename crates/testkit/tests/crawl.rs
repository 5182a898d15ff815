//! Everything that is served of databases as other people make them, compared with plain SQL; and the names that their tables,
//! columns and links get.

use std::fmt::Write as _;
use std::path::Path;

use puente_core::catalog::Engine;
use puente_core::model::Cardinality;
use puente_testkit::crawl::{Report, crawl};
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
        println!("{schema} on {engine:?}: {} compared", report.compared);
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
fn a_crawl_sees_what_is_served_otherwise_than_it_is_there() {
    let database = Database::empty(Engine::Sqlite);
    database.execute(
        "create table t (id integer primary key, name text); insert into t values (1, 'a'), (2, 'b'); \
         create table u (id integer primary key, t_id integer references t (id)); insert into u values (1, 1);",
    );
    // A link that is written as something else than what its columns say.
    let edits = "[[link]]\ntable = \"u\"\ncolumns = [\"id\"]\nto = \"t\"\nreferences = [\"id\"]\nname = \"other\"\nback = \"others\"\n";
    is_clean(&crawl(&database, "", edits));
    let mixed = "create table m (id integer primary key, n integer); insert into m values (1, 5), (2, 'x');";
    database.execute(mixed);
    is_clean(&crawl(&database, "", ""));
}

/// The names are the API: they change only where somebody means it. `PUENTE_NAMES=write` writes the files anew.
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
