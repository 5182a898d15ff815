//! Another database for a project: tried, then surveyed, then written into the project file. What is secret in its address stays out
//! of the file.

use std::collections::HashSet;

use puente_core::project::{self, Edit, SourceSettings};
use puente_run::SurveyWatch;
use serde::Serialize;
use utoipa::ToSchema;

use super::survey::{SurveyError, SurveyOutcome, survey_watched};
use super::surveyed::engine_word;
use crate::environment;
use crate::folder::{FolderError, ProjectFolder};

/// What became of an address that was tried.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Probed {
    /// What kind of database it is, where the address says so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub engine: Option<String>,
    /// Does it answer?
    pub answers: bool,
    /// Why it does not: what was expected, what came, the remedy.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The address as the project file would have it.
    pub url: String,
    /// The variable that the password would be in; absent where the address holds none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variable: Option<String>,
}

/// An address in two parts: what the file may say, and what it may not.
struct Address {
    url: String,
    /// The variable in the place of the password, and the password.
    secret: Option<(String, String)>,
}

/// Takes the password out of an address, and puts a variable in its place.
fn without_secret(name: &str, url: &str) -> Address {
    let plain = Address { url: url.to_owned(), secret: None };
    let Some((scheme, rest)) = url.split_once("://") else { return plain };
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    let Some((login, host)) = authority.rsplit_once('@') else { return plain };
    let Some((user, password)) = login.split_once(':') else { return plain };
    if password.is_empty() || password.contains("${") {
        return plain;
    }
    let variable = format!("{}_PASSWORD", name.to_ascii_uppercase());
    let after = &rest[authority.len()..];
    Address {
        url: format!("{scheme}://{user}:${{{variable}}}@{host}{after}"),
        secret: Some((variable, password.to_owned())),
    }
}

/// The settings of a source that is not in the project file yet, in a folder whose project has it.
fn with_source(folder: &ProjectFolder, name: &str, url: &str) -> Result<(ProjectFolder, String, Address), FolderError> {
    let address = without_secret(name, url);
    let before = folder.text()?;
    let edit = Edit::AddSource { name: name.to_owned(), url: address.url.clone() };
    let text = project::apply(&before, &edit).map_err(|error| FolderError::Unreadable(error.0))?;
    let known = environment::of_project(&folder.path);
    let read = |variable: &str| match &address.secret {
        Some((name, secret)) if name == variable => Some(secret.clone()),
        _ => known(variable),
    };
    let (project, included) = crate::folder::read_project(&folder.path, text.clone(), &read)?;
    Ok((ProjectFolder { path: folder.path.clone(), project, included }, text, address))
}

/// Tries an address: is it one, and does a database answer there?
pub(crate) async fn probe(folder: &ProjectFolder, name: &str, url: &str) -> Probed {
    let shown = without_secret(name, url);
    let probed = Probed {
        engine: None,
        answers: false,
        text: None,
        url: shown.url,
        variable: shown.secret.map(|(variable, _)| variable),
    };
    let with = match with_source(folder, name, url) {
        Ok((with, ..)) => with,
        Err(FolderError::Mistakes(mistakes)) => {
            let texts: HashSet<&str> = mistakes.iter().map(|mistake| mistake.text.as_str()).collect();
            let text = texts.into_iter().collect::<Vec<_>>().join(" ");
            return Probed { text: Some(text), ..probed };
        }
        Err(error) => return Probed { text: Some(error.to_string()), ..probed },
    };
    let Some(source) = with.project.source(name) else { return probed };
    let engine = Some(engine_word(source.engine).to_owned());
    match answers(&with, source).await {
        Ok(()) => Probed { engine, answers: true, ..probed },
        Err(text) => Probed { engine, text: Some(text), ..probed },
    }
}

async fn answers(folder: &ProjectFolder, source: &SourceSettings) -> Result<(), String> {
    const PATIENCE: std::time::Duration = std::time::Duration::from_secs(10);
    let opened = folder.open_source(source).map_err(|problem| problem.message)?;
    let probed = tokio::time::timeout(PATIENCE, opened.probe()).await;
    let late = || "the database does not answer within 10 seconds; is the host right, and is it running?".to_owned();
    probed.map_err(|_| late())?.map_err(|problem| problem.message)
}

/// Surveys a database that the project file does not have yet.
///
/// # Errors
/// [`SurveyError`]; nothing is changed then.
pub(crate) fn survey_new_source(
    folder: &ProjectFolder,
    (name, url): (&str, &str),
    watch: &SurveyWatch,
) -> Result<SurveyOutcome, SurveyError> {
    let (with, ..) = with_source(folder, name, url).map_err(SurveyError::Folder)?;
    survey_watched(&with, Some(name), watch)
}

/// Writes a database into the project file as it is now, which may be another one than before its survey, and keeps its password
/// beside it for this machine. Gives the file's text before and after.
///
/// # Errors
/// Where something cannot be read or written; the project file is then as it was.
pub(crate) fn write_source(folder: &ProjectFolder, (name, url): (&str, &str)) -> Result<(String, String), FolderError> {
    let before = folder.text()?;
    let (with, text, address) = with_source(folder, name, url)?;
    if let Some((variable, secret)) = &address.secret {
        let private = folder.private_folder()?;
        environment::keep(&private, variable, secret).map_err(|error| {
            FolderError::Unreadable(format!("{} could not be kept in {}: {error}", variable, private.display()))
        })?;
    }
    folder.keep_private()?;
    with.write(&text)?;
    Ok((before, text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case::password("postgres://app:hush@db/huts", "postgres://app:${MAIN_PASSWORD}@db/huts", Some("hush"))]
    #[case::with_at(
        "mariadb://app:a@b:c@db:3306/huts?x=1",
        "mariadb://app:${MAIN_PASSWORD}@db:3306/huts?x=1",
        Some("a@b:c")
    )]
    #[case::variable("postgres://app:${PW}@db/huts", "postgres://app:${PW}@db/huts", None)]
    #[case::no_password("postgres://app@db/huts", "postgres://app@db/huts", None)]
    #[case::file("sqlite:huts.db", "sqlite:huts.db", None)]
    #[case::whole_variable("${DATABASE_URL}", "${DATABASE_URL}", None)]
    fn a_password_stays_out_of_the_file(#[case] url: &str, #[case] shown: &str, #[case] secret: Option<&str>) {
        let address = without_secret("main", url);
        assert_eq!(address.url, shown);
        assert_eq!(address.secret.map(|(_, secret)| secret).as_deref(), secret);
    }
}
