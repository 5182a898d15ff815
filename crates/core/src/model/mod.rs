//! The model: what the API is made of once survey and project file are put together. Types, fields, links, names.

mod build;
mod candidates;
mod habits;
mod inflection;
mod link_words;
mod links;
mod names;
mod naming;
mod proposals;
mod shapes;
mod tables;

pub use build::build;
pub use candidates::{CrossingCandidate, Proven, Speaks, candidates, crossing_candidates};
pub use proposals::{KeyProposal, Proposal, ShapeProposal, keyless, shaped};

use std::borrow::Cow;

use crate::catalog::{AssignedNames, MemberIndex, WORTH_AN_INDEX};
use crate::value::{Datum, DatumRef, KeyFormat, Scalar, StorageFormat, convert_key};

/// Index of a source in [`Model::sources`], and among the project's.
pub type SourceId = usize;
/// Index of a type in [`Model::types`].
pub type TypeId = usize;
/// Index of a column in [`Type::columns`].
pub type ColumnId = usize;
/// Index of a link in [`Type::links`].
pub type LinkId = usize;
/// Index of an enum in [`Model::enums`].
pub type EnumId = usize;
/// Index of an object type in [`Model::objects`].
pub type ObjectId = usize;

/// The whole model of a project.
#[derive(Debug, Clone)]
pub struct Model {
    /// What its developer should know of its names, by source.
    pub notices: Vec<(SourceId, String)>,
    /// Changes whenever anything changes that could change an answer.
    pub version: String,
    /// The names of the sources.
    pub sources: Vec<String>,
    /// The types of rows; behind those of tables, those of the items of lists inside JSON.
    pub types: Vec<Type>,
    /// The types of objects inside JSON.
    pub objects: Vec<ObjectType>,
    /// The enum types.
    pub enums: Vec<Enum>,
    /// The names given by rule, for the survey file of each source.
    pub names: Vec<AssignedNames>,
    /// Has every row that has a key an `id` that is one of a kind in the whole API? What would be called so is [`ROW_ID`].
    pub global_ids: bool,
}

/// How a row's version becomes another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VersionStep {
    /// It is one more.
    Increment,
    /// It is the time of the request.
    Now,
}

/// The field of a row's global id ([Object Identification](https://graphql.org/learn/global-object-identification/)).
pub const GLOBAL_ID: &str = "id";
/// Bytes of what tells the global ids of types apart.
pub const IDENTITY_LENGTH: usize = 8;
/// The interface of all that has one.
pub const NODE: &str = "Node";
/// What a column is called that would be called as the global id.
pub const ROW_ID: &str = "rowId";

/// A table or view as an object type.
#[derive(Debug, Clone)]
pub struct Type {
    /// The source that its rows are in.
    pub source: SourceId,
    /// The table's name in the source's catalog: one of a kind there.
    pub table: String,
    /// The schema that it lies in, where the engine has several.
    pub schema: Option<String>,
    /// The table's name in its schema.
    pub relation: String,
    /// Do other tables inherit from it? Its own rows alone are its rows.
    pub inherited: bool,
    /// The object type's name.
    pub name: String,
    /// What the names of its helper types begin with: its name, where nothing else is in the way.
    pub helpers: String,
    /// The root field that finds one by a key.
    pub one: String,
    /// The root field that lists many.
    pub list: String,
    /// The description, from the project file or the engine's comment.
    pub description: Option<String>,
    /// Why clients should use something else.
    pub deprecated: Option<String>,
    /// What tells its rows' global ids from those of other types: a digest of source and table.
    pub identity: [u8; IDENTITY_LENGTH],
    /// Every column, also those without a field: links and cursors may need them.
    pub columns: Vec<Column>,
    /// Links to other types.
    pub links: Vec<Link>,
    /// Unique keys; the first is the one that pages end their order with.
    pub keys: Vec<Key>,
    /// Does an implicit row number order rows that have no key?
    pub row_number: bool,
    /// The columns of every complete index.
    pub indexes: Vec<Vec<ColumnId>>,
    /// About how many rows there were at the survey, where that is known.
    pub about_rows: Option<u64>,
    /// Can its rows be written? Those of a view, and of a table without a key, cannot.
    pub writable: bool,
    /// Can a change of its rows be rolled back?
    pub transactional: bool,
    /// The column that tells a row's version, where the project file names one.
    pub version: Option<ColumnId>,
    /// What the database does to rows of other tables where one of these is deleted.
    pub cascades: Vec<Cascade>,
    /// Where its rows are, where they are the items of a list inside another type's JSON. It has no root fields then, no
    /// keys, and of links those alone that the project file says.
    pub items_of: Option<ItemsOf>,
}

