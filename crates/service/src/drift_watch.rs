//! Notices while it is served that a source is not as it was surveyed any more: before somebody's request finds out.
//!
//! A look costs a query of the catalog; only where its digest is another one than the survey's is everything compared.

use std::collections::HashMap;
use std::sync::{PoisonError, RwLock};

use puente_core::catalog::compare;
use puente_core::project::SourceSettings;

use crate::api::Api;
use crate::folder::ProjectFolder;
use crate::metrics::Metrics;

/// What was found lately.
#[derive(Debug, Default)]
pub(crate) struct DriftWatch(RwLock<HashMap<String, Seen>>);

/// What was found of one source.
#[derive(Debug, Clone)]
struct Seen {
    fingerprint: String,
    /// The types that requests break for. Tables that have none break none, and nobody is told of them but the log.
    types: Vec<String>,
}

/// Values of JSON that are looked at: what is in them is no drift that breaks anything.
const FEW_SAMPLES: u32 = 1;

impl DriftWatch {
    /// The types of a source for which requests break.
    pub(crate) fn types(&self, source: &str) -> Vec<String> {
        let seen = self.0.read().unwrap_or_else(PoisonError::into_inner);
        seen.get(source).map(|seen| seen.types.clone()).unwrap_or_default()
    }

    /// Looks at every source. Takes its time: not for an asynchronous task.
    pub(crate) fn look(&self, folder: &ProjectFolder, api: &Api) {
        for source in &folder.project.sources {
            let Some(seen) = self.seen(folder, source, api) else { continue };
            let count = i64::try_from(seen.types.len()).unwrap_or(i64::MAX);
            Metrics::of(&api.metrics().source_drifted, &source.name).set(count);
            self.0.write().unwrap_or_else(PoisonError::into_inner).insert(source.name.clone(), seen);
        }
    }

    /// What there is to see of a source; none where nothing changed since the last look, or it cannot be reached.
    fn seen(&self, folder: &ProjectFolder, source: &SourceSettings, api: &Api) -> Option<Seen> {
        let surveyed = folder.surveyed(source).ok().flatten()?;
        let fingerprint = puente_sources::fingerprint(source, &folder.path).ok()?;
        let last = self.0.read().unwrap_or_else(PoisonError::into_inner).get(&source.name).cloned();
        if surveyed.fingerprint.as_ref() == Some(&fingerprint) {
            let was_drifted = last.is_some_and(|last| !last.types.is_empty());
            if was_drifted {
                tracing::info!(target: "puente::source", source = source.name, "the tables are as surveyed again");
            }
            return Some(Seen { fingerprint, types: Vec::new() });
        }
        if last.is_some_and(|last| last.fingerprint == fingerprint) {
            return None;
        }
        let quick = SourceSettings { samples: FEW_SAMPLES, ..source.clone() };
        let live = puente_sources::survey(&quick, &folder.path).ok()?;
        let mut types = Vec::new();
        for drift in compare(&surveyed, &live.catalog.widened(&surveyed)).into_iter().filter(|drift| drift.breaking) {
            tracing::warn!(
                target: "puente::source", source = source.name, table = drift.table,
                "the database is not as it was surveyed: {}; `puente survey` takes the change over", drift.text
            );
            let shown = api.type_of(&source.name, &drift.table).map(str::to_owned);
            types.extend(shown.filter(|name| !types.contains(name)));
        }
        Some(Seen { fingerprint, types })
    }
}
