//! The Ask page: a request is written, run and read; as whomever.

use fantoccini::Locator;
use fantoccini::key::Key;
use puente_service::{AccessKeys, NewKey};
use puente_testkit::browser::{Browser, Screen};
use puente_testkit::project::OWNER_KEY;
use serde_json::json;

use super::driving::{Driven, huts};

const DOCUMENT: &str = "\
query HighestHuts {
  huts(first: 5, orderBy: [{ altitude: DESC }]) {
    totalCount
    nodes {
      name
      altitude
      region { name }
      bookings(first: 2) {
        nodes { startsOn hiker { name } }
      }
    }
  }
}";

/// Replaces the text of an editor, by keyboard.
pub(crate) async fn write(browser: &Browser, label: &str, text: &str) {
    let editor = browser.client.find(Locator::Css(&format!(".cm-content[aria-label={label}]"))).await.unwrap();
    editor.click().await.unwrap();
    editor.send_keys(&format!("{}a{}", char::from(Key::Control), char::from(Key::Null))).await.unwrap();
    // As one insertion: typed letter by letter the editor would close brackets by itself.
    let script = "document.execCommand('insertText', false, arguments[0])";
    browser.client.execute(script, vec![text.into()]).await.unwrap();
}

/// Runs what is written.
pub(crate) async fn run_by_keyboard(browser: &Browser) {
    let editor = browser.client.find(Locator::Css(".cm-content[aria-label=Document]")).await.unwrap();
    let keys = format!("{}{}{}", char::from(Key::Control), char::from(Key::Enter), char::from(Key::Null));
    editor.send_keys(&keys).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn it_opens_with_a_query_for_this_model_and_its_answer() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("query First").await;
    driven.see("Raven Saddle Hut").await;
    driven.press("button", "Next page of huts").await;
    driven.see("Amber Saddle Hut").await;
    driven.see_no_more("Raven Saddle Hut").await;
    driven.see("huts(first: 10, after: ").await;
    driven.go("/ask?type=Trail").await;
    driven.see("trails(first: 10)").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_ask_is_written_run_and_read() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("Raven Saddle Hut").await;
    let browser = &driven.browser;
    write(browser, "Document", DOCUMENT).await;
    run_by_keyboard(browser).await;
    driven.see("region.name").await;
    let rows = browser
        .wait_for("rows", "return document.querySelectorAll('section[aria-label=huts] tbody tr').length === 5")
        .await;
    assert_eq!(rows, true);
    driven.press("button", "2 rows").await;
    driven.see("hiker.name").await;
    driven.press("tab", "JSON").await;
    driven.see("\"totalCount\": 60").await;
    driven.press("tab", "Statements").await;
    driven.see("executed 5×").await;
}

/// Numbers and times are not broken, JSON is one value, null and nothing are told apart.
#[tokio::test(flavor = "multi_thread")]
async fn values_are_shown_as_what_they_are() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("Raven Saddle Hut").await;
    let document = "{ huts(first: 12) { nodes { name altitude facilities opens warden { name } } } }";
    write(&driven.browser, "Document", document).await;
    run_by_keyboard(&driven.browser).await;
    driven.see("warden.name").await;
    let heads =
        driven.run("return [...document.querySelectorAll('thead th span:first-child')].map(e => e.innerText)").await;
    assert_eq!(heads, json!(["name", "altitude", "facilities", "opens", "warden.name"]), "JSON is one column");
    let broken = driven
        .run("return [...document.querySelectorAll('td.right > div')].filter(e => e.clientHeight > 24).length")
        .await;
    assert_eq!(broken, 0);
    driven.press("button", "members }").await;
    driven.see("null").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_owner_asks_as_anybody() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("Raven Saddle Hut").await;
    driven.press("button", "choose who you look as").await;
    driven.press("button", "hiker").await;
    driven.fill("Claims", "sub=7").await;
    driven.key("Escape", 0);
    driven.see("You ask as hiker").await;
    write(&driven.browser, "Document", "{ bookings(first: 1) { totalCount nodes { hiker { name } } } }").await;
    run_by_keyboard(&driven.browser).await;
    driven.see("Mira Prader").await;
    let address = driven.browser.client.current_url().await.unwrap();
    assert!(address.query().is_some_and(|query| query.contains("as=hiker") && !query.contains("sub")), "{address}");
    driven.press("button", "choose who you look as").await;
    driven.choose("Compare with", "warden").await;
    driven.see("They differ in").await;
}

