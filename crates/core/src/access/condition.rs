//! One type for every condition on rows: a caller's filter and a grant's rule. It means one thing everywhere, SQL's
//! three-valued logic: a row counts only where the condition is true.

use std::sync::Arc;

use super::Number;
use crate::model::{ColumnId, LinkId, TypeId};
use crate::value::Datum;

/// Who stated a condition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// The caller's filter, resolved against the role's view: every hop in it ranges over visible rows only.
    Caller,
    /// A rule of the role, resolved against the whole model over unrestricted rows.
    Rule,
}

/// A condition together with who stated it.
#[derive(Debug, Clone, PartialEq)]
pub struct Predicate {
    /// Who stated it.
    pub origin: Origin,
    /// What must be true.
    pub condition: Arc<Condition>,
}

/// A condition on one row of a type.
#[derive(Debug, Clone, PartialEq)]
pub enum Condition {
    /// True or false for every row.
    Constant(bool),
    /// What the claims alone decide, by its number among the view's facts. [`View::specialise`](super::View::specialise)
    /// puts the decision in its place; where nobody decided, it is not true.
    ClaimPredicate(usize),
    /// All are true; the empty one is true.
    And(Vec<Condition>),
    /// Some is true; the empty one is false.
    Or(Vec<Condition>),
    /// Not.
    Not(Box<Condition>),
    /// Is false or unknown: never unknown itself.
    NotTrue(Box<Condition>),
    /// A test of one value.
    Test {
        /// Which value.
        path: Path,
        /// What is asked of it.
        test: Test,
    },
    /// A comparison of numbers of which one is calculated. Only rules have it.
    Numbers {
        /// One.
        left: Number,
        /// `=`, `<`, ….
        comparison: Comparison,
        /// The other.
        right: Number,
    },
    /// A statement about the rows at the end of a to-many link.
    Quantified {
        /// To-one hops before the to-many link.
        before: Vec<Hop>,
        /// The to-many link.
        hop: Hop,
        /// How many of them.
        quantifier: Quantifier,
        /// What is asked of each.
        inner: Box<Condition>,
    },
    /// A statement about the items of a list inside JSON; where there is no list there are no items.
    OverItems {
        /// The list.
        path: Path,
        /// How many of them.
        quantifier: Quantifier,
        /// What is asked of each, as a row of the items' type.
        inner: Box<Condition>,
    },
}

/// How many rows of a link must satisfy a condition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Quantifier {
    /// At least one is true: EXISTS (f IS TRUE).
    Exists,
    /// None is other than true: NOT EXISTS (f IS NOT TRUE).
    All,
    /// None is other than false: NOT EXISTS (f IS NOT FALSE).
    None,
    /// At least one is false: EXISTS (f IS FALSE); what a negated `all` says.
    ExistsFalse,
}

impl Quantifier {
    /// Is it the falsity of what is asked of each row that decides, once negations are pushed to the leaves?
    pub fn asks_falsity(self) -> bool {
        matches!(self, Quantifier::None | Quantifier::ExistsFalse)
    }

    /// The quantifier that says the opposite.
    #[must_use]
    pub fn negated(self) -> Self {
        match self {
            Quantifier::Exists => Quantifier::None,
            Quantifier::All => Quantifier::ExistsFalse,
            Quantifier::None => Quantifier::Exists,
            Quantifier::ExistsFalse => Quantifier::All,
        }
    }
}

/// One step over a link.
#[derive(Debug, Clone, PartialEq)]
pub struct Hop {
    /// The type that the step leaves.
    pub from: TypeId,
    /// Which of its links.
    pub link: LinkId,
    /// Which rows at the other end are there at all: the role's rule, for a caller's hop. Never inside a negation.
    pub visible: Option<Arc<Condition>>,
    /// The same for the rows of the join table, where the link has one.
    pub join_visible: Option<Arc<Condition>>,
    /// Which columns at the other end are masked: empty for a rule's hop.
    pub masks: Masks,
}

/// Columns of a type that show a value only where a condition is true, and null elsewhere.
pub type Masks = Arc<[(ColumnId, Arc<Condition>)]>;

/// A value: to-one hops, then a column. Where a hop leads nowhere the value is null.
#[derive(Debug, Clone, PartialEq)]
pub struct Path {
    /// To-one hops.
    pub hops: Vec<Hop>,
    /// The column at their end.
    pub column: ColumnId,
    /// Is the value the one that the column's mask shows? Never for a rule.
    pub masked: bool,
}

