//! The file as sections that keep their places: where new ones go, and how values are written.

use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, RawString, Table, TableLike, Value};

use super::EditError;
use crate::project::names_table;

/// How what is said of one field is written where nothing is said of it yet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Place {
    /// In one line: `altitude = { name = "height" }`.
    Line,
    /// In a section of its own: `[type.fields.report]`.
    Section,
}

/// The file, taken apart.
pub(super) struct Sections {
    document: DocumentMut,
}

/// A text as the file has it.
pub(super) fn text(text: &str) -> Item {
    toml_edit::value(text)
}

/// A flag, which is written only where it is set.
pub(super) fn flag(set: bool) -> Option<Item> {
    set.then(|| toml_edit::value(true))
}

/// A list, which is written only where something is in it.
pub(super) fn list(texts: &[String]) -> Option<Item> {
    (!texts.is_empty()).then(|| Item::Value(texts.iter().collect::<Array>().into()))
}

/// Is it a `[[type]]` that means the table that is called so?
pub(super) fn is_table_called(edit: &Table, called: &str) -> bool {
    edit.get("table").and_then(Item::as_str).is_some_and(|name| names_table(name, called))
}

/// Is there a comment on a section?
pub(super) fn has_comment(table: &Table) -> bool {
    comments(table.decor().prefix()).contains('#')
}

fn comments(raw: Option<&RawString>) -> &str {
    raw.and_then(RawString::as_str).unwrap_or_default()
}

/// Sets a key, or takes it out. What stands behind a value, and around the elements of a list, stays.
pub(super) fn set(table: &mut dyn TableLike, key: &str, value: Option<Item>) {
    let Some(mut value) = value else {
        table.remove(key);
        return;
    };
    match table.get_mut(key) {
        Some(Item::Value(before)) => {
            if let (Value::Array(before), Some(after)) = (&mut *before, value.as_array()) {
                set_list(before, after);
                return;
            }
            if let (Value::InlineTable(before), Some(after)) = (&mut *before, value.as_inline_table()) {
                set_members(before, after);
                return;
            }
            if said(before) == value.as_value().map(said).unwrap_or_default() {
                return;
            }
            if let Some(value) = value.as_value_mut() {
                *value.decor_mut() = before.decor().clone();
                *before = value.clone();
            }
        }
        // A table of its own, such as `[role.hiker.Booking.create.fixed]`.
        Some(Item::Table(before)) => {
            let Some(after) = value.as_inline_table() else { return };
            let gone: Vec<String> =
                before.iter().map(|(key, _)| key.to_owned()).filter(|key| !after.contains_key(key)).collect();
            gone.iter().for_each(|key| {
                before.remove(key);
            });
            for (key, value) in after {
                set(before, key, Some(Item::Value(value.clone())));
            }
        }
        _ => {
            table.insert(key, value);
        }
    }
}

/// What a value says, however it is written.
fn said(value: &Value) -> String {
    match value {
        Value::String(text) => text.value().clone(),
        other => other.clone().decorated("", "").to_string(),
    }
}

/// Makes a list hold what another holds: what is in both stays where and as it is.
fn set_list(before: &mut Array, after: &Array) {
    let wanted: Vec<String> = after.iter().map(said).collect();
    let known: Vec<String> = before.iter().map(said).collect();
    let kept: Vec<&String> = known.iter().filter(|value| wanted.contains(value)).collect();
    let order: Vec<&String> = wanted.iter().filter(|value| known.contains(value)).collect();
    if kept != order {
        // Another order: it is written anew.
        let trailing = before.decor().clone();
        *before = after.clone();
        *before.decor_mut() = trailing;
        return;
    }
    let is_first_gone = known.first().is_some_and(|first| !wanted.contains(first));
    let first = before.get(0).map(|value| value.decor().clone());
    before.retain(|value| wanted.contains(&said(value)));
    if let (true, Some(decor), Some(value)) = (is_first_gone, first, before.get_mut(0)) {
        *value.decor_mut() = decor;
    }
    for value in after.iter().filter(|value| !known.contains(&said(value))) {
        // In a list of several lines everything has a line of its own.
        let like = before.iter().last().and_then(|last| last.decor().prefix()?.as_str()?.rsplit_once('\n'));
        let prefix = like.map(|(_, indent)| format!("\n{indent}"));
        let value = value.clone();
        match (prefix, before.is_empty()) {
            (Some(prefix), _) => before.push_formatted(value.decorated(prefix, "")),
            (None, true) => before.push_formatted(value.decorated("", "")),
            (None, false) => before.push_formatted(value.decorated(" ", "")),
        }
    }
}

