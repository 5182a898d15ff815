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
    /// The variables that what is secret would be in; absent where the address holds nothing secret.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variable: Option<String>,
}

/// An address in two parts: what the file may say, and what it may not.
struct Address {
    url: String,
    /// The variables in the places of what is secret, each with that.
    secrets: Vec<(String, String)>,
}

/// Takes what is secret out of an address, and puts variables in its place.
///
/// # Errors
/// Where it is not clear what of it is secret.
fn without_secrets(name: &str, url: &str) -> Result<Address, FolderError> {
    let parts = project::secret_parts(url).map_err(|ambiguous| FolderError::Unreadable(ambiguous.to_string()))?;
    let mut address = Address { url: url.to_owned(), secrets: Vec::new() };
    for part in parts.into_iter().rev() {
        let secret = url[part.at.clone()].to_owned();
        if secret.contains("${") {
            continue;
        }
        let word: String =
            part.name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).collect();
        let plain = format!("{}_{word}", name.to_ascii_uppercase());
        let is_taken = |variable: &String| address.secrets.iter().any(|(known, _)| known == variable);
        let numbered = (2..).map(|number| format!("{plain}_{number}"));
        let variable = std::iter::once(plain.clone()).chain(numbered).find(|variable| !is_taken(variable));
        let variable = variable.unwrap_or(plain);
        address.url.replace_range(part.at, &format!("${{{variable}}}"));
        address.secrets.push((variable, secret));
    }
    address.secrets.reverse();
    Ok(address)
}

/// The settings of a source that is not in the project file yet, in a folder whose project has it.
fn with_source(folder: &ProjectFolder, name: &str, url: &str) -> Result<(ProjectFolder, String, Address), FolderError> {
    let address = without_secrets(name, url)?;
    let before = folder.text()?;
    let edit = Edit::AddSource { name: name.to_owned(), url: address.url.clone() };
    let text = project::apply(&before, &edit).map_err(|error| FolderError::Unreadable(error.0))?;
    let known = environment::of_project(&folder.path);
    let read = |variable: &str| {
        let secret = address.secrets.iter().find(|(name, _)| name == variable);
        secret.map(|(_, secret)| secret.clone()).or_else(|| known(variable))
    };
    let (project, included) = crate::folder::read_project(&folder.path, text.clone(), &read)?;
    let state = folder.state.clone();
    Ok((ProjectFolder { path: folder.path.clone(), project, included, state }, text, address))
}

/// Tries an address: is it one, and does a database answer there?
pub(crate) async fn probe(folder: &ProjectFolder, name: &str, url: &str) -> Probed {
    let shown = match without_secrets(name, url) {
        Ok(address) => address,
        Err(error) => {
            let (text, url) = (Some(error.to_string()), project::shown_address(url));
            return Probed { engine: None, answers: false, text, url, variable: None };
        }
    };
    let names: Vec<&str> = shown.secrets.iter().map(|(variable, _)| variable.as_str()).collect();
    let probed = Probed {
        engine: None,
        answers: false,
        text: None,
        variable: (!names.is_empty()).then(|| names.join(", ")),
        url: shown.url,
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
    survey_watched(&with, (Some(name), false), watch)
}

/// Writes a database into the project file as it is now, which may be another one than before its survey, and keeps its password
/// beside it for this machine. Gives the file's text before and after.
///
/// # Errors
/// Where something cannot be read or written; the project file is then as it was.
pub(crate) fn write_source(folder: &ProjectFolder, (name, url): (&str, &str)) -> Result<(String, String), FolderError> {
    let before = folder.text()?;
    let (with, text, address) = with_source(folder, name, url)?;
    for (variable, secret) in &address.secrets {
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
    #[case::password("postgres://app:hush@db/huts", "postgres://app:${MAIN_PASSWORD}@db/huts", &["hush"])]
    #[case::with_at("mariadb://app:a@b:c@db:3306/huts?x=1", "mariadb://app:${MAIN_PASSWORD}@db:3306/huts?x=1", &["a@b:c"])]
    #[case::parameter("postgres://u@h/db?password=hush", "postgres://u@h/db?password=${MAIN_PASSWORD}", &["hush"])]
    #[case::several(
        "postgres://u:one@h/db?password=two&sslpassword=three&x=1",
        "postgres://u:${MAIN_PASSWORD_2}@h/db?password=${MAIN_PASSWORD}&sslpassword=${MAIN_SSLPASSWORD}&x=1",
        &["one", "two", "three"]
    )]
    #[case::variable("postgres://app:${PW}@db/huts", "postgres://app:${PW}@db/huts", &[])]
    #[case::no_password("postgres://app@db/huts", "postgres://app@db/huts", &[])]
    #[case::file("sqlite:huts.db", "sqlite:huts.db", &[])]
    #[case::whole_variable("${DATABASE_URL}", "${DATABASE_URL}", &[])]
    fn what_is_secret_stays_out_of_the_file(#[case] url: &str, #[case] shown: &str, #[case] secrets: &[&str]) {
        let address = without_secrets("main", url).unwrap();
        assert_eq!(address.url, shown);
        let found: Vec<&str> = address.secrets.iter().map(|(_, secret)| secret.as_str()).collect();
        assert_eq!(found, secrets);
    }

    #[test]
    fn an_address_that_cannot_be_taken_apart_is_refused_untold() {
        let text = without_secrets("main", "mongodb://u:pa/ss@h").err().unwrap().to_string();
        assert!(text.contains("%2F") && !text.contains("pa/ss"), "{text}");
    }
}
