//! Fuzzing: inputs that were valid once, edited at random, given to code that must neither panic nor hang, whatever comes.
//!
//! In `make test` each target has a few hundred inputs; `make fuzz MINUTES=…` goes on for as long as it is told. What fails is
//! made as small as it can be, and printed.

use std::time::{Duration, Instant};

use proptest::prelude::*;
use proptest::sample::Index;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};

/// Inputs of a target where nothing else is said.
const CASES: u32 = 300;
/// Inputs between two looks at the clock.
const CASES_PER_ROUND: u32 = 2_000;
/// The longest input: about what a request may hold.
const MOST_BYTES: usize = 64 << 10;
/// Time that one input may take in a long run. It is for the clock only to notice what hangs.
const PATIENCE: Duration = Duration::from_secs(20);

/// One change of an input.
#[derive(Debug, Clone)]
enum Edit {
    Insert(Index, Vec<u8>),
    Replace(Index, u8),
    Remove(Index, usize),
    Repeat(Index, usize, usize),
    Splice(Index, Index, usize),
    Wrap(Index, usize, u8),
}

/// What stands in languages and formats that are read here.
const WORDS: &[&str] = &[
    "{",
    "}",
    "[",
    "]",
    "(",
    ")",
    "\"",
    "\\",
    "\\u0000",
    "$",
    "$v",
    "...",
    "@include(if: true)",
    "null",
    "true",
    "-0",
    "1e999",
    "9223372036854775808",
    "\u{feff}",
    "\u{202e}",
    "é",
    "__schema",
    "__typename",
    "fragment f on Hut { ...f }",
    "in",
    "has(",
    ".exists(x, ",
    "&&",
    "||",
    "!",
    "claims.",
    "row.",
    "now",
    "[[",
    "]]",
    "=",
    "\n",
    "\t",
    "'''",
    "# ",
    "${PATH}",
    ".",
    "..",
    "\0",
    "$serde_json::private::RawValue",
    "eq",
    "and",
    "or",
    "first",
    "after",
    "orderBy",
];

fn edit() -> impl Strategy<Value = Edit> {
    let word = prop_oneof![
        4 => proptest::sample::select(WORDS).prop_map(|word| word.as_bytes().to_vec()),
        1 => proptest::collection::vec(any::<u8>(), 1..8),
    ];
    prop_oneof![
        4 => (any::<Index>(), word).prop_map(|(at, word)| Edit::Insert(at, word)),
        3 => (any::<Index>(), any::<u8>()).prop_map(|(at, byte)| Edit::Replace(at, byte)),
        3 => (any::<Index>(), 1..40_usize).prop_map(|(at, length)| Edit::Remove(at, length)),
        2 => (any::<Index>(), 1..60_usize, 1..200_usize).prop_map(|(at, length, times)| Edit::Repeat(at, length, times)),
        3 => (any::<Index>(), any::<Index>(), 1..200_usize).prop_map(|(at, from, length)| Edit::Splice(at, from, length)),
        1 => (any::<Index>(), 1..300_usize, proptest::sample::select(&b"[{(!"[..])).prop_map(|(at, times, byte)| Edit::Wrap(at, times, byte)),
    ]
}

impl Edit {
    fn apply(&self, bytes: &mut Vec<u8>, other: &[u8]) {
        let place = |at: &Index, length: usize| at.index(length + 1);
        let insert = |bytes: &mut Vec<u8>, at: usize, what: &[u8]| {
            bytes.splice(at..at, what.iter().copied());
        };
        match self {
            Edit::Insert(at, what) => {
                let at = place(at, bytes.len());
                insert(bytes, at, what);
            }
            Edit::Replace(at, byte) if !bytes.is_empty() => {
                let at = at.index(bytes.len());
                bytes[at] = *byte;
            }
            Edit::Replace(..) => {}
            Edit::Remove(at, length) => {
                let at = place(at, bytes.len());
                let end = (at + length).min(bytes.len());
                bytes.drain(at..end);
            }
            Edit::Repeat(at, length, times) => {
                let at = place(at, bytes.len());
                let part = bytes[at..(at + length).min(bytes.len())].repeat(*times);
                insert(bytes, at, &part);
            }
            Edit::Splice(at, from, length) => {
                let (at, from) = (place(at, bytes.len()), place(from, other.len()));
                insert(bytes, at, &other[from..(from + length).min(other.len())]);
            }
            Edit::Wrap(at, times, byte) => {
                let at = place(at, bytes.len());
                let closing = match byte {
                    b'[' => b']',
                    b'{' => b'}',
                    b'(' => b')',
                    other => *other,
                };
                insert(bytes, at, &vec![closing; *times]);
                insert(bytes, at, &vec![*byte; *times]);
            }
        }
        bytes.truncate(MOST_BYTES);
    }
}

/// Inputs made of seeds.
fn inputs(seeds: &[Vec<u8>]) -> impl Strategy<Value = Vec<u8>> + use<> {
    let seeds = seeds.to_vec();
    let one = proptest::sample::select(seeds.clone());
    let other = proptest::sample::select(seeds);
    (one, other, proptest::collection::vec(edit(), 0..8)).prop_map(|(mut bytes, other, edits)| {
        edits.iter().for_each(|edit| edit.apply(&mut bytes, &other));
        bytes
    })
}

/// Gives a target inputs made of seeds, which are valid ones of its kind.
///
/// # Panics
/// Where the target panics, or takes too long, on some input.
pub fn fuzz(name: &str, seeds: &[Vec<u8>], target: impl Fn(&[u8])) {
    let minutes: Option<f64> = std::env::var("PUENTE_FUZZ_MINUTES").ok().map(|text| text.parse().expect("minutes"));
    let until = minutes.map(|minutes| Instant::now() + Duration::from_secs_f64(minutes * 60.0));
    let mut executions = 0_u64;
    let mut round = 0_u64;
    loop {
        let cases = if until.is_some() { CASES_PER_ROUND } else { CASES };
        let config = Config { cases, failure_persistence: None, max_shrink_iters: 20_000, ..Config::default() };
        // A short run tries the same inputs each time; a long one goes on where no other was.
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |since| since.as_secs());
        let mut seed = [0; 32];
        seed[..8].copy_from_slice(&round.to_le_bytes());
        if until.is_some() {
            seed[8..16].copy_from_slice(&now.to_le_bytes());
        }
        let mut runner = TestRunner::new_with_rng(config, TestRng::from_seed(RngAlgorithm::ChaCha, &seed));
        let found = runner.run(&inputs(seeds), |input| {
            let start = Instant::now();
            target(&input);
            prop_assert!(until.is_none() || start.elapsed() < PATIENCE, "it took {:?}", start.elapsed());
            Ok(())
        });
        executions += u64::from(cases);
        if let Err(error) = found {
            panic!("{name}, after {executions} inputs: {error}");
        }
        round += 1;
        if until.is_none_or(|until| Instant::now() >= until) {
            break;
        }
    }
    #[expect(clippy::print_stdout, reason = "how much was tried is part of the result")]
    {
        println!("{name}: {executions} inputs, nothing found");
    }
}
