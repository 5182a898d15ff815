//! `puente completions`

use clap::CommandFactory as _;
use clap_complete::Shell;

use crate::exit::Failure;
use crate::output;

/// Print completions for a shell.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  puente completions bash > ~/.local/share/bash-completion/completions/puente")]
pub(crate) struct Completions {
    /// The shell.
    shell: Shell,
}

impl Completions {
    pub(crate) fn run(self) -> Result<(), Failure> {
        let mut script = Vec::new();
        clap_complete::generate(self.shell, &mut crate::Arguments::command(), "puente", &mut script);
        output::say_bytes(&script);
        Ok(())
    }
}
