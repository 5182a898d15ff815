//! `puente manual`

use std::path::PathBuf;

use clap::CommandFactory as _;

use crate::exit::Failure;
use crate::output;

/// Write the manual's pages, one for each command, into a folder.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  puente manual ~/.local/share/man/man1 && man puente-ask")]
pub(crate) struct Manual {
    /// The folder; it is made where it is missing.
    dir: PathBuf,
}

impl Manual {
    pub(crate) fn run(self) -> Result<(), Failure> {
        let written = std::fs::create_dir_all(&self.dir)
            .and_then(|()| clap_mangen::generate_to(crate::Arguments::command(), &self.dir));
        written.map_err(|error| {
            Failure::wrong(format!(
                "the manual could not be written into {} ({error}); name a folder that you may write",
                self.dir.display()
            ))
        })?;
        output::note(format!("written into {}: `man {}`", self.dir.display(), self.dir.join("puente.1").display()));
        Ok(())
    }
}
