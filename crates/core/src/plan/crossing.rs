//! Filters through links to other sources. No database can judge them alone: the other source is asked first for the keys of
//! the rows for which a condition is true, and the filter becomes a test of the own key among them.
//!
//! Three-valued logic holds as everywhere (see [`Condition`]). What a filter is asked for is known where it is planned: negations
//! are pushed to the leaves, and then either its truth decides, or its falsity.

use std::sync::Arc;

use super::build::Planner;
use super::filter::LinkFilter;
use super::input::Input;
use super::{GroupTerm, GroupUnit, KeyQuery, Output, Parameter, RowSet, Select};
use crate::access::{Condition, Hop, Operand, Origin, Path, Predicate, Quantifier, Test, TextComparison};
use crate::error::{Code, Problem};
use crate::model::ColumnId;
use crate::value::Datum;

impl<'a> Planner<'a> {
    /// What a filter on the one row at the end of a link states. Where there is none, all of its values are null.
    pub(super) fn filter_other_row(&mut self, at: LinkFilter<'_>, value: Input<'a>) -> Result<Condition, Problem> {
        let (first, asked) = self.filter_beyond(at, value, at.negated)?;
        if asks_nothing(&asked) {
            return Ok(asked);
        }
        let without_row = self.of_nothing(&asked);
        let (asked, without_row) =
            if at.negated { (not(asked), without_row == Some(false)) } else { (asked, without_row == Some(true)) };
        let test = if without_row {
            not(self.has_key(at, first, Condition::NotTrue(Box::new(asked)))?)
        } else {
            self.has_key(at, first, asked)?
        };
        Ok(if at.negated { not(test) } else { test })
    }

    /// What a filter on the many rows at the end of a link states.
    pub(super) fn filter_other_rows(
        &mut self,
        at: LinkFilter<'_>,
        quantifier: Quantifier,
        value: Input<'a>,
    ) -> Result<Condition, Problem> {
        let said = if at.negated { quantifier.negated() } else { quantifier };
        let (first, asked) = self.filter_beyond(at, value, said.asks_falsity())?;
        let test = match said {
            Quantifier::Exists => self.has_key(at, first, asked)?,
            Quantifier::ExistsFalse => self.has_key(at, first, not(asked))?,
            Quantifier::All => not(self.has_key(at, first, Condition::NotTrue(Box::new(asked)))?),
            Quantifier::None => not(self.has_key(at, first, Condition::NotTrue(Box::new(not(asked))))?),
        };
        Ok(if at.negated { not(test) } else { test })
    }

    /// What is asked of rows at the other end of a link, and the first of the key queries that it added. Inside, how long a
    /// list is belongs to the plan: nothing is in an empty one, not even what is unknown.
    fn filter_beyond(
        &mut self,
        at: LinkFilter<'_>,
        value: Input<'a>,
        negated: bool,
    ) -> Result<(usize, Condition), Problem> {
        if self.writes {
            let text = "a mutation cannot filter through a link to another source, as it reads and writes one; query the keys \
                        first, and give them with `in`";
            return Err(Problem::new(Code::InvalidArgument, text));
        }
        let first = self.planned.key_queries.len();
        let target = self.view.model().types[at.from].links[at.link].target;
        self.opens_lists += 1;
        let asked = self.filter(target, value, &[], negated, at.depth + 1)?;
        self.opens_lists -= 1;
        Ok((first, asked))
    }

    /// Is the own key one of those that rows have for which a condition is true, of the rows that the role may see? Never
    /// unknown.
    fn has_key(&mut self, at: LinkFilter<'_>, first: usize, asked: Condition) -> Result<Condition, Problem> {
        let link = &self.view.model().types[at.from].links[at.link];
        let (target, [(own, other)]) = (link.target, link.pairs.as_slice()) else {
            return Err(Problem::new(Code::Internal, "a filter leads to another source by a key of several columns"));
        };
        let (own, other) = (*own, *other);
        let mut select = self.seen(target, None);
        let known = tested(Vec::new(), other, Test::IsNull(false));
        for condition in [asked, known] {
            select.predicates.push(Predicate { origin: Origin::Caller, condition: Arc::new(condition) });
        }
        // One more than there may be tells that there are more.
        let most = self.limits.cross_keys;
        let size = self.parameter(Parameter::Constant(Datum::Integer(i64::from(most) + 1)));
        let by = vec![GroupTerm { column: other, unit: GroupUnit::Value }];
        let needs = (first..self.planned.key_queries.len()).collect();
        let row_set = RowSet::Groups { by, order: Vec::new(), size, skip: None };
        let select = self.add(Select { output: vec![Output::Group(0)], row_set, needs, ..select })?;
        self.planned.key_queries.push(KeyQuery { select, of: at.from, column: own, from: other, most });
        let keys = self.parameter(Parameter::Keys(self.planned.key_queries.len() - 1));
        let among = Test::In { operand: Operand::Parameter(keys), by: TextComparison::Collation };
        Ok(Condition::And(vec![
            tested(at.before.to_vec(), own, Test::IsNull(false)),
            tested(at.before.to_vec(), own, among),
        ]))
    }

    /// What a condition says of a row whose values are all null; none where that is unknown.
    fn of_nothing(&self, condition: &Condition) -> Option<bool> {
        let combined = |parts: &[Condition], all: bool| {
            let parts: Vec<Option<bool>> = parts.iter().map(|part| self.of_nothing(part)).collect();
            if parts.contains(&Some(!all)) {
                return Some(!all);
            }
            parts.iter().all(|part| *part == Some(all)).then_some(all)
        };
        match condition {
            Condition::Constant(value) => Some(*value),
            Condition::ClaimPredicate(_) | Condition::Numbers { .. } => None,
            Condition::And(parts) => combined(parts, true),
            Condition::Or(parts) => combined(parts, false),
            Condition::Not(inner) => self.of_nothing(inner).map(|value| !value),
            Condition::NotTrue(inner) => Some(self.of_nothing(inner) != Some(true)),
            Condition::Quantified { quantifier, .. } | Condition::OverItems { quantifier, .. } => {
                Some(matches!(quantifier, Quantifier::All | Quantifier::None))
            }
            Condition::Test { test, .. } => match test {
                Test::IsNull(expected) => Some(*expected),
                Test::In { operand: Operand::Parameter(list), .. } if self.is_empty_list(*list) => Some(false),
                Test::In { .. }
                | Test::Compare { .. }
                | Test::Includes { .. }
                | Test::IsEmpty(_)
                | Test::Fits
                | Test::Size { .. }
                | Test::Text { .. } => None,
            },
        }
    }
}

/// Is a condition true whatever it is asked of, because nothing is asked?
fn asks_nothing(condition: &Condition) -> bool {
    matches!(condition, Condition::And(parts) if parts.iter().all(asks_nothing))
}

fn tested(hops: Vec<Hop>, column: ColumnId, test: Test) -> Condition {
    // Columns that links follow have no masks.
    Condition::Test { path: Path { hops, column, masked: false }, test }
}

fn not(condition: Condition) -> Condition {
    Condition::Not(Box::new(condition))
}
