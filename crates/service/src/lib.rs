//! The service: a project folder opened, asks answered, over HTTP and in process.
//!
//! ```text
//! ProjectFolder (puente.toml + survey/NAME.json) ─► Api (model, roles, caches, source)
//! http: guard ─► identity (who asks: Asker) ─► request ─► Api::ask ─► negotiated response
//! ```

mod access;
mod api;
mod asker;
mod console;
pub mod environment;
mod folder;
mod http;
mod identity;
mod known_keys;
pub mod logging;
mod metrics;
mod operations;
mod records;
mod reload;
mod roles;
mod shares;

pub use access::{Visible, visible_rows};
pub use api::{Api, ApiOptions, Arrival, Ask, AskResult};
pub use asker::{Asker, By, claims_of};
pub use folder::{FolderError, OpenError, ProjectFolder};
pub use http::{Running, ServeError, ServeOptions, Served, serve};
pub use identity::{DevelopmentKey, Identity, IdentityError};
pub use metrics::Metrics;
pub use operations::{Accepted, SurveyError, SurveyOutcome, accept, check_drift, survey};
pub use records::{AccessKey, NewKey, Records, RecordsError};
pub use reload::reload;
