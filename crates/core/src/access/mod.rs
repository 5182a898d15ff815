//! Who may see what: grants and rules become a role's view of the model, in which only what was granted exists.
//!
//! ```text
//! [role.…] of the project file ─► grants.rs (checked against the model) ─► View
//!                                  rule.rs  (CEL ─► Condition)
//! claims of one request ─► View::resolve (values that are bound, facts that are decided) ─► View::specialise
//! ```

mod claims;
mod condition;
mod follow;
mod grants;
mod number;
mod rule;
mod view;
mod warnings;

pub use crate::project::{Action, OWNER};
pub use claims::{Claims, claim_at};
pub use condition::{
    Comparison, Condition, Hop, Masks, Operand, Origin, Path, Predicate, Quantifier, Test, TextComparison, TextTest,
};
pub use follow::{check_rule, follow};
pub use grants::{Grant, Role, roles};
pub use number::{Arithmetic, MOST_DIGITS, Number};
pub use view::{ResolvedClaims, TypeView, View, Within, WriteGrant};
pub use warnings::{about_versions, warnings};
