//! What a survey makes of the types and tables that real servers have.

use std::collections::BTreeSet;

use puente_core::catalog::{Catalog, Engine, TableKind};
use puente_core::model::Model;
use puente_core::value::{Scalar, StorageFormat};
use puente_testkit::database::Database;
use puente_testkit::oracle::Random;
use puente_testkit::project::TestProject;
use rand::{RngExt as _, SeedableRng as _};
use rstest::rstest;
use serde_json::json;

fn surveyed(database: &Database, lines: &str) -> Catalog {
    puente_sources::survey(&database.settings(lines), database.folder()).expect("a survey").catalog
}

const POSTGRES: &str = r#"
create type grade as enum ('easy', 'it''s hard');
create domain metres as integer not null check (value >= 0);
create domain height as metres;
create schema audit;
create table huts (
  id bigint generated always as identity primary key,
  code varchar(8) not null unique deferrable initially immediate,
  name text collate "C" not null default 'unnamed',
  altitude height,
  upper_name text generated always as (upper(name)) stored,
  grade grade not null,
  state text check (state in ('open', 'closed')),
  tags text[], counts integer[], prices numeric(8,2)[],
  price numeric(10,4), opened timestamptz, stay interval, photo bytea, extra jsonb, ip inet, span int4range,
  place point, email uuid, ratio real
);
comment on table huts is 'Places to sleep.';
comment on column huts.name is 'As on the sign.';
create unique index huts_open on huts (name) where state = 'open';
create unique index huts_lower on huts (lower(name));
create index huts_altitude on huts (altitude, name);
create table nights (hut_id bigint references huts on delete cascade, night date, guests integer, primary key (hut_id, night))
  partition by range (night);
create table nights_2026 partition of nights for values from ('2026-01-01') to ('2027-01-01');
create table guests (hut_id bigint, night date, name text, foreign key (hut_id, night) references nights (hut_id, night));
create view open_huts as select id, name from huts where state = 'open';
create materialized view hut_names as select id, name from huts;
create table audit.events (id integer primary key, hut_id bigint references huts);
create table tmp_load (id integer);
insert into huts (code, altitude, grade, tags, counts, prices, price, opened, stay, ip, span, ratio, place)
  values ('A1', 2500, 'it''s hard', '{a,"b c"}', '{1,null}', '{1.50}', 12.3400, '2026-01-31 10:00:00+02', '1 day 2 hours', '10.0.0.1', '[1,5)', 0.1, '(1,2)');
"#;

#[test]
fn postgres_types_become_scalars_or_text_with_a_notice() {
    let database = Database::empty(Engine::Postgres);
    database.execute(POSTGRES);
    let catalog = surveyed(&database, "leave_out = [\"tmp_*\"]\n");
    let names: Vec<&str> = catalog.tables.iter().map(|table| table.name.as_str()).collect();
    assert_eq!(names, ["guests", "hut_names", "huts", "nights", "open_huts"], "partitions are part of their table");
    let huts = catalog.table("huts").expect("huts");
    let column = |name: &str| huts.column(name).unwrap_or_else(|| panic!("{name}"));
    let of = |name: &str| (column(name).scalar, column(name).list);
    assert_eq!(of("id"), (Scalar::BigInt, false));
    assert_eq!(of("tags"), (Scalar::String, true));
    assert_eq!(of("prices"), (Scalar::Decimal, true));
    assert_eq!(of("opened"), (Scalar::DateTime, false));
    assert_eq!(of("stay"), (Scalar::Duration, false));
    assert_eq!(of("altitude"), (Scalar::Int, false));
    assert!(column("altitude").domain && !column("altitude").nullable, "a domain may forbid nulls");
    assert!(column("id").generated && column("upper_name").generated);
    assert_eq!(column("grade").values, ["easy", "it's hard"]);
    assert_eq!(column("state").values, ["open", "closed"]);
    assert_eq!(column("name").collation.as_deref(), Some("C"));
    assert_eq!(column("name").comment.as_deref(), Some("As on the sign."));
    for odd in ["ip", "span", "place"] {
        assert_eq!((column(odd).scalar, column(odd).form), (Scalar::String, StorageFormat::EngineText), "{odd}");
        assert!(column(odd).notice.is_some());
    }
    assert_eq!(huts.primary_key, ["id"]);
    assert_eq!(huts.unique_keys, [["code"]], "partial and expression indexes are not keys");
    assert!(huts.is_indexed(&["altitude".to_owned()]));
    assert_eq!(catalog.table("hut_names").expect("it").kind, TableKind::View);
    let guests = catalog.table("guests").expect("guests");
    assert_eq!(guests.foreign_keys[0].references, ["hut_id", "night"]);
    assert_eq!(catalog.table("nights").expect("nights").foreign_keys[0].on_delete.as_deref(), Some("CASCADE"));
}