/// The list inside JSON whose items are a type's rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ItemsOf {
    /// The type that the list is part of.
    pub of: TypeId,
    /// Its column whose value is the list.
    pub column: ColumnId,
}

/// What a foreign key does to the rows that refer to a deleted one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cascade {
    /// The referring table's name in the catalog.
    pub table: String,
    /// Its type; none where the table is left out.
    pub of: Option<TypeId>,
    /// Are they deleted too, or changed?
    pub deletes: bool,
}

/// A column, and its field if it has one.
#[derive(Debug, Clone)]
pub struct Column {
    /// The column's name in the database.
    pub name: String,
    /// The field's name; absent where the column is hidden.
    pub field: Option<String>,
    /// The field's type.
    pub kind: FieldType,
    /// How the column stores its values.
    pub form: StorageFormat,
    /// Can the column hold NULL?
    pub nullable: bool,
    /// Is the field non-null in the schema?
    pub non_null: bool,
    /// Does the engine itself keep values of other types out?
    pub typed: bool,
    /// Is the declared type one that stores JSON in a binary form?
    pub binary_json: bool,
    /// The type to which values are cast where they meet the column, in the engine's words; none where the engine
    /// needs no such help.
    pub cast: Option<String>,
    /// Is the declared type a domain?
    pub domain: bool,
    /// The collation of comparisons and order, where it is not the engine's plain one.
    pub collation: Option<String>,
    /// What may be written to it.
    pub input: ColumnInput,
    /// Is its JSON small, as far as the survey saw? Then it may be delivered as a whole for a part of it.
    pub small_json: bool,
    /// Where its values are, where they are parts of another column's JSON.
    pub member: Option<Member>,
    /// The description.
    pub description: Option<String>,
    /// Why clients should use something else.
    pub deprecated: Option<String>,
}

/// Where values are that are parts of another column's JSON.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// The column of the table that holds the JSON.
    pub of: ColumnId,
    /// The column of the object that has it as a member: `of`, or a member of it.
    pub within: ColumnId,
    /// The names of the members that lead to it from the whole JSON.
    pub path: Vec<String>,
    /// What it is called: the fields that lead to it, with dots between.
    pub label: String,
    /// An index by which rows are found by it.
    pub index: Option<MemberIndex>,
}

/// The column of a type of items of a list that is the item.
pub const ITEM_COLUMN: ColumnId = 0;

/// An object inside JSON as an object type.
#[derive(Debug, Clone)]
pub struct ObjectType {
    /// Its name.
    pub name: String,
    /// What the names of its helper types begin with.
    pub helpers: String,
    /// The type whose rows have it.
    pub of: TypeId,
    /// The column that it is the value of.
    pub column: ColumnId,
}

/// What may be written to a column.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ColumnInput {
    /// Does the database compute it, so that nothing can be written?
    pub computed: bool,
    /// Does it stay as it was when its row was created? (The `_id` of documents.)
    pub immutable: bool,
    /// Does the database fill it in where nothing is written: with a default, or by numbering?
    pub filled: bool,
    /// The most characters of a text, or bytes, where the engine enforces it.
    pub length: Option<u32>,
    /// The least and the largest integer, where the engine enforces it.
    pub range: Option<(i64, i64)>,
    /// The digits of a second's fraction that are kept, where the engine cuts the others off.
    pub second_digits: Option<usize>,
}

