//! Random databases, grants, rules, claims and requests: Puente and the oracle must answer byte for byte the same. Every document is
//! asked several times through the service's own caches, with other values for its variables and by callers with other claims.
//!
//! `PUENTE_ORACLE_SEED` sets the first seed, `PUENTE_ORACLE_WORLDS` the number of worlds (75 requests each).

use puente_core::access::View;
use puente_core::catalog::Engine;
use puente_core::error::Code;
use puente_testkit::asker::Asker;
use puente_testkit::database::Spoken;
use puente_testkit::oracle::{Interpreter, Random, World, open_cursors, random_ask, random_grants};
use puente_testkit::seeds::{Repeat, Seeds};
use rand::{Rng as _, RngExt as _, SeedableRng as _};
use rstest::rstest;
use serde_json::{Map, Value as Json};

const WORLDS: u64 = 60;
const FRESH_WORLDS: u64 = 20;
const WORLDS_OF_SEVERAL: u64 = 15;
const FRESH_WORLDS_OF_SEVERAL: u64 = 6;
const DOCUMENTS_PER_WORLD: u64 = 25;
/// What tells the values of one request of a document from those of the others.
const VARIANTS: [u64; 3] = [0, 0x5eed, 0xfeed];

/// Somebody who asks: what is believed of them, and what they see.
struct Somebody {
    claims: Map<String, Json>,
    view: View,
}

#[rstest]
#[case::sqlite(Engine::Sqlite)]
#[case::postgres(Engine::Postgres)]
#[case::mariadb(Engine::Mariadb)]
#[case::mongodb(Engine::Mongodb)]
fn puente_and_the_oracle_answer_the_same(#[case] engine: Engine) {
    // The server of documents that the tests start is a slow one.
    let worlds = if engine == Engine::Mongodb { WORLDS / 3 } else { WORLDS };
    let seeds = Seeds::of_run(worlds, if engine == Engine::Mongodb { FRESH_WORLDS / 4 } else { FRESH_WORLDS });
    // What fresh seeds found once is looked at in every usual run: a statement that a server answers wrongly when it executes it a
    // second time, and the size of a text that is filled up with blanks.
    let found: &[u64] = if seeds.is_usual() { &[128_300_219, 128_300_254] } else { &[] };
    let told = judged(seeds.all().chain(found.iter().copied()), &[engine]);
    let least = if engine == Engine::Mongodb { 1_400 } else { 4_000 };
    told.check(least, seeds.is_usual());
}

/// Worlds of several databases, with links between them: every third of them with one that is away.
#[rstest]
#[case::two_files(&[Engine::Sqlite, Engine::Sqlite])]
#[case::a_file_and_a_server(&[Engine::Sqlite, Engine::Postgres])]
#[case::two_servers(&[Engine::Postgres, Engine::Mariadb])]
#[case::documents_and_a_file(&[Engine::Mongodb, Engine::Sqlite])]
#[case::one_of_each(&[Engine::Mariadb, Engine::Sqlite, Engine::Postgres])]
fn several_sources_answer_as_the_oracle(#[case] engines: &[Engine]) {
    let seeds = Seeds::of_run(WORLDS_OF_SEVERAL, FRESH_WORLDS_OF_SEVERAL);
    let told = judged(seeds.all(), engines);
    told.check(1_000, seeds.is_usual());
    assert!(told.with_several > told.cases / 10 || !seeds.is_usual(), "{told:?}");
}

/// What was judged.
#[derive(Debug, Default)]
struct Judged {
    cases: u64,
    again: u64,
    reused: u64,
    rows: u64,
    with_problems: u64,
    /// Requests that read several sources.
    with_several: u64,
    /// Requests that ask for what is inside JSON, or are judged by it.
    with_json: u64,
}

impl Judged {
    fn check(&self, least: u64, is_usual: bool) {
        let Judged { cases, again, reused, rows, with_problems, with_json, .. } = *self;
        assert!(with_json * 5 > cases || !is_usual, "the worlds have JSON: {with_json} of {cases}");
        assert!(cases >= least || !is_usual, "a full run has at least {least} requests");
        assert!(rows > cases && with_problems > 0 || !is_usual, "the worlds are not empty");
        assert!(again * 2 > cases && reused * 4 > again || !is_usual, "documents are asked again: {again}, {reused}");
    }
}

