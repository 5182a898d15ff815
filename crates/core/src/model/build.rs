//! Catalog and project file together become the model.

use std::collections::HashMap;

use super::habits::Habits;
use super::link_words::field_names;
use super::links::{add_element_links, add_links, is_inside_list};
use super::names;
use super::naming::{Register, Wish};
use super::shapes::add_shapes;
use super::tables::{TableOf, Tables};
use super::{
    Cascade, Column, ColumnId, ColumnInput, Element, Enum, FieldType, GLOBAL_ID, IDENTITY_LENGTH, Key, Model, ROW_ID,
    SourceId, Type, TypeId,
};
use crate::catalog::{AssignedNames, Catalog, Engine, ForeignKey, Table, TableKind, TypeNames};
use crate::project::{Mistake, Project, TypeEdit};
use crate::suggest::did_you_mean;
use crate::value::{Scalar, StorageFormat};

/// Builds the model of the surveys of a project's sources, which come in the order of the sources.
///
/// # Errors
/// Every place where the project file does not fit the surveys, with its remedy.
pub fn build(catalogs: &[&Catalog], project: &Project) -> Result<Model, Vec<Mistake>> {
    let keeps = project.sources.iter().map(|source| source.keep_first_word);
    let habits: Vec<Habits> = catalogs.iter().zip(keeps).map(|(catalog, keeps)| Habits::of(catalog, keeps)).collect();
    let (tables, mut mistakes) = (Tables::new(catalogs, project, &habits), Vec::new());
    let edits = tables.edits(project, &mut mistakes);
    let model = Model {
        notices: Vec::new(),
        version: String::new(),
        sources: project.sources.iter().map(|source| source.name.clone()).collect(),
        types: Vec::new(),
        objects: Vec::new(),
        enums: Vec::new(),
        names: vec![AssignedNames::default(); catalogs.len()],
        global_ids: project.service.global_ids,
    };
    let mut builder = Builder {
        tables,
        edits,
        project,
        mistakes,
        type_names: Register::of_types(project.service.global_ids),
        of_tables: vec![HashMap::new(); project.sources.len()],
        declared_enums: HashMap::new(),
        field_names: Vec::new(),
        model,
    };
    builder.check_references();
    builder.tell_of_names();
    builder.add_types();
    add_links(&mut builder);
    builder.add_cascades();
    add_shapes(&mut builder);
    add_element_links(&mut builder);
    if !builder.mistakes.is_empty() {
        builder.mistakes.sort_by_key(|mistake| (mistake.place.line, mistake.place.column));
        return Err(builder.mistakes);
    }
    let mut model = builder.model;
    model.version = version(catalogs, project);
    Ok(model)
}

/// The names of a type and its root fields.
struct RuledNames {
    name: String,
    helpers: String,
    one: String,
    list: String,
}

pub(super) struct Builder<'a> {
    pub(super) tables: Tables<'a>,
    /// What the project file says of tables.
    edits: HashMap<(SourceId, &'a str), &'a TypeEdit>,
    pub(super) project: &'a Project,
    pub(super) mistakes: Vec<Mistake>,
    pub(super) type_names: Register,
    /// The types of each source's tables.
    of_tables: Vec<HashMap<String, TypeId>>,
    /// Enums that the database has as types of their own, by what they are declared as.
    declared_enums: HashMap<(SourceId, String), FieldType>,
    /// The names of the fields of each type.
    pub(super) field_names: Vec<Register>,
    pub(super) model: Model,
}

impl<'a> Builder<'a> {
    /// What the project file says of a table.
    pub(super) fn edit(&self, of: TableOf<'_>) -> Option<&'a TypeEdit> {
        self.edits.get(&(of.source, of.table.name.as_str())).copied()
    }

    /// The same by the table's name.
    pub(super) fn edit_of(&self, source: SourceId, table: &str) -> Option<&'a TypeEdit> {
        self.edits.get(&(source, table)).copied()
    }

    /// The type of a table, if it has one.
    pub(super) fn type_of(&self, source: SourceId, table: &str) -> Option<TypeId> {
        self.of_tables.get(source)?.get(table).copied()
    }

    /// What a type's table is called in the project file, whatever else is there.
    pub(super) fn said(&self, t: &Type) -> String {
        if self.tables.are_of_several() {
            format!("{}:{}", self.tables.source_name(t.source), t.table)
        } else {
            t.table.clone()
        }
    }

    /// What a type's table is called in what the survey file of another type's source remembers.
    pub(super) fn said_from(&self, from: TypeId, t: &Type) -> String {
        if self.model.types[from].source == t.source { t.table.clone() } else { self.said(t) }
    }

