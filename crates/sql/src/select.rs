//! One select node: where its rows come from, which of them, in which order, and what is delivered.

use std::borrow::Cow;

use super::far_side::Way;
use super::from::{Scope, Writer};
use super::{Fragment, Slot};
use puente_core::access::{Condition, Masks};
use puente_core::model::{Column, ColumnId, FieldType, TypeId};
use puente_core::plan::{
    FilteredItems, GroupOrder, GroupTerm, JoinTable, OrderTerm, Output, ParentJoin, RowSet, Seek, Select,
};
use puente_core::value::StorageFormat;

/// How a select's rows hang on its parent's row.
#[derive(Clone, Copy)]
pub(super) enum Correlation<'a> {
    /// The values of the parent, if there is one, are bound row by row.
    Bound(Option<&'a Select>),
    /// The parent is a row of the same statement, under this alias; with its select.
    Row(&'a str, &'a Select),
    /// All parents' values are a FROM item `k`; with the parent, where it is a select.
    Keys(Option<&'a Select>),
    /// The parent's values are a row of such a FROM item `k`, of a query around this one.
    KeyRow,
}

/// The clauses of a select. What it delivers can still add joins to `scope`.
pub(super) struct Clauses<'n> {
    pub(super) node: &'n Select,
    pub(super) scope: Scope,
    from: Fragment,
    join_alias: Option<String>,
    conditions: Vec<Fragment>,
    /// What the limit is multiplied by: with zero the engine reads nothing, which it would where a condition is false for every row.
    pub(super) times: Option<String>,
}

impl<'n> Clauses<'n> {
    /// FROM and WHERE of a select.
    pub(super) fn new(writer: &mut Writer<'_>, node: &'n Select, correlation: Correlation<'_>) -> Self {
        let conditions = node.predicates.iter().map(|predicate| &*predicate.condition);
        Clauses::of(writer, node, correlation, conditions, Way::FromRow)
    }

