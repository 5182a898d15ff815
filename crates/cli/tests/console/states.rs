//! What pages say where something is missing, forbidden, or not there any more.

use puente_service::{AccessKeys, NewKey};
use puente_testkit::browser::Screen;
use puente_testkit::project::{OWNER_KEY, TestProject};
use rstest::rstest;
use serde_json::json;

use super::driving::{Driven, huts, served};

#[rstest]
#[case::survey("/survey", "sign in with an access key of the role owner")]
#[case::model("/model", "The whole model is the owner")]
#[case::access("/access", "Grants are shown to the owner")]
#[tokio::test(flavor = "multi_thread")]
async fn a_role_s_key_is_told_who_may(#[case] path: &str, #[case] says: &str) {
    let (project, service) = huts().await;
    let access_keys = AccessKeys::open(&project.path().join(".puente/records.db")).unwrap();
    let key = access_keys.create_key(&NewKey { name: "app", role: "hiker", ..NewKey::default() }).unwrap();
    let driven = Driven::open_with(&service, "/", &key, (false, Screen::Wide)).await;
    driven.see("You ask as hiker").await;
    driven.go(path).await;
    driven.see(says).await;
    assert_eq!(driven.issues().await, Vec::<String>::new());
    assert_eq!(driven.browser.console(), Vec::<String>::new(), "nothing is asked that would be refused");
}

#[tokio::test(flavor = "multi_thread")]
async fn production_is_read_only_and_says_why() {
    let (_project, service) = tokio::task::spawn_blocking(|| {
        let project = TestProject::huts();
        let service = project.serve_in_production();
        (project, service)
    })
    .await
    .unwrap();
    let driven = Driven::open(&service, "/survey").await;
    driven.see("it is edited under").await;
    assert!(!driven.has("button", "Survey the source"));
    driven.go("/model?type=Hut").await;
    driven.see("pricePerNight").await;
    assert!(!driven.has("button", "Edit altitude"));
    driven.go("/access?tab=matrix&role=hiker&type=Booking").await;
    driven.see("of puente.toml").await;
    assert!(!driven.has("button", "Change the grant"));
    driven.go("/?step=connect").await;
    driven.see("it is edited under").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_of_an_empty_project_lead_to_the_first_one() {
    let (_project, service) = served(TestProject::nothing).await;
    let driven = Driven::open(&service, "/").await;
    driven.see("begin with a database").await;
    for (path, says) in [
        ("/survey", "There is no source yet"),
        ("/model", "There are no types yet"),
        ("/access", "There is no role yet"),
        ("/ask", "query First"),
    ] {
        driven.go(path).await;
        driven.see(says).await;
        assert_eq!(driven.issues().await, Vec::<String>::new(), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_is_gone_is_told_and_can_be_tried_again() {
    let (project, mut service) = huts().await;
    let driven = Driven::open(&service, "/").await;
    driven.see("every source answers").await;
    // Pages that were not seen yet are loaded once there is nothing else to do.
    driven
        .browser
        .wait_for(
            "the pages",
            "return performance.getEntriesByType('resource').some(e => e.name.includes('AccessPage'))",
        )
        .await;
    tokio::task::spawn_blocking(move || service.stop()).await.unwrap();
    driven.press("link", "Access").await;
    driven.see("cannot be reached").await;
    assert!(driven.has("button", "Try again"));
    drop(project);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_key_is_refused_and_signing_out_forgets_everything() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/model?type=Hut").await;
    driven.press("button", "Edit altitude").await;
    driven.fill("Name of altitude", "height").await;
    driven.press("button", "Add to the changes").await;
    driven.press("button", "Close this sheet").await;
    driven.find("button", "1 change").await;
    driven.press("button", "Sign out").await;
    driven.fill("Access key or token", "no-such-key").await;
    driven.key("Enter", 0);
    driven.see("The last key was refused").await;
    assert_eq!(driven.run("return sessionStorage.length").await, json!(0));
    driven.fill("Access key or token", OWNER_KEY).await;
    driven.key("Enter", 0);
    driven.find("heading", "Model").await;
    assert!(!driven.has("button", "1 change"));
}

/// What was typed outlives a page, and a page can be opened by its address.
#[tokio::test(flavor = "multi_thread")]
async fn gathered_changes_outlive_a_page() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/access?tab=roles").await;
    driven.press("button", "Make a role").await;
    driven.fill("Name", "auditor").await;
    driven.press("button", "Add the role to the changes").await;
    driven.go("/survey").await;
    driven.press("button", "1 change").await;
    driven.see("role auditor is stated").await;
    driven.see("[role.auditor]").await;
    driven.press("button", "Drop: role auditor is stated").await;
    driven.see("Nothing has been changed").await;
}
