//! The databases: how each is surveyed and how it runs a bound plan. One folder per engine.
//!
//! ```text
//! SourceSettings ─► survey() ─► Survey (catalog, proposals, notices)
//!                └► open() ─► Source: a Connector ─► prepare(Plan) ─► Prepared
//!                             ├► answer(Request) ─► Outcome (the answer's JSON, what was sent)
//!                             └► change(ChangeRequest) ─► Outcome
//! ```
//!
//! An engine is a folder and a row of [`ENGINES`]. Each is a cargo feature, all on by default: `sqlite`, `postgres`, `mariadb`,
//! `mongodb`.

#![cfg_attr(
    not(all(feature = "sqlite", feature = "postgres", feature = "mariadb", feature = "mongodb")),
    allow(dead_code, reason = "what engines share is not cut to each choice of them")
)]

#[cfg(any(feature = "postgres", feature = "mariadb", feature = "mongodb"))]
mod attempts;
#[cfg(any(feature = "postgres", feature = "mariadb", feature = "mongodb"))]
mod backoff;
#[cfg(any(feature = "postgres", feature = "mariadb", feature = "mongodb"))]
mod cluster;
mod engines;
#[cfg(feature = "mariadb")]
pub mod mariadb;
#[cfg(any(feature = "sqlite", feature = "postgres", feature = "mariadb"))]
mod member_index;
#[cfg(feature = "mongodb")]
pub mod mongodb;
#[cfg(feature = "postgres")]
pub mod postgres;
mod quoted;
mod sampling;
#[cfg(any(feature = "postgres", feature = "mariadb", feature = "mongodb"))]
mod server;
#[cfg(any(feature = "postgres", feature = "mariadb", feature = "mongodb"))]
mod snapshots;
#[cfg(feature = "sqlite")]
pub mod sqlite;
mod statements;
#[cfg(any(feature = "postgres", feature = "mariadb", feature = "mongodb"))]
mod tls;
mod unindexed;

pub use engines::{ENGINES, EngineEntry, fingerprint, open, survey, survey_watched};
