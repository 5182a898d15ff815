//! The words of filters, in one table: the schema is printed from it, and filters are read by it.

use crate::access::Quantifier;
use crate::value::Scalar;

/// A word of a filter on a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FilterWord {
    /// Equal.
    Eq,
    /// Not equal.
    Ne,
    /// Less.
    Lt,
    /// Less or equal.
    Lte,
    /// Greater.
    Gt,
    /// Greater or equal.
    Gte,
    /// One of some values.
    In,
    /// None of some values.
    NotIn,
    /// A text with another in it.
    Contains,
    /// A text that another begins.
    StartsWith,
    /// A text that another ends.
    EndsWith,
    /// How the other words compare texts; not a test of its own.
    IgnoreCase,
    /// A list with a value in it.
    Includes,
    /// A list with some of some values in it.
    IncludesAny,
    /// A list with all of some values in it.
    IncludesAll,
    /// A list without items.
    IsEmpty,
    /// Null.
    IsNull,
}

/// What a word takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// A value of the field's own type.
    Value,
    /// Several of them.
    Values,
    /// True or false.
    Boolean,
}

impl FilterWord {
    /// All of them, in the order in which the schema has them.
    pub const ALL: &[FilterWord] = &[
        FilterWord::Eq,
        FilterWord::Ne,
        FilterWord::Lt,
        FilterWord::Lte,
        FilterWord::Gt,
        FilterWord::Gte,
        FilterWord::In,
        FilterWord::NotIn,
        FilterWord::Contains,
        FilterWord::StartsWith,
        FilterWord::EndsWith,
        FilterWord::IgnoreCase,
        FilterWord::Includes,
        FilterWord::IncludesAny,
        FilterWord::IncludesAll,
        FilterWord::IsEmpty,
        FilterWord::IsNull,
    ];

    /// The word.
    pub fn name(self) -> &'static str {
        match self {
            FilterWord::Eq => "eq",
            FilterWord::Ne => "ne",
            FilterWord::Lt => "lt",
            FilterWord::Lte => "lte",
            FilterWord::Gt => "gt",
            FilterWord::Gte => "gte",
            FilterWord::In => "in",
            FilterWord::NotIn => "notIn",
            FilterWord::Contains => "contains",
            FilterWord::StartsWith => "startsWith",
            FilterWord::EndsWith => "endsWith",
            FilterWord::IgnoreCase => "ignoreCase",
            FilterWord::Includes => "includes",
            FilterWord::IncludesAny => "includesAny",
            FilterWord::IncludesAll => "includesAll",
            FilterWord::IsEmpty => "isEmpty",
            FilterWord::IsNull => "isNull",
        }
    }

    /// The word of this name.
    pub fn named(name: &str) -> Option<Self> {
        FilterWord::ALL.iter().copied().find(|word| word.name() == name)
    }

    /// What it takes.
    pub fn takes(self) -> Takes {
        match self {
            FilterWord::Eq
            | FilterWord::Ne
            | FilterWord::Lt
            | FilterWord::Lte
            | FilterWord::Gt
            | FilterWord::Gte
            | FilterWord::Contains
            | FilterWord::StartsWith
            | FilterWord::EndsWith
            | FilterWord::Includes => Takes::Value,
            FilterWord::In | FilterWord::NotIn | FilterWord::IncludesAny | FilterWord::IncludesAll => Takes::Values,
            FilterWord::IgnoreCase | FilterWord::IsEmpty | FilterWord::IsNull => Takes::Boolean,
        }
    }

    /// What the schema says of it, where its name does not.
    pub fn description(self) -> Option<&'static str> {
        match self {
            FilterWord::IgnoreCase => Some("Compare regardless of the case of ASCII letters."),
            FilterWord::Includes => Some("The value is among the items."),
            FilterWord::IncludesAny => Some("Some of these values are among the items."),
            FilterWord::IncludesAll => Some("All of these values are among the items."),
            FilterWord::Eq
            | FilterWord::Ne
            | FilterWord::Lt
            | FilterWord::Lte
            | FilterWord::Gt
            | FilterWord::Gte
            | FilterWord::In
            | FilterWord::NotIn
            | FilterWord::Contains
            | FilterWord::StartsWith
            | FilterWord::EndsWith
            | FilterWord::IsEmpty
            | FilterWord::IsNull => None,
        }
    }

    /// Is it a word for fields of a scalar?
    pub fn is_of(self, scalar: Scalar) -> bool {
        match self {
            FilterWord::Eq | FilterWord::Ne | FilterWord::In | FilterWord::NotIn => scalar.is_comparable(),
            FilterWord::Lt | FilterWord::Lte | FilterWord::Gt | FilterWord::Gte => {
                scalar.is_comparable() && scalar != Scalar::Boolean
            }
            FilterWord::Contains | FilterWord::StartsWith | FilterWord::EndsWith | FilterWord::IgnoreCase => {
                scalar == Scalar::String
            }
            FilterWord::IsNull => true,
            FilterWord::Includes | FilterWord::IncludesAny | FilterWord::IncludesAll | FilterWord::IsEmpty => false,
        }
    }

    /// Is it a word for fields that are lists?
    pub fn is_of_lists(self) -> bool {
        match self {
            FilterWord::Includes
            | FilterWord::IncludesAny
            | FilterWord::IncludesAll
            | FilterWord::IsEmpty
            | FilterWord::IsNull => true,
            FilterWord::Eq
            | FilterWord::Ne
            | FilterWord::Lt
            | FilterWord::Lte
            | FilterWord::Gt
            | FilterWord::Gte
            | FilterWord::In
            | FilterWord::NotIn
            | FilterWord::Contains
            | FilterWord::StartsWith
            | FilterWord::EndsWith
            | FilterWord::IgnoreCase => false,
        }
    }

    /// Is it a word for enums?
    pub fn is_of_enums(self) -> bool {
        matches!(self, FilterWord::Eq | FilterWord::Ne | FilterWord::In | FilterWord::NotIn | FilterWord::IsNull)
    }
}

/// The words of a filter on a link to many: the word, what it says of the rows at its end, what the schema says of it.
pub const LINK_FILTER_WORDS: &[(&str, Quantifier, &str)] = &[
    ("exists", Quantifier::Exists, "Some row satisfies it."),
    ("all", Quantifier::All, "Every row satisfies it."),
    ("none", Quantifier::None, "No row satisfies it."),
];
