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

/// The fields that a word is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fields {
    /// All of them.
    Any,
    /// Single values that can be compared.
    Comparable,
    /// Single values that are more or less.
    Ordered,
    /// Texts.
    Text,
    /// Lists.
    List,
}

/// A row of the table: the word, its name, what it takes, which fields it is for, what the schema says of it.
type Entry = (FilterWord, &'static str, Takes, Fields, &'static str);

/// The table, in the order in which the schema has the words: that of the enum.
const TABLE: &[Entry] = &[
    (FilterWord::Eq, "eq", Takes::Value, Fields::Comparable, "Equal to this."),
    (FilterWord::Ne, "ne", Takes::Value, Fields::Comparable, "Not equal to this, and not null."),
    (FilterWord::Lt, "lt", Takes::Value, Fields::Ordered, "Less than this."),
    (FilterWord::Lte, "lte", Takes::Value, Fields::Ordered, "Less than this, or equal."),
    (FilterWord::Gt, "gt", Takes::Value, Fields::Ordered, "More than this."),
    (FilterWord::Gte, "gte", Takes::Value, Fields::Ordered, "More than this, or equal."),
    (FilterWord::In, "in", Takes::Values, Fields::Comparable, "Equal to one of these."),
    (FilterWord::NotIn, "notIn", Takes::Values, Fields::Comparable, "Equal to none of these, and not null."),
    (FilterWord::Contains, "contains", Takes::Value, Fields::Text, "Has this text in it."),
    (FilterWord::StartsWith, "startsWith", Takes::Value, Fields::Text, "Begins with this text."),
    (FilterWord::EndsWith, "endsWith", Takes::Value, Fields::Text, "Ends with this text."),
    (
        FilterWord::IgnoreCase,
        "ignoreCase",
        Takes::Boolean,
        Fields::Text,
        "Compare regardless of the case of ASCII letters.",
    ),
    (FilterWord::Includes, "includes", Takes::Value, Fields::List, "The value is among the items."),
    (FilterWord::IncludesAny, "includesAny", Takes::Values, Fields::List, "Some of these values are among the items."),
    (FilterWord::IncludesAll, "includesAll", Takes::Values, Fields::List, "All of these values are among the items."),
    (FilterWord::IsEmpty, "isEmpty", Takes::Boolean, Fields::List, "Has no items, or has some."),
    (FilterWord::IsNull, "isNull", Takes::Boolean, Fields::Any, "Is null, or is not."),
];

impl FilterWord {
    /// All of them, in the order in which the schema has them.
    pub fn all() -> impl Iterator<Item = FilterWord> {
        TABLE.iter().map(|(word, ..)| *word)
    }

    fn entry(self) -> &'static Entry {
        &TABLE[self as usize]
    }

    /// The word.
    pub fn name(self) -> &'static str {
        self.entry().1
    }

    /// The word of this name.
    pub fn named(name: &str) -> Option<Self> {
        FilterWord::all().find(|word| word.name() == name)
    }

    /// What it takes.
    pub fn takes(self) -> Takes {
        self.entry().2
    }

    /// What the schema says of it.
    pub fn description(self) -> &'static str {
        self.entry().4
    }

    /// Is it a word for fields of a scalar?
    pub fn is_of(self, scalar: Scalar) -> bool {
        match self.entry().3 {
            Fields::Any => true,
            Fields::Comparable => scalar.is_comparable(),
            Fields::Ordered => scalar.is_comparable() && scalar != Scalar::Boolean,
            Fields::Text => scalar == Scalar::String,
            Fields::List => false,
        }
    }

    /// Is it a word for fields that are lists?
    pub fn is_of_lists(self) -> bool {
        match self.entry().3 {
            Fields::Any | Fields::List => true,
            Fields::Comparable | Fields::Ordered | Fields::Text => false,
        }
    }

    /// Is it a word for enums?
    pub fn is_of_enums(self) -> bool {
        match self.entry().3 {
            Fields::Any | Fields::Comparable => true,
            Fields::Ordered | Fields::Text | Fields::List => false,
        }
    }
}

/// The words of a filter on a link to many: the word, what it says of the rows at its end, what the schema says of it.
pub const LINK_FILTER_WORDS: &[(&str, Quantifier, &str)] = &[
    ("exists", Quantifier::Exists, "Some row satisfies it."),
    ("all", Quantifier::All, "Every row satisfies it."),
    ("none", Quantifier::None, "No row satisfies it."),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_stands_in_its_own_row() {
        for (at, (word, name, ..)) in TABLE.iter().enumerate() {
            assert_eq!((*word as usize, word.name()), (at, *name));
            assert_eq!(FilterWord::named(name), Some(*word));
        }
        assert_eq!(TABLE.len(), FilterWord::IsNull as usize + 1);
    }
}
