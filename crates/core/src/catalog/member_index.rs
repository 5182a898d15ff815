//! Indexes on members of JSON: of an expression that takes one out of a column, or of a generated column that does.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An index that begins with a member of JSON.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MemberIndex {
    /// The column that holds the JSON.
    pub column: String,
    /// The names of the members that lead to it.
    pub path: Vec<String>,
    /// What is indexed.
    pub on: Indexed,
    /// As what.
    #[serde(default, skip_serializing_if = "is_any")]
    pub of: IndexedType,
}

/// What an index is on.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Indexed {
    /// An expression of the engine, in which `{}` stands for the column.
    Expression(String),
    /// A generated column.
    Column(String),
}

/// The type of the values in an index.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum IndexedType {
    /// Each has its own, and texts are ordered by their bytes.
    #[default]
    Any,
    /// Texts, in some order.
    Text,
    /// Numbers.
    Number,
    /// Truth values.
    Boolean,
}

fn is_any(of: &IndexedType) -> bool {
    *of == IndexedType::Any
}
