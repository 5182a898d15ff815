//! Which columns may refer to which keys though no foreign key says so: by what they are called, or, where the values of nothing else
//! would do, by their values. And which of several that values speak for it is.

use std::collections::{HashMap, HashSet};

use super::habits::{GLUED, Habits};
use super::link_words::KEY_WORDS;
use super::{Proposal, SourceId, names};
use crate::catalog::{Catalog, Column, Table};
use crate::value::Scalar;

/// What speaks for a candidate before any value is looked at, the strongest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Speaks {
    /// The column is called as the key, with its table: `hut_code`, where `huts` has a key `code`.
    Key,
    /// It is called as the table: `hut`.
    Table,
    /// It is called as a part of the table's name, or its beginning, and ends as keys do: `group_id` and `host_groups`; `cust_id` and
    /// `customers`.
    Part,
    /// It says what the row is there: `owner_id`, where there are `users`; `parent_id`, of the same table.
    Role,
    /// It has texts, UUIDs or object ids: values that are hardly ever in the key of another table by chance.
    Telling,
    /// It ends as keys do.
    Values,
}

/// Candidates for which values alone speak, of one column and of one survey at most: each is a question to the database.
const BY_VALUES: (usize, usize) = (30, 1_000);
/// The same of those for which a part of a name or a role speaks, of one survey.
const BY_PART: usize = 5_000;
/// Values that prove something where nothing else does.
const ENOUGH_VALUES: u64 = 5;
/// How much more of one's keys than of another's have to be referred to, for values alone to decide between them.
const CLEARLY: u64 = 2;
/// The part of the keys that values alone have to refer to, so that small numbers are not taken for keys.
const COVERED: u64 = 4;

/// Keys that many tables have, whatever they are.
const USUAL_KEYS: &[&str] = &[
    "id", "uid", "uuid", "guid", "code", "key", "no", "nr", "num", "number", "pk", "name", "title", "slug", "label",
    "email", "token", "hash", "position", "sort", "rank", "order",
];
/// What somebody is to a row, and the tables that hold somebody.
const PERSONS: (&[&str], &[&str]) = (
    &[
        "owner",
        "author",
        "creator",
        "created",
        "by",
        "updated",
        "editor",
        "user",
        "manager",
        "reviewer",
        "assignee",
        "assigned",
        "approver",
        "approved",
        "sender",
        "recipient",
        "receiver",
        "member",
        "person",
        "contact",
        "agent",
        "operator",
        "responsible",
        "supervisor",
        "lead",
        "leader",
        "teacher",
        "instructor",
        "student",
        "guide",
        "doctor",
        "employee",
        "seller",
        "buyer",
        "rep",
    ],
    &["user", "person", "people", "employee", "account", "member", "contact", "staff", "customer", "profile"],
);
/// What a row of the same table is to a row.
const SAME_TABLE: &[&str] = &[
    "parent",
    "manager",
    "boss",
    "supervisor",
    "superior",
    "reports",
    "root",
    "previous",
    "next",
    "reply",
    "original",
    "predecessor",
    "successor",
    "replaces",
    "replaced",
    "head",
    "chief",
    "deputy",
    "mentor",
    "up",
];

/// Columns that look like references by their name and type, before any value was looked at: `hut_code`, or
/// `first_hut_code`, where `huts` has a key `code` of the same type.
pub fn candidates(catalog: &Catalog) -> Vec<Proposal> {
    let habits = Habits::of(catalog, false);
    let (called, keys) = (called(catalog, &habits), Keys::of(catalog, &habits));
    let mut named = Vec::new();
    let mut by_values = Vec::new();
    let mut by_part = 0;
    for (table, column) in referring(catalog) {
        let mut found: Vec<Proposal> = targets(&called, (table, column), is_same_kind)
            .map(|(target, key, speaks)| proposal(table, column, target, key, speaks))
            .collect();
        let known: HashSet<String> = found.iter().map(|proposal| proposal.to.clone()).collect();
        let others = keys.like(table, column).into_iter().filter(|(target, _, _)| !known.contains(&target.name));
        let (mut parts, mut others): (Vec<_>, Vec<_>) = others.partition(|(_, _, speaks)| *speaks < Speaks::Telling);
        parts.truncate(BY_PART - by_part);
        by_part += parts.len();
        found.extend(parts.into_iter().map(|(target, key, speaks)| proposal(table, column, target, key, speaks)));
        named.append(&mut found);
        others.truncate(BY_VALUES.0);
        by_values.extend(others.into_iter().map(|(target, key, speaks)| proposal(table, column, target, key, speaks)));
    }
    by_values.truncate(BY_VALUES.1);
    named.append(&mut by_values);
    named
}

