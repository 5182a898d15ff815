//! The way of a first afternoon: connect, survey, accept a proposal, rename, hide, link, grant with a rule, see through, save.

use puente_testkit::project::TestProject;

use super::driving::{Driven, file, served};

#[tokio::test(flavor = "multi_thread")]
async fn from_an_address_to_a_grant() {
    let (project, service) = served(TestProject::nothing).await;
    let other = tokio::task::spawn_blocking(TestProject::huts).await.unwrap();
    let url = format!("sqlite:{}", other.database().display());
    let driven = Driven::open(&service, "/").await;

    // Connect, and survey.
    driven.fill("Address", "sqlite:nowhere.db").await;
    driven.see("No answer yet").await;
    driven.fill("Address", &url).await;
    driven.see("SQLite answers").await;
    driven.press("button", "Survey it and write it to puente.toml").await;
    driven.see("types and").await;
    driven.press("checkbox", "Occupancy").await;
    driven.press("button", "Serve 14 types").await;
    driven.see("The first rows of Hut").await;
    driven.see("Raven Saddle Hut").await;
    assert_eq!(
        file(&project),
        format!("[source.main]\nurl = \"{url}\"\n\n[[type]]\ntable = \"occupancy\"\nhidden = true\n")
    );

    // Accept a proposal.
    driven.press("link", "Survey").await;
    driven.press("tab", "Proposals").await;
    driven.press("button", "Give it types: the JSON in incidents.report gets types").await;

    // Rename, hide.
    driven.press("link", "Model").await;
    driven.press("button", "List").await;
    driven.press("button", "Hut").await;
    driven.press("button", "Edit pricePerNight").await;
    driven.fill("Name of pricePerNight", "price").await;
    driven.see("can break requests").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Edit photo").await;
    driven.press("switch", "left out of the API").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Close this sheet").await;

    // Link.
    driven.press("button", "IncidentLog").await;
    driven.press("tab", "Links").await;
    driven.press("button", "Link IncidentLog to another type").await;
    driven.choose("IncidentLog refers to", "Hut").await;
    driven.choose("Column of IncidentLog", "hut_code").await;
    driven.choose("Column of Hut", "code").await;
    driven.press("button", "Add the link to the changes").await;
    driven.press("button", "Close this sheet").await;

    // A role, saved with all of it.
    driven.press("link", "Access").await;
    driven.press("tab", "Roles").await;
    driven.press("button", "Make a role").await;
    driven.fill("Name", "guest").await;
    driven.press("button", "Add the role to the changes").await;
    driven.press("button", "5 changes").await;
    driven.press("button", "Save 5 changes to puente.toml").await;
    driven.see("saved to puente.toml").await;
    driven.press("button", "Close this sheet").await;

    // Grant with a rule, and see through the role before it is saved.
    driven.press("tab", "Matrix").await;
    driven.press("button", "guest, Hut: nothing").await;
    driven.press("checkbox", "id").await;
    driven.press("checkbox", "name").await;
    driven.press("checkbox", "price").await;
    let rule = driven.find("textbox", "Rows, a rule in CEL").await;
    driven.browser.devtools("DOM.focus", &serde_json::json!({ "backendNodeId": rule["backendDOMNodeId"] }));
    driven.browser.devtools("Input.insertText", &serde_json::json!({ "text": "row.altitude > claims.height" }));
    driven.fill("Claims to look with", "height=2500").await;
    let high =
        service.data("{ huts(filter: { altitude: { gt: 2500 } }) { totalCount } }")["huts"]["totalCount"].clone();
    driven.see(&format!("Shows {high} of 60 rows")).await;
    driven.press("button", "Grant read").await;
    driven.press("button", "Close this sheet").await;
    driven.press("tab", "Seeing through a role").await;
    driven.choose("Type", "Hut").await;
    driven.see(&format!("guest sees {high} of 60 rows")).await;
    let withheld = driven.run("return document.querySelectorAll('tr.withheld').length").await;
    assert!(withheld.as_u64().is_some_and(|rows| rows > 0 && rows < 60), "{withheld}");

    // Save.
    driven.press("button", "1 change").await;
    driven.press("button", "Save 1 change to puente.toml").await;
    driven.see("saved to puente.toml").await;
    let expected = format!(
        "[source.main]\nurl = \"{url}\"\n\n\
         [[type]]\ntable = \"occupancy\"\nhidden = true\n\n\
         [[type]]\ntable = \"incidents\"\n[type.fields.report]\nshape = true\n\n\
         [[type]]\ntable = \"huts\"\n[type.fields]\nprice_per_night = {{ name = \"price\" }}\nphoto = {{ hidden = true }}\n\n\
         [[link]]\ntable = \"incident_log\"\ncolumns = [\"hut_code\"]\nto = \"huts\"\nreferences = [\"code\"]\n\n\
         [role.guest]\n\
         [role.guest.Hut.read]\nfields = [\"id\", \"name\", \"price\"]\nrows = \"row.altitude > claims.height\"\n"
    );
    assert_eq!(file(&project), expected);
    assert_eq!(driven.browser.console(), Vec::<String>::new());
}
