//! What the names of a whole schema have in common, and what they say nothing by: a first word that every table has (`wp_posts`,
//! `wp_users`), and keys that are written as one word with what they refer to (`groupid`).

use std::collections::HashSet;

use super::names;
use crate::catalog::{Catalog, Table};

/// Tables from which on a first word that all of them have is a habit.
const ENOUGH_TABLES: usize = 3;
/// Columns like `groupid` from which on that is how the schema writes keys.
const ENOUGH_GLUED: usize = 2;
/// What keys end with where they are written as one word.
pub(super) const GLUED: &str = "id";

/// What the names of a source's tables have in common.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Habits {
    /// The first word of every table.
    first_word: Option<String>,
    /// Does the project file say that types are called by it, too?
    keeps_first_word: bool,
    /// Are keys written as one word with what they refer to?
    glues_keys: bool,
}

impl Habits {
    /// The habits of a schema. `keeps_first_word`: does the project file say that types are called by every word?
    pub(super) fn of(catalog: &Catalog, keeps_first_word: bool) -> Self {
        let first_word = shared_first_word(catalog).filter(|word| !is_in_use(catalog, word));
        let tables = || catalog.tables.iter();
        let one = |table: &Table| names::one(&names::words(table.relation(), names::TABLE)).concat();
        let called: HashSet<String> = tables().map(one).collect();
        let linking = tables().flat_map(|table| {
            let own = table.foreign_keys.iter().flat_map(|key| &key.columns);
            own.chain(&table.primary_key)
        });
        let is_glued = |column: &&String| {
            let words = names::words(column, names::COLUMN);
            let stem = words.last().and_then(|word| word.strip_suffix(GLUED));
            words.len() == 1 && stem.is_some_and(|stem| called.contains(stem))
        };
        let glued: HashSet<&String> = linking.filter(is_glued).collect();
        Habits { first_word, keeps_first_word, glues_keys: glued.len() >= ENOUGH_GLUED }
    }

    /// The first word of every table, where types are called without it.
    pub(super) fn left_out(&self) -> Option<&str> {
        self.first_word.as_deref().filter(|_| !self.keeps_first_word)
    }

    /// The words of a table's name without the first word of every table, where the project file says that it is kept.
    pub(super) fn words_before_it_was_kept(&self, table: &Table) -> Option<Vec<String>> {
        self.keeps_first_word.then(|| without(self.first_word.as_deref(), table))
    }

    /// Are keys written as one word with what they refer to?
    pub(super) fn glues_keys(&self) -> bool {
        self.glues_keys
    }

    /// The words of a table's name, as its type has them.
    pub(super) fn table_words(&self, table: &Table) -> Vec<String> {
        without(self.left_out(), table)
    }
}

/// The words of a table's name without this one at the front of its own.
fn without(first: Option<&str>, table: &Table) -> Vec<String> {
    let words = names::table_words(table);
    let own = names::words(table.relation(), names::TABLE);
    match own.split_first() {
        Some((word, rest)) if first == Some(word) && !rest.is_empty() => {
            let schema = words.len().saturating_sub(own.len());
            words[..schema].iter().chain(rest).cloned().collect()
        }
        _ => words,
    }
}

/// The word that every table's name begins with and none consists of. Of a schema that has names already those tables count that have.
fn shared_first_word(catalog: &Catalog) -> Option<String> {
    let named = &catalog.names.types;
    let has_name = |table: &&Table| named.is_empty() || named.contains_key(&table.name);
    let mut words = catalog.tables.iter().filter(has_name).map(|table| names::words(table.relation(), names::TABLE));
    let first = words.next().filter(|words| words.len() > 1)?.swap_remove(0);
    let mut count = 1;
    words
        .all(|words| {
            count += 1;
            words.len() > 1 && words[0] == first
        })
        .then_some(first)
        .filter(|_| count >= ENOUGH_TABLES)
}

/// Are types called by it already? Names that were given once stay.
fn is_in_use(catalog: &Catalog, word: &str) -> bool {
    catalog.names.types.values().any(|names| {
        let words = names::words(&names.name, names::TABLE);
        words.len() > 1 && words[0] == word
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn catalog(tables: &[&str]) -> Catalog {
        let mut catalog = Catalog::from_text(include_str!("../../tests/data/huts.json")).unwrap();
        let known = catalog.tables.remove(0);
        let table = |name: &&str| Table { name: (*name).to_owned(), foreign_keys: Vec::new(), ..known.clone() };
        catalog.tables = tables.iter().map(table).collect();
        catalog.names = crate::catalog::AssignedNames::default();
        catalog
    }

    #[rstest]
    #[case(&["wp_posts", "wp_users", "wp_terms"], Some("wp"))]
    #[case(&["wp_posts", "wp_users"], None)]
    #[case(&["wp_posts", "wp_users", "terms"], None)]
    #[case(&["app", "app_users", "app_terms"], None)]
    #[case(&["hut_notes", "hut_supplies", "huts"], None)]
    fn a_first_word_of_every_table_says_nothing(#[case] tables: &[&str], #[case] word: Option<&str>) {
        let catalog = catalog(tables);
        let habits = Habits::of(&catalog, false);
        assert_eq!(habits.left_out(), word);
        assert_eq!(Habits::of(&catalog, true).left_out(), None);
        let first = names::type_name(&habits.table_words(&catalog.tables[0]));
        assert_eq!(first == "Post", word.is_some(), "{first}");
    }
}
