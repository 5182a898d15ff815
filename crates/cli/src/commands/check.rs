//! `puente check`

use std::path::Path;

use puente_core::access::{self, Role, View};
use puente_core::schema;
use puente_service::{FolderError, ProjectFolder};

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

/// One thing that is wrong.
struct Finding {
    kind: &'static str,
    text: String,
    /// Does it break something, or is it worth a word only?
    breaking: bool,
}

impl Check {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let (findings, failure) = self.find(project);
        if self.json {
            let rows: Vec<_> = findings
                .iter()
                .map(|f| serde_json::json!({ "kind": f.kind, "text": f.text, "breaking": f.breaking }))
                .collect();
            output::say(serde_json::json!({ "findings": rows }).to_string());
        } else {
            for finding in &findings {
                let kind = if finding.breaking { output::urgent(finding.kind) } else { output::faint(finding.kind) };
                output::say(format!("{kind} {}", finding.text));
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
            Err(error) => return (in_files(&error), Some(Failure { code: 2, text: String::new() })),
        };
        let mut failure = None;
        findings.extend(folder.project.exposed.iter().map(|exposed| Finding {
            kind: "secret",
            text: format!("{exposed}; production refuses this"),
            breaking: false,
        }));
        match folder.model() {
            Ok(model) => {
                if model.types.is_empty() {
                    let text = "the API has no types: no table was found; `puente survey` says where it looked";
                    findings.push(Finding { kind: "empty", text: text.to_owned(), breaking: false });
                }
                match folder.roles(&model) {
                    Ok(roles) => findings.extend(roles.iter().flat_map(|role| about_role(&folder, role))),
                    Err(error) => {
                        findings.extend(in_files(&error));
                        failure = Some(Failure { code: 2, text: String::new() });
                    }
                }
                if let Err(problem) = schema::build(&View::owner(model)) {
                    let text = format!("{} {}", problem.message, problem.detail.unwrap_or_default());
                    findings.push(Finding { kind: "schema", text, breaking: true });
                    failure = Some(Failure::found());
                }
            }
            Err(error) => {
                findings.extend(in_files(&error));
                failure = Some(Failure { code: 2, text: String::new() });
            }
        }
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
                    findings.extend(drift.into_iter().map(|d| Finding {
                        kind: "drift",
                        text: format!("{of}{}", d.text),
                        breaking: d.breaking,
                    }));
                }
                Err(problem) => {
                    findings.push(Finding { kind: "source", text: format!("{of}{}", problem.message), breaking: true });
                    failure = failure.or_else(|| Some(Failure { code: 3, text: String::new() }));
                }
            }
        }
        if breaks {
            let text = "run `puente survey` to take the changes over".to_owned();
            findings.push(Finding { kind: "drift", text, breaking: true });
            failure = failure.or_else(|| Some(Failure::found()));
        }
        (findings, failure)
    }
}

/// What a role allows that may not have been meant, and whether its schema can be built.
fn about_role(folder: &ProjectFolder, role: &Role) -> Vec<Finding> {
    let anonymous = folder.project.identity.anonymous.as_deref() == Some(role.view.role());
    let warned = access::warnings(role, anonymous).into_iter();
    let mut findings: Vec<Finding> =
        warned.map(|warning| Finding { kind: "access", text: warning.to_string(), breaking: false }).collect();
    if let Err(problem) = schema::build(&role.view) {
        let text = format!("role `{}`: {} {}", role.view.role(), problem.message, problem.detail.unwrap_or_default());
        findings.push(Finding { kind: "schema", text, breaking: true });
    }
    findings
}

fn in_files(error: &FolderError) -> Vec<Finding> {
    match error {
        FolderError::Unreadable(text) => vec![Finding { kind: "project", text: text.clone(), breaking: true }],
        FolderError::Mistakes(mistakes) => mistakes
            .iter()
            .map(|mistake| Finding { kind: "project", text: mistake.to_string(), breaking: true })
            .collect(),
    }
}
