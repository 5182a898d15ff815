//! What rules can say beside comparing: times and durations, arithmetic, conditions on conditions, sizes of lists; values that a
//! grant fixes from linked rows; and versions that change with their rows.

use jiff::{SignedDuration, Timestamp};
use puente_core::catalog::Engine;
use puente_testkit::project::{TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

const ENGINES: [Engine; 3] = [Engine::Sqlite, Engine::Postgres, Engine::Mariadb];

fn ids(service: &TestService, role: &str, claims: Json) -> Vec<i64> {
    let extensions = json!({ "as": { "role": role, "claims": claims } });
    let answer = service.post(&json!({ "query": "{ trips { nodes { id } } }", "extensions": extensions })).json();
    let nodes = answer["data"]["trips"]["nodes"].as_array().unwrap_or_else(|| panic!("{answer}"));
    nodes.iter().map(|node| node["id"].as_i64().unwrap()).collect()
}

/// Four trips: ten days ago, an hour ago, in an hour, in ten days.
fn trips(engine: Engine) -> String {
    let day = 24 * 60;
    let rows = [-10 * day, -60, 60, 10 * day].into_iter().enumerate().map(|(at, minutes)| {
        let at_time = Timestamp::now() + SignedDuration::from_mins(minutes);
        let text = at_time.strftime("%Y-%m-%d %H:%M:%S").to_string();
        let text = if engine == Engine::Postgres { format!("{text}+00") } else { text };
        format!("insert into trips values ({}, '{text}', {});", at + 1, at + 1)
    });
    let kind = match engine {
        Engine::Postgres => "timestamptz",
        _ => "datetime",
    };
    format!(
        "create table trips (id integer primary key, starts_at {kind} not null, seats integer not null); {}",
        rows.collect::<String>()
    )
}

#[rstest]
#[case::soon("row.startsAt > now && row.startsAt < now + duration('24h')", json!({}), &[3])]
#[case::later_than_it_began("row.startsAt + duration('2h') > now && row.startsAt < now", json!({}), &[2])]
#[case::stated("row.startsAt > timestamp('2001-01-01T00:00:00Z') + duration('1h')", json!({}), &[1, 2, 3, 4])]
#[case::of_a_claim("row.startsAt < timestamp(claims.until) - duration('1h')", json!({ "until": "2100-01-01T00:00:00Z" }), &[1, 2, 3, 4])]
#[case::of_a_number("row.startsAt < timestamp(claims.until)", json!({ "until": 86_400 }), &[])]
#[case::of_no_claim("row.startsAt < timestamp(claims.until)", json!({}), &[])]
#[case::of_what_is_no_time("row.startsAt < timestamp(claims.until)", json!({ "until": "soon" }), &[])]
#[case::beyond_counting("row.startsAt < timestamp(claims.until) + duration('99999999h')", json!({ "until": "9999-01-01T00:00:00Z" }), &[])]
#[case::of_claims_alone("timestamp(claims.until) > now", json!({ "until": 4_102_444_800_i64 }), &[1, 2, 3, 4])]
#[case::over("timestamp(claims.until) > now", json!({ "until": 86_400 }), &[])]
#[case::chosen("claims.all ? true : row.seats == 2", json!({ "all": true }), &[1, 2, 3, 4])]
#[case::not_chosen("claims.all ? true : row.seats == 2", json!({ "all": false }), &[2])]
#[case::unknown_choice("claims.all ? true : row.seats == 2", json!({}), &[])]
#[case::chosen_value("row.seats == (claims.late ? 4 : 1)", json!({ "late": true }), &[4])]
#[case::chosen_by_the_row("(row.seats > 2 ? row.id : row.seats) == 1 || (row.seats > 3 ? row.id == 4 : false)", json!({}), &[1, 4])]
fn times_and_choices_decide_which_rows_are_seen(#[case] rule: &str, #[case] claims: Json, #[case] seen: &[i64]) {
    let mut asked = 0;
    for engine in ENGINES {
        let grants = format!("[role.some.Trip.read]\nfields = [\"id\"]\nrows = \"{rule}\"\n");
        let (_database, _project, service) = TestProject::served(engine, &trips(engine), &grants);
        assert_eq!(ids(&service, "some", claims.clone()), seen, "{engine:?}: {rule}");
        asked += 1;
    }
    assert_eq!(asked, ENGINES.len());
}

/// Trips with numbers at the edges: the last has none.
const NUMBERS: &str = "create table trips (id integer primary key, seats bigint, taken integer, price decimal(10,2), rate double precision,
    wide decimal(38,18));
    insert into trips values (1, 7, 2, 0.10, 0.1, 0.000000000000000001), (2, 9223372036854775807, 1, 12.50, 1.5, 1),
    (3, -7, 0, 99999999.99, -0.5, 12345678901234567890.123456789012345678), (4, null, null, null, null, null);";

