//! `puente check`

use std::path::Path;

use puente_core::project::FILE;
use puente_service::{Finding, FindingKind, ProjectFolder};
use serde_json::{Value as Json, json};

use crate::exit::Failure;
use crate::output;
use crate::remote;

/// Check the project file, the model and the schema, and how the database differs from the survey.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente check --offline                       # in a build: no database, no secret
  puente check --online                        # also whether the key set of tokens can be fetched
  puente check --url https://api.huts.example  # of a service; the owner's key is read from PUENTE_OWNER_KEY")]
pub(crate) struct Check {
    /// Leave the database alone: check the files only.
    #[arg(long)]
    offline: bool,
    /// Fetch the key set of tokens, too, if there is one elsewhere.
    #[arg(long, conflicts_with_all = ["offline", "url"])]
    online: bool,
    /// Check what the service at this address serves, instead of a folder.
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// Print JSON.
    #[arg(long)]
    json: bool,
}

/// One finding, as it is told.
struct Told {
    kind: String,
    text: String,
    breaking: bool,
}

impl Check {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let found = match &self.url {
            Some(url) => self.of_service(url)?,
            None => self.of_folder(project),
        };
        let failure = worst(&found);
        if self.json {
            let rows: Vec<Json> = found
                .iter()
                .map(|told| json!({ "kind": told.kind, "text": told.text, "breaking": told.breaking }))
                .collect();
            output::say_json(&json!({ "findings": rows }));
        } else {
            for Told { kind, text, breaking } in &found {
                let kind = output::foreign(kind);
                let kind = if *breaking { output::urgent(&kind) } else { output::faint(&kind) };
                output::say(format!("{kind} {}", output::foreign(text)));
            }
            if failure.is_none() {
                output::say(if found.is_empty() { "all is well" } else { "nothing breaks" });
            }
        }
        failure.map_or(Ok(()), Err)
    }

    fn of_folder(&self, project: &Path) -> Vec<Told> {
        let open = if self.offline { ProjectFolder::open_without_secrets } else { ProjectFolder::open };
        let findings = match open(project) {
            Err(error) => Finding::of_files(&error),
            Ok(folder) => {
                let mut findings = puente_service::check(&folder);
                if !self.offline {
                    findings.extend(puente_service::find_drift(&folder));
                }
                if self.online {
                    findings.extend(puente_service::check_key_set(&folder));
                }
                findings
            }
        };
        let told = findings.into_iter().map(|finding| Told {
            kind: finding.kind.word().to_owned(),
            text: placed(&finding.text, finding.line, finding.column),
            breaking: finding.breaking,
        });
        told.collect()
    }

    /// The same of a service, which looks at its own files and databases.
    fn of_service(&self, url: &str) -> Result<Vec<Told>, Failure> {
        let state = remote::project(url, "/project", None)?;
        let drift = if self.offline { json!([]) } else { remote::project(url, "/project/drift", Some(&json!({})))? };
        let findings = [&state["findings"], &drift].into_iter().filter_map(Json::as_array).flatten();
        let number = |value: &Json| value.as_u64().and_then(|number| usize::try_from(number).ok());
        let told = findings.map(|finding| Told {
            kind: finding["kind"].as_str().unwrap_or_default().to_owned(),
            text: placed(
                finding["text"].as_str().unwrap_or_default(),
                number(&finding["line"]),
                number(&finding["column"]),
            ),
            breaking: finding["breaking"] == true,
        });
        Ok(told.collect())
    }
}

/// With which code to end: a project that is wrong comes before a source that is away, and both before what was found.
fn worst(found: &[Told]) -> Option<Failure> {
    let has = |kind: FindingKind| found.iter().any(|told| told.breaking && told.kind == kind.word());
    let quietly = |code| Some(Failure { code, text: String::new() });
    match () {
        () if has(FindingKind::Project) => quietly(2),
        () if has(FindingKind::Schema) => Some(Failure::found()),
        () if has(FindingKind::Source) => quietly(3),
        () if found.iter().any(|told| told.breaking) => Some(Failure::found()),
        () => None,
    }
}

/// The text of a finding, behind its place in the project file where it has one.
fn placed(text: &str, line: Option<usize>, column: Option<usize>) -> String {
    match (line, column) {
        (Some(line), Some(column)) => format!("{FILE}:{line}:{column}: {text}"),
        (Some(line), None) => format!("{FILE}:{line}: {text}"),
        (None, _) => text.to_owned(),
    }
}