#[test]
fn other_schemas_keep_their_name_before_their_tables() {
    let database = Database::empty(Engine::Postgres);
    database.execute(POSTGRES);
    let lines = "schemas = [\"public\", \"audit\"]\n";
    let catalog = surveyed(&database, lines);
    let events = catalog.table("audit.events").expect("audit.events");
    assert_eq!((events.schema.as_deref(), events.relation()), (Some("audit"), "events"));
    let service = TestProject::of(&database, lines, "").serve();
    let answer = service
        .ask("{ auditEvents { nodes { id hut { name } } } huts { nodes { code auditEvents { totalCount } } } }")
        .json();
    assert_eq!(answer["data"]["auditEvents"]["nodes"], json!([]), "{answer:#}");
}

#[test]
fn postgres_values_are_written_as_their_scalars() {
    let database = Database::empty(Engine::Postgres);
    database.execute(POSTGRES);
    let service = TestProject::of(&database, "", "").serve();
    let answer = service
        .ask("{ huts(filter: { tags: { includes: \"b c\" }, stay: { eq: \"P1DT2H\" }, ip: { startsWith: \"10.\" } }) { nodes { id altitude upperName grade tags counts prices price opened stay ip span ratio place } } }")
        .json();
    assert_eq!(
        answer["data"]["huts"]["nodes"],
        json!([{
            "id": "1", "altitude": 2500, "upperName": "UNNAMED", "grade": "IT_S_HARD", "tags": ["a", "b c"],
            "counts": [1, null], "prices": ["1.50"], "price": "12.3400", "opened": "2026-01-31T08:00:00Z",
            "stay": "P1DT2H", "ip": "10.0.0.1/32", "span": "[1,5)", "ratio": 0.1, "place": "(1,2)",
        }]),
        "{answer:#}"
    );
}

#[test]
fn what_the_login_cannot_read_is_not_there() {
    let database = Database::empty(Engine::Postgres);
    database.execute(
        "create table open (id integer primary key, name text, pin text); create table closed (id integer primary key);
         do $$ begin create role reader login; exception when duplicate_object then null; end $$;
         grant select (id, name) on open to reader;",
    );
    let url = database.url.replace("puente@", "reader@");
    let text = format!("[source.test]\nurl = \"{url}\"\n");
    let settings = puente_core::project::read(&text, &|_| None).expect("a project").sources.remove(0);
    let catalog = puente_sources::survey(&settings, database.folder()).expect("a survey").catalog;
    let columns: Vec<&str> = catalog.tables[0].columns.iter().map(|column| column.name.as_str()).collect();
    assert_eq!((catalog.tables.len(), columns), (1, vec!["id", "name"]));
}