    /// What a table's root fields are called where the project file gives no names: the one that finds one, the one that lists many.
    pub(super) fn ruled_names(&self, of: TypeId) -> (String, String) {
        let t = &self.model.types[of];
        let Some(edit) = self.edit_of(t.source, &t.table) else { return (t.one.clone(), t.list.clone()) };
        let catalog = self.tables.catalog(t.source);
        let habits = self.tables.habits(t.source);
        let words = catalog.table(&t.table).map(|table| habits.table_words(table)).unwrap_or_default();
        let remembered = catalog.names.types.get(&t.table);
        let ruled = |given: bool, name: &String, known: Option<&String>, by_rule: fn(&[String]) -> String| match given {
            true => known.filter(|known| !known.is_empty()).cloned().unwrap_or_else(|| by_rule(&words)),
            false => name.clone(),
        };
        let is_named = edit.name.is_some();
        (
            ruled(is_named || edit.one.is_some(), &t.one, remembered.map(|names| &names.one), names::one_name),
            ruled(is_named || edit.list.is_some(), &t.list, remembered.map(|names| &names.list), names::list_name),
        )
    }

    /// A field's name, where it does not have to give way to the global id.
    pub(super) fn row_id(&self, name: String) -> String {
        if self.model.global_ids && name == GLOBAL_ID { ROW_ID.to_owned() } else { name }
    }

    /// Reports tables and columns that the project file names and the surveys do not have.
    fn check_references(&mut self) {
        let mut mistakes = Vec::new();
        let unknown_column = |table: &Table, name: &str| {
            let hint = did_you_mean(name, table.columns.iter().map(|column| column.name.as_str()));
            format!("table `{}` has no column `{name}`{hint}", table.name)
        };
        for of in self.tables.all() {
            let Some(edit) = self.edit(of) else { continue };
            let TableOf { table, .. } = of;
            for (column, field) in &edit.fields {
                if table.column(column).is_none() {
                    mistakes.push(Mistake { place: field.place, text: unknown_column(table, column) });
                }
            }
            for column in edit.nullable.iter().chain(&edit.key) {
                if table.column(column).is_none() {
                    mistakes.push(Mistake { place: edit.place, text: unknown_column(table, column) });
                }
            }
        }
        for link in &self.project.links {
            let between = link.through.as_ref();
            let none = Vec::new();
            for (name, columns) in [
                (&link.table, if between.is_some() { &none } else { &link.columns }),
                (&link.to, if between.is_some() { &none } else { &link.references }),
                (between.unwrap_or(&link.table), if between.is_some() { &link.columns } else { &none }),
                (between.unwrap_or(&link.to), if between.is_some() { &link.references } else { &none }),
            ] {
                let texts = match self.tables.find(name) {
                    Ok(TableOf { table, .. }) => {
                        let is_known = |column: &&String| {
                            table.column(column).is_some() || between.is_none() && is_inside_list(table, column)
                        };
                        let unknown = columns.iter().filter(|column| !is_known(column));
                        unknown.map(|column| unknown_column(table, column)).collect()
                    }
                    Err(text) => vec![text],
                };
                for text in texts {
                    if !mistakes.iter().any(|known: &Mistake| known.place == link.place && known.text == text) {
                        mistakes.push(Mistake { place: link.place, text });
                    }
                }
            }
        }
        self.mistakes.extend(mistakes);
    }

    /// Says what is left out of names, and which names nobody but a reader of their language can write.
    fn tell_of_names(&mut self) {
        for source in 0..self.model.sources.len() {
            let said = |text: String| (source, text);
            if let Some(word) = self.tables.habits(source).left_out() {
                let (name, example) = (self.tables.source_name(source), &self.tables.catalog(source).tables[0].name);
                let text = format!(
                    "every table begins with `{word}`, as `{example}` does; types are called without it (`keep_first_word = true` in \
                     `[source.{name}]` keeps it)"
                );
                self.model.notices.push(said(text));
            }
            for table in &self.tables.catalog(source).tables {
                let edit = self.edit_of(source, &table.name);
                let is_named = |column: &str| {
                    edit.is_some_and(|edit| {
                        edit.fields.get(column).is_some_and(|field| field.name.is_some() || field.hidden)
                    })
                };
                let unreadable = |name: &str| name.chars().any(names::needs_its_language);
                let columns = table.columns.iter().map(|column| &column.name);
                let columns: Vec<&String> = columns.filter(|name| unreadable(name) && !is_named(name)).collect();
                let is_hidden = edit.is_some_and(|edit| edit.hidden);
                let lacks_a_name = unreadable(table.relation()) && edit.is_none_or(|edit| edit.name.is_none());
                if is_hidden || columns.is_empty() && !lacks_a_name {
                    continue;
                }
                let mut lines = format!("[[type]] table = {:?}", table.name);
                if lacks_a_name {
                    lines.push_str(", name = \"…\"");
                }
                for column in columns {
                    lines.push_str(&format!("; [type.fields.{column:?}] name = \"…\""));
                }
                let text = format!(
                    "`{}` has names that cannot be written in Latin letters without knowing their language; they are served as \
                     `table`, `column` or `member`. To choose names: {lines}",
                    table.name
                );
                self.model.notices.push(said(text));
            }
        }
    }