/// The same of an inline table.
fn set_members(before: &mut InlineTable, after: &InlineTable) {
    let is_same = |key: &str, value: &Value| before.get(key).is_some_and(|known| said(known) == said(value));
    if before.len() == after.len() && after.iter().all(|(key, value)| is_same(key, value)) {
        return;
    }
    before.retain(|key, _| after.contains_key(key));
    for (key, value) in after {
        before.insert(key, value.clone());
    }
    before.fmt();
}

impl Sections {
    pub(super) fn read(text: &str) -> Result<Self, EditError> {
        let document = text.parse::<DocumentMut>();
        document
            .map(|document| Sections { document })
            .map_err(|error| EditError(format!("not TOML: {}", error.message())))
    }

    pub(super) fn into_text(self) -> String {
        let text = self.document.to_string();
        // A file that began with nothing begins with its first section.
        text.trim_start_matches('\n').to_owned()
    }

    /// The tables of `[[NAME]]`, in the order of the file.
    pub(super) fn elements(&self, name: &str) -> impl Iterator<Item = &Table> {
        self.document.get(name).and_then(Item::as_array_of_tables).into_iter().flatten()
    }

    pub(super) fn element(&mut self, name: &str, at: usize) -> Result<&mut Table, EditError> {
        let tables = self.document.get_mut(name).and_then(Item::as_array_of_tables_mut);
        tables.and_then(|tables| tables.get_mut(at)).ok_or_else(|| inline(name))
    }

    pub(super) fn has(&self, path: &[&str]) -> bool {
        self.get(path).is_some()
    }

    fn get(&self, path: &[&str]) -> Option<&Item> {
        path.iter().try_fold(self.document.as_item(), |item, key| item.get(key))
    }

    pub(super) fn table(&mut self, path: &[&str]) -> Result<&mut dyn TableLike, EditError> {
        let mut item = self.document.as_item_mut();
        for key in path {
            item = item.get_mut(key).ok_or_else(|| inline(path[0]))?;
        }
        if let Item::Table(table) = item {
            // It may have been there for what is below it alone.
            table.set_implicit(false);
        }
        item.as_table_like_mut().ok_or_else(|| inline(path[0]))
    }

    /// The last place of what is under a path.
    pub(super) fn end_of(&self, path: &[&str]) -> Option<isize> {
        last(self.get(path)?)
    }

    /// The place behind the sections of the first of these names that the file has.
    pub(super) fn after(&self, names: &[&str]) -> isize {
        names.iter().find_map(|name| self.end_of(&[name])).unwrap_or_else(|| self.end())
    }

    /// The place behind the sections of a name, else behind everything.
    pub(super) fn at_the_end(&self, name: &str) -> isize {
        self.end_of(&[name]).unwrap_or_else(|| self.end())
    }

    /// The place behind what is under a path, else behind everything.
    pub(super) fn behind(&self, path: &[&str]) -> isize {
        self.end_of(path).unwrap_or_else(|| self.end())
    }

    fn end(&self) -> isize {
        last(self.document.as_item()).unwrap_or(0)
    }

    /// Makes room behind a place, and gives it.
    fn room(&mut self, behind: isize) -> isize {
        shift(self.document.as_item_mut(), behind);
        behind + 1
    }