/// Have both values of one kind, each one value?
fn is_same_kind(own: &Column, key: &Column) -> bool {
    let is_plain = |column: &Column| !column.list && column.values.is_empty() && column.scalar.is_comparable();
    own.scalar == key.scalar && is_plain(own) && is_plain(key)
}

/// The keys of one column that others may refer to, to be found without a look at each.
struct Keys<'c> {
    /// Each table's first, those of large tables first.
    all: Vec<(&'c Table, &'c Column)>,
    /// By each word of their tables' names, and by each beginning of these.
    by_word: HashMap<String, Vec<usize>>,
    /// Those of tables that hold somebody.
    persons: Vec<usize>,
    /// Some of each kind.
    of_kind: HashMap<Scalar, Vec<usize>>,
    of_table: HashMap<&'c str, usize>,
}

/// Letters of an abbreviation at least.
const ABBREVIATION: usize = 3;
/// Keys that are looked at for one word.
const BY_WORD: usize = 10;

impl<'c> Keys<'c> {
    fn of(catalog: &'c Catalog, habits: &Habits) -> Self {
        let first = |table: &'c Table| Some((table, single_keys(table).find_map(|key| table.column(key))?));
        let mut all: Vec<(&Table, &Column)> = catalog.tables.iter().filter_map(first).collect();
        all.sort_by_key(|(table, _)| std::cmp::Reverse(table.about_rows.unwrap_or(u64::MAX)));
        let mut keys = Keys {
            all,
            by_word: HashMap::new(),
            persons: Vec::new(),
            of_kind: HashMap::new(),
            of_table: HashMap::new(),
        };
        for (at, (table, key)) in keys.all.iter().enumerate() {
            let words = names::one(&habits.table_words(table));
            let whole = words.concat();
            let beginnings = (ABBREVIATION..whole.len()).filter_map(|length| whole.get(..length)).map(str::to_owned);
            let called: HashSet<String> = words.iter().cloned().chain(beginnings).chain([whole.clone()]).collect();
            for word in called {
                let among = keys.by_word.entry(word).or_default();
                if among.len() < BY_WORD {
                    among.push(at);
                }
            }
            if words.last().is_some_and(|word| PERSONS.1.contains(&word.as_str())) && keys.persons.len() < BY_WORD {
                keys.persons.push(at);
            }
            let of_kind = keys.of_kind.entry(key.scalar).or_default();
            if of_kind.len() <= BY_VALUES.0 {
                of_kind.push(at);
            }
            keys.of_table.insert(&table.name, at);
        }
        keys
    }

