//! The computation of Puente, without I/O, threads or clocks.
//!
//! Data flows one way through the modules:
//!
//! ```text
//! survey file ─► catalog ┐
//!                        ├─► model ─► access::View ─► schema (SDL, validation)
//! puente.toml ─► project ┘                │
//!                                         ▼
//! document + variables ─► plan (parse, validate, plan; then bind) ─► a source, which runs it in its own language
//!                                         │
//!                      a source's rows ─► answer (the answer's bytes)
//! ```
//!
//! A source receives only a [`plan::BoundPlan`], which no module but `plan` can make, and which is made only from a
//! role's [`access::View`] of the model.

pub mod access;
pub mod answer;
pub mod catalog;
pub mod error;
pub mod model;
pub mod plan;
pub mod project;
pub mod rows;
pub mod schema;
pub mod suggest;
pub mod value;
pub mod visible;