/// What is asked of a value.
#[derive(Debug, Clone, PartialEq)]
pub enum Test {
    /// Comparison.
    Compare {
        /// `=`, `<`, ….
        comparison: Comparison,
        /// With what.
        operand: Operand,
        /// How texts are compared.
        by: TextComparison,
    },
    /// Is it one of a list?
    In {
        /// The list.
        operand: Operand,
        /// How texts are compared.
        by: TextComparison,
    },
    /// IS NULL, or IS NOT NULL.
    IsNull(bool),
    /// Does a list include values of another list?
    Includes {
        /// The other list.
        operand: Operand,
        /// All of them, or some?
        all: bool,
    },
    /// Has a list no items, or some?
    IsEmpty(bool),
    /// Is a part of JSON null, or missing, or of its column's type?
    Fits,
    /// How many characters has a text?
    Size {
        /// `=`, `<`, ….
        comparison: Comparison,
        /// How many a rule states.
        size: i64,
    },
    /// Is a text part of it?
    Text {
        /// Which part.
        test: TextTest,
        /// Which text.
        operand: Operand,
        /// Regardless of the case of ASCII letters.
        ignore_case: bool,
    },
}

/// How two texts are compared; of other values it says nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TextComparison {
    /// By the column's own collation: what a caller's filter means, and what indexes are made for.
    Collation,
    /// Regardless of the case of ASCII letters.
    IgnoreCase,
    /// By their bytes in UTF-8, whatever the column's collation takes for the same: what a rule means, on every engine.
    Exact,
}

/// A comparison of two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    /// `=`
    Eq,
    /// `<>`
    Ne,
    /// `<`
    Lt,
    /// `<=`
    Lte,
    /// `>`
    Gt,
    /// `>=`
    Gte,
}

impl Comparison {
    /// Does it hold between two values that stand in this order?
    pub fn holds(self, order: std::cmp::Ordering) -> bool {
        match self {
            Comparison::Eq => order.is_eq(),
            Comparison::Ne => order.is_ne(),
            Comparison::Lt => order.is_lt(),
            Comparison::Lte => order.is_le(),
            Comparison::Gt => order.is_gt(),
            Comparison::Gte => order.is_ge(),
        }
    }

    /// The comparison with its sides exchanged.
    #[must_use]
    pub fn mirrored(self) -> Self {
        match self {
            Comparison::Eq | Comparison::Ne => self,
            Comparison::Lt => Comparison::Gt,
            Comparison::Lte => Comparison::Gte,
            Comparison::Gt => Comparison::Lt,
            Comparison::Gte => Comparison::Lte,
        }
    }
}

/// Which part of a text is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TextTest {
    /// Anywhere.
    Contains,
    /// The beginning.
    StartsWith,
    /// The end.
    EndsWith,
}

/// What a value is compared with.
#[derive(Debug, Clone, PartialEq)]
pub enum Operand {
    /// A value of the request, by its number among the plan's parameters. A plan's first parameters are the values that its
    /// view takes from the claims: a rule's parameters.
    Parameter(usize),
    /// A value that a rule states.
    Constant(Datum),
    /// Another value of the same row.
    Value(Path),
}

impl Operand {
    /// The parameter, if it is one.
    pub fn parameter(&self) -> Option<usize> {
        if let Operand::Parameter(parameter) = self { Some(*parameter) } else { None }
    }
}

impl Test {
    /// What the value is compared with, if it is compared with anything.
    pub fn operand(&self) -> Option<&Operand> {
        match self {
            Test::Compare { operand, .. }
            | Test::In { operand, .. }
            | Test::Includes { operand, .. }
            | Test::Text { operand, .. } => Some(operand),
            Test::IsNull(_) | Test::IsEmpty(_) | Test::Fits | Test::Size { .. } => None,
        }
    }
}

impl Path {
    pub(super) fn weight(&self) -> usize {
        std::mem::size_of::<Path>() + self.hops.len() * std::mem::size_of::<Hop>()
    }
}