/// The type of a field's values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldType {
    /// A scalar.
    Scalar(Scalar),
    /// An enum over texts.
    Enum(EnumId),
    /// A list of values.
    List(Element),
    /// An object inside JSON.
    Object(ObjectId),
    /// A list of objects inside JSON, which are the rows of a type.
    Items(TypeId),
}

/// The type of the values of a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Element {
    /// A scalar.
    Scalar(Scalar),
    /// An enum over texts.
    Enum(EnumId),
}

impl Element {
    /// The type of one of them.
    pub fn kind(self) -> FieldType {
        match self {
            Element::Scalar(scalar) => FieldType::Scalar(scalar),
            Element::Enum(id) => FieldType::Enum(id),
        }
    }

    /// The scalar that one of them is as the engine has it.
    pub fn scalar(self) -> Scalar {
        match self {
            Element::Scalar(scalar) => scalar,
            Element::Enum(_) => Scalar::String,
        }
    }
}

impl ColumnInput {
    /// Can a value be given, when a row is created or when it is updated?
    pub fn is_given(&self, updates: bool) -> bool {
        !self.computed && (!self.immutable || !updates)
    }
}

/// An enum type.
#[derive(Debug, Clone)]
pub struct Enum {
    /// Its name.
    pub name: String,
    /// Its values: the GraphQL name and the stored text.
    pub values: Vec<(String, String)>,
}

impl Enum {
    /// The stored text of a value's name.
    pub fn text_of(&self, name: &str) -> Option<&str> {
        self.values.iter().find(|(value, _)| value == name).map(|(_, text)| text.as_str())
    }

    /// The stored text that a word means: the text itself, or a value's name.
    pub fn meant<'a>(&'a self, word: &'a str) -> Option<&'a str> {
        let is_stored = self.values.iter().any(|(_, text)| text == word);
        if is_stored { Some(word) } else { self.text_of(word) }
    }

    /// The name of a stored text.
    pub fn name_of(&self, text: &str) -> Option<&str> {
        self.values.iter().find(|(_, value)| value == text).map(|(name, _)| name.as_str())
    }
}

/// A relationship from one type to another.
#[derive(Debug, Clone)]
pub struct Link {
    /// The field's name.
    pub field: String,
    /// The description.
    pub description: Option<String>,
    /// Why clients should use something else.
    pub deprecated: Option<String>,
    /// The type at the other end.
    pub target: TypeId,
    /// How many targets one row can have.
    pub cardinality: Cardinality,
    /// The columns that match: own, target's. Empty where `through` is set.
    pub pairs: Vec<(ColumnId, ColumnId)>,
    /// Does the engine guarantee that there is a row at its end? Always one to one.
    pub enforced: bool,
    /// Does it lead to another source?
    pub crosses: bool,
    /// The join table between, for a direct many-to-many link.
    pub through: Option<Through>,
}

/// How many targets one row can have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cardinality {
    /// At most one.
    One,
    /// Any number.
    Many,
}

/// The join table of a direct many-to-many link.
#[derive(Debug, Clone)]
pub struct Through {
    /// The join table's type.
    pub join: TypeId,
    /// Own column and join column.
    pub near: Vec<(ColumnId, ColumnId)>,
    /// Join column and target column.
    pub far: Vec<(ColumnId, ColumnId)>,
    /// Can several of its rows join the same two? Then the two are linked once: edges have no fields of their own, and the link
    /// cannot be written.
    pub repeats: bool,
    /// The first part of the names of the link's own connection and edge types.
    pub prefix: String,
}

/// A unique key.
#[derive(Debug, Clone)]
pub struct Key {
    /// Its columns.
    pub columns: Vec<ColumnId>,
    /// The member of the type's `…Key` input.
    pub member: String,
    /// Is NULL impossible in all of its columns, so that it identifies every row?
    pub total: bool,
    /// Is it the project file that says so, and not the database?
    pub promised: bool,
}

impl Key {
    /// The key's word in the enum of a type's keys.
    pub fn word(&self) -> String {
        heck::ToShoutySnakeCase::to_shouty_snake_case(self.member.as_str())
    }
}

impl Model {
    /// Has it types of more than one source? Then root fields are nullable: a source may be away.
    pub fn has_several_sources(&self) -> bool {
        self.sources.len() > 1
    }

