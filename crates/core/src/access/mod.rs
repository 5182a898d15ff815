//! Who may see what: a role's view of the model, and the conditions on rows.

mod condition;
mod view;

pub use condition::{Comparison, Condition, Hop, Operand, Origin, Path, Predicate, Quantifier, Test, TextTest};
pub use view::{OWNER, TypeView, View, WriteGrant};
