//! How SQLite would run the statements of a plan: its own words, and what an index would spare.

use crate::statements::{program, runs};
use crate::{member_index, unindexed};

use puente_core::catalog::Engine;
use puente_core::error::Problem;
use puente_core::plan::{BoundPlan, SelectId};
use puente_sql::{Slot, Sqlite, Statement};
use rusqlite::Connection;

use super::DatabaseFile;
use super::bind::bind_slot;
use super::fault::problem;
use super::statements::Kept;
use puente_run::{Explanation, Request};

/// Explains the statements of a plan without running them.
///
/// # Errors
/// What the database reports.
pub(super) fn explain(kept: &Kept, file: &DatabaseFile, request: &Request) -> Result<Vec<Explanation>, Problem> {
    let read = program(request).statements().iter().enumerate().filter(|(select, _)| runs(request, *select));
    read.map(|(select, statement)| explain_one(&kept.connection, statement, select, &request.bound))
        .collect::<rusqlite::Result<_>>()
        .map_err(|error| problem(&error, file))
}

fn explain_one(
    connection: &Connection,
    told: &Statement,
    select: SelectId,
    bound: &BoundPlan,
) -> rusqlite::Result<Explanation> {
    let mut statement = connection.prepare(&format!("explain query plan {}", told.text))?;
    for (at, slot) in told.slots.iter().enumerate() {
        match slot {
            Slot::Keys => statement.raw_bind_parameter(at + 1, "[]")?,
            slot => bind_slot(&mut statement, at + 1, slot, bound)?,
        }
    }
    let mut rows = statement.raw_query();
    let (mut plan, mut depths) = (Vec::new(), vec![(0_i64, 0_usize)]);
    while let Some(row) = rows.next()? {
        let (id, parent, detail): (i64, i64, String) = (row.get(0)?, row.get(1)?, row.get(3)?);
        let depth = depths.iter().rev().find(|(known, _)| *known == parent).map_or(0, |(_, depth)| *depth);
        depths.push((id, depth + 1));
        plan.push(format!("{}{detail}", "  ".repeat(depth)));
    }
    let mut advice: Vec<String> = plan.iter().filter_map(|step| scan_advice(step.trim())).collect();
    if !advice.is_empty() {
        advice = unindexed::named(advice, bound.plan(), select, Engine::Sqlite);
        advice.extend(member_index::advice(bound.plan(), select, &Sqlite));
    }
    Ok(Explanation { text: told.text.clone(), plan, advice })
}

/// A step that reads a whole table, where the rows are restricted or sorted: an index would find or order them.
fn scan_advice(step: &str) -> Option<String> {
    if step.starts_with("USE TEMP B-TREE FOR") {
        let what = if step.ends_with("GROUP BY") { "grouped" } else { "sorted" };
        return Some(format!("rows are {what} in memory; an index on the columns of the order would spare that"));
    }
    let alias = step.strip_prefix("SCAN ")?;
    let is_table = alias.starts_with('t') && !alias.contains(" USING ");
    is_table
        .then(|| format!("`{alias}` is read row by row; an index on the columns of its conditions would find the rows"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scans_and_sorts_are_pointed_at() {
        assert!(scan_advice("SCAN t0").unwrap().contains("`t0` is read row by row"));
        assert!(scan_advice("USE TEMP B-TREE FOR ORDER BY").unwrap().contains("sorted"));
        for fine in ["SEARCH t0 USING INDEX a (b=?)", "SCAN t0 USING COVERING INDEX a", "SCAN json_each VIRTUAL TABLE"]
        {
            assert_eq!(scan_advice(fine), None, "{fine}");
        }
    }
}