#[test]
fn mariadb_types_become_scalars_or_text_with_a_notice() {
    let database = Database::empty(Engine::Mariadb);
    database.execute(
        "create table huts (
           id bigint unsigned auto_increment primary key comment 'made by the database',
           code varchar(8) not null, flag boolean not null default true, bits bit(5), small tinyint, big int unsigned,
           price decimal(10,4), opened timestamp null, seen datetime(3), stay time, built year, photo blob,
           extra json, grade enum('easy','it''s hard') not null, colours set('red','blue'), ident uuid, ip inet6,
           double_price decimal(11,4) as (price * 2) stored, state varchar(10) check (state in ('open','closed')),
           unique key code_beginning (code(3)), unique key code_whole (code), key seen_price (seen, price)
         ) comment 'Places to sleep.';
         create table nights (hut_id bigint unsigned, night date, primary key (hut_id, night), foreign key (hut_id) references huts (id) on delete cascade);
         create table guests (hut_id bigint unsigned, night date, name text, foreign key (hut_id, night) references nights (hut_id, night));
         create view open_huts as select id, code from huts where state = 'open';
         insert into huts (id, code, bits, small, big, price, opened, seen, stay, built, photo, extra, grade, colours, ident, ip, state)
         values (18446744073709551615, 'A1', b'10101', -3, 4294967295, 12.3400, '2026-01-31 10:00:00', '2026-01-31 10:00:00.250', '08:30:00', 1999, x'00ff', '{\"a\": [1]}', 'it''s hard', 'red,blue', '11111111-1111-4111-8111-111111111111', '::1', 'open');
"
        .replace("         ", "").as_str(),
    );
    let catalog = surveyed(&database, "");
    let huts = catalog.table("huts").expect("huts");
    assert_eq!(huts.unique_keys, [["code"]], "an index of a text's beginning is not a key");
    assert_eq!(huts.comment.as_deref(), Some("Places to sleep."));
    assert_eq!(huts.column("grade").expect("it").values, ["easy", "it's hard"]);
    assert_eq!(huts.column("state").expect("it").values, ["open", "closed"]);
    assert!(huts.column("double_price").expect("it").generated && huts.column("id").expect("it").automatic);
    let odd: Vec<&str> = huts.columns.iter().filter(|c| c.notice.is_some()).map(|c| c.name.as_str()).collect();
    assert_eq!(odd, ["colours", "ip"]);
    assert_eq!(catalog.table("guests").expect("guests").foreign_keys[0].columns, ["hut_id", "night"]);
    let service = TestProject::of(&database, "", "").serve();
    let answer = service
        .ask("{ huts(filter: { id: { in: [\"18446744073709551615\"] }, grade: { eq: IT_S_HARD }, opened: { eq: \"2026-01-31T10:00:00Z\" } }) { nodes { id flag bits small big price opened seen stay built photo extra grade colours ident ip doublePrice state } } }")
        .json();
    assert_eq!(
        answer["data"]["huts"]["nodes"],
        json!([{
            "id": "18446744073709551615", "flag": true, "bits": "21", "small": -3, "big": "4294967295",
            "price": "12.3400", "opened": "2026-01-31T10:00:00Z", "seen": "2026-01-31T10:00:00.25", "stay": "08:30:00",
            "built": 1999, "photo": "AP8=", "extra": { "a": [1] }, "grade": "IT_S_HARD", "colours": "red,blue",
            "ident": "11111111-1111-4111-8111-111111111111", "ip": "::1", "doublePrice": "24.6800", "state": "OPEN",
        }]),
        "{answer:#}"
    );
}

#[rstest]
fn links_without_a_foreign_key_are_proposed_with_evidence(#[values(Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let database = Database::empty(engine);
    database.execute(
        "create table huts (id integer primary key, code varchar(5) unique);\n\
         create table notes (id integer primary key, hut_code varchar(5), region_id integer);\n\
         create table regions (id integer primary key);\n\
         insert into huts values (1, 'A'), (2, 'B');\ninsert into regions values (1);\n\
         insert into notes values (1, 'A', 7), (2, 'B', 8), (3, 'Z', 9);\n",
    );
    let survey = puente_sources::survey(&database.settings(""), database.folder()).expect("a survey");
    assert_eq!(survey.proposals.len(), 1, "values speak against regions: {:?}", survey.proposals);
    assert_eq!((survey.proposals[0].to.as_str(), survey.proposals[0].sampled), ("huts", Some((3, 2))));
}