    /// What stands between a new section and the one before it: an empty line, and where it is the last one what stood at the
    /// file's end.
    fn prefix(&mut self, behind: isize, separated: bool) -> String {
        let mut prefix = String::new();
        if behind >= self.end() {
            let trailing = self.document.trailing().as_str().unwrap_or_default().to_owned();
            if !trailing.trim().is_empty() {
                prefix.push_str(&trailing);
                if !prefix.ends_with('\n') {
                    prefix.push('\n');
                }
                self.document.set_trailing("");
            }
        }
        if separated || !prefix.is_empty() {
            prefix.push('\n');
        }
        prefix
    }

    /// A table more under `[[NAME]]`.
    pub(super) fn push(&mut self, name: &str, mut table: Table, behind: isize) -> Result<(), EditError> {
        let prefix = self.prefix(behind, true);
        let place = self.room(behind);
        table.decor_mut().set_prefix(prefix);
        table.set_position(Some(place));
        let item = self.document.entry(name).or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
        item.as_array_of_tables_mut().ok_or_else(|| inline(name))?.push(table);
        Ok(())
    }

    /// A section at a path, behind a place. Between the sections of a role there is an empty line where there was one before.
    pub(super) fn insert(&mut self, path: &[&str], mut table: Table, behind: isize) -> Result<(), EditError> {
        let is_grant = path.len() > 2;
        let separated = !is_grant || self.separates(&path[..2]);
        let prefix = self.prefix(behind, separated);
        let place = self.room(behind);
        table.decor_mut().set_prefix(prefix);
        table.set_position(Some(place));
        let (name, way) = path.split_last().ok_or_else(|| inline(""))?;
        let mut parent: &mut dyn TableLike = self.document.as_table_mut();
        for key in way {
            let item = parent.entry(key).or_insert_with(implicit);
            parent = item.as_table_like_mut().ok_or_else(|| inline(path[0]))?;
        }
        parent.insert(name, Item::Table(table));
        Ok(())
    }

    /// Are the sections below a path set apart by empty lines?
    fn separates(&self, path: &[&str]) -> bool {
        let mut prefixes = Vec::new();
        if let Some(Item::Table(table)) = self.get(path) {
            table.iter().for_each(|(_, item)| below(item, &mut prefixes));
        }
        !prefixes.is_empty() && prefixes.iter().all(|prefix| prefix.starts_with('\n'))
    }

    /// Takes out what is at a path, with what is below it. A comment right above goes along; one that is set apart stays.
    pub(super) fn remove(&mut self, path: &[&str]) -> bool {
        let Some((name, way)) = path.split_last() else { return false };
        let mut parent: &mut dyn TableLike = self.document.as_table_mut();
        for key in way {
            match parent.get_mut(key).and_then(Item::as_table_like_mut) {
                Some(table) => parent = table,
                None => return false,
            }
        }
        let Some(removed) = parent.remove(name) else { return false };
        self.keep_comment(&removed);
        // What is left of the way there says nothing by itself.
        if way.len() > 2 && self.get(way).and_then(Item::as_table).is_some_and(Table::is_empty) {
            let (name, way) = way.split_last().unwrap_or((&"", &[]));
            if let Ok(parent) = self.table_as_it_is(way) {
                parent.remove(name);
            }
        }
        true
    }

    fn table_as_it_is(&mut self, path: &[&str]) -> Result<&mut dyn TableLike, EditError> {
        let mut item = self.document.as_item_mut();
        for key in path {
            item = item.get_mut(key).ok_or_else(|| inline(path[0]))?;
        }
        item.as_table_like_mut().ok_or_else(|| inline(path[0]))
    }

    pub(super) fn remove_element(&mut self, name: &str, at: usize) {
        let Some(tables) = self.document.get_mut(name).and_then(Item::as_array_of_tables_mut) else { return };
        let Some(removed) = tables.get(at).cloned() else { return };
        tables.remove(at);
        if tables.is_empty() {
            self.document.remove(name);
        }
        self.keep_comment(&Item::Table(removed));
    }

