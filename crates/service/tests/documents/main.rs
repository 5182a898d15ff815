//! Collections of documents: what a survey finds in them, what is read of them and written to them, and how they are linked with
//! tables.

mod commands;
mod links;
mod surveys;
mod writing;

use bson::{Bson, Document};
use puente_core::catalog::Engine;
use puente_testkit::database::Database;
use puente_testkit::project::{TestProject, TestService};
use serde_json::{Value as Json, json};

/// A database of documents, by collection.
fn filled(collections: &[(&str, Vec<Document>)]) -> Database {
    let database = Database::empty(Engine::Mongodb);
    for (name, documents) in collections {
        database.insert(name, documents.clone());
    }
    database
}

struct Served {
    database: Database,
    _project: TestProject,
    service: TestService,
}

fn served(collections: &[(&str, Vec<Document>)], edits: &str) -> Served {
    let database = filled(collections);
    let project = TestProject::of(&database, "", edits);
    Served { service: project.serve(), database, _project: project }
}

impl Served {
    /// The same database, served once more with other lines in the project file.
    fn again(self, edits: &str) -> Served {
        let project = TestProject::of(&self.database, "", edits);
        Served { service: project.serve(), database: self.database, _project: project }
    }

    /// Asks as a role with claims.
    fn ask_as(&self, role: &str, claims: &Json, document: &str) -> Json {
        let extensions = json!({ "as": { "role": role, "claims": claims } });
        self.service.post(&json!({ "query": document, "extensions": extensions })).json()
    }

    /// The document of a collection with an `_id`, as it is stored.
    fn stored(&self, collection: &str, id: impl Into<Bson>) -> Document {
        let id = id.into();
        let all = self.database.documents(collection);
        all.into_iter().find(|document| document.get("_id") == Some(&id)).expect("the document is there")
    }
}

fn code(answer: &Json) -> &str {
    answer["errors"][0]["extensions"]["code"].as_str().unwrap_or_default()
}