#[test]
fn a_rename_takes_no_name_and_leaves_no_trace_in_the_survey_file() {
    let sql = "create table people (id integer primary key, full_name text, password_hash text);
               create table notes (id integer primary key, person_id integer references people (id), text text);";
    let project = TestProject::of_sql(sql, "[role.reader.Person.read]\nfields = [\"id\", \"fullName\"]\n");
    let (file, survey) = (project.path().join("puente.toml"), project.path().join("survey").join("test.json"));
    let (before, names) = (std::fs::read_to_string(&file).unwrap(), std::fs::read_to_string(&survey).unwrap());
    let renamed = |edits: &str| {
        std::fs::write(&file, format!("{before}{edits}")).unwrap();
        let outcome = puente_service::survey(&project.open(), None).expect("a survey");
        (outcome.model.map(|_| ()).map_err(|error| error.to_string()), std::fs::read_to_string(&survey).unwrap())
    };
    for (edits, both) in [
        (
            "[[type]]\ntable = \"people\"\n[type.fields]\npassword_hash = { name = \"fullName\" }\n",
            ["column `password_hash`", "column `full_name`"],
        ),
        (
            "[[type]]\ntable = \"people\"\n[type.fields]\npassword_hash = { name = \"notes\" }\n",
            ["column `password_hash`", "the link"],
        ),
        ("[[type]]\ntable = \"people\"\nname = \"Note\"\n", ["table `people`", "table `notes`"]),
        ("[[type]]\ntable = \"people\"\nname = \"NoteFilter\"\n", ["table `people`", "table `notes`"]),
        ("[[type]]\ntable = \"people\"\none = \"note\"\n", ["table `people`", "table `notes`"]),
    ] {
        let (model, now) = renamed(edits);
        let wrong = model.expect_err(edits);
        assert!(both.iter().all(|what| wrong.contains(what)), "{edits}\n{wrong}");
        assert_eq!(now, names, "the survey file is as it was");
    }
    let (model, now) = renamed("[[type]]\ntable = \"people\"\n[type.fields]\npassword_hash = { name = \"digest\" }\n");
    assert!(model.is_ok(), "{model:?}");
    assert_eq!(now, names, "names that the project file gives are kept there");
}

/// The names of a model: each type's, and of its fields and links with where these lead.
fn names(model: &Model) -> BTreeSet<String> {
    let mut names = BTreeSet::new();
    for t in &model.types {
        let fields = t.columns.iter().filter_map(|column| column.field.clone());
        let links = t.links.iter().map(|link| format!("{} → {}", link.field, model.types[link.target].name));
        for name in fields.chain(links) {
            assert!(names.insert(format!("{}.{name}", t.name)), "{}.{name} is there twice", t.name);
        }
    }
    names
}

/// Tables with foreign keys as they come: equal ones, several between two tables, to themselves, to unique columns, of several
/// columns of which keys share some.
fn random_tables(random: &mut Random) -> String {
    let count = random.random_range(3..7);
    let mut sql = String::new();
    for table in 0..count {
        sql.push_str(&format!(
            "create table t{table} (id integer primary key, code integer not null unique, a_id integer, b_id integer, \
             parent integer, t{table}_id integer, p integer not null, q integer not null, unique (p, q)"
        ));
        for _ in 0..random.random_range(0..4) {
            // Tables that are there already, and the table itself.
            let target = random.random_range(0..=table);
            let single = ["a_id", "b_id", "parent", "code"][random.random_range(0..4)];
            let (own, theirs) = match random.random_range(0..4) {
                0 => (single.to_owned(), "code"),
                1 => (format!("{single}, q"), "p, q"),
                _ => (single.to_owned(), "id"),
            };
            for _ in 0..random.random_range(1..3) {
                sql.push_str(&format!(", foreign key ({own}) references t{target} ({theirs})"));
            }
        }
        sql.push_str(");\n");
    }
    sql
}

#[rstest]
fn a_survey_of_what_is_there_already_renames_nothing(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
    #[values(1, 2, 3, 4)] seed: u64,
) {
    let sql = random_tables(&mut Random::seed_from_u64(seed));
    let database = Database::empty(engine);
    database.execute(&sql);
    let project = TestProject::of(&database, "", "");
    let survey = || puente_service::survey(&project.open(), None).expect("a survey").model.expect("a model");
    let file = || std::fs::read_to_string(project.survey_file()).unwrap();
    let (first, before) = (names(&survey()), file());
    assert_eq!((names(&survey()), file()), (first.clone(), before), "nothing changed\n{sql}");
    database.execute(
        "create table u0 (id integer primary key, t0_id integer references t0 (id), a integer references t1 (id));\n",
    );
    database.execute("alter table t0 add column c_id integer references t1 (id);\n");
    let later = names(&survey());
    let gone: Vec<&String> = first.difference(&later).collect();
    assert!(gone.is_empty(), "{gone:?} of\n{sql}");
    assert_eq!(project.serve().ask("{ t0List { totalCount } }").status, 200);
}