    /// Puts what stood above a section that is gone, set apart from it, above the next one.
    fn keep_comment(&mut self, removed: &Item) {
        let Some((place, prefix)) = first(removed) else { return };
        let Some(end) = prefix.trim_end_matches('\n').rfind("\n\n").filter(|end| prefix[..*end].contains('#')) else {
            return;
        };
        let kept = prefix[..=end].to_owned();
        let document = self.document.as_item_mut();
        let next = next_place(document, place);
        match next.and_then(|next| at_place(document, next)) {
            Some(table) => {
                let prefix = comments(table.decor().prefix()).to_owned();
                table.decor_mut().set_prefix(format!("{kept}{prefix}"));
            }
            None => {
                let trailing = self.document.trailing().as_str().unwrap_or_default().to_owned();
                self.document.set_trailing(format!("{kept}{trailing}"));
            }
        }
    }

    /// Sets a key of what is said at a path within an element of `[[NAME]]`, or takes it out.
    pub(super) fn set_within(
        &mut self,
        (name, at): (&str, usize),
        path: &[&str],
        place: Place,
        key: &str,
        value: Option<Item>,
    ) -> Result<(), EditError> {
        let element = self.element(name, at)?;
        if let Some(there) = descend(element, path) {
            set(there, key, value);
            tidy(element, path);
            return Ok(());
        }
        let Some(value) = value else { return Ok(()) };
        let (field, way) = path.split_last().ok_or_else(|| inline(name))?;
        let value = value.into_value().map_err(|_| inline(name))?;
        let is_inline = (1..=way.len()).any(|depth| matches!(item_at(element, &way[..depth]), Some(Item::Value(_))));
        if is_inline || place == Place::Line {
            if !is_inline {
                self.open_right_below((name, at), way)?;
            }
            let element = self.element(name, at)?;
            let mut parent: &mut dyn TableLike = element;
            for key in way {
                let item = parent.entry(key).or_insert_with(|| Item::Value(InlineTable::new().into()));
                parent = item.as_table_like_mut().ok_or_else(|| inline(name))?;
            }
            let mut line = InlineTable::new();
            line.insert(key, value);
            parent.insert(field, Item::Value(line.into()));
            tidy(element, path);
            return Ok(());
        }
        let behind = last_below(element).unwrap_or(0);
        let position = self.room(behind);
        let mut parent: &mut dyn TableLike = self.element(name, at)?;
        for key in way {
            let item = parent.entry(key).or_insert_with(implicit);
            parent = item.as_table_like_mut().ok_or_else(|| inline(name))?;
        }
        let mut section = Table::new();
        section.decor_mut().set_prefix("");
        section.set_position(Some(position));
        section.insert(key, Item::Value(value));
        parent.insert(field, Item::Table(section));
        Ok(())
    }

    /// Gives a table within an element a heading, right below what it belongs to, where it has none.
    fn open_right_below(&mut self, (name, at): (&str, usize), way: &[&str]) -> Result<(), EditError> {
        let element = self.element(name, at)?;
        if matches!(item_at(element, way), Some(Item::Table(table)) if !table.is_implicit()) {
            return Ok(());
        }
        let own = element.position().unwrap_or(0);
        let position = self.room(own);
        let mut parent: &mut dyn TableLike = self.element(name, at)?;
        for (depth, key) in way.iter().enumerate() {
            let item = parent.entry(key).or_insert_with(implicit);
            if let (Item::Table(table), true) = (&mut *item, depth + 1 == way.len()) {
                table.set_implicit(false);
                table.set_position(Some(position));
                table.decor_mut().set_prefix("");
            }
            parent = item.as_table_like_mut().ok_or_else(|| inline(name))?;
        }
        Ok(())
    }
}

fn descend<'t>(table: &'t mut dyn TableLike, path: &[&str]) -> Option<&'t mut dyn TableLike> {
    let mut table = table;
    for key in path {
        table = table.get_mut(key)?.as_table_like_mut()?;
    }
    Some(table)
}

fn item_at<'t>(table: &'t Table, path: &[&str]) -> Option<&'t Item> {
    let (first, rest) = path.split_first()?;
    rest.iter().try_fold(table.get(first)?, |item, key| item.get(key))
}

