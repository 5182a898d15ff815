//! The engines that this build knows: one row each.

use std::path::Path;

use puente_core::catalog::Engine;
use puente_core::error::{Code, Problem};
use puente_core::project::SourceSettings;

use puente_run::{Source, Survey, SurveyWatch};

/// One kind of source.
#[derive(Debug)]
pub struct EngineEntry {
    /// Its name in survey files and addresses.
    pub engine: Engine,
    open: fn(&SourceSettings, &Path, usize) -> Result<Source, Problem>,
    survey: fn(&SourceSettings, &Path, &SurveyWatch) -> Result<Survey, Problem>,
    fingerprint: fn(&SourceSettings, &Path) -> Result<String, Problem>,
}

/// The engines that are built in.
pub const ENGINES: &[EngineEntry] = &[
    #[cfg(feature = "sqlite")]
    EngineEntry {
        engine: Engine::Sqlite,
        open: crate::sqlite::connector,
        survey: crate::sqlite::survey,
        fingerprint: crate::sqlite::fingerprint,
    },
    #[cfg(feature = "postgres")]
    EngineEntry {
        engine: Engine::Postgres,
        open: crate::postgres::connector,
        survey: crate::postgres::survey,
        fingerprint: crate::postgres::fingerprint,
    },
    #[cfg(feature = "mariadb")]
    EngineEntry {
        engine: Engine::Mariadb,
        open: crate::mariadb::connector,
        survey: crate::mariadb::survey,
        fingerprint: crate::mariadb::fingerprint,
    },
    #[cfg(feature = "mongodb")]
    EngineEntry {
        engine: Engine::Mongodb,
        open: crate::mongodb::connector,
        survey: crate::mongodb::survey,
        fingerprint: crate::mongodb::fingerprint,
    },
];

fn entry(engine: Engine) -> Result<&'static EngineEntry, Problem> {
    ENGINES
        .iter()
        .find(|entry| entry.engine == engine)
        .ok_or_else(|| Problem::new(Code::SourceUnavailable, "this build of Puente is without that kind of database"))
}

/// Sets a source up; it is reached with the first request, and need not be there yet. Relative paths count from `base`; an
/// answer has at most so many bytes.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the address or a certificate cannot be understood.
pub fn open(settings: &SourceSettings, base: &Path, most_bytes: usize) -> Result<Source, Problem> {
    (entry(settings.engine)?.open)(settings, base, most_bytes)
}

/// Surveys a source. Takes its time: not for an asynchronous task.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where it cannot be reached, or what it reports.
pub fn survey(settings: &SourceSettings, base: &Path) -> Result<Survey, Problem> {
    survey_watched(settings, base, &SurveyWatch::default())
}

/// The same, while somebody watches.
///
/// # Errors
/// As for a survey; `TIMED_OUT` where it was stopped.
pub fn survey_watched(settings: &SourceSettings, base: &Path, watch: &SurveyWatch) -> Result<Survey, Problem> {
    // Taken before: what changes in between is looked at again.
    let fingerprint = fingerprint(settings, base);
    let found = (entry(settings.engine)?.survey)(settings, base, watch);
    match watch.is_stopped() {
        true => Err(Problem::new(Code::TimedOut, "the survey was stopped; nothing was changed")),
        false => found.map(|mut survey| {
            survey.catalog.fingerprint = fingerprint.ok();
            survey
        }),
    }
}

/// A digest of what a source says of its tables, the same wherever the same tables are: whether something changed since a survey is
/// told by it at little cost. Takes its time: not for an asynchronous task.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where it cannot be reached, or what it reports.
pub fn fingerprint(settings: &SourceSettings, base: &Path) -> Result<String, Problem> {
    (entry(settings.engine)?.fingerprint)(settings, base)
}

/// The digest of lines that a catalog says, in whatever order it says them.
pub(crate) fn digest(mut lines: Vec<String>) -> String {
    lines.sort_unstable();
    let mut context = ring::digest::Context::new(&ring::digest::SHA256);
    for line in lines {
        context.update(line.as_bytes());
        context.update(b"\n");
    }
    context.finish().as_ref()[..12].iter().map(|byte| format!("{byte:02x}")).collect()
}
