//! JSON as types: where the project file says so, the shape that the survey found in a JSON column becomes object types, whose
//! members are columns of their own, and lists of objects become types of rows.

use indexmap::IndexMap;

use super::build::Builder;
use super::naming::{Register, Wish};
use super::{
    Column, ColumnId, ColumnInput, Element, FieldType, GLOBAL_ID, ITEM_COLUMN, ItemsOf, Member, ObjectType, ROW_ID,
    Type, TypeId, names,
};
use crate::catalog::{ITEMS, MemberIndex, Shape, ShapeType, TypeNames};
use crate::project::{FieldEdit, MemberEdit, Mistake};
use crate::suggest::did_you_mean;
use crate::value::{Scalar, StorageFormat};

/// Gives types to every column whose shape the project file wants.
///
/// What documents hold has types anyway, unless somebody says another scalar.
pub(super) fn add_shapes(builder: &mut Builder<'_>) {
    let unsaid = FieldEdit::default();
    for of in 0..builder.model.types.len() {
        let (source, table) = (builder.model.types[of].source, builder.model.types[of].table.clone());
        let catalog = builder.tables.catalog(source);
        let Some(table) = catalog.table(&table) else { continue };
        let edit = builder.edit_of(source, &table.name);
        for (column, c) in table.columns.iter().enumerate() {
            let said = edit.and_then(|edit| edit.fields.get(&c.name));
            let is_document = catalog.engine.holds_documents() && c.shape.is_some();
            let is_wanted = said.map_or(is_document, |field| field.shape || is_document && field.scalar.is_none());
            if !is_wanted {
                continue;
            }
            let field = said.unwrap_or(&unsaid);
            if builder.model.types[of].columns[column].field.is_none() {
                continue;
            }
            let Some(found) = &c.shape else {
                let text = format!(
                    "the survey found no shape in `{}.{}`; run `puente survey`, or leave `shape` out",
                    table.name, c.name
                );
                builder.mistakes.push(Mistake { place: field.place, text });
                continue;
            };
            let remembered = builder.tables.catalog(source).names.types.get(&table.name).cloned().unwrap_or_default();
            let mut shaping = Shaping { builder, table: &table.name, field, remembered, source, used: Vec::new() };
            if found.shape.kind == ShapeType::Object
                && shaping.is_map(
                    &At { of, column, root: column, path: &[], way: std::slice::from_ref(&c.name) },
                    &found.shape,
                )
            {
                continue;
            }
            shaping.column(of, column, &found.shape);
            shaping.builder.model.types[of].columns[column].small_json = found.largest <= SMALL_BYTES;
            shaping.check_edits();
        }
    }
}

/// A column that is being given types.
struct Shaping<'b, 'a> {
    builder: &'b mut Builder<'a>,
    table: &'b str,
    field: &'b FieldEdit,
    /// The names that the survey file remembers of the table.
    remembered: TypeNames,
    source: usize,
    /// What the project file says of members that are there.
    used: Vec<String>,
}

/// A place in the shape that is being given types.
struct At<'p> {
    /// The type that has it.
    of: TypeId,
    /// The column that is it.
    column: ColumnId,
    /// The column of the type that holds the JSON.
    root: ColumnId,
    /// The members that lead to it from there.
    path: &'p [String],
    /// The way that leads to it through the whole column, for whoever remembers or corrects it.
    way: &'p [String],
}