/// Compares the answers in random worlds of these engines.
fn judged(seeds: impl Iterator<Item = u64>, engines: &[Engine]) -> Judged {
    let mut judged = Judged::default();
    for seed in seeds {
        let _repeat = Repeat { test: "oracle", seed };
        let mut random = Random::seed_from_u64(seed);
        let spoken: Vec<Spoken> = engines.iter().map(|engine| (*engine).into()).collect();
        let mut world = World::of_sources(&mut random, &spoken);
        let grants_seed = random.next_u64();
        let granted =
            VARIANTS.map(|variant| random_grants(&mut Random::seed_from_u64(grants_seed), &world, false, variant));
        let text = granted[0].text.clone();
        // Whom cursors are asked of: all sources are there.
        let whole = Asker::of_grants(world.sources(), &world.model, &text);
        if engines.len() > 1 && random.random_bool(0.3) {
            world.away = Some(random.random_range(0..engines.len()));
        }
        let broken = world.away.map(|_| Asker::of_grants(world.sources(), &world.model, &text));
        let asker = broken.as_ref().unwrap_or(&whole);
        let several: Vec<Somebody> = granted
            .into_iter()
            .filter(|granted| granted.text == text)
            .map(|granted| Somebody { claims: granted.claims, view: granted.view })
            .collect();
        for number in 0..DOCUMENTS_PER_WORLD {
            let ask_seed = random.next_u64();
            let mut first = String::new();
            for (at, variant) in VARIANTS.into_iter().enumerate() {
                let Somebody { claims, view } = &several[at % several.len()];
                let mut cursors =
                    |of: usize, order: &str, place: usize| cursor(&whole, view, claims, (of, order, place));
                let ask = random_ask(&mut Random::seed_from_u64(ask_seed), &world, view, variant, &mut cursors);
                if at == 0 {
                    first.clone_from(&ask.document);
                }
                judged.again += u64::from(at > 0 && ask.document == first);
                let told = format!(
                    "{engines:?}, seed {seed}, away {:?}, document {number}, variant {at}:\n{}\n{}\n{text}\n{claims:?}\n",
                    world.away,
                    ask.document,
                    Json::Object(ask.variables.clone()),
                );
                let outcome = match asker.ask(&ask.document, &ask.variables, claims, false) {
                    Ok(outcome) => outcome,
                    // What reads nothing else is refused as a whole.
                    Err(problems) if problems[0].code == Code::SourceUnavailable && ask.is_away(&world) => {
                        judged.cases += 1;
                        judged.with_problems += 1;
                        continue;
                    }
                    Err(problems) => panic!("{told}{problems:#?}"),
                };
                let found = open_cursors(&asker.sealer, std::str::from_utf8(outcome.answer.data()).unwrap());
                let (expected, mut expected_problems) = Interpreter::new(&world, view).answer(&ask);
                let statements: Vec<_> = outcome.statements.iter().map(|report| &report.text).collect();
                // What is served as JSON is written as the engine writes it.
                let compact = |text: &str| -> Json { serde_json::from_str(text).expect("an answer is JSON") };
                assert_eq!(compact(&found).to_string(), compact(&expected).to_string(), "{told}{statements:#?}");
                let path = |problem: &puente_core::error::Problem| {
                    let steps = problem.path.iter();
                    let steps = steps.map(|step| serde_json::to_string(step).unwrap().trim_matches('"').to_owned());
                    steps.collect::<Vec<String>>().join(".")
                };
                let mut problems: Vec<String> = outcome.answer.problems.iter().map(path).collect();
                problems.sort();
                expected_problems.sort();
                if problems.len() < puente_core::error::MOST_PROBLEMS {
                    assert_eq!(problems, expected_problems, "{told}{:#?}", outcome.answer.problems);
                } else {
                    assert!(problems.iter().all(|problem| expected_problems.contains(problem)), "{told}");
                }
                judged.cases += 1;
                judged.with_json += u64::from(statements.iter().any(|text| text.contains("doc")));
                let mut sources: Vec<usize> = outcome.statements.iter().map(|report| report.source).collect();
                sources.sort_unstable();
                sources.dedup();
                judged.with_several += u64::from(sources.len() > 1);
                judged.rows += outcome.statements.iter().map(|report| report.rows).sum::<u64>();
                judged.with_problems += u64::from(!problems.is_empty());
            }
        }
        judged.reused += asker.plans_reused();
    }
    #[expect(clippy::print_stdout, reason = "how much was compared is part of the result")]
    {
        println!("{engines:?}: {judged:?}");
    }
    judged
}

/// The cursor of a row of a type's whole list, from Puente itself.
fn cursor(
    asker: &Asker,
    view: &View,
    claims: &Map<String, Json>,
    (of, order, place): (usize, &str, usize),
) -> Option<String> {
    let list = &view.model().types[of].list;
    let arguments = if order == "[]" { String::new() } else { format!("orderBy: {order}, ") };
    let text = format!("{{ {list}({arguments}first: 1, skip: {place}) {{ edges {{ cursor }} }} }}");
    let outcome =
        asker.ask(&text, &Map::new(), claims, false).unwrap_or_else(|problems| panic!("{text}\n{problems:#?}"));
    let data: Json = serde_json::from_slice(outcome.answer.data()).unwrap();
    data[list]["edges"][0]["cursor"].as_str().map(str::to_owned)
}