    /// The types of tables, without those of what is inside JSON.
    pub fn tables(&self) -> impl Iterator<Item = (TypeId, &Type)> {
        self.types.iter().enumerate().filter(|(_, t)| t.items_of.is_none())
    }

    /// The type of the table that holds a type's rows: of items of a list, that of the rows around them.
    pub fn table_of(&self, of: TypeId) -> TypeId {
        self.types[of].items_of.map_or(of, |items| self.table_of(items.of))
    }

    /// The link of a type that a name means; one that starts from inside a list is called behind the list's own name, with a dot
    /// between.
    pub fn link_called(&self, of: TypeId, name: &str) -> Option<(TypeId, LinkId)> {
        let t = &self.types[of];
        if let Some(link) = t.links.iter().position(|link| link.field == name) {
            return Some((of, link));
        }
        t.columns.iter().filter(|column| column.field.is_some()).find_map(|column| {
            let FieldType::Items(items) = column.kind else { return None };
            let rest = name.strip_prefix(column.label())?.strip_prefix('.')?;
            self.link_called(items, rest)
        })
    }

    /// What the links are called that start from inside a type's lists.
    pub fn element_links(&self, of: TypeId) -> Vec<String> {
        let lists = self.types[of].columns.iter().filter(|column| column.field.is_some());
        let links = lists.filter_map(|column| {
            let FieldType::Items(items) = column.kind else { return None };
            let links = self.types[items].links.iter();
            Some(links.map(|link| format!("{}.{}", column.label(), link.field)).collect::<Vec<_>>())
        });
        links.flatten().collect()
    }

    /// The type of this name.
    pub fn type_named(&self, name: &str) -> Option<TypeId> {
        self.types.iter().position(|t| t.name == name)
    }

    /// The column of a field, by its name; that of a member by the fields that lead to it, with dots between. What is inside the
    /// items of a list belongs to another type.
    pub fn field_called(&self, of: TypeId, name: &str) -> Option<(TypeId, ColumnId)> {
        let columns = &self.types[of].columns;
        let has_field = |column: &&Column| column.field.is_some();
        if let Some(column) = columns.iter().position(|column| has_field(&column) && column.label() == name) {
            return Some((of, column));
        }
        columns.iter().filter(has_field).find_map(|column| {
            let FieldType::Items(items) = column.kind else { return None };
            let rest = name.strip_prefix(column.label())?.strip_prefix('.')?;
            self.field_called(items, rest)
        })
    }

    /// A column, and all that is inside its JSON.
    pub fn within(&self, (of, column): (TypeId, ColumnId)) -> Vec<(TypeId, ColumnId)> {
        let mut found = vec![(of, column)];
        let t = &self.types[of];
        let inside: Vec<(TypeId, ColumnId)> = match t.columns[column].kind {
            FieldType::Object(_) => t.members(column).map(|(member, _)| (of, member)).collect(),
            FieldType::Items(items) => {
                self.types[items].members(ITEM_COLUMN).map(|(member, _)| (items, member)).collect()
            }
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => Vec::new(),
        };
        inside.into_iter().for_each(|inside| found.extend(self.within(inside)));
        found
    }

    /// The objects and lists that a column is inside of.
    pub fn around(&self, (of, column): (TypeId, ColumnId)) -> Vec<(TypeId, ColumnId)> {
        let t = &self.types[of];
        let outer = match (&t.columns[column].member, t.items_of) {
            (Some(member), Some(items)) if member.within == ITEM_COLUMN => (items.of, items.column),
            (Some(member), _) => (of, member.within),
            (None, _) => return Vec::new(),
        };
        [outer].into_iter().chain(self.around(outer)).collect()
    }

    /// What values of a kind are called in a sentence.
    pub fn kind_words(&self, kind: FieldType) -> String {
        match kind {
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::Object(_) => self.kind_name(kind).to_owned(),
            FieldType::List(_) | FieldType::Items(_) => format!("a list of {}", self.kind_name(kind)),
        }
    }

