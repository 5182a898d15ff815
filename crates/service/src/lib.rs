//! The service: a project folder opened, requests answered, over HTTP and in process.
//!
//! ```text
//! ProjectFolder (puente.toml + survey/NAME.json) ─► Api (model, roles, caches, sources)
//! http: guard ─► identity (who asks: Principal) ─► request ─► Api::ask ─► negotiated response
//! ```

mod access_keys;
mod api;
mod console;
mod drift_watch;
pub mod environment;
mod folder;
mod folder_state;
mod http;
mod identity;
mod known_keys;
pub mod logging;
mod metrics;
mod operations;
mod persisted;
mod prepared_plan;
mod principal;
mod process_stats;
mod recent;
mod reload;
mod roles;
mod shares;
mod traces;
mod under_way;
mod workbench;

pub use access_keys::{AccessKey, AccessKeys, NewKey, RecordsError, hash as key_hash, new_key};
pub use api::{Api, ApiOptions, Arrival, Ask, AskResult, Client, Spent};
pub use folder::{FolderError, OpenError, ProjectFolder};
pub use folder_state::{FolderState, Settling};
pub use http::{Bound, LOOK_FOR_DRIFT, Listen, Running, ServeError, ServeOptions, Served, TlsFiles, interface, serve};
pub use identity::{DevelopmentKey, Identity, IdentityError};
pub use metrics::Metrics;
pub use operations::{
    Accepted, Finding, FindingKind, SourceOutcome, SurveyError, SurveyOutcome, Visible, WhoLine, accept, check,
    check_key_set, field_names, find_drift, has_field, survey, survey_afresh, visible_rows, who_can,
};
pub use persisted::Hash;
pub use principal::{AuthMethod, Principal, claims_of};
pub use traces::Traces;
