//! Renames: what is gone and what is new may be the same under another name. Nothing is taken for it until somebody says so; then
//! the API keeps the names that it had.

use indexmap::IndexMap;

use super::{AssignedNames, Catalog, Column, Table};

/// A table, or a column, that may be another one under a new name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rename {
    /// The table as it is called now.
    pub table: String,
    /// The column's name now and before; none where it is the table that has another name.
    pub column: Option<(String, String)>,
    /// The table's name before.
    pub table_before: String,
}

impl Rename {
    /// What it is called now: `huts`, or `huts.beds`.
    pub fn now(&self) -> String {
        self.column.as_ref().map_or_else(|| self.table.clone(), |(now, _)| format!("{}.{now}", self.table))
    }

    /// What it was called before.
    pub fn before(&self) -> String {
        self.column.as_ref().map_or_else(|| self.table_before.clone(), |(_, before)| format!("{}.{before}", self.table))
    }
}

/// What may have been renamed between two surveys: a column by its type, what it may hold and its position; a table by its columns.
pub fn renames(before: &Catalog, now: &Catalog) -> Vec<Rename> {
    let mut found = Vec::new();
    for old in &before.tables {
        match now.table(&old.name) {
            Some(new) => found.extend(column_renames(old, new)),
            None => {
                let mut alike =
                    now.tables.iter().filter(|new| before.table(&new.name).is_none() && are_alike(old, new));
                if let (Some(new), None) = (alike.next(), alike.next()) {
                    found.push(Rename { table: new.name.clone(), column: None, table_before: old.name.clone() });
                }
            }
        }
    }
    found
}

fn column_renames(old: &Table, new: &Table) -> Vec<Rename> {
    let gone: Vec<(usize, &Column)> = missing(old, new);
    let come: Vec<(usize, &Column)> = missing(new, old);
    let fits = |a: &Column, b: &Column| {
        (&a.declared, a.nullable, a.list, &a.values) == (&b.declared, b.nullable, b.list, &b.values)
    };
    let mut found = Vec::new();
    for (at, column) in &gone {
        let fitting: Vec<_> = come.iter().filter(|(_, other)| fits(column, other)).collect();
        let in_place = fitting.iter().find(|(place, _)| place == at);
        let rivals = gone.iter().filter(|(_, other)| fits(other, column)).count();
        let only = if let ([only], 1) = (fitting.as_slice(), rivals) { Some(only) } else { None };
        if let Some((_, other)) = in_place.or(only) {
            found.push(Rename {
                table: new.name.clone(),
                column: Some((other.name.clone(), column.name.clone())),
                table_before: old.name.clone(),
            });
        }
    }
    found
}

/// The columns of one table that the other does not have, with their places.
fn missing<'c>(of: &'c Table, other: &Table) -> Vec<(usize, &'c Column)> {
    of.columns.iter().enumerate().filter(|(_, column)| other.column(&column.name).is_none()).collect()
}

/// Have two tables four of five columns in common?
fn are_alike(a: &Table, b: &Table) -> bool {
    let is_there = |column: &&Column| b.column(&column.name).is_some_and(|other| other.declared == column.declared);
    let common = a.columns.iter().filter(is_there).count();
    a.kind == b.kind && common * 5 >= a.columns.len().max(b.columns.len()) * 4 && common > 0
}

impl AssignedNames {
    /// Gives what was renamed the names that it had.
    pub fn keep(&mut self, rename: &Rename) {
        self.renames.shift_remove(&rename.now());
        match &rename.column {
            None => {
                if let Some(names) = self.types.shift_remove(&rename.table_before) {
                    self.types.insert(rename.table.clone(), names);
                }
            }
            Some((now, before)) => {
                if let Some(names) = self.types.get_mut(&rename.table)
                    && let Some(name) = names.fields.shift_remove(before)
                {
                    names.fields.insert(now.clone(), name);
                }
            }
        }
        self.rename_links(rename);
    }

    fn rename_links(&mut self, rename: &Rename) {
        for (table, names) in &mut self.types {
            let links = std::mem::take(&mut names.links);
            let renamed = |(identity, name): (String, String)| (renamed(&identity, table, rename), name);
            // What a newcomer was called meanwhile gives way.
            let (changed, same): (IndexMap<_, _>, IndexMap<_, _>) =
                links.into_iter().map(|link| (link.0.clone(), renamed(link))).partition(|(old, (new, _))| old != new);
            names.links = same.into_iter().map(|(_, link)| link).collect();
            names.links.extend(changed.into_iter().map(|(_, link)| link));
        }
    }

    /// Gives links to what was renamed in another source the names that they had.
    pub fn keep_links_to(&mut self, source: &str, rename: &Rename) {
        let said = |table: &String| format!("{source}:{table}");
        let rename = Rename {
            table: said(&rename.table),
            column: rename.column.clone(),
            table_before: said(&rename.table_before),
        };
        self.rename_links(&rename);
    }

