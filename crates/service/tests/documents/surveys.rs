//! What the survey finds in documents, validators and indexes.

use bson::oid::ObjectId;
use bson::spec::BinarySubtype;
use bson::{Binary, Bson, DateTime, Decimal128, Document, Timestamp, doc};
use puente_core::catalog::{Column, Table, TableKind};
use puente_core::value::Scalar;
use puente_run::Survey;
use puente_testkit::database::Database;
use puente_testkit::servers;
use serde_json::json;

use super::{code, filled, served};

fn survey(database: &Database) -> Survey {
    puente_sources::survey(&database.settings(""), database.folder()).expect("a survey")
}

fn column<'t>(table: &'t Table, name: &str) -> &'t Column {
    table.column(name).unwrap_or_else(|| panic!("{name} among {:#?}", table.columns))
}

/// A document with a value of every type.
fn every_type() -> Document {
    doc! {
        "_id": ObjectId::parse_str("64b7f9c2e13d5a0012ab34cd").unwrap(),
        "flag": true,
        "small": 7_i32,
        "big": 9_007_199_254_740_993_i64,
        "double": 0.1 + 0.2,
        "exact": "12345678901234567890.123456789".parse::<Decimal128>().unwrap(),
        "text": "Zoé \"Z\"",
        "day": "2026-01-31",
        "at": DateTime::parse_rfc3339_str("2026-01-31T10:00:00.25Z").unwrap(),
        "bytes": Binary { subtype: BinarySubtype::Generic, bytes: vec![0, 255] },
        "uuid": bson::Uuid::parse_str("11111111-1111-4111-8111-111111111111").unwrap(),
        "nothing": Bson::Null,
        "inner": { "id": ObjectId::parse_str("64b7f9c2e13d5a0012ab34ce").unwrap(), "at": DateTime::from_millis(0), "big": 5_i64 },
        "list": ["a", "b"],
        "ids": [ObjectId::parse_str("64b7f9c2e13d5a0012ab34cf").unwrap()],
        "odd": Timestamp { time: 3, increment: 4 },
    }
}

#[test]
fn every_type_has_a_scalar_and_loses_nothing() {
    let served = served(&[("things", vec![every_type()])], "");
    let fields = "id flag small big double exact text day at bytes uuid nothing inner { id at big } list ids odd";
    let answer = served.service.data(&format!("{{ things {{ nodes {{ {fields} }} }} }}"));
    assert_eq!(
        answer["things"]["nodes"][0],
        json!({
            "id": "64b7f9c2e13d5a0012ab34cd", "flag": true, "small": 7, "big": "9007199254740993",
            "double": 0.300_000_000_000_000_04, "exact": "12345678901234567890.123456789", "text": "Zoé \"Z\"", "day": "2026-01-31",
            "at": "2026-01-31T10:00:00.25Z", "bytes": "AP8=", "uuid": "11111111-1111-4111-8111-111111111111", "nothing": null,
            "inner": { "id": "64b7f9c2e13d5a0012ab34ce", "at": "1970-01-01T00:00:00Z", "big": 5 }, "list": ["a", "b"],
            "ids": ["64b7f9c2e13d5a0012ab34cf"], "odd": { "$timestamp": { "t": 3, "i": 4 } },
        })
    );
    for (filter, found) in [
        ("id: { eq: \"64b7f9c2e13d5a0012ab34cd\" }", 1),
        ("big: { gt: \"9007199254740992\" }", 1),
        ("big: { gt: \"9007199254740993\" }", 0),
        ("exact: { eq: \"12345678901234567890.123456789\" }", 1),
        ("at: { lt: \"2026-01-31T10:00:00.26Z\", gte: \"2026-01-31T10:00:00.25Z\" }", 1),
        ("bytes: { eq: \"AP8=\" }", 1),
        ("uuid: { in: [\"11111111-1111-4111-8111-111111111111\"] }", 1),
        ("inner: { id: { eq: \"64b7f9c2e13d5a0012ab34ce\" } }", 1),
        ("inner: { at: { ne: \"1970-01-01T00:00:00Z\" } }", 0),
        ("ids: { includesAny: [\"64b7f9c2e13d5a0012ab34cf\"] }", 1),
        ("nothing: { isNull: true }", 1),
    ] {
        let document = format!("{{ things(filter: {{ {filter} }}) {{ totalCount }} }}");
        assert_eq!(served.service.data(&document)["things"]["totalCount"], found, "{document}");
    }
}