/// More rows and documents than are sampled, of which few have another type, or a member that the others lack.
#[rstest]
fn data_that_nobody_changed_is_surveyed_the_same_each_time(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb, Engine::Mongodb)] engine: Engine,
) {
    let database = Database::empty(engine);
    let members = |row: i64| match row % 97 {
        0 => format!("{{\"n\": {}, \"rare{}\": true}}", row * 100_000_000, row % 5),
        1 => format!("{{\"n\": {row}.5, \"list\": [{{\"x\": {row}}}, {{\"y\": \"z\"}}]}}"),
        _ => format!("{{\"n\": {row}}}"),
    };
    if engine == Engine::Mongodb {
        let document = |row: i64| {
            let text: serde_json::Value = serde_json::from_str(&members(row)).unwrap();
            let mut document = bson::serialize_to_document(&text).unwrap();
            document.insert("_id", row);
            document
        };
        database.insert("things", (1..=3_000).map(document).collect());
    } else {
        let json = if engine == Engine::Postgres { "jsonb" } else { "json" };
        let rows: Vec<String> = (1..=3_000).map(|row| format!("({row}, '{}')", members(row))).collect();
        database.execute(&format!(
            "create table things (id integer primary key, doc {json});\ninsert into things values {};\n",
            rows.join(", ")
        ));
    }
    let project = TestProject::of(&database, "", "");
    let first = std::fs::read_to_string(project.survey_file()).unwrap();
    for time in 2..=6 {
        puente_service::survey(&project.open(), None).expect("a survey").model.expect("a model");
        let now = std::fs::read_to_string(project.survey_file()).unwrap();
        assert!(now == first, "the {time}. survey differs:\n{}", changed_lines(&first, &now));
    }
}

fn changed_lines(before: &str, now: &str) -> String {
    let (before, now): (BTreeSet<&str>, BTreeSet<&str>) = (before.lines().collect(), now.lines().collect());
    format!("{:#?}", before.symmetric_difference(&now).take(20).collect::<Vec<_>>())
}

/// What an application has added to its own connections is not there for anybody else.
#[test]
fn collations_and_tables_that_are_not_there_are_told_and_break_nothing() {
    let database = Database::empty(Engine::Sqlite);
    // SQLite makes no table with a collation that it does not know; the file has it none the less.
    database.execute(
        "create table huts (id integer primary key, name text collate nocase, place text);
        create table regions (code text collate nocase primary key, note text);
        insert into huts values (1, 'b', 'x'), (2, 'A', 'y'), (3, 'B', 'z');
        insert into regions values ('n', 'North');
        create table visits (id integer primary key, hut_id integer references gone (id), note text);
        insert into visits values (1, null, 'fog');
        pragma writable_schema = on;
        update sqlite_schema set sql = replace(sql, 'nocase', 'alpine') where type = 'table';",
    );
    let project = TestProject::of(&database, "", "");
    let outcome = puente_service::survey(&project.open(), None).unwrap();
    let catalog = &outcome.sources[0].catalog;
    let notice = catalog.table("huts").unwrap().column("name").unwrap().notice.as_deref();
    assert!(notice.is_some_and(|notice| notice.contains("`ALPINE`")), "{notice:?}");
    assert_eq!(catalog.table("regions").unwrap().kind, TableKind::View, "read-only");
    let service = project.serve();
    let answer = service.data(
        "{ huts(filter: { name: { gte: \"A\" } }, orderBy: [{ name: ASC }]) { nodes { name } } regions(filter: { code: { eq: \"n\" } }) { nodes { note } } }",
    );
    assert_eq!(answer["huts"]["nodes"], json!([{ "name": "A" }, { "name": "B" }, { "name": "b" }]));
    assert_eq!(answer["regions"]["nodes"], json!([{ "note": "North" }]));
    service.data("mutation { createHut(input: { id: 4, name: \"c\" }) { count } }");
    let refused = service.ask("mutation { createVisit(input: { id: 2, hutId: 3 }) { count } }");
    assert_eq!(refused.code(), "SOURCE_REFUSED", "{}", refused.text());
    assert!(refused.text().contains("is not there"), "{}", refused.text());
    service.data("mutation { updateVisit(key: { id: 1 }, set: { note: \"ice\" }) { count } }");
}
