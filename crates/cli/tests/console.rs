//! The console in headless Chromium, against a running service with the demo's data.
//!
//! With `PUENTE_SCREENSHOTS=DIR` the pages that are seen on the way are kept as pictures.

use fantoccini::Locator;
use fantoccini::key::Key;
use puente_service::{AccessKeys, NewKey};
use puente_testkit::browser::Browser;
use puente_testkit::project::{OWNER_KEY, TestProject, TestService};
use serde_json::json;

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

/// Opens the Ask page as the owner and waits until editor and schema are there.
async fn open(browser: &Browser, service: &TestService) {
    open_with(browser, service, OWNER_KEY).await;
}

/// The same with another access key.
async fn open_with(browser: &Browser, service: &TestService, key: &str) {
    browser.client.goto(&format!("http://{}/#key={key}", service.address)).await.unwrap();
    browser.wait_for("the editor", "return document.querySelector('.cm-content[aria-label=Document]') !== null").await;
    browser.wait_for("the schema", "return document.body.innerText.includes('Find a type or field')").await;
}

/// Replaces the text of an editor, by keyboard.
async fn write(browser: &Browser, label: &str, text: &str) {
    let editor = browser.client.find(Locator::Css(&format!(".cm-content[aria-label={label}]"))).await.unwrap();
    editor.click().await.unwrap();
    editor.send_keys(&format!("{}a{}", char::from(Key::Control), char::from(Key::Null))).await.unwrap();
    // As one insertion: typed letter by letter the editor would close brackets by itself.
    let script = "document.execCommand('insertText', false, arguments[0])";
    browser.client.execute(script, vec![text.into()]).await.unwrap();
}

async fn run_by_keyboard(browser: &Browser) {
    let editor = browser.client.find(Locator::Css(".cm-content[aria-label=Document]")).await.unwrap();
    let keys = format!("{}{}{}", char::from(Key::Control), char::from(Key::Enter), char::from(Key::Null));
    editor.send_keys(&keys).await.unwrap();
}