impl Condition {
    /// About how many bytes it holds in memory, beside the rules that it shares with its view.
    pub fn weight(&self) -> usize {
        let below = match self {
            Condition::Constant(_) | Condition::ClaimPredicate(_) => 0,
            Condition::And(parts) | Condition::Or(parts) => parts.iter().map(Condition::weight).sum(),
            Condition::Not(inner) | Condition::NotTrue(inner) => inner.weight(),
            Condition::Test { path, test } => {
                path.weight()
                    + match test.operand() {
                        Some(Operand::Constant(cell)) => cell.weight(),
                        Some(Operand::Value(path)) => path.weight(),
                        Some(Operand::Parameter(_)) | None => 0,
                    }
            }
            Condition::Quantified { before, inner, .. } => {
                (before.len() + 1) * std::mem::size_of::<Hop>() + inner.weight()
            }
            Condition::Numbers { left, right, .. } => left.weight() + right.weight(),
            Condition::OverItems { path, inner, .. } => path.weight() + inner.weight(),
        };
        std::mem::size_of::<Condition>() + below
    }

    /// Does it test a value of the row itself, or of what to-one links lead to, of which this is true?
    pub fn mentions(&self, is_meant: &dyn Fn(&Path) -> bool) -> bool {
        match self {
            Condition::Constant(_) | Condition::ClaimPredicate(_) | Condition::Quantified { .. } => false,
            Condition::And(parts) | Condition::Or(parts) => parts.iter().any(|part| part.mentions(is_meant)),
            Condition::Not(inner) | Condition::NotTrue(inner) => inner.mentions(is_meant),
            Condition::OverItems { path, .. } => is_meant(path),
            Condition::Numbers { left, right, .. } => left.mentions(is_meant) || right.mentions(is_meant),
            Condition::Test { path, test } => {
                is_meant(path) || matches!(test.operand(), Some(Operand::Value(other)) if is_meant(other))
            }
        }
    }

    /// The condition once the claims are known: facts become what they decide, tests of an unknown claim what they then
    /// are. `facts` tells what a fact decides, `known` whether a parameter has a value. `negated`: does the condition
    /// matter where it is false? What is unknown is then taken for true, else for false, so that it never allows anything.
    #[must_use]
    pub fn specialise(
        &self,
        claim_predicates: &dyn Fn(usize) -> Option<bool>,
        known: &dyn Fn(usize) -> bool,
        negated: bool,
    ) -> Condition {
        match self {
            Condition::Constant(value) => Condition::Constant(*value),
            Condition::ClaimPredicate(claim_predicate) => {
                Condition::Constant(claim_predicates(*claim_predicate).unwrap_or(negated))
            }
            Condition::And(parts) => {
                combined(parts.iter().map(|part| part.specialise(claim_predicates, known, negated)), true)
            }
            Condition::Or(parts) => {
                combined(parts.iter().map(|part| part.specialise(claim_predicates, known, negated)), false)
            }
            Condition::Not(inner) => match inner.specialise(claim_predicates, known, !negated) {
                Condition::Constant(value) => Condition::Constant(!value),
                inner => Condition::Not(Box::new(inner)),
            },
            Condition::NotTrue(inner) => match inner.specialise(claim_predicates, known, !negated) {
                Condition::Constant(value) => Condition::Constant(!value),
                inner => Condition::NotTrue(Box::new(inner)),
            },
            Condition::Test { test, .. } => match test.operand().and_then(Operand::parameter) {
                Some(parameter) if !known(parameter) => Condition::Constant(negated),
                _ => self.clone(),
            },
            Condition::Numbers { left, right, .. } => match left.is_known(known) && right.is_known(known) {
                true => self.clone(),
                false => Condition::Constant(negated),
            },
            Condition::Quantified { before, hop, quantifier, inner } => {
                let said = if negated { quantifier.negated() } else { *quantifier };
                let inner = inner.specialise(claim_predicates, known, said.asks_falsity());
                Condition::Quantified {
                    before: before.clone(),
                    hop: hop.clone(),
                    quantifier: *quantifier,
                    inner: Box::new(inner),
                }
            }
            Condition::OverItems { path, quantifier, inner } => {
                let said = if negated { quantifier.negated() } else { *quantifier };
                let inner = inner.specialise(claim_predicates, known, said.asks_falsity());
                Condition::OverItems { path: path.clone(), quantifier: *quantifier, inner: Box::new(inner) }
            }
        }
    }
}

/// Parts that are all to be true (or of which one is), without those that decide nothing.
fn combined(parts: impl Iterator<Item = Condition>, all: bool) -> Condition {
    let mut kept = Vec::new();
    for part in parts {
        match part {
            Condition::Constant(value) if value == all => {}
            Condition::Constant(value) => return Condition::Constant(value),
            part => kept.push(part),
        }
    }
    match kept.len() {
        0 => Condition::Constant(all),
        1 => kept.remove(0),
        _ if all => Condition::And(kept),
        _ => Condition::Or(kept),
    }
}
