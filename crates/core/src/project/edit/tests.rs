//! Every kind of edit, on a file full of comments: byte for byte what somebody would have written by hand.

use rstest::rstest;
use serde_json::json;

use super::{Edit, apply};

/// A file as people write them: comments everywhere, in every style that the docs show.
const FILE: &str = include_str!("commented.toml");

fn edit(json: serde_json::Value) -> Edit {
    serde_json::from_value(json).expect("an edit")
}

/// The lines that an edit takes out and puts in, as a difference of two files says them.
fn changed(before: &str, after: &str) -> String {
    let (before, after): (Vec<&str>, Vec<&str>) = (before.lines().collect(), after.lines().collect());
    let same = before.iter().zip(&after).take_while(|(before, after)| before == after).count();
    let rest = before.len().min(after.len()) - same;
    let ends = before.iter().rev().zip(after.iter().rev()).take(rest).take_while(|(b, a)| b == a).count();
    let out = before[same..before.len() - ends].iter().map(|line| format!("-{line}\n"));
    let new = after[same..after.len() - ends].iter().map(|line| format!("+{line}\n"));
    let above = same.checked_sub(1).map(|at| format!(" {}\n", before[at]));
    above.into_iter().chain(out).chain(new).collect()
}

#[rstest]
#[case::a_type_is_called_otherwise(
    json!({ "kind": "setType", "table": "huts", "setting": { "property": "name", "value": "Refuge" } }),
    " description = \"A place to sleep.\" # shown to everybody\n+name = \"Refuge\"\n"
)]
#[case::a_description_changes_and_its_comment_stays(
    json!({ "kind": "setType", "table": "huts", "setting": { "property": "description", "value": "Where one sleeps." } }),
    " table = \"huts\"\n-description = \"A place to sleep.\" # shown to everybody\n+description = \"Where one sleeps.\" # shown to everybody\n"
)]
#[case::a_table_that_nothing_is_said_of_is_hidden(
    json!({ "kind": "setType", "table": "schema_migrations", "setting": { "property": "hidden", "value": true } }),
    " \n+[[type]]\n+table = \"schema_migrations\"\n+hidden = true\n+\n"
)]
#[case::a_table_is_shown_again(
    json!({ "kind": "setType", "table": "drafts", "setting": { "property": "hidden", "value": false } }),
    " \n-[[type]]\n-table = \"drafts\"\n-hidden = true\n-\n"
)]
#[case::a_key_is_written(
    json!({ "kind": "setType", "table": "huts", "setting": { "property": "key", "value": ["region", "season"] } }),
    " description = \"A place to sleep.\" # shown to everybody\n+key = [\"region\", \"season\"]\n"
)]
#[case::a_field_in_a_line_of_its_own(
    json!({ "kind": "setField", "table": "huts", "column": "beds", "setting": { "property": "name", "value": "places" } }),
    " altitude = { description = \"Metres above the sea.\" } # from the survey of 1998\n+beds = { name = \"places\" }\n"
)]
#[case::a_field_that_says_something_already(
    json!({ "kind": "setField", "table": "huts", "column": "altitude", "setting": { "property": "name", "value": "height" } }),
    " [type.fields]\n-altitude = { description = \"Metres above the sea.\" } # from the survey of 1998\n+altitude = { description = \"Metres above the sea.\", name = \"height\" } # from the survey of 1998\n"
)]
#[case::a_field_of_a_table_that_nothing_is_said_of(
    json!({ "kind": "setField", "table": "hikers", "column": "phone", "setting": { "property": "hidden", "value": true } }),
    " \n+[[type]]\n+table = \"hikers\"\n+[type.fields]\n+phone = { hidden = true }\n+\n"
)]
#[case::lines_above_sections(
    json!({ "kind": "setField", "table": "incidents", "column": "code", "setting": { "property": "hidden", "value": true } }),
    " table = \"incidents\"\n+[type.fields]\n+code = { hidden = true }\n"
)]
#[case::types_for_json(
    json!({ "kind": "setField", "table": "huts", "column": "facilities", "setting": { "property": "shape", "value": true } }),
    " altitude = { description = \"Metres above the sea.\" } # from the survey of 1998\n+[type.fields.facilities]\n+shape = true\n"
)]
#[case::a_member_of_json(
    json!({ "kind": "setField", "table": "incidents", "column": "report", "member": "weather/snow", "setting": { "property": "name", "value": "snowCm" } }),
    " shape = true\n+[type.fields.report.members.\"weather/snow\"]\n+name = \"snowCm\"\n"
)]
#[case::the_last_word_on_a_field(
    json!({ "kind": "setField", "table": "huts", "column": "altitude", "setting": { "property": "description", "value": null } }),
    " description = \"A place to sleep.\" # shown to everybody\n-[type.fields]\n-altitude = { description = \"Metres above the sea.\" } # from the survey of 1998\n"
)]
#[case::a_link(
    json!({ "kind": "addLink", "link": { "table": "occupancy", "columns": ["hut_id"], "to": "huts", "references": ["id"] } }),
    " \n+[[link]]\n+table = \"occupancy\"\n+columns = [\"hut_id\"]\n+to = \"huts\"\n+references = [\"id\"]\n+\n"
)]
#[case::a_link_with_a_name_back(
    json!({ "kind": "changeLink",
        "before": { "table": "incident_log", "columns": ["hut_code"], "to": "huts", "references": ["code"], "name": "hut" },
        "link": { "table": "incident_log", "columns": ["hut_code"], "to": "huts", "references": ["code"], "name": "at", "back": "logEntries" } }),
    " references = [\"code\"]\n-name = \"hut\" # IncidentLog.hut\n+name = \"at\" # IncidentLog.hut\n+back = \"logEntries\"\n"
)]
#[case::a_link_less(
    json!({ "kind": "removeLink", "link": { "table": "incident_log", "columns": ["hut_code"], "to": "huts", "references": ["code"] } }),
    " \n-# No foreign key says so.\n-[[link]]\n-table = \"incident_log\"\n-columns = [\"hut_code\"]\n-to = \"huts\"\n-references = [\"code\"]\n-name = \"hut\" # IncidentLog.hut\n-\n"
)]
#[case::a_role(
    json!({ "kind": "setRole", "role": "auditor", "description": "Counts beds.", "include": ["visitor"] }),
    " # The end of the file.\n+\n+[role.auditor]\n+description = \"Counts beds.\"\n+include = [\"visitor\"]\n"
)]
#[case::a_role_less(
    json!({ "kind": "removeRole", "role": "hiker" }),
    " masks = { price = \"false\" }\n-\n-[role.hiker]\n-include = [\"visitor\"]\n-# Their own, and nobody else's.\n-[role.hiker.Booking.read]\n-fields = \"all\"\n-rows = \"row.hikerId == claims.sub\" # the rule\n-[role.hiker.Booking.create]\n-fields = [\n-  \"hut\", # which one\n-  \"nights\",\n-]\n-fixed = { hikerId = \"claims.sub\" }\n"
)]
#[case::a_grant_beside_others_of_the_type(
    json!({ "kind": "setGrant", "role": "hiker", "of": "Booking", "action": "delete", "grant": { "rows": "row.hikerId == claims.sub" } }),
    " # The end of the file.\n+\n+[role.hiker.Booking.delete]\n+rows = \"row.hikerId == claims.sub\"\n"
)]
#[case::a_grant_of_another_type(
    json!({ "kind": "setGrant", "role": "visitor", "of": "Trail", "action": "read", "grant": { "fields": ["id", "name"], "rows": "row.grade in ['T1', 'T2']", "maxPage": 20, "count": false } }),
    " masks = { price = \"false\" }\n+[role.visitor.Trail.read]\n+fields = [\"id\", \"name\"]\n+rows = \"row.grade in ['T1', 'T2']\"\n+max_page = 20\n+count = false\n"
)]
#[case::fields_of_a_grant(
    json!({ "kind": "setGrant", "role": "visitor", "of": "Hut", "action": "read", "grant": { "fields": ["id", "name", "beds"], "masks": [{ "field": "price", "rule": "false" }] } }),
    " [role.visitor.Hut.read]\n-fields = [\"id\", \"name\", \"price\"] # what stands in the brochure\n+fields = [\"id\", \"name\", \"beds\"] # what stands in the brochure\n"
)]
#[case::fields_of_a_grant_in_several_lines(
    json!({ "kind": "setGrant", "role": "hiker", "of": "Booking", "action": "create", "grant": { "fields": ["hut", "nights", "note"], "fixed": [{ "field": "hikerId", "rule": "claims.sub" }], "check": "row.nights < 15" } }),
    "   \"nights\",\n-]\n-fixed = { hikerId = \"claims.sub\" }\n+  \"note\",\n+]\n+fixed = { hikerId = \"claims.sub\" }\n+check = \"row.nights < 15\"\n"
)]
#[case::all_fields_become_some(
    json!({ "kind": "setGrant", "role": "hiker", "of": "Booking", "action": "read", "grant": { "fields": ["id"], "rows": "row.hikerId == claims.sub" } }),
    " [role.hiker.Booking.read]\n-fields = \"all\"\n+fields = [\"id\"]\n"
)]
#[case::a_grant_less(
    json!({ "kind": "removeGrant", "role": "hiker", "of": "Booking", "action": "read" }),
    " include = [\"visitor\"]\n-# Their own, and nobody else's.\n-[role.hiker.Booking.read]\n-fields = \"all\"\n-rows = \"row.hikerId == claims.sub\" # the rule\n"
)]
#[case::another_source(
    json!({ "kind": "addSource", "name": "log", "url": "postgres://app:${LOG_PASSWORD}@db/log" }),
    " \n+[source.log]\n+url = \"postgres://app:${LOG_PASSWORD}@db/log\"\n+\n"
)]
fn an_edit_is_what_a_person_would_have_written(#[case] json: serde_json::Value, #[case] expected: &str) {
    let after = apply(FILE, &edit(json)).expect("it can be made");
    let changed = changed(FILE, &after);
    assert_eq!(changed, expected, "{changed}");
    after.parse::<toml_edit::DocumentMut>().expect("TOML");
}