async fn press(browser: &Browser, text: &str) {
    let button = format!("//*[self::button or @role='tab'][contains(normalize-space(.), '{text}')]");
    browser.client.find(Locator::XPath(&button)).await.unwrap().click().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_ask_is_written_run_and_read() {
    let (_project, service) = started().await;
    let browser = Browser::start(false).await;
    open(&browser, &service).await;
    write(&browser, "Document", DOCUMENT).await;
    run_by_keyboard(&browser).await;
    browser.wait_for("the answer's table", "return document.body.innerText.includes('region.name')").await;
    let rows =
        browser.wait_for("rows", "return document.querySelectorAll('section[aria-label=huts] tbody tr').length").await;
    assert_eq!(rows, 5);
    press(&browser, "2 rows").await;
    browser.wait_for("the nested rows", "return document.body.innerText.includes('hiker.name')").await;
    browser.picture("ask.png").await;
    press(&browser, "JSON").await;
    browser
        .wait_for("the JSON", "return document.querySelector('pre')?.innerText.includes('\"totalCount\": 60')")
        .await;
    press(&browser, "Statements").await;
    browser.wait_for("the statements", "return document.body.innerText.includes('executed 5×')").await;
    browser.picture("ask-statements.png").await;
    let address = browser.client.current_url().await.unwrap();
    assert!(address.fragment().is_none(), "the key does not stay in the address");
    assert_no_violations(&browser).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_editor_completes_and_marks_what_the_schema_does_not_have() {
    let (_project, service) = started().await;
    let browser = Browser::start(false).await;
    open(&browser, &service).await;
    write(&browser, "Document", "{ huts { nodes { nam } } }").await;
    browser.wait_for("the mark of the mistake", "return document.querySelector('.cm-lintRange-error') !== null").await;
    write(&browser, "Document", "{ weather").await;
    let editor = browser.client.find(Locator::Css(".cm-content[aria-label=Document]")).await.unwrap();
    editor.send_keys(&format!("{} {}", char::from(Key::Control), char::from(Key::Null))).await.unwrap();
    browser
        .wait_for("the completion", "return [...document.querySelectorAll('.cm-completionLabel')].some(e => e.textContent === 'weatherReadings')")
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_failure_is_told() {
    let (_project, mut service) = started().await;
    let browser = Browser::start(true).await;
    open(&browser, &service).await;
    write(&browser, "Document", "{ huts { nodes { nam } } }").await;
    press(&browser, "Run").await;
    browser.wait_for("the service's error", "return document.body.innerText.includes('DOCUMENT_INVALID') && document.body.innerText.includes('did you mean')").await;
    browser.picture("ask-error-dark.png").await;
    write(&browser, "Variables", "{ not json").await;
    press(&browser, "Run").await;
    browser.wait_for("the variables' error", "return document.body.innerText.includes('Variables are no JSON')").await;
    write(&browser, "Variables", "{}").await;
    tokio::task::spawn_blocking(move || service.stop()).await.unwrap();
    press(&browser, "Run").await;
    browser.wait_for("the unreachable service", "return document.body.innerText.includes('cannot be reached')").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_of_a_role_asks_as_that_role_and_is_shown_no_statements() {
    let (project, service) = started().await;
    let access_keys = AccessKeys::open(&project.path().join(".puente/records.db")).unwrap();
    let claims = json!({ "sub": "7" }).as_object().cloned().unwrap();
    let key = access_keys.create_key(&NewKey { name: "app", role: "hiker", claims, lifetime: None }).unwrap();
    let browser = Browser::start(false).await;
    open_with(&browser, &service, &key).await;
    write(&browser, "Document", "{ bookings(first: 1) { totalCount nodes { hiker { name } } } }").await;
    run_by_keyboard(&browser).await;
    browser.wait_for("one's own bookings", "return document.body.innerText.includes('Mira Prader')").await;
    browser.picture("ask-as-role.png").await;
    let text = browser.client.execute("return document.body.innerText", Vec::new()).await.unwrap();
    let text = text.as_str().unwrap_or_default();
    assert!(text.contains("as the role of this key") && !text.contains("Statements"), "{text}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_key_is_refused_and_the_right_one_opens() {
    let (_project, service) = started().await;
    let browser = Browser::start(false).await;
    browser.client.goto(&format!("http://{}/", service.address)).await.unwrap();
    browser.wait_for("the form", "return document.querySelector('input[type=password]') !== null").await;
    for (key, expected) in [("wrong", "The last key was refused"), (OWNER_KEY, "Find a type or field")] {
        let field = browser.client.find(Locator::Css("input[type=password]")).await.unwrap();
        field.send_keys(&format!("{key}{}", char::from(Key::Enter))).await.unwrap();
        browser.wait_for(expected, &format!("return document.body.innerText.includes('{expected}')")).await;
    }
}

/// The documentation is searched and followed with the keyboard alone.
#[tokio::test(flavor = "multi_thread")]
async fn the_schema_is_read_beside_the_ask() {
    let (_project, service) = started().await;
    let browser = Browser::start(false).await;
    open(&browser, &service).await;
    let search = browser.client.find(Locator::Css("section[aria-label='Schema documentation'] input")).await.unwrap();
    search.send_keys("nightsStay").await.unwrap();
    browser.wait_for("no result", "return document.body.innerText.includes('Nothing is called like that')").await;
    search.send_keys(&char::from(Key::Escape).to_string()).await.unwrap();
    search.send_keys("altitude").await.unwrap();
    browser.wait_for("the found field", "return document.body.innerText.includes('Hut.altitude')").await;
    press(&browser, "Hut.altitude").await;
    browser.wait_for("the type's page", "return document.body.innerText.includes('Metres above the sea.')").await;
}

async fn started() -> (TestProject, TestService) {
    tokio::task::spawn_blocking(|| {
        let project = TestProject::huts();
        let service = project.serve();
        (project, service)
    })
    .await
    .unwrap()
}

/// The page broke none of its own rules: no style, script or connection was blocked.
async fn assert_no_violations(browser: &Browser) {
    let styled = "return getComputedStyle(document.querySelector('main')).display";
    assert_eq!(browser.client.execute(styled, Vec::new()).await.unwrap(), "grid", "styles are let in");
    let gutter = "return getComputedStyle(document.querySelector('.cm-content')).fontFamily.includes('monospace')";
    assert_eq!(browser.client.execute(gutter, Vec::new()).await.unwrap(), true, "the editor's styles too");
}
