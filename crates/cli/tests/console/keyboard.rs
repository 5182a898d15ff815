//! The keyboard alone: everything is reached, focus is seen, and comes back from where it went.

use super::ask::{run_by_keyboard, write};
use super::driving::{Driven, huts};

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_takes_the_focus_and_gives_it_back() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/access").await;
    let cell = "hiker, Booking: read";
    let node = driven.find("button", cell).await;
    let focus = serde_json::json!({ "backendNodeId": node["backendDOMNodeId"] });
    driven.browser.devtools("DOM.focus", &focus);
    driven.key("Enter", 0);
    driven.find("dialog", "hiker and Booking").await;
    driven.see("Which rows, as a rule in CEL").await;
    for _ in 0..4 {
        driven.key("Tab", 0);
    }
    let inside = driven.run("return document.activeElement.closest('[role=dialog]') !== null").await;
    assert_eq!(inside, true, "focus stays in the sheet: {:?}", driven.focused().await);
    driven.key("Escape", 0);
    driven.see_no_more("Which rows, as a rule in CEL").await;
    let (role, name) = driven.focused().await;
    assert!(role == "button" && name.starts_with(cell), "{role} {name}");
}

#[tokio::test(flavor = "multi_thread")]
async fn arrows_go_through_matrix_diagram_and_table() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/access").await;
    let node = driven.find("button", "visitor, Badge").await;
    let focus = |node: &serde_json::Value| serde_json::json!({ "backendNodeId": node["backendDOMNodeId"] });
    driven.browser.devtools("DOM.focus", &focus(&node));
    driven.key("ArrowDown", 0);
    driven.key("ArrowRight", 0);
    assert!(driven.focused().await.1.starts_with("hiker, Booking: read"), "{:?}", driven.focused().await);

    driven.go("/model").await;
    let node = driven.find("application", "Types and links").await;
    driven.browser.devtools("DOM.focus", &focus(&node));
    driven.key("ArrowRight", 0);
    driven.key("ArrowRight", 0);
    driven.key("Enter", 0);
    let sheet = driven.find("dialog", "").await;
    let name = sheet["name"]["value"].as_str().unwrap_or_default().to_owned();
    assert!(driven.run("return new URLSearchParams(location.search).get('type')").await == name.as_str(), "{name}");
    driven.key("Escape", 0);

    driven.go("/ask").await;
    driven.see("Raven Saddle Hut").await;
    driven.run("return document.querySelector('td').focus()").await;
    driven.key("ArrowDown", 0);
    driven.key("ArrowRight", 0);
    driven.key("ArrowRight", 0);
    let (role, name) = driven.focused().await;
    assert_eq!((role.as_str(), name.as_str()), ("gridcell", "Cloud Saddle Hut"));
    driven.key("Enter", 0);
    driven.find("dialog", "A row of huts").await;
    driven.key("Escape", 0);
}

/// A key held down, or a quick hand: each key counts from where the one before led, drawn or not.
#[tokio::test(flavor = "multi_thread")]
async fn keys_that_follow_at_once_are_not_lost() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/ask").await;
    driven.see("Raven Saddle Hut").await;
    driven.at_once("td", &["ArrowDown", "ArrowRight", "ArrowRight", "ArrowLeft", "ArrowRight"]).await;
    assert_eq!(driven.focused().await, ("gridcell".to_owned(), "Cloud Saddle Hut".to_owned()));

    driven.go("/access").await;
    driven.see("visitor").await;
    driven.at_once("[data-at='0-0']", &["ArrowDown", "ArrowRight"]).await;
    assert!(driven.focused().await.1.starts_with("hiker, Booking: read"), "{:?}", driven.focused().await);

    driven.go("/ask").await;
    driven.see("Raven Saddle Hut").await;
    write(&driven.browser, "Document", "{ weatherReadings(first: 300) { nodes { id takenAt } } }").await;
    run_by_keyboard(&driven.browser).await;
    driven.see("takenAt").await;
    driven.at_once("td", &["PageDown", "PageDown", "PageDown", "End", "ArrowDown"]).await;
    let there = "return document.activeElement?.dataset.at === '46-1'";
    driven.browser.wait_for("the cell", there).await;
}

/// From the first control of a page to its last with Tab alone, each visibly focused.
#[tokio::test(flavor = "multi_thread")]
async fn tab_reaches_every_control_and_shows_where_it_is() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/").await;
    for (path, says) in [
        ("/", "every source answers"),
        ("/survey?tab=tables", "badges"),
        ("/model", "Find a type"),
        ("/access?tab=who", "Who can see or change a field?"),
        ("/ask", "Raven Saddle Hut"),
    ] {
        driven.go(path).await;
        driven.see(says).await;
        driven.run("return document.activeElement?.blur()").await;
        let wanted = driven
            .run(
                "window.reached = new Set(); return [...document.querySelectorAll('a[href], button, input, select, textarea, \
                 [role=tab][aria-selected=true], [contenteditable=true]')].filter(e => e.checkVisibility() && !e.disabled \
                 && e.tabIndex >= 0 && e.closest('[aria-hidden=true]') === null).length",
            )
            .await;
        let mut unseen = Vec::new();
        for _ in 0..wanted.as_u64().unwrap_or_default() + 10 {
            driven.key("Tab", 0);
            let seen = driven
                .run(
                    "const e = document.activeElement; if (e === document.body) return true; window.reached.add(e); \
                     const of = [e, e.parentElement, e.querySelector('.box, .track'), e.parentElement?.querySelector('.box, .track'), \
                     e.closest('[data-focus-visible]'), e.closest('.cm-editor')].filter(Boolean); \
                     return of.some(s => getComputedStyle(s).outlineStyle !== 'none' && parseFloat(getComputedStyle(s).outlineWidth) >= 1) \
                     || e.outerHTML.slice(0, 120)",
                )
                .await;
            if seen != true {
                unseen.push(seen.to_string());
            }
        }
        assert!(unseen.is_empty(), "{path}: focus is not seen on {unseen:#?}");
        let missed = driven
            .run(
                "return [...document.querySelectorAll('a[href], button, input, [role=tab][aria-selected=true], [contenteditable=true]')]\
                 .filter(e => e.checkVisibility() && !e.disabled && e.tabIndex >= 0 && e.closest('[aria-hidden=true]') === null \
                 && !window.reached.has(e)).map(e => e.outerHTML.slice(0, 120))",
            )
            .await;
        assert_eq!(missed, serde_json::json!([]), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_few_letters_go_anywhere() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/").await;
    driven.see("every source answers").await;
    driven.key("k", 2);
    driven.find("dialog", "Go to").await;
    driven.browser.devtools("Input.insertText", &serde_json::json!({ "text": "altitude" }));
    driven.find("option", "Hut.altitude").await;
    driven.key("ArrowDown", 0);
    driven.key("Enter", 0);
    driven.find("dialog", "Hut").await;
    driven.see("Metres above the sea.").await;
}
