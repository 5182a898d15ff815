//! What a role's schema says to whoever reads it, and what it promises.

use apollo_compiler::ast::{Definition, Document};
use puente_core::catalog::Engine;
use puente_testkit::project::{OWNER_KEY, TestProject};
use rstest::rstest;

/// Everything in a schema that nothing is said of.
fn undescribed(sdl: &str) -> Vec<String> {
    let document = Document::parse(sdl, "schema.graphql").expect("SDL");
    let mut missing = Vec::new();
    let mut look = |name: String, text: &Option<apollo_compiler::Node<str>>| {
        if text.as_ref().is_none_or(|text| text.trim().is_empty()) {
            missing.push(name);
        }
    };
    for definition in &document.definitions {
        let name = definition.name().map(ToString::to_string).unwrap_or_default();
        match definition {
            Definition::ObjectTypeDefinition(object) => {
                look(name.clone(), &object.description);
                for field in &object.fields {
                    look(format!("{name}.{}", field.name), &field.description);
                    for argument in &field.arguments {
                        look(format!("{name}.{}({})", field.name, argument.name), &argument.description);
                    }
                }
            }
            Definition::InputObjectTypeDefinition(object) => {
                look(name.clone(), &object.description);
                object.fields.iter().for_each(|field| look(format!("{name}.{}", field.name), &field.description));
            }
            Definition::EnumTypeDefinition(all) => {
                look(name.clone(), &all.description);
                all.values.iter().for_each(|value| look(format!("{name}.{}", value.value), &value.description));
            }
            Definition::ScalarTypeDefinition(scalar) => look(name, &scalar.description),
            Definition::InterfaceTypeDefinition(object) => {
                look(name.clone(), &object.description);
                object.fields.iter().for_each(|field| look(format!("{name}.{}", field.name), &field.description));
            }
            Definition::DirectiveDefinition(directive) => look(name, &directive.description),
            other => panic!("{other} is none of what schemas have"),
        }
    }
    missing
}

#[test]
fn everything_in_it_is_described_and_led_to() {
    let project = TestProject::demo();
    let service = project.serve();
    let roles: Vec<String> = service.api.role_names().map(str::to_owned).chain(["owner".to_owned()]).collect();
    assert!(roles.len() > 3, "{roles:?}");
    for role in roles {
        let sdl = service.api.sdl(&role).expect("the role is there");
        assert_eq!(undescribed(&sdl), Vec::<String>::new(), "{role}");
        let document = Document::parse(&sdl, "schema.graphql").expect("SDL");
        let names = document.definitions.iter().filter_map(Definition::name);
        for name in names.filter(|name| !matches!(name.as_str(), "Query" | "Mutation" | "oneOf")) {
            let is_used = |c: char| !c.is_ascii_alphanumeric() && c != '_';
            let uses = sdl.split(is_used).filter(|word| *word == name.as_str()).count();
            assert!(uses > 1, "nothing leads to {name} in the schema of {role}");
            assert!(!name.starts_with('_'), "{name}");
        }
    }
    let sdl = service.api.sdl("owner").unwrap();
    assert!(sdl.contains("type IncidentLogRows {") && !sdl.contains("IncidentLogConnection"), "rows without a key");
}

#[test]
fn a_role_reads_its_own_over_http_and_the_owner_that_of_any() {
    let project = TestProject::demo();
    let service = project.serve();
    let authorization = format!("Bearer {OWNER_KEY}");
    let get = |path: &str, key: Option<&str>| {
        let headers: Vec<(&str, &str)> = key.map(|key| ("Authorization", key)).into_iter().collect();
        service.send("GET", path, &headers, b"")
    };
    let visitors = get("/schema.graphql", None);
    assert_eq!((visitors.status, visitors.header("content-type")), (200, Some("text/plain; charset=utf-8")));
    assert!(visitors.text().starts_with("\"Exactly one member"), "directives that tools may not know are defined");
    let owners = get("/schema.graphql", Some(&authorization));
    assert!(owners.body.len() > 3 * visitors.body.len());
    assert_eq!(get("/schema.graphql?as=visitor", Some(&authorization)).text(), visitors.text());
    assert_eq!(get("/schema.graphql?as=owner", None).status, 403);
    assert_eq!(get("/schema.graphql?as=nobody", Some(&authorization)).status, 403);
    assert_eq!(get("/schema.graphql", Some("Bearer wrong")).status, 401);
    let tag = owners.header("etag").expect("a tag");
    let again =
        service.send("GET", "/schema.graphql", &[("Authorization", &authorization), ("If-None-Match", tag)], b"");
    assert_eq!((again.status, again.body.len()), (304, 0));
}

const TABLES: &str = "
create table huts (id integer primary key, name varchar(40) not null);
insert into huts values (1, 'Low'), (2, 'High');
create table bookings (
  id integer primary key, hut_id integer not null, guide_id integer,
  constraint of_hut foreign key (hut_id) references huts (id), constraint of_guide foreign key (guide_id) references huts (id)
);
insert into bookings values (1, 1, null), (2, 2, 1);
create table nights (
  booking_id integer not null, night integer not null, beds integer not null,
  primary key (booking_id, night), constraint of_booking foreign key (booking_id) references bookings (id)
);
";