    /// Those that a column may refer to by less than its whole name, the likely ones first.
    fn like(&self, table: &Table, column: &Column) -> Vec<(&'c Table, &'c String, Speaks)> {
        let mut words = names::words(&column.name, names::COLUMN);
        let ends_as_keys = match words.last().cloned() {
            Some(last) if words.len() > 1 && KEY_WORDS.contains(&last.as_str()) => words.pop().is_some(),
            Some(last) => match last.strip_suffix(GLUED).filter(|stem| stem.len() >= ABBREVIATION) {
                Some(stem) => {
                    words.pop();
                    words.push(stem.to_owned());
                    true
                }
                None => false,
            },
            None => false,
        };
        let mut found: Vec<(usize, Speaks)> = Vec::new();
        let mut add = |ids: &[usize], speaks: Speaks| {
            for id in ids {
                let (target, key) = self.all[*id];
                let is_itself = std::ptr::eq(table, target) && key.name == column.name;
                if !is_itself && is_same_kind(column, key) && !found.iter().any(|(known, _)| known == id) {
                    found.push((*id, speaks));
                }
            }
        };
        let of_last = words.last().filter(|_| ends_as_keys).and_then(|word| self.by_word.get(word));
        add(of_last.map_or(&[], Vec::as_slice), Speaks::Part);
        let plays = |roles: &[&str]| words.iter().any(|word| roles.contains(&word.as_str()));
        if plays(SAME_TABLE) {
            add(self.of_table.get(table.name.as_str()).map_or(&[], std::slice::from_ref), Speaks::Role);
        }
        if plays(PERSONS.0) {
            add(&self.persons, Speaks::Role);
        }
        let others = self.of_kind.get(&column.scalar).map_or(&[][..], Vec::as_slice);
        if matches!(column.scalar, Scalar::Uuid | Scalar::String | Scalar::ObjectId) {
            add(others, Speaks::Telling);
        } else if ends_as_keys {
            add(others, Speaks::Values);
        }
        found.into_iter().map(|(id, speaks)| (self.all[id].0, &self.all[id].1.name, speaks)).collect()
    }
}

/// The candidates that values spoke for so far.
#[derive(Debug, Default)]
pub struct Proven {
    found: Vec<Proposal>,
    /// The strongest that values spoke for, by table and column.
    strongest: HashMap<(String, String), Speaks>,
}

impl Proven {
    /// Is a candidate worth a question? Not where something stronger is proven of its column.
    pub fn is_open(&self, candidate: &Proposal) -> bool {
        self.strongest.get(&place(candidate)).is_none_or(|strongest| *strongest >= candidate.speaks)
    }

    /// Adds a candidate that values do not speak against.
    pub fn add(&mut self, proposal: Proposal) {
        if has_values(&proposal) {
            let strongest = self.strongest.entry(place(&proposal)).or_insert(proposal.speaks);
            *strongest = proposal.speaks.min(*strongest);
        }
        self.found.push(proposal);
    }

    /// The best of each column, and where no values speak, those for which its name does.
    pub fn best(self) -> Vec<Proposal> {
        let mut columns: Vec<Vec<Proposal>> = Vec::new();
        let mut places: HashMap<(String, String), usize> = HashMap::new();
        for proposal in self.found {
            let at = *places.entry(place(&proposal)).or_insert(columns.len());
            if at == columns.len() {
                columns.push(Vec::new());
            }
            columns[at].push(proposal);
        }
        columns.into_iter().flat_map(best_of_column).collect()
    }
}

fn place(proposal: &Proposal) -> (String, String) {
    (proposal.table.clone(), proposal.column.clone())
}

fn has_values(proposal: &Proposal) -> bool {
    proposal.sampled.is_some_and(|(values, _)| values > 0)
}

/// What is left of the candidates of one column.
fn best_of_column(found: Vec<Proposal>) -> Vec<Proposal> {
    let (proven, unproven): (Vec<Proposal>, Vec<Proposal>) = found.into_iter().partition(has_values);
    let Some(strongest) = proven.iter().map(|proposal| proposal.speaks).min() else {
        // Nothing but its whole name speaks for it.
        return unproven
            .into_iter()
            .filter(|proposal| matches!(proposal.speaks, Speaks::Key | Speaks::Table))
            .collect();
    };
    let mut proven: Vec<Proposal> = proven.into_iter().filter(|proposal| proposal.speaks == strongest).collect();
    if strongest == Speaks::Key {
        return proven;
    }
    // By how much of the keys is referred to: the owner of a project is one of 50 users rather than one of 5,000 orders.
    let covered = |proposal: &Proposal| {
        let (_, found) = proposal.sampled.unwrap_or_default();
        (found * 1_000).checked_div(proposal.keys).unwrap_or(0)
    };
    proven.sort_by_key(|proposal| std::cmp::Reverse(covered(proposal)));
    let best = proven.remove(0);
    if matches!(best.speaks, Speaks::Telling | Speaks::Values) {
        let is_telling = best.speaks == Speaks::Telling;
        let rival = proven.first().map_or(0, covered);
        let (values, found) = best.sampled.unwrap_or_default();
        let is_sure = values == found && values >= ENOUGH_VALUES;
        let is_clear = covered(&best) > rival * CLEARLY && covered(&best) * COVERED >= 1_000;
        if !is_sure || !(is_clear || is_telling && rival == 0) {
            return Vec::new();
        }
    }
    vec![best]
}