#[rstest]
#[case::sum("row.seats + row.taken == 9", &[1])]
#[case::beyond_64_bits("row.seats + row.taken > 9223372036854775807", &[2])]
#[case::product_beyond_64_bits("row.seats * row.seats > 9223372036854775807 * 9223372036854775806", &[2])]
#[case::exact_decimals("row.price * 3 == 0.3", &[1])]
#[case::digits_of_doubles("row.rate * 3 == 0.3", &[1])]
#[case::decimals_and_whole_numbers("row.price * row.taken == 12.5", &[2])]
#[case::cut_towards_zero("row.seats / 2 == 3 || row.seats / 2 == -3", &[1, 3])]
#[case::what_is_left("row.seats % 2 == -1", &[3])]
#[case::divided_by_zero("row.seats / row.taken == 0 || row.seats % row.taken == 0 || !(row.seats / row.taken == 0)", &[1, 2])]
#[case::null("row.seats - row.seats == 0", &[1, 2, 3])]
#[case::not_null("!(row.seats - row.seats == 1)", &[1, 2, 3])]
#[case::minus("-row.seats == 7", &[3])]
#[case::of_a_claim("row.taken * claims.factor >= 2.5", &[1])]
#[case::of_a_text("row.taken * claims.written >= 2.5", &[1])]
#[case::of_no_number("row.taken * claims.word >= 0 || !(row.taken * claims.word >= 0)", &[])]
#[case::of_no_claim("row.taken * claims.missing >= 0", &[])]
#[case::of_claims_alone("claims.factor * 2 == 2.5", &[1, 2, 3, 4])]
#[case::too_many_digits("row.taken + claims.huge > 0 || !(row.taken + claims.huge > 0)", &[])]
#[case::as_wide_as_it_gets("row.wide * row.wide * row.wide - claims.factor > 1000000000000", &[3])]
#[case::as_narrow("row.wide * row.wide * row.wide < 1 && row.wide * 2 > 0", &[1])]
#[case::wide_divided("row.seats * row.seats / 7 == 7 || row.seats * row.seats / 2 / 2 / 2 > 1000000000000000000", &[1, 2, 3])]
#[case::three_factors("row.price * row.price * row.seats < -1000000000000000", &[3])]
fn rules_calculate_exactly_on_every_engine(#[case] rule: &str, #[case] seen: &[i64]) {
    let claims = json!({ "factor": 1.25, "written": "1.25", "word": "much", "huge": "100000000000000000000000" });
    let mut asked = 0;
    for engine in ENGINES {
        let grants = format!("[role.some.Trip.read]\nfields = [\"id\"]\nrows = \"{rule}\"\n");
        let (_database, _project, service) = TestProject::served(engine, NUMBERS, &grants);
        assert_eq!(ids(&service, "some", claims.clone()), seen, "{engine:?}: {rule}");
        asked += 1;
    }
    assert_eq!(asked, ENGINES.len());
}

/// Trips of one day, of two, and of a minute; the last has no end.
fn spans(engine: Engine) -> String {
    let instant = if engine == Engine::Postgres { "timestamptz" } else { "timestamp" };
    format!(
        "create table trips (id integer primary key, starts_on date not null, ends_on date, starts_at {instant} not null,
            ends_at {instant} null);
         insert into trips values (1, '2026-07-01', '2026-07-02', '2026-07-01 08:00:00', '2026-07-02 08:00:00'),
            (2, '2026-07-01', '2026-07-03', '2026-07-01 08:00:00', '2026-07-03 07:59:59'),
            (3, '2026-07-01', '2026-07-01', '2026-07-01 08:00:00', '2026-07-01 08:01:00'),
            (4, '2026-07-01', null, '2026-07-01 08:00:00', null);"
    )
}

