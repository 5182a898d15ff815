//! What surveys of all engines agree on: how much is sampled, and what it proves.

use puente_core::model::Proposal;

/// Rows at the beginning of a table whose values are looked at.
pub(crate) const SAMPLED_ROWS: u32 = 10_000;
/// Distinct values sampled for a proposal.
const SAMPLED_VALUES: u32 = 500;

/// The question that samples a proposal: distinct values of a column, how many of them a key has, and whether that has any. Names
/// come quoted.
pub(crate) fn question(column: &str, table: &str, key: &str, target: &str) -> String {
    format!(
        "select count(*), count(o.k), (select count(*) from (select 1 from {target} limit 1) as e) from
         (select distinct {column} as v from {table} where {column} is not null limit {SAMPLED_VALUES}) as s
         left join (select {key} as k from {target}) as o on o.k = s.v"
    )
}

/// A proposal with its sampled evidence: distinct values, and how many exist on the other side. None where the values
/// speak against it; where there are none on either side, nothing does.
pub(crate) fn convincing(candidate: Proposal, (values, found, keys): (i64, i64, i64)) -> Option<Proposal> {
    let values = if keys == 0 { 0 } else { values };
    let (values, found) = (u64::try_from(values).unwrap_or(0), u64::try_from(found).unwrap_or(0));
    // Half of the values on the other side: a reference with some dangling values is still one.
    let convincing = found * 2 >= values;
    convincing.then_some(Proposal { sampled: Some((values, found)), ..candidate })
}

/// One significant digit: the survey file should not change with every row.
pub(crate) fn round(rows: u64) -> u64 {
    let magnitude = 10_u64.pow(rows.checked_ilog10().unwrap_or(0));
    rows / magnitude * magnitude
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn row_counts_are_rounded() {
        assert_eq!([0, 7, 19_999, 100_000].map(round), [0, 7, 10_000, 100_000]);
    }
}
