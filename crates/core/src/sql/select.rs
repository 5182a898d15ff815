//! One select node as one statement.

use super::condition::{Scope, Writer};
use super::{Dialect, Fragment, Slot, Statement};
use crate::model::Model;
use crate::plan::{OrderTerm, Output, Page, ParentJoin, Seek, Select};

/// The statement of a select.
pub fn select(model: &Model, node: &Select, dialect: &dyn Dialect) -> Statement {
    let mut writer = Writer::new(model, dialect);
    let mut scope = writer.scope(node.of);
    let mut conditions = Vec::new();
    let (from, join_alias) = from(&mut writer, &scope, node, &mut conditions);
    for predicate in &node.predicates {
        conditions.push(writer.condition(&mut scope, &predicate.condition, false));
    }
    let output = output(&mut writer, &mut scope, node, join_alias.as_deref());
    let mut tail = Fragment::default();
    match &node.page {
        Page::Count => {}
        Page::One => tail.push(" limit 1"),
        Page::Many { size, backward, offset, after, before } => {
            for (seek, is_before) in [(after, false), (before, true)] {
                if let Some(seek) = seek {
                    conditions.push(position(&mut writer, &mut scope, &node.order, seek, is_before));
                }
            }
            tail.append(order_by(&mut writer, &mut scope, node, *backward));
            tail.append(Fragment { text: " limit ?".to_owned(), slots: vec![Slot::PageSize(*size)] });
            if let Some(offset) = offset {
                tail.append(Fragment { text: " offset ?".to_owned(), slots: vec![Slot::Parameter(*offset)] });
            }
        }
    }
    let mut whole = Fragment::format("select {} from {}{}", [output, from, scope.joins]);
    conditions.retain(|condition| condition.text != "true");
    if !conditions.is_empty() {
        whole.append(Fragment::format(" where {}", [Fragment::join(conditions, " and ")]));
    }
    whole.append(tail);
    Statement { text: whole.text, slots: whole.slots }
}

/// The FROM clause, the alias of the join table where there is one, and the conditions that hang the rows on a parent.
fn from(
    writer: &mut Writer<'_>,
    scope: &Scope,
    node: &Select,
    conditions: &mut Vec<Fragment>,
) -> (Fragment, Option<String>) {
    let table = writer.table(node.of, &scope.alias);
    let Some(ParentJoin { pairs, through, .. }) = &node.parent else { return (Fragment::text(table), None) };
    let (linked_type, linked_alias, from) = match through {
        None => (node.of, scope.alias.clone(), table),
        Some((join, far)) => {
            let alias = writer.alias();
            let on: Vec<String> = far
                .iter()
                .map(|(column, own)| {
                    format!(
                        "{} = {}",
                        writer.column(node.of, *own, &scope.alias),
                        writer.column(*join, *column, &alias)
                    )
                })
                .collect();
            let text = format!("{} join {table} on {}", writer.table(*join, &alias), on.join(" and "));
            (*join, alias, text)
        }
    };
    for (output, column) in pairs {
        let text = format!("{} = ?", writer.column(linked_type, *column, &linked_alias));
        conditions.push(Fragment { text, slots: vec![Slot::Parent(*output)] });
    }
    if let Some(rule) = &node.join_rows {
        conditions.push(writer.rule(linked_type, &linked_alias, rule));
    }
    let join_alias = through.is_some().then_some(linked_alias);
    (Fragment::text(from), join_alias)
}

fn output(writer: &mut Writer<'_>, scope: &mut Scope, node: &Select, join_alias: Option<&str>) -> Fragment {
    if matches!(node.page, Page::Count) {
        return Fragment::text("count(*)");
    }
    let mut parts = Vec::new();
    for output in &node.output {
        let (expression, binary_json) = match output {
            Output::Column(column) => {
                let c = &writer.model.types[node.of].columns[*column];
                (writer.column(node.of, *column, &scope.alias), c.binary_json)
            }
            Output::Edge(column) => {
                let join = node.parent.as_ref().and_then(|parent| parent.through.as_ref()).map(|(join, _)| *join);
                let (join, alias) = join.zip(join_alias).expect("an edge has a join table");
                (writer.column(join, *column, alias), writer.model.types[join].columns[*column].binary_json)
            }
            Output::Order(term) => (writer.path(scope, &node.order[*term].path).0.text, false),
        };
        parts.push(Fragment::text(writer.dialect.delivered(expression, binary_json)));
    }
    if parts.is_empty() { Fragment::text("1") } else { Fragment::join(parts, ", ") }
}

fn order_by(writer: &mut Writer<'_>, scope: &mut Scope, node: &Select, backward: bool) -> Fragment {
    let mut terms: Vec<String> = node
        .order
        .iter()
        .map(|term| {
            let descending = term.descending != backward;
            let nulls_first = term.nulls_first != backward;
            let usual = writer.dialect.nulls_are_smallest() != descending;
            let (value, _) = writer.path(scope, &term.path);
            let nulls = match (term.nullable && nulls_first != usual, nulls_first) {
                (false, _) => "",
                (true, true) => " nulls first",
                (true, false) => " nulls last",
            };
            format!("{}{}{nulls}", value.text, if descending { " desc" } else { "" })
        })
        .collect();
    let t = &writer.model.types[node.of];
    if t.row_key().is_none()
        && t.row_number
        && let Some(row_number) = writer.dialect.row_number()
    {
        terms.push(format!("{}.{row_number}{}", scope.alias, if backward { " desc" } else { "" }));
    }
    if terms.is_empty() { Fragment::default() } else { Fragment::text(format!(" order by {}", terms.join(", "))) }
}

/// Rows strictly after (or before) a position: an OR-chain by direction and null pattern, with a bound on the first term
/// that an index can seek to.
///
/// `order by a, b` after (1, 2): `a >= 1 and (a > 1 or (a = 1 and b > 2))`.
fn position(writer: &mut Writer<'_>, scope: &mut Scope, order: &[OrderTerm], seek: &Seek, before: bool) -> Fragment {
    let mut chain: Option<Fragment> = None;
    for at in (0..order.len()).rev() {
        let term = &order[at];
        let value = writer.path(scope, &term.path).0;
        let bound = || Fragment { text: "?".to_owned(), slots: vec![Slot::Parameter(seek.parameters[at])] };
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
                    if beyond.0.text == "false" { tied } else { Fragment::format("({} or {})", [beyond.0, tied]) };
                match beyond.1 {
                    Some(operator) => {
                        let reachable = Fragment::format(&format!("{{}} {operator}= {{}}"), [value, bound()]);
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
    let strictly = Fragment::format(&format!("{{}} {operator} {{}}"), [value.clone(), bound()]);
    if term.nullable && !nulls_first {
        return (Fragment::format("({} or {} is null)", [strictly, value.clone()]), None);
    }
    (strictly, Some(operator))
}
