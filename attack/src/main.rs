//! Attacks a running demo for a while, and watches what others have of it: `make attack MINUTES=1`, or
//! `puente-attack MINUTES BINARY WORDS` for the attacks whose name has these words.
//!
//! Several hostile callers send every attack of docs/security.md and floods of random ones, as anonymous callers, as roles and
//! as the owner. Beside them a bystander asks for one row by its key, again and again, and what the service holds in memory is
//! looked at. It fails where the service dies, or is over one of the bounds.

mod attacks;
mod client;
mod report;

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use attacks::Attack;
use client::{Client, Service};
use rand::{RngExt as _, SeedableRng as _};
use report::{Figures, Watched};

/// Hostile connections at once.
const HOSTILE: usize = 12;

fn main() {
    let minutes = std::env::args().nth(1).and_then(|text| text.parse::<f64>().ok()).unwrap_or(1.0);
    let binary = std::env::args().nth(2).unwrap_or_else(|| "target/release/puente".to_owned());
    let words = std::env::args().nth(3).unwrap_or_default();
    let attacks: Vec<&Attack> = Attack::ALL.iter().filter(|attack| attack.name.contains(&words)).collect();
    assert!(!attacks.is_empty(), "no attack has {words:?} in its name");
    let service = Service::start(&binary);
    let until = Instant::now() + Duration::from_secs_f64(minutes * 60.0);
    let alone = watch(&service, &AtomicBool::new(false), Instant::now() + Duration::from_secs(5));
    report::line(&format!("alone, a row by its key: {}", alone.latency.describe()));
    let (stop, sent) = (AtomicBool::new(false), AtomicU64::new(0));
    let answers: Mutex<Figures> = Mutex::default();
    let (watched, slowest) = std::thread::scope(|scope| {
        let hostile: Vec<_> = (0..HOSTILE)
            .map(|number| {
                let (service, attacks, stop, sent, answers) = (&service, &attacks, &stop, &sent, &answers);
                scope.spawn(move || attack((service, number), attacks, (stop, sent, answers)))
            })
            .collect();
        let watched = watch(&service, &stop, until);
        stop.store(true, Ordering::Relaxed);
        let slowest = hostile.into_iter().map(|caller| caller.join().expect("a hostile caller")).max();
        (watched, slowest.unwrap_or_default())
    });
    let answers = answers.into_inner().expect("figures");
    report::line(&format!("{} attacks in {minutes} minutes by {HOSTILE} connections", sent.load(Ordering::Relaxed)));
    report::line(&answers.describe());
    report::line(&format!(
        "the slowest answer to an attack took {} ms, waiting for its turn included",
        slowest.as_millis()
    ));
    report::line(&format!("a bystander's row by its key: {}", watched.latency.describe()));
    report::line(&format!("memory: {} MB at the most, {} MB at the end", watched.most_megabytes, service.megabytes()));
    drop(service);
    one_by_one(&Service::start(&binary), &attacks);
    let failures = watched.failures();
    failures.iter().for_each(|failure| report::line(failure));
    std::process::exit(i32::from(!failures.is_empty()));
}

/// Attacks until it is told to stop; the longest that an answer took.
fn attack(
    (service, number): (&Service, usize),
    attacks: &[&Attack],
    (stop, sent, answers): (&AtomicBool, &AtomicU64, &Mutex<Figures>),
) -> Duration {
    let mut random = rand::rngs::StdRng::seed_from_u64(number as u64);
    let mut slowest = Duration::ZERO;
    while !stop.load(Ordering::Relaxed) {
        let attack = attacks[random.random_range(0..attacks.len())];
        // Most hostile callers are one caller; some are anybody.
        let client = match number % 4 {
            0 => Client::anonymous(service),
            1 => Client::role(service, "hiker", number),
            _ => Client::owner(service),
        };
        let start = Instant::now();
        let status = attack.send(&client, &mut random);
        slowest = slowest.max(start.elapsed());
        sent.fetch_add(1, Ordering::Relaxed);
        answers.lock().expect("figures").count(status);
    }
    slowest
}

/// A bystander's requests, and what the service holds meanwhile.
fn watch(service: &Service, stop: &AtomicBool, until: Instant) -> Watched {
    let client = Client::bystander(service);
    let mut watched = Watched::default();
    while Instant::now() < until && !stop.load(Ordering::Relaxed) {
        let start = Instant::now();
        let status = client.post(b"{\"query\": \"{ hut(key: { id: 3 }) { id name } }\"}", &[]);
        watched.see(status, start.elapsed(), service.megabytes());
        std::thread::sleep(Duration::from_millis(10));
    }
    watched
}

/// Every attack by itself: what it takes of processor, and of memory that stays.
fn one_by_one(service: &Service, attacks: &[&Attack]) {
    let mut random = rand::rngs::StdRng::seed_from_u64(7);
    report::line("each attack by itself, the worst of ten: status, processor ms; MB that stayed after the ten");
    for attack in attacks {
        let client = Client::owner(service);
        let held = service.megabytes();
        let worst = (0..10)
            .map(|_| {
                let before = service.processor();
                let status = attack.send(&client, &mut random);
                (service.processor() - before, status)
            })
            .max()
            .unwrap_or_default();
        let stayed = service.megabytes().saturating_sub(held);
        report::line(&format!("  {:<34} {:>4} {:>7} {stayed:>5}", attack.name, worst.1, worst.0.as_millis()));
    }
}
