//! Random databases, grants, rules, claims and asks: Puente and the oracle must answer byte for byte the same.
//!
//! `PUENTE_ORACLE_SEED` sets the first seed, `PUENTE_ORACLE_WORLDS` the number of worlds (25 asks each).

use puente_core::catalog::Engine;
use puente_testkit::asker::Asker;
use puente_testkit::oracle::{Interpreter, Random, World, open_cursors, random_ask, random_grants};
use rand::SeedableRng as _;
use rstest::rstest;
use serde_json::Map;

const WORLDS: u64 = 160;
const ASKS_PER_WORLD: u64 = 25;

fn setting(name: &str, or: u64) -> u64 {
    std::env::var(name).ok().map_or(or, |text| text.parse().expect("a whole number"))
}

#[rstest]
#[case::sqlite(Engine::Sqlite)]
#[case::postgres(Engine::Postgres)]
#[case::mariadb(Engine::Mariadb)]
fn puente_and_the_oracle_answer_the_same(#[case] engine: Engine) {
    let first = setting("PUENTE_ORACLE_SEED", 1);
    let worlds = setting("PUENTE_ORACLE_WORLDS", WORLDS);
    let (mut cases, mut rows, mut with_problems) = (0, 0, 0);
    for seed in first..first + worlds {
        let mut random = Random::seed_from_u64(seed);
        let world = World::random(&mut random, engine);
        let granted = random_grants(&mut random, &world, false);
        let asker = Asker::of_grants(world.source(), &world.model, &granted.text, &granted.claims);
        let view = &granted.view;
        for number in 0..ASKS_PER_WORLD {
            let mut cursors = |of: usize, order: &str, place: usize| cursor(&asker, of, order, place);
            let ask = random_ask(&mut random, &world, view, &mut cursors);
            let told = format!(
                "{engine:?}, seed {seed}, ask {number}:\n{}\n{:?}\n{}\n{:?}\n",
                ask.document, ask.variables, granted.text, granted.claims
            );
            let outcome =
                asker.ask(&ask.document, &ask.variables).unwrap_or_else(|problems| panic!("{told}{problems:#?}"));
            let found = open_cursors(&asker.sealer, std::str::from_utf8(outcome.answer.data()).unwrap());
            let (expected, mut expected_problems) = Interpreter::new(&world, view).answer(&ask);
            let statements: Vec<_> = outcome.statements.iter().map(|report| &report.text).collect();
            assert_eq!(found, expected, "{told}{statements:#?}");
            let mut problems: Vec<String> = outcome
                .answer
                .problems
                .iter()
                .map(|problem| {
                    let steps: Vec<String> = problem
                        .path
                        .iter()
                        .map(|step| serde_json::to_string(step).unwrap().trim_matches('"').to_owned())
                        .collect();
                    steps.join(".")
                })
                .collect();
            problems.sort();
            expected_problems.sort();
            expected_problems.truncate(100);
            if problems.len() < 100 {
                assert_eq!(problems, expected_problems, "{told}");
            }
            cases += 1;
            rows += outcome.statements.iter().map(|report| report.rows).sum::<u64>();
            with_problems += u64::from(!problems.is_empty());
        }
    }
    #[expect(clippy::print_stdout, reason = "how much was compared is part of the result")]
    {
        println!("{engine:?}: {cases} cases, {rows} rows read, {with_problems} answers with field errors");
    }
    assert!(cases >= 4_000 || worlds != WORLDS, "a full run has at least 4,000 cases");
    assert!(rows > cases && with_problems > 0 || worlds != WORLDS, "the worlds are not empty");
}

/// The cursor of a row of a type's whole list, from Puente itself.
fn cursor(asker: &Asker, of: usize, order: &str, place: usize) -> Option<String> {
    let list = &asker.view.model().types[of].list;
    let arguments = if order == "[]" { String::new() } else { format!("orderBy: {order}, ") };
    let text = format!("{{ {list}({arguments}first: 1, offset: {place}) {{ edges {{ cursor }} }} }}");
    let outcome = asker.ask(&text, &Map::new()).unwrap_or_else(|problems| panic!("{text}\n{problems:#?}"));
    let data: serde_json::Value = serde_json::from_slice(outcome.answer.data()).unwrap();
    data[list]["edges"][0]["cursor"].as_str().map(str::to_owned)
}
