//! The commands that are sent, as they are told: whoever answers for the database reads them.

use std::sync::LazyLock;

use bson::{Document, doc};
use rstest::rstest;
use serde_json::json;

use super::{Served, served};

/// `huts` have a validator that says what their members are, `visits` do not.
static SERVED: LazyLock<Served> = LazyLock::new(|| {
    let huts: Vec<Document> =
        (1..=3).map(|id| doc! { "_id": id, "name": format!("Hut {id}"), "beds": id * 10 }).collect();
    let visit =
        |id: i32| doc! { "_id": id, "hutId": id % 3 + 1, "nights": id, "guest": { "name": "Ida", "age": 20 + id } };
    let edits = "
[[link]]
table = \"visits\"
columns = [\"hutId\"]
to = \"huts\"
references = [\"_id\"]
name = \"hut\"
back = \"visits\"
[role.guide.Hut.read]
fields = [\"id\", \"name\", \"visits\"]
[role.guide.Visit.read]
fields = [\"id\", \"nights\", \"hut\"]
rows = \"row.hut.beds > claims.least\"
masks = { nights = \"row.guest.age >= 18\" }
";
    let served = served(&[("visits", (1..=9).map(visit).collect())], "");
    let types = doc! { "bsonType": "object", "required": ["name", "beds"], "properties": {
        "_id": { "bsonType": "int" }, "name": { "bsonType": "string" }, "beds": { "bsonType": "int" },
    } };
    served.database.command(doc! { "create": "huts", "validator": { "$jsonSchema": types } });
    served.database.insert("huts", huts);
    served.again(edits)
});

/// A command as it is told, but for the expression that a number has no fraction, which is `whole(…)`.
fn shortened(mut text: String) -> String {
    for path in ["$nights", "$hutId", "$guest.age"] {
        let whole = format!(
            r#"{{"$cond": [{{"$in": [{{"$type": "{path}"}}, ["int", "long"]]}}, true, {{"$cond": [{{"$eq": [{{"$type": "{path}"}}, "double"]}}, {{"$and": [{{"$gte": ["{path}", -9007199254740992]}}, {{"$lte": ["{path}", 9007199254740992]}}, {{"$eq": ["{path}", {{"$trunc": "{path}"}}]}}]}}, false]}}]}}"#
        );
        text = text.replace(&whole, &format!("whole({path})"));
    }
    text.replace(r#"{"$type": ["int", "long", "double"], "$not": {"$type": "array"}}"#, "number()")
        .replace(r#""$type": ["int", "long", "double"], "$not": {"$type": "array"}"#, "number()")
}

#[rstest]
#[case::a_key("{ hut(key: { id: 2 }) { name } }", &[
    r#"huts.find({"_id": {"$eq": ?0}}, {"_id": 1, "name": 1}).limit(1)"#,
])]
#[case::a_page("{ huts(first: 2) { nodes { name } pageInfo { endCursor } } }", &[
    r#"huts.find({}, {"_id": 1, "name": 1}).sort({"_id": 1}).limit(?0)"#,
])]
#[case::types_that_a_validator_says("{ huts(filter: { beds: { gt: 10 } }, orderBy: [{ name: DESC }]) { nodes { id } } }", &[
    r#"huts.find({"beds": {"$gt": ?0}}, {"_id": 1}).sort({"name": -1, "_id": 1}).limit(?1)"#,
])]
#[case::types_that_nobody_says("{ visits(filter: { hutId: { eq: 1 } }, orderBy: [{ nights: DESC }]) { nodes { id } } }", &[
    r#"visits.aggregate([{"$match": {"hutId": {"$eq": ?0, number()}}}, {"$set": {"~0": {"$cond": [whole($nights), "$nights", null]}}}, {"$sort": {"~0": -1, "_id": 1}}, {"$limit": ?1}, {"$project": {"_id": 1}}])"#,
])]
#[case::members("{ visits(filter: { guest: { age: { lt: 25 } } }) { nodes { guest { name } } } }", &[
    r#"visits.find({"guest.age": {"$lt": ?0, number()}, "$or": [{"guest.age": {"$type": ["int", "long"]}}, {"$expr": whole($guest.age)}], "guest": {"$not": {"$type": "array"}}}, {"guest": 1, "_id": 0}).sort({"_id": 1}).limit(?1)"#,
])]
#[case::children_of_a_page("{ huts { nodes { visits(first: 2) { nodes { nights } } } } }", &[
    r#"huts.find({}, {"_id": 1}).sort({"_id": 1}).limit(?0)"#,
    r#"(keys).aggregate([{"$lookup": {"from": "visits", "localField": "k0", "foreignField": "hutId", "pipeline": [{"$match": {"hutId": number()}}, {"$sort": {"_id": 1}}, {"$limit": ?1}, {"$project": {"nights": 1, "_id": 0}}], "as": "r"}}, {"$unwind": "$r"}, {"$project": {"o": 1, "r": 1}}])"#,
])]
#[case::parents("{ visits { nodes { hut { name } } } }", &[
    r#"visits.find({}, {"hutId": 1, "_id": 0}).sort({"_id": 1}).limit(?0)"#,
    r#"(keys).aggregate([{"$lookup": {"from": "huts", "localField": "k0", "foreignField": "_id", "pipeline": [{"$match": {"_id": {"$ne": null}}}, {"$limit": 1}, {"$project": {"_id": 1, "name": 1}}], "as": "r"}}, {"$unwind": "$r"}, {"$project": {"o": 1, "r": 1}}])"#,
])]
#[case::a_filter_over_a_link("{ huts(filter: { visits: { exists: { nights: { gt: 2 } } } }) { nodes { id } } }", &[
    r#"huts.aggregate([{"$lookup": {"from": "visits", "localField": "_id", "foreignField": "hutId", "pipeline": [{"$match": {"hutId": number()}}, {"$match": {"nights": {"$gt": ?0, number()}, "$or": [{"nights": {"$type": ["int", "long"]}}, {"$expr": whole($nights)}]}}, {"$limit": 1}], "as": "~0"}}, {"$match": {"~0": {"$ne": []}}}, {"$sort": {"_id": 1}}, {"$limit": ?1}, {"$project": {"_id": 1}}])"#,
])]
#[case::a_count("{ huts { totalCount } }", &[
    r#"huts.aggregate([{"$group": {"_id": null, "~0": {"$sum": 1}}}, {"$project": {"~0": 1, "_id": 0}}])"#,
])]
#[case::a_summary("{ visits { summary { nights { max } } } }", &[
    r#"visits.aggregate([{"$group": {"_id": null, "~0": {"$max": {"$cond": [whole($nights), "$nights", null]}}}}, {"$set": {"~0": {"$ifNull": ["$~0", null]}}}, {"$project": {"~0": 1, "_id": 0}}])"#,
])]
fn commands_say_no_more_than_is_asked(#[case] document: &str, #[case] expected: &[&str]) {
    check(&json!({ "query": document, "extensions": { "statements": true } }), expected);
}

