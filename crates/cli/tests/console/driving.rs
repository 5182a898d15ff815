//! Driving the console: finding by role and name in the accessibility tree, pressing with the pointer, typing with the keyboard.

use std::path::Path;
use std::time::{Duration, Instant};

use puente_testkit::browser::{Browser, Screen};
use puente_testkit::project::{OWNER_KEY, TestProject, TestService};
use serde_json::{Value as Json, json};

/// A console that is driven.
pub(crate) struct Driven {
    pub(crate) browser: Browser,
    address: String,
}

/// How long something may take to appear.
const PATIENCE: Duration = Duration::from_secs(20);

impl Driven {
    /// Opens the console as the owner.
    pub(crate) async fn open(service: &TestService, path: &str) -> Driven {
        Driven::open_with(service, path, OWNER_KEY, (false, Screen::Wide)).await
    }

    /// The same with a key, in dark colours or light ones, on a screen.
    pub(crate) async fn open_with(
        service: &TestService,
        path: &str,
        key: &str,
        (dark, screen): (bool, Screen),
    ) -> Driven {
        let browser = Browser::start_with(dark, screen).await;
        let driven = Driven { browser, address: service.address.to_string() };
        driven.go(&format!("{path}#key={key}")).await;
        driven.find("banner", "").await;
        driven
    }

    /// Goes to a page by its address.
    pub(crate) async fn go(&self, path: &str) {
        self.browser.client.goto(&format!("http://{}{path}", self.address)).await.expect("a page");
    }

    /// What a script gives.
    pub(crate) async fn run(&self, script: &str) -> Json {
        self.browser.client.execute(script, Vec::new()).await.expect("a script")
    }

    /// Waits until the page says something.
    pub(crate) async fn see(&self, text: &str) {
        let script = format!("return document.body.innerText.includes({})", json!(text));
        self.browser.wait_for(&format!("“{text}”"), &script).await;
    }

    /// Waits until the page says something no more.
    pub(crate) async fn see_no_more(&self, text: &str) {
        let script = format!("return !document.body.innerText.includes({})", json!(text));
        self.browser.wait_for(&format!("the end of “{text}”"), &script).await;
    }

    /// All of one role whose names contain a text, those whose name it is first.
    fn all(&self, role: &str, name: &str) -> Vec<Json> {
        let document = self.browser.devtools("DOM.getDocument", &json!({ "depth": 0 }));
        let query = json!({ "nodeId": document["root"]["nodeId"], "role": role });
        let found = self.browser.devtools("Accessibility.queryAXTree", &query);
        let nodes = found["nodes"].as_array().cloned().unwrap_or_default();
        let called = |node: &Json| node["name"]["value"].as_str().unwrap_or_default().to_owned();
        let mut nodes: Vec<Json> =
            nodes.into_iter().filter(|node| node["ignored"] != true && called(node).contains(name)).collect();
        nodes.sort_by_key(|node| called(node) != name);
        nodes
    }

    /// Is there something of a role and name?
    pub(crate) fn has(&self, role: &str, name: &str) -> bool {
        !self.all(role, name).is_empty()
    }

