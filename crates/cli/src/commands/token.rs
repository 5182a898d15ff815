//! `puente token`

use std::path::Path;

use puente_service::{DevelopmentKey, claims_of};

use crate::exit::Failure;
use crate::output;

/// Make a token for development: a service in production does not believe it.
#[derive(Debug, clap::Args)]
#[command(after_help = "\
Example:
  puente token --as warden --claim sub=3
  curl -H \"Authorization: Bearer $(puente token --as hiker --claim sub=7)\" …")]
pub(crate) struct Token {
    /// The role that it asks as.
    #[arg(long = "as", value_name = "ROLE")]
    role: String,
    /// A claim; the value is JSON where it is that (`groups=["a","b"]`, `sub="Customer 5"`), else text (`sub=7`, `name=Ann`).
    #[arg(long = "claim", value_name = "NAME=VALUE")]
    claims: Vec<String>,
    /// How long it is good for, such as 30m, 8h or 7d.
    #[arg(long, value_name = "TIME", default_value = "8h", value_parser = super::key::lifetime)]
    expires: std::time::Duration,
}

impl Token {
    pub(crate) fn run(self, project: &Path) -> Result<(), Failure> {
        let folder = super::open(project)?;
        super::check_role(&folder, &self.role)?;
        let claims = claims_of(&self.claims).map_err(Failure::wrong)?;
        let key = DevelopmentKey::of(&folder.private_folder()?)?;
        let token = key.mint(&folder.identity(true)?, &self.role, &claims, self.expires)?;
        output::say(token);
        output::note("good for `puente serve --development` and `puente demo` of this project only");
        Ok(())
    }
}
