//! Every type that an engine has × every word of the API. A word may not be there for a type; where it is, it has a meaning: what was
//! served is found again, ordered, paged by, grouped by, and can be written back. Nothing is a mistake of ours.

use puente_core::catalog::Engine;
use puente_core::model::{Element, FieldType};
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use rstest::rstest;
use serde_json::{Value as Json, json};

/// Types with a value of each, as SQL.
const SQLITE: &[(&str, &str)] = &[
    ("integer", "7"),
    ("bigint", "9007199254740993"),
    ("real", "0.1"),
    ("double", "1e300"),
    ("numeric", "12.5"),
    ("decimal(10,2)", "12.5"),
    ("boolean", "1"),
    ("text", "'a''b'"),
    ("varchar(20)", "'Ü'"),
    ("blob", "x'00ff'"),
    ("date", "'2024-02-29'"),
    ("time", "'22:30:00'"),
    ("datetime", "'2024-02-29 22:30:00'"),
    ("timestamp", "'2024-02-29T22:30:00Z'"),
    ("json", "'{\"a\": [1, null]}'"),
    ("uuid", "'0190a0b0-0000-7000-8000-000000000001'"),
    ("point", "x'0102'"),
    ("money", "'$1'"),
    ("any", "'x'"),
];

const POSTGRES: &[(&str, &str)] = &[
    ("bool", "true"),
    ("bytea", "'\\x00ff'"),
    ("\"char\"", "'a'"),
    ("name", "'a'"),
    ("int8", "9007199254740993"),
    ("int2", "7"),
    ("int4", "7"),
    ("text", "'a\\b''c'"),
    ("oid", "7"),
    ("xid", "'7'"),
    ("json", "'{\"a\": [1, null]}'"),
    ("jsonb", "'{\"a\": [1, null]}'"),
    ("xml", "'<a/>'"),
    ("point", "'(1,2)'"),
    ("lseg", "'[(1,2),(3,4)]'"),
    ("path", "'[(1,2),(3,4)]'"),
    ("box", "'(3,4),(1,2)'"),
    ("polygon", "'((1,2),(3,4))'"),
    ("line", "'{1,2,3}'"),
    ("circle", "'<(1,2),3>'"),
    ("float4", "0.1"),
    ("float8", "1e300"),
    ("money", "'12.50'"),
    ("macaddr", "'08:00:2b:01:02:03'"),
    ("macaddr8", "'08:00:2b:01:02:03:04:05'"),
    ("inet", "'10.0.0.1'"),
    ("cidr", "'10.0.0.0/8'"),
    ("char(5)", "'ab'"),
    ("varchar(20)", "'Ü'"),
    ("date", "'2024-02-29'"),
    ("time", "'22:30:00.123456'"),
    ("timetz", "'22:30:00+02'"),
    ("timestamp", "'2024-02-29 22:30:00'"),
    ("timestamptz", "'2024-02-29 22:30:00+02'"),
    ("interval", "'1 day 2 hours'"),
    ("bit(3)", "b'101'"),
    ("varbit", "b'101'"),
    ("numeric", "12.50"),
    ("numeric(40,5)", "12345678901234567890123456789012345.12345"),
    ("uuid", "'0190a0b0-0000-7000-8000-000000000001'"),
    ("tsvector", "'a b'"),
    ("tsquery", "'a & b'"),
    ("jsonpath", "'$.a'"),
    ("int4range", "'[1,5)'"),
    ("numrange", "'[1.5,5)'"),
    ("daterange", "'[2024-01-01,2024-02-01)'"),
    ("int8range", "'[1,5)'"),
    ("tsrange", "'[2024-01-01 00:00,2024-02-01 00:00)'"),
    ("tstzrange", "'[2024-01-01 00:00+00,2024-02-01 00:00+00)'"),
    ("int4multirange", "'{[1,5)}'"),
    ("int8multirange", "'{[1,5)}'"),
    ("nummultirange", "'{[1,5)}'"),
    ("datemultirange", "'{[2024-01-01,2024-02-01)}'"),
    ("tsmultirange", "'{[2024-01-01 00:00,2024-02-01 00:00)}'"),
    ("tstzmultirange", "'{[2024-01-01 00:00+00,2024-02-01 00:00+00)}'"),
    ("pg_lsn", "'16/B374D848'"),
    ("txid_snapshot", "'10:20:10'"),
    ("regclass", "'pg_class'"),
    ("int4[]", "'{1,2}'"),
    ("int4[][]", "'{{1,2},{3,4}}'"),
    ("text[]", "'{a,\"b c\"}'"),
    ("numeric[]", "'{1.50}'"),
    ("jsonb[]", "'{\"{}\"}'"),
    ("mood", "'ok'"),
    ("mood[]", "'{ok,sad}'"),
    ("cased[]", "'{ok,OK}'"),
    ("moods", "'{sad}'"),
    ("cased", "'OK'"),
    ("blank", "''"),
    ("numbers", "'{1,2}'"),
    ("positive", "3"),
    ("pair", "'(1,a)'"),
];

