//! The one place where the process's environment is read.

/// The owner's access key, instead of a generated one.
pub const OWNER_KEY: &str = "PUENTE_OWNER_KEY";
/// The secret that `[service] secret` usually refers to.
pub const SECRET: &str = "PUENTE_SECRET";
/// What is logged, in the syntax of `tracing`'s env-filter; default `info`.
pub const LOG: &str = "PUENTE_LOG";

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