#[test]
fn rules_and_masks_are_conditions_of_the_database() {
    let document = "{ visits(first: 1) { nodes { id nights } } }";
    let as_guide = json!({ "role": "guide", "claims": { "least": 10 } });
    check(
        &json!({ "query": document, "extensions": { "statements": true, "as": as_guide } }),
        &[
            r#"visits.aggregate([{"$lookup": {"from": "huts", "localField": "hutId", "foreignField": "_id", "let": {"t0": whole($hutId)}, "pipeline": [{"$match": {"$expr": "$$t0", "_id": {"$ne": null}}}, {"$limit": 1}], "as": "~0"}}, {"$set": {"~0": {"$first": "$~0"}}}, {"$match": {"$and": [{"~0.beds": {"$gt": ?0}}, {"~0.beds": {"$ne": null}}]}}, {"$set": {"~1": {"$cond": [{"$cond": [whole($guest.age), {"$gte": ["$guest.age", {"$literal": ?rule}]}, false]}, "$nights", null]}}}, {"$sort": {"_id": 1}}, {"$limit": ?1}, {"$project": {"_id": 1, "~1": 1}}])"#,
        ],
    );
}

fn check(body: &serde_json::Value, expected: &[&str]) {
    let answer = SERVED.service.post(body).json();
    let statements = answer["extensions"]["statements"].as_array().unwrap_or_else(|| panic!("{answer}"));
    let text = |statement: &serde_json::Value| shortened(statement["text"].as_str().expect("a text").to_owned());
    let found: Vec<String> = statements.iter().map(text).collect();
    assert_eq!(found, expected);
}
