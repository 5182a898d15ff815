//! Asks of a role against a source through the service's own `Api`, with its caches, but without HTTP: what is judged is what
//! callers get, plans that were made for others among it.

use std::sync::Arc;

use jiff::Timestamp;
use puente_core::access::{self, Claims, Role, View};
use puente_core::error::Problem;
use puente_core::model::Model;
use puente_core::plan::Sealer;
use puente_core::project::{self, Limits};
use puente_run::{Outcome, Source};
use puente_service::{Api, ApiOptions, Ask, Metrics, Principal};
use serde_json::{Map, Value as Json};

const SECRET: &[u8] = b"the tests' secret, thirty-two bytes.";

/// Asks as one role.
#[derive(Debug)]
pub struct Asker {
    /// What seals the role's cursors.
    pub sealer: Sealer,
    role: Role,
    api: Api,
    metrics: Arc<Metrics>,
    runtime: tokio::runtime::Runtime,
}

impl Asker {
    /// An asker on sources, as the first role of a project file.
    ///
    /// # Panics
    /// Where the file does not fit the model.
    pub fn of_grants(sources: Vec<Source>, model: &Arc<Model>, grants: &str) -> Self {
        let text = format!("[source.test]\nurl = \"sqlite:test.db\"\n{grants}");
        let project = project::read(&text, &|_| None).unwrap_or_else(|wrong| panic!("{wrong:#?}\n{text}"));
        let roles = access::roles(model, &project).unwrap_or_else(|wrong| panic!("{wrong:#?}\n{text}"));
        let role = roles.into_iter().next().unwrap_or_else(|| panic!("no role in\n{text}"));
        // Nested random pages multiply: here it is the answers that are judged, not their cost.
        let limits = Limits { cost: u64::MAX, ..Limits::default() };
        let role = Role { limits, ..role };
        let metrics = Arc::new(Metrics::default());
        let options = ApiOptions {
            model: Arc::clone(model),
            roles: vec![role.clone()],
            limits,
            secret: SECRET.to_vec(),
            sources,
            persisted: false,
            traces: None,
        };
        Asker {
            sealer: Sealer::new(SECRET, role.view.role()),
            api: Api::new(options, Arc::clone(&metrics)),
            role,
            metrics,
            runtime: tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime"),
        }
    }

    /// What the role sees with these claims.
    pub fn view(&self, claims: &Map<String, Json>) -> View {
        let claims = self.role.view.resolve(&Claims { members: claims, now: Timestamp::now() });
        self.role.view.specialise(&claims.pattern)
    }

    /// How many requests were answered with a plan that was made before.
    pub fn plans_reused(&self) -> u64 {
        self.metrics.plans_reused.get()
    }

    /// Answers a document, or runs a mutation, or rehearses it.
    ///
    /// # Errors
    /// What is wrong with it, or with the source.
    pub fn ask(
        &self,
        text: &str,
        variables: &Map<String, Json>,
        claims: &Map<String, Json>,
        rehearse: bool,
    ) -> Result<Outcome, Vec<Problem>> {
        let ask = Ask {
            document: text.to_owned(),
            variables: variables.clone(),
            statements: true,
            rehearse,
            ..Ask::default()
        };
        let asker = Principal::at_command_line(self.role.view.role(), claims.clone());
        self.runtime.block_on(self.api.answer(ask, &asker))
    }
}