    /// Adds a type for every table that is not hidden.
    fn add_types(&mut self) {
        let mut tables: Vec<TableOf<'a>> = self.tables.all().collect();
        tables.retain(|of| !self.edit(*of).is_some_and(|edit| edit.hidden) && !of.table.columns.is_empty());
        let names_of = |source: SourceId| &self.tables.catalog(source).names.types;
        let is_fresh = (0..self.model.sources.len()).all(|source| names_of(source).is_empty());
        // In the order in which they got their names.
        let rank =
            |of: &TableOf<'_>| (names_of(of.source).get_index_of(&of.table.name).unwrap_or(usize::MAX), of.source);
        let mut ranked = tables.clone();
        ranked.sort_by_key(rank);
        let wishes: Vec<Wish> = ranked.iter().map(|of| self.type_wish(*of, &ranked)).collect();
        let mut helpers = vec![String::new(); wishes.len()];
        let remembered = |of: &TableOf<'_>| self.remembered(*of).map(|names| names.helpers.clone());
        let remembered: Vec<Option<String>> =
            ranked.iter().map(|of| remembered(of).filter(|name| !name.is_empty())).collect();
        let names = self.type_names.assign(&wishes, is_fresh, &mut self.mistakes, |register, at, name| {
            let wanted = [name.to_owned(), format!("{name}Row")];
            helpers[at] =
                register.take_helpers(&wishes[at].what, remembered[at].as_ref(), &wanted, names::TYPE_HELPERS);
        });
        let mut roots = Vec::new();
        for ((of, wish), name) in ranked.iter().zip(&wishes).zip(&names) {
            roots.extend(self.root_wishes(*of, wish, name));
        }
        let roots =
            Register::of_roots(self.model.global_ids).assign(&roots, is_fresh, &mut self.mistakes, |_, _, _| ());
        let mut roots = roots.into_iter();
        let mut named: HashMap<(SourceId, &str), RuledNames> = HashMap::new();
        for ((of, name), helpers) in ranked.iter().zip(names).zip(helpers) {
            let (one, list) = (roots.next().unwrap_or_default(), roots.next().unwrap_or_default());
            named.insert((of.source, &of.table.name), RuledNames { name, helpers, one, list });
        }
        for of in tables {
            let names = named.remove(&(of.source, of.table.name.as_str())).expect("every table was named");
            self.add_type(of, names, is_fresh);
        }
    }

    /// The names that the survey file has for a type, given by rule.
    fn remembered(&self, of: TableOf<'_>) -> Option<&'a TypeNames> {
        self.tables.catalog(of.source).names.types.get(&of.table.name)
    }

    /// What a table's type is called: as the table, and where a table of another source would be called the same, with the
    /// source's name before it.
    fn type_wish(&self, of: TableOf<'_>, all: &[TableOf<'_>]) -> Wish {
        let table = of.table;
        let edit = self.edit(of);
        // A name from before the project file said that the first word is kept follows that.
        let short = self.tables.habits(of.source).words_before_it_was_kept(table);
        let is_short = |name: &String| short.as_ref().is_some_and(|words| *name == names::type_name(words));
        let remembered = self.remembered(of).map(|names| names.name.clone());
        let remembered = remembered.filter(|name| !name.is_empty() && !is_short(name));
        Wish {
            what: format!("the type of table `{}`", table.name),
            given: edit.and_then(|edit| Some((edit.name.clone()?, edit.place))),
            remembered,
            by_rule: {
                let called = |of: &TableOf<'_>| names::type_name(&self.tables.habits(of.source).table_words(of.table));
                let name = called(&of);
                let is_shared = all.iter().any(|other| other.source != of.source && called(other) == name);
                let source = names::pascal(self.tables.source_name(of.source));
                let kind = match table.kind {
                    TableKind::Table => "Table",
                    TableKind::View => "View",
                };
                let with_source = is_shared.then(|| format!("{source}{name}"));
                [name.clone()].into_iter().chain(with_source).chain([format!("{name}{kind}")]).collect()
            },
            is_exact: names::type_name(&self.tables.habits(of.source).table_words(table)) == table.name,
        }
    }

