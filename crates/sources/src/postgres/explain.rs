//! How PostgreSQL would run the statements of a plan: its own words, and what an index would spare.

use std::collections::VecDeque;

use deadpool_postgres::Object;
use puente_core::answer::KeyValues;
use puente_core::catalog::Engine;
use puente_core::error::{Code, Problem};
use puente_sql::{Postgres, Program, Statement};
use serde_json::Value as Json;
use tokio_postgres::types::ToSql;

use super::connect::Server;
use super::run::Raw;
use super::{fault, params};
use crate::cluster::Job;
use crate::member_index::advice as advice_of;
use crate::server::within;
use crate::statements::{program, runs};
use crate::unindexed;
use puente_run::{Explanation, Request};

/// Rows from which reading a whole table is worth a word.
const MANY_ROWS: f64 = 1_000.0;

impl Server {
    /// Explains the statements of a plan without running them.
    pub(super) async fn explain(&self, job: Job) -> Result<Vec<Explanation>, Problem> {
        let request = &*job.request;
        let mut disconnected = job.disconnected;
        let session = self.session(&request.party, request.deadline).await?;
        match within(request.deadline, &mut disconnected, self.explain_on(&session, request)).await {
            Some(explained) => explained,
            None => {
                self.cancel(session).await;
                Err(Problem::new(Code::TimedOut, "explaining took too long; ask for less"))
            }
        }
    }

    async fn explain_on(&self, client: &Object, request: &Request) -> Result<Vec<Explanation>, Problem> {
        let mut explained = Vec::new();
        for (at, statement) in program(request).statements().iter().enumerate() {
            if matches!(program(request), Program::Batched(..)) && !runs(request, at) {
                continue;
            }
            let values = params::values(&statement.slots, &request.bound, Some(&KeyValues::default()), &[]);
            let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|value| value as _).collect();
            let text = format!("explain (format json) {}", statement.text);
            let row = client.query_one(&text, &values).await.map_err(|error| fault::problem(&error))?;
            let bytes = row.try_get::<_, Raw<'_>>(0).map_err(|error| fault::problem(&error))?;
            let json: Json = serde_json::from_slice(bytes.0).unwrap_or_default();
            let mut told = explanation(statement, &json[0]["Plan"]);
            if !told.advice.is_empty() {
                let selects = (0..request.bound.plan().selects().len()).filter(|select| runs(request, *select));
                let plan = request.bound.plan();
                told.advice.extend(selects.flat_map(|select| {
                    unindexed::advice(plan, select, Engine::Postgres)
                        .into_iter()
                        .chain(advice_of(plan, select, &Postgres))
                }));
            }
            explained.push(told);
        }
        Ok(explained)
    }
}

fn explanation(statement: &Statement, root: &Json) -> Explanation {
    let mut explanation = Explanation { text: statement.text.clone(), plan: Vec::new(), advice: Vec::new() };
    let mut steps = VecDeque::from([(0, root)]);
    while let Some((depth, step)) = steps.pop_front() {
        explanation.plan.push(format!("{}{}", "  ".repeat(depth), describe(step)));
        explanation.advice.extend(advice(step));
        for below in step["Plans"].as_array().into_iter().flatten().rev() {
            steps.push_front((depth + 1, below));
        }
    }
    explanation
}

fn describe(step: &Json) -> String {
    let text = |name: &str| step[name].as_str();
    let mut line = text("Node Type").unwrap_or("?").to_owned();
    if let Some(index) = text("Index Name") {
        line.push_str(&format!(" using {index}"));
    }
    if let Some(relation) = text("Relation Name") {
        line.push_str(&format!(" on {relation} {}", text("Alias").unwrap_or_default()));
    }
    for name in ["Index Cond", "Filter", "Hash Cond", "Sort Key"] {
        match &step[name] {
            Json::String(value) => line.push_str(&format!("; {}: {value}", name.to_lowercase())),
            Json::Array(values) => {
                let values: Vec<&str> = values.iter().filter_map(Json::as_str).collect();
                line.push_str(&format!("; {}: {}", name.to_lowercase(), values.join(", ")));
            }
            _ => {}
        }
    }
    let number = |name: &str| step[name].as_f64().unwrap_or_default();
    format!("{line} (rows {}, cost {})", number("Plan Rows"), number("Total Cost"))
}

/// A whole table read for a condition that leaves few of its rows.
fn advice(step: &Json) -> Option<String> {
    let is_scan = step["Node Type"].as_str()?.ends_with("Seq Scan");
    let filter = step["Filter"].as_str()?;
    let table = step["Relation Name"].as_str()?;
    let cost = step["Total Cost"].as_f64()?;
    // About one unit of cost per hundred rows read.
    (is_scan && cost * 100.0 > MANY_ROWS)
        .then(|| format!("`{table}` is read row by row for {filter}; an index on those columns would find the rows"))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_filtered_scan_of_a_large_table_is_pointed_at() {
        let scan = |cost: f64, filter: Json| {
            json!({"Node Type": "Seq Scan", "Relation Name": "readings", "Alias": "t0", "Filter": filter,
                   "Plan Rows": 5, "Total Cost": cost})
        };
        let root = json!({"Node Type": "Result", "Plans": [scan(2_000.0, json!("(wind = 7)"))], "Plan Rows": 1});
        let statement = Statement { text: "select 1".into(), slots: Vec::new() };
        let found = explanation(&statement, &root);
        assert!(found.plan[1].starts_with("  Seq Scan on readings t0; filter: (wind = 7)"), "{:?}", found.plan);
        assert!(found.advice[0].contains("`readings` is read row by row for (wind = 7)"));
        assert!(advice(&scan(1.0, json!("(wind = 7)"))).is_none() && advice(&scan(2_000.0, Json::Null)).is_none());
    }
}
