//! `puente schema`

use std::path::Path;

use puente_core::access::View;
use puente_core::schema;

use crate::exit::Failure;
use crate::output;

/// Print the GraphQL schema as SDL. Needs the survey file, not the database.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  puente schema > schema.graphql")]
pub(crate) struct Schema {}

impl Schema {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let view = View::owner(super::open(project)?.model()?);
        schema::build(&view)?;
        output::say_bytes(schema::print(&view).as_bytes());
        Ok(())
    }
}
