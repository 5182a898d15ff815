//! The diagram of the model: dragged, drawn in, and as large as models are.

use puente_testkit::project::TestProject;
use serde_json::json;

use super::driving::{Driven, huts, served};

/// Where a type stands on the screen: its middle, and its right edge.
async fn place(driven: &Driven, name: &str) -> ((f64, f64), (f64, f64)) {
    let script = format!(
        "const r = document.querySelector('[data-type={name}] rect')?.getBoundingClientRect(); \
         return r ? [r.x + r.width / 2, r.y + r.height / 2, r.right] : null"
    );
    let at = driven.browser.wait_for(name, &script).await;
    let number = |index: usize| at[index].as_f64().expect("a number");
    ((number(0), number(1)), (number(2), number(1)))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_line_from_one_type_to_another_is_a_link() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/model").await;
    driven.see("15 types and 40 links").await;
    let (middle, edge) = place(&driven, "Occupancy").await;
    let (hut, _) = place(&driven, "Hut").await;
    // The mark at its edge is there while the pointer is.
    driven.pointer("mouseMoved", middle, 0);
    driven.drag(edge, hut);
    driven.find("dialog", "A link from Occupancy to Hut").await;
    driven.key("Escape", 0);
    driven.see_no_more("A link from Occupancy to Hut").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_type_that_is_moved_stays_where_it_was_put() {
    let (_project, service) = huts().await;
    let driven = Driven::open(&service, "/model").await;
    driven.see("15 types and 40 links").await;
    let (before, _) = place(&driven, "Badge").await;
    driven.drag(before, (before.0 + 40.0, before.1 + 90.0));
    let (moved, _) = place(&driven, "Badge").await;
    assert!((moved.1 - before.1 - 90.0).abs() < 3.0, "{before:?} {moved:?}");
    driven.go("/model").await;
    driven.see("15 types and 40 links").await;
    let (again, _) = place(&driven, "Badge").await;
    assert!((again.1 - moved.1).abs() < 3.0, "{again:?} {moved:?}");
    driven.press("button", "Put every type back in its place").await;
    let (back, _) = place(&driven, "Badge").await;
    assert!((back.1 - before.1).abs() < 3.0, "{back:?} {before:?}");
    // A press without a move opens it.
    driven.drag(back, back);
    driven.find("dialog", "Badge").await;
}

/// Of many types those in sight are drawn, and rows likewise.
#[tokio::test(flavor = "multi_thread")]
async fn of_many_types_those_in_sight_are_drawn() {
    let (_project, service) = served(|| {
        let tables = (0..400).map(|at| {
            let link = if at == 0 { String::new() } else { format!(", up integer references t{}(id)", at / 3) };
            format!("create table t{at} (id integer primary key, name text{link});")
        });
        TestProject::of_sql(&tables.collect::<String>(), "")
    })
    .await;
    let driven = Driven::open(&service, "/model").await;
    driven.see("400 types and 798 links").await;
    let drawn = "return document.querySelectorAll('[data-type]').length";
    driven.browser.wait_for("all of them", &format!("{drawn} === 400")).await;
    for _ in 0..10 {
        driven.press("button", "Zoom in").await;
    }
    driven
        .browser
        .wait_for(
            "few of them",
            "const n = document.querySelectorAll('[data-type]').length; return n < 120 && n > 0 && n",
        )
        .await;
    driven.fill_search("Find a type or table", "t399").await;
    driven.go("/model?view=list").await;
    driven.see("T12").await;
    let rows = driven.run("return document.querySelectorAll('tbody tr').length").await;
    assert!(rows.as_u64().is_some_and(|rows| rows < 100), "{rows}");
    assert_eq!(driven.run("return document.querySelector('table').getAttribute('aria-rowcount')").await, json!("400"));
}