#[rstest]
#[case::of_days("row.endsOn - row.startsOn >= duration('24h')", &[1, 2])]
#[case::of_times("row.endsAt - row.startsAt < duration('24h')", &[3])]
#[case::later("row.endsAt <= row.startsAt + duration('24h')", &[1, 3])]
#[case::exactly("row.endsAt == row.startsAt + duration('1m')", &[3])]
#[case::mirrored("duration('47h59m59s') == row.endsAt - row.startsAt", &[2])]
#[case::null("row.endsAt - row.startsAt > duration('-1h') || !(row.endsAt - row.startsAt > duration('-1h'))", &[1, 2, 3])]
#[case::since("now - row.startsAt > duration('0s')", &[1, 2, 3, 4])]
#[case::until("timestamp(claims.until) - row.startsAt == duration('1h')", &[1, 2, 3, 4])]
#[case::of_no_claim("timestamp(claims.missing) - row.startsAt > duration('-99999h')", &[])]
#[case::together("row.endsAt - row.startsAt - duration('1m') == duration('0s')", &[3])]
fn the_time_between_two_others_is_compared(#[case] rule: &str, #[case] seen: &[i64]) {
    let mut asked = 0;
    for engine in ENGINES {
        let grants = format!("[role.some.Trip.read]\nfields = [\"id\"]\nrows = \"{rule}\"\n");
        let (_database, _project, service) = TestProject::served(engine, &spans(engine), &grants);
        assert_eq!(ids(&service, "some", json!({ "until": "2026-07-01T09:00:00Z" })), seen, "{engine:?}: {rule}");
        asked += 1;
    }
    assert_eq!(asked, ENGINES.len());
}

#[rstest]
fn sizes_of_lists_are_compared(#[values(Engine::Sqlite, Engine::Postgres)] engine: Engine) {
    let (kind, list): (&str, fn(&str) -> String) = match engine {
        Engine::Postgres => ("text[]", |items| format!("'{{{items}}}'")),
        _ => ("text", |items| {
            format!("'[{}]'", items.split(',').map(|item| format!("\"{item}\"")).collect::<Vec<_>>().join(","))
        }),
    };
    if engine == Engine::Sqlite {
        // Lists are JSON with a shape there: see json.md; a text is counted by its characters.
        let sql = "create table trips (id integer primary key, tags text); insert into trips values (1, 'ab'), (2, 'abc'), (3, null)";
        let grants = "[role.some.Trip.read]\nfields = [\"id\"]\nrows = \"size(row.tags) > 2\"\n";
        let (_database, _project, service) = TestProject::served(engine, sql, grants);
        assert_eq!(ids(&service, "some", json!({})), [2]);
        return;
    }
    let sql = format!(
        "create table trips (id integer primary key, tags {kind}); insert into trips values (1, {}), (2, {}), (3, null)",
        list("a"),
        list("a,b,c")
    );
    let grants = "[role.some.Trip.read]\nfields = [\"id\"]\nrows = \"size(row.tags) >= 2\"\n[role.few.Trip.read]\nfields = [\"id\"]\nrows = \"row.tags.size() < 2\"\n";
    let (_database, _project, service) = TestProject::served(engine, &sql, grants);
    assert_eq!(ids(&service, "some", json!({})), [2]);
    assert_eq!(ids(&service, "few", json!({})), [1], "what is not there has no size");
}

