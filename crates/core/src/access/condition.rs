//! One type for every condition on rows: a caller's filter and a grant's rule. It means one thing everywhere, SQL's
//! three-valued logic: a row counts only where the condition is true.

use std::sync::Arc;

use crate::model::{ColumnId, LinkId, TypeId};
use crate::value::Cell;

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
    /// All are true; the empty one is true.
    And(Vec<Condition>),
    /// Some is true; the empty one is false.
    Or(Vec<Condition>),
    /// Not.
    Not(Box<Condition>),
    /// A test of one value.
    Test {
        /// Which value.
        path: Path,
        /// What is asked of it.
        test: Test,
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
}

/// A value: to-one hops, then a column. Where a hop leads nowhere the value is null.
#[derive(Debug, Clone, PartialEq)]
pub struct Path {
    /// To-one hops.
    pub hops: Vec<Hop>,
    /// The column at their end.
    pub column: ColumnId,
}

/// What is asked of a value.
#[derive(Debug, Clone, PartialEq)]
pub enum Test {
    /// Comparison in the column's own collation.
    Compare {
        /// `=`, `<`, ….
        comparison: Comparison,
        /// With what.
        operand: Operand,
        /// Regardless of the case of ASCII letters.
        ignore_case: bool,
    },
    /// Is it one of a list?
    In {
        /// The list.
        operand: Operand,
        /// Regardless of the case of ASCII letters.
        ignore_case: bool,
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
    /// A value of the ask, by its number among the plan's parameters.
    Parameter(usize),
    /// A value that a rule states.
    Constant(Cell),
}
