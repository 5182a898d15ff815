//! What a link is called: by the words of the column that refers, without those of the key that it refers to. `hut_id` is
//! `hut`, `author_user_id` is `authorUser`, and `begin_area`, which says nothing of a key, is `beginArea`.

use super::habits::{GLUED, Habits};
use super::inflection::singular;
use super::names;
use crate::catalog::{ForeignKey, Table};

fn words_of(name: &str) -> Vec<String> {
    names::words(name, names::COLUMN)
}

/// Words that stand for a key where a column ends with them, whatever the key itself is called.
pub(super) const KEY_WORDS: &[&str] =
    &["id", "uid", "uuid", "guid", "fk", "ref", "key", "code", "no", "nr", "num", "number", "pk"];
/// Those of them that are no part of a name for anything else.
const NOTHING_ELSE: &[&str] = &["id", "uid", "uuid", "guid", "fk"];

/// What a reference plays in a link's names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct LinkWords {
    /// What the link is called: `begin`, `area`.
    pub(super) words: Vec<String>,
    /// The words of the key that it refers to: `id`.
    pub(super) key: Vec<String>,
}

/// A reference's columns in two tables, in pairs.
#[derive(Debug, Clone, Copy)]
pub(super) struct Ends<'c> {
    pub(super) table: &'c Table,
    pub(super) columns: &'c [String],
    pub(super) target: &'c Table,
    pub(super) references: &'c [String],
    /// What names have in common where the target is.
    pub(super) habits: &'c Habits,
}

impl<'c> Ends<'c> {
    pub(super) fn of(table: &'c Table, key: &'c ForeignKey, target: &'c Table, habits: &'c Habits) -> Self {
        Ends { table, columns: &key.columns, target, references: &key.references, habits }
    }

    /// The one column that says what the reference is for, and what it refers to. Of several columns those that are called as
    /// what they refer to, such as a tenant's number in every key, say nothing.
    fn telling(&self) -> Option<(&'c String, &'c String)> {
        let pairs = || self.columns.iter().zip(self.references);
        let mut telling = pairs().filter(|(own, other)| self.columns.len() == 1 || own != other);
        match (telling.next(), telling.next()) {
            (Some(pair), None) => Some(pair),
            _ => None,
        }
    }

    /// What the link is called. `rivals`: other references from the same table to the same one.
    pub(super) fn link_words(&self, rivals: &[Ends<'_>]) -> LinkWords {
        if let Some((own, other)) = self.telling() {
            return self.column_words(own, other);
        }
        let rivals: Vec<_> =
            rivals.iter().filter(|rival| rival.columns.len() > 1 && rival.columns != self.columns).collect();
        // Where several lead there, the words of the first column that tells them apart.
        let apart = self.columns.iter().zip(self.references).find(|(own, other)| {
            !rivals.is_empty() && own != other && rivals.iter().all(|rival| !rival.columns.contains(own))
        });
        match apart {
            Some((own, other)) => self.column_words(own, other),
            None => LinkWords { words: self.target_words(), key: vec!["key".to_owned()] },
        }
    }

    fn target_words(&self) -> Vec<String> {
        names::one(&self.habits.table_words(self.target))
    }

    fn column_words(&self, own: &str, other: &str) -> LinkWords {
        let column = without_habit(self.table, own);
        let key = key_words(self.target, other);
        let target = self.target_words();
        let last = |words: &[String], known: &[&str]| words.last().is_some_and(|word| known.contains(&word.as_str()));
        let before = &column[..column.len().saturating_sub(1)];
        let words = if column.len() > key.len() && column.ends_with(&key) {
            column[..column.len() - key.len()].to_vec()
        } else if last(&column, KEY_WORDS) && !before.is_empty() && target.ends_with(before) {
            // `movement_no`, where the key is called `number`.
            before.to_vec()
        } else if column.len() > 1 && last(&column, NOTHING_ELSE) {
            column[..column.len() - 1].to_vec()
        } else if column.len() > 1 && NOTHING_ELSE.contains(&column[0].as_str()) {
            column[1..].to_vec()
        } else if column == key && !target.ends_with(&key) {
            // `slug`, where the key is called so, says nothing of what it leads to.
            target.clone()
        } else {
            run_together(&column, &key, &target, &without_habit(self.target, other), self.habits.glues_keys())
        };
        // The beginning of the target's name is the target's name where its own key begins so, too: `cust_id` of `customers`, which
        // have a `cust_id`; `tag_id` is a tag, though it leads to `tag_groups`.
        let of_key = without_habit(self.target, other).concat();
        let words = match words.as_slice() {
            [only] if is_short_for(only, &target.concat()) && of_key.len() > only.len() && of_key.starts_with(only) => {
                target.clone()
            }
            _ => words,
        };
        // A key that is called as its table is `sportKey` behind `sport`.
        let key = if words.ends_with(&key) { vec!["key".to_owned()] } else { key };
        LinkWords { words, key }
    }
}

/// The words of a key column, without those of its table that stand before them: `client_id` of `clients` is `id`.
fn key_words(target: &Table, key: &str) -> Vec<String> {
    let words = without_habit(target, key);
    let table = names::one(&names::words(target.relation(), names::TABLE));
    if let [only] = words.as_slice()
        && let Some((_, key)) = split_key(only, &table.concat())
    {
        return vec![key.to_owned()];
    }
    // `lld_override_operationid` of `lld_override_operations`: the last word is written as one with the last of the table's.
    if let (Some(last), Some(own)) = (words.last(), table.last())
        && words.len() == table.len()
        && words[..words.len() - 1] == table[..table.len() - 1]
        && let Some(key) = last.strip_prefix(own.as_str()).filter(|key| KEY_WORDS.contains(key))
    {
        return vec![key.to_owned()];
    }
    let is_own = |word: &String| table.iter().any(|own| *own == singular(word) || own.starts_with(word.as_str()));
    let before = words.iter().take(words.len().saturating_sub(1)).take_while(|word| is_own(word)).count();
    words[before..].to_vec()
}

/// A key that is written as one word with its table, or with a part of it: `employeeid` of `employee`, `custkey` of `customer`,
/// `groupid` of `host_groups`.
fn split_key<'w>(word: &'w str, table: &str) -> Option<(&'w str, &'w str)> {
    let keys = KEY_WORDS.iter().filter_map(|key| word.strip_suffix(key));
    let stem = keys.filter(|stem| is_short_for(stem, table) || stem.len() > 2 && table.ends_with(stem));
    let stem = stem.max_by_key(|stem| stem.len())?;
    Some((stem, &word[stem.len()..]))
}

