//! `puente schema`

use std::path::Path;

use puente_core::access::{OWNER, View};
use puente_core::catalog::Catalog;
use puente_core::{project, schema};

use crate::exit::Failure;
use crate::output;

/// Print the GraphQL schema as SDL. Needs the survey file, neither the database nor a secret.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente schema --as hiker > schema.graphql
  puente schema --cache-keys --as hiker > cache-keys.json
  puente schema --format project-schema > puente.schema.json")]
pub(crate) struct Schema {
    /// The schema of this role instead of the owner's.
    #[arg(long = "as", value_name = "ROLE")]
    role: Option<String>,
    /// Print the fields that tell rows apart, as JSON: what normalising caches of clients are set up with. Null is for what has no
    /// key and is kept with what it is part of.
    #[arg(long, conflicts_with = "format")]
    cache_keys: bool,
    /// What is printed.
    #[arg(long, value_enum, default_value_t = Format::Sdl)]
    format: Format,
}

/// What `puente schema` prints.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum Format {
    /// The GraphQL schema.
    Sdl,
    /// `puente.toml` as JSON Schema, for editors.
    ProjectSchema,
    /// The survey file as JSON Schema.
    SurveySchema,
}

impl Schema {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        match self.format {
            Format::Sdl => self.of_role(project),
            Format::ProjectSchema => pretty(&project::json_schema()),
            Format::SurveySchema => pretty(&Catalog::json_schema()),
        }
    }

    fn of_role(&self, project: &Path) -> Result<(), Failure> {
        let folder = super::open_without_secrets(project)?;
        let model = folder.model()?;
        let role = self.role.as_deref().unwrap_or(OWNER);
        super::check_role(&folder, role)?;
        let found = folder.roles(&model)?.into_iter().find(|known| known.view.role() == role);
        let view = found.map_or_else(|| View::owner(model), |role| role.view);
        let built = schema::build(&view)?;
        if self.cache_keys {
            return pretty(&schema::cache_keys(&view, &built));
        }
        output::say_bytes(schema::to_file(&view).as_bytes());
        Ok(())
    }
}

fn pretty(value: &serde_json::Value) -> Result<(), Failure> {
    output::say(serde_json::to_string_pretty(value).map_err(|error| Failure::wrong(error.to_string()))?);
    Ok(())
}