    /// The root fields of a type that has a name by now. They follow the name that was wanted: they need a number only where
    /// they collide themselves.
    fn root_wishes(&self, at: TableOf<'_>, of: &Wish, name: &str) -> [Wish; 2] {
        let table = at.table;
        let edit = self.edit(at);
        let place = edit.map(|edit| edit.place).unwrap_or_default();
        let own = self.tables.habits(at.source).table_words(table);
        // The table's own words, where the type is called by them: they may be for many already.
        let words =
            |name: &str| if names::type_name(&own) == name { own.clone() } else { names::words(name, names::TABLE) };
        let wanted = match (&of.given, &of.remembered) {
            (Some((given, _)), _) => given,
            (None, Some(remembered)) => remembered,
            (None, None) => &of.by_rule[0],
        };
        let remembered = self.remembered(at).filter(|names| names.name == name && of.given.is_none());
        let wish =
            |what: &str, given: Option<&String>, remembered: Option<&String>, by_rule: fn(&[String]) -> String| {
                let mut by_rule = vec![by_rule(&words(wanted)), by_rule(&words(name))];
                by_rule.dedup();
                Wish {
                    what: format!("the root field of table `{}` that {what}", table.name),
                    given: given.map(|given| (given.clone(), place)),
                    remembered: remembered.filter(|name| !name.is_empty()).cloned(),
                    by_rule,
                    is_exact: false,
                }
            };
        [
            wish(
                "finds one",
                edit.and_then(|edit| edit.one.as_ref()),
                remembered.map(|names| &names.one),
                names::one_name,
            ),
            wish(
                "lists many",
                edit.and_then(|edit| edit.list.as_ref()),
                remembered.map(|names| &names.list),
                names::list_name,
            ),
        ]
    }

    /// A key that is promised beside one that the database keeps would only be a way to find several rows by.
    fn check_promise(&mut self, table: &Table, edit: &TypeEdit, keys: &[Key]) {
        if !edit.key.is_empty() && keys.iter().any(|key| key.total && !key.promised) {
            let text = format!("table `{}` has a key that the database keeps; leave `key` out", table.name);
            self.mistakes.push(Mistake { place: edit.place, text });
        }
    }

    fn add_type(&mut self, of: TableOf<'a>, names: RuledNames, is_fresh: bool) {
        let RuledNames { name, helpers, one, list } = names;
        let TableOf { source, table } = of;
        let edit = self.edit(of).cloned().unwrap_or_default();
        let remembered = self.remembered(of);
        // What the project file gives is kept there, and nowhere else.
        let by_rule =
            |given: &Option<String>, name: &String| if given.is_none() { name.clone() } else { String::new() };
        let mut assigned = TypeNames {
            name: by_rule(&edit.name, &name),
            helpers: if helpers == name { String::new() } else { helpers.clone() },
            one: by_rule(&edit.one.clone().or(edit.name.clone()), &one),
            list: by_rule(&edit.list.clone().or(edit.name.clone()), &list),
            ..TypeNames::default()
        };
        let shown: Vec<&crate::catalog::Column> = table
            .columns
            .iter()
            .filter(|column| !edit.fields.get(&column.name).is_some_and(|field| field.hidden))
            .collect();
        let is_hidden = |table: &Table| self.edit(TableOf { source, table }).is_some_and(|edit| edit.hidden);
        let (catalog, habits) = (self.tables.catalog(source), self.tables.habits(source));
        let target_of = |key: &ForeignKey| catalog.table(&key.table).filter(|target| !is_hidden(target));
        let wish = |column: &&crate::catalog::Column| Wish {
            what: format!("column `{}` of `{}`", column.name, table.name),
            given: edit.fields.get(&column.name).and_then(|field| Some((field.name.clone()?, field.place))),
            remembered: remembered
                .and_then(|names| names.fields.get(&column.name))
                .cloned()
                .map(|name| self.row_id(name)),
            by_rule: field_names(table, &column.name, target_of, habits)
                .into_iter()
                .map(|name| self.row_id(name))
                .collect(),
            is_exact: names::field_name(&column.name) == column.name,
        };
        let wishes: Vec<Wish> = shown.iter().map(wish).collect();
        // What gives way to the global id is called as before once there is none.
        let own = |column: &&crate::catalog::Column| {
            let known = remembered.and_then(|names| names.fields.get(&column.name)).cloned();
            let own = known.or_else(|| field_names(table, &column.name, target_of, habits).into_iter().next());
            own.filter(|own| self.model.global_ids && own == GLOBAL_ID)
        };
        let gave_way: Vec<Option<String>> = shown.iter().map(own).collect();
        let knows_nothing = is_fresh || remembered.is_none_or(|names| names.fields.is_empty());
        let mut register = Register::of_fields(self.model.global_ids);
        remembered.into_iter().flat_map(|names| names.links.values()).for_each(|link| register.reserve(link));
        let names = register.assign(&wishes, knows_nothing, &mut self.mistakes, |_, _, _| ());
        self.field_names.push(register);
        let mut fields: Vec<Option<String>> = vec![None; table.columns.len()];
        for (((column, wish), name), gave_way) in shown.into_iter().zip(wishes).zip(names).zip(gave_way) {
            let at = table.columns.iter().position(|known| known.name == column.name);
            if wish.given.is_none() {
                assigned.fields.insert(column.name.clone(), gave_way.unwrap_or_else(|| name.clone()));
            }
            fields[at.expect("a column of the table")] = Some(name);
        }
        let columns: Vec<Column> = table
            .columns
            .iter()
            .zip(fields)
            .map(|(column, field)| self.column(of, column, field, &name, &edit))
            .collect();
        let keys = keys(table, &columns, &edit.key);
        self.check_promise(table, &edit, &keys);
        // What somebody says of a key is enough to find a row, and not to change one: others may have the same.
        let writable = table.kind == TableKind::Table && keys.iter().any(|key| key.total && !key.promised);
        let version = self.version(table, &edit);
        let position = |name: &String| columns.iter().position(|column| column.name == *name);
        // What is compared as a text that the engine makes of it is not found by an index over what it was made of.
        let is_found = |column: &ColumnId| columns[*column].form != StorageFormat::EngineText;
        let indexes = table.indexes.iter().filter_map(|index| index.iter().map(position).collect::<Option<Vec<_>>>());
        let indexes = indexes.map(|index| index.into_iter().take_while(is_found).collect::<Vec<_>>());
        let indexes = indexes.filter(|index| !index.is_empty()).collect();
        self.model.names[source].types.insert(table.name.clone(), assigned);
        self.of_tables[source].entry(table.name.clone()).or_insert(self.model.types.len());
        self.model.types.push(Type {
            source,
            table: table.name.clone(),
            schema: table.schema.clone(),
            relation: table.relation().to_owned(),
            inherited: table.inherited,
            name,
            helpers,
            one,
            list,
            description: edit
                .description
                .or_else(|| described(table.relation(), edit.name.is_some(), table.comment.as_ref())),
            deprecated: edit.deprecated,
            identity: identity(&self.model.sources[source], &table.name),
            columns,
            links: Vec::new(),
            keys,
            row_number: table.row_number,
            indexes,
            about_rows: table.about_rows,
            writable,
            transactional: !table.without_transactions,
            version,
            cascades: Vec::new(),
            items_of: None,
        });
    }

