//! What the bench prints.

use std::io::Write as _;

use crate::driver::Measured;

pub(crate) fn line(text: &str) {
    let mut out = std::io::stdout().lock();
    writeln!(out, "{text}").and_then(|()| out.flush()).expect("somebody reads");
}

pub(crate) fn head(rounds: usize) {
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    line(&format!("Puente against the floor on SQLite, {cores} cores, medians of {rounds} rounds\n"));
    line(
        "| ask | bytes | Puente asks/s | floor asks/s | ratio | CPU µs/ask | floor CPU µs/ask | p50 µs | floor p50 | p99 µs | floor p99 |",
    );
    line("|---|---|---|---|---|---|---|---|---|---|---|");
}

fn median(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

pub(crate) fn ask(name: &str, bytes: usize, rounds: &[(Measured, Measured)]) {
    let ours = |get: fn(&Measured) -> f64| median(rounds.iter().map(|(ours, _)| get(ours)));
    let theirs = |get: fn(&Measured) -> f64| median(rounds.iter().map(|(_, theirs)| get(theirs)));
    let ratio = median(rounds.iter().map(|(ours, theirs)| ours.asks_per_second / theirs.asks_per_second));
    line(&format!(
        "| {name} | {bytes} | {:.0} | {:.0} | {ratio:.2} | {:.1} | {:.1} | {:.0} | {:.0} | {:.0} | {:.0} |",
        ours(|m| m.asks_per_second),
        theirs(|m| m.asks_per_second),
        ours(|m| m.cpu_micros),
        theirs(|m| m.cpu_micros),
        ours(|m| m.p50_micros),
        theirs(|m| m.p50_micros),
        ours(|m| m.p99_micros),
        theirs(|m| m.p99_micros),
    ));
}

pub(crate) fn walk(times: &[f64]) {
    let end = 20.min(times.len() / 2);
    let first = median(times[1..=end].iter().copied());
    let last = median(times[times.len() - end..].iter().copied());
    line(&format!(
        "\nWalking 100,000 readings by {} pages of 500: {first:.0} µs per page at the start, {last:.0} µs at the end, ratio {:.2} (medians of {end} pages)",
        times.len(),
        last / first
    ));
}

pub(crate) fn memory(process: u32) {
    let text = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let resident = text.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or("unknown").trim();
    line(&format!("Resident memory of the service afterwards: {resident}"));
}
