//! Serves a database and compares everything that is served of it with plain SQL. Nothing is written.
//!
//! `cargo run -p puente-testkit --bin crawl -- URL [MORE LINES OF THE SOURCE]...`

#![allow(clippy::print_stdout, clippy::print_stderr, reason = "it is a program")]

use std::process::ExitCode;

use puente_testkit::crawl::crawl;
use puente_testkit::database::Database;

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let Some(url) = arguments.next() else {
        eprintln!(
            "expected the address of a database, such as sqlite:shop.db or postgres://me@127.0.0.1/shop, and then more lines \
             of its source, such as 'schemas = [\"sales\"]'"
        );
        return ExitCode::from(2);
    };
    let lines: Vec<String> = arguments.collect();
    let report = crawl(&Database::at(&url), &lines.join("\n"), "");
    for unfit in &report.unfit {
        println!("not served: {unfit}");
    }
    for difference in &report.differences {
        println!("{difference}");
    }
    let (unfit, differences) = (report.unfit.len(), report.differences.len());
    println!("{} compared, {unfit} not served for a value of another type, {differences} differences", report.compared);
    if report.differences.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