#[test]
fn shapes_tell_what_is_missing_and_what_is_of_several_types() {
    let documents = vec![
        doc! { "_id": 1, "name": "a", "level": 1, "tags": ["x"], "site": { "code": "n", "height": 5.5 } },
        doc! { "_id": 2, "name": Bson::Null, "level": "two", "site": { "code": "s" } },
        doc! { "_id": 3, "name": "c", "level": 3.5, "site": Bson::Null, "a.b": 1, "$x": 2 },
    ];
    let found = survey(&filled(&[("posts", documents)]));
    let posts = found.catalog.table("posts").unwrap();
    assert_eq!(posts.primary_key, ["_id"]);
    let level = column(posts, "level");
    assert_eq!(level.scalar, Scalar::Json);
    assert!(level.notice.as_ref().unwrap().contains("Float 66 %, String 33 %"), "{level:?}");
    let site = &column(posts, "site").shape.as_ref().unwrap().shape;
    assert_eq!((site.members["code"].share, site.members["height"].share, site.nullable), (100, 50, true));
    let notices = found.notices.join("\n");
    assert!(notices.contains("`posts`: members are left out") && notices.contains("$x, a.b"), "{notices}");
}

#[test]
fn what_a_validator_requires_is_required() {
    let database = filled(&[]);
    let validator = doc! { "$jsonSchema": {
        "bsonType": "object", "required": ["name", "state"],
        "properties": {
            "name": { "bsonType": "string", "description": "As on the door." }, "size": { "bsonType": ["int", "null"] },
            "state": { "enum": ["open", "shut"] }, "later": { "bsonType": "date" },
        },
    } };
    database.command(doc! { "create": "huts", "validator": validator });
    database.insert("huts", vec![doc! { "_id": "a", "name": "A", "state": "open" }]);
    let found = survey(&database);
    let huts = found.catalog.table("huts").unwrap();
    let name = column(huts, "name");
    assert!(name.enforced && !name.nullable && name.comment.as_deref() == Some("As on the door."), "{name:?}");
    assert!(column(huts, "size").enforced && column(huts, "size").nullable);
    assert_eq!(column(huts, "state").values, ["open", "shut"]);
    assert_eq!(column(huts, "later").scalar, Scalar::DateTime);
    let project = puente_testkit::project::TestProject::of(&database, "", "");
    let service = project.serve();
    let missing = service.ask("mutation { createHut(input: { id: \"b\", state: OPEN }) { count } }");
    assert!(missing.text().contains("name"), "{}", missing.text());
    let refused = service
        .ask("mutation { updateHut(key: { id: \"a\" }, set: { size: 3, state: SHUT }) { node { size state } } }");
    assert_eq!(refused.json()["data"]["updateHut"]["node"], json!({ "size": 3, "state": "SHUT" }));
    // Documents that were there before the validator are looked at, once.
    database.command(doc! { "collMod": "huts", "validator": {} });
    database.insert("huts", vec![doc! { "_id": "c", "name": 7 }]);
    database.command(
        doc! { "collMod": "huts", "validator": { "$jsonSchema": { "bsonType": "object", "required": ["state"] } } },
    );
    let found = survey(&database);
    assert!(
        found.notices.join("\n").contains("holds documents that its validator would refuse"),
        "{:?}",
        found.notices
    );
    assert!(!column(found.catalog.table("huts").unwrap(), "state").enforced);
}

#[test]
fn what_cannot_be_changed_is_read_only() {
    let database = filled(&[("posts", vec![doc! { "_id": 1, "name": "a" }])]);
    database.command(doc! { "create": "log", "capped": true, "size": 10_000 });
    database.insert("log", vec![doc! { "_id": 1, "text": "x" }]);
    database.command(doc! { "create": "names", "viewOn": "posts", "pipeline": [{ "$project": { "name": 1 } }] });
    database.insert("mixed", vec![doc! { "_id": 1, "n": 1 }, doc! { "_id": "two", "n": 2 }]);
    let found = survey(&database);
    let kind = |name: &str| found.catalog.table(name).unwrap().kind;
    assert_eq!([kind("posts"), kind("log"), kind("names")], [TableKind::Table, TableKind::View, TableKind::View]);
    let notices = found.notices.join("\n");
    assert!(notices.contains("`log` is a capped collection: read-only"), "{notices}");
    assert!(notices.contains("`_id` of `mixed` is no key that can be asked for"), "{notices}");
    assert!(found.keys.iter().any(|key| key.table == "names" && key.columns == ["_id"]), "{:?}", found.keys);
    let project = puente_testkit::project::TestProject::of(&database, "", "");
    let service = project.serve();
    let read = service.data("{ logs { nodes { id text } } names { nodes { name } } mixeds(skip: 1) { nodes { n } } }");
    assert_eq!(read["mixeds"]["nodes"].as_array().unwrap().len(), 1);
    assert_eq!((&read["logs"]["nodes"][0]["text"], &read["names"]["nodes"][0]["name"]), (&json!("x"), &json!("a")));
    let schema = service.ask("{ __schema { mutationType { fields { name } } } }").text().to_owned();
    assert!(schema.contains("createPost") && !schema.contains("createLog") && !schema.contains("Mixed"), "{schema}");
}

