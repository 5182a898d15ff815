//! Advice for a statement that reads a whole table: the columns that an index would be on.

use puente_core::catalog::Engine;
use puente_core::plan::{Plan, SelectId, Use, unindexed};

/// What is to be said of a plan: where it says that something is read row by row, of which columns the index would be.
pub(crate) fn named(of_plan: Vec<String>, plan: &Plan, select: SelectId, engine: Engine) -> Vec<String> {
    if of_plan.is_empty() {
        return of_plan;
    }
    let columns = advice(plan, select, engine);
    if columns.is_empty() { of_plan } else { columns }
}

/// A sentence for each column that no index begins with.
pub(crate) fn advice(plan: &Plan, select: SelectId, engine: Engine) -> Vec<String> {
    let said = |column: &str, used: Use| match used {
        Use::Found => format!(
            "rows are found by `{column}`, and no index begins with that column; an index on it would avoid the scan"
        ),
        Use::Searched => {
            let remedy = match engine {
                Engine::Postgres => "a trigram index does (extension `pg_trgm`, `using gin (… gin_trgm_ops)`)",
                Engine::Sqlite | Engine::Mariadb | Engine::Mongodb => {
                    "use `startsWith`, or add a condition that an index serves"
                }
            };
            format!("a part of `{column}` is looked for, and no ordinary index helps with that; {remedy}")
        }
        Use::Ordered => {
            format!(
                "rows are ordered by `{column}`, and no index begins with that column; an index on it would avoid the sort"
            )
        }
        Use::OrderedBeyondLink => format!(
            "rows are ordered by `{column}`, a column of a linked table, so all of them are read and sorted; filter first, or order by a \
             column of the table itself"
        ),
    };
    unindexed(plan, select).into_iter().map(|found| said(&found.column, found.used)).collect()
}
