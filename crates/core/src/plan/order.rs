//! From `orderBy` to order terms. Every order ends with the type's key, so that it is total and a cursor is a place.

use std::sync::Arc;

use super::OrderTerm;
use super::build::Planner;
use super::input::{Input, Leaf};
use crate::access::{Hop, Within};
use crate::error::{Code, Problem};
use crate::model::{FieldType, TypeId};

/// Terms of an order at most: what a position in it takes grows with their square.
pub(super) const MOST_TERMS: usize = 32;

impl<'a> Planner<'a> {
    /// The order of a list, the key's columns at its end.
    ///
    /// # Errors
    /// `INVALID_ARGUMENT` where a member has no direction.
    pub(super) fn order(&self, of: TypeId, order_by: Input<'a>) -> Result<Vec<OrderTerm>, Problem> {
        let mut terms: Vec<OrderTerm> = Vec::new();
        for item in self.reads.opened_items(order_by)? {
            if matches!(item, Input::Absent) {
                continue;
            }
            let term = self.order_term(Within::row(of), item, Vec::new())?;
            // A second mention of the same value decides nothing.
            if !terms.iter().any(|known| known.path == term.path) {
                terms.push(term);
            }
            if terms.len() > MOST_TERMS {
                let text = format!("the order has over {MOST_TERMS} terms; order by fewer");
                return Err(Problem::new(Code::TooCostly, text));
            }
        }
        let t = &self.view.model().types[of];
        let nulls_first = self.capabilities(of).nulls_are_smallest;
        if let Some(key) = t.row_key() {
            for column in &key.columns {
                let path = self.path(of, Vec::new(), *column);
                if !terms.iter().any(|term| term.path == path) {
                    terms.push(OrderTerm { path, descending: false, nulls_first, nullable: false });
                }
            }
        }
        Ok(terms)
    }

    /// What a direction says: largest first? nulls first? Where it does not say, nulls are where indexes have them.
    pub(super) fn direction(&self, of: TypeId, leaf: &Leaf) -> (bool, bool) {
        let word = self.reads.word(leaf);
        let descending = word.starts_with("DESC");
        let nulls_first = if word.ends_with("NULLS_FIRST") {
            true
        } else if word.ends_with("NULLS_LAST") {
            false
        } else {
            self.capabilities(of).nulls_are_smallest != descending
        };
        (descending, nulls_first)
    }

    fn order_term(&self, within: Within, item: Input<'a>, mut hops: Vec<Hop>) -> Result<OrderTerm, Problem> {
        let of = within.of;
        let wrong = || {
            Problem::new(Code::InvalidArgument, "an order takes one member with a direction, such as `{ name: ASC }`")
        };
        let (name, value) = self.first_member(item, |value| !matches!(value, Input::Absent))?.ok_or_else(wrong)?;
        if let Some((column, _)) = self.view.fields(within).find(|(_, field)| *field == &*name) {
            if let FieldType::Object(_) = self.view.model().types[of].columns[column].kind {
                return self.order_term(Within::object(of, column), value, hops);
            }
            let Input::Leaf(leaf) = value else { return Err(wrong()) };
            let (descending, nulls_first) = self.direction(of, &leaf);
            let path = self.path(of, hops, column);
            let nullable = !path.hops.is_empty() || path.masked || self.view.model().types[of].columns[column].nullable;
            return Ok(OrderTerm { path, descending, nulls_first, nullable });
        }
        let (link, l) =
            self.view.links(of).find(|(_, link)| *link.field == *name && !link.crosses).ok_or_else(wrong)?;
        let target = l.target;
        hops.push(self.hop(of, link));
        if hops.len() > self.limits.filter_depth {
            return Err(Problem::new(Code::TooCostly, "the order follows too many links; ask for less at once"));
        }
        self.order_term(Within::row(target), value, hops)
    }

    /// The first member of an object that is as wanted, opened.
    pub(super) fn first_member(
        &self,
        item: Input<'a>,
        wanted: impl Fn(&Input<'a>) -> bool,
    ) -> Result<Option<(Arc<str>, Input<'a>)>, Problem> {
        let Input::Object(members) = item else { return Ok(None) };
        for (name, value) in members {
            let value = self.reads.open(value)?;
            if wanted(&value) {
                return Ok(Some((name, value)));
            }
        }
        Ok(None)
    }
}