#[test]
fn indexes_are_keys_and_references_are_proposed() {
    let huts: Vec<Document> =
        (1..=20).map(|id| doc! { "_id": id, "code": format!("h{id}"), "level": id % 3 }).collect();
    let visits: Vec<Document> =
        (1..=50).map(|id| doc! { "_id": id, "hutId": id % 20 + 1, "seats": [id, id + 1_000] }).collect();
    let database = filled(&[("huts", huts), ("visits", visits)]);
    let index = |name: &str, keys: Document, unique: bool| doc! { "key": keys, "name": name, "unique": unique };
    database.command(doc! { "createIndexes": "huts", "indexes": [
        index("code", doc! { "code": 1 }, true), index("level", doc! { "level": 1, "code": -1 }, false),
    ] });
    database.command(doc! { "createIndexes": "visits", "indexes": [index("seats", doc! { "seats": 1 }, true)] });
    let found = survey(&database);
    let huts = found.catalog.table("huts").unwrap();
    assert_eq!(huts.unique_keys, [["code"]]);
    assert!(huts.indexes.contains(&vec!["level".to_owned(), "code".to_owned()]), "{:?}", huts.indexes);
    assert!(
        found.catalog.table("visits").unwrap().unique_keys.is_empty(),
        "an index of a list is no key of its documents"
    );
    let proposal = found.proposals.iter().find(|proposal| proposal.column == "hutId").expect("a proposal");
    assert_eq!((proposal.to.as_str(), proposal.references.as_str(), proposal.sampled), ("huts", "_id", Some((20, 20))));
}

#[test]
fn values_of_another_type_are_errors_where_they_are_read_and_null_where_they_are_compared() {
    let mut documents: Vec<Document> =
        (1..=3).map(|id| doc! { "_id": id, "level": id, "tag": "t", "site": { "n": id } }).collect();
    let served = served(&[("posts", documents.clone())], "");
    documents.clear();
    served.database.insert("posts", vec![doc! { "_id": 9, "level": "nine", "tag": ["t"], "site": [{ "n": 1 }] }]);
    let ids = |arguments: &str| -> Vec<i64> {
        let data = served.service.data(&format!("{{ posts({arguments}) {{ nodes {{ id }} }} }}"));
        data["posts"]["nodes"].as_array().unwrap().iter().map(|node| node["id"].as_i64().unwrap()).collect()
    };
    assert_eq!(ids("filter: { tag: { eq: \"t\" } }"), [1, 2, 3], "a list of texts is no text");
    assert_eq!(ids("filter: { tag: { ne: \"x\" } }"), [1, 2, 3]);
    assert_eq!(ids("filter: { level: { isNull: true } }"), [9]);
    assert_eq!(ids("filter: { not: { level: { gt: 1 } } }"), [1]);
    assert_eq!(ids("filter: { site: { n: { eq: 1 } } }"), [1], "what is inside a list is not inside an object");
    assert_eq!(ids("orderBy: [{ level: DESC_NULLS_FIRST }]"), [9, 3, 2, 1]);
    let answer = served.service.ask("{ posts(last: 1) { nodes { id level tag site { n } } } }").json();
    assert_eq!(answer["data"]["posts"]["nodes"][0], json!({ "id": 9, "level": null, "tag": null, "site": null }));
    assert_eq!(answer["errors"].as_array().unwrap().len(), 3, "{answer}");
    assert_eq!(code(&answer), "VALUE_UNFIT");
}

#[test]
fn a_login_that_is_refused_is_told_so() {
    let address = servers::mongodb().address.replace("mongodb://", "mongodb://nobody:wrong@");
    let text = format!("[source.test]\nurl = \"{address}/test?authSource=admin&serverSelectionTimeoutMS=1000\"\n");
    let settings = puente_core::project::read(&text, &|_| None).unwrap().sources.remove(0);
    let problem = puente_sources::survey(&settings, std::path::Path::new(".")).unwrap_err();
    assert!(problem.message.contains("refuses the login") && problem.message.contains("authSource"), "{problem:?}");
    let text = "[source.test]\nurl = \"mongodb://127.0.0.1:1/test?serverSelectionTimeoutMS=500\"\n";
    let settings = puente_core::project::read(text, &|_| None).unwrap().sources.remove(0);
    let problem = puente_sources::survey(&settings, std::path::Path::new(".")).unwrap_err();
    assert!(problem.message.contains("cannot be reached"), "{problem:?}");
}
