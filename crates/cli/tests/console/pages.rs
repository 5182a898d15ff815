//! Every page, in light and dark, wide and narrow: nothing that axe calls serious, nothing written to the console, nothing beside the
//! screen.

use puente_testkit::browser::Screen;
use puente_testkit::project::{OWNER_KEY, TestProject};
use rstest::rstest;

use super::driving::{Driven, served};

/// The pages of which a picture is kept where `PUENTE_SCREENSHOTS` names a folder: with which colours, how wide, under which name.
const PICTURES: &[(&str, bool, Screen, &str)] = &[
    ("/", false, Screen::Wide, "console-start.png"),
    ("/survey?tab=tables&source=huts&table=incidents", false, Screen::Wide, "console-survey.png"),
    ("/model", false, Screen::Wide, "console-model.png"),
    ("/model?type=Incident", true, Screen::Wide, "console-type.png"),
    ("/access", false, Screen::Wide, "console-access.png"),
    ("/access?tab=through&role=coordinator&type=Incident", true, Screen::Wide, "console-through.png"),
    ("/ask", false, Screen::Wide, "ask.png"),
    ("/access", false, Screen::Narrow, "console-narrow.png"),
];

/// The pages, each with what it says once it is there.
const PAGES: &[(&str, &str)] = &[
    ("/", "every source answers"),
    ("/?step=connect", "Which database?"),
    ("/?step=types", "were found"),
    ("/survey?tab=tables&source=huts&table=incidents", "object, 200 samples"),
    ("/survey?tab=proposals", "known after a survey"),
    ("/model", "18 types and 50 links"),
    ("/model?focus=Hut", "two steps"),
    ("/model?view=list", "WeatherReading"),
    ("/model?view=list&as=hiker", "hiker sees"),
    ("/model?type=Incident", "weather/snow"),
    ("/model?type=Hut&tab=links", "by a foreign key"),
    ("/model?type=Hut&tab=about", "Field that finds one"),
    ("/model?type=Hut&tab=schema", "type Hut {"),
    ("/model?type=Hut&tab=rows", "Raven Saddle Hut"),
    ("/model?link=Occupancy>Hut", "Name of the link on Occupancy"),
    ("/model?changes=open", "Nothing has been changed"),
    ("/access", "coordinator"),
    ("/access?tab=matrix&role=hiker&type=Booking", "of 20 000 rows for these claims"),
    ("/access?tab=matrix&role=hiker&type=Booking&action=create", "Set whatever the caller says"),
    ("/access?tab=roles", "Runs one or more huts."),
    ("/access?tab=through&role=warden&type=Hut", "of 60 rows"),
    ("/access?tab=through&role=coordinator&type=Incident", "rows with these claims"),
    ("/access?tab=who&type=Hiker&field=phone", "may read"),
    ("/access?tab=with&role=hiker&with=warden", "They differ in"),
    ("/ask", "Raven Saddle Hut"),
];

#[rstest]
#[case::light(false, Screen::Wide)]
#[case::dark(true, Screen::Wide)]
#[case::light_and_narrow(false, Screen::Narrow)]
#[case::dark_and_narrow(true, Screen::Narrow)]
#[tokio::test(flavor = "multi_thread")]
async fn every_page_is_there_for_everybody(#[case] dark: bool, #[case] screen: Screen) {
    let (_project, service) = served(TestProject::demo).await;
    let driven = Driven::open_with(&service, "/", OWNER_KEY, (dark, screen)).await;
    driven.run("sessionStorage.setItem('puente.claims', JSON.stringify({ hiker: 'sub=7', warden: 'sub=14' }))").await;
    let mut found = Vec::new();
    for (path, says) in PAGES {
        driven.go(path).await;
        driven.see(says).await;
        let told = |what: String| format!("{path}: {what}");
        found.extend(driven.issues().await.into_iter().map(told));
        found.extend(driven.browser.console().into_iter().map(told));
        let beside = driven.run("return document.documentElement.scrollWidth - innerWidth").await;
        if beside.as_i64().unwrap_or_default() > 0 {
            found.push(told(format!("{beside} px beside the screen")));
        }
        let is_it = |of: &&(&str, bool, Screen, &str)| of.0 == *path && of.1 == dark && of.2 == screen;
        if let Some((.., name)) = PICTURES.iter().find(is_it) {
            driven.browser.picture(name).await;
        }
        let key = driven.run("return location.href.includes('key')").await;
        assert_eq!(key, false, "the key is in no address");
    }
    assert!(found.is_empty(), "{found:#?}");
}

/// The page is let in by its own policy, styles too; and nothing comes from elsewhere.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_comes_from_elsewhere() {
    let (_project, service) = served(TestProject::huts).await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("Raven Saddle Hut").await;
    let styled =
        driven.run("return getComputedStyle(document.querySelector('.cm-content')).fontFamily.includes('mono')");
    assert_eq!(styled.await, true, "styles are let in, the editor's too");
    let elsewhere = driven
        .run("return performance.getEntriesByType('resource').map(e => e.name).filter(n => !n.startsWith(location.origin))")
        .await;
    assert_eq!(elsewhere, serde_json::json!([]));
}
