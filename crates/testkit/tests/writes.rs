//! Random mutations under random grants, one after the other on random databases: after each the whole database equals the oracle's rows, and
//! the answer is the oracle's, byte for byte. What is refused or rehearsed leaves no trace.

use std::collections::BTreeMap;

use puente_core::catalog::Engine;
use puente_core::error::MOST_PROBLEMS;
use puente_core::value::Datum;
use puente_testkit::asker::Asker;
use puente_testkit::database::Spoken;
use puente_testkit::oracle::{Expected, Random, World, canonical, open_cursors, random_change, random_grants};
use puente_testkit::seeds::{Repeat, Seeds};
use rand::{RngExt as _, SeedableRng as _};
use rstest::rstest;

/// Databases per engine; `PUENTE_ORACLE_WORLDS` and `PUENTE_ORACLE_SEED` choose others.
const WORLDS: u64 = 70;
const FRESH_WORLDS: u64 = 20;
/// The same of those in which nothing but JSON is changed.
const WORLDS_OF_JSON: u64 = 60;
const FRESH_WORLDS_OF_JSON: u64 = 20;
const CHANGES_PER_WORLD: usize = 25;

/// The codes of what the rows do not allow.
const REFUSALS: &[&str] = &["CONFLICT", "REFERENCE_BROKEN", "NOT_PERMITTED", "ROW_MISSING", "VALUE_REFUSED"];

#[rstest]
#[case::sqlite(Engine::Sqlite.into())]
#[case::postgres(Engine::Postgres.into())]
#[case::mariadb(Engine::Mariadb.into())]
#[case::mongodb(Engine::Mongodb.into())]
#[case::mysql(Spoken::AsMysql)]
fn the_database_is_as_the_oracle_says(#[case] spoken: Spoken) {
    let seeds = Seeds::of_run(WORLDS, FRESH_WORLDS);
    let Judged { cases, done, refused, .. } = judged(&seeds, spoken, false);
    assert!(cases >= 1_000 || !seeds.is_usual(), "a full run has at least 1,000 cases, found {cases}");
    assert!(done * 3 > cases && refused.len() >= 3 || !seeds.is_usual(), "both happen: {done} of {cases}, {refused:?}");
}

/// The same where nothing but JSON of rows that are there is changed.
#[rstest]
#[case::sqlite(Engine::Sqlite.into())]
#[case::postgres(Engine::Postgres.into())]
#[case::mariadb(Engine::Mariadb.into())]
#[case::mongodb(Engine::Mongodb.into())]
fn json_is_as_the_oracle_says(#[case] spoken: Spoken) {
    let seeds = Seeds::of_run(WORLDS_OF_JSON, FRESH_WORLDS_OF_JSON);
    let Judged { cases, done, in_part, .. } = judged(&seeds, spoken, true);
    assert!(in_part >= 300 || !seeds.is_usual(), "JSON is changed in part: {in_part} of {done} of {cases}");
}

/// What was judged.
struct Judged {
    cases: usize,
    done: usize,
    /// Of those that were done, how many changed JSON in part.
    in_part: usize,
    /// How often it was refused, by code.
    refused: BTreeMap<&'static str, usize>,
}

fn judged(seeds: &Seeds, spoken: Spoken, of_json: bool) -> Judged {
    let (mut cases, mut done, mut in_part) = (0, 0, 0);
    let mut refused: BTreeMap<&'static str, usize> = BTreeMap::new();
    for seed in seeds.all() {
        let _repeat = Repeat { test: "writes", seed };
        let mut random = Random::seed_from_u64(seed);
        let mut world = World::of_sources(&mut random, &[spoken]);
        let granted = random_grants(&mut random, &world, true, 0);
        let asker = Asker::of_grants(world.sources(), &world.model, &granted.text);
        let view = &granted.view;
        for number in 0..CHANGES_PER_WORLD {
            let Some(change) = random_change(&mut random, &world, view, of_json) else { continue };
            let rehearse = random.random_bool(0.2);
            let told = format!(
                "{spoken:?}, seed {seed}, change {number}, rehearsed: {rehearse}:\n{}\n{}\n{}\n{:?}\n",
                change.document,
                serde_json::to_string(&change.variables).unwrap(),
                granted.text,
                granted.claims
            );
            let before = world.rows.clone();
            let expected = change.apply(&mut world, view);
            if matches!(expected, Expected::Unknown) {
                continue;
            }
            let found = asker.ask(&change.document, &change.variables, &granted.claims, rehearse);
            match (&expected, &found) {
                (Expected::Done(data, problems), Ok(outcome)) => {
                    let statements: Vec<_> = outcome.statements.iter().map(|report| &report.text).collect();
                    let answer = std::str::from_utf8(outcome.answer.data()).unwrap();
                    // JSON is written as it is stored, with blanks or without.
                    let compact = |text: &str| canonical(&serde_json::from_str(text).expect("an answer is JSON"));
                    let answer = open_cursors(&asker.sealer, answer);
                    assert_eq!(compact(&answer), compact(data), "{told}{statements:#?}");
                    assert_eq!(outcome.answer.problems.len(), problems.len().min(MOST_PROBLEMS), "{told}");
                    done += 1;
                    in_part += usize::from(change.changes_json());
                }
                (Expected::Refused(codes), Err(problems)) => {
                    let code = problems[0].code.as_str();
                    assert!(
                        codes.contains(code) || (!change.is_simple() && REFUSALS.contains(&code)),
                        "{told}{problems:#?}, expected {codes:?}"
                    );
                    *refused.entry(code).or_default() += 1;
                }
                _ => {
                    let found = found.map(|outcome| String::from_utf8(outcome.answer.body).unwrap());
                    panic!("{told}expected {expected:?}\nfound {found:?}\nfor {view:#?}")
                }
            }
            if rehearse {
                world.rows = before;
            }
            let now = world.read_again();
            assert_eq!(sorted(&now), sorted(&world.rows), "{told}");
            world.rows = now;
            cases += 1;
        }
    }
    #[expect(clippy::print_stdout, reason = "how much was compared is part of the result")]
    {
        println!("{spoken:?}: {cases} mutations, {done} done, {in_part} of JSON in part, refused: {refused:?}");
    }
    Judged { cases, done, in_part, refused }
}

/// A cell as text, however an engine writes JSON.
fn plain(cell: &Datum) -> String {
    match cell {
        Datum::Text(text) => serde_json::from_str(text).map_or_else(|_| format!("{text:?}"), |json| canonical(&json)),
        Datum::List(items) => format!("[{}]", items.iter().map(plain).collect::<Vec<_>>().join(", ")),
        cell => format!("{cell:?}"),
    }
}

fn sorted(rows: &[Vec<Vec<Datum>>]) -> Vec<Vec<String>> {
    let texts = |rows: &Vec<Vec<Datum>>| {
        let mut texts: Vec<String> =
            rows.iter().map(|row| row.iter().map(plain).collect::<Vec<_>>().join(", ")).collect();
        texts.sort();
        texts
    };
    rows.iter().map(texts).collect()
}