/// A mutation is rehearsed unless somebody says otherwise.
#[tokio::test(flavor = "multi_thread")]
async fn mutations_are_rehearsed_first() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("Raven Saddle Hut").await;
    let document = "mutation { updateHut(key: { id: 1 }, set: { name: \"Other\" }) { count node { name } } }";
    write(&driven.browser, "Document", document).await;
    driven.press("button", "Rehearse").await;
    driven.see("nothing has changed").await;
    let name = || service.data("{ hut(key: { id: 1 }) { name } }")["hut"]["name"].clone();
    assert_eq!(name(), "Raven Saddle Hut");
    driven.press("switch", "rehearse: roll back in the end").await;
    driven.press("button", "Run the mutation").await;
    driven.see_no_more("nothing has changed").await;
    driven.see("Other").await;
    assert_eq!(name(), "Other");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_editor_completes_and_marks_what_the_schema_does_not_have() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("Raven Saddle Hut").await;
    let browser = &driven.browser;
    write(browser, "Document", "{ huts { nodes { nam } } }").await;
    browser.wait_for("the mark of the mistake", "return document.querySelector('.cm-lintRange-error') !== null").await;
    write(browser, "Document", "{ weather").await;
    let editor = browser.client.find(Locator::Css(".cm-content[aria-label=Document]")).await.unwrap();
    editor.send_keys(&format!("{} {}", char::from(Key::Control), char::from(Key::Null))).await.unwrap();
    browser
        .wait_for("the completion", "return [...document.querySelectorAll('.cm-completionLabel')].some(e => e.textContent === 'weatherReadings')")
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_failure_is_told() {
    let (_project, mut service) = huts().await;
    let driven = Driven::open_with(&service, "/ask", OWNER_KEY, (true, Screen::Wide)).await;
    driven.see("Raven Saddle Hut").await;
    write(&driven.browser, "Document", "{ huts { nodes { nam } } }").await;
    driven.press("button", "Run").await;
    driven.see("DOCUMENT_INVALID").await;
    driven.see("did you mean").await;
    write(&driven.browser, "Variables", "{ not json").await;
    driven.press("button", "Run").await;
    driven.see("Variables are no JSON").await;
    write(&driven.browser, "Variables", "{}").await;
    tokio::task::spawn_blocking(move || service.stop()).await.unwrap();
    driven.press("button", "Run").await;
    driven.see("cannot be reached").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_of_a_role_asks_as_that_role_and_is_shown_no_statements() {
    let (project, service) = huts().await;
    let access_keys = AccessKeys::open(&project.path().join(".puente/records.db")).unwrap();
    let claims = json!({ "sub": "7" }).as_object().cloned().unwrap();
    let key = access_keys.create_key(&NewKey { name: "app", role: "hiker", claims, ..NewKey::default() }).unwrap();
    let driven = Driven::open_with(&service, "/ask", &key, (false, Screen::Wide)).await;
    driven.see("hiker, the role of this key").await;
    driven.browser.wait_for("a first answer", "return document.querySelector('td') !== null").await;
    write(&driven.browser, "Document", "{ bookings(first: 1) { totalCount nodes { hiker { name } } } }").await;
    run_by_keyboard(&driven.browser).await;
    driven.see("Mira Prader").await;
    assert!(!driven.has("tab", "Statements"));
}

/// The documentation is searched and followed.
#[tokio::test(flavor = "multi_thread")]
async fn the_schema_is_read_beside_the_ask() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.find("searchbox", "Find a type or field").await;
    let search =
        driven.browser.client.find(Locator::Css("section[aria-label='Schema documentation'] input")).await.unwrap();
    search.send_keys("nightsStay").await.unwrap();
    driven.see("Nothing is called like that").await;
    search.send_keys(&char::from(Key::Escape).to_string()).await.unwrap();
    search.send_keys("altitude").await.unwrap();
    driven.press("button", "Hut.altitude").await;
    driven.see("Metres above the sea.").await;
}
