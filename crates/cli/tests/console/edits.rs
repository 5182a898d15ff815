//! Every kind of edit that a page makes: what is saved is what somebody would have written by hand, and undone without a trace.

use super::driving::{Driven, file, huts, is_disabled};

/// The lines of the file that are new, and those that are gone.
fn changed(before: &str, after: &str) -> (Vec<String>, Vec<String>) {
    let lines = |text: &str, other: &str| -> Vec<String> {
        let mut others: Vec<&str> = other.lines().collect();
        let new = text.lines().filter(|line| match others.iter().position(|known| known == line) {
            Some(at) => {
                others.remove(at);
                false
            }
            None => true,
        });
        new.map(str::to_owned).collect()
    };
    (lines(after, before), lines(before, after))
}

async fn save(driven: &Driven, changes: &str) {
    driven.press("button", changes).await;
    driven.press("button", &format!("Save {changes} to puente.toml")).await;
    driven.see("saved to puente.toml").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_type_is_renamed_and_its_grants_follow() {
    let (project, service) = huts().await;
    let before = file(&project);
    let driven = Driven::open(&service, "/model?type=Supply&tab=about").await;
    driven.fill("Type", "Provision").await;
    driven.see("can break requests").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Close this sheet").await;
    driven.press("button", "1 change").await;
    driven.see("fields = ").await;
    driven.browser.picture("console-changes.png").await;
    driven.press("button", "Close this sheet").await;
    save(&driven, "1 change").await;
    let (new, gone) = changed(&before, &file(&project));
    let expected = [
        "[[type]]",
        "table = \"supplies\"",
        "name = \"Provision\"",
        "[role.warden.Provision.read]",
        "[role.warden.Provision.update]",
    ];
    assert!(expected.iter().all(|line| new.iter().any(|known| known == line)), "{new:#?}");
    assert!(
        !file(&project).contains("Supply")
            && gone.iter().all(|line| line.contains("Supply") || line.contains("supplies")),
        "{gone:#?}"
    );
    driven.press("button", "Take the last save back").await;
    driven.see("The last save was taken back.").await;
    assert_eq!(file(&project), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn several_edits_are_gathered_and_saved_as_one() {
    let (project, service) = huts().await;
    let before = file(&project);
    let driven = Driven::open(&service, "/model?type=Hut").await;
    driven.press("button", "Edit beds").await;
    driven.fill("Description", "Places to sleep.").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Edit photo").await;
    driven.press("switch", "left out of the API").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Edit facilities").await;
    driven.press("switch", "types for its JSON").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Close this sheet").await;
    save(&driven, "3 changes").await;
    let (new, gone) = changed(&before, &file(&project));
    assert_eq!(gone, Vec::<String>::new());
    let expected = [
        "beds = { description = \"Places to sleep.\" }",
        "photo = { hidden = true }",
        "[type.fields.facilities]",
        "shape = true",
    ];
    assert_eq!(new, expected);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_is_drawn_named_and_taken_out_again() {
    let (project, service) = huts().await;
    let before = file(&project);
    let driven = Driven::open(&service, "/model?link=Occupancy>Hut").await;
    driven.choose("Column of Occupancy", "hut_id").await;
    driven.fill("Name of the way back on Hut", "nightsTaken").await;
    driven.see("Hut.nightsTaken").await;
    driven.press("button", "Add the link to the changes").await;
    save(&driven, "1 change").await;
    let (new, _) = changed(&before, &file(&project));
    let expected = [
        "",
        "[[link]]",
        "table = \"occupancy\"",
        "columns = [\"hut_id\"]",
        "to = \"huts\"",
        "references = [\"id\"]",
        "back = \"nightsTaken\"",
    ];
    assert_eq!(new.iter().filter(|line| !line.is_empty()).count(), expected.len() - 1, "{new:#?}");
    assert!(expected.iter().all(|line| line.is_empty() || new.iter().any(|known| known == line)), "{new:#?}");
    driven.go("/model?type=Occupancy&tab=links").await;
    driven.press("button", "Take out the link").await;
    driven.press("button", "Close this sheet").await;
    save(&driven, "1 change").await;
    assert_eq!(file(&project), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_grant_gets_a_rule_that_is_completed_checked_and_counted() {
    let (project, service) = huts().await;
    let driven = Driven::open(&service, "/access?tab=matrix&role=coordinator&type=Supply").await;
    driven.see("Not granted").await;
    driven.press("checkbox", "item").await;
    driven.press("checkbox", "quantity").await;
    let rule = driven.find("textbox", "Rows, a rule in CEL").await;
    driven.browser.devtools("DOM.focus", &serde_json::json!({ "backendNodeId": rule["backendDOMNodeId"] }));
    driven.browser.devtools("Input.insertText", &serde_json::json!({ "text": "row.quan" }));
    driven.press("option", "quantity").await;
    driven.browser.devtools("Input.insertText", &serde_json::json!({ "text": " < 'ten'" }));
    driven.see("expects a value of type `Int`").await;
    driven.browser.devtools("DOM.focus", &serde_json::json!({ "backendNodeId": rule["backendDOMNodeId"] }));
    driven.key("a", 2);
    driven.browser.devtools("Input.insertText", &serde_json::json!({ "text": "row.quantity < 10" }));
    driven.see("rows for these claims").await;
    let few =
        service.data("{ supplies(filter: { quantity: { lt: 10 } }) { totalCount } }")["supplies"]["totalCount"].clone();
    driven.see(&format!("Shows {few} of")).await;
    driven.press("button", "Grant read").await;
    driven.press("button", "Close this sheet").await;
    save(&driven, "1 change").await;
    let text = file(&project);
    let expected = "[role.coordinator.Supply.read]\nfields = [\"item\", \"quantity\"]\nrows = \"row.quantity < 10\"\n";
    assert!(text.ends_with(expected), "{text}");
}

/// Somebody else wrote the file: both versions are shown, and nothing is lost.
#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_changed_meanwhile_is_shown_beside_one_s_own() {
    let (project, service) = huts().await;
    let driven = Driven::open(&service, "/access?tab=roles").await;
    driven.press("button", "Change visitor").await;
    driven.fill("What it is for", "Everybody.").await;
    driven.press("button", "Change visitor").await;
    driven.press("button", "1 change").await;
    driven.see("description = \"Everybody.\"").await;
    let theirs = file(&project).replace("Looks after the whole network.", "Looks after everything.");
    std::fs::write(project.path().join("puente.toml"), &theirs).unwrap();
    driven.press("button", "Save 1 change to puente.toml").await;
    driven.see("the file is another one meanwhile").await;
    driven.see("Looks after everything.").await;
    assert_eq!(file(&project), theirs);
    driven.press("button", "Make my changes in the file as it is now").await;
    driven.see_no_more("the file is another one meanwhile").await;
    driven.press("button", "Save 1 change to puente.toml").await;
    driven.see("saved to puente.toml").await;
    let text = file(&project);
    assert!(text.contains("Looks after everything.") && text.contains("description = \"Everybody.\""), "{text}");
}

/// What could not be served is told with its place, and cannot be saved.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_is_told_before_it_could_be_saved() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/model?type=Hut&tab=about").await;
    driven.fill("Type", "Hiker").await;
    driven.see("Hiker").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Close this sheet").await;
    driven.press("button", "1 change").await;
    driven.see("The project could not be served so").await;
    driven.see("line ").await;
    let disabled = driven.find("button", "Save 1 change to puente.toml").await;
    assert!(is_disabled(&disabled), "{disabled}");
}