    /// The same with these conditions, written in this way.
    pub(super) fn of<'c>(
        writer: &mut Writer<'_>,
        node: &'n Select,
        correlation: Correlation<'_>,
        conditions: impl IntoIterator<Item = &'c Condition>,
        way: Way,
    ) -> Self {
        let mut clauses = Clauses {
            scope: writer.scope(node.of),
            from: Fragment::default(),
            join_alias: None,
            conditions: Vec::new(),
            times: None,
            node,
        };
        clauses.add_from(writer, correlation);
        clauses.ask(writer, conditions, way);
        if let RowSet::Page { after, before, .. } = &node.row_set {
            for (seek, is_before) in [(after, false), (before, true)] {
                if let Some(seek) = seek {
                    let beyond = position(writer, &mut clauses.scope, &node.order, seek, is_before);
                    clauses.conditions.push(beyond);
                }
            }
        }
        clauses
    }

    /// The rows of a select among `rows`, of which each is one of its type, with these conditions alone.
    pub(super) fn among<'c>(
        writer: &mut Writer<'_>,
        node: &'n Select,
        rows: Fragment,
        conditions: impl IntoIterator<Item = &'c Condition>,
    ) -> Self {
        let scope = writer.scope(node.of);
        let from = Fragment::format("({})", [rows]).named(&scope.alias);
        let mut clauses = Clauses { scope, from, join_alias: None, conditions: Vec::new(), times: None, node };
        clauses.ask(writer, conditions, Way::FromRow);
        clauses
    }

    /// The rows of a select whose keys are those that a subquery finds.
    pub(super) fn keyed(writer: &mut Writer<'_>, node: &'n Select, key: &[ColumnId], finds: Fragment) -> Self {
        let scope = writer.scope(node.of);
        let from = writer.masked_table(node.of, &node.masks, &scope.alias);
        let mut clauses = Clauses { scope, from, join_alias: None, conditions: Vec::new(), times: None, node };
        let columns = Fragment::text(clauses.columns(writer, key));
        let template = if key.len() == 1 { "{} in ({})" } else { "({}) in ({})" };
        clauses.conditions.push(Fragment::format(template, [columns, finds]));
        clauses
    }

    /// Columns of the rows, as they are stored.
    pub(super) fn columns(&self, writer: &Writer<'_>, columns: &[ColumnId]) -> String {
        let columns = columns.iter().map(|column| writer.column(self.node.of, *column, &self.scope.alias));
        columns.collect::<Vec<_>>().join(", ")
    }

    fn ask<'c>(&mut self, writer: &mut Writer<'_>, conditions: impl IntoIterator<Item = &'c Condition>, way: Way) {
        writer.way = way;
        for condition in conditions {
            let condition = writer.condition(&mut self.scope, condition, false);
            self.conditions.push(condition);
        }
        writer.way = Way::FromRow;
    }

    /// FROM of the rows of a select whose keys a subquery finds, for each row of the parents' values `k`: what they must be is
    /// said there.
    pub(super) fn found(writer: &mut Writer<'_>, node: &'n Select, key: &[ColumnId], finds: Fragment) -> Self {
        let scope = writer.scope(node.of);
        let table = writer.masked_table(node.of, &node.masks, &scope.alias);
        let columns: Vec<String> = key.iter().map(|column| writer.column(node.of, *column, &scope.alias)).collect();
        let t = &writer.model.types[node.of];
        let linked = node.parent.iter().flat_map(|parent| &parent.pairs);
        let linked: Vec<&Column> = linked.map(|(_, column)| &t.columns[*column]).collect();
        let keys = writer.dialect.keys(&linked);
        let columns = Fragment::text(columns.join(", "));
        let from = Fragment::format("{} cross join {} on ({}) in ({})", [keys, table, columns, finds]);
        Clauses { scope, from, join_alias: None, conditions: Vec::new(), times: None, node }
    }

    fn add_from(&mut self, writer: &mut Writer<'_>, correlation: Correlation<'_>) {
        let node = self.node;
        let table = writer.masked_table(node.of, &node.masks, &self.scope.alias);
        let Some(ParentJoin { pairs, through, .. }) = &node.parent else {
            self.from = table;
            return;
        };
        let (linked_type, linked_alias, first, rest) = match through {
            None => (node.of, self.scope.alias.clone(), table, Fragment::default()),
            Some(JoinTable { of: join, pairs: far, repeats }) => {
                let alias = writer.alias();
                let on: Vec<String> = far
                    .iter()
                    .map(|(column, own)| {
                        let own = writer.column(node.of, *own, &self.scope.alias);
                        format!("{own} = {}", writer.column(*join, *column, &alias))
                    })
                    .collect();
                self.join_alias = Some(alias.clone());
                let first = if *repeats {
                    let linked = pairs.iter().map(|(_, column)| *column).chain(far.iter().map(|(column, _)| *column));
                    writer.once(*join, &linked.collect::<Vec<_>>(), node.join_rows.as_deref(), &alias)
                } else {
                    writer.masked_table(*join, &node.join_masks, &alias)
                };
                let rest = Fragment::format(" join {} on {}", [table, Fragment::text(on.join(" and "))]);
                (*join, alias, first, rest)
            }
        };
        let is_pass = match correlation {
            Correlation::Keys(Some(parent)) => is_pass(writer, parent, linked_type, pairs),
            Correlation::Keys(None) | Correlation::Bound(_) | Correlation::Row(..) | Correlation::KeyRow => false,
        };
        let linked: Vec<Fragment> = pairs
            .iter()
            .enumerate()
            .filter_map(|(number, (own, column))| {
                let child = writer.column(linked_type, *column, &linked_alias);
                Some(match correlation {
                    Correlation::Bound(parent) => {
                        let slot = Slot::Parent(parent?.output_of(*own)?);
                        Fragment::format("{} = {}", [Fragment::text(child), Fragment::bound(slot)])
                    }
                    Correlation::Row(alias, parent) => {
                        Fragment::text(format!("{child} = {}", writer.column(parent.of, *own, alias)))
                    }
                    Correlation::Keys(_) | Correlation::KeyRow => {
                        let c = &writer.model.types[linked_type].columns[*column];
                        Fragment::text(match is_pass {
                            true => writer.dialect.looks_up_key(&child, number),
                            false => writer.dialect.equals_key(&child, c, number),
                        })
                    }
                })
            })
            .collect();
        if let Correlation::Keys(_) = correlation {
            let t = &writer.model.types[linked_type];
            let columns: Vec<&Column> = pairs.iter().map(|(_, column)| &t.columns[*column]).collect();
            let (keys, on) = (writer.dialect.keys(&columns), Fragment::join(linked, " and "));
            self.from = match is_pass {
                true => Fragment::format("{} cross join {} on {}", [first, keys, on]),
                false => Fragment::format("{} join {} on {}", [keys, first, on]),
            };
            self.from.append(rest);
        } else {
            self.from = first;
            self.from.append(rest);
            self.conditions.extend(linked);
        }
        let is_asked = through.as_ref().is_some_and(|join| join.repeats);
        if let Some(rule) = node.join_rows.as_ref().filter(|_| !is_asked) {
            self.conditions.push(writer.rule(linked_type, &linked_alias, rule));
        }
    }

    /// What is delivered of a row, one expression per output.
    pub(super) fn output(&mut self, writer: &mut Writer<'_>) -> Vec<Fragment> {
        let node = self.node;
        node.output.iter().map(|output| self.delivered(writer, output)).collect()
    }

    fn delivered(&mut self, writer: &mut Writer<'_>, output: &Output) -> Fragment {
        let node = self.node;

        let dialect = writer.dialect;
        Fragment::text(match output {
            Output::Key(column) => {
                writer.compared(node.of, *column, &self.scope.alias, is_masked(&node.masks, *column))
            }
            Output::Type(column) => {
                writer.delivered(node.of, *column, &self.scope.alias, is_masked(&node.masks, *column))
            }
            Output::Json(column) => writer.whole(node.of, *column, &self.scope.alias),
            Output::Items(column, filter) => return self.items(writer, *column, &node.filtered_items[*filter]),
            Output::Column(column) => {
                writer.delivered(node.of, *column, &self.scope.alias, is_masked(&node.masks, *column))
            }
            Output::Edge(column) => {
                let join = node.parent.as_ref().and_then(|parent| parent.through.as_ref()).map(|join| join.of);
                let (join, alias) = join.zip(self.join_alias.as_deref()).expect("an edge has a join table");
                writer.delivered(join, *column, alias, is_masked(&node.join_masks, *column))
            }
            Output::Order(term) => writer.position(&mut self.scope, &node.order[*term].path),
            Output::Count => "count(*)".to_owned(),
            Output::Summary(function, column) => {
                let (value, column) = self.value(writer, *column);
                dialect.summary(*function, &column, value)
            }
            Output::Group(term) => {
                let RowSet::Groups { by, .. } = &node.row_set else { return Fragment::text("null") };
                self.group(writer, by[*term])
            }
        })
    }

    /// The expression of a column as the role sees it.
    fn shown(&self, writer: &Writer<'_>, column: ColumnId) -> String {
        writer.shown_column(self.node.of, column, &self.scope.alias, is_masked(&self.node.masks, column))
    }

    /// A column's value as it is summed up and grouped, and the column as the engine has such values: what is inside JSON is a
    /// value of one of its own types by then.
    fn value<'m>(&self, writer: &Writer<'m>, column: ColumnId) -> (String, Cow<'m, Column>) {
        let c = &writer.model.types[self.node.of].columns[column];
        if c.form != StorageFormat::JsonValue {
            return (self.shown(writer, column), Cow::Borrowed(c));
        }
        let own = Column { form: StorageFormat::Usual, member: None, ..c.clone() };
        let masked = is_masked(&self.node.masks, column);
        (writer.compared(self.node.of, column, &self.scope.alias, masked), Cow::Owned(own))
    }

    /// A list inside JSON, of which not every item is delivered.
    fn items(&mut self, writer: &mut Writer<'_>, column: ColumnId, filtered: &FilteredItems) -> Fragment {
        let masked = is_masked(&self.node.masks, column);
        let json = self.shown(writer, column);
        let list = writer.compared(self.node.of, column, &self.scope.alias, masked);
        let FieldType::Items(items) = writer.model.types[self.node.of].columns[column].kind else {
            return Fragment::text("null");
        };
        let items = writer.filtered_items(items, &json, list, filtered);
        writer.dialect.json_delivered(items)
    }

    fn group(&self, writer: &Writer<'_>, term: GroupTerm) -> String {
        let c = &writer.model.types[self.node.of].columns[term.column];
        let (value, column) = self.value(writer, term.column);
        match c.form {
            StorageFormat::JsonValue => writer.dialect.truncated_text(term.unit, c, value),
            _ => writer.dialect.truncated(term.unit, &column, value),
        }
    }

    /// GROUP BY, without the words, where the select has groups.
    pub(super) fn group_by(&self, writer: &Writer<'_>) -> Vec<Fragment> {
        let RowSet::Groups { by, .. } = &self.node.row_set else { return Vec::new() };
        by.iter().map(|term| Fragment::text(self.group(writer, *term))).collect()
    }

    /// The terms of ORDER BY.
    pub(super) fn order_by(&mut self, writer: &mut Writer<'_>) -> Vec<Fragment> {
        let node = self.node;
        match &node.row_set {
            RowSet::Single | RowSet::Supplied | RowSet::Aggregate => Vec::new(),
            RowSet::Groups { order, .. } => order.iter().map(|term| self.group_order(writer, term)).collect(),
            RowSet::Page { backward, .. } => {
                let mut terms: Vec<Fragment> =
                    node.order.iter().map(|term| self.order_term(writer, term, *backward)).collect();
                terms.extend(self.row_number(writer, *backward));
                terms
            }
        }
    }

    fn group_order(&mut self, writer: &mut Writer<'_>, term: &GroupOrder) -> Fragment {
        let value = match (&term.value, &self.node.row_set) {
            (Output::Group(number), RowSet::Groups { by, .. }) => {
                let (_, column) = self.value(writer, by[*number].column);
                Fragment::text(writer.dialect.ordered(&column, self.group(writer, by[*number])))
            }
            (Output::Summary(function, column), _) => {
                let (value, column) = self.value(writer, *column);
                Fragment::text(writer.dialect.ordered_summary(*function, &column, value))
            }
            (value, _) => self.delivered(writer, value),
        };
        let usual = writer.dialect.nulls_are_smallest() != term.descending;
        let nulls = (term.nulls_first != usual).then_some(term.nulls_first);
        Fragment::text(writer.dialect.order_term(value.as_text(), term.descending, nulls))
    }

    fn order_term(&mut self, writer: &mut Writer<'_>, term: &OrderTerm, backward: bool) -> Fragment {
        let descending = term.descending != backward;
        let nulls_first = term.nulls_first != backward;
        let usual = writer.dialect.nulls_are_smallest() != descending;
        let nulls = (term.nullable && nulls_first != usual).then_some(nulls_first);
        let (value, _) = writer.ordered(&mut self.scope, &term.path);
        Fragment::text(writer.dialect.order_term(value.as_text(), descending, nulls))
    }

    /// What orders rows that have no key.
    fn row_number(&self, writer: &Writer<'_>, backward: bool) -> Option<Fragment> {
        let row_number = writer.row_number(self.node.of)?;
        Some(Fragment::text(format!("{}.{row_number}{}", self.scope.alias, if backward { " desc" } else { "" })))
    }

    /// Joins the rows of another select to these, where there are any; they hang on a row of these.
    pub(super) fn join(&mut self, other: &Clauses<'_>) {
        let tables = if other.scope.joins.is_empty() {
            other.from.clone()
        } else {
            Fragment::format("({}{})", [other.from.clone(), other.scope.joins.clone()])
        };
        let on = Fragment::join(other.conditions.iter().cloned(), " and ");
        self.scope.joins.append(Fragment::format(" left join {} on {}", [tables, on]));
    }

    /// A value that is not null where a joined row matched: its linking column, which equals something then.
    pub(super) fn mark(&self, writer: &Writer<'_>) -> Fragment {
        let linked = self.node.parent.as_ref().and_then(|parent| parent.pairs.first());
        let Some((_, column)) = linked else { return Fragment::text("null") };
        let expression = writer.column(self.node.of, *column, &self.scope.alias);
        Fragment::text(writer.dialect.delivered(&writer.model.types[self.node.of].columns[*column], expression))
    }

    /// SELECT to ORDER BY, with what is selected.
    pub(super) fn in_order(&mut self, writer: &mut Writer<'_>, output: Fragment) -> Fragment {
        let order = self.order_by(writer);
        let mut whole = Fragment::format("select {}{}", [output, self.rows_and_conditions()]);
        let groups = self.group_by(writer);
        if !groups.is_empty() {
            whole.append(Fragment::format(" group by {}", [Fragment::join(groups, ", ")]));
        }
        if !order.is_empty() {
            whole.append(Fragment::format(" order by {}", [Fragment::join(order, ", ")]));
        }
        whole
    }

    /// LIMIT.
    pub(super) fn limit(&self, limit: Fragment) -> Fragment {
        let times = self.times.as_ref().map_or_else(String::new, |times| format!("{times} * "));
        Fragment::format(" limit {}{}", [Fragment::text(times), limit])
    }

    /// FROM with every join, and WHERE.
    pub(super) fn rows_and_conditions(&self) -> Fragment {
        let mut whole = Fragment::format(" from {}{}", [self.from.clone(), self.scope.joins.clone()]);
        let conditions: Vec<Fragment> =
            self.conditions.iter().filter(|condition| condition.as_text() != "true").cloned().collect();
        if !conditions.is_empty() {
            whole.append(Fragment::format(" where {}", [Fragment::join(conditions, " and ")]));
        }
        whole
    }
}

