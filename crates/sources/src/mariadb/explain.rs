//! How MariaDB would run the statements of a plan: its own words, and what an index would spare.

use mysql_async::{Conn, Row, Value};
use puente_core::answer::KeyValues;
use puente_core::catalog::Engine;
use puente_core::error::{Code, Problem};
use puente_sql::{Program, Statement};

use super::connect::Server;
use super::params;
use super::run::{execute, united_text};
use crate::cluster::Job;
use crate::server::within;
use crate::statements::{program, runs};
use crate::unindexed;
use puente_run::{Explanation, Request};

/// Rows from which reading a whole table is worth a word.
const MANY_ROWS: u64 = 1_000;
/// Bytes that an explanation may have.
const EXPLAINED_BYTES: usize = 1 << 20;

impl Server {
    /// Explains the statements of a plan without running them.
    pub(super) async fn explain(&self, job: Job) -> Result<Vec<Explanation>, Problem> {
        let request = &*job.request;
        let mut disconnected = job.disconnected;
        let mut session = self.session(&request.party, request.deadline).await?;
        let id = session.id();
        match within(request.deadline, &mut disconnected, explain_on(&mut session, request)).await {
            Some(Ok(explained)) => {
                session.give_back();
                Ok(explained)
            }
            Some(Err(problem)) => Err(problem),
            None => {
                self.cancel(id).await;
                session.give_up().await;
                Err(Problem::new(Code::TimedOut, "explaining took too long; ask for less"))
            }
        }
    }
}

async fn explain_on(session: &mut Conn, request: &Request) -> Result<Vec<Explanation>, Problem> {
    let mut explained = Vec::new();
    for (select, statement) in program(request).statements().iter().enumerate() {
        if !runs(request, select) {
            continue;
        }
        let values = params::values(&statement.slots, &request.bound, Some(&KeyValues::default()), &[]);
        let mut told = explain_one(session, statement, statement.text.clone(), values).await?;
        told.advice = unindexed::named(told.advice, request.bound.plan(), select, Engine::Mariadb);
        explained.push(told);
        if let Program::Batched(_, union_per_parent) = program(request)
            && let Some(one) = &union_per_parent[select]
        {
            let values = params::union_per_parent(&one.slots, &request.bound, &KeyValues::default(), 1);
            explained.push(explain_one(session, one, united_text(one), values).await?);
        }
    }
    Ok(explained)
}

async fn explain_one(
    session: &mut Conn,
    statement: &Statement,
    told: String,
    values: Vec<Value>,
) -> Result<Explanation, Problem> {
    let text = format!("explain {}", statement.text);
    let steps: Vec<Step> = execute(session, &text, values, EXPLAINED_BYTES).await?.iter().map(Step::of).collect();
    Ok(Explanation {
        text: told,
        plan: steps.iter().map(Step::describe).collect(),
        advice: steps.iter().filter_map(Step::advice).collect(),
    })
}

/// A row of EXPLAIN.
#[derive(Debug, Default)]
struct Step {
    table: String,
    access: String,
    key: Option<String>,
    rows: u64,
    extra: String,
}

impl Step {
    fn of(row: &Row) -> Self {
        let text = |name: &str| row.get_opt::<Option<String>, _>(name).and_then(Result::ok).flatten();
        Step {
            table: text("table").unwrap_or_default(),
            access: text("type").unwrap_or_default(),
            key: text("key"),
            rows: row.get_opt::<Option<u64>, _>("rows").and_then(Result::ok).flatten().unwrap_or(0),
            extra: text("Extra").unwrap_or_default(),
        }
    }

    fn describe(&self) -> String {
        let key = self.key.as_ref().map_or_else(String::new, |key| format!(" using {key}"));
        let extra = if self.extra.is_empty() { String::new() } else { format!("; {}", self.extra) };
        format!("{} {}{key} (rows {}){extra}", self.access, self.table, self.rows)
    }

    /// A whole table read for a condition.
    fn advice(&self) -> Option<String> {
        let is_table = !self.table.starts_with('<') && self.table != "k" && self.table != "j";
        let is_scan = matches!(self.access.as_str(), "ALL" | "index") && self.extra.contains("Using where");
        (is_table && is_scan && self.rows >= MANY_ROWS).then(|| {
            format!(
                "`{}` is read row by row, about {} rows; an index on the columns of its conditions would find the rows",
                self.table, self.rows
            )
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_filtered_scan_of_a_large_table_is_pointed_at() {
        let scan = |table: &str, access: &str, rows| Step {
            table: table.into(),
            access: access.into(),
            rows,
            extra: "Using where".into(),
            ..Step::default()
        };
        assert!(scan("t0", "ALL", 20_000).advice().unwrap().contains("`t0` is read row by row, about 20000 rows"));
        for fine in [scan("t0", "ref", 20_000), scan("t0", "ALL", 60), scan("<derived2>", "ALL", 20_000)] {
            assert_eq!(fine.advice(), None, "{fine:?}");
        }
    }
}
