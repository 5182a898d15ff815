//! The service: a project folder opened, asks answered, over HTTP and in process.
//!
//! ```text
//! ProjectFolder (puente.toml + survey/NAME.json) ─► Api (model, roles, caches, source)
//! http: guard ─► identity ─► request ─► Api::ask ─► negotiated response
//! ```

mod api;
mod console;
pub mod environment;
mod folder;
mod http;
pub mod logging;
mod metrics;
mod operations;
mod records;

pub use api::{Api, ApiOptions, Ask, AskResult};
pub use folder::{FolderError, ProjectFolder};
pub use http::{Running, ServeError, ServeOptions, serve};
pub use metrics::Metrics;
pub use operations::{SurveyError, SurveyOutcome, accept, check_drift, survey};
pub use records::{AccessKey, Records, RecordsError};