fn is_masked(masks: &Masks, column: ColumnId) -> bool {
    masks.iter().any(|(masked, _)| *masked == column)
}

/// Rows strictly after (or before) a position: an OR-chain by direction and null pattern, with a bound on the first term
/// that an index can seek to.
///
/// `order by a, b` after (1, 2): `a >= 1 and (a > 1 or (a = 1 and b > 2))`.
fn position(writer: &mut Writer<'_>, scope: &mut Scope, order: &[OrderTerm], seek: &Seek, before: bool) -> Fragment {
    let mut chain: Option<Fragment> = None;
    for at in (0..order.len()).rev() {
        let term = &order[at];
        let (value, column) = writer.ordered(scope, &term.path);
        let dialect = writer.dialect;
        let bound = || dialect.position_value(Slot::Parameter(seek.parameters[at]), column);
        let is_null = seek.nulls[at];
        let beyond = beyond(&value, term, is_null, before, &bound);
        chain = Some(match chain {
            None => beyond.0,
            Some(rest) => {
                let equal = if is_null {
                    Fragment::format("{} is null", [value.clone()])
                } else {
                    Fragment::format("{} = {}", [value.clone(), bound()])
                };
                let tied = Fragment::format("({} and {})", [equal, rest]);
                let either =
                    if beyond.0.as_text() == "false" { tied } else { Fragment::format("({} or {})", [beyond.0, tied]) };
                match beyond.1 {
                    Some(operator) => {
                        let reachable = Fragment::format("{} {}= {}", [value, Fragment::text(operator), bound()]);
                        Fragment::format("({} and {})", [reachable, either])
                    }
                    None => either,
                }
            }
        });
    }
    chain.unwrap_or_else(|| Fragment::text("true"))
}

