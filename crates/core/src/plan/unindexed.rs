//! Columns by which a request finds or orders rows, and that no index begins with: what an engine reads whole tables for.

use super::{Plan, SelectId};
use crate::access::{Comparison, Condition, Path, Test, TextTest};
use crate::model::{Model, TypeId};

/// What is asked of a column that no index begins with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unindexed {
    /// `table.column`, as the database calls them.
    pub column: String,
    /// What would need the index.
    pub used: Use,
}

/// What an index on a column would be for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    /// Rows are found by a value, a range, or the beginning of a text.
    Found,
    /// Rows are found by a part of a text, wherever it is: an ordinary index is of no use.
    Searched,
    /// Rows are ordered by it.
    Ordered,
    /// Rows are ordered by it at the end of a link: all are read and sorted, with an index or without.
    OrderedBeyondLink,
}

/// The columns of tables that are not small, in the order in which a select asks of them.
pub fn unindexed(plan: &Plan, select: SelectId) -> Vec<Unindexed> {
    let (model, select) = (plan.model(), &plan.selects()[select]);
    let mut found = Found { model, columns: Vec::new() };
    for predicate in &select.predicates {
        found.condition(select.of, &predicate.condition);
    }
    if let Some(first) = select.order.first() {
        let used = if first.path.hops.is_empty() { Use::Ordered } else { Use::OrderedBeyondLink };
        found.path(select.of, &first.path, used);
    }
    found.columns
}

struct Found<'m> {
    model: &'m Model,
    columns: Vec<Unindexed>,
}

impl Found<'_> {
    fn condition(&mut self, of: TypeId, condition: &Condition) {
        match condition {
            Condition::And(parts) | Condition::Or(parts) => parts.iter().for_each(|part| self.condition(of, part)),
            Condition::Not(inner) | Condition::NotTrue(inner) => self.condition(of, inner),
            Condition::Test { path, test } => {
                if let Some(used) = used(test) {
                    self.path(of, path, used);
                }
            }
            Condition::Quantified { hop, inner, .. } => {
                self.condition(self.model.types[hop.from].links[hop.link].target, inner);
            }
            Condition::Constant(_)
            | Condition::ClaimPredicate(_)
            | Condition::Numbers { .. }
            | Condition::OverItems { .. } => {}
        }
    }

    fn path(&mut self, of: TypeId, path: &Path, used: Use) {
        let end = path.hops.last().map_or(of, |hop| self.model.types[hop.from].links[hop.link].target);
        let t = &self.model.types[end];
        let is_found = used != Use::OrderedBeyondLink && t.is_indexed(&[path.column]);
        // Members of JSON have indexes of their own kind.
        if t.is_small() || is_found && used != Use::Searched || t.columns[path.column].member.is_some() {
            return;
        }
        let column = format!("{}.{}", t.table, t.columns[path.column].name);
        if !self.columns.iter().any(|known| known.column == column) {
            self.columns.push(Unindexed { column, used });
        }
    }
}

/// What an index would be for where this is asked; nothing where none is of use.
fn used(test: &Test) -> Option<Use> {
    match test {
        Test::Compare { comparison: Comparison::Ne, .. }
        | Test::IsNull(_)
        | Test::Includes { .. }
        | Test::IsEmpty(_)
        | Test::Fits
        | Test::Size { .. } => None,
        Test::Compare { .. } | Test::In { .. } | Test::Text { test: TextTest::StartsWith, .. } => Some(Use::Found),
        Test::Text { test: TextTest::Contains | TextTest::EndsWith, .. } => Some(Use::Searched),
    }
}
