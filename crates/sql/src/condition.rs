//! From a [`Condition`] to SQL. Negations are pushed to the leaves, so that a quantifier is never negated in SQL and a
//! role's rule, which is ANDed to the rows a hop ranges over, is never inside a negation.

use std::borrow::Cow;

use super::dialect::scalar_of;
use super::far_side::says_none;
use super::from::{Scope, Writer};
use super::{Fragment, Slot};
use puente_core::access::{Comparison, Condition, Hop, Number, Operand, Path, Quantifier, Test, TextComparison};
use puente_core::catalog::IndexedType;
use puente_core::model::{FieldType, TypeId};
use puente_core::plan::FilteredItems;
use puente_core::value::{Datum, JsonType, Scalar};

/// Conditions that stand in one row of ANDs or ORs; more are grouped.
const WIDEST: usize = 100;

impl<'a> Writer<'a> {
    /// `condition`, true where it is true. Within `scope`.
    pub(super) fn condition(&mut self, scope: &mut Scope, condition: &Condition, negated: bool) -> Fragment {
        if let Some(found) = self.found_to_one(scope, condition, negated) {
            return found;
        }
        match condition {
            Condition::Constant(value) => Fragment::text(if *value == negated { "false" } else { "true" }),
            // Nobody asked the claims: nothing is allowed.
            Condition::ClaimPredicate(_) => Fragment::text("false"),
            Condition::And(parts) => self.combine(scope, parts, negated, !negated),
            Condition::Or(parts) => self.combine(scope, parts, negated, negated),
            Condition::Not(inner) => self.condition(scope, inner, !negated),
            Condition::NotTrue(inner) => {
                let inner = self.condition(scope, inner, false);
                Fragment::format(if negated { "({}) is true" } else { "({}) is not true" }, [inner])
            }
            Condition::Test { path, test } => {
                let tested = self.test(scope, path, test);
                if negated {
                    return Fragment::format("not ({})", [tested]);
                }
                // What an index finds, and no other way: true of every row of which the test is.
                match self.found_by_index(scope, path, test) {
                    Some(found) => Fragment::format("({} and {})", [found, tested]),
                    None => tested,
                }
            }
            Condition::Numbers { left, comparison, right } => {
                let sides = [left, right].map(|number| self.number(scope, number));
                let compared = self.dialect.compared_numbers(sides, operator(*comparison));
                if negated { Fragment::format("not ({})", [compared]) } else { compared }
            }
            Condition::Quantified { before, hop, quantifier, inner } => {
                let quantifier = if negated { quantifier.negated() } else { *quantifier };
                let mut at = scope.alias.clone();
                for hop in before {
                    at = self.join(scope, hop, &at);
                }
                self.quantified(&at, hop, quantifier, inner)
            }
            Condition::OverItems { path, quantifier, inner } => {
                let quantifier = if negated { quantifier.negated() } else { *quantifier };
                let (list, column) = self.path(scope, path);
                let FieldType::Items(items) = column.kind else { return Fragment::text("false") };
                self.over_items(list, items, quantifier, inner)
            }
        }
    }

    /// A number that a rule calculates.
    fn number(&mut self, scope: &mut Scope, number: &Number) -> Fragment {
        match number {
            Number::Value(path) => {
                let (value, column) = self.path(scope, path);
                self.dialect.number(value, scalar_of(column))
            }
            Number::Time(path) => {
                let (value, column) = self.path(scope, path);
                self.dialect.microseconds(value, scalar_of(column))
            }
            Number::Parameter(parameter) => self.dialect.bound_number(Slot::Parameter(*parameter)),
            Number::Constant(cell) => self.dialect.bound_number(Slot::Constant(cell.clone())),
            Number::Calculated { arithmetic, left, right } => {
                let [left, right] = [left, right].map(|number| self.number(scope, number));
                self.dialect.calculated(left, *arithmetic, right)
            }
        }
    }

    fn combine(&mut self, scope: &mut Scope, parts: &[Condition], negated: bool, all: bool) -> Fragment {
        let parts = if all && !negated { self.by_first_hop(parts) } else { parts.iter().map(Cow::Borrowed).collect() };
        let mut parts: Vec<Fragment> = parts.iter().map(|part| self.condition(scope, part, negated)).collect();
        let word = if all { " and " } else { " or " };
        // Engines limit how deep an expression is, and take a row of a thousand ORs for one a thousand deep.
        while parts.len() > WIDEST {
            let grouped =
                parts.chunks(WIDEST).map(|group| Fragment::format("({})", [Fragment::join(group.to_vec(), word)]));
            parts = grouped.collect();
        }
        match parts.len() {
            0 => Fragment::text(if all { "true" } else { "false" }),
            1 => parts.into_iter().next().unwrap_or_default(),
            _ => Fragment::format("({})", [Fragment::join(parts, word)]),
        }
    }