/// Takes out what says nothing any more on the way to a path, and gives lines that changed their usual form.
fn tidy(table: &mut dyn TableLike, path: &[&str]) {
    let Some((key, rest)) = path.split_first() else { return };
    let Some(item) = table.get_mut(key) else { return };
    if let Some(inner) = item.as_table_like_mut() {
        tidy(inner, rest);
    }
    if let Item::Value(Value::InlineTable(line)) = item {
        line.fmt();
    }
    let is_empty = match item {
        Item::Table(table) => table.is_empty() && !has_comment(table),
        Item::Value(Value::InlineTable(line)) => line.is_empty(),
        _ => false,
    };
    if is_empty {
        table.remove(key);
    }
}

/// The last place in an item, with all that is below it.
fn last(item: &Item) -> Option<isize> {
    match item {
        Item::Table(table) => last_below(table),
        Item::ArrayOfTables(tables) => tables.iter().filter_map(last_below).max(),
        Item::Value(_) | Item::None => None,
    }
}

fn last_below(table: &Table) -> Option<isize> {
    let own = table.position().filter(|_| !table.is_implicit());
    table.iter().filter_map(|(_, item)| last(item)).chain(own).max()
}

/// Moves everything behind a place by one.
fn shift(item: &mut Item, behind: isize) {
    let each = |table: &mut Table| {
        if let Some(position) = table.position().filter(|position| *position > behind) {
            table.set_position(Some(position + 1));
        }
        table.iter_mut().for_each(|(_, item)| shift(item, behind));
    };
    match item {
        Item::Table(table) => each(table),
        Item::ArrayOfTables(tables) => tables.iter_mut().for_each(each),
        Item::Value(_) | Item::None => {}
    }
}

/// The place of the first section in an item, and what stands above it.
fn first(item: &Item) -> Option<(isize, String)> {
    let of = |table: &Table| {
        let own = table.position().filter(|_| !table.is_implicit());
        let own = own.map(|place| (place, comments(table.decor().prefix()).to_owned()));
        table.iter().filter_map(|(_, item)| first(item)).chain(own).min_by_key(|(place, _)| *place)
    };
    match item {
        Item::Table(table) => of(table),
        Item::ArrayOfTables(tables) => tables.iter().filter_map(of).min_by_key(|(place, _)| *place),
        Item::Value(_) | Item::None => None,
    }
}

/// The place of the section that comes next behind a place.
fn next_place(item: &Item, behind: isize) -> Option<isize> {
    let of = |table: &Table| {
        let own = table.position().filter(|place| !table.is_implicit() && *place > behind);
        table.iter().filter_map(|(_, item)| next_place(item, behind)).chain(own).min()
    };
    match item {
        Item::Table(table) => of(table),
        Item::ArrayOfTables(tables) => tables.iter().filter_map(of).min(),
        Item::Value(_) | Item::None => None,
    }
}

fn at_place(item: &mut Item, place: isize) -> Option<&mut Table> {
    let of = |table: &'_ mut Table| table.position() == Some(place) && !table.is_implicit();
    match item {
        Item::Table(table) => {
            if of(table) {
                return Some(table);
            }
            table.iter_mut().find_map(|(_, item)| at_place(item, place))
        }
        Item::ArrayOfTables(tables) => tables.iter_mut().find_map(|table| {
            if of(table) {
                return Some(table);
            }
            table.iter_mut().find_map(|(_, item)| at_place(item, place))
        }),
        Item::Value(_) | Item::None => None,
    }
}

/// The sections below an item, by what stands above them.
fn below(item: &Item, prefixes: &mut Vec<String>) {
    match item {
        Item::Table(table) => {
            if !table.is_implicit() {
                prefixes.push(comments(table.decor().prefix()).to_owned());
            }
            table.iter().for_each(|(_, item)| below(item, prefixes));
        }
        Item::ArrayOfTables(_) | Item::Value(_) | Item::None => {}
    }
}

fn inline(name: &str) -> EditError {
    EditError(format!("`{name}` is written in a form that cannot be edited here; edit the file by hand"))
}

/// A table without a heading of its own.
fn implicit() -> Item {
    let mut table = Table::new();
    table.set_implicit(true);
    Item::Table(table)
}
