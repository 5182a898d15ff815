//! One file per command.

pub(crate) mod ask;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod init;
pub(crate) mod key;
pub(crate) mod schema;
pub(crate) mod serve;
pub(crate) mod survey;

use std::path::Path;
use std::sync::Arc;

use puente_service::{Api, ApiOptions, Metrics, ProjectFolder};

use crate::exit::Failure;

/// The API of a project folder, ready to be asked.
fn open_api(folder: &ProjectFolder, secret: Vec<u8>) -> Result<Arc<Api>, Failure> {
    let model = folder.model()?;
    let options = ApiOptions { model, limits: folder.project.limits, secret, source: folder.source()? };
    Ok(Arc::new(Api::new(options, Arc::new(Metrics::default()))))
}

fn open(path: &Path) -> Result<ProjectFolder, Failure> {
    ProjectFolder::open(path).map_err(Failure::from)
}

/// Runs something asynchronous to its end.
fn block_on<T>(future: impl Future<Output = T>) -> Result<T, Failure> {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().worker_threads(2).build();
    runtime.map(|runtime| runtime.block_on(future)).map_err(|error| Failure::wrong(format!("no threads: {error}")))
}
