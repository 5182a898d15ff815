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