#[rstest]
fn a_grant_fixes_values_from_linked_rows(#[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine) {
    let sql = "create table rates (id integer primary key, tax decimal(4,2) not null);
        create table products (id integer primary key, price decimal(10,2), rate_id integer references rates (id));
        create table purchases (id integer primary key, product_id integer references products (id),
            price decimal(10,2) not null, tax decimal(4,2));
        insert into rates values (1, 7.00), (2, 19.00);
        insert into products values (1, 12.50, 1), (2, 99.99, 2), (3, null, null);";
    let fixed = "fixed = { price = \"row.product.price\", tax = \"row.product.rate.tax\" }";
    let grants = format!(
        "[role.buyer.Product]\nread = {{ fields = [\"id\"], rows = \"row.id != 9\" }}\ncreate = {{ fields = [\"id\"] }}\n\
         [role.buyer.Purchase.read]\nfields = [\"id\", \"product\", \"productId\", \"price\", \"tax\"]\n\
         [role.buyer.Purchase.create]\nfields = [\"id\", \"product\"]\n{fixed}\n\
         [role.buyer.Purchase.update]\nfields = [\"product\"]\n{fixed}\n"
    );
    let (_database, _project, service) = TestProject::served(engine, sql, &grants);
    let buyer = |document: &str| service.post(&json!({ "query": document, "extensions": { "as": "buyer" } }));
    let state = "{ id price tax }";
    let done = |document: &str| {
        let answer = buyer(document).json();
        assert!(answer["errors"].is_null(), "{engine:?}: {document}: {answer}");
        answer["data"].as_object().unwrap().values().next().unwrap()["nodes"].clone()
    };
    let bought = done(&format!(
        "mutation {{ createPurchases(inputs: [{{ id: 1, product: {{ key: {{ id: 1 }} }} }}, {{ id: 2, productId: 2 }}]) \
         {{ nodes {state} }} }}"
    ));
    let at = |id: i64, price: &str, tax: &str| json!({ "id": id, "price": price, "tax": tax });
    let numbers = |rows: Json| -> Vec<(i64, f64, f64)> {
        let number = |value: &Json| value.as_str().map_or(f64::NAN, |text| text.parse().unwrap());
        let rows = rows.as_array().unwrap().clone();
        rows.iter().map(|row| (row["id"].as_i64().unwrap(), number(&row["price"]), number(&row["tax"]))).collect()
    };
    assert_eq!(numbers(bought), numbers(json!([at(1, "12.50", "7.00"), at(2, "99.99", "19.00")])));
    // What the row is linked with after the change counts, for each of many rows.
    let changed = done(&format!(
        "mutation {{ updatePurchases(everyRow: true, set: {{ product: {{ key: {{ id: 2 }} }} }}) {{ nodes {state} }} }}"
    ));
    assert_eq!(numbers(changed), numbers(json!([at(1, "99.99", "19.00"), at(2, "99.99", "19.00")])));
    // The caller can say none of it, and a row that is linked with nothing has nothing to take.
    let said = buyer("mutation { createPurchase(input: { id: 3, productId: 1, price: \"1\" }) { count } }");
    assert_eq!(said.code(), "DOCUMENT_INVALID");
    for input in ["{ id: 3 }", "{ id: 3, productId: 3 }", "{ id: 3, product: { create: { id: 7 } } }"] {
        let nothing = buyer(&format!("mutation {{ createPurchase(input: {input}) {{ count }} }}"));
        assert_eq!(nothing.code(), "VALUE_REFUSED", "{input}: {}", nothing.json());
    }
    assert_eq!(service.data("{ purchases { totalCount } }")["purchases"]["totalCount"], 2);
    // A row that is there already is changed by the grant to update, which fixes the same.
    let again = done(&format!(
        "mutation {{ createPurchases(inputs: [{{ id: 1, productId: 1 }}, {{ id: 4, productId: 1 }}], \
         ifExists: {{ by: ID, act: CHANGE }}) {{ nodes {state} }} }}"
    ));
    assert_eq!(numbers(again), numbers(json!([at(1, "12.50", "7.00"), at(4, "12.50", "7.00")])));
}

