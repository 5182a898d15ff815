//! The one place where the process's environment is read.

use std::path::Path;

/// The owner's access key, instead of a generated one.
pub const OWNER_KEY: &str = "PUENTE_OWNER_KEY";
/// The secret that `[service] secret` usually refers to.
pub const SECRET: &str = "PUENTE_SECRET";
/// What is logged, in the syntax of `tracing`'s env-filter; default `info`.
pub const LOG: &str = "PUENTE_LOG";

/// Set to anything, the log has the database's own words at the level `debug` (target `puente::values`): they may hold rows, also such
/// as no caller may read.
pub const LOG_VALUES: &str = "PUENTE_LOG_VALUES";

/// A variable's value; an empty one counts as not set.
pub fn read(name: &str) -> Option<String> {
    std::env::var(name).ok().filter(|value| !value.is_empty())
}

/// The fewest characters of the owner's access key: those of a generated one's random part would be 43.
const SHORTEST_OWNER_KEY: usize = 32;

/// What is wrong with an owner's access key that could be guessed; none where nothing is.
pub fn too_short(key: &str) -> Option<String> {
    let length = key.chars().count();
    (length < SHORTEST_OWNER_KEY).then(|| {
        format!(
            "{OWNER_KEY} has {length} characters and needs {SHORTEST_OWNER_KEY}, or it could be guessed; `openssl rand -hex 32` \
             makes one"
        )
    })
}

/// The file in `.puente/` that holds variables which a project's file names and the environment may lack.
const KEPT: &str = "environment";

/// Looks a variable up that a project's file names: in the environment, else among those that this machine keeps for the project in
/// `.puente/environment`, a line `NAME=VALUE` each.
pub fn of_project(path: &Path) -> impl Fn(&str) -> Option<String> {
    let kept = std::fs::read_to_string(path.join(".puente").join(KEPT)).unwrap_or_default();
    move |name| {
        let of_line =
            |line: &str| line.split_once('=').filter(|(known, _)| *known == name).map(|(_, value)| value.to_owned());
        read(name).or_else(|| kept.lines().find_map(of_line))
    }
}

/// Keeps a variable for a project, readable by whoever owns the files alone.
///
/// # Errors
/// Where the file cannot be read or written.
pub fn keep(private: &Path, name: &str, value: &str) -> std::io::Result<()> {
    let file = private.join(KEPT);
    let before = match std::fs::read_to_string(&file) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(error),
    };
    let is_other = |line: &&str| line.split_once('=').is_none_or(|(known, _)| known != name);
    let mut text: String = before.lines().filter(is_other).map(|line| format!("{line}\n")).collect();
    text.push_str(&format!("{name}={value}\n"));
    crate::folder::write_private(&file, text.as_bytes())
}
