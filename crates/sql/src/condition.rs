//! From a [`Condition`] to SQL. Negations are pushed to the leaves, so that a quantifier is never negated in SQL and a
//! role's rule, which is ANDed to the rows a hop ranges over, is never inside a negation.

use super::from::{Scope, Writer};
use super::{Fragment, Slot};
use puente_core::access::{Comparison, Condition, Hop, Operand, Quantifier, Test};
use puente_core::model::{Column, TypeId};
use puente_core::value::Datum;

/// Conditions that stand in one row of ANDs or ORs; more are grouped.
const WIDEST: usize = 100;

impl<'a> Writer<'a> {
    /// `condition`, true where it is true. Within `scope`.
    pub(super) fn condition(&mut self, scope: &mut Scope, condition: &Condition, negated: bool) -> Fragment {
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
                let (value, column) = self.path(scope, path);
                let test = self.test(scope, value, column, test);
                if negated { Fragment::format("not ({})", [test]) } else { test }
            }
            Condition::Quantified { before, hop, quantifier, inner } => {
                let quantifier = if negated { quantifier.negated() } else { *quantifier };
                let mut at = scope.alias.clone();
                for hop in before {
                    at = self.join(scope, hop, &at);
                }
                self.quantified(&at, hop, quantifier, inner)
            }
        }
    }

    fn combine(&mut self, scope: &mut Scope, parts: &[Condition], negated: bool, all: bool) -> Fragment {
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
    fn quantified(&mut self, at: &str, hop: &Hop, quantifier: Quantifier, inner: &Condition) -> Fragment {
        let link = &self.model.types[hop.from].links[hop.link];
        let mut scope = self.scope(link.target);
        let asked = match quantifier {
            Quantifier::Exists => self.condition(&mut scope, inner, false),
            Quantifier::ExistsFalse => self.condition(&mut scope, inner, true),
            Quantifier::All => Fragment::format("({}) is not true", [self.condition(&mut scope, inner, false)]),
            // `f is not false`, said of the negated `f`: what is asked of a quantifier inside is only whether it is true.
            Quantifier::None => Fragment::format("({}) is not true", [self.condition(&mut scope, inner, true)]),
        };
        let (from, mut conditions) = self.reach(&mut scope, hop, at);
        conditions.push(asked);
        let is_none = matches!(quantifier, Quantifier::All | Quantifier::None);
        let not = Fragment::text(if is_none { "not " } else { "" });
        Fragment::format(
            "{}exists (select 1 from {}{} where {})",
            [not, from, scope.joins, Fragment::join(conditions, " and ")],
        )
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

    fn test(&mut self, scope: &mut Scope, value: Fragment, column: &Column, test: &Test) -> Fragment {
        let dialect = self.dialect;
        let folded = |text: Fragment, fold: bool| if fold { dialect.folded(text) } else { text };
        match test {
            Test::Compare { comparison, operand: Operand::Value(other), .. } => {
                let (other, _) = self.path(scope, other);
                Fragment::join([value, other], operator(*comparison))
            }
            Test::Size { comparison, size } => {
                let text = dialect.size(dialect.as_text(column, value));
                Fragment::join([text, Fragment::text(size.to_string())], operator(*comparison))
            }
            Test::Compare { comparison, operand, ignore_case } => {
                let operand = self.dialect.value(slot(operand), column);
                let sides = [folded(value, *ignore_case), folded(operand, *ignore_case)];
                Fragment::join(sides, operator(*comparison))
            }
            Test::In { operand, ignore_case } => {
                self.dialect.is_in(folded(value, *ignore_case), slot(operand), column, *ignore_case)
            }
            Test::IsNull(expected) => dialect.is_null(column, value, *expected),
            Test::Includes { operand, all } => self.dialect.includes(value, slot(operand), column, *all),
            Test::IsEmpty(true) => self.dialect.is_empty_list(value),
            Test::IsEmpty(false) => Fragment::format("not ({})", [self.dialect.is_empty_list(value)]),
            Test::Text { test, operand, ignore_case } => {
                let part = dialect.part(slot(operand), column);
                let value = dialect.as_text(column, value);
                dialect.text_test(*test, folded(value, *ignore_case), folded(part, *ignore_case))
            }
        }
    }
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
