//! Reading the project again while it is served. What is broken changes nothing: the running model stays in force.

use std::sync::Arc;

use puente_core::project::{self, SourceSettings};
use puente_run::Source;

use crate::api::{Api, ApiOptions};
use crate::folder::{OpenError, ProjectFolder};
use crate::http::{Served, Shared};

/// Reloads a project and puts it in the place of what is served: types, grants, rules, limits and identities. A source
/// is opened again only where its settings changed. Hosts and origins need a new start.
///
/// Gives what the grants allow now that they did not before.
///
/// # Errors
/// What is wrong; what was served is then served on.
pub(crate) fn reload(shared: &Shared) -> Result<Vec<String>, OpenError> {
    let workbench = &shared.workbench;
    let before = workbench.folder();
    let read = match workbench.development {
        true => ProjectFolder::open_or_begin(&before.path)?,
        false => ProjectFolder::open(&before.path)?,
    };
    let now = shared.served();
    let is_as_wide = read.project.limits.answer_bytes == before.project.limits.answer_bytes;
    let open = |source: &SourceSettings| {
        let is_as_it_was = is_as_wide && before.project.source(&source.name) == Some(source);
        let open = now.api.sources().find(|(name, _)| is_as_it_was && *name == source.name);
        open.map(|(_, source)| Source::clone(source))
    };
    let options = read.api_options(read.secret(workbench.development)?, &open)?;
    let options = ApiOptions { traces: now.api.traces().cloned(), ..options };
    let identity = read.identity(workbench.development)?;
    let api = Arc::new(Api::new(options, Arc::clone(now.api.metrics())));
    // The one before serves until this one is warm: a large schema takes a while.
    api.warm_up_as(&now.api).map_err(OpenError::Source)?;
    shared.replace(Served { api, identity });
    let widened = project::widened(&before.project, &read.project);
    workbench.reload(read);
    Ok(widened)
}
