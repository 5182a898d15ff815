//! `puente schema`

use std::path::Path;

use puente_core::access::{OWNER, View};
use puente_core::schema;

use crate::exit::Failure;
use crate::output;

/// Print the GraphQL schema as SDL. Needs the survey file, not the database.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  puente schema --as hiker > schema.graphql")]
pub(crate) struct Schema {
    /// The schema of this role instead of the owner's.
    #[arg(long = "as", value_name = "ROLE")]
    role: Option<String>,
}

impl Schema {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let folder = super::open(project)?;
        let model = folder.model()?;
        let role = self.role.as_deref().unwrap_or(OWNER);
        super::check_role(&folder, role)?;
        let found = folder.roles(&model)?.into_iter().find(|known| known.view.role() == role);
        let view = found.map_or_else(|| View::owner(model), |role| role.view);
        schema::build(&view)?;
        output::say_bytes(schema::to_file(&view).as_bytes());
        Ok(())
    }
}
