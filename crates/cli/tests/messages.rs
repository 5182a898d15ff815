//! What is told of what went wrong: one table of cases, each with what was expected, what came, and the remedy.

mod process;

use process::run;
use puente_testkit::project::TestProject;

const TABLES: &str = "
create table huts (id integer primary key, name text not null, beds integer check (beds < 100));
create table guests (id integer primary key, name text not null);
create table bookings (id integer primary key, hut_id integer not null references huts, guest_id integer not null references guests,
  status text not null check (status in ('requested', 'confirmed')), nights integer not null default 1);
create table log (at text, what text);
insert into huts values (1, 'Low', 4), (2, 'High', 8);
insert into guests values (1, 'Ann'), (2, 'Ben');
insert into bookings values (1, 1, 1, 'requested', 2), (2, 1, 1, 'confirmed', 2);
";

const GRANTS: &str = "
[role.guest]
Hut.read = { fields = [\"id\", \"name\"] }
[role.guest.Booking]
read = { fields = [\"id\", \"hut\", \"status\", \"nights\"], rows = \"row.guestId == claims.sub\" }
create = { fields = [\"hut\", \"nights\"], fixed = { guestId = \"claims.sub\", status = \"'requested'\" }, check = \"row.guestId == claims.sub && row.nights < 10\" }
update = { fields = [\"nights\"], check = \"row.nights < 10\" }
delete = { rows = \"row.status == 'requested'\" }
";

/// A document, as whom it is asked, the code, and what is told.
const REQUESTS: &[(&str, &str, &str, &str)] = &[
    // Syntax, in words.
    (
        "owner",
        "{ huts { nodes { name }",
        "DOCUMENT_UNREADABLE",
        "expected `}`, found the end of the document; something that was opened is not closed",
    ),
    ("owner", "{ huts { nodes { name } ) }", "DOCUMENT_UNREADABLE", "found `)`"),
    ("owner", "{ huts(first: ) { totalCount } }", "DOCUMENT_UNREADABLE", "a value is a number, a text in quotes"),
    ("owner", "huts { totalCount }", "DOCUMENT_UNREADABLE", "begins with `{`, `query`, `mutation` or `fragment`"),
    // Meaning.
    ("owner", "{ huts }", "DOCUMENT_INVALID", "needs a selection: say in braces which of its fields"),
    (
        "owner",
        "{ logs(after: \"x\") { totalCount } }",
        "DOCUMENT_INVALID",
        "its rows have no key, so that no cursor names a place among them; page with `first` and `skip`",
    ),
    (
        "owner",
        "{ bookings(filter: { status: { eq: CONFIRMD } }) { totalCount } }",
        "DOCUMENT_INVALID",
        "did you mean `CONFIRMED`?",
    ),
    (
        "owner",
        "{ huts(filter: { name: { startWith: \"A\" } }) { totalCount } }",
        "DOCUMENT_INVALID",
        "did you mean `startsWith`?",
    ),
    // Rows.
    (
        "owner",
        "mutation { deleteHut(key: { id: 1 }) { count } }",
        "REFERENCE_BROKEN",
        "other rows, of `Booking`, still refer to this `Hut`; change or delete them first",
    ),
    ("owner", "mutation { createHut(input: { name: \"x\", beds: 400 }) { count } }", "VALUE_REFUSED", "beds"),
    (
        "guest",
        "mutation { createBookings(inputs: [{ hut: { key: { id: 1 } } }, { hut: { key: { id: 2 } }, nights: 12 }]) { count } }",
        "NOT_PERMITTED",
        "inputs[1]: the role may not leave a row of `Booking` like this; `check` of its grant to create one",
    ),
    (
        "guest",
        "mutation { updateBooking(key: { id: 1 }, set: { nights: 12 }) { count } }",
        "NOT_PERMITTED",
        "`check` of its grant to update one",
    ),
    (
        "guest",
        "mutation { deleteBooking(key: { id: 2 }) { count } }",
        "NOT_PERMITTED",
        "its grant says in `rows` which are",
    ),
    (
        "guest",
        "mutation { deleteBooking(key: { id: 99 }) { count } }",
        "ROW_MISSING",
        "there is no `Booking` with this key",
    ),
];

/// Lines of the project file, and what `puente check --offline` tells of them.
const FILES: &[(&str, &str)] = &[
    (
        "[service]\nsecret = \"${NO_SUCH_VARIABLE}\"",
        "the environment variable `NO_SUCH_VARIABLE` is not set; set it, or write a line `NO_SUCH_VARIABLE=…` in `.puente/environment`",
    ),
    ("[source.two]\nurl = \"data/two.db\"", "for a file write `sqlite:` before it, such as `sqlite:data/huts.db`"),
    (
        "[source.\"my db\"]\nurl = \"sqlite:two.db\"",
        "`my db` is not a source name: use lower-case letters, digits and `_`, such as `my_db`",
    ),
    (
        "[role.a.Booking.read]\nfields = [\"id\"]\nrows = \"row.hut == 7\"",
        "a row of `Hut` cannot be compared with `7`; compare what the link follows, `hutId`",
    ),
    (
        "[role.a.Booking.create]\nfields = [\"nights\"]\nfixed = { hut = \"7\" }",
        "`fixed` sets `hut`, which is not a column of `Booking` to be written: it is a link; set what it follows, `hutId`",
    ),
    (
        "[role.a.Booking.read]\nfields = [\"id\"]\nrows = \"row.id ==\"",
        "not a rule in CEL: it ends where more is expected",
    ),
    ("[role.a.Booking.read]\nfields = [\"id\"]\nrows = \"row.id == 1 )\"", "not a rule in CEL: `)` "),
    ("[role.a.Booking.read]\nfields = [\"id\"]\nrows = \"row.status == 'requestd'\"", "did you mean `requested`?"),
];

/// Calls, the code with which they end, and what is told.
const CALLS: &[(&[&str], i32, &str)] = &[
    (&["serve", "--listen", "4941"], 2, "expected an IP address with a port, such as `127.0.0.1:4810`"),
    (
        &["init", "--source", "my db=sqlite:two.db"],
        2,
        "`my db` is not a source name: use lower-case letters, digits and `_`, such as `my_db`",
    ),
    (&["init", "--source", "two=data/two.db"], 2, "for a file write `sqlite:` before it"),
    (&["ask", "--as", "guests", "{ __typename }"], 2, "did you mean `guest`?"),
    (
        &["key", "create", "known", "--as", "guest"],
        2,
        "a key named `known` was made before, and the name stays with it, revoked or not; choose another name",
    ),
];

#[test]
fn each_tells_what_was_expected_what_came_and_the_remedy() {
    let project = TestProject::of_sql(TABLES, GRANTS);
    let mut wrong: Vec<String> = Vec::new();
    let mut look = |case: &dyn std::fmt::Debug, told: &str, text: &str| {
        if !told.contains(text) {
            wrong.push(format!("{case:?}: expected {text:?}, told {told:?}"));
        }
    };
    for (role, document, code, text) in REQUESTS {
        let (_, out, err) = run(project.path(), &["ask", "--json", "--as", role, "--claim", "sub=1", document]);
        assert!(out.contains(code), "{document}: {out}{err}");
        let answer: serde_json::Value =
            serde_json::from_str(&out).unwrap_or_else(|error| panic!("{error}: {out}{err}"));
        let told = answer["errors"][0]["message"].as_str().unwrap_or_default();
        assert!(told.contains(text), "{document}: {told}");
    }
    let file = project.path().join("puente.toml");
    let before = std::fs::read_to_string(&file).unwrap();
    for (lines, text) in FILES {
        std::fs::write(&file, format!("{before}\n{lines}\n")).unwrap();
        let is_online = lines.contains("NO_SUCH");
        let (_, out, err) = run(project.path(), if is_online { &["check"] } else { &["check", "--offline"] });
        look(lines, &format!("{out}{err}"), text);
    }
    std::fs::write(&file, before).unwrap();
    assert_eq!(run(project.path(), &["key", "create", "known", "--as", "guest"]).0, 0);
    for (call, code, text) in CALLS {
        let (found, out, err) = run(project.path(), call);
        look(call, &format!("code {found}"), &format!("code {code}"));
        look(call, &format!("{out}{err}"), text);
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