/// What may be said of a new row and is fixed in one that is there gives way there, whether it is stated or taken from a link.
#[rstest]
#[case("'80'", "80")]
#[case("row.product.price", "12.5")]
fn what_is_fixed_in_rows_that_are_there_wins_over_what_is_said(#[case] fixed: &str, #[case] expected: &str) {
    let sql = "create table products (id integer primary key, price decimal(10,2));
        create table purchases (id integer primary key, product_id integer references products (id), price decimal(10,2));
        insert into products values (1, 12.5); insert into purchases values (1, 1, 3);";
    let grants = format!(
        "[role.buyer.Product.read]\nfields = [\"id\"]\n[role.buyer.Purchase]\nread = {{ fields = \"all\" }}\n\
         create = {{ fields = [\"id\", \"productId\", \"price\"] }}\n\
         update = {{ fields = [\"productId\"], fixed = {{ price = \"{fixed}\" }} }}\n"
    );
    let (_database, _project, service) = TestProject::served(Engine::Sqlite, sql, &grants);
    let document = "mutation { createPurchase(input: { id: 1, productId: 1, price: \"5\" }, ifExists: { by: ID, act: CHANGE }) \
                    { node { price } } }";
    let answer = service.post(&json!({ "query": document, "extensions": { "as": "buyer" } })).json();
    assert_eq!(answer["data"]["createPurchase"]["node"]["price"], expected, "{answer}");
}

/// What is taken from a row is what it says there, whatever its type.
#[rstest]
#[case(Engine::Sqlite, "boolean", "datetime", "blob", "text")]
#[case(Engine::Postgres, "boolean", "timestamptz", "bytea", "uuid")]
#[case(Engine::Mariadb, "boolean", "timestamp", "varbinary(20)", "uuid")]
fn values_of_every_type_are_taken_from_linked_rows(
    #[case] engine: Engine,
    #[case] boolean: &str,
    #[case] instant: &str,
    #[case] bytes: &str,
    #[case] uuid: &str,
) {
    let columns = format!(
        "word varchar(40), many bigint, few integer, price decimal(12,4), rate double precision, told {boolean},
         on_day date, at_time {instant} null, raw {bytes}, tag {uuid}"
    );
    let bytes = if engine == Engine::Postgres { "'\\x00ff10'" } else { "x'00ff10'" };
    let sql = format!(
        "create table origins (id integer primary key, {columns});
         create table copies (id integer primary key, origin_id integer references origins (id), {columns});
         insert into origins values (1, 'é''\"x', 9007199254740993, -7, 12.5000, 0.1, true, '2026-07-01', '2026-07-01 08:00:00',
            {bytes}, 'a0000000-0000-4000-8000-00000000000b');"
    );
    let fields = ["word", "many", "few", "price", "rate", "told", "onDay", "atTime", "raw", "tag"];
    let fixed: Vec<String> = fields.iter().map(|field| format!("{field} = \"row.origin.{field}\"")).collect();
    let grants = format!(
        "[role.some.Origin.read]\nfields = [\"id\"]\n[role.some.Copy]\nread = {{ fields = \"all\" }}\ncreate = {{ fields = [\"id\", \"originId\"], fixed = {{ {0} }} }}\n\
         update = {{ fields = [\"originId\"], fixed = {{ {0} }} }}\n",
        fixed.join(", ")
    );
    let (_database, _project, service) = TestProject::served(engine, &sql, &grants);
    let selection = fields.join(" ");
    let origin = service.data(&format!("{{ origin(key: {{ id: 1 }}) {{ {selection} }} }}"))["origin"].clone();
    assert_eq!(origin["many"], "9007199254740993", "{origin}");
    for (name, document) in [
        ("createCopy", "createCopy(input: { id: 1, originId: 1 })"),
        ("updateCopy", "updateCopy(key: { id: 1 }, set: { originId: 1 })"),
    ] {
        let document = format!("mutation {{ {document} {{ node {{ {selection} }} }} }}");
        let answer = service.post(&json!({ "query": document, "extensions": { "as": "some" } })).json();
        assert_eq!(answer["data"][name]["node"], origin, "{engine:?}: {answer}");
    }
    let nothing = "mutation { updateCopy(key: { id: 1 }, set: { originId: null }) { node { word many } } }";
    let answer = service.post(&json!({ "query": nothing, "extensions": { "as": "some" } })).json();
    assert_eq!(answer["data"]["updateCopy"]["node"], json!({ "word": null, "many": null }), "{answer}");
}

