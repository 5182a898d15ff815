//! `puente check`

use std::path::Path;

use puente_core::project::FILE;
use puente_service::{Finding, FindingKind, ProjectFolder};

use crate::exit::Failure;
use crate::output;

/// Check the project file, the model and the schema, and how the database differs from the survey.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  puente check --offline   # in a build, without the database")]
pub(crate) struct Check {
    /// Leave the database alone: check the files only.
    #[arg(long)]
    offline: bool,
    /// Print JSON.
    #[arg(long)]
    json: bool,
}

impl Check {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let (findings, failure) = self.find(project);
        if self.json {
            let rows: Vec<_> = findings
                .iter()
                .map(|f| serde_json::json!({ "kind": f.kind.word(), "text": placed(f), "breaking": f.breaking }))
                .collect();
            output::say(serde_json::json!({ "findings": rows }).to_string());
        } else {
            for finding in &findings {
                let word = finding.kind.word();
                let kind = if finding.breaking { output::urgent(word) } else { output::faint(word) };
                output::say(format!("{kind} {}", placed(finding)));
            }
            if failure.is_none() {
                output::say(if findings.is_empty() { "all is well" } else { "nothing breaks" });
            }
        }
        failure.map_or(Ok(()), Err)
    }

    /// Everything that is wrong, and with which code to end.
    fn find(&self, project: &Path) -> (Vec<Finding>, Option<Failure>) {
        let mut findings = Vec::new();
        let folder = match ProjectFolder::open(project) {
            Ok(folder) => folder,
            Err(error) => return (Finding::of_files(&error), Some(Failure { code: 2, text: String::new() })),
        };
        findings.extend(puente_service::check(&folder));
        let is_broken = |finding: &Finding| finding.breaking && finding.kind == FindingKind::Project;
        let mut failure = match findings.iter().any(is_broken) {
            true => Some(Failure { code: 2, text: String::new() }),
            false => findings.iter().any(|finding| finding.breaking).then(Failure::found),
        };
        if self.offline {
            return (findings, failure);
        }
        for finding in puente_service::find_drift(&folder) {
            let worst = match (finding.kind, finding.breaking) {
                (FindingKind::Source, _) => Some(Failure { code: 3, text: String::new() }),
                (_, true) => Some(Failure::found()),
                (_, false) => None,
            };
            failure = failure.or(worst);
            findings.push(finding);
        }
        (findings, failure)
    }
}

/// The text of a finding, behind its place in the project file where it has one.
fn placed(finding: &Finding) -> String {
    match (finding.line, finding.column) {
        (Some(line), Some(column)) => format!("{FILE}:{line}:{column}: {}", finding.text),
        (Some(line), None) => format!("{FILE}:{line}: {}", finding.text),
        (None, ..) => finding.text.clone(),
    }
}
