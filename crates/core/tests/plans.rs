//! The printed plans of reads and changes under rules, masks and claims: one file each in `plans/`, the question above the line
//! and its plan below. `PUENTE_PLANS=write` writes the plans that are printed now.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use puente_core::access::{self, Claims, View};
use puente_core::catalog::Catalog;
use puente_core::model;
use puente_core::plan::{self, Capabilities, Context, Document, Sealer, Variables};
use puente_core::project::{self, Limits};
use puente_core::schema;
use serde_json::{Map, Value as Json};

/// Between a question and its plan.
const LINE: &str = "----\n";

/// A question: over which sources, as which role and with which claims, the document, its variables.
struct Question {
    over_two: bool,
    role: String,
    claims: Map<String, Json>,
    variables: Map<String, Json>,
    document: String,
}

impl Question {
    /// Its lines: perhaps `over two sources`, `as ROLE {claims}`, perhaps `with {variables}`, then the document.
    fn read(text: &str) -> Self {
        let object = |text: &str| serde_json::from_str::<Map<String, Json>>(text).unwrap_or_default();
        let mut question = Question {
            over_two: false,
            role: String::new(),
            claims: Map::new(),
            variables: Map::new(),
            document: String::new(),
        };
        for line in text.lines() {
            if line == "over two sources" {
                question.over_two = true;
            } else if let Some(rest) = line.strip_prefix("as ") {
                let (role, claims) = rest.split_once(' ').unwrap_or((rest, "{}"));
                (question.role, question.claims) = (role.to_owned(), object(claims));
            } else if let Some(variables) = line.strip_prefix("with ") {
                question.variables = object(variables);
            } else {
                question.document.push_str(line);
                question.document.push('\n');
            }
        }
        question
    }

    /// What is printed of it.
    fn plan(&self) -> String {
        let huts = Catalog::from_text(include_str!("data/huts.json")).unwrap();
        let rescue = Catalog::from_text(include_str!("data/rescue.json")).unwrap();
        let text = include_str!("data/huts.toml");
        let model = |text: &str, catalogs: &[&Catalog]| {
            let project = project::read(text, &|_| None).unwrap();
            (Arc::new(model::build(catalogs, &project).unwrap()), project)
        };
        let (model, project) = match self.over_two {
            false => model(text, &[&huts]),
            true => model(&format!("{text}{}", include_str!("data/rescue.toml")), &[&huts, &rescue]),
        };
        let roles = access::roles(&model, &project).unwrap();
        let view = match self.role.as_str() {
            "owner" => View::owner(Arc::clone(&model)),
            name => roles.into_iter().find(|role| role.view.role() == name).expect("a role of huts.toml").view,
        };
        let schema = Arc::new(schema::build(&view).unwrap());
        let document = Arc::new(
            Document::parse(&schema, &self.document, None)
                .unwrap_or_else(|wrong| panic!("{}{wrong:#?}", self.document)),
        );
        let claims = Claims { members: &self.claims, now: jiff::Timestamp::UNIX_EPOCH };
        let variables = Variables::coerce(&document, self.variables.clone(), view.resolve(&claims)).unwrap();
        let view = view.specialise(&variables.resolved_claims().pattern);
        let (limits, sealer) = (Limits::default(), Sealer::new(b"plans", &self.role));
        let capabilities = &[true, false].map(|nulls_are_smallest| Capabilities {
            nulls_are_smallest,
            most_json_parts: 8,
            most_json_levels: 31,
            joins: true,
        });
        let context = Context { view: &view, limits: &limits, sealer: &sealer, capabilities };
        if document.is_mutation() {
            plan::change::build_mutation(context, &document, &variables).unwrap().to_text()
        } else {
            plan::build(context, &document, &variables).unwrap().to_text()
        }
    }
}

fn files() -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/plans");
    let mut files: Vec<PathBuf> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    files
}

#[test]
fn plans_are_as_printed() {
    let writes = std::env::var("PUENTE_PLANS").is_ok_and(|value| value == "write");
    let files = files();
    assert!(files.len() >= 40, "{} plans", files.len());
    let mut different = Vec::new();
    for file in &files {
        let text = std::fs::read_to_string(file).unwrap();
        let (question, expected) = text.split_once(LINE).unwrap_or((&text, ""));
        let found = Question::read(question).plan();
        if found == expected {
            continue;
        }
        if writes {
            std::fs::write(file, format!("{question}{LINE}{found}")).unwrap();
        } else {
            different.push(format!("{}\nexpected:\n{expected}\nfound:\n{found}", file.display()));
        }
    }
    assert!(different.is_empty(), "{}", different.join("\n"));
}