    /// Renames that are still to be decided about: those of this survey, and those of earlier ones.
    pub fn open_renames(&mut self, found: Vec<Rename>, now: &Catalog) -> Vec<Rename> {
        for rename in &found {
            self.renames.insert(rename.now(), rename.before());
        }
        let is_there = |name: &str| {
            now.tables.iter().any(|table| {
                table.name == name
                    || name
                        .strip_prefix(table.name.as_str())
                        .and_then(|rest| rest.strip_prefix('.'))
                        .is_some_and(|column| table.column(column).is_some())
            })
        };
        self.renames.retain(|new, old| is_there(new) && !is_there(old));
        self.renames.iter().filter_map(|(new, old)| rename(new, old, now)).collect()
    }
}

/// The rename between two names of which the new one is there.
fn rename(new: &str, old: &str, now: &Catalog) -> Option<Rename> {
    if now.table(new).is_some() {
        return Some(Rename { table: new.to_owned(), column: None, table_before: old.to_owned() });
    }
    let table =
        now.tables.iter().find(|table| new.strip_prefix(&table.name).is_some_and(|rest| rest.starts_with('.')))?;
    let column = |name: &str| name[(table.name.len() + 1).min(name.len())..].to_owned();
    Some(Rename {
        table: table.name.clone(),
        column: Some((column(new), column(old))),
        table_before: table.name.clone(),
    })
}

/// What a link of a table follows, said in the new names: `(hut_id) -> huts(id)`, `(id) <- bookings(hut_id)`,
/// `(id) <-> huts through trail_huts(trail_id; hut_id)`.
fn renamed(identity: &str, owner: &str, rename: &Rename) -> String {
    let mut text = String::new();
    // The list of columns in parentheses belongs to the name before it, the first one to the owner.
    let mut table = owner.to_owned();
    let mut word = String::new();
    let mut inside = false;
    for letter in identity.chars().chain(['\0']) {
        let ends = matches!(letter, '(' | ')' | ' ' | ',' | ';' | '\0');
        if !ends {
            word.push(letter);
            continue;
        }
        let said = std::mem::take(&mut word);
        let new = match &rename.column {
            Some((now, before)) if inside && table == rename.table && said == *before => now.clone(),
            None if !inside && said == rename.table_before => rename.table.clone(),
            _ => said.clone(),
        };
        if !inside && !said.is_empty() {
            table = said;
        }
        text.push_str(&new);
        match letter {
            '(' => inside = true,
            ')' => inside = false,
            _ => {}
        }
        if letter != '\0' {
            text.push(letter);
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn of_column() -> Rename {
        Rename {
            table: "bookings".to_owned(),
            column: Some(("hut_no".to_owned(), "hut_id".to_owned())),
            table_before: "bookings".to_owned(),
        }
    }

    #[rstest]
    #[case("bookings", "(hut_id) -> huts(id)", "(hut_no) -> huts(id)")]
    #[case("huts", "(id) <- bookings(hut_id)", "(id) <- bookings(hut_no)")]
    #[case("huts", "(hut_id) -> others(hut_id)", "(hut_id) -> others(hut_id)")]
    #[case(
        "huts",
        "(id) <-> hikers through bookings(hut_id; hiker_id)",
        "(id) <-> hikers through bookings(hut_no; hiker_id)"
    )]
    fn a_links_identity_follows_a_rename(#[case] owner: &str, #[case] before: &str, #[case] after: &str) {
        assert_eq!(renamed(before, owner, &of_column()), after);
        let table = Rename { table: "stays".to_owned(), column: None, table_before: "bookings".to_owned() };
        assert_eq!(renamed(before, owner, &table), before.replace("bookings", "stays"));
    }

    #[test]
    fn a_column_of_the_same_type_in_the_same_place_may_be_a_renamed_one() {
        let before = Catalog::from_text(include_str!("../../tests/data/huts.json")).unwrap();
        let mut now = before.clone();
        let huts = now.tables.iter_mut().find(|table| table.name == "huts").unwrap();
        let last = huts.columns.len() - 1;
        let old = std::mem::replace(&mut huts.columns[last].name, "renamed".to_owned());
        let found = renames(&before, &now);
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].now(), found[0].before()), ("huts.renamed".to_owned(), format!("huts.{old}")));
        // Another type is another column.
        now.tables.iter_mut().find(|table| table.name == "huts").unwrap().columns[last].declared = "blob".to_owned();
        assert_eq!(renames(&before, &now), []);
        let mut now = before.clone();
        now.tables.iter_mut().find(|table| table.name == "huts").unwrap().name = "shelters".to_owned();
        assert_eq!(renames(&before, &now)[0].before(), "huts");
    }
}