/// A link between two sources that the survey might suggest.
#[derive(Debug, Clone, PartialEq)]
pub struct CrossingCandidate {
    /// The source of the referencing table.
    pub source: SourceId,
    /// The source of the referenced one.
    pub to_source: SourceId,
    /// The link; its tables are called as in their sources.
    pub proposal: Proposal,
}

/// The same between tables of different sources: their types need not be one, as long as values of one can be values of the other.
pub fn crossing_candidates(catalogs: &[&Catalog]) -> Vec<CrossingCandidate> {
    let called: Vec<_> = catalogs.iter().map(|catalog| called(catalog, &Habits::of(catalog, false))).collect();
    let fits = |own: &Column, key: &Column| {
        let is_plain = |column: &Column| !column.list && column.values.is_empty();
        own.scalar.converts_to(key.scalar) && is_plain(own) && is_plain(key)
    };
    let is_whole = |speaks: &Speaks| *speaks == Speaks::Key;
    let mut found = Vec::new();
    for (source, catalog) in catalogs.iter().enumerate() {
        for (table, column) in referring(catalog) {
            for (to_source, called) in called.iter().enumerate().filter(|(other, _)| *other != source) {
                let whole = targets(called, (table, column), fits).filter(|(_, _, speaks)| is_whole(speaks));
                found.extend(whole.map(|(target, key, speaks)| CrossingCandidate {
                    source,
                    to_source,
                    proposal: proposal(table, column, target, key, speaks),
                }));
            }
        }
    }
    found
}

/// What a reference to a key is called, and the keys that are referred to so.
type Called<'c> = HashMap<String, Vec<(&'c Table, &'c String, Speaks)>>;

/// What a reference to each single-column key would be called: `HutCode`, or `Hut` where it is the table's first key; a key that has its
/// table's name in its own, such as `client_id` of `clients`, or one that no other table has, such as `isbn`, is referred to by its own.
fn called<'c>(catalog: &'c Catalog, habits: &Habits) -> Called<'c> {
    let mut called = Called::new();
    let mut owners: HashMap<&String, usize> = HashMap::new();
    for name in catalog.tables.iter().flat_map(single_keys) {
        *owners.entry(name).or_default() += 1;
    }
    for target in &catalog.tables {
        let words = names::one(&habits.table_words(target));
        let name = names::pascal(&names::one_name(&words));
        let glued = words.concat();
        for (at, key) in single_keys(target).enumerate() {
            let own = names::pascal(&names::field_name(key));
            let begins = own.len() > name.len() && own.starts_with(&name);
            let is_own = !USUAL_KEYS.contains(&key.to_lowercase().as_str()) && owners.get(key) == Some(&1);
            let reference = if begins { own.clone() } else { name.clone() + &own };
            let mut add = |reference: String, speaks| called.entry(reference).or_default().push((target, key, speaks));
            add(names::pascal(&format!("{glued}{}", own.to_lowercase())), Speaks::Key);
            if is_own && !begins {
                add(own, Speaks::Key);
            }
            add(reference, Speaks::Key);
            if at == 0 {
                add(name.clone(), Speaks::Table);
            }
        }
    }
    called
}

/// The keys of one column.
fn single_keys(table: &Table) -> impl Iterator<Item = &String> {
    table.keys().filter_map(|key| if let [only] = key { Some(only) } else { None })
}