/// What is set to what it is already changes nothing, and what is set and taken out again leaves the file as it was.
#[rstest]
#[case(
    json!({ "kind": "setType", "table": "huts", "setting": { "property": "version", "value": "row_version" } }),
    json!({ "kind": "setType", "table": "huts", "setting": { "property": "version", "value": null } })
)]
#[case(
    json!({ "kind": "setField", "table": "huts", "column": "beds", "setting": { "property": "hidden", "value": true } }),
    json!({ "kind": "setField", "table": "huts", "column": "beds", "setting": { "property": "hidden", "value": false } })
)]
#[case(
    json!({ "kind": "setField", "table": "hikers", "column": "phone", "setting": { "property": "hidden", "value": true } }),
    json!({ "kind": "setField", "table": "hikers", "column": "phone", "setting": { "property": "hidden", "value": false } })
)]
#[case(
    json!({ "kind": "addLink", "link": { "table": "occupancy", "columns": ["hut_id"], "to": "huts", "references": ["id"] } }),
    json!({ "kind": "removeLink", "link": { "table": "occupancy", "columns": ["hut_id"], "to": "huts", "references": ["id"] } })
)]
#[case(
    json!({ "kind": "setGrant", "role": "visitor", "of": "Trail", "action": "read", "grant": { "fields": ["id"] } }),
    json!({ "kind": "removeGrant", "role": "visitor", "of": "Trail", "action": "read" })
)]
fn what_is_taken_back_leaves_no_trace(#[case] one: serde_json::Value, #[case] back: serde_json::Value) {
    // A link that is there is no second time added.
    let is_addition = one["kind"] == "addLink";
    let once = apply(FILE, &edit(one.clone())).expect("it can be made");
    assert_ne!(once, FILE);
    assert!(apply(&once, &edit(one)).is_ok_and(|twice| twice == once) || is_addition, "{once}");
    assert_eq!(apply(&once, &edit(back)).expect("it can be taken back"), FILE);
}

#[test]
fn what_is_not_there_any_more_is_told() {
    let gone = edit(
        json!({ "kind": "removeLink", "link": { "table": "a", "columns": ["b"], "to": "c", "references": ["d"] } }),
    );
    assert!(apply(FILE, &gone).unwrap_err().0.contains("no `[[link]]` from `a` to `c`"));
    let gone = edit(json!({ "kind": "setGrant", "role": "ghost", "of": "Hut", "action": "read", "grant": {} }));
    assert!(apply(FILE, &gone).unwrap_err().0.contains("no role `ghost`"));
    assert!(apply("[source", &gone).unwrap_err().0.contains("not TOML"));
}
