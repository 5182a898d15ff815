//! One file per command.

pub(crate) mod access;
pub(crate) mod ask;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod init;
pub(crate) mod key;
pub(crate) mod manual;
pub(crate) mod schema;
pub(crate) mod serve;
pub(crate) mod survey;
pub(crate) mod token;

use std::path::Path;
use std::sync::Arc;

use puente_core::access::OWNER;
use puente_core::suggest::did_you_mean;
use puente_service::{Api, Metrics, ProjectFolder};

use crate::exit::Failure;

/// The API of a project folder, ready to be asked.
fn open_api(folder: &ProjectFolder, secret: Vec<u8>) -> Result<Arc<Api>, Failure> {
    let options = folder.api_options(secret, &|_| None)?;
    Ok(Arc::new(Api::new(options, Arc::new(Metrics::default()))))
}

fn open(path: &Path) -> Result<ProjectFolder, Failure> {
    ProjectFolder::open(path).map_err(Failure::from)
}

/// The same for what needs no secret, such as a build.
fn open_without_secrets(path: &Path) -> Result<ProjectFolder, Failure> {
    ProjectFolder::open_without_secrets(path).map_err(Failure::from)
}

/// Is there such a role?
fn check_role(folder: &ProjectFolder, role: &str) -> Result<(), Failure> {
    let known: Vec<&str> = folder.project.roles.keys().map(String::as_str).chain([OWNER]).collect();
    if known.contains(&role) {
        return Ok(());
    }
    let hint = did_you_mean(role, known.iter().copied());
    Err(Failure::wrong(format!("`{role}` is not a role of this project{hint}; roles are {}", known.join(", "))))
}

/// Runs something asynchronous to its end.
fn block_on<T>(future: impl Future<Output = T>) -> Result<T, Failure> {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().worker_threads(2).build();
    runtime.map(|runtime| runtime.block_on(future)).map_err(|error| Failure::wrong(format!("no threads: {error}")))
}