impl<'a> Shaping<'_, 'a> {
    /// The column of the table itself.
    fn column(&mut self, of: TypeId, column: ColumnId, shape: &Shape) {
        let name = self.builder.model.types[of].columns[column].name.clone();
        let at = At { of, column, root: column, path: &[], way: &[name] };
        let kind = self.kind(&at, shape);
        let column = &mut self.builder.model.types[of].columns[column];
        column.kind = kind;
        column.form = StorageFormat::JsonValue;
        column.non_null = false;
    }

    /// The type of what is at a place; what it is made of is added to the model.
    fn kind(&mut self, at: &At<'_>, shape: &Shape) -> FieldType {
        match shape.kind {
            ShapeType::Scalar(scalar) => FieldType::Scalar(scalar),
            ShapeType::Object if self.is_map(at, shape) => FieldType::Scalar(Scalar::Json),
            ShapeType::Object => FieldType::Object(self.object(at, shape)),
            ShapeType::List => match shape.items.as_deref().map(|items| (items.kind, items)) {
                Some((ShapeType::Scalar(scalar), _)) if scalar != Scalar::Json => {
                    FieldType::List(Element::Scalar(scalar))
                }
                Some((ShapeType::Object, items)) if !self.is_map(at, items) => self.items(at, items),
                // A list of lists, or of values of several types.
                _ => FieldType::Scalar(Scalar::Json),
            },
        }
    }

    /// Is an object used as a map, whose names are keys and no fields: each would have a field, and each object inside a type? Not
    /// where its members have names in the API already, or the project file says that they are fields.
    fn is_map(&mut self, at: &At<'_>, shape: &Shape) -> bool {
        let Some(evidence) = shape.used_as_map() else { return false };
        let (way, outer) = (at.way.join("/"), said(at.way));
        let is_below = |name: &String| name.strip_prefix(&way).is_some_and(|rest| rest.starts_with('/'));
        let is_said = match self.field.members.get(&outer) {
            Some(edit) => edit.shape,
            None => outer.is_empty() && self.field.shape,
        };
        let is_corrected = self
            .field
            .members
            .keys()
            .any(|known| known.strip_prefix(&outer).is_some_and(|rest| outer.is_empty() || rest.starts_with('/')));
        if is_said || is_corrected || self.remembered.members.keys().any(is_below) {
            return false;
        }
        let column = at.way.first().map_or("", String::as_str);
        let remedy = match outer.is_empty() {
            true => format!("`shape = true` in `[type.fields.{column:?}]`"),
            false => format!("`shape = true` in `[type.fields.{column:?}.members.{outer:?}]`"),
        };
        let text = format!(
            "`{}.{way}` is used as a map ({evidence}) and served as JSON; {remedy} gives each member a field",
            self.table
        );
        self.builder.model.notices.push((self.source, text));
        true
    }

    /// The object type of what is at a place.
    fn object(&mut self, at: &At<'_>, shape: &Shape) -> usize {
        let (name, helpers) = self.type_name(at, false);
        let object = ObjectType { name, helpers, of: at.of, column: at.column };
        self.builder.model.objects.push(object);
        let id = self.builder.model.objects.len() - 1;
        self.members(at, shape);
        id
    }

    /// The type of the items of a list of objects: its rows have one hidden column, the item, whose members are its fields.
    fn items(&mut self, at: &At<'_>, shape: &Shape) -> FieldType {
        let (name, helpers) = self.type_name(at, true);
        let outer = &self.builder.model.types[at.of];
        let item = Column {
            name: ITEM.to_owned(),
            field: None,
            kind: FieldType::Scalar(Scalar::Json),
            form: StorageFormat::JsonValue,
            nullable: true,
            non_null: false,
            typed: false,
            binary_json: false,
            cast: None,
            domain: false,
            collation: None,
            input: ColumnInput { computed: true, ..ColumnInput::default() },
            small_json: false,
            member: None,
            description: None,
            deprecated: None,
        };
        let items = Type {
            source: outer.source,
            table: outer.table.clone(),
            schema: outer.schema.clone(),
            relation: outer.relation.clone(),
            inherited: outer.inherited,
            name,
            helpers,
            one: String::new(),
            list: String::new(),
            description: None,
            deprecated: None,
            identity: outer.identity,
            columns: vec![item],
            links: Vec::new(),
            keys: Vec::new(),
            row_number: false,
            indexes: Vec::new(),
            about_rows: Some(0),
            writable: false,
            transactional: outer.transactional,
            version: None,
            cascades: Vec::new(),
            items_of: Some(ItemsOf { of: at.of, column: at.column }),
        };
        self.builder.model.types.push(items);
        let id = self.builder.model.types.len() - 1;
        let way: Vec<String> = at.way.iter().cloned().chain([ITEMS.to_owned()]).collect();
        self.members(&At { of: id, column: ITEM_COLUMN, root: ITEM_COLUMN, path: &[], way: &way }, shape);
        FieldType::Items(id)
    }

    fn members(&mut self, at: &At<'_>, shape: &Shape) {
        let members = self.corrected(at, shape);
        let wishes: Vec<Wish> = members.keys().map(|name| self.field_wish(at, name)).collect();
        let knows_nothing = !wishes.iter().any(|wish| wish.remembered.is_some());
        let mut register = Register::of_fields(self.builder.model.global_ids);
        let fields = register.assign(&wishes, knows_nothing, &mut self.builder.mistakes, |_, _, _| ());
        for ((name, (member, edit)), field) in members.iter().zip(fields) {
            let extended = |way: &[String]| way.iter().cloned().chain([name.clone()]).collect::<Vec<_>>();
            let (path, way) = (extended(at.path), extended(at.way));
            if edit.name.is_none() {
                let gave_way =
                    self.builder.model.global_ids && names::member_name(name) == GLOBAL_ID && field == ROW_ID;
                let own = if gave_way { GLOBAL_ID.to_owned() } else { field.clone() };
                self.remember(|names| names.members.insert(way.join("/"), own));
            }
            let outer = &self.builder.model.types[at.of].columns[at.column];
            // What is called by no field is the item of a list.
            let is_item = outer.field.is_none();
            let label = if is_item { field.clone() } else { format!("{}.{field}", outer.label()) };
            let column = Column {
                name: path_name(&self.builder.model.types[at.of].columns[at.root].name, &path),
                field: Some(field),
                kind: FieldType::Scalar(Scalar::Json),
                form: StorageFormat::JsonValue,
                nullable: true,
                non_null: edit.required,
                typed: false,
                binary_json: false,
                cast: None,
                domain: false,
                collation: None,
                input: ColumnInput::default(),
                small_json: false,
                member: Some(Member {
                    of: at.root,
                    within: at.column,
                    path: path.clone(),
                    label,
                    index: self.index(at, &path).cloned(),
                }),
                description: edit.description.clone(),
                deprecated: edit.deprecated.clone(),
            };
            let columns = &mut self.builder.model.types[at.of].columns;
            columns.push(column);
            let column = columns.len() - 1;
            let kind = self.kind(&At { of: at.of, column, root: at.root, path: &path, way: &way }, member);
            self.builder.model.types[at.of].columns[column].kind = kind;
        }
    }

    /// An index on a member of a row.
    fn index(&self, at: &At<'_>, path: &[String]) -> Option<&'a MemberIndex> {
        let t = &self.builder.model.types[at.of];
        if t.items_of.is_some() {
            return None;
        }
        let table = self.builder.tables.catalog(self.source).table(self.table)?;
        table.member_indexes.iter().find(|index| index.column == t.columns[at.root].name && index.path == path)
    }

    /// The members as the project file corrects them, each with what it says.
    fn corrected(&mut self, at: &At<'_>, shape: &Shape) -> IndexMap<String, (Shape, MemberEdit)> {
        let outer = said(at.way);
        let prefix = if outer.is_empty() { String::new() } else { format!("{outer}/") };
        let mut members: IndexMap<String, (Shape, MemberEdit)> = IndexMap::new();
        for (name, member) in &shape.members {
            let edit = self.field.members.get(&format!("{prefix}{name}")).cloned().unwrap_or_default();
            members.insert(name.clone(), (member.clone(), edit));
        }
        // What no sample had may be there all the same, where somebody says what it is.
        for (way, edit) in &self.field.members {
            let Some(name) = way.strip_prefix(&prefix).filter(|name| !name.contains('/')) else { continue };
            if edit.scalar.is_some() && !members.contains_key(name) {
                members.insert(name.to_owned(), (Shape::json(), edit.clone()));
            }
            if members.contains_key(name) {
                self.used.push(way.clone());
            }
        }
        members.retain(|_, (_, edit)| !edit.hidden);
        for (member, edit) in members.values_mut() {
            member.correct(edit.scalar, edit.list);
        }
        members
    }

    /// Reports what the project file says of members that are not there.
    fn check_edits(&mut self) {
        for (way, edit) in self.field.members.iter().filter(|(way, _)| !self.used.contains(way)) {
            let known: Vec<String> = self.builder.model.types.iter().flat_map(ways).collect();
            let hint = did_you_mean(way, known.iter().map(String::as_str));
            let text = format!(
                "the survey found no member `{way}` there{hint}; say which `scalar` it is, inside of an object that is there, or \
                 leave it out"
            );
            self.builder.mistakes.push(Mistake { place: edit.place, text });
        }
    }

    fn field_wish(&self, at: &At<'_>, name: &str) -> Wish {
        let way = format!("{}/{name}", at.way.join("/"));
        let by_rule = self.builder.row_id(names::member_name(name));
        let outer = said(at.way);
        let edit = self.field.members.get(&if outer.is_empty() { name.to_owned() } else { format!("{outer}/{name}") });
        Wish {
            what: format!("member `{way}` of `{}`", self.table),
            given: edit.and_then(|edit| Some((edit.name.clone()?, edit.place))),
            remembered: self.remembered.members.get(&way).cloned().map(|name| self.builder.row_id(name)),
            by_rule: [by_rule].into_iter().chain(names::as_it_is(name)).collect(),
            is_exact: names::member_name(name) == name,
        }
    }

    /// The name of an object's type, or of the items of a list, and what the names of its helper types begin with.
    fn type_name(&mut self, at: &At<'_>, is_item: bool) -> (String, String) {
        let way = at.way.join("/");
        let t = &self.builder.model.types[at.of];
        let c = &t.columns[at.column];
        let field = c.field.as_deref().unwrap_or_default();
        let words = names::words(field, names::MEMBER);
        let last = if is_item { names::type_name(&words) } else { names::pascal(field) };
        // What is inside an object is called after its type.
        let within = c.member.as_ref().map(|member| (at.of, member.within));
        let mut objects = self.builder.model.objects.iter();
        let outer = objects.find(|object| within == Some((object.of, object.column))).map(|object| object.name.clone());
        let wanted = format!("{}{}", outer.unwrap_or_else(|| t.name.clone()), last);
        let wanted = match self.remembered.shapes.get(&way) {
            Some(name) => vec![name.clone()],
            None => vec![wanted.clone(), format!("{wanted}Value")],
        };
        let what = format!("the type of `{way}` of `{}`", self.table);
        let name = self.builder.type_names.take_own(&what, &wanted, &mut self.builder.mistakes);
        let helpers = [name.clone(), format!("{name}Row")];
        let helpers = self.builder.type_names.take_helpers(&what, None, &helpers, names::OBJECT_HELPERS);
        self.remember(|names| names.shapes.insert(way, name.clone()));
        (name, helpers)
    }

    /// Keeps a name for the survey file.
    fn remember(&mut self, keep: impl FnOnce(&mut TypeNames) -> Option<String>) {
        let names = &mut self.builder.model.names[self.source];
        keep(names.types.entry(self.table.to_owned()).or_default());
    }
}

/// A way through a column's JSON as the project file says it: without the column, and without the steps into lists.
fn said(way: &[String]) -> String {
    let steps: Vec<&str> = way.iter().skip(1).map(String::as_str).filter(|step| *step != ITEMS).collect();
    steps.join("/")
}

/// The ways to the members of a type, as the project file says those of one column.
fn ways(t: &Type) -> impl Iterator<Item = String> {
    t.columns.iter().filter_map(|column| column.member.as_ref()).map(|member| member.path.join("/"))
}

/// Bytes of JSON that are delivered for a part of it without a second thought.
const SMALL_BYTES: u64 = 8 << 10;

/// The name of the one column of rows that are items of a list.
const ITEM: &str = "(item)";

/// The name of the column that is a member: nothing in the database is called so.
fn path_name(root: &str, path: &[String]) -> String {
    format!("{root}/{}", path.join("/"))
}
