//! The databases: how each is surveyed and how it runs a bound plan. One folder per engine.
//!
//! ```text
//! SourceSettings ─► survey() ─► Survey (catalog, proposals, notices)
//!                └► Source ─► run(Request) ─► Outcome (the answer's JSON, what was sent)
//!                           └► change(ChangeRequest) ─► Outcome
//! ```
//!
//! Each engine is a cargo feature, all on by default: `sqlite`, `postgres`, `mariadb`.

#[cfg(any(feature = "postgres", feature = "mariadb"))]
mod backoff;
mod change;
#[cfg(any(feature = "postgres", feature = "mariadb"))]
mod cluster;
#[cfg(feature = "mariadb")]
pub mod mariadb;
#[cfg(feature = "postgres")]
pub mod postgres;
#[cfg(any(feature = "postgres", feature = "mariadb"))]
mod quoted;
mod report;
mod sampling;
#[cfg(any(feature = "postgres", feature = "mariadb"))]
mod server;
mod source;
#[cfg(feature = "sqlite")]
pub mod sqlite;
#[cfg(any(feature = "postgres", feature = "mariadb"))]
mod tls;
pub mod turns;

pub use report::{Explanation, Outcome, StatementReport};
pub use source::{ChangeRequest, Request, Source, Survey, survey};