    /// EXISTS or NOT EXISTS over the visible rows at the end of a link from the row `at`.
    pub(super) fn quantified(&mut self, at: &str, hop: &Hop, quantifier: Quantifier, inner: &Condition) -> Fragment {
        if let Some(found) = self.found_to_many(at, hop, quantifier, inner) {
            return found;
        }
        let link = &self.model.types[hop.from].links[hop.link];
        let mut scope = self.scope(link.target);
        let asked = self.asked(&mut scope, quantifier, inner);
        let (from, mut conditions) = self.reach(&mut scope, hop, at);
        conditions.push(asked);
        Fragment::format(
            "{}exists (select 1 from {}{} where {})",
            [negation(quantifier), from, scope.joins, Fragment::join(conditions, " and ")],
        )
    }

    /// The same over the items of a list inside JSON.
    fn over_items(&mut self, list: Fragment, items: TypeId, quantifier: Quantifier, inner: &Condition) -> Fragment {
        let mut scope = self.scope(items);
        let asked = self.asked(&mut scope, quantifier, inner);
        let from = self.dialect.json_items(list, &scope.alias);
        Fragment::format("{}exists (select 1 from {} where {})", [negation(quantifier), from, asked])
    }

    /// Those items of a list inside JSON that are delivered, as JSON. `list` is null where `json` is no list.
    pub(super) fn filtered_items(
        &mut self,
        items: TypeId,
        json: &str,
        list: String,
        filtered: &FilteredItems,
    ) -> Fragment {
        let mut scope = self.scope(items);
        let condition = filtered.condition.as_ref();
        let condition = condition.map_or_else(|| Fragment::text("true"), |it| self.condition(&mut scope, it, false));
        let beside = filtered.beside.iter().map(|(column, filtered)| {
            let FieldType::Items(inner) = self.model.types[items].columns[*column].kind else {
                return Fragment::text("null");
            };
            let json = self.column(items, *column, &scope.alias);
            let list = self.compared(items, *column, &scope.alias, false);
            self.filtered_items(inner, &json, list, filtered)
        });
        let beside = beside.collect();
        self.dialect.json_items_where(json, Fragment::text(list), &scope.alias, condition, beside)
    }

    /// What has to be true of one row for a quantifier over them to hold, or not to.
    pub(super) fn asked(&mut self, scope: &mut Scope, quantifier: Quantifier, inner: &Condition) -> Fragment {
        match quantifier {
            Quantifier::Exists => self.condition(scope, inner, false),
            Quantifier::ExistsFalse => self.condition(scope, inner, true),
            Quantifier::All => Fragment::format("({}) is not true", [self.condition(scope, inner, false)]),
            // `f is not false`, said of the negated `f`: what is asked of a quantifier inside is only whether it is true.
            Quantifier::None => Fragment::format("({}) is not true", [self.condition(scope, inner, true)]),
        }
    }

    /// A rule on the row `alias`, in a place where no join can be added: its paths become scalar subqueries.
    pub(super) fn rule(&mut self, of: TypeId, alias: &str, rule: &Condition) -> Fragment {
        let mut scope = Scope::on(of, alias);
        let condition = self.condition(&mut scope, rule, false);
        if scope.joins.is_empty() {
            return Fragment::format("({})", [condition]);
        }
        // The joins hang on a row of one column, so that a missing target leaves nulls and not no row.
        Fragment::format("(select {} from (select 1) as one{})", [condition, scope.joins])
    }

    /// The same test of what an index on a member of JSON holds, where every row of which the test is true passes it.
    fn found_by_index(&mut self, scope: &mut Scope, path: &Path, test: &Test) -> Option<Fragment> {
        let (indexed, column) = self.indexed(scope, path)?;
        let index = column.member.as_ref()?.index.as_ref()?;
        let is_text = scalar_of(column) == Scalar::String;
        let compares = match (index.of, column.scalar()?.json_type()) {
            (IndexedType::Any, _) => true,
            (IndexedType::Text, JsonType::Text) => is_text,
            (IndexedType::Number, JsonType::Integer | JsonType::Number) => true,
            (IndexedType::Boolean, JsonType::Boolean) => true,
            _ => false,
        };
        let is_ordered = index.of != IndexedType::Text;
        match test {
            Test::Compare { operand: Operand::Value(_), .. } => None,
            Test::Compare { comparison, operand, by: TextComparison::Collation | TextComparison::Exact }
                if compares =>
            {
                let in_order = match comparison {
                    Comparison::Eq => true,
                    Comparison::Ne => false,
                    Comparison::Lt | Comparison::Lte | Comparison::Gt | Comparison::Gte => is_ordered,
                };
                let operand = self.dialect.value(slot(operand), column);
                in_order.then(|| Fragment::join([Fragment::text(indexed), operand], operator(*comparison)))
            }
            Test::In { operand, by: TextComparison::Collation | TextComparison::Exact } if compares => {
                Some(self.dialect.is_in(Fragment::text(indexed), slot(operand), column, false))
            }
            _ => None,
        }
    }