/// What some of them are made of.
const POSTGRES_TYPES: &str = "
create type mood as enum ('ok', 'sad');
create type cased as enum ('ok', 'OK');
create type blank as enum ('', 'x');
create domain numbers as integer[];
create domain moods as mood[];
create domain positive as integer check (value > 0);
create type pair as (a integer, b text);
";

const MARIADB: &[(&str, &str)] = &[
    ("tinyint", "7"),
    ("boolean", "1"),
    ("smallint", "7"),
    ("mediumint", "7"),
    ("int", "7"),
    ("int unsigned", "4294967295"),
    ("bigint", "9007199254740993"),
    ("bigint unsigned", "18446744073709551615"),
    ("float", "0.1"),
    ("double", "1e300"),
    ("decimal(10,2)", "12.5"),
    ("decimal(65,30)", "1.5"),
    ("bit(1)", "b'1'"),
    ("bit(9)", "b'101010101'"),
    ("bit(64)", "b'1111111111111111111111111111111111111111111111111111111111111111'"),
    ("char(5)", "'ab'"),
    ("varchar(20)", "'Ü'"),
    ("tinytext", "'a'"),
    ("text", "'a\\\\b''c'"),
    ("mediumtext", "'a'"),
    ("longtext", "'a'"),
    ("binary(3)", "x'00ff01'"),
    ("varbinary(20)", "x'00ff'"),
    ("blob", "x'00ff'"),
    ("enum('ok','sad')", "'ok'"),
    ("enum('','x')", "''"),
    ("set('a','b')", "'a,b'"),
    ("date", "'2024-02-29'"),
    ("time", "'22:30:00'"),
    ("time(6)", "'22:30:00.123456'"),
    ("datetime", "'2024-02-29 22:30:00'"),
    ("datetime(6)", "'2024-02-29 22:30:00.123456'"),
    ("timestamp null", "'2024-02-29 22:30:00'"),
    ("year", "2024"),
    ("json", "'{\"a\": [1, null]}'"),
    ("uuid", "'0190a0b0-0000-7000-8000-000000000001'"),
    ("inet6", "'::1'"),
    ("geometry", "st_geomfromtext('POINT(1 2)')"),
    ("point", "st_geomfromtext('POINT(1 2)')"),
    ("polygon", "st_geomfromtext('POLYGON((0 0,1 0,1 1,0 0))')"),
];

/// A literal of a served value.
fn literal(value: &Json) -> String {
    match value {
        Json::Object(members) => {
            let members: Vec<String> =
                members.iter().map(|(name, value)| format!("{name}: {}", literal(value))).collect();
            format!("{{{}}}", members.join(", "))
        }
        Json::Array(items) => format!("[{}]", items.iter().map(literal).collect::<Vec<_>>().join(", ")),
        other => other.to_string(),
    }
}

/// One type, as the API has it.
struct Asked<'a> {
    service: &'a TestService,
    declared: &'a str,
    list: String,
    one: String,
    name: String,
    is_enum: bool,
    wrong: Vec<String>,
}