    /// What deleting a row does to those that refer to it.
    fn add_cascades(&mut self) {
        for TableOf { source, table } in self.tables.all().collect::<Vec<_>>() {
            for key in &table.foreign_keys {
                let deletes = match key.on_delete.as_deref() {
                    Some("CASCADE") => true,
                    Some("SET NULL" | "SET DEFAULT") => false,
                    _ => continue,
                };
                let Some(target) = self.type_of(source, &key.table) else { continue };
                let cascade = Cascade { table: table.name.clone(), of: self.type_of(source, &table.name), deletes };
                self.model.types[target].cascades.push(cascade);
            }
        }
    }

    /// The column that the project file calls the row's version.
    fn version(&mut self, table: &Table, edit: &TypeEdit) -> Option<ColumnId> {
        let name = edit.version.as_ref()?;
        let found = table.columns.iter().position(|column| column.name == *name);
        if found.is_none() {
            let hint = did_you_mean(name, table.columns.iter().map(|column| column.name.as_str()));
            let text = format!("table `{}` has no column `{name}`{hint}", table.name);
            self.mistakes.push(Mistake { place: edit.place, text });
        }
        found
    }

    fn column(
        &mut self,
        TableOf { source, table }: TableOf<'_>,
        column: &crate::catalog::Column,
        field: Option<String>,
        type_name: &str,
        edit: &TypeEdit,
    ) -> Column {
        let change = edit.fields.get(&column.name);
        let scalar = change.and_then(|field| field.scalar).unwrap_or(column.scalar);
        let kind = match &field {
            Some(field) if scalar == Scalar::String && !column.values.is_empty() => {
                let what = format!("the enum of column `{}` of `{}`", column.name, table.name);
                match declared_enum(column, self.tables.catalog(source).engine) {
                    None => {
                        self.enum_kind(source, &column.values, &format!("{type_name}{}", names::pascal(field)), &what)
                    }
                    // What the database has once, the API has once.
                    Some(declared) => {
                        let known = self.declared_enums.get(&(source, declared.to_owned())).copied();
                        let kind = known.unwrap_or_else(|| {
                            let wanted = names::enum_name(declared);
                            self.enum_kind(source, &column.values, &wanted, &what)
                        });
                        self.declared_enums.insert((source, declared.to_owned()), kind);
                        kind
                    }
                }
            }
            _ => FieldType::Scalar(scalar),
        };
        let kind = match kind {
            FieldType::Scalar(scalar) if column.list => FieldType::List(Element::Scalar(scalar)),
            FieldType::Enum(id) if column.list => FieldType::List(Element::Enum(id)),
            kind => kind,
        };
        let enforced = column.enforced && !column.nullable && scalar == column.scalar;
        // SQLite keeps values of any type in a column: whoever calls them texts means their digits, too.
        let engine = self.tables.catalog(source).engine;
        let is_renamed = engine == Engine::Sqlite && scalar == Scalar::String && scalar != column.scalar;
        // An enum without names is compared as text: with another one the engine would refuse the whole statement.
        let is_nameless = engine == Engine::Postgres
            && field.is_some()
            && !column.values.is_empty()
            && declared_enum(column, engine).is_some()
            && !matches!(kind, FieldType::Enum(_) | FieldType::List(Element::Enum(_)));
        let as_text = is_renamed || is_nameless;
        Column {
            name: column.name.clone(),
            field,
            kind,
            form: if as_text { StorageFormat::EngineText } else { column.form },
            nullable: column.nullable && !(table.primary_key.contains(&column.name) && column.enforced),
            non_null: enforced
                && !edit.nullable.contains(&column.name)
                && matches!(kind, FieldType::Scalar(_) | FieldType::List(_) | FieldType::Enum(_)),
            typed: column.enforced && scalar == column.scalar,
            input: input(column, engine, table.primary_key.contains(&column.name)),
            binary_json: engine == Engine::Sqlite && column.declared.eq_ignore_ascii_case("jsonb"),
            cast: if is_nameless { Some("text".to_owned()) } else { column.cast.clone() },
            domain: column.domain && !is_nameless,
            collation: column.collation.clone(),
            small_json: false,
            member: None,
            description: change.and_then(|field| field.description.clone()).or_else(|| {
                described(&column.name, change.is_some_and(|field| field.name.is_some()), column.comment.as_ref())
            }),
            deprecated: change.and_then(|field| field.deprecated.clone()),
        }
    }