    fn test(&mut self, scope: &mut Scope, path: &Path, test: &Test) -> Fragment {
        let dialect = self.dialect;
        let (value, column) = self.path(scope, path);
        let folded = |text: Fragment, fold: bool| if fold { dialect.folded(text) } else { text };
        match test {
            Test::Compare { comparison, operand: Operand::Value(other), by } => {
                let (other, beside) = self.path(scope, other);
                let exact = || Some([dialect.exact(column, value.clone())?, dialect.exact(beside, other.clone())?]);
                let exact = exact().filter(|_| *by == TextComparison::Exact);
                compared([value, other], *comparison, exact)
            }
            Test::Size { comparison, size } => {
                let counted = match column.kind {
                    FieldType::List(_) => dialect.list_size(value, column),
                    _ => dialect.size(dialect.as_text(column, value)),
                };
                Fragment::join([counted, Fragment::text(size.to_string())], operator(*comparison))
            }
            Test::Compare { comparison, operand, by } => {
                let bound = dialect.value(slot(operand), column);
                match by {
                    TextComparison::Collation => compared([value, bound], *comparison, None),
                    TextComparison::IgnoreCase => {
                        compared([dialect.folded(value), dialect.folded(bound)], *comparison, None)
                    }
                    TextComparison::Exact => {
                        let exact = dialect.exact(column, value.clone());
                        let exact = exact.map(|exact| [exact, dialect.exact_value(slot(operand))]);
                        compared([value, bound], *comparison, exact)
                    }
                }
            }
            Test::In { operand, by } => match by {
                TextComparison::Collation => dialect.is_in(value, slot(operand), column, false),
                TextComparison::IgnoreCase => dialect.is_in(dialect.folded(value), slot(operand), column, true),
                TextComparison::Exact => {
                    let among = dialect.is_in(value.clone(), slot(operand), column, false);
                    match dialect.exact(column, value) {
                        Some(exact) => {
                            let exactly = dialect.is_in_exactly(exact, slot(operand));
                            Fragment::format("({} and {})", [among, exactly])
                        }
                        None => among,
                    }
                }
            },
            Test::Fits => self.fits(scope, path),
            Test::IsNull(expected) => dialect.is_null(column, value, *expected),
            Test::Includes { operand, all } => self.dialect.includes(value, slot(operand), column, *all),
            Test::IsEmpty(expected) => {
                let size = self.dialect.list_size(value, column);
                Fragment::join([size, Fragment::text("0")], if *expected { " = " } else { " <> " })
            }
            Test::Text { test, operand, ignore_case } => {
                let part = dialect.part(slot(operand), column);
                let value = dialect.as_text(column, value);
                dialect.text_test(*test, folded(value, *ignore_case), folded(part, *ignore_case))
            }
        }
    }
}

/// A comparison, by the bytes of both sides where those are given: beside the collation's own, which an index may serve, where what
/// has the same bytes is the same to that, too.
fn compared(sides: [Fragment; 2], comparison: Comparison, exact: Option<[Fragment; 2]>) -> Fragment {
    match (exact, comparison) {
        (None, _) => Fragment::join(sides, operator(comparison)),
        (Some(exact), Comparison::Eq) => {
            let both = [sides, exact].map(|sides| Fragment::join(sides, operator(comparison)));
            Fragment::format("({} and {})", both)
        }
        (Some(exact), Comparison::Ne | Comparison::Lt | Comparison::Lte | Comparison::Gt | Comparison::Gte) => {
            Fragment::join(exact, operator(comparison))
        }
    }
}

fn negation(quantifier: Quantifier) -> Fragment {
    Fragment::text(if says_none(quantifier) { "not " } else { "" })
}

fn slot(operand: &Operand) -> Slot {
    match operand {
        Operand::Parameter(parameter) => Slot::Parameter(*parameter),
        Operand::Constant(cell) => Slot::Constant(cell.clone()),
        // Only comparisons take values of the row, and write them themselves.
        Operand::Value(_) => Slot::Constant(Datum::Null),
    }
}

fn operator(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Eq => " = ",
        Comparison::Ne => " <> ",
        Comparison::Lt => " < ",
        Comparison::Lte => " <= ",
        Comparison::Gt => " > ",
        Comparison::Gte => " >= ",
    }
}
