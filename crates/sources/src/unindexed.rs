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
        Use::Found => format!("rows are found by `{column}`, and no index begins with it; one would find them at once"),
        Use::Searched => {
            let remedy = match engine {
                Engine::Postgres => "an index of trigrams (`pg_trgm`, `using gin (… gin_trgm_ops)`) does",
                Engine::Sqlite | Engine::Mariadb | Engine::Mongodb => {
                    "ask with `startsWith`, or beside another condition"
                }
            };
            format!("a part of `{column}` is looked for, which no ordinary index finds; {remedy}")
        }
        Use::Ordered => {
            format!("rows are ordered by `{column}`, and no index begins with it; one would give them in order")
        }
        Use::OrderedBeyondLink => format!(
            "rows are ordered by `{column}` at the end of a link, so that all of them are read and sorted; filter them first, order by a \
             column of their own, or keep a copy of it there with an index"
        ),
    };
    unindexed(plan, select).into_iter().map(|found| said(&found.column, found.used)).collect()
}