    /// An enum where every text has a name of its own, else plain text.
    fn enum_kind(&mut self, source: SourceId, texts: &[String], wanted: &str, what: &str) -> FieldType {
        let values: Vec<(String, String)> =
            texts.iter().filter_map(|text| Some((names::enum_value_name(text)?, text.clone()))).collect();
        let mut taken = Register::default();
        let reserved = ["TRUE", "FALSE", "NULL"];
        let distinct = values.iter().all(|(name, _)| taken.take(name) && !reserved.contains(&name.as_str()));
        if !distinct || values.len() != texts.len() {
            let shown: Vec<String> = texts.iter().take(5).map(|text| format!("`{text}`")).collect();
            let text = format!(
                "{what} is served as text: its values have no names of their own in GraphQL ({}{})",
                shown.join(", "),
                if texts.len() > shown.len() { ", …" } else { "" }
            );
            self.model.notices.push((source, text));
            return FieldType::Scalar(Scalar::String);
        }
        let wanted = [wanted.to_owned(), format!("{wanted}Value")];
        let name = self.type_names.take_enum(what, &wanted, &mut self.mistakes);
        self.model.enums.push(Enum { name, values });
        FieldType::Enum(self.model.enums.len() - 1)
    }
}

/// The comment on something, and before it what the database calls it, where its name is one that says nothing of that.
fn described(name: &str, is_renamed: bool, comment: Option<&String>) -> Option<String> {
    if is_renamed || !name.chars().any(names::needs_its_language) {
        return comment.cloned();
    }
    Some(comment.map_or_else(|| format!("`{name}` in the database."), |comment| format!("`{name}`: {comment}")))
}

/// What tells the global ids of a table's rows from those of other tables.
pub(super) fn identity(source: &str, table: &str) -> [u8; IDENTITY_LENGTH] {
    let mut context = ring::digest::Context::new(&ring::digest::SHA256);
    for part in ["global id", source, table] {
        context.update(&(part.len() as u64).to_be_bytes());
        context.update(part.as_bytes());
    }
    let mut identity = [0; IDENTITY_LENGTH];
    identity.copy_from_slice(&context.finish().as_ref()[..IDENTITY_LENGTH]);
    identity
}

/// The type of its own that an enum's column was declared with. Where an engine has none, each column has its own values.
fn declared_enum(column: &crate::catalog::Column, engine: Engine) -> Option<&str> {
    const TEXTS: &[&str] = &["text", "char", "varchar", "bpchar", "citext", "name"];
    let is_text = TEXTS.iter().any(|text| column.declared.starts_with(text));
    // A list has the enum of its items.
    let declared = column.declared.trim_end_matches("[]");
    (engine == Engine::Postgres && !column.domain && !is_text).then_some(declared)
}

