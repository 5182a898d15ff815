//! From the selects of a plan to SQL. Identifiers are quoted in one place per dialect, values are always bound.
//!
//! ```text
//! selects ─► select.rs (FROM, WHERE, ORDER BY of one) ─► program.rs (how they hang together) ─► Program
//!            from.rs (tables, masks, joins)               dialect: what engines write differently
//!            condition.rs (Condition ─► SQL)
//!            far_side.rs (conditions over links, from the other end)
//! changes    ─► change.rs (INSERT, UPDATE, DELETE), json_change.rs (what JSON is set to)
//! ```

mod change;
mod condition;
mod dialect;
mod far_side;
mod fragment;
mod from;
mod json_change;
mod mariadb;
mod postgres;
mod program;
mod select;
mod sqlite;

pub use change::{address, delete, insert, keyed, update, update_each};
pub use dialect::{Dialect, Strategy};
pub use fragment::Fragment;
pub use mariadb::{GEOMETRY, Mariadb};
pub use postgres::Postgres;
pub use program::{NestedFields, Program, compile, level};
pub use sqlite::{DECIMAL_CALCULATION, DECIMAL_ORDER, DECIMAL_SUM, MICROSECONDS, Sqlite};

use puente_core::value::Datum;

/// A statement and what is bound to each of its placeholders, in order.
#[derive(Debug, Clone, PartialEq)]
pub struct Statement {
    /// The text.
    pub text: String,
    /// What is bound.
    pub slots: Vec<Slot>,
}

/// What is bound to one placeholder.
#[derive(Debug, Clone, PartialEq)]
pub enum Slot {
    /// A parameter of the plan.
    Parameter(usize),
    /// A page size: one more than the parameter, to know whether there are more rows.
    PageSize(usize),
    /// A value of the parent's row, by its output.
    Parent(usize),
    /// The parent's ordinal, where its rows are united with those of others.
    Ordinal,
    /// The values of one linking column of all parents' rows, by the link's pair.
    KeyColumn(usize),
    /// The values of all linking columns of all parents' rows.
    Keys,
    /// A value that a rule states.
    Constant(Datum),
    /// A value of a change, by its number among those of one execution.
    Given(usize),
}
