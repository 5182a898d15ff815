//! The binary as a process, whatever the environment of the tests is.

use std::path::Path;
use std::process::{Command, Output, Stdio};

/// A call for a project.
pub(crate) fn puente(project: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_puente"));
    command.args(arguments).env("PUENTE_PROJECT", project).env("PUENTE_LOG", "warn").stdin(Stdio::null());
    for name in ["PUENTE_OWNER_KEY", "PUENTE_SECRET", "PUENTE_LISTEN"] {
        command.env_remove(name);
    }
    command
}

/// Runs it to its end: the exit code, what it said, and what it complained of.
pub(crate) fn run(project: &Path, arguments: &[&str]) -> (i32, String, String) {
    told(&puente(project, arguments).output().expect("the binary runs"))
}

/// The exit code, what was said, and what was complained of.
pub(crate) fn told(output: &Output) -> (i32, String, String) {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    (output.status.code().unwrap_or(-1), text(&output.stdout), text(&output.stderr))
}