/// What may be written to a column, as far as its declared type tells.
fn input(column: &crate::catalog::Column, engine: Engine, is_key: bool) -> ColumnInput {
    let declared = column.declared.to_ascii_lowercase();
    let (name, arguments) = declared.split_once('(').unwrap_or((&declared, ""));
    let first = || -> Option<u32> { arguments.split([',', ')']).next().and_then(|digits| digits.trim().parse().ok()) };
    // SQLite keeps whatever it is given, whatever the declared length.
    let enforces = engine != Engine::Sqlite && !column.list;
    let unsigned = declared.contains("unsigned");
    let bits = match name.split_whitespace().next() {
        Some("tinyint") => Some(8),
        Some("smallint") => Some(16),
        Some("mediumint") => Some(24),
        Some("int" | "integer" | "int4") => Some(32),
        _ => None,
    };
    let range = |bits: u32| if unsigned { (0, (1 << bits) - 1) } else { (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) };
    ColumnInput {
        computed: column.generated,
        immutable: engine.holds_documents() && is_key,
        filled: column.automatic || column.default.is_some(),
        length: if enforces && ["char", "binary"].iter().any(|word| name.contains(word)) { first() } else { None },
        range: bits.filter(|_| enforces).map(range),
        second_digits: usual_second_digits(engine)
            .filter(|_| enforces && matches!(column.scalar, Scalar::Time | Scalar::LocalDateTime | Scalar::DateTime))
            .map(|usual| first().unwrap_or(usual) as usize),
    }
}

/// How many digits of a second's fraction an engine keeps where a column's type does not say; none where all are kept.
fn usual_second_digits(engine: Engine) -> Option<u32> {
    match engine {
        Engine::Postgres => Some(6),
        Engine::Mariadb => Some(0),
        Engine::Sqlite | Engine::Mongodb => None,
    }
}

fn keys(table: &Table, columns: &[Column], promised: &[String]) -> Vec<Key> {
    let mut members = Register::default();
    let mut keys: Vec<Key> = Vec::new();
    let promise = Some(promised).filter(|key| !key.is_empty());
    for (key, promised) in table.keys().map(|key| (key, false)).chain(promise.map(|key| (key, true))) {
        let ids: Option<Vec<ColumnId>> =
            key.iter().map(|name| columns.iter().position(|column| column.name == *name)).collect();
        let Some(ids) = ids else { continue };
        if keys.iter().any(|other| other.columns == ids) {
            continue;
        }
        let fields: Vec<String> = ids
            .iter()
            .map(|id| columns[*id].field.clone().unwrap_or_else(|| names::field_name(&columns[*id].name)))
            .collect();
        let member = fields
            .iter()
            .enumerate()
            .map(|(at, f)| if at == 0 { f.clone() } else { names::pascal(f) })
            .collect::<String>();
        let total = (promised || ids.iter().all(|id| !columns[*id].nullable))
            && ids.iter().all(|id| columns[*id].is_comparable());
        keys.push(Key { columns: ids, member: members.take_or_number(&[member]), total, promised });
    }
    keys
}

