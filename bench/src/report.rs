//! What the bench prints.

use std::io::Write as _;

use crate::driver::Measured;

pub(crate) fn line(text: &str) {
    let mut out = std::io::stdout().lock();
    writeln!(out, "{text}").and_then(|()| out.flush()).expect("somebody reads");
}

pub(crate) fn head(engine: &str, rival: &str, rounds: usize) {
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    line(&format!("\n## {engine}, against the {rival} ({cores} cores, medians of {rounds} rounds)\n"));
    line(
        "| ask | bytes | statements | asks/s | theirs | ratio (half of the rounds) | CPU µs/ask | theirs | database CPU µs/ask | theirs | p50 µs | theirs | p99 µs | theirs |",
    );
    line("|---|---|---|---|---|---|---|---|---|---|---|---|---|---|");
}

fn median(values: impl Iterator<Item = f64>) -> f64 {
    quartiles(values)[1]
}

/// Where a quarter, half and three quarters of the values are below.
fn quartiles(values: impl Iterator<Item = f64>) -> [f64; 3] {
    let mut values: Vec<f64> = values.collect();
    values.sort_by(f64::total_cmp);
    [1, 2, 3].map(|quarter| values[values.len() * quarter / 4])
}

pub(crate) fn ask(name: &str, bytes: usize, statements: usize, rounds: &[(Measured, Measured)]) {
    let ours = |get: fn(&Measured) -> f64| median(rounds.iter().map(|(ours, _)| get(ours)));
    let theirs = |get: fn(&Measured) -> f64| median(rounds.iter().map(|(_, theirs)| get(theirs)));
    let ratios = rounds.iter().map(|(ours, theirs)| ours.asks_per_second / theirs.asks_per_second);
    let [low, ratio, high] = quartiles(ratios);
    line(&format!(
        "| {name} | {bytes} | {statements} | {:.0} | {:.0} | **{ratio:.2}** ({low:.2}–{high:.2}) | {:.1} | {:.1} | {:.1} | {:.1} | {:.0} | {:.0} | {:.0} | {:.0} |",
        ours(|m| m.asks_per_second),
        theirs(|m| m.asks_per_second),
        ours(|m| m.cpu_micros),
        theirs(|m| m.cpu_micros),
        ours(|m| m.database_micros),
        theirs(|m| m.database_micros),
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

pub(crate) fn inserts(rows: usize, bytes: usize, statements: usize, ours: &[f64], theirs: &[f64]) {
    let (ours, theirs) = (median(ours.iter().copied()), median(theirs.iter().copied()));
    line(&format!(
        "\n{rows} rows in one mutation ({bytes} bytes, {statements} statements): {ours:.0} rows/s, the driver's own bulk insert {theirs:.0}, ratio {:.2}",
        ours / theirs
    ));
}

pub(crate) fn memory(process: u32) {
    line(&format!("Resident memory of the service afterwards: {}", resident(process)));
}

/// Memory of a process, as the kernel tells it.
pub(crate) fn resident(process: u32) -> String {
    let text = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    text.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or("unknown").trim().to_owned()
}
