//! From select nodes to SQL statements. Identifiers are quoted in one place, values are always bound.

mod condition;
mod dialect;
mod select;

pub use dialect::{Dialect, Sqlite};
pub use select::select;

use crate::value::Cell;

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
    /// A value that a rule states.
    Constant(Cell),
}

/// A piece of a statement under construction: text and what is bound in it travel together.
#[derive(Debug, Default, Clone)]
struct Fragment {
    text: String,
    slots: Vec<Slot>,
}

impl Fragment {
    fn text(text: impl Into<String>) -> Self {
        Fragment { text: text.into(), slots: Vec::new() }
    }

    fn push(&mut self, text: &str) {
        self.text.push_str(text);
    }

    fn append(&mut self, other: Fragment) {
        self.text.push_str(&other.text);
        self.slots.extend(other.slots);
    }

    /// `template` with each `{}` replaced by the next part.
    fn format(template: &str, parts: impl IntoIterator<Item = Fragment>) -> Self {
        let mut whole = Fragment::default();
        let mut pieces = template.split("{}");
        whole.push(pieces.next().unwrap_or_default());
        for (part, piece) in parts.into_iter().zip(pieces) {
            whole.append(part);
            whole.push(piece);
        }
        whole
    }

    fn join(parts: Vec<Fragment>, separator: &str) -> Self {
        let mut whole = Fragment::default();
        for (at, part) in parts.into_iter().enumerate() {
            if at > 0 {
                whole.push(separator);
            }
            whole.append(part);
        }
        whole
    }
}
