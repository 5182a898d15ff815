//! Conditions over links at ten million rows on the embedded database, against the best statement by hand for each: the one or the other
//! side first, whichever is quicker.

use std::time::{Duration, Instant};

use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use serde_json::json;

use crate::report;

const CUSTOMERS: usize = 100_000;
const EVENTS: usize = 10_000_000;
const ROUNDS: usize = 5;

/// A request, and the statements by hand that answer the same.
const ASKS: [(&str, &str, &str, &str); 7] = [
    (
        "rows of one that is not there",
        "{ events(first: 50, filter: { customer: { name: { eq: \"nobody\" } } }) { nodes { id } } }",
        "select id from events where customer_id in (select id from customers where name = 'nobody') order by id limit 51",
        "select e.id from events e left join customers c on c.id = e.customer_id where c.name = 'nobody' order by e.id limit 51",
    ),
    (
        "rows of one",
        "{ events(first: 50, filter: { customer: { name: { eq: \"customer 77\" } } }) { nodes { id } } }",
        "select id from events where customer_id in (select id from customers where name = 'customer 77') order by id limit 51",
        "select e.id from events e left join customers c on c.id = e.customer_id where c.name = 'customer 77' order by e.id limit 51",
    ),
    (
        "rows of most",
        "{ events(first: 50, filter: { customer: { region: { ne: \"r1\" } } }) { nodes { id } } }",
        "select id from events where customer_id in (select id from customers where region <> 'r1') order by id limit 51",
        "select e.id from events e left join customers c on c.id = e.customer_id where c.region <> 'r1' order by e.id limit 51",
    ),
    (
        "those with a rare one",
        "{ customers(first: 50, filter: { events: { exists: { kind: { eq: \"rare\" } } } }) { nodes { id } } }",
        "select id from customers where id in (select customer_id from events where kind = 'rare') order by id limit 51",
        "select id from customers c where exists (select 1 from events where customer_id = c.id and kind = 'rare') order by id limit 51",
    ),
    (
        "those with a usual one",
        "{ customers(first: 50, filter: { events: { exists: { kind: { eq: \"k1\" } } } }) { nodes { id } } }",
        "select id from customers where id in (select customer_id from events where kind = 'k1') order by id limit 51",
        "select id from customers c where exists (select 1 from events where customer_id = c.id and kind = 'k1') order by id limit 51",
    ),
    (
        "those without a rare one",
        "{ customers(first: 50, filter: { events: { none: { kind: { eq: \"rare\" } } } }) { nodes { id } } }",
        "select id from customers where id not in (select customer_id from events where kind = 'rare') order by id limit 51",
        "select id from customers c where not exists (select 1 from events where customer_id = c.id and kind = 'rare') order by id limit 51",
    ),
    (
        "how many have a rare one",
        "{ customers(filter: { events: { exists: { kind: { eq: \"rare\" } } } }) { totalCount } }",
        "select count(*) from customers where id in (select customer_id from events where kind = 'rare')",
        "select count(*) from customers c where exists (select 1 from events where customer_id = c.id and kind = 'rare')",
    ),
];

/// Measures them all.
pub(crate) fn measure() {
    report::line(&format!(
        "\nConditions over links, {EVENTS} rows on SQLite: medians of {ROUNDS}, of slow ones the first"
    ));
    let database = filled();
    let project = TestProject::of(&database, "", "[limits]\ntime_ms = 120000\n");
    let service = project.serve();
    let connection = rusqlite::Connection::open(database.file()).expect("the database");
    let by_hand = |statement: &str| {
        median(|| {
            let mut prepared = connection.prepare_cached(statement).expect("a statement");
            let mut rows = prepared.query([]).expect("rows");
            while rows.next().expect("a row").is_some() {}
        })
    };
    for (name, query, far_side, from_row) in ASKS {
        let asked = median(|| {
            let answer = service.post(&json!({ "query": query }));
            assert!(answer.json()["errors"].is_null(), "{}", answer.text());
        });
        let (far_side, from_row) = (by_hand(far_side), by_hand(from_row));
        let best = far_side.min(from_row);
        report::line(&format!(
            "{name}: {:.2} ms; by hand from the far side {:.2} ms, from each row {:.2} ms: {:.2} of the better",
            milliseconds(asked),
            milliseconds(far_side),
            milliseconds(from_row),
            milliseconds(asked) / milliseconds(best),
        ));
    }
}

fn milliseconds(time: Duration) -> f64 {
    time.as_secs_f64() * 1e3
}

/// The median of some rounds; the first alone where it takes seconds.
fn median(run: impl Fn()) -> Duration {
    let once = || {
        let start = Instant::now();
        run();
        start.elapsed()
    };
    let first = once();
    if first > Duration::from_secs(4) {
        return first;
    }
    let mut times: Vec<Duration> = (0..ROUNDS).map(|_| once()).collect();
    times.sort();
    times[ROUNDS / 2]
}

fn filled() -> Database {
    let database = Database::empty(Engine::Sqlite);
    database.execute(&format!(
        "create table customers (id integer primary key, name text not null, region text);
create table events (id integer primary key, customer_id integer not null references customers(id), kind text not null, note text);
with recursive n(i) as (select 1 union all select i + 1 from n where i < {CUSTOMERS})
    insert into customers select i, 'customer ' || i, 'r' || (i % 50) from n;
with recursive n(i) as (select 1 union all select i + 1 from n where i < {EVENTS})
    insert into events select i, (i * 7919) % {CUSTOMERS} + 1,
        case when i % 1000003 = 0 then 'rare' else 'k' || (i % 7) end, 'some note of event ' || i from n;
create index events_customer on events(customer_id);
"
    ));
    database
}
