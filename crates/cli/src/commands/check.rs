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
        let mut breaks = false;
        for source in &folder.project.sources {
            let Ok(Some(surveyed)) = folder.surveyed(source) else { continue };
            // Which of several sources it is about.
            let of = match folder.project.sources.len() {
                1 => String::new(),
                _ => format!("source `{}`: ", source.name),
            };
            match puente_service::check_drift(&folder, source, &surveyed) {
                Ok(drift) => {
                    breaks |= drift.iter().any(|drift| drift.breaking);
                    findings.extend(
                        drift.into_iter().map(|d| finding(FindingKind::Drift, format!("{of}{}", d.text), d.breaking)),
                    );
                }
                Err(problem) => {
                    findings.push(finding(FindingKind::Source, format!("{of}{}", problem.message), true));
                    failure = failure.or_else(|| Some(Failure { code: 3, text: String::new() }));
                }
            }
        }
        if breaks {
            let text = "run `puente survey` to take the changes over".to_owned();
            findings.push(finding(FindingKind::Drift, text, true));
            failure = failure.or_else(|| Some(Failure::found()));
        }
        (findings, failure)
    }
}

fn finding(kind: FindingKind, text: String, breaking: bool) -> Finding {
    Finding { kind, text, breaking, line: None, column: None }
}

/// The text of a finding, behind its place in the project file where it has one.
fn placed(finding: &Finding) -> String {
    match (finding.line, finding.column) {
        (Some(line), Some(column)) => format!("{FILE}:{line}:{column}: {}", finding.text),
        (Some(line), None) => format!("{FILE}:{line}: {}", finding.text),
        (None, ..) => finding.text.clone(),
    }
}
