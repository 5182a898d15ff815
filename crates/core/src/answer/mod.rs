//! The answer's JSON, written from a source's rows by the plan's shape. Children are fetched as the writer reaches
//! them; how they are fetched is the source's choice.
//!
//! An error on a field nulls the nearest nullable position: the writer keeps a mark there and truncates to it.

mod levels;
mod writer;

pub use levels::{KeyValues, LevelRows, Levels};
pub use writer::{Answer, Fetch, joined_row, nothing, write};