    /// Waits for something of a role and name.
    pub(crate) async fn find(&self, role: &str, name: &str) -> Json {
        let deadline = Instant::now() + PATIENCE;
        loop {
            if let Some(node) = self.all(role, name).into_iter().next() {
                return node;
            }
            if Instant::now() > deadline {
                let page = self.run("return document.body.innerText").await;
                panic!("no {role} called “{name}”; the page says: {page}");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Calls a function with an element as its `this`.
    fn call(&self, node: &Json, function: &str) -> Json {
        let resolved = self.browser.devtools("DOM.resolveNode", &json!({ "backendNodeId": node["backendDOMNodeId"] }));
        let call = json!({
            "objectId": resolved["object"]["objectId"], "functionDeclaration": function, "returnByValue": true,
        });
        self.browser.devtools("Runtime.callFunctionOn", &call)["result"]["value"].clone()
    }

    /// Presses something with the pointer, where it is.
    /// Something that is disabled is waited for.
    pub(crate) async fn press(&self, role: &str, name: &str) {
        let deadline = Instant::now() + PATIENCE;
        let mut node = self.find(role, name).await;
        while is_disabled(&node) {
            assert!(Instant::now() < deadline, "the {role} “{name}” stays disabled");
            tokio::time::sleep(Duration::from_millis(50)).await;
            node = self.find(role, name).await;
        }
        let place = |node: &Json| {
            self.call(
                node,
                "function() { const e = this.nodeType === 1 ? this : this.parentElement; e.scrollIntoView({ block: 'center' }); \
                 const r = e.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; }",
            )
        };
        // What slides in is pressed once it stands.
        let mut at = place(&node);
        loop {
            tokio::time::sleep(Duration::from_millis(40)).await;
            let again = place(&node);
            if again == at {
                break;
            }
            at = again;
        }
        let number = |index: usize| at[index].as_f64().expect("a number");
        self.drag((number(0), number(1)), (number(0), number(1)));
    }

    /// Something that the pointer does, with its left button down or not.
    pub(crate) fn pointer(&self, kind: &str, (x, y): (f64, f64), down: u32) {
        let button = if kind == "mouseMoved" && down == 0 { "none" } else { "left" };
        let event = json!({ "type": kind, "x": x, "y": y, "button": button, "buttons": down, "clickCount": 1 });
        self.browser.devtools("Input.dispatchMouseEvent", &event);
    }

    /// Presses at one place and lets go at another.
    pub(crate) fn drag(&self, from: (f64, f64), to: (f64, f64)) {
        self.pointer("mouseMoved", from, 0);
        self.pointer("mousePressed", from, 1);
        if from != to {
            for step in 1..=8 {
                let part = f64::from(step) / 8.0;
                self.pointer("mouseMoved", (from.0 + (to.0 - from.0) * part, from.1 + (to.1 - from.1) * part), 1);
            }
        }
        self.pointer("mouseReleased", to, 0);
    }

    /// Writes into a field, in the place of what is there.
    pub(crate) async fn fill(&self, label: &str, text: &str) {
        self.write_into("textbox", label, text).await;
    }

    /// The same of a field to search with.
    pub(crate) async fn fill_search(&self, label: &str, text: &str) {
        self.write_into("searchbox", label, text).await;
    }

    async fn write_into(&self, role: &str, label: &str, text: &str) {
        let node = self.find(role, label).await;
        self.browser.devtools("DOM.focus", &json!({ "backendNodeId": node["backendDOMNodeId"] }));
        self.key("a", 2);
        self.browser.devtools("Input.insertText", &json!({ "text": text }));
        if text.is_empty() {
            self.key("Delete", 0);
        }
    }

    /// Chooses an option of a list of choices.
    pub(crate) async fn choose(&self, label: &str, option: &str) {
        self.press("button", label).await;
        self.press("option", option).await;
        self.run("return document.activeElement?.blur()").await;
    }

    /// A key with modifiers: 1 is alt, 2 control, 8 shift.
    pub(crate) fn key(&self, key: &str, modifiers: u32) {
        let (code, number, text) = match key {
            "Enter" => ("Enter", 13, "\r"),
            "Escape" => ("Escape", 27, ""),
            "Tab" => ("Tab", 9, ""),
            "Delete" => ("Delete", 46, ""),
            "ArrowDown" => ("ArrowDown", 40, ""),
            "ArrowUp" => ("ArrowUp", 38, ""),
            "ArrowLeft" => ("ArrowLeft", 37, ""),
            "ArrowRight" => ("ArrowRight", 39, ""),
            " " => ("Space", 32, " "),
            "a" => ("KeyA", 65, "a"),
            "k" => ("KeyK", 75, "k"),
            other => panic!("no key {other}"),
        };
        let text = if modifiers & 2 == 2 { "" } else { text };
        for kind in ["keyDown", "keyUp"] {
            let commands = if key == "a" && modifiers == 2 { json!(["selectAll"]) } else { json!([]) };
            let mut event = json!({
                "type": kind, "key": key, "code": code, "windowsVirtualKeyCode": number, "modifiers": modifiers,
                "commands": commands,
            });
            if kind == "keyDown" && !text.is_empty() {
                event["text"] = json!(text);
            }
            self.browser.devtools("Input.dispatchKeyEvent", &event);
        }
    }

    /// Keys that follow each other before anything is drawn, from an element on.
    pub(crate) async fn at_once(&self, element: &str, keys: &[&str]) {
        let script = format!(
            "document.querySelector({element}).focus(); for (const key of {keys}) {{ document.activeElement.dispatchEvent(new \
             KeyboardEvent('keydown', {{ key, bubbles: true, cancelable: true }})); await null; }}",
            element = json!(element),
            keys = json!(keys),
        );
        let asked = json!({ "expression": format!("(async () => {{ {script} }})()"), "awaitPromise": true });
        let done = self.browser.devtools("Runtime.evaluate", &asked);
        assert!(done.get("exceptionDetails").is_none(), "{done}");
    }

    /// The role and the name of what has the focus.
    pub(crate) async fn focused(&self) -> (String, String) {
        let tree = self.browser.devtools("Accessibility.getFullAXTree", &json!({}));
        let nodes = tree["nodes"].as_array().cloned().unwrap_or_default();
        let is_focused = |node: &&Json| {
            let properties = node["properties"].as_array().cloned().unwrap_or_default();
            node["role"]["value"] != "RootWebArea"
                && properties.iter().any(|property| property["name"] == "focused" && property["value"]["value"] == true)
        };
        let text = |value: &Json| value.as_str().unwrap_or_default().to_owned();
        let found = nodes.iter().rev().find(is_focused);
        found.map_or_else(Default::default, |node| (text(&node["role"]["value"]), text(&node["name"]["value"])))
    }

    /// What axe finds on the page that is serious, or worse.
    pub(crate) async fn issues(&self) -> Vec<String> {
        let axe = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/node_modules/axe-core/axe.min.js");
        let source = std::fs::read_to_string(&axe).expect("`make test` installs the console's packages");
        self.browser.devtools("Runtime.evaluate", &json!({ "expression": source }));
        // What slides in is looked at once it stands.
        let run = "Promise.allSettled(document.getAnimations().map(each => each.finished)).then(() => axe.run(document, { resultTypes: ['violations'] })).then(found => found.violations\
                   .filter(issue => ['serious', 'critical'].includes(issue.impact))\
                   .map(issue => issue.id + ': ' + issue.nodes.slice(0, 4).map(node => node.html.slice(0, 160) + ' '\
                   + node.any.map(check => check.message).join(' ')).join(' | ')))";
        let evaluated = self
            .browser
            .devtools("Runtime.evaluate", &json!({ "expression": run, "awaitPromise": true, "returnByValue": true }));
        let issues = evaluated["result"]["value"].as_array().cloned().expect("axe has run");
        issues.iter().map(|issue| issue.as_str().unwrap_or_default().to_owned()).collect()
    }
}

/// Is it disabled, as the accessibility tree has it?
pub(crate) fn is_disabled(node: &Json) -> bool {
    let properties = node["properties"].as_array().cloned().unwrap_or_default();
    properties.iter().any(|property| property["name"] == "disabled" && property["value"]["value"] == true)
}

/// The demo's huts, served for development.
pub(crate) async fn huts() -> (TestProject, TestService) {
    served(TestProject::huts).await
}

/// A project, served for development.
pub(crate) async fn served(make: fn() -> TestProject) -> (TestProject, TestService) {
    tokio::task::spawn_blocking(move || {
        let project = make();
        let service = project.serve();
        (project, service)
    })
    .await
    .expect("it starts")
}

/// The project file of a project.
pub(crate) fn file(project: &TestProject) -> String {
    std::fs::read_to_string(project.path().join("puente.toml")).expect("a project file")
}