/// The columns that may refer to something, and of which nothing says so.
fn referring(catalog: &Catalog) -> impl Iterator<Item = (&Table, &Column)> {
    let columns = catalog.tables.iter().flat_map(|table| table.columns.iter().map(move |column| (table, column)));
    columns.filter(|(table, column)| {
        let declared = table.foreign_keys.iter().any(|key| key.columns.contains(&column.name));
        !declared && table.primary_key != [column.name.clone()]
    })
}

/// The keys that a column's name, or the words at its end, stand for.
fn targets<'c>(
    called: &Called<'c>,
    (table, column): (&'c Table, &'c Column),
    fits: impl Fn(&Column, &Column) -> bool,
) -> impl Iterator<Item = (&'c Table, &'c String, Speaks)> {
    let name = names::pascal(&names::field_name(&column.name));
    let words = name.char_indices().filter(|(_, c)| c.is_ascii_uppercase()).map(|(at, _)| at).collect::<Vec<_>>();
    let mut found: Vec<(&Table, &String, Speaks)> = Vec::new();
    for at in words {
        for (target, key, speaks) in called.get(&name[at..]).into_iter().flatten() {
            let is_itself = std::ptr::eq(table, *target) && column.name == **key;
            let fits = target.column(key).is_some_and(|key| fits(column, key));
            // The `order` of a row among others is none of the `orders`.
            let is_usual = *speaks == Speaks::Table && USUAL_KEYS.contains(&column.name.to_lowercase().as_str());
            // A table has one key that a name stands for.
            if fits && !is_usual && !is_itself && !found.iter().any(|(known, ..)| known.name == target.name) {
                found.push((target, key, *speaks));
            }
        }
    }
    found.into_iter()
}

fn proposal(table: &Table, column: &Column, target: &Table, key: &str, speaks: Speaks) -> Proposal {
    let kind = target.column(key).map_or(column.scalar, |key| key.scalar);
    let kinds = match kind == column.scalar {
        true => format!("both are {}", kind.name()),
        false => format!("they are {} and {}", column.scalar.name(), kind.name()),
    };
    let evidence = match speaks {
        Speaks::Key => format!("`{}` reads as the `{key}` of `{}`, and {kinds}", column.name, target.name),
        Speaks::Table => format!("`{}` is called as `{}`, and {kinds}", column.name, target.name),
        Speaks::Part => format!("`{}` is called as a part of `{}`, and {kinds}", column.name, target.name),
        Speaks::Role => format!("`{}` says what a row of `{}` is to it, and {kinds}", column.name, target.name),
        Speaks::Telling | Speaks::Values => kinds,
    };
    Proposal {
        table: table.name.clone(),
        column: column.name.clone(),
        to: target.name.clone(),
        references: key.to_owned(),
        sources: None,
        evidence,
        speaks,
        sampled: None,
        keys: 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_named_after_its_table_is_referred_to_by_its_name() {
        let text = include_str!("../../tests/data/huts.json").replace("\"about\"", "\"hut_code\"");
        let mut catalog = Catalog::from_text(&text).unwrap();
        let scalar = crate::value::Scalar::String;
        catalog.tables.iter_mut().find(|t| t.name == "notes").unwrap().columns[0].scalar = scalar;
        let huts = catalog.tables.iter_mut().find(|t| t.name == "huts").unwrap();
        huts.columns.iter_mut().find(|column| column.name == "code").unwrap().name = "hut_code".to_owned();
        huts.unique_keys = vec![vec!["hut_code".to_owned()]];
        let found = candidates(&catalog);
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].table.as_str(), found[0].references.as_str()), ("notes", "hut_code"));
    }

    #[test]
    fn a_column_named_after_a_key_is_a_candidate() {
        let text = include_str!("../../tests/data/huts.json").replace("\"about\"", "\"hut_code\"");
        let mut catalog = Catalog::from_text(&text).unwrap();
        let notes = catalog.tables.iter_mut().find(|t| t.name == "notes").unwrap();
        notes.columns[0].scalar = crate::value::Scalar::String;
        let found = candidates(&catalog);
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].to.as_str(), found[0].references.as_str()), ("huts", "code"));
        assert!(found[0].to_toml().contains("columns = [\"hut_code\"]"));
    }
}