/// Is a word the beginning of a table's name?
fn is_short_for(word: &str, table: &str) -> bool {
    word.len() > 2 && table.starts_with(word)
}

/// Words written as one: `supportrepid` and `employeeid_deputy`, where the key is `employeeid`; `userid`, where the table is
/// `users`.
fn run_together(
    column: &[String],
    key: &[String],
    target: &[String],
    other: &[String],
    glues_keys: bool,
) -> Vec<String> {
    let mut words = column.to_vec();
    let ([key], table) = (key, target.concat()) else { return words };
    let habit = match other {
        [only] => split_key(only, &table).map(|_| only),
        _ => None,
    };
    let is_habit =
        habit.is_some() || other.len() > 1 && other.concat() == format!("{table}{key}") || glues_keys && key == GLUED;
    let count = words.len();
    for (at, word) in words.iter_mut().enumerate() {
        let Some(stem) = word.strip_suffix(key.as_str()).filter(|stem| !stem.is_empty()) else { continue };
        let is_key = habit == Some(&*word) || at + 1 == count && (is_habit || stem == table);
        if is_key {
            *word = if is_short_for(stem, &table) && (stem == table || habit.is_some()) {
                target.join("_")
            } else {
                stem.to_owned()
            };
        }
    }
    words
}

/// A column's words, without the one that every column of its table begins with.
fn without_habit(table: &Table, column: &str) -> Vec<String> {
    let mut words = words_of(column);
    if let [first, _, ..] = words.as_slice() {
        let begins = |other: &str| matches!(words_of(other).as_slice(), [word, _, ..] if word == first);
        if table.columns.len() > 2 && table.columns.iter().all(|column| begins(&column.name)) {
            words.remove(0);
        }
    }
    words
}