    /// The name of a kind in the schema; a list's is that of its items.
    pub fn kind_name(&self, kind: FieldType) -> &str {
        match kind {
            FieldType::Scalar(scalar) | FieldType::List(Element::Scalar(scalar)) => scalar.name(),
            FieldType::Enum(id) | FieldType::List(Element::Enum(id)) => &self.enums[id].name,
            FieldType::Object(id) => &self.objects[id].name,
            FieldType::Items(id) => &self.types[id].name,
        }
    }
}

impl Model {
    /// `; did you mean `x`?` for a field that is not there, or what became of it.
    pub fn field_hint<'a>(&self, name: &str, known: impl IntoIterator<Item = &'a str>) -> String {
        match self.global_ids && name == GLOBAL_ID {
            true => format!("; with `global_ids` the column is called `{ROW_ID}`"),
            false => crate::suggest::did_you_mean(name, known),
        }
    }
}

impl Type {
    /// The key that makes the global ids of its rows, where the API has them.
    pub fn global_key(&self, model: &Model) -> Option<&Key> {
        self.row_key().filter(|_| model.global_ids && self.items_of.is_none())
    }

    /// What a page of its rows is called, by the first part of its helper types' names: a connection where rows have a key, so that a
    /// cursor can name a place among them.
    pub fn page_type(&self, prefix: &str) -> String {
        format!("{prefix}{}", if self.row_key().is_some() { "Connection" } else { "Rows" })
    }

    /// The key that identifies every row, if there is one: what cursors end their order with.
    pub fn row_key(&self) -> Option<&Key> {
        self.keys.iter().find(|key| key.total)
    }

    /// The labels of the columns by which a link's rows are linked, for a message.
    pub fn link_columns(&self, link: &Link) -> String {
        let own = link.pairs.iter().map(|(own, _)| format!("`{}`", self.columns[*own].label()));
        own.collect::<Vec<_>>().join(" and ")
    }

    /// Every field: those of columns, and links.
    pub fn fields(&self) -> impl Iterator<Item = &str> {
        let columns = self.columns.iter().filter(|column| column.member.is_none());
        let columns = columns.filter_map(|column| column.field.as_deref());
        columns.chain(self.links.iter().map(|link| link.field.as_str()))
    }

    /// A field's name within summaries and groups, which have a `count` of their own. Clients that cache by key take any `id` for
    /// one, and would show a group's number for another's: it is not there.
    pub fn summary_field<'f>(&self, field: &'f str) -> Cow<'f, str> {
        let mut name = Cow::Borrowed(field);
        while matches!(&*name, "count" | "id") || (name != field && self.fields().any(|known| known == name)) {
            name.to_mut().push_str("Value");
        }
        name
    }

    /// The members of the object that is a column's value.
    pub fn members(&self, of: ColumnId) -> impl Iterator<Item = (ColumnId, &Column)> {
        let is_within = move |column: &Column| column.member.as_ref().is_some_and(|member| member.within == of);
        self.columns.iter().enumerate().filter(move |(_, column)| is_within(column))
    }

    /// The column that whoever writes the project file means by a name: of a field, or of a hidden column; of a member by the
    /// fields that lead to it, with dots between.
    pub fn column_called(&self, name: &str) -> Option<ColumnId> {
        self.columns.iter().position(|column| column.label() == name)
    }

    /// Is a column, or the one whose JSON it is inside of, computed by the database?
    pub fn is_computed(&self, column: ColumnId) -> bool {
        let c = &self.columns[column];
        self.columns[c.member.as_ref().map_or(column, |member| member.of)].input.computed
    }

    /// How a change makes the row's version another one, where the database leaves that to whoever changes the row.
    pub fn version_step(&self) -> Option<(ColumnId, VersionStep)> {
        let column = self.version?;
        let c = &self.columns[column];
        if c.input.computed {
            return None;
        }
        match c.kind {
            FieldType::Scalar(Scalar::Int | Scalar::BigInt) => Some((column, VersionStep::Increment)),
            FieldType::Scalar(Scalar::DateTime | Scalar::LocalDateTime) => Some((column, VersionStep::Now)),
            _ => None,
        }
    }

    /// May a new row leave a column out?
    pub fn may_leave_out(&self, column: ColumnId) -> bool {
        let c = &self.columns[column];
        c.nullable || c.input.filled || c.input.computed
    }

    /// The column with this database name.
    pub fn column_named(&self, name: &str) -> Option<ColumnId> {
        self.columns.iter().position(|column| column.name == name)
    }

    /// Is it too small for a missing index to matter?
    pub fn is_small(&self) -> bool {
        self.about_rows.is_some_and(|rows| rows < WORTH_AN_INDEX)
    }

    /// Does some index begin with exactly these columns, in any order?
    pub fn is_indexed(&self, columns: &[ColumnId]) -> bool {
        crate::catalog::some_begins_with(&self.indexes, columns)
    }

    /// The columns that carry values of an edge: those of a join table beside its two foreign keys.
    pub fn edge_columns(&self, through: &Through) -> Vec<ColumnId> {
        if through.repeats {
            return Vec::new();
        }
        let keys: Vec<ColumnId> =
            through.near.iter().map(|(_, join)| *join).chain(through.far.iter().map(|(join, _)| *join)).collect();
        (0..self.columns.len()).filter(|id| !keys.contains(id) && self.columns[*id].field.is_some()).collect()
    }
}