const GRANTS: &str = "
[role.all.Booking.read]
fields = [\"id\", \"hut\", \"guide\"]
[role.all.Hut.read]
fields = [\"id\", \"name\"]
[role.some.Booking.read]
fields = [\"id\", \"hut\"]
[role.some.Hut.read]
fields = [\"id\", \"name\"]
rows = \"row.name == 'Low'\"
[role.writer.Night]
create = { fields = [\"bookingId\", \"night\", \"beds\"] }
read = { fields = [\"bookingId\", \"night\", \"beds\"] }
";

#[rstest]
fn a_link_that_must_be_there_is_non_null_where_the_engine_keeps_it_and_no_rule_hides_it(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (_database, _project, service) = TestProject::served(engine, TABLES, GRANTS);
    let bookings = |role: &str| {
        let sdl = service.api.sdl(role).unwrap();
        let start = sdl.find("type Booking {").expect("the type");
        sdl[start..start + sdl[start..].find("\n}").unwrap()].to_owned()
    };
    // Elsewhere a session may write without them, and what it wrote is never looked at.
    let is_kept = engine == Engine::Postgres;
    for role in ["owner", "all"] {
        assert_eq!(bookings(role).contains("  hut: Hut!"), is_kept, "{role}: {}", bookings(role));
        assert!(bookings(role).contains("  guide: Hut\n"), "{role}: {}", bookings(role));
    }
    assert!(bookings("some").contains("  hut: Hut\n"), "{}", bookings("some"));
    let seen = service.post(&serde_json::json!({
        "query": "{ bookings { nodes { id hut { name } } } }", "extensions": { "as": "some" },
    }));
    let expected = serde_json::json!({ "data": { "bookings": { "nodes": [
        { "id": 1, "hut": { "name": "Low" } }, { "id": 2, "hut": null },
    ] } } });
    assert_eq!(seen.json(), expected);
    let sdl = service.api.sdl("writer").unwrap();
    for needed in ["bookingId: Int!", "night: Int!", "beds: Int!"] {
        let start = sdl.find("input NightCreate {").expect("the input");
        assert!(sdl[start..].contains(needed), "{needed} of {}", &sdl[start..start + 300]);
    }
}

#[test]
fn what_was_written_without_the_checks_of_a_foreign_key_is_null() {
    let (database, _project, service) = TestProject::served(Engine::Mariadb, TABLES, "");
    database.execute("set foreign_key_checks = 0; update bookings set hut_id = 99 where id = 2");
    let answer = service.data("{ booking(key: { id: 2 }) { id hut { name } } }");
    assert_eq!(answer, serde_json::json!({ "booking": { "id": 2, "hut": null } }));
}

#[test]
fn a_row_that_a_foreign_key_promises_and_that_is_not_there_is_an_error_where_it_is_missed() {
    let (database, _project, service) = TestProject::served(Engine::Postgres, TABLES, "");
    database.execute("alter table bookings disable trigger all; update bookings set hut_id = 99 where id = 2");
    let response = service.ask("{ booking(key: { id: 2 }) { id hut { name } } bookings { totalCount } }");
    let answer = response.json();
    assert_eq!(answer["data"], serde_json::json!({ "booking": null, "bookings": { "totalCount": 2 } }));
    let error = &answer["errors"][0];
    assert_eq!(error["extensions"]["code"], "VALUE_UNFIT");
    assert_eq!(error["path"], serde_json::json!(["booking", "hut"]));
    let text = error["message"].as_str().unwrap();
    assert!(text.contains("`Booking.hut`") && text.contains("`nullable`"), "{text}");
}

#[test]
fn an_enum_that_the_database_has_once_is_one_and_never_null_where_the_column_is_not() {
    let sql = "create type trip_status as enum ('open', 'closed');
        create table trips (id integer primary key, status trip_status not null, before trip_status);
        create table plans (id integer primary key, status trip_status not null, kind text not null check (kind in ('a', 'b')));
        insert into trips values (1, 'open', null); insert into plans values (1, 'closed', 'a')";
    let (_database, _project, service) = TestProject::served(Engine::Postgres, sql, "");
    let sdl = service.api.sdl("owner").unwrap();
    assert_eq!(sdl.matches("\nenum TripStatus {").count(), 1);
    let status = sdl.matches("  status: TripStatus!").count();
    assert!(status >= 2 && sdl.contains("  before: TripStatus\n") && sdl.contains("  kind: PlanKind!\n"), "{sdl}");
    let answer = service.data("{ trips { nodes { status before } } plans { nodes { status kind } } }");
    assert_eq!(
        answer,
        serde_json::json!({
            "trips": { "nodes": [{ "status": "OPEN", "before": null }] },
            "plans": { "nodes": [{ "status": "CLOSED", "kind": "A" }] },
        })
    );
}

const NAMED: &str = "
[[type]]
table = \"huts\"
name = \"Lodge\"
[type.links]
\"bookings.hut_id\" = { name = \"stays\", description = \"Who slept here.\" }
\"bookings.guide_id\" = { hidden = true }

[[type]]
table = \"bookings\"
deprecated = \"Nights are booked.\"
[type.fields]
guide_id = { deprecated = \"Ask for `guide`.\" }
[type.links]
guide_id = { deprecated = \"There are no guides any more.\" }

[[link]]
table = \"bookings\"
columns = [\"hut_id\"]
to = \"huts\"
references = [\"id\"]
name = \"lodge\"
";

#[rstest]
fn links_are_renamed_described_hidden_and_deprecated_one_way_or_both(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (_database, _project, service) = TestProject::served(engine, TABLES, NAMED);
    let sdl = service.api.sdl("owner").unwrap();
    for has in [
        "\"Who slept here.\"\n  stays(",
        "  guide: Lodge @deprecated(reason: \"There are no guides any more.\")",
        "  guideId: Int @deprecated(reason: \"Ask for `guide`.\")",
        "  guideId: IntFilter @deprecated(reason: \"Ask for `guide`.\")",
        "  ): BookingConnection! @deprecated(reason: \"Nights are booked.\")",
        "  lodge: Lodge",
    ] {
        assert!(sdl.contains(has), "{has} of\n{sdl}");
    }
    assert!(!sdl.contains("AsGuide") && !sdl.contains("  hut: "), "{sdl}");
    let answer = service.data("{ lodge(key: { id: 1 }) { stays { nodes { id lodge { name } guide { id } } } } }");
    let expected = serde_json::json!({ "lodge": { "stays": { "nodes": [
        { "id": 1, "lodge": { "name": "Low" }, "guide": null },
    ] } } });
    assert_eq!(answer, expected);
    let told = service.data("{ __type(name: \"Booking\") { fields { name } } }");
    let names: Vec<&str> =
        told["__type"]["fields"].as_array().unwrap().iter().map(|field| field["name"].as_str().unwrap()).collect();
    assert!(!names.contains(&"guideId") && names.contains(&"hutId"), "{names:?}");
}

#[test]
fn links_follow_the_new_name_of_a_type_and_go_back_with_the_old_one() {
    let project = TestProject::of_sql(TABLES, "");
    let file = project.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    let links = |project: &TestProject| {
        let service = project.serve();
        let sdl = service.api.sdl("owner").unwrap();
        let known = ["bookingsAsHut", "bookingsAsGuide", "staysAsHut", "staysAsGuide", "lodgings", "nights"];
        known.into_iter().filter(|name| sdl.contains(&format!("  {name}("))).collect::<Vec<_>>()
    };
    assert_eq!(links(&project), ["bookingsAsHut", "bookingsAsGuide", "nights"]);
    std::fs::write(&file, format!("{before}\n[[type]]\ntable = \"bookings\"\nname = \"Stay\"\n")).unwrap();
    assert_eq!(links(&project), ["staysAsHut", "staysAsGuide", "nights"]);
    puente_service::survey(&project.open(), None).expect("a survey");
    assert_eq!(links(&project), ["staysAsHut", "staysAsGuide", "nights"], "also once it was surveyed anew");
    std::fs::write(&file, before).unwrap();
    assert_eq!(links(&project), ["bookingsAsHut", "bookingsAsGuide", "nights"], "names are given back");
}

#[test]
fn links_that_no_type_gives_its_name_stay_as_they_are_when_it_is_renamed() {
    const TABLES: &str = "
create table people (id integer primary key, parent_id integer references people);
create table works (id integer primary key);
create table composers (person_id integer references people, work_id integer references works, primary key (person_id, work_id));
create table lyricists (person_id integer references people, work_id integer references works, primary key (person_id, work_id));";
    let project = TestProject::of_sql(TABLES, "");
    let links = |project: &TestProject| -> Vec<String> {
        let model = project.open().model().expect("a model");
        let person = model.types.iter().find(|t| t.table == "people").expect("the type");
        person.links.iter().filter(|link| link.field != "parent").map(|link| link.field.clone()).collect()
    };
    let first = links(&project);
    assert_eq!(first, ["composers", "lyricists", "children", "worksThroughComposers", "worksThroughLyricists"]);
    let file = project.path().join("puente.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{text}\n[[type]]\ntable = \"people\"\nname = \"Human\"\n")).unwrap();
    assert_eq!(links(&project), first);
    std::fs::write(&file, format!("{text}\n[[type]]\ntable = \"works\"\nname = \"Piece\"\n")).unwrap();
    let pieces = ["composers", "lyricists", "children", "piecesThroughComposers", "piecesThroughLyricists"];
    assert_eq!(links(&project), pieces);
}

#[test]
fn what_no_link_follows_is_told_with_what_they_do_follow() {
    let text = "[[type]]\ntable = \"bookings\"\n[type.links]\nhutid = { name = \"lodge\" }\n";
    let project = TestProject::of_sql(TABLES, "");
    let file = project.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, format!("{before}\n{text}")).unwrap();
    let error = project.open().model().unwrap_err().to_string();
    for told in ["follows `hutid`; did you mean `hut_id`?", "`guide_id`", "`nights.booking_id`"] {
        assert!(error.contains(told), "{told} of {error}");
    }
}