/// The names for a column's own field, the best first: where the link over it is called as the column is, the column is called
/// by the word of the key behind that.
pub(super) fn field_names<'c>(
    table: &'c Table,
    column: &str,
    target_of: impl Fn(&'c ForeignKey) -> Option<&'c Table>,
    habits: &'c Habits,
) -> Vec<String> {
    let own = names::field_name(column);
    let over = table.foreign_keys.iter().find_map(|key| {
        let ends = Ends::of(table, key, target_of(key)?, habits);
        ends.telling().filter(|(telling, _)| *telling == column)?;
        let link = ends.link_words(&[]);
        (names::link_name(&link.words) == own).then_some(link.key)
    });
    let with_key = over.map(|key| format!("{own}{}", names::pascal(&key.join("_"))));
    with_key.into_iter().chain([own]).chain(names::as_it_is(column)).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::catalog::{Catalog, Column};

    fn table(name: &str, columns: &[&str]) -> Table {
        let known = Catalog::from_text(include_str!("../../tests/data/huts.json")).unwrap().tables.remove(0);
        let column = |name: &&str| Column { name: (*name).to_owned(), ..known.columns[0].clone() };
        Table {
            name: name.to_owned(),
            columns: columns.iter().map(column).collect(),
            foreign_keys: Vec::new(),
            ..known.clone()
        }
    }

    #[rstest]
    #[case("hut_id", "huts", "id", "hut", "hutId")]
    #[case("hutId", "Hut", "id", "hut", "hutId")]
    #[case("hut_code", "huts", "code", "hut", "hutCode")]
    #[case("begin_area", "areas", "id", "beginArea", "beginAreaId")]
    #[case("author_user_id", "users", "id", "authorUser", "authorUserId")]
    #[case("author_user_id", "users", "user_id", "authorUser", "authorUserId")]
    #[case("currency", "currencies", "code", "currency", "currencyCode")]
    #[case("currency_code", "currencies", "id", "currency", "currencyCode")]
    #[case("client_id", "clients", "client_id", "client", "clientId")]
    #[case("bill_cust_id", "customers", "cust_id", "billCust", "billCustId")]
    #[case("hut_id", "huts", "uid", "hut", "hutId")]
    #[case("id_hut", "huts", "id", "hut", "idHut")]
    #[case("id", "huts", "id", "hut", "id")]
    #[case("country", "countries", "country", "country", "countryKey")]
    #[case("origin_iso", "countries", "iso", "origin", "originIso")]
    #[case("supportrepid", "employee", "employeeid", "supportrep", "supportrepid")]
    #[case("reportsto", "employee", "employeeid", "reportsto", "reportstoId")]
    #[case("mediatypeid", "media_types", "mediatypeid", "mediaType", "mediatypeid")]
    #[case("userid", "users", "id", "user", "userid")]
    #[case("groupid", "host_groups", "groupid", "group", "groupid")]
    #[case("host_group", "host_groups", "groupid", "hostGroup", "hostGroupId")]
    #[case("triggerid_up", "triggers", "triggerid", "triggerUp", "triggeridUp")]
    #[case("movement_no", "movements", "number", "movement", "movementNo")]
    #[case("cust_id", "customers", "cust_id", "customer", "custId")]
    #[case("grid", "grids", "id", "grid", "gridId")]
    #[case("paid", "payers", "id", "paid", "paidId")]
    #[case("hut_code", "huts", "id", "hut", "hutCode")]
    #[case(
        "lld_override_operationid",
        "lld_override_operation",
        "lld_override_operationid",
        "lldOverrideOperation",
        "lldOverrideOperationid"
    )]
    #[case("slug", "articles", "slug", "article", "slug")]
    #[case("tableName", "apps_meta", "tableName", "appsMeta", "tableName")]
    #[case("tag_id", "tag_groups", "id", "tag", "tagId")]
    #[case("prod_id", "products", "prod_id", "product", "prodId")]
    fn a_link_is_called_by_its_columns_words(
        #[case] column: &str,
        #[case] to: &str,
        #[case] key: &str,
        #[case] link: &str,
        #[case] field: &str,
    ) {
        let (columns, references) = (vec![column.to_owned()], vec![key.to_owned()]);
        let target = table(to, &["row", key]);
        let mut table = table("things", &["row", column]);
        let foreign = ForeignKey { columns, table: to.to_owned(), references, on_delete: None, enforced: false };
        table.foreign_keys = vec![foreign.clone()];
        let habits = Habits::default();
        let found = Ends::of(&table, &foreign, &target, &habits).link_words(&[]);
        assert_eq!(names::link_name(&found.words), link);
        assert_eq!(field_names(&table, column, |_| Some(&target), &habits)[0], field);
    }

    #[rstest]
    #[case(&["tenant", "author"], &["tenant", "id"], &[], "author")]
    #[case(&["hut_code", "item"], &["hut_code", "item"], &[], "supply")]
    #[case(&["kind", "number"], &["sort", "no"], &[], "supply")]
    #[case(&["league", "home_sort", "home_no"], &["league", "sort", "no"], &["league", "away_sort", "away_no"], "home")]
    fn a_key_of_several_columns_is_called_by_its_target_or_by_what_tells_it_apart(
        #[case] columns: &[&str],
        #[case] references: &[&str],
        #[case] rival: &[&str],
        #[case] link: &str,
    ) {
        let owned = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let (columns, references, rival) = (owned(columns), owned(references), owned(rival));
        let (from, target) = (table("things", &["row", "x"]), table("supplies", &["row", "y"]));
        let habits = Habits::default();
        let ends = |columns| Ends { table: &from, columns, target: &target, references: &references, habits: &habits };
        let rivals = if rival.is_empty() { vec![] } else { vec![ends(&rival)] };
        assert_eq!(names::link_name(&ends(&columns).link_words(&rivals).words), link);
    }

    #[test]
    fn a_word_before_every_column_says_nothing() {
        let orders = table("orders", &["o_orderkey", "o_custkey", "o_total"]);
        let customers = table("customer", &["c_custkey", "c_name", "c_phone"]);
        let (columns, references) = (vec!["o_custkey".to_owned()], vec!["c_custkey".to_owned()]);
        let habits = Habits::default();
        let ends =
            Ends { table: &orders, columns: &columns, target: &customers, references: &references, habits: &habits };
        assert_eq!(names::link_name(&ends.link_words(&[]).words), "customer");
    }
}