/// Values of one term strictly beyond a position's, and the operator of the bound that holds for those and for ties,
/// where one comparison says it.
fn beyond(
    value: &Fragment,
    term: &OrderTerm,
    is_null: bool,
    before: bool,
    bound: &dyn Fn() -> Fragment,
) -> (Fragment, Option<&'static str>) {
    let descending = term.descending != before;
    let nulls_first = term.nulls_first != before;
    if is_null {
        let text =
            if nulls_first { Fragment::format("{} is not null", [value.clone()]) } else { Fragment::text("false") };
        return (text, None);
    }
    let operator = if descending { "<" } else { ">" };
    let strictly = Fragment::format("{} {} {}", [value.clone(), Fragment::text(operator), bound()]);
    if term.nullable && !nulls_first {
        return (Fragment::format("({} or {} is null)", [strictly, value.clone()]), None);
    }
    (strictly, Some(operator))
}

/// Are all rows read in one pass, each of which looks its parent up? Where no index finds the children of a parent, and the columns
/// hold values of one kind, which are equal as they are.
fn is_pass(writer: &Writer<'_>, parent: &Select, linked: TypeId, pairs: &[(ColumnId, ColumnId)]) -> bool {
    let (own, t) = (&writer.model.types[parent.of], &writer.model.types[linked]);
    let columns: Vec<ColumnId> = pairs.iter().map(|(_, column)| *column).collect();
    let is_found = t.is_indexed(&columns) || t.keys.iter().any(|key| columns.contains(&key.columns[0]));
    let alike = |(a, b): &(ColumnId, ColumnId)| {
        let (a, b) = (&own.columns[*a], &t.columns[*b]);
        (a.kind, a.form) == (b.kind, b.form) && a.form != StorageFormat::EngineText
    };
    writer.dialect.passes_children() && !is_found && pairs.iter().all(alike)
}
