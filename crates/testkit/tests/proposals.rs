//! How well the survey proposes links: a dozen schemas whose foreign keys are not declared, with data. What is found of them, and how
//! much of what is proposed is wrong.

use std::collections::{BTreeMap, BTreeSet};

use puente_core::catalog::Engine;
use puente_core::model::Proposal;
use puente_testkit::database::Database;
use puente_testkit::project::TestProject;
use rstest::rstest;

const SCHEMAS: &str = include_str!("data/proposals.txt");
/// The share of references that is found at least.
const FOUND: f64 = 0.9;
/// The share of proposals that is wrong at most.
const WRONG: f64 = 0.1;

/// `table.column > table.key`
type Reference = String;

/// A table: its name, how many rows it has, and its columns with their kinds.
type Described<'s> = (&'s str, usize, Vec<(&'s str, &'s str)>);

struct Schema {
    name: String,
    sql: String,
    references: BTreeSet<Reference>,
}

/// Numbers that look like any: the same in every run.
struct Chance(u64);

impl Chance {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).expect("31 bits") % most
    }
}

fn schemas(quote: char) -> Vec<Schema> {
    let lines = SCHEMAS.lines().filter(|line| !line.starts_with('#') && !line.is_empty());
    let mut parts: Vec<(String, Vec<&str>)> = Vec::new();
    for line in lines {
        match line.strip_prefix("= ") {
            Some(name) => parts.push((name.to_owned(), Vec::new())),
            None => parts.last_mut().expect("a schema").1.push(line),
        }
    }
    parts.into_iter().map(|(name, tables)| schema(name, &tables, quote)).collect()
}

fn schema(name: String, tables: &[&str], quote: char) -> Schema {
    let mut chance = Chance(7);
    let tables: Vec<Described<'_>> = tables
        .iter()
        .map(|line| {
            let (head, columns) = line.split_once(": ").expect("columns");
            let (table, rows) = head.split_once(' ').expect("a number of rows");
            let columns = columns.split(", ").map(|column| column.split_once(' ').expect("a kind")).collect();
            (table, rows.parse().expect("a number"), columns)
        })
        .collect();
    // Keys first: references are to them.
    let mut keys: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (table, rows, columns) in &tables {
        for (column, kind) in columns {
            let values: Vec<String> = match kind.split_once('@') {
                Some(("pk", first)) => {
                    (0..*rows).map(|row| (first.parse::<usize>().unwrap() + row).to_string()).collect()
                }
                _ => match *kind {
                    "pk" => (1..=*rows).map(|row| row.to_string()).collect(),
                    "code" | "uk" => (0..*rows)
                        .map(|row| {
                            format!(
                                "'{}{}{}'",
                                &table[..1],
                                char::from(b'A' + u8::try_from(row % 26).unwrap()),
                                row * 7 + 1
                            )
                        })
                        .collect(),
                    "uuid" => (0..*rows)
                        .map(|row| {
                            format!("'{:08x}-0000-4000-8000-{:012x}'", table.len() * 7919 + row, chance.below(1 << 30))
                        })
                        .collect(),
                    _ => continue,
                },
            };
            keys.insert(format!("{table}.{column}"), values);
        }
    }
    let (mut sql, mut references) = (String::new(), BTreeSet::new());
    for (table, rows, columns) in &tables {
        let declared: Vec<String> = columns
            .iter()
            .map(|(column, kind)| {
                let target = kind.strip_prefix("> ");
                let values = keys.get(target.unwrap_or(&format!("{table}.{column}")));
                let is_text = values.is_some_and(|values| values[0].starts_with('\'')) || *kind == "text";
                let is_key = kind.starts_with("pk") || matches!(*kind, "code" | "uuid");
                format!(
                    "{quote}{column}{quote} {}{}",
                    if is_text { "varchar(40)" } else { "integer" },
                    if is_key {
                        " primary key"
                    } else if *kind == "uk" {
                        " not null unique"
                    } else {
                        ""
                    }
                )
            })
            .collect();
        sql.push_str(&format!("create table {quote}{table}{quote} ({});\n", declared.join(", ")));
        let rows: Vec<String> = (0..*rows)
            .map(|row| {
                let value = |(column, kind): &(&str, &str)| {
                    if let Some(target) = kind.strip_prefix("> ") {
                        let values = &keys[target];
                        return match chance.below(12) {
                            0 => "null".to_owned(),
                            _ => values[chance.below(values.len())].clone(),
                        };
                    }
                    if let Some(values) = keys.get(&format!("{table}.{column}")) {
                        return values[row].clone();
                    }
                    match kind.strip_prefix("int(").and_then(|rest| rest.strip_suffix(')')) {
                        Some(most) => chance.below(most.parse::<usize>().expect("a number") + 1).to_string(),
                        None => format!("'{column} {}'", chance.below(40)),
                    }
                };
                format!("({})", columns.iter().map(value).collect::<Vec<_>>().join(", "))
            })
            .collect();
        sql.push_str(&format!("insert into {quote}{table}{quote} values {};\n", rows.join(", ")));
        let of_table = columns.iter().filter_map(|(column, kind)| Some((column, kind.strip_prefix("> ")?)));
        references.extend(of_table.map(|(column, target)| format!("{table}.{column} > {target}")));
    }
    Schema { name, sql, references }
}

fn said(proposal: &Proposal) -> Reference {
    format!("{}.{} > {}.{}", proposal.table, proposal.column, proposal.to, proposal.references)
}

#[rstest]
fn links_that_nobody_declared_are_proposed(
    #[values(Engine::Sqlite, Engine::Postgres, Engine::Mariadb)] engine: Engine,
) {
    let (mut all, mut found, mut proposed) = (0, 0, 0);
    let mut told = Vec::new();
    for schema in schemas(if engine == Engine::Mariadb { '`' } else { '"' }) {
        let database = Database::empty(engine);
        database.execute(&schema.sql);
        let project = TestProject::of(&database, "", "");
        let outcome = puente_service::survey(&project.open(), None).expect("a survey");
        let proposals: BTreeSet<Reference> = outcome.proposals.iter().map(said).collect();
        all += schema.references.len();
        proposed += proposals.len();
        found += proposals.intersection(&schema.references).count();
        told.extend(schema.references.difference(&proposals).map(|missed| format!("{}: missed {missed}", schema.name)));
        told.extend(proposals.difference(&schema.references).map(|wrong| format!("{}: wrong {wrong}", schema.name)));
    }
    let share =
        |part: usize, whole: usize| f64::from(u32::try_from(part).unwrap()) / f64::from(u32::try_from(whole).unwrap());
    let (recall, wrong) = (share(found, all), share(proposed - found, proposed));
    #[expect(clippy::print_stdout, reason = "how much was found is part of the result")]
    {
        println!(
            "{engine:?}: {found} of {all} found ({recall:.3}), {} of {proposed} wrong ({wrong:.3})",
            proposed - found
        );
    }
    assert!(recall >= FOUND && wrong <= WRONG, "{recall:.3} found, {wrong:.3} wrong\n{}", told.join("\n"));
}