fn version(catalogs: &[&Catalog], project: &Project) -> String {
    let names: Vec<&String> = project.sources.iter().map(|source| &source.name).collect();
    let ids = project.service.global_ids;
    let edits = format!("{names:?}{:?}{:?}{:?}{ids}", project.types, project.links, project.limits);
    let edits = format!("{edits}{:?}", project.sources.iter().map(|source| source.keep_first_word).collect::<Vec<_>>());
    let surveys: String = catalogs.iter().map(|catalog| catalog.to_text()).collect();
    let digest = ring::digest::digest(&ring::digest::SHA256, format!("{surveys}{edits}").as_bytes());
    digest.as_ref()[..8].iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Cardinality;
    use crate::project;

    const CATALOG: &str = include_str!("../../tests/data/huts.json");

    fn model(edits: &str) -> Result<Model, Vec<Mistake>> {
        let text = format!("[source.main]\nurl = \"sqlite:huts.db\"\n{edits}");
        build(&[&Catalog::from_text(CATALOG).unwrap()], &project::read(&text, &|_| None).unwrap())
    }

    fn link_fields(model: &Model, name: &str) -> Vec<String> {
        let t = &model.types[model.type_named(name).unwrap()];
        t.links.iter().map(|link| format!("{}: {}", link.field, model.types[link.target].name)).collect()
    }

    #[test]
    fn foreign_keys_become_links_both_ways() {
        let model = model("").unwrap();
        assert_eq!(link_fields(&model, "Booking"), ["hut: Hut", "hiker: Hiker", "guide: Hiker"]);
        assert_eq!(link_fields(&model, "Hiker"), ["bookingsAsHiker: Booking", "bookingsAsGuide: Booking"]);
        assert_eq!(link_fields(&model, "Region"), ["parent: Region", "huts: Hut", "children: Region"]);
    }

    #[test]
    fn a_join_table_gives_a_direct_link_beside_the_two() {
        let model = model("").unwrap();
        assert_eq!(link_fields(&model, "Trail"), ["trailHuts: TrailHut", "huts: Hut"]);
        let trail = &model.types[model.type_named("Trail").unwrap()];
        assert_eq!(trail.links[1].cardinality, Cardinality::Many);
        let through = trail.links[1].through.as_ref().unwrap();
        let join = &model.types[through.join];
        let edge: Vec<_> = join.edge_columns(through).iter().map(|id| join.columns[*id].name.clone()).collect();
        assert_eq!(edge, ["position"]);
    }

    #[test]
    fn the_project_file_renames_hides_and_links() {
        let edits = r#"
[[type]]
table = "hikers"
name = "Guest"
[type.fields]
phone = { hidden = true }
name = { name = "fullName" }
[[link]]
table = "notes"
columns = ["about"]
to = "huts"
references = ["id"]
name = "subject"
back = "notes"
"#;
        let model = model(edits).unwrap();
        let guest = &model.types[model.type_named("Guest").unwrap()];
        assert_eq!((guest.one.as_str(), guest.list.as_str()), ("guest", "guests"));
        let fields: Vec<_> = guest.columns.iter().filter_map(|column| column.field.as_deref()).collect();
        assert_eq!(fields, ["id", "fullName"]);
        assert!(link_fields(&model, "Hut").contains(&"notes: Note".to_owned()));
    }

    #[test]
    fn helper_types_give_way_to_tables() {
        let mut catalog = Catalog::from_text(CATALOG).unwrap();
        let mut filters = catalog.table("huts").unwrap().clone();
        filters.name = "booking_filters".to_owned();
        filters.foreign_keys.clear();
        catalog.tables.push(filters);
        let project = project::read("[source.main]\nurl = \"sqlite:huts.db\"\n", &|_| None).unwrap();
        let names = |model: &Model| {
            let of = |table: &str| model.types.iter().find(|t| t.table == table).unwrap();
            (of("booking_filters").name.clone(), of("bookings").helpers.clone())
        };
        let model = build(&[&catalog], &project).unwrap();
        assert_eq!(names(&model), ("BookingFilter".to_owned(), "BookingRow".to_owned()));
        // What clients use by now stays, where the table goes; a table that comes later does not take it.
        catalog.names = model.names[0].clone();
        catalog.tables.pop();
        let of = |model: &Model| model.types.iter().find(|t| t.table == "bookings").unwrap().helpers.clone();
        assert_eq!(of(&build(&[&catalog], &project).unwrap()), "BookingRow");
        catalog.names = build(&[&Catalog::from_text(CATALOG).unwrap()], &project).unwrap().names.remove(0);
        let mut filters = catalog.table("huts").unwrap().clone();
        filters.name = "booking_filters".to_owned();
        catalog.tables.push(filters);
        assert_eq!(
            names(&build(&[&catalog], &project).unwrap()),
            ("BookingFilterTable".to_owned(), "Booking".to_owned())
        );
    }

    #[test]
    fn a_key_is_promised_where_there_is_none() {
        let promise = |table: &str| model(&format!("[[type]]\ntable = \"{table}\"\nkey = [\"about\"]\n"));
        let notes = promise("notes").unwrap();
        let t = &notes.types[notes.type_named("Note").unwrap()];
        assert!(t.row_key().unwrap().promised && !t.writable);
        let of_huts = model("[[type]]\ntable = \"huts\"\nkey = [\"code\"]\n").unwrap_err();
        assert!(of_huts[0].text.contains("`huts` has a key that the database keeps"), "{of_huts:?}");
        let unknown = model("[[type]]\ntable = \"notes\"\nkey = [\"abut\"]\n").unwrap_err();
        assert!(unknown[0].text.contains("did you mean `about`?"), "{unknown:?}");
    }

    #[test]
    fn a_project_that_does_not_fit_the_survey_is_refused_with_hints() {
        let mistakes =
            model("[[type]]\ntable = \"hutts\"\n[[type]]\ntable = \"huts\"\nname = \"Booking\"\n").unwrap_err();
        assert!(mistakes[0].text.contains("did you mean `huts`?"), "{mistakes:?}");
    }

    #[test]
    fn a_remembered_name_is_kept_when_a_newcomer_would_take_it() {
        let mut catalog = Catalog::from_text(CATALOG).unwrap();
        let project = project::read("[source.main]\nurl = \"sqlite:huts.db\"\n", &|_| None).unwrap();
        catalog.names = build(&[&catalog], &project).unwrap().names.remove(0);
        let mut newcomer = catalog.table("huts").unwrap().clone();
        newcomer.name = "Hut".to_owned();
        newcomer.foreign_keys.clear();
        catalog.tables.insert(0, newcomer);
        let model = build(&[&catalog], &project).unwrap();
        let by_table = |table: &str| model.types.iter().find(|t| t.table == table).unwrap().name.clone();
        assert_eq!((by_table("huts").as_str(), by_table("Hut").as_str()), ("Hut", "HutTable"));
    }
}
