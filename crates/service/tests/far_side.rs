//! Conditions over links of large tables on an engine without statistics: what the sample tells is asked in the one way or the other, and
//! both answer the same.

use puente_core::catalog::Engine;
use puente_testkit::project::TestProject;
use rstest::{fixture, rstest};
use serde_json::{Value as Json, json};

/// 1,200 customers and 120,000 events, 100 of each; one kind is that of three events, one of those of three customers alone.
const SQL: &str = "
create table customers (id integer primary key, name text not null, region text);
create table events (id integer primary key, customer_id integer references customers(id), kind text not null, amount integer);
with recursive n(i) as (select 1 union all select i + 1 from n where i < 1200)
    insert into customers select i, 'customer ' || i, case when i % 3 then 'north' end from n;
with recursive n(i) as (select 1 union all select i + 1 from n where i < 120000)
    insert into events select i, case when i % 50 then (i * 7) % 1200 + 1 end,
        case when i % 40001 = 0 then 'rare' else 'k' || (i % 5) end, i % 97 from n;
create index events_customer on events(customer_id);
";

struct Served {
    _kept: (puente_testkit::database::Database, TestProject),
    service: puente_testkit::project::TestService,
}

#[fixture]
#[once]
fn served() -> Served {
    let edits = "[role.clerk.Event.read]\nfields = \"all\"\nrows = \"row.customer.name == claims.name\"\n";
    let (database, project, service) = TestProject::served(Engine::Sqlite, SQL, edits);
    Served { _kept: (database, project), service }
}

/// The answer's data and how the engine found it: the scans and searches of the only statement.
fn asked(served: &Served, query: &str) -> (Json, Vec<String>) {
    let answer = served.service.post(&json!({ "query": query, "extensions": { "explain": true } })).json();
    let statements = answer["extensions"]["statements"].as_array().unwrap_or_else(|| panic!("{answer}")).clone();
    assert_eq!(statements.len(), 1, "{answer}");
    let plan = statements[0]["plan"].as_array().expect("a plan").iter();
    (answer["data"].clone(), plan.map(|line| line.as_str().unwrap_or_default().trim().to_owned()).collect())
}

#[rstest]
#[case::found_by_nobody("{ customer: { name: { eq: \"nobody\" } } }", 0)]
#[case::found_by_few("{ customer: { name: { eq: \"customer 7\" } } }", 100)]
#[case::found_by_most("{ customer: { name: { ne: \"customer 7\" } } }", 117_500)]
#[case::of_two_conditions("{ customer: { name: { contains: \"7\" }, region: { eq: \"north\" } } }", 20_300)]
#[case::leads_nowhere("{ customer: { name: { isNull: true } } }", 2_400)]
#[case::negated("{ not: { customer: { region: { eq: \"north\" } } } }", 0)]
#[case::one_of_two("{ or: [{ customer: { name: { eq: \"customer 7\" } } }, { kind: { eq: \"rare\" } }] }", 102)]
fn conditions_over_a_link_to_one(served: &Served, #[case] filter: &str, #[case] count: usize) {
    // Counted and paged by different statements; an order that an index gives, and one that none does.
    let counted = asked(served, &format!("{{ events(filter: {filter}) {{ totalCount }} }}")).0;
    for order in ["[]", "[{ id: DESC }]", "[{ amount: ASC }, { id: ASC }]"] {
        let mut ids = Vec::new();
        let mut after = String::new();
        loop {
            let page = format!(
                "{{ events(first: 100, filter: {filter}, orderBy: {order}{after}) {{ nodes {{ id }} pageInfo {{ hasNextPage endCursor }} }} }}"
            );
            let (data, _) = asked(served, &page);
            ids.extend(data["events"]["nodes"].as_array().unwrap().iter().map(|node| node["id"].as_i64().unwrap()));
            if data["events"]["pageInfo"]["hasNextPage"] != true || ids.len() >= 300 {
                break;
            }
            after = format!(", after: {}", data["events"]["pageInfo"]["endCursor"]);
        }
        assert_eq!(counted["events"]["totalCount"], count, "{filter}");
        assert_eq!(ids.len(), count.min(300), "{filter} {order}");
        let distinct: std::collections::BTreeSet<i64> = ids.iter().copied().collect();
        assert_eq!(distinct.len(), ids.len(), "{filter} {order}: a row came twice");
    }
}

#[rstest]
#[case::some_rare("{ events: { exists: { kind: { eq: \"rare\" } } } }", 2)]
#[case::some_usual("{ events: { exists: { kind: { eq: \"k1\" } } } }", 240)]
#[case::none_rare("{ events: { none: { kind: { eq: \"rare\" } } } }", 1_198)]
#[case::none_usual("{ events: { none: { kind: { eq: \"k1\" } } } }", 960)]
#[case::all("{ events: { all: { amount: { lt: 96 } } } }", 24)]
#[case::not_some("{ not: { events: { exists: { kind: { eq: \"rare\" } } } } }", 1_198)]
#[case::beside_another("{ id: { lt: 100 }, events: { exists: { kind: { eq: \"k1\" } } } }", 20)]
fn conditions_over_a_link_to_many(served: &Served, #[case] filter: &str, #[case] count: usize) {
    let (counted, _) = asked(served, &format!("{{ customers(filter: {filter}) {{ totalCount }} }}"));
    let (grouped, _) = asked(
        served,
        &format!("{{ customers(filter: {filter}) {{ groups(by: [{{ region: VALUE }}]) {{ summary {{ count }} }} }} }}"),
    );
    let (page, _) = asked(served, &format!("{{ customers(first: 100, filter: {filter}) {{ nodes {{ id }} }} }}"));
    assert_eq!(counted["customers"]["totalCount"], count, "{filter}");
    let groups = grouped["customers"]["groups"].as_array().unwrap_or_else(|| panic!("{grouped}"));
    let grouped: u64 = groups.iter().map(|group| group["summary"]["count"].as_u64().unwrap()).sum();
    assert_eq!(usize::try_from(grouped).unwrap(), count, "{filter}");
    assert_eq!(page["customers"]["nodes"].as_array().unwrap().len(), count.min(100), "{filter}");
}

/// What is asked of few rows is found by an index from the far side; what the first rows satisfy, from each row.
#[rstest]
fn the_plan_goes_by_the_sample(served: &Served) {
    let (_, plan) = asked(served, "{ events(filter: { customer: { name: { eq: \"nobody\" } } }) { nodes { id } } }");
    assert!(plan.iter().any(|line| line.contains("SEARCH") && line.contains("events_customer")), "{plan:#?}");
    let answer = served.service.post(&json!({
        "query": "{ events(filter: { customer: { name: { contains: \"none\" }, region: { eq: \"north\" } } }, orderBy: [{ customer: { name: ASC } }]) { nodes { id } } }",
        "extensions": { "explain": true },
    }));
    let advice = answer.json()["extensions"]["statements"][0]["advice"].to_string();
    for column in ["`customers.name` is looked for", "rows are found by `customers.region`"] {
        assert!(advice.contains(column), "{advice}");
    }
    let clerk = json!({
        "query": "{ events { nodes { id } } }",
        "extensions": { "explain": true, "as": { "role": "clerk", "claims": { "name": "customer 8" } } },
    });
    let answer = served.service.post(&clerk).json();
    let text = answer["extensions"]["statements"][0]["text"].as_str().unwrap_or_else(|| panic!("{answer}"));
    assert!(text.starts_with("with sample as materialized"), "{text}");
    assert_eq!(answer["data"]["events"]["nodes"].as_array().unwrap().len(), 50);
}
