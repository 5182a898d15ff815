//! What tests stand on: a demo project, a running service, the browser, and the oracle. Not published.

pub mod asker;
pub mod browser;
pub mod database;
pub mod fuzz;
pub mod oracle;
pub mod project;
pub mod seeds;
pub mod servers;
