//! `puente init`

use std::io::IsTerminal as _;
use std::path::Path;

use puente_core::model::{Column, FieldType, Model, Type};
use puente_core::project;
use puente_core::value::Scalar;
use puente_service::{ProjectFolder, SurveyOutcome};

use crate::exit::Failure;
use crate::output;

/// Make a project folder for one or several databases, or add some to the one that is there, and survey them.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente init --project api --source main=sqlite:/var/lib/huts/huts.db
  puente init --project api --source main=postgres://me@localhost/huts
  puente init --project api --source main=postgres://me@localhost/huts --schemas public,app
  puente init --project api --source main=mongodb://localhost/huts
  puente init --project api --source huts=sqlite:huts.db --source log=postgres://me@localhost/log
  puente init --project api --source people=mariadb://me@localhost/people    # adds it to the project that is there
  puente init --project api --source 'main=${DATABASE_URL}'    # an address with a password stays in the environment")]
pub(crate) struct Init {
    /// A source's name and address, as often as there are sources; asked for on a terminal where it is left out.
    #[arg(long, value_name = "NAME=URL")]
    source: Vec<String>,
    /// The schemas of PostgreSQL whose tables are read, the first without its name before its tables'; `public` where it is left out.
    #[arg(long, value_name = "NAME,…", value_delimiter = ',')]
    schemas: Vec<String>,
}

impl Init {
    pub(crate) fn run(self, path: &Path) -> Result<(), Failure> {
        let file = path.join(project::FILE);
        let before = match std::fs::read_to_string(&file) {
            Ok(text) => Some(text),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
            Err(error) => return Err(Failure::wrong(format!("{} cannot be read: {error}", file.display()))),
        };
        if before.is_some() && self.source.is_empty() {
            return Err(Failure::wrong(format!(
                "{} is there already; nothing was changed (`--source NAME=URL` adds a source to it)",
                file.display()
            )));
        }
        let sources = match self.source.as_slice() {
            [] => vec![ask()?],
            named => named.iter().map(|source| split(source)).collect::<Result<_, _>>()?,
        };
        let mut text = match &before {
            Some(before) => format!("{}\n", before.trim_end()),
            None => "# What differs from the survey: renames, hidden fields, descriptions, added links.\n\
                     # An empty file serves everything, to the owner alone.\n"
                .to_owned(),
        };
        check_names(path, before.is_some(), &sources)?;
        for (name, url) in &sources {
            refuse_password(url)?;
            text.push_str(&format!("\n[source.{name}]\nurl = {}\n", serde_json::Value::from(url.as_str())));
            if !self.schemas.is_empty() {
                text.push_str(&format!("schemas = {}\n", serde_json::json!(self.schemas)));
            }
        }
        project::read(&text, &puente_service::environment::read).map_err(|mistakes| {
            Failure::wrong(mistakes.iter().map(|m| m.text.clone()).collect::<Vec<_>>().join("\n"))
        })?;
        let failed = |error: std::io::Error| Failure::wrong(format!("{} cannot be written: {error}", file.display()));
        std::fs::create_dir_all(path).map_err(failed)?;
        std::fs::write(&file, text).map_err(failed)?;
        let folder = ProjectFolder::open(path)?;
        let outcome = puente_service::survey(&folder, None).inspect_err(|_| {
            // A project that points nowhere would stand in the way of the next try.
            let _ = match &before {
                Some(before) => std::fs::write(&file, before),
                None => std::fs::remove_file(&file),
            };
        })?;
        if let Err(error) = folder.keep_private() {
            output::note(error.to_string());
        }
        let surveys: Vec<String> = outcome.sources.iter().map(|of| of.file.display().to_string()).collect();
        let verb = if before.is_some() { "wrote" } else { "made" };
        output::say(format!("{verb} {} and {}", file.display(), surveys.join(" and ")));
        output::say(super::survey::summary(&outcome));
        let first = outcome.model.as_ref().ok().and_then(|model| first_request(&outcome, model));
        let first = first.unwrap_or_else(|| "{ __typename }".to_owned());
        output::say(output::one_line(&format!("next: `puente ask '{first}'`, or `puente serve --development`")));
        Ok(())
    }
}

/// A request to begin with: of a table that has rows, and what tells them apart.
fn first_request(outcome: &SurveyOutcome, model: &Model) -> Option<String> {
    const MOST_FIELDS: usize = 4;
    let rows = |t: &Type| {
        let of = outcome.sources.iter().find(|of| of.name == model.sources[t.source])?;
        of.catalog.table(&t.table)?.about_rows
    };
    let fields = |t: &Type| -> Vec<String> {
        let is_plain = |column: &&Column| {
            column.member.is_none()
                && matches!(column.kind, FieldType::Scalar(scalar) if !matches!(scalar, Scalar::Json | Scalar::Bytes))
        };
        t.columns.iter().filter(is_plain).filter_map(|column| column.field.clone()).take(MOST_FIELDS).collect()
    };
    let (_, t) = model
        .tables()
        .filter(|(_, t)| t.items_of.is_none() && !fields(t).is_empty())
        // Tables before views, and among those one with some rows, of which something is seen.
        .max_by_key(|(_, t)| (t.row_key().is_some(), rows(t).is_some_and(|rows| rows > 0), fields(t).len()))?;
    Some(format!("{{ {}(first: 3) {{ nodes {{ {} }} }} }}", t.list, fields(t).join(" ")))
}

/// Each source has a name of its own, also beside those that are there.
fn check_names(path: &Path, is_there: bool, sources: &[(String, String)]) -> Result<(), Failure> {
    let mut known: Vec<String> = Vec::new();
    if is_there {
        known.extend(super::open(path)?.project.sources.into_iter().map(|source| source.name));
    }
    for (name, _) in sources {
        if known.contains(name) {
            return Err(Failure::wrong(format!(
                "a source `{name}` is there already; give the new one another name, or change the `url` of \
                 `[source.{name}]`"
            )));
        }
        known.push(name.clone());
    }
    Ok(())
}

/// A project file lives in git: what is secret stays in the environment.
pub(super) fn refuse_password(url: &str) -> Result<(), Failure> {
    if !project::states_secret(url) {
        return Ok(());
    }
    Err(Failure::wrong(
        "the address holds a password, which a project file never does; put the address into an environment \
         variable and name that: '${DATABASE_URL}'",
    ))
}

fn split(source: &str) -> Result<(String, String), Failure> {
    match source.split_once('=') {
        Some((name, url)) if !name.is_empty() && !url.is_empty() => {
            project::check_source_name(name).map_err(Failure::wrong)?;
            Ok((name.to_owned(), url.to_owned()))
        }
        _ => Err(Failure::wrong(format!("`--source` expects NAME=URL, such as main=sqlite:huts.db; found `{source}`"))),
    }
}

fn ask() -> Result<(String, String), Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::wrong("which database? Give `--source NAME=URL`, such as main=sqlite:huts.db"));
    }
    let failed = |error: dialoguer::Error| Failure::wrong(format!("no answer: {error}"));
    let name = dialoguer::Input::<String>::new()
        .with_prompt("A short name for the database")
        .default("main".to_owned())
        .interact_text()
        .map_err(failed)?;
    let url = dialoguer::Input::<String>::new()
        .with_prompt("Its address (such as sqlite:huts.db, postgres://me@localhost/huts or ${DATABASE_URL})")
        .interact_text()
        .map_err(failed)?;
    Ok((name, url))
}