impl Asked<'_> {
    /// The data of an answer; none where the word is not there for the type, or what came of it is told as wrong.
    fn data(&mut self, document: &str) -> Option<Json> {
        let answer = self.service.ask(document).json();
        match answer["errors"][0]["extensions"]["code"].as_str() {
            None => Some(answer["data"].clone()),
            Some("DOCUMENT_INVALID") => None,
            Some(code) => {
                self.wrong.push(format!("{}: {code} {} of {document}", self.declared, answer["errors"][0]["message"]));
                None
            }
        }
    }

    /// Does the answer have this at its place, if there is one?
    fn expect(&mut self, document: &str, place: &str, expected: &Json) {
        if let Some(data) = self.data(document)
            && data.pointer(place) != Some(expected)
        {
            self.wrong.push(format!("{}: {data} instead of {expected} of {document}", self.declared));
        }
    }

    fn walk(&mut self) {
        let list = self.list.clone();
        let Some(all) = self.data(&format!("{{ {list} {{ nodes {{ id v revision }} }} }}")) else {
            self.wrong.push(format!("{}: is not served", self.declared));
            return;
        };
        let value = &all[&list]["nodes"][0]["v"];
        if value.is_null() || !all[&list]["nodes"][1]["v"].is_null() {
            self.wrong.push(format!("{}: served as {all}", self.declared));
            return;
        }
        // An enum's values are names.
        let written = if self.is_enum { literal(value).replace('"', "") } else { literal(value) };
        let (count, first) = (format!("/{list}/totalCount"), json!(1));
        for (word, given, expected) in [
            ("isNull", "false", 1),
            ("eq", &written, 1),
            ("ne", &written, 0),
            ("lt", &written, 0),
            ("lte", &written, 1),
            ("gt", &written, 0),
            ("gte", &written, 1),
            ("in", &format!("[{written}]"), 1),
            ("notIn", &format!("[{written}]"), 0),
            ("contains", &written, 1),
            ("startsWith", &written, 1),
            ("endsWith", &written, 1),
            ("includesAll", &written, 1),
            ("isEmpty", "false", 1),
        ] {
            if value.as_array().is_some_and(|items| items.contains(&Json::Null)) && word == "includesAll" {
                continue;
            }
            let document = format!("{{ {list}(filter: {{ v: {{ {word}: {given} }} }}) {{ totalCount }} }}");
            self.expect(&document, &count, &json!(expected));
        }
        for direction in ["ASC_NULLS_FIRST", "DESC_NULLS_LAST"] {
            let page = format!("orderBy: [{{ v: {direction} }}], first: 1");
            let asked = format!("{{ {list}({page}) {{ nodes {{ id }} pageInfo {{ endCursor }} }} }}");
            let Some(found) = self.data(&asked) else { continue };
            let cursor = &found[&list]["pageInfo"]["endCursor"];
            let id = if direction.starts_with("ASC") { json!(1) } else { json!(2) };
            let next = format!("{{ {list}({page}, after: {cursor}) {{ nodes {{ id }} }} }}");
            self.expect(&next, &format!("/{list}/nodes/0/id"), &id);
        }
        let groups =
            format!("{{ {list} {{ groups(by: [{{ v: VALUE }}], first: 5) {{ key {{ v }} summary {{ count }} }} }} }}");
        self.expect(&groups, &format!("/{list}/groups/0/summary/count"), &first);
        for function in ["sum", "avg", "min", "max"] {
            self.data(&format!("{{ {list} {{ summary {{ v {{ {function} }} }} }} }}"));
        }
        let (one, name) = (self.one.clone(), self.name.clone());
        let update = format!(
            "mutation {{ update{name}(key: {{ id: 2 }}, set: {{ v: {written} }}) {{ count node {{ v revision }} }} }}"
        );
        if self.data(&update).is_some() {
            self.expect(&format!("{{ {one}(key: {{ id: 2 }}) {{ v }} }}"), &format!("/{one}/v"), value);
        }
        let create = format!("mutation {{ create{name}(input: {{ id: 3, v: {written} }}) {{ node {{ v }} }} }}");
        let Some(created) = self.data(&create) else { return };
        if created.pointer(&format!("/create{name}/node/v")) != Some(value) {
            self.wrong.push(format!("{}: {created} of {create}", self.declared));
        }
        let add = format!("mutation {{ update{name}(key: {{ id: 3 }}, set: {{ add: {{ v: 0 }} }}) {{ count }} }}");
        self.data(&add);
        self.data(&format!("mutation {{ update{name}(key: {{ id: 3 }}, set: {{ v: null }}) {{ count }} }}"));
    }
}