impl Column {
    /// What it is called: by its field, or by its own name where it is hidden; a member by the fields that lead to it.
    pub fn label(&self) -> &str {
        match &self.member {
            Some(member) => &member.label,
            None => self.field.as_deref().unwrap_or(&self.name),
        }
    }

    /// Can its values be stored in another column of the source as they are?
    pub(crate) fn fits(&self, other: &Column) -> bool {
        let is_one = match self.kind {
            FieldType::Scalar(scalar) => scalar != Scalar::Json,
            FieldType::Enum(_) => true,
            FieldType::List(_) | FieldType::Object(_) | FieldType::Items(_) => false,
        };
        let is_wider =
            matches!((self.kind, other.kind), (FieldType::Scalar(Scalar::Int), FieldType::Scalar(Scalar::BigInt)));
        // A type that has no scalar here takes what it wrote itself.
        let is_same_type = self.form != StorageFormat::EngineText || self.cast == other.cast;
        is_one
            && self.member.is_none()
            && other.member.is_none()
            && (self.kind == other.kind || is_wider)
            && self.form == other.form
            && is_same_type
    }

    /// The scalar of its values; none for a list and an enum.
    pub fn scalar(&self) -> Option<Scalar> {
        if let FieldType::Scalar(scalar) = self.kind { Some(scalar) } else { None }
    }

    /// Can a value of it also be a value of another source's column?
    pub fn can_equal(&self, other: &Column) -> bool {
        let formats = self.key_format().zip(other.key_format());
        formats.is_some_and(|((own, _), (other, _))| own.converts_to(other))
    }

    /// A value of another source's column as this one stores it; none where it has no such value.
    pub fn key_of(&self, model: &Model, other: &Column, value: DatumRef<'_>) -> Option<Datum> {
        let key = convert_key(value, other.key_format()?, self.key_format()?)?;
        match (&key, self.input.range, self.kind) {
            (Datum::Integer(value), Some((least, most)), _) if !(least..=most).contains(value) => None,
            (Datum::Text(text), _, FieldType::Enum(id)) if model.enums[id].name_of(text).is_none() => None,
            _ => Some(key),
        }
    }

    /// How its values are written as keys.
    fn key_format(&self) -> Option<KeyFormat> {
        match self.kind {
            FieldType::List(_) | FieldType::Object(_) | FieldType::Items(_) => None,
            FieldType::Scalar(scalar) => Some((scalar, self.form)),
            FieldType::Enum(_) => Some((Scalar::String, StorageFormat::Usual)),
        }
    }

    /// Can rows be compared and ordered by it?
    pub fn is_comparable(&self) -> bool {
        match self.kind {
            FieldType::Scalar(scalar) => scalar.is_comparable(),
            FieldType::Enum(_) => true,
            FieldType::List(_) | FieldType::Object(_) | FieldType::Items(_) => false,
        }
    }
}