#[rstest]
fn a_version_that_nobody_changes_changes_with_its_row(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
    #[values("version", "changed_at")] version: &str,
) {
    let kind = if engine == Engine::Postgres { "timestamptz" } else { "datetime" };
    let sql = format!(
        "create table trips (id integer primary key, seats integer not null, version integer not null default 1, \
         changed_at {kind} not null default '2026-01-01 00:00:00');
         insert into trips (id, seats) values (1, 4), (2, 4);"
    );
    let edits = format!(
        "[[type]]\ntable = \"trips\"\nversion = \"{version}\"\n\
         [role.some.Trip]\nread = {{ fields = [\"id\", \"seats\", \"version\", \"changedAt\"] }}\n\
         update = {{ fields = [\"seats\"], check = \"true\" }}\n"
    );
    let (_database, _project, service) = TestProject::served(engine, &sql, &edits);
    let field = if version == "version" { "version" } else { "changedAt" };
    let state = || {
        let found = service.data(&format!("{{ trip(key: {{ id: 1 }}) {{ {field} revision }} }}"));
        (found["trip"][field].clone(), found["trip"]["revision"].as_str().unwrap().to_owned())
    };
    let (mut before, mut revision) = state();
    for role in ["owner", "some"] {
        let change = format!(
            "mutation {{ updateTrip(key: {{ id: 1 }}, set: {{ seats: 3 }}, ifUnchanged: {revision:?}) {{ count }} }}"
        );
        let changed = service.post(&json!({ "query": change, "extensions": { "as": role } })).json();
        assert_eq!(changed["data"]["updateTrip"]["count"], 1, "{role}: {changed}");
        let (now, new) = state();
        assert_ne!((&now, &new), (&before, &revision), "{role}");
        if version == "version" {
            assert_eq!(now.as_i64(), before.as_i64().map(|number| number + 1));
        }
        let again = service.post(&json!({ "query": change, "extensions": { "as": role } }));
        assert_eq!(again.code(), "STALE_REVISION", "whoever has the old one is told");
        (before, revision) = (now, new);
        // Two changes within the clock's resolution are one time.
        std::thread::sleep(std::time::Duration::from_millis(1_100));
    }
    let many = service.data("mutation { updateTrips(everyRow: true, set: { seats: 1 }) { count } }");
    assert_eq!(many["updateTrips"]["count"], 2);
    assert_ne!(state().0, before);
}

#[test]
fn a_version_that_cannot_change_is_warned_of() {
    let sql = "create table trips (id integer primary key, etag text, version integer); insert into trips values (1, 'a', null)";
    for (version, told) in [("etag", "neither a whole number nor a time"), ("version", "a null one never changes")] {
        let project = TestProject::of_sql(sql, &format!("[[type]]\ntable = \"trips\"\nversion = \"{version}\"\n"));
        let found = puente_service::check(&project.open());
        let warned = found.iter().find(|finding| finding.text.contains(told)).unwrap_or_else(|| panic!("{found:?}"));
        assert!(!warned.breaking && warned.line.is_some(), "{warned:?}");
    }
}

#[test]
fn warnings_are_told_once_and_not_where_everything_was_meant() {
    let sql = "create table people (id integer primary key, email text, owner_id integer)";
    let grants = "[role.base.Person]\nread = { fields = [\"id\", \"email\"] }\nupdate = { fields = [\"email\"] }\n\
                  [role.clerk]\ninclude = [\"base\"]\n[role.chief]\ninclude = [\"base\"]\n\
                  [role.all.Person.read]\nfields = [\"id\", \"email\"]\nrows = \"true\"\n";
    let project = TestProject::of_sql(sql, grants);
    let texts: Vec<String> = puente_service::check(&project.open()).into_iter().map(|finding| finding.text).collect();
    assert_eq!(texts.iter().filter(|text| text.contains("looks personal")).count(), 1, "{texts:#?}");
    assert_eq!(texts.iter().filter(|text| text.contains("without `check`")).count(), 1, "{texts:#?}");
    assert!(texts.iter().all(|text| !text.contains("`all`") && !text.contains("`clerk`")), "{texts:#?}");
}