#[rstest]
#[case::sqlite(Engine::Sqlite, SQLITE)]
#[case::postgres(Engine::Postgres, POSTGRES)]
#[case::mariadb(Engine::Mariadb, MARIADB)]
fn every_word_has_a_meaning_for_every_type_or_is_not_there(#[case] engine: Engine, #[case] types: &[(&str, &str)]) {
    let database = Database::empty(engine);
    if engine == Engine::Postgres {
        database.execute(POSTGRES_TYPES);
    }
    for (number, (declared, value)) in types.iter().enumerate() {
        database.execute(&format!("create table z{number} (id integer primary key, v {declared});\n"));
        database.execute(&format!("insert into z{number} values (1, {value}), (2, null);\n"));
    }
    let project = TestProject::of(&database, "", "");
    let service = project.serve();
    let model = project.open().model().expect("a model");
    let mut wrong = Vec::new();
    for (number, (declared, _)) in types.iter().enumerate() {
        let t = model.types.iter().find(|t| t.table == format!("z{number}")).expect("a type");
        let (list, one, name) = (t.list.clone(), t.one.clone(), t.name.clone());
        let is_enum = t
            .columns
            .iter()
            .any(|column| matches!(column.kind, FieldType::Enum(_) | FieldType::List(Element::Enum(_))));
        let mut asked = Asked { service: &service, declared, list, one, name, is_enum, wrong: Vec::new() };
        asked.walk();
        wrong.extend(asked.wrong);
    }
    assert!(wrong.is_empty(), "{} of {engine:?}:\n{}", wrong.len(), wrong.join("\n"));
}

/// Types that no column of a table can have, or that nobody would declare: what PostgreSQL keeps its own catalog with.
const OF_THE_CATALOG: &[&str] =
    &["pg_", "reg", "aclitem", "gtsvector", "int2vector", "oidvector", "refcursor", "cid", "tid", "xid8"];

/// The list above has every type that the engine has.
#[rstest]
fn no_type_of_postgres_is_left_out() {
    let database = Database::empty(Engine::Postgres);
    database.execute(POSTGRES_TYPES);
    let known: Vec<String> = POSTGRES.iter().map(|(declared, _)| format!("'{declared}'::regtype::oid")).collect();
    let text = format!(
        "select typname from pg_type where typtype in ('b', 'r', 'm') and typelem = 0 and typnamespace = 'pg_catalog'::regnamespace
         and oid not in ({}) order by typname",
        known.join(", ")
    );
    let missing: Vec<String> = database.query(&text).into_iter().filter_map(|mut row| row.swap_remove(0)).collect();
    let missing: Vec<&String> =
        missing.iter().filter(|name| !OF_THE_CATALOG.iter().any(|known| name.starts_with(known))).collect();
    assert!(missing.is_empty(), "{missing:?}");
}

/// What an engine would cut off or round, without a word, is refused.
#[rstest]
#[case::postgres(Engine::Postgres, "time", "23:59:59.999999", "23:59:59.9999999")]
#[case::postgres_of_three_digits(
    Engine::Postgres,
    "timestamptz(3)",
    "2024-02-29T22:30:00.123Z",
    "2024-02-29T22:30:00.1234Z"
)]
#[case::mariadb(Engine::Mariadb, "time", "23:59:59.000", "23:59:59.5")]
#[case::mariadb_of_three_digits(Engine::Mariadb, "datetime(3)", "2024-02-29T22:30:00.123", "2024-02-29T22:30:00.1234")]
fn fractions_of_seconds_that_are_not_kept_are_refused(
    #[case] engine: Engine,
    #[case] declared: &str,
    #[case] fits: &str,
    #[case] is_cut: &str,
) {
    let sql = format!("create table notes (id integer primary key, v {declared});\n");
    let (_database, _project, service) = TestProject::served(engine, &sql, "");
    let create = |id: u8, value: &str| {
        service.ask(&format!("mutation {{ createNote(input: {{ id: {id}, v: \"{value}\" }}) {{ count }} }}"))
    };
    assert_eq!(create(1, fits).json()["data"]["createNote"]["count"], 1, "{}", create(2, fits).text());
    let refused = create(3, is_cut);
    assert_eq!(refused.code(), "VALUE_REFUSED", "{}", refused.text());
    assert!(refused.text().contains("digits of a second's fraction"), "{}", refused.text());
    assert_eq!(service.data("{ notes(filter: { id: { eq: 3 } }) { totalCount } }")["notes"]["totalCount"], 0);
}
