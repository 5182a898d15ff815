//! What tests stand on: a demo project, a running service, the browser, the oracle, and the crawl. Not published.

pub mod asker;
pub mod browser;
pub mod crawl;
pub mod database;
mod documents;
pub mod fuzz;
pub mod leftovers;
pub mod oracle;
pub mod project;
pub mod schemas;
pub mod seeds;
pub mod servers;
